//! What a call asks of an engine process, from the protocol's options.

use std::time::Duration;

use deft_protocol::chat::AnswerOptions;
use deft_protocol::engine::{CallOrder, Sampling};
use deft_protocol::{Problem, ProblemKind};
use uuid::Uuid;

use super::Question;

/// Longest list of stop texts.
const MAX_STOPS: usize = 16;
/// Most answers to one request.
const MAX_ANSWERS: u32 = 128;
/// Most alternatives per token.
const MAX_ALTERNATIVES: u32 = 20;

/// How long a caller waits for its model.
pub(super) fn deadline(seconds: f64) -> Result<Duration, Problem> {
    let wait = Duration::try_from_secs_f64(seconds).ok().filter(|wait| !wait.is_zero());
    wait.ok_or_else(|| {
        let what = format!("`wait_seconds` is {seconds}; write more than 0");
        Problem::new(ProblemKind::Invalid, "field_out_of_range", what).at_field("wait_seconds")
    })
}

/// Checks the number of answers of a request with `prompts` prompts.
///
/// # Errors
/// None, or too many.
pub(crate) fn check_answers(options: &AnswerOptions, prompts: usize) -> Result<(), Problem> {
    let invalid = |field: &str, what: String| {
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what).at_field(field))
    };
    let answers = options.n.unwrap_or(1);
    let all = u64::from(answers) * prompts as u64;
    match (answers, prompts) {
        (_, 0) => invalid("prompt", "`prompt` is an empty list".to_owned()),
        (0, _) => invalid("n", format!("`n` is 0; it must be from 1 to {MAX_ANSWERS}")),
        (_, 1) if all > u64::from(MAX_ANSWERS) => {
            invalid("n", format!("`n` is {answers}; it must be from 1 to {MAX_ANSWERS}"))
        }
        _ if all > u64::from(MAX_ANSWERS) => {
            let what = format!(
                "`prompt` has {prompts} entries and `n` is {answers}: that makes {all} answers, and at most \
                 {MAX_ANSWERS} are allowed in a request"
            );
            invalid("prompt", what)
        }
        _ => Ok(()),
    }
}

/// The engine's order from the protocol's options; names the first field that is out of range.
pub(super) fn order(question: Question, options: AnswerOptions) -> Result<CallOrder, Problem> {
    let invalid = |field: &str, what: String| {
        let what = format!("`{field}` {what}");
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what).at_field(field))
    };
    let answers = options.n.unwrap_or(1);
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
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what).at_field(field))
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
        overflow: options.when_context_full.unwrap_or_default(),
        guard: options.repetition_guard.unwrap_or(true),
        constraint: question.constraint,
        tools: question.tools,
        reasoning_budget: question.reasoning_budget,
        traced: false,
    })
}

#[cfg(test)]
mod tests {
    use deft_protocol::engine::Prompt;

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
        let biased = AnswerOptions { logit_bias: Some([(7, 101.0)].into()), ..options() };
        assert!(refuse(biased).contains("`logit_bias`"));
        assert!(refuse(AnswerOptions { min_p: Some(-0.1), ..options() }).contains("`min_p`"));
        let nan = AnswerOptions { temperature: Some(f32::NAN), ..options() };
        assert!(refuse(nan).contains("`temperature`"));
    }

    #[test]
    fn answers_of_a_request_are_counted_over_all_prompts() {
        let refused = |n: Option<u32>, prompts: usize| {
            check_answers(&AnswerOptions { n, ..AnswerOptions::default() }, prompts)
                .map_err(|problem| problem.field.unwrap())
        };
        assert_eq!(refused(None, 1), Ok(()));
        assert_eq!((refused(Some(128), 1), refused(Some(32), 4)), (Ok(()), Ok(())));
        assert_eq!(refused(Some(0), 1), Err("n".to_owned()));
        assert_eq!(refused(Some(129), 1), Err("n".to_owned()));
        assert_eq!(refused(Some(u32::MAX), usize::MAX >> 32), Err("prompt".to_owned()));
        assert_eq!(refused(Some(32), 5), Err("prompt".to_owned()));
        assert_eq!(refused(None, 0), Err("prompt".to_owned()));
    }

    fn asked(scores: Option<u32>) -> Question {
        Question { echo: true, scores, ..Prompt::Text("seed".to_owned()).into() }
    }

    #[test]
    fn what_is_asked_reaches_the_engine() {
        let options = AnswerOptions {
            n: Some(3),
            seed: Some(9),
            stop: Some(deft_protocol::chat::StopTexts::One("row".to_owned())),
            when_context_full: Some(deft_protocol::engine::WhenContextFull::LeaveOutOldest),
            repetition_guard: Some(false),
            ..AnswerOptions::default()
        };
        let order = order(asked(Some(4)), options).unwrap();
        assert_eq!((order.answers, order.scores, order.echo), (3, Some(4), true));
        assert_eq!((order.sampling.seed, order.stop), (9, vec!["row".to_owned()]));
        assert_eq!(order.overflow, deft_protocol::engine::WhenContextFull::LeaveOutOldest);
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
