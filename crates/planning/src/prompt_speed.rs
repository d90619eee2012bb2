//! The number of prompt tokens of a step.
//!
//! If others wait for the end of the step (an answer beside the prompt, another engine process), as many as take about
//! [`LONGEST`], so that a long prompt never freezes the answers of others, at the cost of reading the weights more
//! often. Otherwise a whole chunk, or as many as take about [`LONGEST_ALONE`], so that a new call waits only briefly.

use std::time::Duration;

/// Longest duration of a step while others wait for its end.
const LONGEST: Duration = Duration::from_millis(150);
/// Longest duration of a step while none waits.
const LONGEST_ALONE: Duration = Duration::from_secs(1);
/// Least number of tokens of a step, because each step reads all weights.
const LEAST: u32 = 16;
/// The same while none waits, and before the first measurement.
const LEAST_ALONE: u32 = 128;
/// Weight of a new measurement in the moving average.
const WEIGHT: f64 = 0.3;

/// Measured speed of prompt processing.
#[derive(Debug, Clone, Copy, Default)]
pub struct PromptSpeed {
    seconds_per_token: Option<f64>,
}

impl PromptSpeed {
    /// Notes the duration of a step. Small steps are ignored, because their speed is not typical.
    pub fn note(&mut self, tokens: u32, took: Duration) {
        if tokens < LEAST {
            return;
        }
        let new = took.as_secs_f64() / f64::from(tokens);
        let known = self.seconds_per_token.unwrap_or(new);
        self.seconds_per_token = Some(known + WEIGHT * (new - known));
    }

    /// Number of prompt tokens of the next step, at most `chunk`.
    #[must_use]
    pub fn tokens(&self, chunk: u32, somebody_waits: bool) -> u32 {
        let (longest, least) =
            if somebody_waits { (LONGEST, LEAST) } else { (LONGEST_ALONE, LEAST_ALONE) };
        let Some(each) = self.seconds_per_token.filter(|&each| each > 0.0) else {
            return chunk.min(LEAST_ALONE);
        };
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it saturates")]
        let fit = (longest.as_secs_f64() / each) as u32;
        fit.max(least).min(chunk)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_chunk_is_cut_to_what_others_can_wait_for() {
        let mut speed = PromptSpeed::default();
        assert_eq!(speed.tokens(256, true), LEAST_ALONE, "nothing was measured yet");
        assert_eq!(speed.tokens(64, false), 64);
        speed.note(128, Duration::from_millis(256));
        assert_eq!(speed.tokens(256, false), 256, "it takes half a second");
        assert_eq!(speed.tokens(256, true), 75);
        speed.note(128, Duration::from_secs(100));
        assert_eq!(speed.tokens(256, false), LEAST_ALONE, "even the least takes longer here");
        assert_eq!(speed.tokens(256, true), LEAST);
        assert_eq!(speed.tokens(8, true), 8, "a chunk never grows");
    }

    #[test]
    fn small_steps_tell_nothing() {
        let mut speed = PromptSpeed::default();
        speed.note(1, Duration::from_secs(1));
        assert_eq!(speed.tokens(128, true), 128);
    }

    proptest! {
        #[test]
        fn steps_come_near_the_bound_from_any_beginning(
            micros in 300u32..9_000, first in 1u32..90_000, chunk in 16u32..600,
        ) {
            let mut speed = PromptSpeed::default();
            speed.note(64, Duration::from_micros(u64::from(first) * 64));
            // A simulated clock, with a given time per token.
            let mut took = Duration::ZERO;
            for _ in 0..60 {
                let tokens = speed.tokens(chunk, true);
                took = Duration::from_micros(u64::from(tokens) * u64::from(micros));
                speed.note(tokens, took);
            }
            prop_assert!(took <= LONGEST + LONGEST / 100, "{took:?}");
            let whole = Duration::from_micros(u64::from(chunk) * u64::from(micros));
            prop_assert!(took >= whole.min(LONGEST - LONGEST / 10), "{took:?} of {whole:?}");
        }
    }
}
