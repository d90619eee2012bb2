//! What is reported of a traced call.

use deft_protocol::engine::{FromEngine, TraceStep};

use super::prompt::Prepared;
use super::scores::token_text;
use super::tokenized::joined;
use crate::model::Words;

/// Most bytes of a text; of a longer one, the middle is left out.
const MAX_TEXT: usize = 512 << 10;

/// The prompt of a call, with what its answers are held to.
pub(crate) fn prompt(words: &Words, prepared: &Prepared) -> FromEngine {
    let form = prepared.form.as_deref();
    FromEngine::Traced {
        call: prepared.order.call,
        answer: 0,
        step: TraceStep::Prompt {
            text: shortened(joined(&words.tokenizer, &prepared.prompt)),
            constraint: form.and_then(|form| form.grammar()).map(shortened),
            call_form: form.and_then(|form| form.example()),
        },
    }
}

/// A token of an answer.
pub(super) fn output(call: u64, answer: u32, token: u32, words: &Words) -> FromEngine {
    let step = TraceStep::Output(token_text(&words.tokenizer, token).bytes);
    FromEngine::Traced { call, answer, step }
}

/// The text without its middle, if it is long.
fn shortened(text: String) -> String {
    if text.len() <= MAX_TEXT {
        return text;
    }
    let begin = text.floor_char_boundary(MAX_TEXT / 2);
    let end = text.floor_char_boundary(text.len() - MAX_TEXT / 2);
    let left_out = end - begin;
    format!("{}\n[{left_out} bytes left out]\n{}", &text[..begin], &text[end..])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_of_a_long_text_is_left_out() {
        assert_eq!(shortened("short".to_owned()), "short");
        let long = "é".repeat(MAX_TEXT);
        let short = shortened(long);
        assert!(short.len() < MAX_TEXT + 100 && short.contains("bytes left out"));
    }
}
