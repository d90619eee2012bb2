//! A lane: computes one sequence at a time, step by step, from its prompt to the end of its work.

mod answer_form;
mod answering;
mod embedding;
mod guard;
mod output;
mod prompt;
mod scores;
mod tokenized;
mod told_tools;
pub(crate) mod tracing;

pub(crate) use answering::Answering;
pub(crate) use embedding::Embedding;
pub(crate) use output::Allowed;
pub(crate) use prompt::{Prepared, prepare};
pub(crate) use tokenized::Tokenized;

use std::sync::Arc;

use deft_protocol::ProblemKind;
use deft_protocol::engine::FromEngine;
use thiserror::Error;

use crate::cache::{KvCache, Sequence};
use crate::constraint::ConstraintError;
use crate::families::Wanted;
use crate::model::Model;
use crate::template::TemplateError;

/// Why a call cannot be answered.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CallError {
    /// The chat template cannot render the conversation.
    #[error("the model's chat template cannot render this conversation: {0}")]
    Template(#[from] TemplateError),
    /// The prompt is empty.
    #[error("the prompt is empty")]
    EmptyPrompt,
    /// A token id beyond the vocabulary.
    #[error("token {id} does not exist; the vocabulary of this model has {tokens} tokens")]
    NoToken {
        /// The id.
        id: u32,
        /// Size of the vocabulary.
        tokens: usize,
    },
    /// The prompt is far longer than the context.
    #[error("the prompt has at least {least} tokens; the context of this instance has {context}")]
    FarTooLong {
        /// The least number of tokens that its text can have.
        least: usize,
        /// Tokens of context.
        context: usize,
    },
    /// A prompt to convert has too many tokens.
    #[error("it has more than {most} tokens; divide it, and convert the parts")]
    TooManyTokens {
        /// Most tokens that are converted at once.
        most: usize,
    },
    /// The prompt leaves no room for an answer.
    #[error(
        "the prompt has {tokens} tokens; the context of this instance has {context} and must hold prompt and \
         answer. Shorten the prompt, or load the model with a larger --context"
    )]
    TooLong {
        /// Tokens of the prompt.
        tokens: usize,
        /// Tokens of the lane.
        context: usize,
    },
    /// The model computes values that are not numbers.
    #[error(
        "the model computed values that are not numbers after {tokens} tokens: its file is damaged or was \
         converted wrongly. Pull or convert it again"
    )]
    NotFinite {
        /// Tokens processed before.
        tokens: usize,
    },
    /// A constraint cannot be used.
    #[error("`{field}`: {error}")]
    Constraint {
        /// The field of the request.
        field: &'static str,
        /// The defect.
        error: ConstraintError,
    },
    /// Tools are requested from a model that writes no tool calls.
    #[error(
        "the chat template of this model writes no tool calls, so the model was not trained for them. Use another \
         model (`deft depot inspect MODEL` shows whether one writes tool calls), or a profile with `--call-example`"
    )]
    NoToolCalls,
    /// A template argument is not read by the template.
    #[error("the chat template of this model does not read `{name}`")]
    ArgumentNotRead {
        /// Its name.
        name: String,
    },
    /// A middle is requested from a model that was not trained for it.
    #[error(
        "this model cannot fill in the middle of a text: its file names no tokens for it. Use another model, or remove \
         `suffix`"
    )]
    NoFillIn,
    /// Text is requested from a model that makes embeddings.
    #[error("this model makes only embeddings; request them with POST /v1/embeddings")]
    NoAnswers,
    /// Something else is requested from a model that compares pairs of texts.
    #[error("this model only orders documents by a query; request it with POST /v1/rerank")]
    OnlyRanks,
    /// Embeddings are requested from a model that makes none.
    #[error("this model makes no embeddings: its file names no pooling")]
    NoEmbeddings,
    /// An order is requested from a model that sorts texts into classes.
    #[error(
        "this model gives {scores} scores to a text, one for each of its classes, so it cannot order documents. Use a \
         model that serves `rerank`: `deft depot list` shows what each serves"
    )]
    Classes {
        /// Its number of scores.
        scores: u32,
    },
}

impl CallError {
    /// Kind of the problem, and its stable code.
    #[must_use]
    pub fn kind_and_code(&self) -> (ProblemKind, &'static str) {
        match self {
            Self::Template(_) => (ProblemKind::Invalid, "template_failed"),
            Self::EmptyPrompt => (ProblemKind::Invalid, "prompt_empty"),
            Self::NoToken { .. } => (ProblemKind::Invalid, "token_unknown"),
            Self::TooLong { .. } | Self::FarTooLong { .. } => {
                (ProblemKind::Invalid, "context_exceeded")
            }
            Self::TooManyTokens { .. } => (ProblemKind::Invalid, "too_many_tokens"),
            Self::NotFinite { .. } => (ProblemKind::Fault, "model_not_finite"),
            Self::Constraint { error: ConstraintError::Invalid(_), .. } => {
                (ProblemKind::Invalid, "constraint_invalid")
            }
            Self::Constraint { error: ConstraintError::Busy, .. } => {
                (ProblemKind::Overloaded, "constraints_busy")
            }
            Self::Constraint {
                error: ConstraintError::TooComplex(_) | ConstraintError::TooSlow(_),
                ..
            } => (ProblemKind::Invalid, "constraint_too_complex"),
            Self::NoToolCalls => (ProblemKind::Invalid, "no_tool_calls"),
            Self::ArgumentNotRead { .. } => (ProblemKind::Invalid, "template_argument_not_read"),
            Self::NoFillIn => (ProblemKind::Invalid, "no_fill_in"),
            Self::NoAnswers => (ProblemKind::Invalid, "no_answers"),
            Self::OnlyRanks => (ProblemKind::Invalid, "only_ranks"),
            Self::NoEmbeddings => (ProblemKind::Invalid, "no_embeddings"),
            Self::Classes { .. } => (ProblemKind::Invalid, "only_classes"),
        }
    }
}

impl CallError {
    /// The field of the request at fault.
    #[must_use]
    pub fn field(&self) -> Option<&str> {
        match self {
            Self::Constraint { field, .. } => Some(field),
            Self::NoToolCalls => Some("tools"),
            Self::NoFillIn => Some("suffix"),
            Self::ArgumentNotRead { name } if name == "reasoning_effort" => Some(name),
            Self::ArgumentNotRead { .. } => Some("chat_template_kwargs"),
            _ => None,
        }
    }
}

/// The work of a lane.
pub(crate) enum Job {
    /// One answer of a call.
    Answer(Box<Answering>),
    /// Embeddings of a call's inputs.
    Embed(Embedding),
}

/// What a lane does next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Next {
    /// This many of the tokens that wait.
    pub(crate) tokens: usize,
    pub(crate) wanted: Wanted,
}

impl Next {
    /// Number of tokens whose hidden states are wanted.
    pub(crate) fn rows(self) -> usize {
        self.wanted.rows(self.tokens)
    }
}

/// State of a lane after a step.
pub(crate) enum Outcome {
    /// It continues.
    GoesOn,
    /// It is done.
    Done,
}

/// A sequence that is being computed.
pub(crate) struct Lane {
    pub(crate) call: u64,
    /// Its number in the order of beginnings, from 1; 0 until it begins.
    pub(crate) began: u64,
    pub(crate) sequence: Sequence,
    pub(crate) job: Job,
}

impl Lane {
    /// A lane for one answer; it continues after the cached part of its prompt.
    pub(crate) fn answer(
        model: &Model,
        prepared: Arc<Prepared>,
        answer: u32,
        cache: &mut KvCache,
    ) -> Self {
        let call = prepared.order.call;
        let (job, sequence) = Answering::begin(model, prepared, answer, cache);
        Self { call, began: 0, sequence, job: Job::Answer(Box::new(job)) }
    }

    /// A lane for embeddings.
    pub(crate) fn embed(call: u64, embedding: Embedding, cache: &mut KvCache) -> Self {
        let sequence = embedding.begin(cache);
        Self { call, began: 0, sequence, job: Job::Embed(embedding) }
    }

    fn tokens(&self) -> &[u32] {
        match &self.job {
            Job::Answer(job) => job.tokens(),
            Job::Embed(job) => job.tokens(),
        }
    }

    /// Tokens that have not been computed.
    pub(crate) fn waiting(&self) -> &[u32] {
        &self.tokens()[self.sequence.length()..]
    }

    /// Most tokens that can follow those it has now.
    pub(crate) fn grows_by(&self) -> usize {
        match &self.job {
            Job::Answer(job) => job.may_answer(),
            Job::Embed(_) => 0,
        }
    }

    /// Gives its pages back; computed tokens stay cached until the pages are needed.
    pub(crate) fn leave_pages(&mut self, cache: &mut KvCache) {
        let sequence = std::mem::take(&mut self.sequence);
        match &mut self.job {
            Job::Embed(job) => job.leave(sequence, cache),
            Job::Answer(_) => cache.end(sequence),
        }
    }

    /// Begins again with the tokens that it has, after their cached part.
    pub(crate) fn take_up(&mut self, cache: &mut KvCache) {
        self.sequence = match &mut self.job {
            Job::Answer(job) => job.take_up(cache),
            Job::Embed(job) => job.begin(cache),
        };
    }

    /// Whether only one token has to be computed.
    pub(crate) fn is_at_its_end(&self) -> bool {
        self.waiting().len() == 1
    }

    /// What to compute next, if there is room for `room` tokens.
    pub(crate) fn next(&self, room: usize) -> Next {
        let waiting = self.waiting().len();
        let tokens = waiting.min(room);
        let ends = tokens == waiting;
        let wanted = match &self.job {
            Job::Answer(job) if job.wants_all(self.sequence.length()) => Wanted::All,
            Job::Embed(job) if job.wants_all() => Wanted::All,
            _ if ends => Wanted::Last,
            _ => Wanted::None,
        };
        Next { tokens, wanted }
    }

    /// Whether logits of this lane are computed.
    pub(crate) fn takes_logits(&self) -> bool {
        matches!(self.job, Job::Answer(_))
    }

    /// Adds the tokens of a step to the sequence.
    pub(crate) fn advance(&mut self, tokens: usize, cache: &mut KvCache) {
        let start = self.sequence.length();
        let taken = match &self.job {
            Job::Answer(job) => &job.tokens()[start..start + tokens],
            Job::Embed(job) => &job.tokens()[start..start + tokens],
        };
        cache.advance(&mut self.sequence, taken);
    }

    /// Ends the lane's sequence. Computed tokens stay cached, unless they are invalid or no prompt could continue them.
    pub(crate) fn end(self, trusted: bool, cache: &mut KvCache) {
        let reusable = match &self.job {
            Job::Answer(_) => trusted,
            Job::Embed(job) => trusted && job.is_reusable(),
        };
        if reusable {
            cache.end(self.sequence);
        } else {
            cache.discard(self.sequence);
        }
    }
}

/// The failure of a call, as the service gets it.
pub(crate) fn failed(call: u64, error: &CallError) -> FromEngine {
    let (kind, code) = error.kind_and_code();
    let (code, field) = (code.to_owned(), error.field().map(ToOwned::to_owned));
    FromEngine::Failed { call, kind, code, field, detail: error.to_string() }
}
