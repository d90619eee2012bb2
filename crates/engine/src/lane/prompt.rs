//! Conversion of a call's prompt to tokens, and the turns to leave out if it does not fit the context.

use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_protocol::engine::{CallOrder, Prompt, ToolChoice, WhenContextFull};
use serde_json::{Map, Value};

use super::CallError;
use super::answer_form::{self, AnswerForm};
use super::told_tools;
use crate::families::Pooling;
use crate::model::Words;
use crate::tokenizer::{Specials, StreamStart};

/// A call with its prompt as tokens; the answers of the call share it.
pub(crate) struct Prepared {
    pub(crate) order: CallOrder,
    pub(crate) prompt: Vec<u32>,
    pub(super) start: StreamStart,
    /// The form of its answers; none if they are plain text.
    pub(super) form: Option<Arc<AnswerForm>>,
    /// Messages that were left out so far, in order.
    pub(super) dropped: Vec<usize>,
    /// How long that took.
    pub(super) took: Duration,
}

/// Renders the prompt of a call, converts it to tokens, and checks that it fits the context.
pub(crate) fn prepare(
    words: &Words,
    mut order: CallOrder,
    context: usize,
) -> Result<Prepared, CallError> {
    let began = Instant::now();
    if words.encoder {
        let only_ranks = matches!(words.pooling, Some(Pooling::Rank { .. }));
        return Err(if only_ranks { CallError::OnlyRanks } else { CallError::NoAnswers });
    }
    let form = AnswerForm::of(words, &order)?;
    complete(words, &mut order)?;
    let start = match order.prompt {
        Prompt::Chat { .. } => StreamStart::Text,
        Prompt::Text(_) | Prompt::Raw(_) | Prompt::Tokens(_) | Prompt::Middle { .. } => {
            StreamStart::Continuation
        }
    };
    // Leaving out turns makes the prompt shorter.
    let most = (order.overflow == WhenContextFull::Refuse).then_some(context);
    let prompt = tokens(words, &order.prompt, &[], most)?;
    let (dropped, took) = (Vec::new(), Duration::ZERO);
    let mut prepared = Prepared { order, prompt, start, form, dropped, took };
    if prepared.order.overflow == WhenContextFull::LeaveOutOldest {
        let quarter = context / 4;
        let answer = prepared.order.max_tokens.map_or(quarter, |most| quarter.min(most as usize));
        prepared.make_room(words, context.saturating_sub(answer))?;
    }
    prepared.took = began.elapsed();
    let tokens = prepared.prompt.len();
    match tokens {
        0 => Err(CallError::EmptyPrompt),
        // Without an answer, room for the prompt is enough.
        _ if tokens >= context && !(tokens == context && prepared.order.max_tokens == Some(0)) => {
            Err(CallError::TooLong { tokens, context })
        }
        _ => Ok(prepared),
    }
}

/// Gives a conversation the form that the template reads.
pub(super) fn complete(words: &Words, order: &mut CallOrder) -> Result<(), CallError> {
    let given = answer_form::given_form(words, order);
    let Prompt::Chat { messages, tools, arguments } = &mut order.prompt else { return Ok(()) };
    if order.tools.choice == ToolChoice::None {
        *tools = None;
    }
    match given {
        Some(form) => told_tools::tell(messages, tools.take().as_deref(), &form),
        None => answer_form::convert_calls(words, messages),
    }
    match arguments.keys().find(|name| !words.template.reads(name)) {
        Some(name) => Err(CallError::ArgumentNotRead { name: name.clone() }),
        None => Ok(()),
    }
}

impl Prepared {
    /// Leaves out as few of the oldest turns as necessary for a prompt of at most `most` tokens, or all that can be left out.
    /// Returns whether any was left out. It is a binary search, because each try renders the whole prompt.
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

/// The remaining turns, the oldest first: a message that is not a system message, and those after it up to the next user
/// message. The last user message and the messages after it are never left out. `dropped` is in order.
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

/// Texts with fewer bytes are not refused before they are converted to tokens, because that takes no time.
const SHORT: usize = 1 << 16;

/// Refuses a text that cannot fit `most` tokens whatever its words are, before it is converted to tokens, which would take
/// seconds.
fn within(words: &Words, bytes: usize, most: Option<usize>) -> Result<(), CallError> {
    let Some(context) = most.filter(|_| bytes > SHORT) else {
        return Ok(());
    };
    let least = words.tokenizer.least_tokens(bytes);
    if least > context { Err(CallError::FarTooLong { least, context }) } else { Ok(()) }
}

/// Tokens of a prompt without the messages that were left out (in order). A text that cannot fit `most` tokens is refused at
/// once, with the least number of tokens that it can have.
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
        Prompt::Middle { before, after, control_tokens } => {
            let marks = tokenizer.vocabulary().fill_in().ok_or(CallError::NoFillIn)?;
            within(words, before.len() + after.len(), most)?;
            let specials = if *control_tokens { Specials::Recognised } else { Specials::PlainText };
            Ok(tokenizer.encode_around(marks, [before, after], specials))
        }
        Prompt::Chat { messages, tools, arguments } => {
            let kept: Vec<_> = (0..)
                .zip(messages)
                .filter(|(at, _)| dropped.binary_search(at).is_err())
                .map(|(_, message)| message.clone())
                .collect();
            let pieces = words.template.render_with(&kept, tools.as_deref(), arguments)?;
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
