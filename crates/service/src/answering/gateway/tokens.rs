//! Tokens of a prompt. Such a call needs a loaded model but no lane. It is recorded only if it fails.

use deft_protocol::Problem;
use deft_protocol::chat::AnswerOptions;
use deft_protocol::engine::{ToEngine, TokenTexts, TokenizeOrder};

use super::{Gateway, Question, fits, order};
use crate::answering::board::Arrived;
use crate::fleet::Seat;
use crate::fleet::engine_link::CallEvent;

/// The tokens of a prompt, with the requested texts.
pub(crate) struct Tokens {
    pub(crate) model: String,
    pub(crate) tokens: Vec<u32>,
    pub(crate) texts: Vec<String>,
}

impl Gateway {
    /// Converts a prompt to tokens as a call would.
    pub(crate) async fn tokens(
        &self,
        call: Arrived,
        model: &str,
        mut question: Question,
        texts: TokenTexts,
    ) -> Result<Tokens, Problem> {
        let settings = self.meaning(model);
        let model = &settings.model;
        question.tools.example = settings.call_example;
        let of = order::order(question, AnswerOptions::default())?;
        let order = TokenizeOrder { of, texts };
        fits(&ToEngine::Tokenize(Box::new(order.clone())))?;
        let send = move |seat: &Seat| seat.link.tokenize(order.clone());
        let mut call = self.begin(call, model, 0, None, Box::new(send)).await?;
        let model = call.seat.name.clone();
        let mut all = Tokens { model, tokens: Vec::new(), texts: Vec::new() };
        loop {
            match call.event().await {
                Some(CallEvent::Tokenized { is_last, tokens, texts }) => {
                    // Some tokens have arrived, so the call cannot be retried.
                    call.again = None;
                    all.tokens.extend(tokens);
                    all.texts.extend(texts);
                    if is_last {
                        call.recorded.is_done = true;
                        return Ok(all);
                    }
                }
                other => return Err(call.failed(other)),
            }
        }
    }
}
