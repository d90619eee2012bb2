//! Parts that families share: working space, rotary embedding, attention.

use std::ops::Range;
use std::time::Duration;

use deft_kernels::{Activations, Attention, Look, Path, SpanSums, attend, in_large_pages};
use deft_planning::ModelShape;

use super::feed_forward::Routing;
use super::rotary::{Angle, Rotary};
use crate::baton::Baton;
use crate::cache::{Sequence, Store};
use crate::compute::Compute;

/// Shorter waits are not worth a system call.
const WORTH_WAITING: Duration = Duration::from_micros(50);

/// Which tokens of a run are asked for: their hidden states are kept, for logits or embeddings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// None: more of the prompt follows.
    None,
    /// The last token.
    Last,
    /// Every token.
    All,
}

/// One sequence's share of a step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Run<'a> {
    /// What it holds so far; there is room for the tokens.
    pub(crate) sequence: &'a Sequence,
    /// The next tokens.
    pub(crate) tokens: &'a [u32],
    /// Which of them are asked for.
    pub(crate) wanted: Wanted,
}

impl Wanted {
    /// How many of so many tokens are asked for.
    pub(crate) fn rows(self, tokens: usize) -> usize {
        match self {
            Self::None => 0,
            Self::Last => 1,
            Self::All => tokens,
        }
    }
}

impl Run<'_> {
    /// Number of tokens asked for.
    pub(super) fn wanted_rows(&self) -> usize {
        self.wanted.rows(self.tokens.len())
    }
}

/// Where a token of a step belongs.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    pub(super) run: usize,
    pub(super) position: usize,
}

/// Working space of a step, reused from step to step.
#[derive(Default)]
pub(crate) struct Workspace {
    /// Logits, `rows asked for x vocabulary`.
    pub(crate) logits: Vec<f32>,
    /// Hidden states of the tokens asked for after the last norm, `tokens x width`, run by run.
    pub(crate) wanted: Vec<f32>,
    pub(super) places: Vec<Place>,
    pub(super) state: Vec<f32>,
    pub(super) normed: Vec<f32>,
    pub(super) queries: Vec<f32>,
    pub(super) keys: Vec<f32>,
    pub(super) values: Vec<f32>,
    pub(super) heads: Vec<f32>,
    pub(super) gate: Vec<f32>,
    pub(super) up: Vec<f32>,
    pub(super) scratch: Vec<f32>,
    pub(super) activations: Activations,
    pub(super) turns: Vec<Turns>,
    /// What each token of a step looks at, layer by layer.
    pub(super) looks: Vec<Look>,
    /// Sums of spans that threads share out.
    pub(super) spans: SpanSums,
    pub(super) routing: Routing,
    /// The permission to compute, where others compute too.
    pub(crate) baton: Option<Baton>,
}

/// How far the heads of a step's tokens are turned, `tokens x pairs`; layers of a kind share it.
#[derive(Default)]
pub(super) struct Turns(Vec<Angle>);

impl Turns {
    /// The angles of all tokens of a step.
    pub(super) fn set(&mut self, rotary: &Rotary, places: &[Place]) {
        let pairs = rotary.pairs();
        self.0.resize(places.len() * pairs, Angle::default());
        for (place, angles) in places.iter().zip(self.0.chunks_mut(pairs.max(1))) {
            rotary.angles(place.position, angles);
        }
    }

    /// Turns every head of each row by the row's position.
    pub(super) fn turn(
        &self,
        compute: &Compute,
        rotary: &Rotary,
        rows: &mut [f32],
        head_length: usize,
        tokens: usize,
    ) {
        let pairs = rotary.pairs();
        let length = rows.len() / tokens;
        compute.team.rows(rows, length, grain(length), |token, row| {
            rotary.turn(row, head_length, &self.0[token * pairs..][..pairs]);
        });
    }
}

/// Rows of a length that a thread takes at a time where little is done with each value: below 8,192 values
/// handing out work costs more than it saves.
pub(super) fn grain(length: usize) -> usize {
    8192_usize.div_ceil(length.max(1))
}

impl Workspace {
    /// Space on a path for steps of up to `tokens` tokens, of which logits of `rows` are computed at a time, and for
    /// sequences of up to `context` tokens;
    /// touched now so that its memory is measured.
    #[must_use]
    pub(crate) fn new(
        path: Path,
        shape: &ModelShape,
        tokens: u32,
        rows: u32,
        context: u32,
    ) -> Self {
        let space = |width: u32| in_large_pages(tokens as usize * width as usize, f32::NAN);
        let queries = shape.heads * shape.key_length;
        let outputs = shape.heads * shape.value_length;
        let widest = shape.feed_forward.max(outputs).max(shape.width);
        Self {
            logits: in_large_pages(rows as usize * shape.vocabulary as usize, f32::NAN),
            wanted: space(shape.width),
            places: Vec::with_capacity(tokens as usize),
            state: space(shape.width),
            normed: space(shape.width),
            queries: space(queries),
            keys: space(shape.kv_heads * shape.key_length),
            values: space(shape.kv_heads * shape.value_length),
            heads: space(outputs.max(queries)),
            gate: space(shape.feed_forward),
            up: space(shape.feed_forward),
            scratch: space(shape.width),
            activations: Activations::with_room(
                path,
                tokens as usize,
                widest as usize,
                shape.floats,
            ),
            turns: Vec::new(),
            looks: Vec::with_capacity(tokens as usize),
            spans: spans(shape, rows, context),
            routing: Routing::new(shape, tokens as usize),
            baton: None,
        }
    }

    /// Between two layers: others may compute now.
    pub(super) fn end_layer(&self) {
        if let Some(baton) = &self.baton {
            baton.between_layers();
        }
    }

    /// Waits for what simulated accelerators are slower than the processor; others may compute meanwhile.
    pub(super) fn wait(&self, owed: Duration) {
        if owed < WORTH_WAITING {
            return;
        }
        match &self.baton {
            Some(baton) => baton.without(|| std::thread::sleep(owed)),
            None => std::thread::sleep(owed),
        }
    }

    /// Notes where each token of the runs belongs.
    pub(super) fn place(&mut self, runs: &[Run<'_>]) {
        self.places.clear();
        for (run, found) in runs.iter().enumerate() {
            let start = found.sequence.length();
            self.places
                .extend((0..found.tokens.len()).map(|at| Place { run, position: start + at }));
        }
    }
}

/// Room for the sums of spans of one token of each lane. Encoders have many tokens, or short inputs.
fn spans(shape: &ModelShape, lanes: u32, context: u32) -> SpanSums {
    if shape.encoder {
        return SpanSums::default();
    }
    let rows = lanes as usize * shape.heads as usize;
    SpanSums::with_room(rows, context as usize, shape.value_length as usize)
}

/// Sizes a buffer for a step; within what [`Workspace::new`] took it never allocates.
pub(super) fn sized(buffer: &mut Vec<f32>, length: usize) -> &mut [f32] {
    buffer.resize(length, 0.0);
    buffer
}

/// What a token sees.
#[derive(Debug, Clone, Copy)]
pub(super) enum Sight {
    /// Itself and all before it.
    Back,
    /// Itself and so many minus one before it.
    Window(u32),
    /// All of so many tokens.
    Around(usize),
}

impl Sight {
    /// The window's tokens, where there is one.
    pub(super) fn window(self) -> Option<u32> {
        match self {
            Self::Window(tokens) => Some(tokens),
            Self::Back | Self::Around(_) => None,
        }
    }
}

/// How a layer looks at other tokens.
#[derive(Debug, Clone, Copy)]
pub(super) struct View {
    pub(super) sight: Sight,
    /// Factor on scores.
    pub(super) scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub(super) cap: Option<f32>,
}

impl View {
    /// Positions that a token sees.
    fn seen(&self, position: usize) -> Range<usize> {
        let end = position + 1;
        match self.sight {
            Sight::Back => 0..end,
            Sight::Window(tokens) => end.saturating_sub(tokens as usize)..end,
            Sight::Around(tokens) => 0..tokens,
        }
    }
}

/// Attention of a step's tokens over what their sequences hold; `tables` are the sequences' pages.
///
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`.
#[expect(clippy::too_many_arguments, reason = "what attention is computed from")]
pub(super) fn attention(
    compute: &Compute,
    shape: &ModelShape,
    store: &Store,
    layer: usize,
    view: View,
    tables: &[&[u32]],
    places: &[Place],
    (looks, spans): (&mut Vec<Look>, &mut SpanSums),
    queries: &[f32],
    out: &mut [f32],
) {
    let (keys, values) = store.rows(layer);
    let heads = shape.heads as usize;
    let (scale, cap) = (view.scale, view.cap);
    let attention = Attention { keys, values, pages: tables, heads, scale, cap };
    looks.clear();
    looks.extend(places.iter().map(|place| {
        let seen = view.seen(place.position);
        Look { sequence: place.run, first: seen.start, end: seen.end }
    }));
    attend(compute.path, &compute.team, &attention, looks, queries, out, spans);
}
