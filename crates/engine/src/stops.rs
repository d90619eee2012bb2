//! Detection of stop texts, also across several tokens.

/// Passes text on, but holds back what may be the beginning of a stop text.
pub(crate) struct Stops {
    texts: Vec<String>,
    held: String,
}

/// The result of a piece of text.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Passed {
    /// Text to send; the answer continues.
    On(String),
    /// Text to send; a stop text, which is returned too, ended the answer.
    Stopped(String, String),
}

impl Stops {
    pub(crate) fn new(texts: Vec<String>) -> Self {
        let texts = texts.into_iter().filter(|text| !text.is_empty()).collect();
        Self { texts, held: String::new() }
    }

    pub(crate) fn push(&mut self, text: &str) -> Passed {
        if self.texts.is_empty() {
            return Passed::On(text.to_owned());
        }
        self.held.push_str(text);
        let found = self.texts.iter().filter_map(|stop| Some((self.held.find(stop)?, stop)));
        if let Some((at, stop)) = found.min_by_key(|(at, _)| *at) {
            self.held.truncate(at);
            return Passed::Stopped(std::mem::take(&mut self.held), stop.clone());
        }
        let keep = self.texts.iter().map(|stop| overlap(&self.held, stop)).max().unwrap_or(0);
        let rest = self.held.split_off(self.held.len() - keep);
        Passed::On(std::mem::replace(&mut self.held, rest))
    }

    /// The text that was held back, after the answer ended for another reason.
    pub(crate) fn finish(&mut self) -> String {
        std::mem::take(&mut self.held)
    }
}

/// Length of the longest suffix of `text` that is a prefix of `stop`.
fn overlap(text: &str, stop: &str) -> usize {
    let longest = text.len().min(stop.len().saturating_sub(1));
    (1..=longest)
        .rev()
        .find(|&length| {
            stop.is_char_boundary(length) && text.as_bytes().ends_with(&stop.as_bytes()[..length])
        })
        .unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn run(stops: &[&str], pieces: &[&str]) -> (String, bool) {
        let mut stops = Stops::new(stops.iter().map(|&stop| stop.to_owned()).collect());
        let mut sent = String::new();
        for piece in pieces {
            match stops.push(piece) {
                Passed::On(text) => sent.push_str(&text),
                Passed::Stopped(text, _) => return (sent + &text, true),
            }
        }
        (sent + &stops.finish(), false)
    }

    #[test]
    fn the_earliest_stop_text_ends_the_answer() {
        assert_eq!(
            run(&["row", "bean"], &["Moonhook be", "an in row 3"]),
            ("Moonhook ".into(), true)
        );
    }

    #[test]
    fn the_stop_text_is_told() {
        let mut stops = Stops::new(vec!["bean".to_owned(), "hook".to_owned()]);
        let stopped = Passed::Stopped("Moon".to_owned(), "hook".to_owned());
        assert_eq!(stops.push("Moonhook bean"), stopped);
    }

    proptest! {
        #[test]
        fn a_stop_text_is_found_however_the_text_is_cut(
            text in "[ab\u{e9}]{0,30}", stop in "[ab\u{e9}]{1,4}", cuts in prop::collection::vec(0usize..31, 0..6),
        ) {
            let mut cuts: Vec<usize> =
                cuts.into_iter().filter(|&cut| text.is_char_boundary(cut.min(text.len()))).map(|cut| cut.min(text.len())).collect();
            cuts.extend([0, text.len()]);
            cuts.sort_unstable();
            let pieces: Vec<&str> = cuts.windows(2).map(|pair| &text[pair[0]..pair[1]]).collect();
            let expected = match text.find(&stop) {
                Some(at) => (text[..at].to_owned(), true),
                None => (text.clone(), false),
            };
            prop_assert_eq!(run(&[&stop], &pieces), expected);
        }
    }
}
