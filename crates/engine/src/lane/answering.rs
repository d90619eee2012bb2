//! One answer, from its prompt to its end.

use std::sync::Arc;
use std::time::Instant;

use deft_protocol::chat::EndedBy;
use deft_protocol::engine::{
    CallOrder, EngineFigures, FromEngine, Part, Prompt, TokenScore, TraceStep, WhenContextFull,
};

use super::guard::Guard;
use super::output::Output;
use super::prompt::Prepared;
use super::scores::{self, HeldScores};
use super::{CallError, Outcome, tracing};
use crate::cache::{KvCache, Sequence};
use crate::model::{Model, Words};
use crate::sampling::{NotFinite, Sampler};
use crate::stops::{Passed, Stops};
use crate::tokenizer::TextStream;

/// Most bytes of text, and most scores, in one message.
const TEXT_AT_ONCE: usize = 1 << 20;
const SCORES_AT_ONCE: usize = 256;

/// An answer that is being computed.
pub(crate) struct Answering {
    prepared: Arc<Prepared>,
    answer: u32,
    /// Prompt and answer.
    tokens: Vec<u32>,
    prompt_tokens: usize,
    answer_tokens: u32,
    reused: usize,
    /// Messages that were left out during the answer.
    dropped: usize,
    sampler: Sampler,
    stops: Stops,
    text: TextStream,
    output: Output,
    guard: Guard,
    held: HeldScores,
    /// Scores of the prompt's tokens, if they were requested.
    prompt_scores: Vec<TokenScore>,
    started: Instant,
    first_token: Option<Instant>,
}

impl Answering {
    /// Begins an answer after the cached part of its prompt.
    pub(super) fn begin(
        model: &Model,
        prepared: Arc<Prepared>,
        answer: u32,
        cache: &mut KvCache,
    ) -> (Self, Sequence) {
        let order = &prepared.order;
        let tokens = prepared.prompt.clone();
        let mut sampling = order.sampling.clone();
        sampling.seed = sampling.seed.wrapping_add(u64::from(answer));
        let mut new = Self {
            answer,
            prompt_tokens: tokens.len(),
            answer_tokens: 0,
            reused: 0,
            dropped: prepared.dropped.len(),
            sampler: Sampler::new(model.path(), sampling, &tokens),
            stops: Stops::new(order.stop.clone()),
            text: model.words.tokenizer.stream(prepared.start),
            output: Output::new(prepared.form.as_ref(), &model.words, order.reasoning_budget),
            guard: Guard::default(),
            held: HeldScores::default(),
            prompt_scores: Vec::new(),
            started: Instant::now(),
            first_token: None,
            tokens,
            prepared,
        };
        let sequence = new.take_up(cache);
        new.reused = sequence.length();
        (new, sequence)
    }

    /// A sequence with the cached part of the tokens. The last token is always computed, because its logits are needed; all
    /// tokens are computed if their scores have not been sent yet.
    pub(super) fn take_up(&mut self, cache: &mut KvCache) -> Sequence {
        self.prompt_scores.clear();
        let most = if self.scores_prompt() { 0 } else { self.tokens.len() - 1 };
        cache.begin(&self.tokens, most)
    }

    fn order(&self) -> &CallOrder {
        &self.prepared.order
    }

    /// Whether scores of the prompt's tokens are requested and not sent yet.
    fn scores_prompt(&self) -> bool {
        self.order().echo && self.order().scores.is_some() && !self.is_answering()
    }

    pub(super) fn tokens(&self) -> &[u32] {
        &self.tokens
    }

    /// Number of tokens that the answer may still have.
    pub(super) fn may_answer(&self) -> usize {
        let most = self.order().max_tokens.map_or(usize::MAX, |most| most as usize);
        most.saturating_sub(self.answer_tokens as usize)
    }

    /// Whether the prompt was processed, so that other answers can continue it.
    pub(crate) fn is_answering(&self) -> bool {
        self.answer_tokens > 0
    }

    /// Whether logits of all tokens are wanted, for a run that begins at this position.
    pub(super) fn wants_all(&self, start: usize) -> bool {
        self.scores_prompt() && start < self.prompt_tokens
    }

    /// Whether the answer needs no computing at all.
    pub(crate) fn needs_nothing(&self) -> bool {
        self.order().max_tokens == Some(0) && !self.scores_prompt()
    }

    /// Ends an answer that needs no computing.
    pub(crate) fn end_at_once(&mut self, model: &Model, out: &mut Vec<FromEngine>) {
        let text = self.echoed(&model.words);
        self.send(text, Vec::new(), out);
        self.done(EndedBy::TokenLimit, None, out);
    }

    /// Logits of the token at `position`.
    pub(crate) fn take(
        &mut self,
        words: &Words,
        position: usize,
        logits: &[f32],
        out: &mut Vec<FromEngine>,
    ) -> Result<Outcome, CallError> {
        if self.wants_all(position) {
            self.score_prompt(words, position, logits)?;
        }
        if position + 1 < self.tokens.len() {
            return Ok(Outcome::GoesOn);
        }
        if !self.is_answering() && self.order().echo {
            let text = self.echoed(words);
            let scores = std::mem::take(&mut self.prompt_scores);
            self.send(text, scores, out);
        }
        if self.order().max_tokens == Some(0) {
            self.done(EndedBy::TokenLimit, None, out);
            return Ok(Outcome::Done);
        }
        self.take_token(words, logits, out)
    }

    /// The text of the prompt, if the answer has to begin with it.
    fn echoed(&self, words: &Words) -> String {
        if !self.order().echo {
            return String::new();
        }
        match &self.order().prompt {
            Prompt::Text(text) | Prompt::Raw(text) | Prompt::Middle { before: text, .. } => {
                text.clone()
            }
            _ => words.tokenizer.decode(&self.prepared.prompt),
        }
    }

    fn score_prompt(
        &mut self,
        words: &Words,
        position: usize,
        logits: &[f32],
    ) -> Result<(), CallError> {
        if position == 0 {
            self.prompt_scores.push(scores::unscored(&words.tokenizer, self.tokens[0]));
        }
        if position + 1 < self.prompt_tokens {
            if !logits.iter().all(|logit| logit.is_finite()) {
                return Err(CallError::NotFinite { tokens: position + 1 });
            }
            let alternatives = self.order().scores.unwrap_or(0) as usize;
            let next = self.tokens[position + 1];
            self.prompt_scores.push(scores::score(&words.tokenizer, logits, next, alternatives));
        }
        Ok(())
    }

    fn take_token(
        &mut self,
        words: &Words,
        logits: &[f32],
        out: &mut Vec<FromEngine>,
    ) -> Result<Outcome, CallError> {
        let computed = self.tokens.len();
        let allowed = self.output.allowed(words)?;
        let token = self
            .sampler
            .choose(logits, allowed.as_ref())
            .map_err(|NotFinite| CallError::NotFinite { tokens: computed })?;
        self.first_token.get_or_insert_with(Instant::now);
        self.tokens.push(token);
        self.answer_tokens += 1;
        self.trace(token, words, out);
        if words.tokenizer.vocabulary().ends_answer(token) {
            self.finish(EndedBy::EndToken, None, words, out);
            return Ok(Outcome::Done);
        }
        self.output.add_token(token, words);
        let score = self.order().scores.map(|alternatives| {
            scores::score(&words.tokenizer, logits, token, alternatives as usize)
        });
        if self.pass_on(token, score, words, out) {
            return Ok(Outcome::Done);
        }
        if self.output.exceeds_budget() {
            for token in words.closing_tokens() {
                self.tokens.push(token);
                self.answer_tokens += 1;
                self.trace(token, words, out);
                self.output.add_closing_token();
                if self.pass_on(token, None, words, out) {
                    return Ok(Outcome::Done);
                }
            }
        }
        let repeats = if self.order().guard { self.guard.push(token) } else { None };
        if let Some(repetition) = repeats {
            self.finish(EndedBy::Repetition, Some(repetition.in_words()), words, out);
            return Ok(Outcome::Done);
        }
        if self.order().max_tokens.is_some_and(|most| self.answer_tokens >= most) {
            self.finish(EndedBy::TokenLimit, None, words, out);
            return Ok(Outcome::Done);
        }
        Ok(Outcome::GoesOn)
    }

    /// Passes on the text of a token; returns whether a stop text ended the answer.
    fn pass_on(
        &mut self,
        token: u32,
        score: Option<TokenScore>,
        words: &Words,
        out: &mut Vec<FromEngine>,
    ) -> bool {
        let piece = self.text.push(&self.output.bytes_of(token, words));
        self.held.push(score, piece.len());
        match self.stops.push(&piece) {
            Passed::On(text) => self.send_answer(text, words, out),
            Passed::Stopped(text, stop) => {
                self.send_answer(text, words, out);
                self.output.finish((self.order().call, self.answer), out);
                self.done(EndedBy::StopText, Some(stop), out);
                return true;
            }
        }
        false
    }

    /// Makes room for the next token. If the context is full, leaves out the oldest turns, or ends the answer.
    pub(crate) fn keep_within(
        &mut self,
        model: &Model,
        context: usize,
        sequence: &mut Sequence,
        cache: &mut KvCache,
        out: &mut Vec<FromEngine>,
    ) -> Result<Outcome, CallError> {
        if self.tokens.len() <= context {
            return Ok(Outcome::GoesOn);
        }
        if self.order().overflow == WhenContextFull::LeaveOutOldest
            && self.leave_out_oldest(model, context)?
        {
            cache.end(std::mem::take(sequence));
            *sequence = self.take_up(cache);
            return Ok(Outcome::GoesOn);
        }
        self.finish(EndedBy::ContextFull, None, &model.words, out);
        Ok(Outcome::Done)
    }

    /// Leaves out turns until a quarter of the context is free, if possible.
    fn leave_out_oldest(&mut self, model: &Model, context: usize) -> Result<bool, CallError> {
        let answer = self.tokens.split_off(self.tokens.len() - self.answer_tokens as usize);
        let prepared = &self.prepared;
        let mut shorter = Prepared {
            order: prepared.order.clone(),
            prompt: prepared.prompt.clone(),
            start: prepared.start,
            form: prepared.form.clone(),
            dropped: prepared.dropped.clone(),
            took: prepared.took,
        };
        let most = (context - context / 4).saturating_sub(answer.len());
        let dropped = shorter.make_room(&model.words, most)?;
        self.dropped = shorter.dropped.len();
        self.tokens.clone_from(&shorter.prompt);
        self.tokens.extend(answer);
        self.prepared = Arc::new(shorter);
        Ok(dropped && self.tokens.len() <= context)
    }

    /// Sends text and scores, in several messages if they are too long for one (an echoed prompt).
    fn send(&self, text: String, scores: Vec<TokenScore>, out: &mut Vec<FromEngine>) {
        let (call, answer) = (self.order().call, self.answer);
        let (mut text, mut scores) = (text, scores);
        while !text.is_empty() || !scores.is_empty() {
            let more_scores = scores.split_off(scores.len().min(SCORES_AT_ONCE));
            let more_text = text.split_off(text.floor_char_boundary(TEXT_AT_ONCE));
            out.push(FromEngine::Text { call, answer, part: Part::Answer, text, scores });
            (text, scores) = (more_text, more_scores);
        }
    }

    fn send_answer(&mut self, text: String, words: &Words, out: &mut Vec<FromEngine>) {
        let scores = self.held.send(text.len());
        self.output.read((self.prepared.order.call, self.answer), text, scores, words, out);
    }

    /// Sends the text that was held back (an incomplete character, the beginning of a stop text), and ends the answer.
    fn finish(
        &mut self,
        ended_by: EndedBy,
        detail: Option<String>,
        words: &Words,
        out: &mut Vec<FromEngine>,
    ) {
        let end = self.text.finish();
        let (text, ended_by, detail) = match self.stops.push(&end) {
            Passed::On(text) => (text + &self.stops.finish(), ended_by, detail),
            Passed::Stopped(text, stop) => (text, EndedBy::StopText, Some(stop)),
        };
        self.send_answer(text, words, out);
        self.output.finish((self.order().call, self.answer), out);
        if ended_by != EndedBy::StopText {
            let rest = self.held.rest();
            self.send(String::new(), rest, out);
        }
        self.done(ended_by, detail, out);
    }

    /// Reports a token of a traced call.
    fn trace(&self, token: u32, words: &Words, out: &mut Vec<FromEngine>) {
        if self.order().traced {
            out.push(tracing::output(self.order().call, self.answer, token, words));
        }
    }

    fn done(&self, ended_by: EndedBy, detail: Option<String>, out: &mut Vec<FromEngine>) {
        if self.order().traced
            && let Some(text) = self.output.stopped()
        {
            let step = TraceStep::Stopped(text.to_owned());
            out.push(FromEngine::Traced { call: self.order().call, answer: self.answer, step });
        }
        let first = self.first_token.unwrap_or_else(Instant::now);
        let count = |tokens: usize| u32::try_from(tokens).unwrap_or(u32::MAX);
        let figures = EngineFigures {
            ended_by,
            detail,
            cached_tokens: count(self.reused),
            left_out_messages: count(self.dropped),
            prompt_tokens: count(self.prompt_tokens),
            answer_tokens: self.answer_tokens,
            prepare_seconds: self.prepared.took.as_secs_f64(),
            prompt_seconds: first.duration_since(self.started).as_secs_f64(),
            answer_seconds: first.elapsed().as_secs_f64(),
            reasoning_tokens: self.output.thought().tokens,
            reasoning_seconds: self.output.thought().time.as_secs_f64(),
            tool_calls: self.output.tool_calls(),
        };
        out.push(FromEngine::Done { call: self.order().call, answer: self.answer, figures });
    }
}
