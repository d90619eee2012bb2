//! Choosing the next token.
//!
//! Order:
//! 1. `logit_bias` is added.
//! 2. `repetition_penalty`: logits of tokens in prompt or answer are divided by it where positive,
//!    else multiplied (Keskar et al. 2019, "CTRL").
//! 3. `presence_penalty` and `frequency_penalty` are taken from tokens of the answer.
//! 4. Temperature 0 takes the likeliest token (the smallest id where several are equal). Otherwise:
//! 5. the likeliest `top_k` are kept,
//! 6. logits are divided by the temperature,
//! 7. tokens at least `min_p` as likely as the likeliest are kept,
//! 8. the likeliest that together reach `top_p` are kept (at least one),
//! 9. one is drawn.

use std::collections::{BTreeMap, BTreeSet};

use deft_protocol::engine::Sampling;
use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// Chooses tokens for one answer; the same seed draws the same tokens.
pub(crate) struct Sampler {
    settings: Sampling,
    random: ChaCha8Rng,
    /// Tokens of prompt and answer, where their repetition is penalised.
    seen: BTreeSet<u32>,
    /// How often the answer has each of its tokens.
    answered: BTreeMap<u32, u32>,
    adjusted: Vec<f32>,
    candidates: Vec<(u32, f32)>,
}

/// Logits that are not numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct NotFinite;

impl Sampler {
    pub(crate) fn new(settings: Sampling, prompt: &[u32]) -> Self {
        let repeats = settings.repetition_penalty != 1.0;
        Self {
            random: ChaCha8Rng::seed_from_u64(settings.seed),
            seen: if repeats { prompt.iter().copied().collect() } else { BTreeSet::new() },
            answered: BTreeMap::new(),
            adjusted: Vec::new(),
            candidates: Vec::new(),
            settings,
        }
    }

    /// The next token of the answer.
    pub(crate) fn choose(&mut self, logits: &[f32]) -> Result<u32, NotFinite> {
        if !logits.iter().all(|logit| logit.is_finite()) {
            return Err(NotFinite);
        }
        let mut adjusted = std::mem::take(&mut self.adjusted);
        adjusted.clear();
        adjusted.extend_from_slice(logits);
        self.adjust(&mut adjusted);
        let token = if self.settings.temperature <= 0.0 {
            likeliest(&adjusted)
        } else {
            self.draw(&adjusted)
        };
        self.adjusted = adjusted;
        *self.answered.entry(token).or_default() += 1;
        if self.settings.repetition_penalty != 1.0 {
            self.seen.insert(token);
        }
        Ok(token)
    }

    fn adjust(&self, logits: &mut [f32]) {
        let settings = &self.settings;
        let mut change = |id: u32, change: &dyn Fn(f32) -> f32| {
            if let Some(logit) = logits.get_mut(id as usize) {
                *logit = change(*logit);
            }
        };
        for &(id, bias) in &settings.logit_bias {
            change(id, &|logit| logit + bias);
        }
        let factor = settings.repetition_penalty;
        for &id in &self.seen {
            change(id, &|logit| if logit > 0.0 { logit / factor } else { logit * factor });
        }
        if settings.presence_penalty == 0.0 && settings.frequency_penalty == 0.0 {
            return;
        }
        for (&id, &times) in &self.answered {
            #[expect(clippy::cast_precision_loss, reason = "an answer is shorter than 2^24")]
            let frequent = settings.frequency_penalty * times as f32;
            change(id, &|logit| logit - settings.presence_penalty - frequent);
        }
    }

    fn draw(&mut self, logits: &[f32]) -> u32 {
        let candidates = &mut self.candidates;
        candidates.clear();
        candidates.extend((0..).zip(logits.iter().copied()));
        let order = |a: &(u32, f32), b: &(u32, f32)| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0));
        let keep = self.settings.top_k as usize;
        if keep > 0 && keep < candidates.len() {
            candidates.select_nth_unstable_by(keep - 1, order);
            candidates.truncate(keep);
        }
        candidates.sort_unstable_by(order);
        let largest = candidates[0].1;
        for (_, value) in &mut *candidates {
            *value = ((*value - largest) / self.settings.temperature).exp();
        }
        // The likeliest weighs 1 now.
        let likely = candidates.iter().take_while(|(_, weight)| *weight >= self.settings.min_p);
        let likely = likely.count().max(1);
        candidates.truncate(likely);
        truncate_to_share(candidates, self.settings.top_p);
        let total: f32 = candidates.iter().map(|(_, weight)| weight).sum();
        #[expect(clippy::cast_precision_loss, reason = "24 bits are exact")]
        let uniform = (self.random.next_u32() >> 8) as f32 / (1u32 << 24) as f32;
        let mut left = uniform * total;
        for (id, weight) in &*candidates {
            left -= weight;
            if left < 0.0 {
                return *id;
            }
        }
        candidates[candidates.len() - 1].0
    }
}

fn likeliest(logits: &[f32]) -> u32 {
    let mut best = (0, f32::NEG_INFINITY);
    for (id, &logit) in (0..).zip(logits) {
        if logit > best.1 {
            best = (id, logit);
        }
    }
    best.0
}

/// Keeps the first candidates that together reach a share of all weight.
fn truncate_to_share(candidates: &mut Vec<(u32, f32)>, share: f32) {
    if share >= 1.0 {
        return;
    }
    let enough = share * candidates.iter().map(|(_, weight)| weight).sum::<f32>();
    let mut reached = 0.0;
    let kept = candidates.iter().position(|(_, weight)| {
        reached += weight;
        reached >= enough
    });
    candidates.truncate(kept.map_or(candidates.len(), |last| last + 1));
}

#[cfg(test)]
mod tests {
    use super::*;

    const LOGITS: [f32; 5] = [0.0, 2.0, 1.0, 2.0, -4.0];

    fn settings(temperature: f32, top_k: u32, top_p: f32, seed: u64) -> Sampling {
        Sampling { temperature, top_k, top_p, seed, ..Sampling::GREEDY }
    }

    fn draws(settings: Sampling, count: usize) -> Vec<u32> {
        let mut sampler = Sampler::new(settings, &[]);
        (0..count).map(|_| sampler.choose(&LOGITS).unwrap()).collect()
    }

    #[test]
    fn temperature_zero_takes_the_first_of_the_likeliest() {
        assert_eq!(draws(settings(0.0, 0, 1.0, 9), 5), [1; 5]);
    }

    #[test]
    fn the_same_seed_draws_the_same_tokens() {
        let run = |seed| draws(settings(1.0, 0, 1.0, seed), 50);
        assert_eq!(run(7), run(7));
        assert_ne!(run(7), run(8));
    }

    #[test]
    fn top_k_and_top_p_keep_only_the_likeliest() {
        assert!(draws(settings(5.0, 2, 1.0, 3), 200).iter().all(|id| [1, 3].contains(id)));
        assert!(draws(settings(1.0, 0, 0.01, 3), 50).iter().all(|id| *id == 1));
    }

    #[test]
    fn shares_follow_the_softmax() {
        let drawn = draws(settings(1.0, 0, 1.0, 11), 20_000);
        let total: f64 = LOGITS.iter().map(|logit| f64::from(*logit).exp()).sum();
        for (id, logit) in (0..).zip(LOGITS) {
            let share = drawn.iter().filter(|drawn| **drawn == id).count() as f64 / 20_000.0;
            assert!((share - f64::from(logit).exp() / total).abs() < 0.015, "token {id}: {share}");
        }
    }

    #[test]
    fn min_p_keeps_what_is_nearly_as_likely() {
        let settings = Sampling { min_p: 0.5, ..settings(1.0, 0, 1.0, 3) };
        assert!(draws(settings, 200).iter().all(|id| [1, 3].contains(id)));
    }

    #[test]
    fn penalties_and_bias_change_what_comes() {
        let greedy = |change: &dyn Fn(&mut Sampling), prompt: &[u32]| {
            let mut settings = Sampling::GREEDY;
            change(&mut settings);
            let mut sampler = Sampler::new(settings, prompt);
            (0..4).map(|_| sampler.choose(&LOGITS).unwrap()).collect::<Vec<u32>>()
        };
        assert_eq!(greedy(&|s| s.presence_penalty = 1.5, &[]), [1, 3, 2, 1]);
        assert_eq!(greedy(&|s| s.frequency_penalty = 0.8, &[]), [1, 3, 1, 3]);
        assert_eq!(greedy(&|s| s.frequency_penalty = 0.8, &[1, 1, 1]), [1, 3, 1, 3]);
        assert_eq!(greedy(&|s| s.repetition_penalty = 1.5, &[1]), [3, 1, 1, 1]);
        assert_eq!(greedy(&|s| s.logit_bias = vec![(4, 9.0), (900, 1.0)], &[]), [4; 4]);
        assert_eq!(greedy(&|s| s.logit_bias = vec![(1, -100.0)], &[]), [3; 4]);
    }

    #[test]
    fn logits_that_are_not_numbers_are_refused() {
        let mut sampler = Sampler::new(settings(0.0, 0, 1.0, 0), &[]);
        assert_eq!(sampler.choose(&[0.0, f32::NAN]), Err(NotFinite));
        assert_eq!(sampler.choose(&[f32::INFINITY, 0.0]), Err(NotFinite));
    }
}
