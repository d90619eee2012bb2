//! Answers as a sequence of segments, as the responses and messages protocols have them: each segment is reasoning, text or a
//! tool call, and one ends before the next begins.

use deft_protocol::Problem;
use deft_protocol::chat::{Figures, Usage};
use deft_protocol::engine::{Part, TokenScore};
use uuid::Uuid;

use crate::answering::gateway::{Answers, Piece};

/// A segment of an answer.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Segment {
    Reasoning(String),
    Text(String, Vec<TokenScore>),
    Call { id: String, name: String, arguments: String },
}

/// A change of the segment with this number.
#[derive(Debug, PartialEq)]
pub(super) enum Change {
    Began(usize),
    /// More text of it, with its tokens if requested.
    More(usize, String, Vec<TokenScore>),
    Ended(usize),
}

/// The segments of one answer.
#[derive(Debug, Default)]
pub(super) struct Segments {
    all: Vec<Segment>,
    is_open: bool,
}

impl Segments {
    pub(super) fn all(&self) -> &[Segment] {
        &self.all
    }

    /// Adds a piece of text to the open segment, or to a new one of its kind.
    pub(super) fn text(
        &mut self,
        part: Part,
        text: String,
        scores: Vec<TokenScore>,
    ) -> Vec<Change> {
        let mut changes = Vec::new();
        let fits = self.is_open
            && matches!(
                (part, self.all.last()),
                (Part::Answer, Some(Segment::Text(..)))
                    | (Part::Reasoning, Some(Segment::Reasoning(_)))
                    | (Part::Arguments(_), Some(Segment::Call { .. }))
            );
        if !fits {
            let segment = match part {
                Part::Answer => Segment::Text(String::new(), Vec::new()),
                Part::Reasoning => Segment::Reasoning(String::new()),
                // Arguments follow the beginning of their call.
                Part::Arguments(_) => return changes,
            };
            self.begin(segment, &mut changes);
        }
        match self.all.last_mut() {
            Some(Segment::Text(all, tokens)) => {
                all.push_str(&text);
                tokens.extend(scores.iter().cloned());
            }
            Some(Segment::Reasoning(all) | Segment::Call { arguments: all, .. }) => {
                all.push_str(&text);
            }
            None => {}
        }
        changes.push(Change::More(self.all.len().saturating_sub(1), text, scores));
        changes
    }

    /// Begins a tool call.
    pub(super) fn call(&mut self, name: String) -> Vec<Change> {
        let mut changes = Vec::new();
        let call = Segment::Call { id: call_id(), name, arguments: String::new() };
        self.begin(call, &mut changes);
        changes
    }

    fn begin(&mut self, segment: Segment, changes: &mut Vec<Change>) {
        changes.extend(self.end());
        self.all.push(segment);
        self.is_open = true;
        changes.push(Change::Began(self.all.len() - 1));
    }

    /// Ends the open segment.
    pub(super) fn end(&mut self) -> Option<Change> {
        std::mem::take(&mut self.is_open).then(|| Change::Ended(self.all.len() - 1))
    }
}

/// Adds a whole answer; returns its figures and token counts.
///
/// # Errors
/// The answer failed.
pub(super) async fn whole(
    mut answers: Answers,
    segments: &mut Segments,
) -> Result<(Option<Figures>, Usage), Problem> {
    let mut ended = None;
    loop {
        match answers.next().await {
            Piece::Text { part, text, scores, .. } => drop(segments.text(part, text, scores)),
            Piece::ToolCall { name, .. } => drop(segments.call(name)),
            Piece::Ended { figures, .. } => ended = Some(figures),
            Piece::Done(usage) => {
                segments.end();
                return Ok((ended, usage));
            }
            Piece::Failed(problem) => return Err(problem),
        }
    }
}

/// A new id of a tool call: nine letters and digits, because some chat templates accept only ids of this form.
pub(super) fn call_id() -> String {
    let mut number = Uuid::new_v4().as_u128();
    let mut digit = || {
        let digit = u32::try_from(number % 36).unwrap_or(0);
        number /= 36;
        char::from_digit(digit, 36).unwrap_or('0')
    };
    (0..9).map(|_| digit()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_segment_ends_before_the_next_begins() {
        let mut segments = Segments::default();
        let mut changes = segments.text(Part::Reasoning, "Look".to_owned(), Vec::new());
        changes.extend(segments.text(Part::Reasoning, " it up".to_owned(), Vec::new()));
        changes.extend(segments.text(Part::Answer, "A moment".to_owned(), Vec::new()));
        changes.extend(segments.call("stock_level".to_owned()));
        changes.extend(segments.text(Part::Arguments(0), "{}".to_owned(), Vec::new()));
        changes.extend(segments.end());
        assert_eq!(segments.end(), None);
        let more = |at, text: &str| Change::More(at, text.to_owned(), Vec::new());
        let expected = [
            Change::Began(0),
            more(0, "Look"),
            more(0, " it up"),
            Change::Ended(0),
            Change::Began(1),
            more(1, "A moment"),
            Change::Ended(1),
            Change::Began(2),
            more(2, "{}"),
            Change::Ended(2),
        ];
        assert_eq!(changes, expected);
        let Segment::Call { id, arguments, .. } = &segments.all()[2] else { panic!("no call") };
        assert_eq!((id.len(), &arguments[..]), (9, "{}"));
        assert_eq!(segments.all()[0], Segment::Reasoning("Look it up".to_owned()));
    }

    #[test]
    fn arguments_without_a_call_are_left_out() {
        let mut segments = Segments::default();
        assert_eq!(segments.text(Part::Arguments(0), "{}".to_owned(), Vec::new()), []);
        assert!(segments.all().is_empty());
    }
}
