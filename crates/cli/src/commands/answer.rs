//! Shared by `ask` and `talk`: options, streaming to the terminal, figures.

use deft_client::{AnswerStream, StreamedPiece};
use deft_protocol::chat::{AnswerOptions, EndedBy, Figures, StopTexts, StreamOptions, Usage};

use crate::arguments::Answering;
use crate::failure::Failure;
use crate::print;

/// The options of the protocol for those of the command line.
pub(super) fn options(answering: &Answering) -> AnswerOptions {
    AnswerOptions {
        temperature: answering.temperature,
        top_p: answering.top_p,
        top_k: answering.top_k,
        min_p: answering.min_p,
        repetition_penalty: answering.repetition_penalty,
        seed: answering.seed,
        max_tokens: answering.max_tokens,
        stop: (!answering.stop.is_empty()).then(|| StopTexts::Many(answering.stop.clone())),
        priority: answering.priority.map(Into::into),
        stream: Some(true),
        stream_options: Some(StreamOptions { include_usage: true }),
        ..AnswerOptions::default()
    }
}

/// An answer with its figures.
pub(super) struct Answered {
    pub(super) text: String,
    pub(super) reasoning: String,
    pub(super) figures: Option<Figures>,
    pub(super) usage: Usage,
}

/// Receives a whole answer, and passes each piece of text to `show`. With `reasoning`, the model's reasoning is noted line by
/// line; otherwise only its length is.
pub(super) async fn take(
    mut stream: AnswerStream,
    reasoning: bool,
    mut show: impl FnMut(&str),
) -> Result<Answered, Failure> {
    let mut answered = Answered {
        text: String::new(),
        reasoning: String::new(),
        figures: None,
        usage: Usage::default(),
    };
    let mut noted = 0;
    while let Some(piece) = stream.next().await? {
        match piece {
            StreamedPiece::Reasoning(text) => {
                answered.reasoning.push_str(&text);
                if reasoning {
                    noted += note_lines(&answered.reasoning[noted..]);
                }
            }
            StreamedPiece::Text(text) => {
                if reasoning {
                    note_rest(&answered.reasoning, &mut noted);
                }
                show(&text);
                answered.text.push_str(&text);
            }
            StreamedPiece::Ended(figures) => answered.figures = Some(figures),
            StreamedPiece::Counted(usage) => answered.usage = usage,
        }
    }
    // The reasoning may have been all of it.
    if reasoning {
        note_rest(&answered.reasoning, &mut noted);
    }
    Ok(answered)
}

/// Notes the reasoning after its first `noted` bytes, which were noted before.
fn note_rest(reasoning: &str, noted: &mut usize) {
    if let Some(rest) = reasoning.get(*noted..).filter(|rest| !rest.is_empty()) {
        print::note(format!("  {rest}"));
    }
    *noted = reasoning.len();
}

/// Notes the complete lines of a text; returns their bytes.
fn note_lines(text: &str) -> usize {
    let Some(end) = text.rfind('\n') else { return 0 };
    text[..end].lines().for_each(|line| print::note(format!("  {line}")));
    end + 1
}

/// Notes how long the model thought, if it did.
pub(super) fn note_reasoning(answered: &Answered) {
    let figures = answered.figures.as_ref().filter(|figures| figures.reasoning_tokens > 0);
    if let Some(figures) = figures {
        print::note(format!(
            "  thought for {} ({} tokens)",
            print::seconds(figures.reasoning_seconds),
            figures.reasoning_tokens
        ));
    }
}

/// Notes that an answer was cut short, and how to get more of it.
pub(super) fn note_if_cut(answered: &Answered) {
    let Some(figures) = &answered.figures else {
        return;
    };
    match figures.ended_by {
        EndedBy::EndToken | EndedBy::StopText => {}
        EndedBy::TokenLimit => print::note(format!(
            "note: the answer reached its limit of {} tokens; raise it with --max-tokens",
            answered.usage.completion_tokens
        )),
        EndedBy::ContextFull => print::note(format!(
            "note: the answer reached the end of the context of {} tokens; load the model with a larger \
             --context",
            figures.context
        )),
        EndedBy::Repetition => print::note(format!(
            "note: {}",
            figures.detail.as_deref().unwrap_or("the answer repeated itself and was ended")
        )),
    }
}

/// Notes that the oldest messages were left out.
pub(super) fn note_if_shortened(answered: &Answered) {
    let left_out = answered.figures.as_ref().map_or(0, |figures| figures.left_out_messages);
    if left_out > 0 {
        print::note(format!(
            "note: the {left_out} oldest messages were left out, because the context is full"
        ));
    }
}

fn load(seconds: f64) -> String {
    if seconds > 0.0 { print::seconds(seconds) } else { "already loaded".to_owned() }
}

fn prompt(tokens: u32, figures: &Figures) -> String {
    let cached = match figures.cached_tokens {
        0 => String::new(),
        cached => format!(" ({cached} cached)"),
    };
    format!("{tokens} tokens{cached}, {:.0} tokens/s", figures.prompt_rate)
}

/// Notes token counts, speed and times of an answer.
pub(super) fn note_figures(answered: &Answered) {
    let Some(figures) = &answered.figures else {
        return;
    };
    let Usage { prompt_tokens, completion_tokens, .. } = answered.usage;
    let rows = [
        ("prompt", prompt(prompt_tokens, figures)),
        ("answer", format!("{completion_tokens} tokens, {:.0} tokens/s", figures.answer_rate)),
        ("first token", print::seconds(figures.first_token_seconds)),
        ("load", load(figures.load_seconds)),
        ("total", print::seconds(figures.total_seconds)),
    ];
    for (name, value) in rows {
        print::note(format!("  {name:<13}{value}"));
    }
}
