//! From a call's prompt to tokens, and what is left out where the context cannot hold it.

use deft_protocol::engine::{CallOrder, Prompt, WhenContextFull};
use serde_json::{Map, Value};

use super::CallError;
use crate::model::Words;
use crate::tokenizer::{Specials, StreamStart};

/// A call with its prompt in tokens; its answers share it.
pub(crate) struct Prepared {
    pub(crate) order: CallOrder,
    pub(crate) prompt: Vec<u32>,
    pub(super) start: StreamStart,
    /// Messages left out so far, in order.
    pub(super) dropped: Vec<usize>,
}

/// Renders a call's prompt, cuts it into tokens, and checks that the context has room.
pub(crate) fn prepare(
    words: &Words,
    order: CallOrder,
    context: usize,
) -> Result<Prepared, CallError> {
    if words.encoder {
        return Err(CallError::NoAnswers);
    }
    let start = match order.prompt {
        Prompt::Chat { .. } => StreamStart::Text,
        Prompt::Text(_) | Prompt::Raw(_) | Prompt::Tokens(_) => StreamStart::Continuation,
    };
    // What is left out makes it shorter.
    let most = (order.overflow == WhenContextFull::Refuse).then_some(context);
    let prompt = tokens(words, &order.prompt, &[], most)?;
    let mut prepared = Prepared { order, prompt, start, dropped: Vec::new() };
    if prepared.order.overflow == WhenContextFull::LeaveOutOldest {
        let quarter = context / 4;
        let answer = prepared.order.max_tokens.map_or(quarter, |most| quarter.min(most as usize));
        prepared.make_room(words, context.saturating_sub(answer))?;
    }
    let tokens = prepared.prompt.len();
    match tokens {
        0 => Err(CallError::EmptyPrompt),
        // Room for the prompt is enough where nothing is to be answered.
        _ if tokens >= context && !(tokens == context && prepared.order.max_tokens == Some(0)) => {
            Err(CallError::TooLong { tokens, context })
        }
        _ => Ok(prepared),
    }
}

impl Prepared {
    /// Leaves out as few of the oldest turns as are enough for the prompt to have at most `most` tokens, or all
    /// that can be left out. Says whether anything was. Each try writes the whole prompt, so they are few: it
    /// is searched by halves.
    pub(super) fn make_room(&mut self, words: &Words, most: usize) -> Result<bool, CallError> {
        let Prompt::Chat { messages, .. } = &self.order.prompt else { return Ok(false) };
        let turns = turns(messages, &self.dropped);
        if self.prompt.len() <= most || turns.is_empty() {
            return Ok(false);
        }
        let without = |count: usize| [&self.dropped[..], &turns[..count].concat()].concat();
        let (mut too_few, mut enough, mut shorter) = (0, turns.len(), None);
        while enough - too_few > 1 {
            let half = usize::midpoint(too_few, enough);
            let tried = tokens(words, &self.order.prompt, &without(half), None)?;
            if tried.len() <= most {
                (enough, shorter) = (half, Some(tried));
            } else {
                too_few = half;
            }
        }
        let dropped = without(enough);
        self.prompt = match shorter {
            Some(prompt) => prompt,
            None => tokens(words, &self.order.prompt, &dropped, None)?,
        };
        self.dropped = dropped;
        Ok(true)
    }
}

/// The turns that are still there, the oldest first: a message that is no system text, and those after it up
/// to the next question. The last question with what follows it is no such turn: it is never left out.
/// `dropped` is in order.
fn turns(messages: &[Map<String, Value>], dropped: &[usize]) -> Vec<Vec<usize>> {
    let role = |at: usize| messages[at].get("role").and_then(Value::as_str).unwrap_or_default();
    let last_question = (0..messages.len()).rev().find(|&at| role(at) == "user").unwrap_or(0);
    let mut turns: Vec<Vec<usize>> = Vec::new();
    for at in (0..last_question).filter(|at| dropped.binary_search(at).is_err()) {
        match (role(at), turns.last_mut()) {
            ("system" | "developer", _) => {}
            ("user", _) | (_, None) => turns.push(vec![at]),
            (_, Some(turn)) => turn.push(at),
        }
    }
    turns
}

/// A text of fewer bytes is never refused before it is cut into tokens: that takes no time.
const SHORT: usize = 1 << 16;

/// Refuses a text that cannot have room in `most` tokens whatever it says, before it is cut into tokens: that
/// would take seconds, in which nobody is answered.
fn within(words: &Words, bytes: usize, most: Option<usize>) -> Result<(), CallError> {
    let Some(context) = most.filter(|_| bytes > SHORT) else {
        return Ok(());
    };
    let least = words.tokenizer.least_tokens(bytes);
    if least > context { Err(CallError::FarTooLong { least, context }) } else { Ok(()) }
}

/// Tokens of a prompt without the messages that were left out, which are in order. A text that cannot have room
/// in `most` tokens is refused at once, with the least that it has.
pub(super) fn tokens(
    words: &Words,
    prompt: &Prompt,
    dropped: &[usize],
    most: Option<usize>,
) -> Result<Vec<u32>, CallError> {
    let tokenizer = &words.tokenizer;
    match prompt {
        Prompt::Text(text) => {
            within(words, text.len(), most)?;
            Ok(tokenizer.encode_prompt(text, Specials::PlainText))
        }
        Prompt::Raw(text) => {
            within(words, text.len(), most)?;
            Ok(tokenizer.encode_prompt(text, Specials::Recognised))
        }
        Prompt::Tokens(ids) => {
            let tokens = tokenizer.vocabulary().len();
            match ids.iter().find(|&&id| id as usize >= tokens) {
                Some(&id) => Err(CallError::NoToken { id, tokens }),
                None => Ok(ids.clone()),
            }
        }
        Prompt::Chat { messages, tools } => {
            let kept: Vec<_> = (0..)
                .zip(messages)
                .filter(|(at, _)| dropped.binary_search(at).is_err())
                .map(|(_, message)| message.clone())
                .collect();
            let pieces = words.template.render(&kept, tools.as_deref())?;
            within(words, pieces.iter().map(|piece| piece.text.len()).sum(), most)?;
            Ok(tokenizer.encode_rendered(&pieces))
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn the_oldest_turn_goes_first_and_system_text_and_last_question_stay() {
        let roles =
            ["system", "user", "assistant", "user", "assistant", "tool", "assistant", "user"];
        let messages: Vec<_> =
            roles.iter().map(|role| json!({"role": role}).as_object().unwrap().clone()).collect();
        assert_eq!(turns(&messages, &[]), [vec![1, 2], vec![3, 4, 5, 6]]);
        assert_eq!(turns(&messages, &[1, 2]), [vec![3, 4, 5, 6]]);
        assert!(turns(&messages, &[1, 2, 3, 4, 5, 6]).is_empty());
        assert!(turns(&messages[..1], &[]).is_empty());
    }
}
