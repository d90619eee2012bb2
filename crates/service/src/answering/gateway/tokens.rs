//! Tokens of a prompt. Such a call needs a loaded model but no lane, and leaves no record.

use deft_protocol::Problem;
use deft_protocol::chat::AnswerOptions;
use deft_protocol::engine::{ToEngine, TokenText};

use super::{Gateway, Question, fits, order};
use crate::answering::board::Arrived;
use crate::fleet::Seat;
use crate::fleet::engine_link::CallEvent;

/// The tokens of a prompt, and the text of all.
pub(crate) struct Tokens {
    pub(crate) model: String,
    pub(crate) tokens: Vec<TokenText>,
    pub(crate) text: String,
}

impl Gateway {
    /// Converts a prompt to tokens as a call would.
    pub(crate) async fn tokens(
        &self,
        call: Arrived,
        model: &str,
        question: Question,
    ) -> Result<Tokens, Problem> {
        let order = order::order(question, AnswerOptions::default())?;
        fits(&ToEngine::Tokenize(Box::new(order.clone())))?;
        let send = move |seat: &Seat| seat.link.tokenize(order.clone());
        let mut call = self.begin(call, model, 0, None, Box::new(send)).await?;
        call.recorded.is_done = true;
        let mut all = Vec::new();
        loop {
            match call.event().await {
                Some(CallEvent::Tokenized { is_last, tokens, text }) => {
                    // Some tokens have arrived, so the call cannot be retried.
                    call.again = None;
                    all.extend(tokens);
                    if is_last {
                        return Ok(Tokens { model: call.seat.name.clone(), tokens: all, text });
                    }
                }
                other => return Err(call.failed(other)),
            }
        }
    }
}
