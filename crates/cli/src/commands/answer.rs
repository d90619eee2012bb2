//! What `ask` and `talk` share: options, streaming to the terminal, figures.

use deft_client::{AnswerStream, StreamedPiece};
use deft_protocol::chat::{AnswerOptions, EndedBy, Figures, StopTexts, StreamOptions, Usage};

use crate::arguments::Answering;
use crate::failure::Failure;
use crate::print;

/// The protocol's options of the command line's.
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
    pub(super) figures: Option<Figures>,
    pub(super) usage: Usage,
}

/// Takes an answer to its end, handing each piece of text to `show`.
pub(super) async fn take(
    mut stream: AnswerStream,
    mut show: impl FnMut(&str),
) -> Result<Answered, Failure> {
    let mut answered = Answered { text: String::new(), figures: None, usage: Usage::default() };
    while let Some(piece) = stream.next().await? {
        match piece {
            StreamedPiece::Text(text) => {
                show(&text);
                answered.text.push_str(&text);
            }
            StreamedPiece::Ended(figures) => answered.figures = Some(figures),
            StreamedPiece::Counted(usage) => answered.usage = usage,
        }
    }
    Ok(answered)
}

/// Says so where an answer was cut, and how to get more of it.
pub(super) fn note_if_cut(answered: &Answered) {
    let Some(figures) = &answered.figures else {
        return;
    };
    match figures.ended_by {
        EndedBy::EndToken | EndedBy::StopText => {}
        EndedBy::TokenLimit => print::note(format!(
            "note: the answer was cut at its limit of {} tokens; raise it with --max-tokens",
            answered.usage.completion_tokens
        )),
        EndedBy::ContextFull => print::note(format!(
            "note: the answer was cut, for the context of {} tokens is full; load the model with a \
             larger --context",
            figures.context
        )),
        EndedBy::Repetition => print::note(format!(
            "note: {}",
            figures.detail.as_deref().unwrap_or("the answer repeated itself and was ended")
        )),
    }
}

/// Says so where the oldest messages were left out to make room.
pub(super) fn note_if_shortened(answered: &Answered) {
    let dropped = answered.figures.as_ref().map_or(0, |figures| figures.dropped_messages);
    if dropped > 0 {
        print::note(format!(
            "note: the model saw this without the {dropped} oldest messages, for its context is full"
        ));
    }
}

fn load(seconds: f64) -> String {
    if seconds > 0.0 { print::seconds(seconds) } else { "none, it was loaded".to_owned() }
}

fn prompt(tokens: u32, figures: &Figures) -> String {
    let known = match figures.reused_tokens {
        0 => String::new(),
        known => format!(" ({known} known from before)"),
    };
    format!("{tokens} tokens{known}, {:.0} tokens/s", figures.prompt_rate)
}

/// Counts, rates and times of an answer.
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
