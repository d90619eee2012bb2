//! The answers to several prompts of one request, as if they were answers to one.

use std::pin::Pin;

use deft_protocol::Problem;
use deft_protocol::chat::Usage;
use deft_protocol::engine::Part;
use futures_util::future::select_all;
use uuid::Uuid;

use super::{Answer, Piece, Whole};

/// A call that is about to be answered: its prompt is accepted when it is there.
pub(crate) type Begun = Pin<Box<dyn Future<Output = Result<Answer, Problem>>>>;

/// How far the call of one prompt is.
enum Stage {
    Coming(Begun),
    Going(Box<Answer>),
    Ended,
}

/// What comes of a call.
enum Event {
    Begun(Result<Box<Answer>, Problem>),
    Piece(Piece),
}

impl Stage {
    /// Cancel safe.
    async fn event(&mut self) -> Event {
        match self {
            Self::Coming(begun) => Event::Begun(begun.as_mut().await.map(Box::new)),
            Self::Going(answer) => Event::Piece(answer.next().await),
            Self::Ended => std::future::pending().await,
        }
    }
}

/// Calls under way, one for each prompt. All of them are attended to all the time: one that ended leaves its
/// lane to one that waits. Dropping it cancels all of them.
pub(crate) struct Answers {
    calls: Vec<Stage>,
    /// Answers to each prompt.
    each: u32,
    usage: Usage,
    id: Uuid,
    model: String,
    created: i64,
    /// Tokens of the first accepted prompt.
    prompt_tokens: u32,
}

impl Answers {
    /// The answers to prompts, `each` to every one, in the order of these: the first of them was accepted when
    /// this returns. There is one at least.
    ///
    /// # Errors
    /// One was refused; the others are cancelled.
    pub(crate) async fn begin(mut begun: Vec<Begun>, each: u32) -> Result<Self, Problem> {
        let (first, at, _) = select_all(begun.iter_mut()).await;
        let first = first?;
        let (id, model, created) = (first.id(), first.model().to_owned(), first.created());
        let prompt_tokens = first.prompt_tokens();
        let mut calls: Vec<Stage> = begun.into_iter().map(Stage::Coming).collect();
        calls[at] = Stage::Going(Box::new(first));
        Ok(Self { calls, each, usage: Usage::default(), id, model, created, prompt_tokens })
    }

    /// Id of the first accepted call, which represents all.
    pub(crate) fn id(&self) -> Uuid {
        self.id
    }

    /// The variant that answers.
    pub(crate) fn model(&self) -> &str {
        &self.model
    }

    /// When the request arrived, as Unix time.
    pub(crate) fn created(&self) -> i64 {
        self.created
    }

    /// Tokens of the first accepted prompt.
    pub(crate) fn prompt_tokens(&self) -> u32 {
        self.prompt_tokens
    }

    /// How many answers come.
    pub(crate) fn count(&self) -> usize {
        self.calls.len() * self.each as usize
    }

    /// The next piece of any; `Done` and `Failed` are the last. Cancel safe.
    pub(crate) async fn next(&mut self) -> Piece {
        loop {
            let calls = self.calls.iter_mut().enumerate();
            let open = calls.filter(|(_, stage)| !matches!(stage, Stage::Ended));
            let events: Vec<_> = open
                .map(|(at, stage)| Box::pin(async move { (at, stage.event().await) }))
                .collect();
            if events.is_empty() {
                return Piece::Done(self.usage);
            }
            let ((at, event), ..) = select_all(events).await;
            let first = u32::try_from(at).unwrap_or(u32::MAX).saturating_mul(self.each);
            match event {
                Event::Begun(Ok(answer)) => self.calls[at] = Stage::Going(answer),
                Event::Begun(Err(problem)) | Event::Piece(Piece::Failed(problem)) => {
                    return Piece::Failed(problem);
                }
                Event::Piece(Piece::Text { answer, part, text, scores }) => {
                    return Piece::Text { answer: first + answer, part, text, scores };
                }
                Event::Piece(Piece::ToolCall { answer, index, name }) => {
                    return Piece::ToolCall { answer: first + answer, index, name };
                }
                Event::Piece(Piece::Ended { answer, figures }) => {
                    return Piece::Ended { answer: first + answer, figures };
                }
                Event::Piece(Piece::Done(usage)) => {
                    self.calls[at] = Stage::Ended;
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
        self.usage.completion_tokens_details.reasoning_tokens +=
            usage.completion_tokens_details.reasoning_tokens;
    }

    /// All answers at once.
    pub(crate) async fn whole(&mut self) -> Result<(Vec<Whole>, Usage), Problem> {
        let mut all: Vec<Whole> = (0..self.count()).map(|_| Whole::default()).collect();
        loop {
            match self.next().await {
                Piece::Text { answer, part, text, scores } => {
                    if let Some(whole) = all.get_mut(answer as usize) {
                        whole.add(part, &text);
                        whole.scores.extend(scores);
                    }
                }
                Piece::ToolCall { answer, name, .. } => {
                    if let Some(whole) = all.get_mut(answer as usize) {
                        whole.calls.push((name, String::new()));
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

impl Whole {
    fn add(&mut self, part: Part, text: &str) {
        match part {
            Part::Answer => self.text.push_str(text),
            Part::Reasoning => self.reasoning.push_str(text),
            Part::Arguments(index) => {
                if let Some((_, arguments)) = self.calls.get_mut(index as usize) {
                    arguments.push_str(text);
                }
            }
        }
    }
}
