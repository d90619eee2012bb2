//! Embeddings.

use deft_protocol::chat::CallPriority;
use deft_protocol::engine::{EmbedOrder, Prompt, ToEngine};
use deft_protocol::{Problem, ProblemKind};

use super::{Gateway, caller_of, fits};
use crate::answering::board::Arrived;
use crate::fleet::Seat;
use crate::fleet::engine_link::CallEvent;

/// Most inputs of one call.
const MAX_INPUTS: usize = 2048;

/// Embeddings of all inputs.
pub(crate) struct Embedded {
    pub(crate) model: String,
    pub(crate) vectors: Vec<Vec<f32>>,
    pub(crate) tokens: u32,
}

impl Gateway {
    /// Computes embeddings of all inputs.
    pub(crate) async fn embed(
        &self,
        call: Arrived,
        model: &str,
        inputs: Vec<Prompt>,
        user: Option<String>,
    ) -> Result<Embedded, Problem> {
        call.asks(caller_of(user), CallPriority::default());
        if inputs.is_empty() || inputs.len() > MAX_INPUTS {
            let what =
                format!("`input` has {} entries; it must have 1 to {MAX_INPUTS}", inputs.len());
            let problem = Problem::new(ProblemKind::Invalid, "field_out_of_range", what);
            return Err(problem.at_field("input"));
        }
        let order = EmbedOrder { call: 0, inputs };
        fits(&ToEngine::Embed(order.clone()))?;
        let send = move |seat: &Seat| seat.link.embed(order.clone());
        let mut call = self.begin(call, model, 1, None, Box::new(send)).await?;
        let mut all = Vec::new();
        loop {
            match call.event().await {
                Some(CallEvent::Embedded { is_last, vectors, tokens }) => {
                    // Some vectors have arrived, so the call cannot be retried.
                    call.again = None;
                    all.extend(vectors);
                    if is_last {
                        call.seat.count(tokens, 0, 0);
                        call.record("stop");
                        let model = call.seat.name.clone();
                        return Ok(Embedded { model, vectors: all, tokens });
                    }
                }
                other => return Err(call.failed(other)),
            }
        }
    }
}
