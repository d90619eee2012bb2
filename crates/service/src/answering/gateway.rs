//! Answering calls. A call finds or loads its model, waits for a lane (a *seat* at an instance), sends its order to the
//! engine process, passes the answer on piece by piece, and leaves one record.

mod embedding;
mod order;
mod several;
mod tokens;
mod unseated;

use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use deft_protocol::Problem;
use deft_protocol::chat::{AnswerOptions, Figures, FinishReason, PromptTokens, Usage};
use deft_protocol::engine::{
    Constraint, EngineFigures, Part, Prompt, ToEngine, TokenScore, ToolOrder, encode_frame,
};
use deft_protocol::manage::CallRecord;
use deft_protocol::manage::ProfileSettings;
use uuid::Uuid;

use crate::answering::board::{Arrived, Board, CALL_ENDED};
use crate::answering::profiles::Profiles;
use crate::fleet::engine_link::{CallEvent, CallStream, engine_lost, too_large};
use crate::fleet::{Asker, Fleet, Seat};
use crate::loading::loads::Loads;
use crate::loading::refusals;
use crate::observing::traces::{Growing, Traces};
use crate::records::calls::Recorder;
use crate::records::variants::Registered;
use crate::routes::readable;
pub(crate) use embedding::Embedded;
pub(crate) use order::check_answers;
use order::{deadline, order};
pub(crate) use several::{Answers, Begun};
pub(crate) use tokens::Tokens;
use unseated::Unseated;

/// What answering a call needs.
pub(crate) struct Gateway {
    pub(crate) loads: Arc<Loads>,
    pub(crate) recorder: Recorder,
    pub(crate) board: Board,
    pub(crate) traces: Arc<Traces>,
    pub(crate) profiles: Arc<Profiles>,
}

/// The content of a call, without the options that all calls have.
pub(crate) struct Question {
    pub(crate) prompt: Prompt,
    pub(crate) echo: bool,
    /// Report probabilities of tokens, with this number of alternatives.
    pub(crate) scores: Option<u32>,
    /// What the answer must match.
    pub(crate) constraint: Option<Constraint>,
    pub(crate) tools: ToolOrder,
    /// Most tokens of the reasoning.
    pub(crate) reasoning_budget: Option<u32>,
}

impl From<Prompt> for Question {
    fn from(prompt: Prompt) -> Self {
        Self {
            prompt,
            echo: false,
            scores: None,
            constraint: None,
            tools: ToolOrder::default(),
            reasoning_budget: None,
        }
    }
}

/// A piece of an answer.
pub(crate) enum Piece {
    Text {
        answer: u32,
        part: Part,
        text: String,
        scores: Vec<TokenScore>,
    },
    /// A tool call of an answer begins; its arguments follow as text.
    ToolCall {
        answer: u32,
        index: u32,
        name: String,
    },
    /// One of several answers is complete.
    Ended {
        answer: u32,
        figures: Figures,
    },
    /// All answers are complete.
    Done(Usage),
    Failed(Problem),
}

/// A complete answer.
#[derive(Default)]
pub(crate) struct Whole {
    pub(crate) text: String,
    pub(crate) reasoning: String,
    /// Name and arguments of each tool call.
    pub(crate) calls: Vec<(String, String)>,
    pub(crate) scores: Vec<TokenScore>,
    pub(crate) figures: Option<Figures>,
}

impl Gateway {
    /// Begins to answer a call. When it returns, the engine has accepted the prompt.
    pub(crate) async fn answer(
        &self,
        call: Arrived,
        model: &str,
        mut question: Question,
        options: AnswerOptions,
    ) -> Result<Answer, Problem> {
        let settings = self.meaning(model);
        let model = &settings.model;
        question.tools.example = settings.call_example;
        let release = options.unload_after.unwrap_or(false);
        let wait = options.wait_seconds.map(deadline).transpose()?;
        let user = options.user.clone();
        call.asks(caller_of(user), options.priority.unwrap_or_default());
        let mut order = order(question, options)?;
        let trace = Growing::of(&self.traces, &self.loads.resolve(model)?.name.to_string());
        order.traced = trace.is_some();
        fits(&ToEngine::Call(Box::new(order.clone())))?;
        let answers = order.answers;
        let send = move |seat: &Seat| seat.link.call(order.clone());
        let begun = self.begin(call, model, answers, wait, Box::new(send)).await;
        begun.map(|mut answer| {
            answer.seat.release = release;
            answer.recorded.is_traced = trace.is_some();
            answer.trace = trace;
            answer
        })
    }

    /// What a name of a model or a profile means.
    fn meaning(&self, name: &str) -> ProfileSettings {
        let of_model = || ProfileSettings { model: name.to_owned(), ..ProfileSettings::default() };
        self.profiles.find(name).map_or_else(of_model, |profile| profile.settings)
    }

    async fn begin(
        &self,
        call: Arrived,
        model: &str,
        answers: u32,
        wait: Option<Duration>,
        send: SendOrder,
    ) -> Result<Answer, Problem> {
        let registered = self.loads.resolve(model)?;
        call.meant(&registered.name.to_string());
        let asker = call.asker(answers, wait);
        let mut unseated = Unseated::new(&self.recorder, &call, &registered);
        let seat = tokio::select! {
            seat = self.loads.seat(&registered, &asker) => seat,
            problem = call.ended_by_operator() => Err(problem),
        };
        unseated.become_known(seat.as_ref().err());
        drop(unseated);
        let seat = seat?;
        let stream = send(&seat)?;
        let mut answer = Answer {
            usage: Usage::default(),
            first_text: vec![None; answers as usize],
            pieces: 0,
            trace: None,
            recorded: Recorded::default(),
            recorder: self.recorder.clone(),
            fleet: self.loads.fleet.clone(),
            again: Some(Again { loads: Arc::clone(&self.loads), registered, asker, send }),
            seeking: None,
            is_alone: false,
            seat,
            stream,
            call,
        };
        match answer.event().await {
            Some(CallEvent::PromptTaken(tokens)) => {
                answer.prompt_taken(tokens);
                Ok(answer)
            }
            other => Err(answer.failed(other)),
        }
    }
}

/// The caller's name, as the request gives it.
fn caller_of(user: Option<String>) -> Option<String> {
    user.map(|user| readable(&user)).filter(|user| !user.is_empty())
}

/// Refuses an order that is too large for the engine, before any work is done.
fn fits(order: &ToEngine) -> Result<(), Problem> {
    encode_frame(order).map(drop).map_err(|error| too_large(&error))
}

/// Sends an order to the engine process of a seat.
type SendOrder = Box<dyn Fn(&Seat) -> Result<CallStream, Problem>>;

/// A wait for a seat.
type Seeking = Pin<Box<dyn Future<Output = Result<Seat, Problem>>>>;

/// What a retry needs, if the engine process ends before any part of the answer was sent.
struct Again {
    loads: Arc<Loads>,
    registered: Arc<Registered>,
    asker: Asker,
    send: SendOrder,
}

/// Parts of a call's record.
#[derive(Default)]
struct Recorded {
    is_done: bool,
    is_traced: bool,
    has_calls: bool,
    detail: Option<String>,
    prompt_rate: Option<f64>,
    answer_rate: Option<f64>,
}

/// Tokens per second, if it can be computed.
fn rate(tokens: u32, seconds: f64) -> Option<f64> {
    (tokens > 0 && seconds > 0.0).then(|| f64::from(tokens) / seconds)
}

/// A call under way. Dropping it cancels the call and leaves a record that says so.
pub(crate) struct Answer {
    /// Token counts so far.
    usage: Usage,
    /// Seconds until the first text of each answer.
    first_text: Vec<Option<f64>>,
    pieces: u32,
    /// What is kept of it, if the operator traces calls of this model.
    trace: Option<Growing>,
    recorded: Recorded,
    recorder: Recorder,
    /// Set until a part of the answer has been sent.
    again: Option<Again>,
    /// Set while a retry waits for another seat.
    seeking: Option<(Seeking, SendOrder)>,
    /// Whether this is a retry, with no other call in the engine process.
    is_alone: bool,
    fleet: Fleet,
    seat: Seat,
    stream: CallStream,
    call: Arrived,
}

impl Answer {
    pub(crate) fn id(&self) -> Uuid {
        self.call.id()
    }

    /// The variant that answers.
    pub(crate) fn model(&self) -> &str {
        &self.seat.name
    }

    /// When the call arrived, as Unix time.
    pub(crate) fn created(&self) -> i64 {
        self.call.at().timestamp()
    }

    pub(crate) fn prompt_tokens(&self) -> u32 {
        self.usage.prompt_tokens
    }

    fn prompt_taken(&mut self, tokens: u32) {
        self.usage.prompt_tokens = tokens;
        self.call.has_lane(tokens);
    }

    /// The next event. If the engine process ends before a part of the answer was sent, the call is retried once, in
    /// another process. Cancel safe.
    async fn event(&mut self) -> Option<CallEvent> {
        loop {
            if let Some((seat, _)) = &mut self.seeking {
                let seat = tokio::select! {
                    seat = seat => seat,
                    problem = self.call.ended_by_operator() => Err(problem),
                };
                let (_, send) = self.seeking.take()?;
                match seat.and_then(|seat| self.ask(seat, &send)) {
                    Ok(()) => {}
                    Err(problem) => return Some(CallEvent::Failed(problem)),
                }
            }
            let event = tokio::select! {
                event = self.stream.next() => event,
                problem = self.call.ended_by_operator() => Some(CallEvent::Failed(problem)),
            };
            if event.is_none() && self.is_alone && self.pieces == 0 {
                // No other call was in the process, so this call ended it, for the second time.
                self.is_alone = false;
                let problem = self.blamed().await;
                return Some(CallEvent::Failed(problem));
            }
            let Some(again) = self.again.take_if(|_| event.is_none()) else { return event };
            tracing::warn!(
                "a call of `{}` is retried alone, because its engine process ended",
                self.model()
            );
            self.call.waits();
            let Again { loads, registered, asker, send } = again;
            // Alone, so that no other call is lost if this one ends the process again, and the cause is known.
            let alone = Asker { lanes: u32::MAX, ..asker };
            self.is_alone = true;
            // Stored, so that its deadline continues when this future is dropped and polled anew.
            let seat = Box::pin(async move { loads.seat(&registered, &alone).await });
            self.seeking = Some((seat, send));
        }
    }

    /// The refusal of a call that ended two engine processes.
    async fn blamed(&self) -> Problem {
        let problem = refusals::ends_engines(self.model());
        self.fleet.blame(self.seat.instance, &self.call.caller(), self.call.id()).await;
        problem
    }

    /// Sends the order to another seat.
    fn ask(&mut self, mut seat: Seat, send: &SendOrder) -> Result<(), Problem> {
        seat.release = self.seat.release;
        self.stream = send(&seat)?;
        self.seat = seat;
        Ok(())
    }

    /// The next piece; `Done` or `Failed` is the last one. Cancel safe.
    pub(crate) async fn next(&mut self) -> Piece {
        loop {
            if self.stream.has_ended() && self.seeking.is_none() {
                self.usage.total_tokens = self.usage.prompt_tokens + self.usage.completion_tokens;
                return Piece::Done(self.usage);
            }
            match self.event().await {
                Some(CallEvent::PromptTaken(tokens)) => self.prompt_taken(tokens),
                Some(CallEvent::Intake(done)) => self.call.took_in(done),
                Some(CallEvent::Paused) => self.call.paused(),
                Some(CallEvent::Traced { answer, step }) => {
                    if let Some(trace) = &mut self.trace {
                        trace.add(answer, step);
                    }
                }
                Some(CallEvent::Text { answer, part, text, scores }) => {
                    self.answered(answer);
                    return Piece::Text { answer, part, text, scores };
                }
                Some(CallEvent::ToolCall { answer, index, name }) => {
                    self.answered(answer);
                    return Piece::ToolCall { answer, index, name };
                }
                Some(CallEvent::Done { answer, figures }) => return self.ended(answer, figures),
                other => return Piece::Failed(self.failed(other)),
            }
        }
    }

    /// Notes a part of an answer.
    fn answered(&mut self, answer: u32) {
        let now = self.call.elapsed();
        self.call.answered();
        self.again = None;
        if let Some(first) = self.first_text.get_mut(answer as usize) {
            first.get_or_insert(now);
        }
        self.pieces += 1;
    }

    /// The problem of an event that ends a call without success; records the call.
    fn failed(&mut self, event: Option<CallEvent>) -> Problem {
        let is_ended =
            matches!(&event, Some(CallEvent::Failed(problem)) if problem.code == CALL_ENDED);
        let problem = match event {
            Some(CallEvent::Failed(problem)) => problem,
            _ => engine_lost(&self.seat.name),
        };
        self.recorded.detail = Some(problem.code.clone());
        self.record(if is_ended { "cancelled" } else { "failed" });
        problem
    }

    fn ended(&mut self, answer: u32, engine: EngineFigures) -> Piece {
        self.again = None;
        self.usage.completion_tokens += engine.answer_tokens;
        self.usage.completion_tokens_details.reasoning_tokens += engine.reasoning_tokens;
        self.recorded.has_calls |= engine.tool_calls > 0;
        let prompt = if answer == 0 { engine.prompt_tokens } else { 0 };
        let reused = if answer == 0 { engine.cached_tokens } else { 0 };
        self.seat.count(prompt, reused, engine.answer_tokens);
        if answer == 0 {
            let computed = engine.prompt_tokens.saturating_sub(engine.cached_tokens);
            let rest = engine.answer_tokens.saturating_sub(1);
            self.recorded.prompt_rate = rate(computed, engine.prompt_seconds);
            self.recorded.answer_rate = rate(rest, engine.answer_seconds);
            self.usage.prompt_tokens = engine.prompt_tokens;
            self.usage.prompt_tokens_details = PromptTokens { cached_tokens: engine.cached_tokens };
        }
        self.recorded.detail.clone_from(&engine.detail);
        if self.stream.has_ended() {
            self.record(match engine.ended_by.finish_reason() {
                FinishReason::Stop if self.recorded.has_calls => "tool_calls",
                FinishReason::Stop | FinishReason::ToolCalls => "stop",
                FinishReason::Length => "length",
            });
        }
        Piece::Ended { answer, figures: self.figures(answer, engine) }
    }

    fn figures(&self, answer: u32, engine: EngineFigures) -> Figures {
        let total_seconds = self.call.elapsed();
        let first_text = self.first_text.get(answer as usize).copied().flatten();
        let rate = |tokens, seconds| rate(tokens, seconds).unwrap_or(0.0);
        let computed = engine.prompt_tokens.saturating_sub(engine.cached_tokens);
        Figures {
            ended_by: engine.ended_by,
            detail: engine.detail,
            cached_tokens: engine.cached_tokens,
            left_out_messages: engine.left_out_messages,
            reasoning_tokens: engine.reasoning_tokens,
            reasoning_seconds: engine.reasoning_seconds,
            first_token_seconds: first_text.unwrap_or(total_seconds),
            load_seconds: self.seat.load_seconds,
            queue_seconds: self.seat.queue_seconds,
            prepare_seconds: engine.prepare_seconds,
            prompt_seconds: engine.prompt_seconds,
            prompt_rate: rate(computed, engine.prompt_seconds),
            answer_seconds: engine.answer_seconds,
            answer_rate: rate(engine.answer_tokens.saturating_sub(1), engine.answer_seconds),
            total_seconds,
            context: self.seat.context,
            traced: self.recorded.is_traced,
        }
    }

    fn record(&mut self, outcome: &str) {
        if std::mem::replace(&mut self.recorded.is_done, true) {
            return;
        }
        if let Some(trace) = self.trace.take() {
            let (name, arrived) = (self.seat.name.clone(), (self.call.at(), outcome));
            trace.keep(self.call.id(), name, self.call.caller(), arrived);
        }
        // For an incomplete answer, the number of pieces is the best count there is.
        let answered = self.usage.completion_tokens;
        let answer_tokens =
            if self.stream.is_complete() { answered } else { answered.max(self.pieces) };
        self.recorder.record(CallRecord {
            id: self.call.id(),
            name: self.seat.name.clone(),
            caller: self.call.caller(),
            arrived_at: self.call.at(),
            outcome: outcome.to_owned(),
            detail: self.recorded.detail.take(),
            prompt_tokens: self.usage.prompt_tokens,
            cached_tokens: self.usage.prompt_tokens_details.cached_tokens,
            answer_tokens,
            queue_seconds: self.seat.queue_seconds,
            first_token_seconds: self.first_text.iter().copied().flatten().reduce(f64::min),
            prompt_rate: self.recorded.prompt_rate,
            answer_rate: self.recorded.answer_rate,
            total_seconds: self.call.elapsed(),
        });
    }
}

impl Drop for Answer {
    fn drop(&mut self) {
        self.record("cancelled");
    }
}
