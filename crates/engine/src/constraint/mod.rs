//! Constraints: answers that must match a JSON schema, a regular expression, a grammar, or the form of a tool call.
//!
//! A [`Grammar`] is compiled once, on a thread of its own with a time limit, and cached. Each answer has a [`Constrained`]
//! of its own. The mask of the allowed tokens is computed by helper threads while the model computes the logits that it
//! is applied to.

mod grammar;
mod intersections;
mod limits;
mod masks;
mod tokens;

use std::collections::VecDeque;
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::Duration;

use llguidance::{Matcher, ParserFactory};
use parking_lot::Mutex;
use thiserror::Error;

use crate::tokenizer::Tokenizer;
pub(crate) use grammar::{Calls, Grammar, Tool};
pub(crate) use masks::{Constrained, Mask};

/// Number of compiled grammars that stay in memory for later calls.
const MOST_CACHED: usize = 8;
/// Longest time to compile a grammar. Tests run debug builds beside each other, which takes several times as long.
const LONGEST_COMPILING: Duration =
    Duration::from_millis(if cfg!(debug_assertions) { 5000 } else { 500 });
/// Longest time for its first mask.
const LONGEST_FIRST_MASK: Duration =
    Duration::from_millis(if cfg!(debug_assertions) { 4000 } else { 400 });
/// Stack of a thread that compiles a grammar. The library descends recursively; the largest grammars within the limits need
/// 16 MiB at most.
const STACK_BYTES: usize = 64 << 20;
/// Number of grammars that are compiled at the same time, with those that took too long and whose threads still run.
const MOST_COMPILING: usize = 3;

/// The error of a constraint.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ConstraintError {
    /// The grammar or schema is invalid, uses an unsupported feature, or cannot be fulfilled.
    #[error("{0}")]
    Invalid(String),
    /// The grammar or schema is too large.
    #[error("{0}")]
    TooComplex(String),
    /// Its compilation or its masks take too long.
    #[error("{0}")]
    TooSlow(&'static str),
    /// Others are being compiled.
    #[error("too many slow schemas and grammars are being compiled at the moment; retry later")]
    Busy,
}

/// Compiled grammars of a model.
#[derive(Default)]
pub(crate) struct Constraints {
    factory: OnceLock<Result<Arc<ParserFactory>, String>>,
    /// Has a clone for each thread that compiles a grammar.
    compiling: Arc<()>,
    /// Grammars with their matchers before the first token, the latest last.
    cached: Mutex<VecDeque<(Arc<Grammar>, Matcher)>>,
}

impl Constraints {
    /// The state of a new answer with a grammar.
    ///
    /// # Errors
    /// The grammar is invalid or too complex.
    pub(crate) fn begin(
        &self,
        tokenizer: &Tokenizer,
        grammar: &Grammar,
    ) -> Result<Constrained, ConstraintError> {
        if let Some((grammar, matcher)) = self.cached(grammar) {
            return masks::begin(grammar, matcher, LONGEST_FIRST_MASK);
        }
        grammar.check()?;
        let factory = self.factory.get_or_init(|| tokens::factory(tokenizer).map(Arc::new));
        let factory =
            factory.as_ref().map_err(|error| ConstraintError::TooComplex(error.clone()))?;
        let matcher = self.compile(Arc::clone(factory), grammar)?;
        let grammar = Arc::new(grammar.clone());
        let first = matcher.deep_clone();
        let begun = masks::begin(Arc::clone(&grammar), first, LONGEST_FIRST_MASK)?;
        let mut cached = self.cached.lock();
        if cached.len() >= MOST_CACHED {
            cached.pop_front();
        }
        cached.push_back((grammar, matcher));
        Ok(begun)
    }

    /// Compiles a grammar within a time limit. The library cannot be interrupted, so a thread that takes longer is left to
    /// its end, which the limits of size bring about.
    fn compile(
        &self,
        factory: Arc<ParserFactory>,
        grammar: &Grammar,
    ) -> Result<Matcher, ConstraintError> {
        let running = Arc::clone(&self.compiling);
        if Arc::strong_count(&running) > MOST_COMPILING + 1 {
            return Err(ConstraintError::Busy);
        }
        let (reply, compiled) = sync_channel(1);
        let grammar = grammar.clone();
        let compile = move || {
            let compiled = grammar.compile(&factory);
            // Before the reply: otherwise the caller's next grammar could find this thread still counted.
            drop(running);
            // The caller may have given up.
            let _ = reply.send(compiled);
        };
        let started = thread::Builder::new()
            .name("deft-grammar".to_owned())
            .stack_size(STACK_BYTES)
            .spawn(compile);
        started.map_err(|_| ConstraintError::Busy)?;
        // Without a reply, the thread failed.
        compiled
            .recv_timeout(LONGEST_COMPILING)
            .unwrap_or(Err(ConstraintError::TooSlow("it takes too long to compile")))
    }

    /// Tokens with the bytes of a text, after [`Self::begin`].
    pub(crate) fn tokens_of(&self, text: &str) -> Vec<u32> {
        let factory = self.factory.get().and_then(|factory| factory.as_ref().ok());
        factory.map_or_else(Vec::new, |factory| factory.tok_env().tokenize_bytes(text.as_bytes()))
    }

    /// A cached grammar with a matcher, which becomes the latest one.
    fn cached(&self, grammar: &Grammar) -> Option<(Arc<Grammar>, Matcher)> {
        let mut cached = self.cached.lock();
        let at = cached.iter().position(|(other, _)| **other == *grammar)?;
        let found = cached.remove(at)?;
        let again = (Arc::clone(&found.0), found.1.deep_clone());
        cached.push_back(found);
        Some(again)
    }
}

#[cfg(test)]
mod tests;
