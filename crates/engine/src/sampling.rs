//! Choosing the next token.
//!
//! Order: temperature 0 takes the likeliest token (the smallest id where several are equal).
//! Otherwise the likeliest `top_k` are kept, logits are divided by the temperature, the likeliest
//! that together reach `top_p` are kept (at least one), and one is drawn.

use deft_protocol::engine::Sampling;
use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// Chooses tokens for one answer; the same seed draws the same tokens.
pub(crate) struct Sampler {
    settings: Sampling,
    random: ChaCha8Rng,
    candidates: Vec<(u32, f32)>,
}

/// Logits that are not numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct NotFinite;

impl Sampler {
    pub(crate) fn new(settings: Sampling) -> Self {
        Self { settings, random: ChaCha8Rng::seed_from_u64(settings.seed), candidates: Vec::new() }
    }

    pub(crate) fn choose(&mut self, logits: &[f32]) -> Result<u32, NotFinite> {
        if !logits.iter().all(|logit| logit.is_finite()) {
            return Err(NotFinite);
        }
        if self.settings.temperature <= 0.0 {
            return Ok(likeliest(logits));
        }
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
        truncate_to_share(candidates, self.settings.top_p);
        let total: f32 = candidates.iter().map(|(_, weight)| weight).sum();
        #[expect(clippy::cast_precision_loss, reason = "24 bits are exact")]
        let uniform = (self.random.next_u32() >> 8) as f32 / (1u32 << 24) as f32;
        let mut left = uniform * total;
        for (id, weight) in &*candidates {
            left -= weight;
            if left < 0.0 {
                return Ok(*id);
            }
        }
        Ok(candidates[candidates.len() - 1].0)
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
        Sampling { temperature, top_k, top_p, seed }
    }

    fn draws(settings: Sampling, count: usize) -> Vec<u32> {
        let mut sampler = Sampler::new(settings);
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
    fn logits_that_are_not_numbers_are_refused() {
        let mut sampler = Sampler::new(settings(0.0, 0, 1.0, 0));
        assert_eq!(sampler.choose(&[0.0, f32::NAN]), Err(NotFinite));
        assert_eq!(sampler.choose(&[f32::INFINITY, 0.0]), Err(NotFinite));
    }
}
