//! The way of a call: find or load the model, take a seat, hand over, pass the answer on, and leave
//! one record.

use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use deft_protocol::chat::{
    AnswerOptions, CallPriority, Figures, FinishReason, PromptTokens, Usage,
};
use deft_protocol::engine::{CallOrder, EmbedOrder, EngineFigures, Prompt, Sampling, TokenScore};
use deft_protocol::manage::CallRecord;
use deft_protocol::{Problem, ProblemKind};
use uuid::Uuid;

use crate::board::{Arrived, Board, CALL_ENDED};
use crate::fleet::engine_link::{CallEvent, CallStream, engine_lost};
use crate::fleet::{Asker, Seat};
use crate::loads::Loads;
use crate::records::calls::Recorder;
use crate::records::variants::Registered;
use crate::routes::readable;

/// Longest list of stop texts.
const MAX_STOPS: usize = 16;
/// Most answers to one prompt.
const MAX_ANSWERS: u32 = 16;
/// Most alternatives told of each token.
const MAX_ALTERNATIVES: u32 = 20;
/// Most inputs of one call for embeddings.
const MAX_INPUTS: usize = 2048;

/// Answers calls.
pub(crate) struct Gateway {
    pub(crate) loads: Arc<Loads>,
    pub(crate) recorder: Recorder,
    pub(crate) board: Board,
}

/// What is asked for besides the options that all calls share.
pub(crate) struct Question {
    pub(crate) prompt: Prompt,
    pub(crate) echo: bool,
    /// Tell how likely tokens were, with so many alternatives.
    pub(crate) scores: Option<u32>,
}

impl From<Prompt> for Question {
    fn from(prompt: Prompt) -> Self {
        Self { prompt, echo: false, scores: None }
    }
}

/// A piece of what comes back.
pub(crate) enum Piece {
    Text {
        answer: u32,
        text: String,
        scores: Vec<TokenScore>,
    },
    /// One of the answers is complete.
    Ended {
        answer: u32,
        figures: Figures,
    },
    /// All are.
    Done(Usage),
    Failed(Problem),
}

/// One whole answer.
#[derive(Default)]
pub(crate) struct Whole {
    pub(crate) text: String,
    pub(crate) scores: Vec<TokenScore>,
    pub(crate) figures: Option<Figures>,
}

/// Embeddings of all inputs.
pub(crate) struct Embedded {
    pub(crate) model: String,
    pub(crate) vectors: Vec<Vec<f32>>,
    pub(crate) tokens: u32,
}

impl Gateway {
    /// Begins to answer: the prompt was accepted when this returns.
    pub(crate) async fn answer(
        &self,
        call: Arrived,
        model: &str,
        question: impl Into<Question>,
        options: AnswerOptions,
    ) -> Result<Answer, Problem> {
        let release = options.release.unwrap_or(false);
        let wait = options.wait_seconds.map(deadline).transpose()?;
        let user = options.user.clone();
        call.asks(caller_of(user), options.priority.unwrap_or_default());
        let order = order(question.into(), options)?;
        let answers = order.answers;
        let send = move |seat: &Seat| seat.link.call(order.clone());
        let begun = self.begin(call, model, answers, wait, Box::new(send)).await;
        begun.map(|mut answer| {
            answer.seat.release = release;
            answer
        })
    }

    /// Makes embeddings.
    pub(crate) async fn embed(
        &self,
        call: Arrived,
        model: &str,
        inputs: Vec<Prompt>,
        user: Option<String>,
    ) -> Result<Embedded, Problem> {
        call.asks(caller_of(user), CallPriority::default());
        if inputs.is_empty() || inputs.len() > MAX_INPUTS {
            let what = format!("`input` has {} entries; from 1 to {MAX_INPUTS}", inputs.len());
            return Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what));
        }
        let order = EmbedOrder { call: 0, inputs };
        let send = move |seat: &Seat| seat.link.embed(order.clone());
        let mut call = self.begin(call, model, 1, None, Box::new(send)).await?;
        match call.event().await {
            Some(CallEvent::Embedded { vectors, tokens }) => {
                call.seat.count(tokens, 0, 0);
                call.record("stop");
                Ok(Embedded { model: call.seat.name.clone(), vectors, tokens })
            }
            other => Err(call.failed(other)),
        }
    }

    async fn begin(
        &self,
        call: Arrived,
        model: &str,
        answers: u32,
        wait: Option<Duration>,
        send: Send,
    ) -> Result<Answer, Problem> {
        let registered = self.loads.resolve(model)?;
        call.meant(&registered.name.to_string());
        let asker = call.asker(answers, wait.is_some());
        let seat = tokio::select! {
            seat = self.loads.seat(&registered, &asker, wait) => seat,
            problem = call.ended_by_operator() => Err(problem),
        };
        let seat = seat.inspect_err(|problem| self.record_refused(&call, &registered, problem))?;
        let stream = send(&seat);
        let mut answer = Answer {
            usage: Usage::default(),
            first_text: vec![None; answers as usize],
            pieces: 0,
            recorded: Recorded::default(),
            recorder: self.recorder.clone(),
            again: Some(Again { loads: Arc::clone(&self.loads), registered, asker, send }),
            seeking: None,
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

impl Gateway {
    /// A call that found no seat leaves a record too.
    fn record_refused(&self, call: &Arrived, registered: &Registered, problem: &Problem) {
        let is_ended = problem.code == CALL_ENDED;
        self.recorder.record(CallRecord {
            id: call.id(),
            name: registered.name.to_string(),
            caller: call.caller(),
            arrived_at: call.at(),
            outcome: if is_ended { "cancelled" } else { "failed" }.to_owned(),
            detail: Some(problem.code.clone()),
            prompt_tokens: 0,
            reused_tokens: 0,
            answer_tokens: 0,
            queue_seconds: call.elapsed(),
            first_token_seconds: None,
            prompt_rate: None,
            answer_rate: None,
            total_seconds: call.elapsed(),
        });
    }
}

/// The name a caller gives itself.
fn caller_of(user: Option<String>) -> Option<String> {
    user.map(|user| readable(&user)).filter(|user| !user.is_empty())
}

/// Gives a call to the engine process of a seat.
type Send = Box<dyn Fn(&Seat) -> CallStream>;

/// A seat that is waited for.
type Seeking = Pin<Box<dyn Future<Output = Result<Seat, Problem>>>>;

/// What it takes to ask once more, where an engine process ended before anything was told.
struct Again {
    loads: Arc<Loads>,
    registered: Arc<Registered>,
    asker: Asker,
    send: Send,
}

/// How long a caller waits for its model.
fn deadline(seconds: f64) -> Result<Duration, Problem> {
    let wait = Duration::try_from_secs_f64(seconds).ok().filter(|wait| !wait.is_zero());
    wait.ok_or_else(|| {
        let what = format!("`wait_seconds` is {seconds}; write more than 0");
        Problem::new(ProblemKind::Invalid, "field_out_of_range", what)
    })
}

/// What goes into a call's record when it ends.
#[derive(Default)]
struct Recorded {
    is_done: bool,
    detail: Option<String>,
    prompt_rate: Option<f64>,
    answer_rate: Option<f64>,
}

/// Tokens in a second, where there is something to tell.
fn rate(tokens: u32, seconds: f64) -> Option<f64> {
    (tokens > 0 && seconds > 0.0).then(|| f64::from(tokens) / seconds)
}

/// A call under way. Dropping it cancels the call and leaves a record that says so.
pub(crate) struct Answer {
    /// Tokens so far.
    usage: Usage,
    /// Seconds to the first text of each answer.
    first_text: Vec<Option<f64>>,
    pieces: u32,
    recorded: Recorded,
    recorder: Recorder,
    /// As long as nothing was told.
    again: Option<Again>,
    /// Where the engine process ended, and another one is to be asked.
    seeking: Option<(Seeking, Send)>,
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

    /// How many answers come.
    pub(crate) fn answers(&self) -> usize {
        self.first_text.len()
    }

    /// When the call arrived, as Unix time.
    pub(crate) fn created(&self) -> i64 {
        self.call.at().timestamp()
    }

    fn prompt_taken(&mut self, tokens: u32) {
        self.usage.prompt_tokens = tokens;
        self.call.has_lane(tokens);
    }

    /// The next event. An engine process that ends before anything was told is replaced, once, by another
    /// one that is asked the same. Cancel safe.
    async fn event(&mut self) -> Option<CallEvent> {
        loop {
            if let Some((seat, _)) = &mut self.seeking {
                let seat = tokio::select! {
                    seat = seat => seat,
                    problem = self.call.ended_by_operator() => Err(problem),
                };
                let (_, send) = self.seeking.take()?;
                match seat {
                    Ok(seat) => self.ask(seat, &send),
                    Err(problem) => return Some(CallEvent::Failed(problem)),
                }
            }
            let event = tokio::select! {
                event = self.stream.next() => event,
                problem = self.call.ended_by_operator() => Some(CallEvent::Failed(problem)),
            };
            let Some(again) = self.again.take_if(|_| event.is_none()) else { return event };
            tracing::warn!(
                "a call of `{}` is asked once more: its engine process ended",
                self.model()
            );
            self.call.waits();
            let Again { loads, registered, asker, send } = again;
            // Kept, so that its deadline counts however often a caller is told that it waits.
            let seat = Box::pin(async move { loads.seat(&registered, &asker, None).await });
            self.seeking = Some((seat, send));
        }
    }

    /// Asks at another seat.
    fn ask(&mut self, mut seat: Seat, send: &Send) {
        seat.release = self.seat.release;
        self.stream = send(&seat);
        self.seat = seat;
    }

    /// The next piece; `Done` and `Failed` are the last. Cancel safe.
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
                Some(CallEvent::Text { answer, text, scores }) => {
                    let now = self.call.elapsed();
                    self.call.answered();
                    self.again = None;
                    if let Some(first) = self.first_text.get_mut(answer as usize) {
                        first.get_or_insert(now);
                    }
                    self.pieces += 1;
                    return Piece::Text { answer, text, scores };
                }
                Some(CallEvent::Done { answer, figures }) => return self.ended(answer, figures),
                other => return Piece::Failed(self.failed(other)),
            }
        }
    }

    /// All answers at once.
    pub(crate) async fn whole(&mut self) -> Result<(Vec<Whole>, Usage), Problem> {
        let mut all: Vec<Whole> = (0..self.answers()).map(|_| Whole::default()).collect();
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

    /// The problem of an event that ends a call otherwise than well.
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
        let prompt = if answer == 0 { engine.prompt_tokens } else { 0 };
        let reused = if answer == 0 { engine.reused_tokens } else { 0 };
        self.seat.count(prompt, reused, engine.answer_tokens);
        if answer == 0 {
            let computed = engine.prompt_tokens.saturating_sub(engine.reused_tokens);
            let rest = engine.answer_tokens.saturating_sub(1);
            self.recorded.prompt_rate = rate(computed, engine.prompt_seconds);
            self.recorded.answer_rate = rate(rest, engine.answer_seconds);
            self.usage.prompt_tokens = engine.prompt_tokens;
            self.usage.prompt_tokens_details = PromptTokens { cached_tokens: engine.reused_tokens };
        }
        self.recorded.detail.clone_from(&engine.detail);
        if self.stream.has_ended() {
            self.record(match engine.ended_by.finish_reason() {
                FinishReason::Stop => "stop",
                FinishReason::Length => "length",
            });
        }
        Piece::Ended { answer, figures: self.figures(answer, engine) }
    }

    fn figures(&self, answer: u32, engine: EngineFigures) -> Figures {
        let total_seconds = self.call.elapsed();
        let first_text = self.first_text.get(answer as usize).copied().flatten();
        let rate = |tokens, seconds| rate(tokens, seconds).unwrap_or(0.0);
        let computed = engine.prompt_tokens.saturating_sub(engine.reused_tokens);
        Figures {
            ended_by: engine.ended_by,
            detail: engine.detail,
            reused_tokens: engine.reused_tokens,
            dropped_messages: engine.dropped_messages,
            first_token_seconds: first_text.unwrap_or(total_seconds),
            load_seconds: self.seat.load_seconds,
            queue_seconds: self.seat.queue_seconds,
            prompt_seconds: engine.prompt_seconds,
            prompt_rate: rate(computed, engine.prompt_seconds),
            answer_seconds: engine.answer_seconds,
            answer_rate: rate(engine.answer_tokens.saturating_sub(1), engine.answer_seconds),
            total_seconds,
            context: self.seat.context,
        }
    }

    fn record(&mut self, outcome: &str) {
        if std::mem::replace(&mut self.recorded.is_done, true) {
            return;
        }
        // Of answers that were cut off, the pieces are what is known.
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
            reused_tokens: self.usage.prompt_tokens_details.cached_tokens,
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

/// The engine's order from the protocol's options; names the first field that is out of range.
fn order(question: Question, options: AnswerOptions) -> Result<CallOrder, Problem> {
    let invalid = |field: &str, what: String| {
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", format!("`{field}` {what}")))
    };
    let answers = options.n.unwrap_or(1);
    if !(1..=MAX_ANSWERS).contains(&answers) {
        return invalid("n", format!("is {answers}; from 1 to {MAX_ANSWERS}"));
    }
    if let Some(alternatives) = question.scores.filter(|&count| count > MAX_ALTERNATIVES) {
        let what = format!("asks for {alternatives} alternatives; at most {MAX_ALTERNATIVES}");
        return invalid("logprobs", what);
    }
    let within = |field: &str, given: Option<f32>, default: f32, least: f32, most: f32| {
        let value = given.unwrap_or(default);
        if (least..=most).contains(&value) {
            return Ok(value);
        }
        let what = format!("`{field}` is {value}; from {least} to {most}");
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what))
    };
    let logit_bias: Vec<(u32, f32)> = options.logit_bias.into_iter().flatten().collect();
    for (_, bias) in &logit_bias {
        within("logit_bias", Some(*bias), 0.0, -100.0, 100.0)?;
    }
    let sampling = Sampling {
        temperature: within("temperature", options.temperature, 1.0, 0.0, 10.0)?,
        top_k: options.top_k.unwrap_or(0),
        top_p: within("top_p", options.top_p, 1.0, 0.0, 1.0)?,
        min_p: within("min_p", options.min_p, 0.0, 0.0, 1.0)?,
        repetition_penalty: within(
            "repetition_penalty",
            options.repetition_penalty,
            1.0,
            0.1,
            10.0,
        )?,
        presence_penalty: within("presence_penalty", options.presence_penalty, 0.0, -2.0, 2.0)?,
        frequency_penalty: within("frequency_penalty", options.frequency_penalty, 0.0, -2.0, 2.0)?,
        logit_bias,
        seed: options.seed.unwrap_or_else(|| Uuid::new_v4().as_u64_pair().0),
    };
    let stop = options.stop.map_or_else(Vec::new, |stop| stop.into_list());
    if stop.len() > MAX_STOPS {
        return invalid("stop", format!("has {} texts; at most {MAX_STOPS}", stop.len()));
    }
    Ok(CallOrder {
        call: 0,
        prompt: question.prompt,
        sampling,
        max_tokens: options.max_completion_tokens.or(options.max_tokens),
        stop,
        answers,
        echo: question.echo,
        scores: question.scores,
        overflow: options.context_overflow.unwrap_or_default(),
        guard: options.repetition_guard.unwrap_or(true),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_out_of_range_are_refused_with_the_fields_name() {
        let refuse =
            |options| order(Prompt::Text(String::new()).into(), options).unwrap_err().detail;
        let options = AnswerOptions::default;
        assert!(
            refuse(AnswerOptions { temperature: Some(-1.0), ..options() })
                .contains("`temperature`")
        );
        assert!(refuse(AnswerOptions { top_p: Some(1.5), ..options() }).contains("`top_p`"));
        assert!(refuse(AnswerOptions { n: Some(0), ..options() }).contains("`n`"));
        assert!(refuse(AnswerOptions { n: Some(17), ..options() }).contains("`n`"));
        let biased = AnswerOptions { logit_bias: Some([(7, 101.0)].into()), ..options() };
        assert!(refuse(biased).contains("`logit_bias`"));
        assert!(refuse(AnswerOptions { min_p: Some(-0.1), ..options() }).contains("`min_p`"));
        let nan = AnswerOptions { temperature: Some(f32::NAN), ..options() };
        assert!(refuse(nan).contains("`temperature`"));
    }

    fn asked(scores: Option<u32>) -> Question {
        Question { prompt: Prompt::Text("seed".to_owned()), echo: true, scores }
    }

    #[test]
    fn what_is_asked_reaches_the_engine() {
        let options = AnswerOptions {
            n: Some(3),
            seed: Some(9),
            stop: Some(deft_protocol::chat::StopTexts::One("row".to_owned())),
            context_overflow: Some(deft_protocol::engine::Overflow::DropOldest),
            repetition_guard: Some(false),
            ..AnswerOptions::default()
        };
        let order = order(asked(Some(4)), options).unwrap();
        assert_eq!((order.answers, order.scores, order.echo), (3, Some(4), true));
        assert_eq!((order.sampling.seed, order.stop), (9, vec!["row".to_owned()]));
        assert_eq!(order.overflow, deft_protocol::engine::Overflow::DropOldest);
        assert!(!order.guard);
    }

    #[test]
    fn nothing_asked_means_the_models_own_distribution() {
        let order = order(asked(None), AnswerOptions::default()).unwrap();
        let Sampling { temperature, top_k, top_p, min_p, repetition_penalty, .. } = order.sampling;
        assert_eq!((temperature, top_k, top_p, min_p, repetition_penalty), (1.0, 0, 1.0, 0.0, 1.0));
        assert!(order.guard && order.max_tokens.is_none());
        assert_eq!(order.answers, 1);
    }

    #[test]
    fn lists_that_are_too_long_are_refused() {
        let stops = (0..17).map(|at| format!("stop {at}")).collect();
        let options = AnswerOptions {
            stop: Some(deft_protocol::chat::StopTexts::Many(stops)),
            ..AnswerOptions::default()
        };
        let problem = order(asked(None), options).unwrap_err();
        assert!(problem.detail.contains("`stop` has 17 texts; at most 16"), "{problem}");
        let problem = order(asked(Some(21)), AnswerOptions::default()).unwrap_err();
        assert!(problem.detail.contains("`logprobs` asks for 21"), "{problem}");
    }

    #[test]
    fn the_newer_name_of_the_token_limit_wins() {
        let options = AnswerOptions {
            max_tokens: Some(5),
            max_completion_tokens: Some(7),
            ..AnswerOptions::default()
        };
        assert_eq!(order(Prompt::Text(String::new()).into(), options).unwrap().max_tokens, Some(7));
    }
}
