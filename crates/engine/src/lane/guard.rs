//! Detection of answers that repeat themselves endlessly.
//!
//! For each period up to [`LONGEST`], it counts how many tokens in a row equal the token one period earlier. A repetition counts
//! as endless if it has at least [`TIMES`] periods and [`SHORTEST`] tokens. Lists of equal numbers and drawn lines stay below
//! that; endlessly repeated tokens, phrases and functions do not.

/// Longest period in tokens.
const LONGEST: usize = 1024;
/// Least number of periods of an endless repetition.
const TIMES: usize = 5;
/// Least number of tokens of an endless repetition.
const SHORTEST: usize = 240;

/// Repetitions at the end of an answer.
#[derive(Debug, Default)]
pub(super) struct Guard {
    tokens: Vec<u32>,
    /// `runs[p - 1]`: number of tokens at the end that equal the token `p` positions earlier.
    runs: Vec<u32>,
}

/// An endless repetition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Repetition {
    /// Number of tokens of a period.
    pub(super) period: usize,
    /// Number of tokens of the whole repetition.
    pub(super) tokens: usize,
}

impl Repetition {
    pub(super) fn in_words(self) -> String {
        let what = match self.period {
            1 => "one token".to_owned(),
            period => format!("a passage of {period} tokens"),
        };
        let times = self.tokens / self.period;
        format!(
            "the answer repeated {what} {times} times and was ended; `repetition_penalty` helps"
        )
    }
}

impl Guard {
    /// Adds the next token of an answer.
    pub(super) fn push(&mut self, token: u32) -> Option<Repetition> {
        let before = self.tokens.len();
        self.tokens.push(token);
        self.runs.resize(before.min(LONGEST), 0);
        let mut found = None;
        for (at, run) in self.runs.iter_mut().enumerate() {
            let period = at + 1;
            let same = self.tokens[before - period] == token;
            *run = if same { *run + 1 } else { 0 };
            let tokens = *run as usize + period;
            if same && found.is_none() && tokens >= SHORTEST.max(TIMES * period) {
                found = Some(Repetition { period, tokens });
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn ends_at(tokens: impl IntoIterator<Item = u32>) -> Option<(usize, usize)> {
        let mut guard = Guard::default();
        tokens
            .into_iter()
            .enumerate()
            .find_map(|(at, token)| guard.push(token).map(|found| (at + 1, found.period)))
    }

    #[test]
    fn single_tokens_phrases_and_long_passages_are_noticed() {
        let passage = |period: u32| (0..100_000).map(move |at| at % period);
        assert_eq!(ends_at(passage(1)), Some((240, 1)));
        assert_eq!(ends_at(passage(7)), Some((240, 7)));
        assert_eq!(ends_at(passage(400)), Some((2000, 400)));
        assert_eq!(ends_at(passage(1024)), Some((5120, 1024)));
        let after_sense = (1000..1500).chain(passage(50).take(5000));
        assert_eq!(ends_at(after_sense), Some((750, 50)));
    }

    #[test]
    fn lists_and_lines_are_let_through() {
        assert_eq!(ends_at(std::iter::repeat_n(9, 200)), None);
        // A table: equal separators, different numbers.
        let table = (0..3000u32).map(|at| if at % 3 == 0 { 500 + at * at % 991 } else { at % 3 });
        assert_eq!(ends_at(table), None);
        // A passage that is repeated four times is still an answer.
        assert_eq!(ends_at((0..4 * 300).map(|at| at % 300)), None);
    }

    proptest! {
        #[test]
        fn what_does_not_repeat_is_never_ended(seed in any::<u32>()) {
            let tokens = (0..4000u32).map(|at| at.wrapping_mul(seed | 1).rotate_left(7) % 5000);
            let distinct: Vec<u32> = tokens.clone().take(600).collect();
            let mut sorted = distinct.clone();
            sorted.sort_unstable();
            sorted.dedup();
            prop_assume!(sorted.len() > 500);
            prop_assert!(ends_at(distinct).is_none());
        }
    }
}
