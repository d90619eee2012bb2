//! Embeddings of a call's inputs, or their relevance to a query, one after the other.

use std::collections::VecDeque;

use deft_protocol::engine::{EmbedOrder, EmbedTask, FromEngine, Prompt};

use super::{CallError, Outcome, prompt};
use crate::cache::{KvCache, Sequence};
use crate::families::{Network, Pooling};
use crate::model::Words;

/// Approximate bytes of a message with embeddings.
const MESSAGE_BYTES: usize = 4 << 20;
/// Approximate largest number of bytes of a written value.
const VALUE_BYTES: usize = 16;

/// What becomes of the states of an input.
enum Task {
    /// Its embedding is kept, with this many of its values.
    Embed(Option<usize>),
    /// Its embedding is compared with that of the first input, the query.
    Compare,
    /// The head of a cross-encoder scores it; it is a pair of the query and a document.
    Score,
}

/// Embeddings that are being computed.
pub(crate) struct Embedding {
    call: u64,
    task: Task,
    pooling: Pooling,
    encoder: bool,
    width: usize,
    /// Remaining inputs; the first one is being processed.
    inputs: VecDeque<Vec<u32>>,
    /// States of the input's tokens so far, if they are needed.
    states: Vec<f32>,
    vectors: Vec<Vec<f32>>,
    tokens: usize,
}

impl Embedding {
    /// Converts the inputs to tokens, and checks that each fits the context. Documents for a cross-encoder become pairs with
    /// the query; other models get the query as the first input.
    pub(crate) fn new(
        words: &Words,
        order: &EmbedOrder,
        context: usize,
    ) -> Result<Self, CallError> {
        let pooling = words.pooling.ok_or(CallError::NoEmbeddings)?;
        let (task, first) = match (&order.task, pooling) {
            (EmbedTask::Rank { query }, Pooling::Rank { scores: 1 }) => (Task::Score, Some(query)),
            (_, Pooling::Rank { scores: scores @ 2.. }) => {
                return Err(CallError::Classes { scores });
            }
            (EmbedTask::Embed { .. }, Pooling::Rank { .. }) => return Err(CallError::OnlyRanks),
            (EmbedTask::Rank { query }, _) => (Task::Compare, Some(query)),
            (EmbedTask::Embed { dimensions }, _) => {
                (Task::Embed(dimensions.map(|count| count as usize)), None)
            }
        };
        let convert = |input: &Prompt| prompt::tokens(words, input, &[], Some(context));
        let fits = |tokens: Vec<u32>| match tokens.len() {
            0 => Err(CallError::EmptyPrompt),
            length if length > context => Err(CallError::TooLong { tokens: length, context }),
            _ => Ok(tokens),
        };
        let mut query = first.map(|text| convert(&Prompt::Text(text.clone()))).transpose()?;
        let mut inputs = VecDeque::new();
        if matches!(task, Task::Compare) {
            inputs.extend(query.take().map(fits).transpose()?);
        }
        for input in &order.inputs {
            let tokens = convert(input)?;
            inputs.push_back(fits(match &query {
                // The marker at the beginning of the document is left out.
                Some(query) => [query, tokens.get(1..).unwrap_or_default()].concat(),
                None => tokens,
            })?);
        }
        if inputs.is_empty() {
            return Err(CallError::EmptyPrompt);
        }
        Ok(Self {
            call: order.call,
            task,
            pooling,
            encoder: words.encoder,
            width: words.width as usize,
            tokens: inputs.iter().map(Vec::len).sum(),
            inputs,
            states: Vec::new(),
            vectors: Vec::new(),
        })
    }

    /// Number of tokens of all inputs.
    pub(crate) fn token_count(&self) -> u32 {
        u32::try_from(self.tokens).unwrap_or(u32::MAX)
    }

    /// The input that is being processed.
    pub(super) fn tokens(&self) -> &[u32] {
        self.inputs.front().map_or(&[], Vec::as_slice)
    }

    pub(super) fn wants_all(&self) -> bool {
        self.pooling != Pooling::Last
    }

    /// Whether another sequence could continue from the computed tokens. With an encoder, none can.
    pub(super) fn is_reusable(&self) -> bool {
        !self.encoder
    }

    pub(super) fn begin(&self, cache: &mut KvCache) -> Sequence {
        let tokens = self.tokens();
        let most = if self.wants_all() || self.encoder { 0 } else { tokens.len() - 1 };
        cache.begin(tokens, most)
    }

    /// Ends its sequence. An input that was not processed completely begins again.
    pub(super) fn leave(&mut self, sequence: Sequence, cache: &mut KvCache) {
        self.states.clear();
        if self.is_reusable() {
            cache.end(sequence);
        } else {
            cache.discard(sequence);
        }
    }

    /// Sends all embeddings, in several messages if they are too long for one.
    fn send(&mut self, out: &mut Vec<FromEngine>) {
        let (call, tokens) = (self.call, self.token_count());
        let at_once = (MESSAGE_BYTES / (self.width.max(1) * VALUE_BYTES)).max(1);
        let mut left = std::mem::take(&mut self.vectors);
        if let Task::Compare = self.task {
            let query = left.remove(0);
            left = left.iter().map(|document| vec![product(&query, document)]).collect();
        }
        while !left.is_empty() {
            let more = left.split_off(left.len().min(at_once));
            let vectors = std::mem::replace(&mut left, more);
            let is_last = left.is_empty();
            out.push(FromEngine::Embedded { call, is_last, vectors, tokens });
        }
    }

    /// Adds states of tokens of the input. After the last token, pools them and begins the next input.
    pub(crate) fn take(
        &mut self,
        states: &[f32],
        network: &dyn Network,
        sequence: &mut Sequence,
        cache: &mut KvCache,
        out: &mut Vec<FromEngine>,
    ) -> Result<Outcome, CallError> {
        self.states.extend_from_slice(states);
        if sequence.length() < self.tokens().len() {
            return Ok(Outcome::GoesOn);
        }
        let embedding = |dimensions| self.pooling.embedding(&self.states, self.width, dimensions);
        let vector = match self.task {
            Task::Embed(dimensions) => embedding(dimensions),
            Task::Compare => embedding(None),
            Task::Score => {
                network.scores(&self.states[..self.width]).into_iter().map(logistic).collect()
            }
        };
        if !vector.iter().all(|value| value.is_finite()) {
            return Err(CallError::NotFinite { tokens: sequence.length() });
        }
        self.vectors.push(vector);
        self.states.clear();
        self.inputs.pop_front();
        if self.inputs.is_empty() {
            self.send(out);
            return Ok(Outcome::Done);
        }
        self.leave(std::mem::take(sequence), cache);
        *sequence = self.begin(cache);
        Ok(Outcome::GoesOn)
    }
}

/// Product of two vectors of length 1: the cosine of their angle.
#[expect(clippy::cast_possible_truncation, reason = "summed in f64, returned as f32")]
fn product(one: &[f32], other: &[f32]) -> f32 {
    let products = one.iter().zip(other).map(|(&one, &other)| f64::from(one) * f64::from(other));
    products.sum::<f64>() as f32
}

/// The probability of a score, as cross-encoders are trained.
fn logistic(score: f32) -> f32 {
    1.0 / (1.0 + (-score).exp())
}
