//! The answers to several prompts of one request, as if they were answers to one.

use futures_util::future::select_all;
use uuid::Uuid;

use deft_protocol::Problem;
use deft_protocol::chat::Usage;

use super::{Answer, Piece, Whole};

/// Calls under way, one for each prompt. Dropping it cancels all of them.
pub(crate) struct Answers {
    calls: Vec<Answer>,
    /// Those that go on, in the order of their prompts.
    open: Vec<usize>,
    usage: Usage,
}

impl Answers {
    /// The answers to prompts, in the order of these; there is one at least.
    pub(crate) fn new(calls: Vec<Answer>) -> Self {
        Self { open: (0..calls.len()).collect(), calls, usage: Usage::default() }
    }

    /// The id of the first one stands for all.
    pub(crate) fn id(&self) -> Uuid {
        self.calls[0].id()
    }

    /// The variant that answers.
    pub(crate) fn model(&self) -> &str {
        self.calls[0].model()
    }

    /// When the request arrived, as Unix time.
    pub(crate) fn created(&self) -> i64 {
        self.calls[0].created()
    }

    /// How many answers come: to each prompt as many.
    pub(crate) fn count(&self) -> usize {
        self.calls.iter().map(Answer::answers).sum()
    }

    /// The next piece of any; `Done` and `Failed` are the last. Cancel safe.
    pub(crate) async fn next(&mut self) -> Piece {
        loop {
            let calls = self.calls.iter_mut().enumerate();
            let open = calls.filter(|(at, _)| self.open.contains(at));
            let pieces: Vec<_> = open
                .map(|(at, call)| {
                    Box::pin(async move {
                        let each = call.answers();
                        (at, u32::try_from(at * each).unwrap_or(u32::MAX), call.next().await)
                    })
                })
                .collect();
            if pieces.is_empty() {
                return Piece::Done(self.usage);
            }
            let ((at, first, piece), ..) = select_all(pieces).await;
            match piece {
                Piece::Text { answer, text, scores } => {
                    return Piece::Text { answer: first + answer, text, scores };
                }
                Piece::Ended { answer, figures } => {
                    return Piece::Ended { answer: first + answer, figures };
                }
                Piece::Failed(problem) => return Piece::Failed(problem),
                Piece::Done(usage) => {
                    self.open.retain(|open| *open != at);
                    self.add(usage);
                }
            }
        }
    }

    fn add(&mut self, usage: Usage) {
        self.usage.prompt_tokens += usage.prompt_tokens;
        self.usage.completion_tokens += usage.completion_tokens;
        self.usage.total_tokens += usage.total_tokens;
        self.usage.prompt_tokens_details.cached_tokens += usage.prompt_tokens_details.cached_tokens;
    }

    /// All answers at once.
    pub(crate) async fn whole(&mut self) -> Result<(Vec<Whole>, Usage), Problem> {
        let mut all: Vec<Whole> = (0..self.count()).map(|_| Whole::default()).collect();
        loop {
            match self.next().await {
                Piece::Text { answer, text, scores } => {
                    if let Some(whole) = all.get_mut(answer as usize) {
                        whole.text.push_str(&text);
                        whole.scores.extend(scores);
                    }
                }
                Piece::Ended { answer, figures } => {
                    if let Some(whole) = all.get_mut(answer as usize) {
                        whole.figures = Some(figures);
                    }
                }
                Piece::Done(usage) => return Ok((all, usage)),
                Piece::Failed(problem) => return Err(problem),
            }
        }
    }
}
