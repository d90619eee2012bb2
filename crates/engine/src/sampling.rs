//! Choosing the next token.
//!
//! Order:
//! 1. `logit_bias` is added.
//! 2. `repetition_penalty`: positive logits of tokens in the prompt or answer are divided by it, others multiplied
//!    (Keskar et al. 2019, "CTRL").
//! 3. `presence_penalty` and `frequency_penalty` are subtracted from logits of tokens in the answer.
//! 4. Temperature 0 chooses the likeliest token (the smallest id of equal ones). Otherwise:
//! 5. the `top_k` likeliest tokens are kept,
//! 6. logits are divided by the temperature,
//! 7. tokens with at least `min_p` times the probability of the likeliest are kept,
//! 8. the likeliest tokens that together reach the probability `top_p` are kept (at least one),
//! 9. one token is drawn.
//!
//! A vocabulary may have hundreds of thousands of tokens. Passes over all of them use vector instructions; only the few tokens
//! that can be kept are sorted.

use std::collections::{BTreeMap, BTreeSet};

use deft_kernels::{Instructions, largest, softmax, sum};
use deft_protocol::engine::Sampling;
use itertools::Itertools;
use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

use crate::lane::Allowed;

/// Chooses the tokens of one answer. The same seed gives the same tokens.
pub(crate) struct Sampler {
    path: Instructions,
    settings: Sampling,
    random: ChaCha8Rng,
    /// Tokens of the prompt and answer, if their repetition is penalised.
    seen: BTreeSet<u32>,
    /// Number of occurrences of each token in the answer.
    answered: BTreeMap<u32, u32>,
    adjusted: Vec<f32>,
    candidates: Vec<Candidate>,
}

/// A token, and its logit or weight.
pub(crate) type Candidate = (u32, f32);

/// Number of tokens that are searched together.
const BLOCK: usize = 256;
/// To reach a share of the probability, tokens above this part of the largest probability are sorted first; if they are not
/// enough, those above a smaller part, then all.
const PART: f32 = 1.0 / 1024.0;

/// The error of logits that are NaN.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct NotFinite;

impl Sampler {
    pub(crate) fn new(path: Instructions, settings: Sampling, prompt: &[u32]) -> Self {
        let repeats = settings.repetition_penalty != 1.0;
        Self {
            path,
            random: ChaCha8Rng::seed_from_u64(settings.seed),
            seen: if repeats { prompt.iter().copied().collect() } else { BTreeSet::new() },
            answered: BTreeMap::new(),
            adjusted: Vec::new(),
            candidates: Vec::new(),
            settings,
        }
    }

    /// Chooses the next token of the answer.
    pub(crate) fn choose(
        &mut self,
        logits: &[f32],
        allowed: Option<&Allowed<'_>>,
    ) -> Result<u32, NotFinite> {
        let are_finite =
            |logits: &[f32]| logits.iter().fold(true, |all, one| all & one.is_finite());
        if !logits.chunks(BLOCK).all(are_finite) {
            return Err(NotFinite);
        }
        let token = if self.settings.temperature <= 0.0 && !self.adjusts() && allowed.is_none() {
            likeliest(self.path, logits)
        } else {
            self.choose_adjusted(logits, allowed)
        };
        *self.answered.entry(token).or_default() += 1;
        if self.settings.repetition_penalty != 1.0 {
            self.seen.insert(token);
        }
        Ok(token)
    }

    fn choose_adjusted(&mut self, logits: &[f32], allowed: Option<&Allowed<'_>>) -> u32 {
        let mut adjusted = std::mem::take(&mut self.adjusted);
        adjusted.clear();
        adjusted.extend_from_slice(logits);
        self.adjust(&mut adjusted);
        if let Some(allowed) = allowed {
            keep_allowed(&mut adjusted, allowed);
        }
        let token = if self.settings.temperature <= 0.0 {
            likeliest(self.path, &adjusted)
        } else {
            self.draw(&mut adjusted)
        };
        self.adjusted = adjusted;
        token
    }

    /// Whether anything changes logits.
    fn adjusts(&self) -> bool {
        let Sampling { logit_bias, presence_penalty, frequency_penalty, .. } = &self.settings;
        let is_penalised = *presence_penalty != 0.0 || *frequency_penalty != 0.0;
        is_penalised || !logit_bias.is_empty() || !self.seen.is_empty()
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

    /// Draws a token; replaces logits by weights.
    fn draw(&mut self, logits: &mut [f32]) -> u32 {
        let Sampling { temperature, top_k, top_p, min_p, .. } = self.settings;
        if top_k > 0 && (top_k as usize) < logits.len() {
            keep_likeliest(logits, top_k as usize);
        }
        let top = largest(self.path, logits);
        logits.iter_mut().for_each(|logit| *logit = (*logit - top) / temperature);
        softmax(self.path, logits);
        let weights = logits;
        if min_p > 0.0 {
            let least = min_p.min(1.0) * largest(self.path, weights);
            weights
                .iter_mut()
                .for_each(|weight| *weight = if *weight < least { 0.0 } else { *weight });
        }
        if top_p < 1.0 {
            keep_share(self.path, weights, top_p, &mut self.candidates);
        }
        #[expect(clippy::cast_precision_loss, reason = "24 bits are exact")]
        let uniform = (self.random.next_u32() >> 8) as f32 / (1u32 << 24) as f32;
        at_share(self.path, weights, uniform)
    }
}

/// Excludes the tokens that may not follow.
fn keep_allowed(logits: &mut [f32], allowed: &Allowed<'_>) {
    let also = allowed.also.and_then(|token| Some((token, *logits.get(token as usize)?)));
    let words = allowed.mask.words().iter().copied().chain(std::iter::repeat(0));
    for (logits, word) in logits.chunks_mut(32).zip(words) {
        match word {
            u32::MAX => {}
            0 => logits.fill(f32::NEG_INFINITY),
            _ => {
                for (at, logit) in logits.iter_mut().enumerate() {
                    if word >> at & 1 == 0 {
                        *logit = f32::NEG_INFINITY;
                    }
                }
            }
        }
    }
    put_back(logits, also.into_iter());
}

/// Index of the largest value; the first of equal ones.
fn likeliest(path: Instructions, logits: &[f32]) -> u32 {
    let top = largest(path, logits);
    (0..).zip(logits).find(|(_, logit)| **logit == top).map_or(0, |(id, _)| id)
}

/// The order of two tokens: the likelier first; of equal ones the smaller id.
fn order(a: &Candidate, b: &Candidate) -> std::cmp::Ordering {
    a.1.total_cmp(&b.1).then(b.0.cmp(&a.0))
}

/// The `count` likeliest tokens with their logits, the likeliest first.
pub(crate) fn likeliest_of(
    logits: &[f32],
    count: usize,
) -> impl Iterator<Item = Candidate> + use<> {
    (0..).zip(logits.iter().copied()).k_largest_by(count, order)
}

/// Keeps the likeliest tokens; sets the weights of the others to zero.
fn keep_likeliest(logits: &mut [f32], count: usize) {
    let kept = likeliest_of(logits, count);
    logits.fill(f32::NEG_INFINITY);
    put_back(logits, kept);
}

/// Keeps the weights of the likeliest tokens that together reach a share of the total, at least one.
fn keep_share(path: Instructions, weights: &mut [f32], share: f32, kept: &mut Vec<Candidate>) {
    let (enough, top) = (share * sum(path, weights), largest(path, weights));
    for least in [top * PART, top * PART * PART, 0.0] {
        kept.clear();
        kept.extend((0..).zip(weights.iter().copied()).filter(|(_, weight)| *weight >= least));
        if kept.iter().map(|(_, weight)| weight).sum::<f32>() >= enough {
            break;
        }
    }
    kept.sort_unstable_by(|a, b| order(b, a));
    let mut reached = 0.0;
    let last = kept.iter().position(|(_, weight)| {
        reached += weight;
        reached >= enough
    });
    kept.truncate(last.map_or(kept.len(), |last| last + 1));
    weights.fill(0.0);
    put_back(weights, kept.drain(..));
}

fn put_back(values: &mut [f32], kept: impl Iterator<Item = Candidate>) {
    kept.for_each(|(id, value)| values[id as usize] = value);
}

/// The token at which the cumulative weight, in the order of ids, exceeds a share of the total.
fn at_share(path: Instructions, weights: &[f32], share: f32) -> u32 {
    let mut left = share * sum(path, weights);
    for (block, first) in weights.chunks(BLOCK).zip((0..).step_by(BLOCK)) {
        let own = sum(path, block);
        if own <= left {
            left -= own;
            continue;
        }
        for (id, weight) in (first..).zip(block).filter(|(_, weight)| **weight > 0.0) {
            left -= weight;
            if left < 0.0 {
                return id;
            }
        }
    }
    // Sums in another order may differ in the last bits.
    let last = (0..).zip(weights).filter(|(_, weight)| **weight > 0.0).last();
    last.map_or(0, |(id, _)| id)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const LOGITS: [f32; 5] = [0.0, 2.0, 1.0, 2.0, -4.0];

    fn settings(temperature: f32, top_k: u32, top_p: f32, seed: u64) -> Sampling {
        Sampling { temperature, top_k, top_p, seed, ..Sampling::GREEDY }
    }

    fn draws(settings: Sampling, count: usize) -> Vec<u32> {
        let mut sampler = Sampler::new(Instructions::best(), settings, &[]);
        (0..count).map(|_| sampler.choose(&LOGITS, None).unwrap()).collect()
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
            let mut sampler = Sampler::new(Instructions::best(), settings, prompt);
            (0..4).map(|_| sampler.choose(&LOGITS, None).unwrap()).collect::<Vec<u32>>()
        };
        assert_eq!(greedy(&|s| s.presence_penalty = 1.5, &[]), [1, 3, 2, 1]);
        assert_eq!(greedy(&|s| s.frequency_penalty = 0.8, &[]), [1, 3, 1, 3]);
        assert_eq!(greedy(&|s| s.frequency_penalty = 0.8, &[1, 1, 1]), [1, 3, 1, 3]);
        assert_eq!(greedy(&|s| s.repetition_penalty = 1.5, &[1]), [3, 1, 1, 1]);
        assert_eq!(greedy(&|s| s.logit_bias = vec![(4, 9.0), (900, 1.0)], &[]), [4; 4]);
        assert_eq!(greedy(&|s| s.logit_bias = vec![(1, -100.0)], &[]), [3; 4]);
    }

    /// The tokens that can be drawn, computed as documented at the top of this file; none if a token is too close to the limit
    /// of a share.
    fn kept(logits: &[f32], settings: &Sampling) -> Option<Vec<u32>> {
        let mut all: Vec<(u32, f64)> =
            (0..).zip(logits.iter().map(|one| f64::from(*one))).collect();
        all.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        if settings.top_k > 0 {
            all.truncate(settings.top_k as usize);
        }
        let top = all[0].1;
        all.iter_mut()
            .for_each(|one| one.1 = ((one.1 - top) / f64::from(settings.temperature)).exp());
        let min_p = f64::from(settings.min_p);
        if all.iter().any(|one| (one.1 / min_p - 1.0).abs() < 1e-4) {
            return None;
        }
        all.retain(|one| one.1 >= min_p);
        let total: f64 = all.iter().map(|one| one.1).sum();
        let mut reached = 0.0;
        let mut kept = Vec::new();
        for (id, weight) in all {
            let before = reached / total - f64::from(settings.top_p);
            if before.abs() < 1e-4 {
                return None;
            }
            if settings.top_p < 1.0 && before > 0.0 {
                break;
            }
            reached += weight;
            kept.push(id);
        }
        kept.sort_unstable();
        Some(kept)
    }

    proptest! {
        #[test]
        fn what_is_kept_is_what_was_said(
            halves in prop::collection::vec(-20i8..20, 1..900),
            top_k in 0u32..60, top_p in 0.05f32..1.2, min_p in 0.0f32..0.3, temperature in 0.3f32..3.0,
        ) {
            let logits: Vec<f32> = halves.iter().map(|half| f32::from(*half) * 0.5).collect();
            let (top_p, min_p) = (top_p.min(1.0), (min_p - 0.1).max(0.0));
            let settings = Sampling { min_p, ..settings(temperature, top_k, top_p, 5) };
            let Some(kept) = kept(&logits, &settings) else { return Ok(()) };
            let mut sampler = Sampler::new(Instructions::best(), settings, &[]);
            for _ in 0..4 {
                let mut weights = logits.clone();
                let drawn = sampler.draw(&mut weights);
                let left: Vec<u32> =
                    (0..).zip(&weights).filter(|(_, weight)| **weight > 0.0).map(|one| one.0).collect();
                prop_assert_eq!(&left, &kept);
                prop_assert!(kept.contains(&drawn));
            }
        }
    }

    #[test]
    fn the_likeliest_come_in_order_and_ties_by_their_ids() {
        let ids = |logits: &[f32], count| -> Vec<u32> {
            likeliest_of(logits, count).map(|(id, _)| id).collect()
        };
        let logits = [0.5, 2.0, -1.0, 2.0, 1.0];
        assert_eq!(ids(&logits, 3), [1, 3, 4]);
        assert_eq!(ids(&logits, 9), [1, 3, 4, 0, 2]);
        assert_eq!((ids(&logits, 0), ids(&[], 3)), (vec![], vec![]));
    }

    #[test]
    fn every_share_of_a_large_vocabulary_is_somebodys() {
        let weights: Vec<f32> = (0..1000u16).map(|at| f32::from(at % 7) * 0.1).collect();
        let all: f32 = weights.iter().sum();
        let mut passed = 0.0;
        for (id, weight) in (0..).zip(&weights) {
            if *weight > 0.0 {
                let found = at_share(Instructions::best(), &weights, (passed + weight / 2.0) / all);
                assert_eq!(found, id, "the middle of a token's share is its own");
            }
            passed += weight;
        }
        assert_eq!(
            at_share(Instructions::best(), &weights, 1.0),
            999,
            "of what is left by rounding the last is taken"
        );
        assert_eq!(at_share(Instructions::best(), &[0.0, 0.0, 1.0, 0.0], 1.0), 2);
    }

    #[test]
    fn logits_that_are_not_numbers_are_refused() {
        let mut sampler = Sampler::new(Instructions::best(), settings(0.0, 0, 1.0, 0), &[]);
        assert_eq!(sampler.choose(&[0.0, f32::NAN], None), Err(NotFinite));
        assert_eq!(sampler.choose(&[f32::INFINITY, 0.0], None), Err(NotFinite));
    }
}
