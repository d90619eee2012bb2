//! A lane: one sequence at a time, a step at a time, from its prompt to the end of its work.

mod answering;
mod embedding;
mod guard;
mod prompt;
mod scores;

pub(crate) use answering::Answering;
pub(crate) use embedding::Embedding;
pub(crate) use prompt::{Prepared, prepare};

use std::sync::Arc;

use deft_protocol::ProblemKind;
use deft_protocol::engine::FromEngine;
use thiserror::Error;

use crate::cache::{KvCache, Sequence};
use crate::families::Wanted;
use crate::model::Model;
use crate::template::TemplateError;

/// Why a call cannot be answered.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CallError {
    /// The chat template cannot render the conversation.
    #[error("the model's chat template cannot render this conversation: {0}")]
    Template(#[from] TemplateError),
    /// Nothing to answer.
    #[error("the prompt is empty")]
    EmptyPrompt,
    /// A token id that the vocabulary does not have.
    #[error("token {id} does not exist; the vocabulary of this model has {tokens} tokens")]
    NoToken {
        /// The id.
        id: u32,
        /// Entries of the vocabulary.
        tokens: usize,
    },
    /// The prompt is far longer than the context.
    #[error("the prompt has at least {least} tokens; the context of this instance has {context}")]
    FarTooLong {
        /// The least that its text can be cut into.
        least: usize,
        /// Tokens of context.
        context: usize,
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
    /// The model computes nonsense.
    #[error(
        "the model computed values that are not numbers after {tokens} tokens: its file is damaged or was \
         converted wrongly. Pull or convert it again"
    )]
    NotFinite {
        /// Tokens taken in before.
        tokens: usize,
    },
    /// Text is asked of a model that makes embeddings.
    #[error("this model makes only embeddings; request them with POST /v1/embeddings")]
    NoAnswers,
    /// Embeddings are asked of a model that makes none.
    #[error("this model makes no embeddings: its file names no pooling")]
    NoEmbeddings,
}

impl CallError {
    /// What a caller can do, and the stable code.
    #[must_use]
    pub fn kind_and_code(&self) -> (ProblemKind, &'static str) {
        match self {
            Self::Template(_) => (ProblemKind::Invalid, "template_failed"),
            Self::EmptyPrompt => (ProblemKind::Invalid, "prompt_empty"),
            Self::NoToken { .. } => (ProblemKind::Invalid, "token_unknown"),
            Self::TooLong { .. } | Self::FarTooLong { .. } => {
                (ProblemKind::Invalid, "context_exceeded")
            }
            Self::NotFinite { .. } => (ProblemKind::Fault, "model_not_finite"),
            Self::NoAnswers => (ProblemKind::Invalid, "no_answers"),
            Self::NoEmbeddings => (ProblemKind::Invalid, "no_embeddings"),
        }
    }
}

/// What a lane works at.
pub(crate) enum Job {
    /// One answer of a call.
    Answer(Box<Answering>),
    /// Embeddings of a call's inputs.
    Embed(Embedding),
}

/// What a lane does next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Next {
    /// So many of the tokens that wait.
    pub(crate) tokens: usize,
    pub(crate) wanted: Wanted,
}

impl Next {
    /// How many of the tokens are asked for.
    pub(crate) fn rows(self) -> usize {
        self.wanted.rows(self.tokens)
    }
}

/// What became of a lane in a step.
pub(crate) enum Outcome {
    /// It goes on.
    GoesOn,
    /// Its work is done.
    Done,
}

/// A sequence being worked at.
pub(crate) struct Lane {
    pub(crate) call: u64,
    /// Which one it was to begin, from 1; 0 until it does.
    pub(crate) began: u64,
    pub(crate) sequence: Sequence,
    pub(crate) job: Job,
}

impl Lane {
    /// A lane for one answer, which goes on where the cache knows its prompt.
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

    /// Tokens that were not computed yet.
    pub(crate) fn waiting(&self) -> &[u32] {
        &self.tokens()[self.sequence.length()..]
    }

    /// Tokens that may come after those it has now, at most.
    pub(crate) fn grows_by(&self) -> usize {
        match &self.job {
            Job::Answer(job) => job.may_answer(),
            Job::Embed(_) => 0,
        }
    }

    /// Leaves its pages to others; what was computed stays known until they are needed.
    pub(crate) fn leave_pages(&mut self, cache: &mut KvCache) {
        let sequence = std::mem::take(&mut self.sequence);
        match &mut self.job {
            Job::Embed(job) => job.leave(sequence, cache),
            Job::Answer(_) => cache.end(sequence),
        }
    }

    /// Begins again with the tokens it has, going on from what is known of them.
    pub(crate) fn take_up(&mut self, cache: &mut KvCache) {
        self.sequence = match &mut self.job {
            Job::Answer(job) => job.take_up(cache),
            Job::Embed(job) => job.begin(cache),
        };
    }

    /// Whether one token is all there is to compute.
    pub(crate) fn is_at_its_end(&self) -> bool {
        self.waiting().len() == 1
    }

    /// What to compute when there is room for so many tokens.
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

    /// Whether rows of this lane are turned into logits.
    pub(crate) fn takes_logits(&self) -> bool {
        matches!(self.job, Job::Answer(_))
    }

    /// Counts what a step computed as held.
    pub(crate) fn advance(&mut self, tokens: usize, cache: &mut KvCache) {
        let start = self.sequence.length();
        let taken = match &self.job {
            Job::Answer(job) => &job.tokens()[start..start + tokens],
            Job::Embed(job) => &job.tokens()[start..start + tokens],
        };
        cache.advance(&mut self.sequence, taken);
    }

    /// Ends the lane's sequence. What was computed stays known, unless it is not to be trusted or
    /// nobody could go on from it.
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

/// A call's failure as it is told to the service.
pub(crate) fn failed(call: u64, error: &CallError) -> FromEngine {
    let (kind, code) = error.kind_and_code();
    FromEngine::Failed { call, kind, code: code.to_owned(), detail: error.to_string() }
}
