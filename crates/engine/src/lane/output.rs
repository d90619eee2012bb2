//! The output of an answer: its reader, its constraint, and the budget of its reasoning.

use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_protocol::engine::{FromEngine, Part, TokenScore};

use super::CallError;
use super::answer_form::AnswerForm;
use crate::constraint::{Constrained, Mask};
use crate::model::Words;
use crate::output::{Event, Reader};

/// The tokens that may follow.
pub(crate) struct Allowed<'a> {
    pub(crate) mask: &'a Mask,
    /// Another token that may follow: the one that opens the reasoning.
    pub(crate) also: Option<u32>,
}

/// When a constraint applies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Gate {
    /// From the next token on; the reasoning may begin instead.
    AtStart,
    /// After the reasoning.
    AfterReasoning,
    /// Now.
    Active,
    /// Only in tool calls, which the model may begin.
    InCalls,
}

/// The output of an answer that is not plain text.
pub(super) struct Output {
    reader: Option<Reader>,
    form: Option<Arc<AnswerForm>>,
    constraint: Option<Constrained>,
    gate: Gate,
    /// Whether a grammar of calls is in force that the model's own marker began.
    is_own_call: bool,
    budget: Option<u32>,
    thought: Thought,
    /// Scores whose text has not led to an event yet.
    scores: Vec<TokenScore>,
}

/// The reasoning so far.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Thought {
    pub(super) tokens: u32,
    pub(super) time: Duration,
    since: Option<Instant>,
}

impl Output {
    /// The output of a new answer.
    pub(super) fn new(form: Option<&Arc<AnswerForm>>, words: &Words, budget: Option<u32>) -> Self {
        let reader = form.and_then(|form| form.reader(words));
        let constraint = form.filter(|form| !form.is_in_calls()).and_then(|form| form.constraint());
        let is_open = reader.as_ref().is_some_and(Reader::is_reasoning);
        let gate = match form {
            Some(form) if form.is_in_calls() => Gate::InCalls,
            _ if is_open => Gate::AfterReasoning,
            _ => Gate::AtStart,
        };
        let since = is_open.then(Instant::now);
        let thought = Thought { since, ..Thought::default() };
        let form = form.cloned();
        let (scores, is_own_call) = (Vec::new(), false);
        Self { reader, form, constraint, gate, is_own_call, budget, thought, scores }
    }

    /// The tokens that may follow; none if all may.
    ///
    /// # Errors
    /// The constraint is too complex at this point.
    pub(super) fn allowed(&mut self, words: &Words) -> Result<Option<Allowed<'_>>, CallError> {
        if matches!(self.gate, Gate::AfterReasoning | Gate::InCalls) {
            return Ok(None);
        }
        let also = match self.gate {
            Gate::AtStart if self.reader.is_some() => words.opening_token(),
            _ => None,
        };
        if self.is_own_call && self.constraint.as_mut().is_some_and(|one| one.mask().is_err()) {
            // The model began a call in another way than its template; the call is read as it is.
            self.constraint = None;
        }
        match &mut self.constraint {
            None => Ok(None),
            Some(constraint) => {
                let field = self.form.as_ref().map_or("", |form| form.constrained_by());
                let mask =
                    constraint.mask().map_err(|error| CallError::Constraint { field, error })?;
                Ok(Some(Allowed { mask, also }))
            }
        }
    }

    /// The bytes of a token. Control tokens of markers have text only where a reader looks for it.
    pub(super) fn bytes_of(&self, token: u32, words: &Words) -> Vec<u8> {
        match words.markers.get(&token).filter(|_| self.reader.is_some()) {
            Some(text) => text.as_bytes().to_vec(),
            None => words.tokenizer.bytes_of(token),
        }
    }

    /// Adds a token of the answer, before its text.
    pub(super) fn add_token(&mut self, token: u32, words: &Words) {
        if self.reader.as_ref().is_some_and(Reader::is_reasoning) {
            self.thought.tokens += 1;
        }
        match self.gate {
            Gate::AtStart if words.opening_token() == Some(token) && self.reader.is_some() => {
                self.gate = Gate::AfterReasoning;
            }
            Gate::AtStart | Gate::Active => {
                self.gate = Gate::Active;
                if let Some(constraint) = &mut self.constraint {
                    constraint.advance(&[token]);
                }
            }
            Gate::AfterReasoning | Gate::InCalls => {}
        }
    }

    /// Adds an inserted token that closes the reasoning; no constraint applies to it.
    pub(super) fn add_closing_token(&mut self) {
        self.thought.tokens += 1;
    }

    /// Whether the reasoning has reached its budget.
    pub(super) fn exceeds_budget(&self) -> bool {
        let is_reasoning = self.reader.as_ref().is_some_and(Reader::is_reasoning);
        is_reasoning && self.budget.is_some_and(|budget| self.thought.tokens >= budget)
    }

    /// Reads the next text of the answer; adds messages to `out`.
    pub(super) fn read(
        &mut self,
        (call, answer): (u64, u32),
        text: String,
        scores: Vec<TokenScore>,
        words: &Words,
        out: &mut Vec<FromEngine>,
    ) {
        let Some(reader) = &mut self.reader else {
            if !text.is_empty() || !scores.is_empty() {
                out.push(FromEngine::Text { call, answer, part: Part::Answer, text, scores });
            }
            return;
        };
        let was_in_call = reader.is_in_call();
        let was_reasoning = reader.is_reasoning();
        let mut events = Vec::new();
        reader.push(&text, &mut events);
        let (in_call, is_reasoning) = (reader.is_in_call(), reader.is_reasoning());
        let begun = (in_call && !was_in_call).then(|| reader.call_text().to_owned());
        self.scores.extend(scores);
        self.pass_on(call, answer, events, out);
        if was_reasoning != is_reasoning {
            self.follow_reasoning(is_reasoning);
        }
        if let Some(text) = begun
            && self.gate == Gate::InCalls
        {
            self.begin_call(&text, words);
        }
    }

    /// Passes on the rest of the output, at its end.
    pub(super) fn finish(&mut self, (call, answer): (u64, u32), out: &mut Vec<FromEngine>) {
        let Some(reader) = &mut self.reader else { return };
        let mut events = Vec::new();
        reader.finish(&mut events);
        self.pass_on(call, answer, events, out);
        self.follow_reasoning(false);
        let scores = std::mem::take(&mut self.scores);
        if !scores.is_empty() {
            let text = String::new();
            out.push(FromEngine::Text { call, answer, part: Part::Answer, text, scores });
        }
    }

    fn follow_reasoning(&mut self, is_reasoning: bool) {
        if is_reasoning {
            self.thought.since = Some(Instant::now());
            if self.gate != Gate::InCalls {
                self.gate = Gate::AfterReasoning;
            }
        } else {
            if let Some(since) = self.thought.since.take() {
                self.thought.time += since.elapsed();
            }
            if self.gate == Gate::AfterReasoning {
                self.gate = Gate::Active;
            }
        }
    }

    /// Constrains the call that the model has begun, of which it has written `text` after the marker.
    fn begin_call(&mut self, text: &str, words: &Words) {
        let Some(mut constraint) = self.form.as_ref().and_then(|form| form.constraint()) else {
            return;
        };
        if !text.is_empty() {
            constraint.advance(&words.constraints.tokens_of(text));
        }
        self.constraint = Some(constraint);
        (self.gate, self.is_own_call) = (Gate::Active, true);
    }

    fn pass_on(&mut self, call: u64, answer: u32, events: Vec<Event>, out: &mut Vec<FromEngine>) {
        for event in events {
            let (part, text) = match event {
                Event::Call { index, name } => {
                    out.push(FromEngine::ToolCall { call, answer, index, name });
                    continue;
                }
                Event::Text(text) => (Part::Answer, text),
                Event::Reasoning(text) => (Part::Reasoning, text),
                Event::Arguments { index, text } => (Part::Arguments(index), text),
            };
            let scores = std::mem::take(&mut self.scores);
            out.push(FromEngine::Text { call, answer, part, text, scores });
        }
    }

    pub(super) fn thought(&self) -> Thought {
        self.thought
    }

    /// The text of a tool call up to where reading it stopped, if that happened.
    pub(super) fn stopped(&self) -> Option<&str> {
        self.reader.as_ref().and_then(Reader::failed)
    }

    /// Number of tool calls so far.
    pub(super) fn tool_calls(&self) -> u32 {
        self.reader.as_ref().map_or(0, Reader::calls)
    }
}
