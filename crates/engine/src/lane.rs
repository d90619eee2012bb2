//! A lane: one sequence from its prompt to the end of its answer, a step at a time.

use std::time::Instant;

use deft_protocol::ProblemKind;
use deft_protocol::chat::EndedBy;
use deft_protocol::engine::{CallOrder, EngineFigures, Prompt};
use thiserror::Error;

use crate::families::{LaneCache, Logits, Workspace};
use crate::model::Model;
use crate::sampling::{NotFinite, Sampler};
use crate::stops::{Passed, Stops};
use crate::template::TemplateError;
use crate::tokenizer::{Specials, StreamStart, TextStream};

/// Why a call cannot be answered.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CallError {
    /// The chat template cannot render the conversation.
    #[error("the model's chat template cannot render this conversation: {0}")]
    Template(#[from] TemplateError),
    /// Nothing to answer.
    #[error("the prompt is empty")]
    EmptyPrompt,
    /// The prompt leaves no room for an answer.
    #[error(
        "the prompt has {tokens} tokens; this instance was loaded with a context of {context}, \
         which must hold prompt and answer. Shorten it, or load with a larger --context"
    )]
    TooLong {
        /// Tokens of the prompt.
        tokens: usize,
        /// Tokens of the lane.
        context: usize,
    },
    /// The model computes nonsense.
    #[error(
        "the model computed values that are not numbers after {tokens} tokens: its file is damaged \
         or was made wrongly; fetch or convert it again"
    )]
    NotFinite {
        /// Tokens taken in before.
        tokens: usize,
    },
}

impl CallError {
    /// What a caller can do, and the stable code.
    #[must_use]
    pub fn kind_and_code(&self) -> (ProblemKind, &'static str) {
        match self {
            Self::Template(_) => (ProblemKind::Invalid, "template_failed"),
            Self::EmptyPrompt => (ProblemKind::Invalid, "prompt_empty"),
            Self::TooLong { .. } => (ProblemKind::Invalid, "context_exceeded"),
            Self::NotFinite { .. } => (ProblemKind::Fault, "model_not_finite"),
        }
    }
}

/// What a step brought.
pub(crate) enum Progress {
    /// Prompt taken in, or text that is not complete yet.
    Nothing,
    /// New text.
    Text(String),
    /// The last text, and the figures.
    Done(String, EngineFigures),
}

/// A sequence being answered.
pub(crate) struct Answering {
    pub(crate) call: u64,
    prompt: Vec<u32>,
    taken: usize,
    last: u32,
    answer_tokens: u32,
    max_tokens: u32,
    sampler: Sampler,
    stops: Stops,
    text: TextStream,
    started: Instant,
    first_token: Option<Instant>,
}

impl Answering {
    /// Prepares a call: renders, cuts into tokens, and checks that the context has room.
    pub(crate) fn new(model: &Model, order: CallOrder, context: usize) -> Result<Self, CallError> {
        let started = Instant::now();
        let (prompt, start) = prompt_tokens(model, &order.prompt)?;
        if prompt.is_empty() {
            return Err(CallError::EmptyPrompt);
        }
        if prompt.len() >= context {
            return Err(CallError::TooLong { tokens: prompt.len(), context });
        }
        Ok(Self {
            call: order.call,
            taken: 0,
            last: prompt[prompt.len() - 1],
            sampler: Sampler::new(order.sampling, &prompt),
            prompt,
            answer_tokens: 0,
            max_tokens: order.max_tokens.unwrap_or(u32::MAX),
            stops: Stops::new(order.stop),
            text: model.tokenizer.stream(start),
            started,
            first_token: None,
        })
    }

    pub(crate) fn prompt_tokens(&self) -> u32 {
        u32::try_from(self.prompt.len()).unwrap_or(u32::MAX)
    }

    /// One step: some of the prompt, or one token of the answer.
    pub(crate) fn step(
        &mut self,
        model: &Model,
        cache: &mut LaneCache,
        work: &mut Workspace,
        chunk: usize,
    ) -> Result<Progress, CallError> {
        if self.max_tokens == 0 {
            return Ok(self.done(String::new(), EndedBy::TokenLimit));
        }
        if self.taken < self.prompt.len() {
            let to = self.prompt.len().min(self.taken + chunk);
            let tokens = &self.prompt[self.taken..to];
            let logits = if to == self.prompt.len() { Logits::Last } else { Logits::None };
            model.decoder.step(tokens, cache, work, logits);
            self.taken = to;
            if logits == Logits::None {
                return Ok(Progress::Nothing);
            }
        } else {
            model.decoder.step(&[self.last], cache, work, Logits::Last);
        }
        self.take_token(model, cache, &work.logits)
    }

    fn take_token(
        &mut self,
        model: &Model,
        cache: &LaneCache,
        logits: &[f32],
    ) -> Result<Progress, CallError> {
        let token = self
            .sampler
            .choose(logits)
            .map_err(|NotFinite| CallError::NotFinite { tokens: cache.filled() })?;
        self.first_token.get_or_insert_with(Instant::now);
        self.last = token;
        self.answer_tokens += 1;
        if model.tokenizer.vocabulary().ends_answer(token) {
            let text = self.rest();
            return Ok(self.done(text, EndedBy::EndToken));
        }
        let piece = self.text.push(&model.tokenizer.bytes_of(token));
        let mut text = match self.stops.push(&piece) {
            Passed::On(text) => text,
            Passed::Stopped(text) => return Ok(self.done(text, EndedBy::StopText)),
        };
        let ended = if self.answer_tokens >= self.max_tokens {
            EndedBy::TokenLimit
        } else if cache.filled() >= cache.context() {
            EndedBy::ContextFull
        } else if text.is_empty() {
            return Ok(Progress::Nothing);
        } else {
            return Ok(Progress::Text(text));
        };
        text.push_str(&self.rest());
        Ok(self.done(text, ended))
    }

    /// Text that was held back: an unfinished character, the beginning of a stop text.
    fn rest(&mut self) -> String {
        let end = self.text.finish();
        match self.stops.push(&end) {
            Passed::On(text) => text + &self.stops.finish(),
            Passed::Stopped(text) => text,
        }
    }

    fn done(&self, text: String, ended_by: EndedBy) -> Progress {
        let first = self.first_token.unwrap_or_else(Instant::now);
        let figures = EngineFigures {
            ended_by,
            prompt_tokens: self.prompt_tokens(),
            answer_tokens: self.answer_tokens,
            prompt_seconds: first.duration_since(self.started).as_secs_f64(),
            answer_seconds: first.elapsed().as_secs_f64(),
        };
        Progress::Done(text, figures)
    }
}

fn prompt_tokens(model: &Model, prompt: &Prompt) -> Result<(Vec<u32>, StreamStart), CallError> {
    let tokenizer = &model.tokenizer;
    match prompt {
        Prompt::Text(text) => {
            let tokens = tokenizer.encode_prompt(text, Specials::PlainText);
            Ok((tokens, StreamStart::Continuation))
        }
        Prompt::Chat { messages, tools } => {
            let pieces = model.template.render(messages, tools.as_deref())?;
            Ok((tokenizer.encode_rendered(&pieces), StreamStart::Text))
        }
    }
}
