//! The way of a call: find or load the model, take a seat, hand over, pass the answer on, and leave
//! one record.

use std::sync::Arc;
use std::time::Instant;

use chrono::{DateTime, Utc};
use deft_protocol::chat::{AnswerOptions, Figures, Usage};
use deft_protocol::engine::{CallOrder, EngineFigures, Prompt, Sampling};
use deft_protocol::manage::CallRecord;
use deft_protocol::{Problem, ProblemKind};
use uuid::Uuid;

use crate::fleet::Seat;
use crate::fleet::engine_link::{CallEvent, CallStream, engine_lost};
use crate::loads::Loads;
use crate::records::calls::Recorder;

/// Longest list of stop texts.
const MAX_STOPS: usize = 16;

/// Answers calls.
pub(crate) struct Gateway {
    pub(crate) loads: Arc<Loads>,
    pub(crate) recorder: Recorder,
}

/// A piece of an answer.
pub(crate) enum Piece {
    Text(String),
    Done(Usage, Figures),
    Failed(Problem),
}

impl Gateway {
    /// Begins an answer: the prompt was accepted when this returns.
    pub(crate) async fn answer(
        &self,
        model: &str,
        prompt: Prompt,
        options: AnswerOptions,
    ) -> Result<Answer, Problem> {
        let arrived = Arrival { clock: Instant::now(), at: Utc::now() };
        let order = order(prompt, options)?;
        let registered = self.loads.resolve(model)?;
        let seat = self.loads.seat(&registered).await?;
        let stream = seat.link.call(order);
        let mut answer = Answer {
            id: Uuid::now_v7(),
            arrived,
            prompt_tokens: 0,
            pieces: 0,
            first_text: None,
            recorded: false,
            recorder: self.recorder.clone(),
            seat,
            stream,
        };
        match answer.stream.next().await {
            Some(CallEvent::PromptTaken(tokens)) => {
                answer.prompt_tokens = tokens;
                Ok(answer)
            }
            Some(CallEvent::Failed(problem)) => {
                answer.record("failed", None);
                Err(problem)
            }
            _ => {
                answer.record("failed", None);
                Err(engine_lost(&answer.seat.name))
            }
        }
    }
}

struct Arrival {
    clock: Instant,
    at: DateTime<Utc>,
}

/// An answer under way. Dropping it cancels the call and leaves a record that says so.
pub(crate) struct Answer {
    pub(crate) id: Uuid,
    pub(crate) prompt_tokens: u32,
    arrived: Arrival,
    pieces: u32,
    first_text: Option<f64>,
    recorded: bool,
    recorder: Recorder,
    seat: Seat,
    stream: CallStream,
}

impl Answer {
    /// The variant that answers.
    pub(crate) fn model(&self) -> &str {
        &self.seat.name
    }

    /// When the call arrived, as Unix time.
    pub(crate) fn created(&self) -> i64 {
        self.arrived.at.timestamp()
    }

    fn elapsed(&self) -> f64 {
        self.arrived.clock.elapsed().as_secs_f64()
    }

    /// The next piece; `Done` and `Failed` are the last. Cancel safe.
    pub(crate) async fn next(&mut self) -> Piece {
        loop {
            match self.stream.next().await {
                Some(CallEvent::PromptTaken(tokens)) => self.prompt_tokens = tokens,
                Some(CallEvent::Text(text)) => {
                    let now = self.elapsed();
                    self.first_text.get_or_insert(now);
                    self.pieces += 1;
                    return Piece::Text(text);
                }
                Some(CallEvent::Done(figures)) => return self.done(&figures),
                Some(CallEvent::Failed(problem)) => {
                    self.record("failed", None);
                    return Piece::Failed(problem);
                }
                None => {
                    self.record("failed", None);
                    return Piece::Failed(engine_lost(&self.seat.name));
                }
            }
        }
    }

    /// The whole answer at once.
    pub(crate) async fn whole(&mut self) -> Result<(String, Usage, Figures), Problem> {
        let mut text = String::new();
        loop {
            match self.next().await {
                Piece::Text(piece) => text.push_str(&piece),
                Piece::Done(usage, figures) => return Ok((text, usage, figures)),
                Piece::Failed(problem) => return Err(problem),
            }
        }
    }

    fn done(&mut self, engine: &EngineFigures) -> Piece {
        let outcome = match engine.ended_by.finish_reason() {
            deft_protocol::chat::FinishReason::Stop => "stop",
            deft_protocol::chat::FinishReason::Length => "length",
        };
        self.record(outcome, Some(engine.answer_tokens));
        let total_seconds = self.elapsed();
        let rate = |tokens: u32, seconds: f64| {
            if tokens == 0 || seconds <= 0.0 { 0.0 } else { f64::from(tokens) / seconds }
        };
        let usage = Usage {
            prompt_tokens: engine.prompt_tokens,
            completion_tokens: engine.answer_tokens,
            total_tokens: engine.prompt_tokens + engine.answer_tokens,
        };
        let figures = Figures {
            ended_by: engine.ended_by,
            first_token_seconds: self.first_text.unwrap_or(total_seconds),
            load_seconds: self.seat.load_seconds,
            prompt_seconds: engine.prompt_seconds,
            prompt_rate: rate(engine.prompt_tokens, engine.prompt_seconds),
            answer_seconds: engine.answer_seconds,
            answer_rate: rate(engine.answer_tokens.saturating_sub(1), engine.answer_seconds),
            total_seconds,
            context: self.seat.context,
        };
        Piece::Done(usage, figures)
    }

    fn record(&mut self, outcome: &str, answer_tokens: Option<u32>) {
        if std::mem::replace(&mut self.recorded, true) {
            return;
        }
        self.recorder.record(CallRecord {
            id: self.id,
            name: self.seat.name.clone(),
            arrived_at: self.arrived.at,
            outcome: outcome.to_owned(),
            prompt_tokens: self.prompt_tokens,
            answer_tokens: answer_tokens.unwrap_or(self.pieces),
            first_token_seconds: self.first_text,
            total_seconds: self.elapsed(),
        });
    }
}

impl Drop for Answer {
    fn drop(&mut self) {
        self.record("cancelled", None);
    }
}

/// The engine's order from the protocol's options; names the first field that is out of range.
fn order(prompt: Prompt, options: AnswerOptions) -> Result<CallOrder, Problem> {
    let invalid = |field: &str, what: String| {
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", format!("`{field}` {what}")))
    };
    if options.n.is_some_and(|answers| answers != 1) {
        return invalid("n", "must be 1: several answers for one prompt are not supported".into());
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
        prompt,
        sampling,
        max_tokens: options.max_completion_tokens.or(options.max_tokens),
        stop,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_out_of_range_are_refused_with_the_fields_name() {
        let refuse = |options| order(Prompt::Text(String::new()), options).unwrap_err().detail;
        let options = AnswerOptions::default;
        assert!(
            refuse(AnswerOptions { temperature: Some(-1.0), ..options() })
                .contains("`temperature`")
        );
        assert!(refuse(AnswerOptions { top_p: Some(1.5), ..options() }).contains("`top_p`"));
        assert!(refuse(AnswerOptions { n: Some(2), ..options() }).contains("`n`"));
        let biased = AnswerOptions { logit_bias: Some([(7, 101.0)].into()), ..options() };
        assert!(refuse(biased).contains("`logit_bias`"));
        assert!(refuse(AnswerOptions { min_p: Some(-0.1), ..options() }).contains("`min_p`"));
        let nan = AnswerOptions { temperature: Some(f32::NAN), ..options() };
        assert!(refuse(nan).contains("`temperature`"));
    }

    #[test]
    fn the_newer_name_of_the_token_limit_wins() {
        let options = AnswerOptions {
            max_tokens: Some(5),
            max_completion_tokens: Some(7),
            ..AnswerOptions::default()
        };
        assert_eq!(order(Prompt::Text(String::new()), options).unwrap().max_tokens, Some(7));
    }
}
