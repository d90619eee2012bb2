//! From a call's prompt to tokens, and what is left out where the context cannot hold it.

use deft_protocol::engine::{CallOrder, Overflow, Prompt};
use serde_json::{Map, Value};

use super::CallError;
use crate::model::Model;
use crate::tokenizer::{Specials, StreamStart};

/// A call with its prompt in tokens; its answers share it.
pub(crate) struct Prepared {
    pub(crate) order: CallOrder,
    pub(crate) prompt: Vec<u32>,
    pub(super) start: StreamStart,
    /// Messages left out so far.
    pub(super) dropped: Vec<usize>,
}

/// Renders a call's prompt, cuts it into tokens, and checks that the context has room.
pub(crate) fn prepare(
    model: &Model,
    order: CallOrder,
    context: usize,
) -> Result<Prepared, CallError> {
    if model.shape().encoder {
        return Err(CallError::NoAnswers);
    }
    let start = match order.prompt {
        Prompt::Chat { .. } => StreamStart::Text,
        Prompt::Text(_) | Prompt::Raw(_) | Prompt::Tokens(_) => StreamStart::Continuation,
    };
    // What is left out makes it shorter.
    let most = (order.overflow == Overflow::End).then_some(context);
    let prompt = tokens(model, &order.prompt, &[], most)?;
    let mut prepared = Prepared { order, prompt, start, dropped: Vec::new() };
    if prepared.order.overflow == Overflow::DropOldest {
        let quarter = context / 4;
        let answer = prepared.order.max_tokens.map_or(quarter, |most| quarter.min(most as usize));
        prepared.make_room(model, context.saturating_sub(answer))?;
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
    /// Leaves out the oldest turns until the prompt has at most `most` tokens or nothing more can
    /// be left out. Says whether anything was.
    pub(super) fn make_room(&mut self, model: &Model, most: usize) -> Result<bool, CallError> {
        let before = self.dropped.len();
        while self.prompt.len() > most {
            let Prompt::Chat { messages, .. } = &self.order.prompt else { break };
            let turn = oldest_turn(messages, &self.dropped);
            if turn.is_empty() {
                break;
            }
            self.dropped.extend(turn);
            self.prompt = tokens(model, &self.order.prompt, &self.dropped, None)?;
        }
        Ok(self.dropped.len() > before)
    }
}

/// The oldest turn that is still there: a message that is no system text, and those after it up to
/// the next question. The last question with what follows it is never left out.
fn oldest_turn(messages: &[Map<String, Value>], dropped: &[usize]) -> Vec<usize> {
    let role = |at: usize| messages[at].get("role").and_then(Value::as_str).unwrap_or_default();
    let last_question = (0..messages.len()).rev().find(|&at| role(at) == "user").unwrap_or(0);
    let mut turn = Vec::new();
    for at in (0..last_question).filter(|at| !dropped.contains(at)) {
        match role(at) {
            "system" | "developer" => {}
            "user" if !turn.is_empty() => break,
            _ => turn.push(at),
        }
    }
    turn
}

/// A text of fewer bytes is never refused before it is cut into tokens: that takes no time.
const SHORT: usize = 1 << 16;

/// Refuses a text that cannot have room in `most` tokens whatever it says, before it is cut into tokens: that
/// would take seconds, in which nobody is answered.
fn within(model: &Model, bytes: usize, most: Option<usize>) -> Result<(), CallError> {
    let Some(context) = most.filter(|_| bytes > SHORT) else {
        return Ok(());
    };
    let least = model.tokenizer.least_tokens(bytes);
    if least > context { Err(CallError::FarTooLong { least, context }) } else { Ok(()) }
}

/// Tokens of a prompt without the messages that were left out. A text that cannot have room in `most` tokens
/// is refused at once, with the least that it has.
pub(super) fn tokens(
    model: &Model,
    prompt: &Prompt,
    dropped: &[usize],
    most: Option<usize>,
) -> Result<Vec<u32>, CallError> {
    let tokenizer = &model.tokenizer;
    match prompt {
        Prompt::Text(text) => {
            within(model, text.len(), most)?;
            Ok(tokenizer.encode_prompt(text, Specials::PlainText))
        }
        Prompt::Raw(text) => {
            within(model, text.len(), most)?;
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
                .filter(|(at, _)| !dropped.contains(at))
                .map(|(_, message)| message.clone())
                .collect();
            let pieces = model.template.render(&kept, tools.as_deref())?;
            within(model, pieces.iter().map(|piece| piece.text.len()).sum(), most)?;
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
        let mut dropped = Vec::new();
        let mut turns = Vec::new();
        loop {
            let turn = oldest_turn(&messages, &dropped);
            if turn.is_empty() {
                break;
            }
            dropped.extend(turn.clone());
            turns.push(turn);
        }
        assert_eq!(turns, [vec![1, 2], vec![3, 4, 5, 6]]);
        assert!(oldest_turn(&messages[..1], &[]).is_empty());
    }
}
