//! Parts that families share: working space, rotary embedding, attention.

use std::ops::Range;

use deft_kernels::{AttentionScratch, Looking, Path, attend};
use deft_planning::ModelShape;
use rayon::prelude::*;

use super::rotary::Rotary;
use crate::cache::{Sequence, Store};

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
    pub(super) routing: Routing,
}

/// Working space of a router of experts.
#[derive(Default)]
pub(super) struct Routing {
    pub(super) row: Vec<f32>,
    pub(super) shares: Vec<f32>,
    pub(super) order: Vec<usize>,
    pub(super) sum: Vec<f32>,
    pub(super) one: Vec<f32>,
}

impl Workspace {
    /// Space for steps of up to `tokens` tokens, of which logits of `rows` are computed at a time;
    /// touched now so that its memory is measured.
    #[must_use]
    pub(crate) fn new(shape: &ModelShape, tokens: u32, rows: u32) -> Self {
        let space = |width: u32| vec![f32::NAN; tokens as usize * width as usize];
        let queries = shape.heads * shape.key_length;
        Self {
            logits: vec![f32::NAN; rows as usize * shape.vocabulary as usize],
            wanted: space(shape.width),
            places: Vec::with_capacity(tokens as usize),
            state: space(shape.width),
            normed: space(shape.width),
            queries: space(queries),
            keys: space(shape.kv_heads * shape.key_length),
            values: space(shape.kv_heads * shape.value_length),
            heads: space(shape.heads * shape.value_length),
            gate: space(shape.feed_forward),
            up: space(shape.feed_forward),
            scratch: space(shape.feed_forward.max(queries).max(shape.width)),
            routing: Routing::default(),
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

/// Sizes a buffer for a step; within what [`Workspace::new`] took it never allocates.
pub(super) fn sized(buffer: &mut Vec<f32>, length: usize) -> &mut [f32] {
    buffer.resize(length, 0.0);
    buffer
}

/// Turns every head of each row by the row's position.
pub(super) fn turn(rotary: &Rotary, rows: &mut [f32], head_length: usize, places: &[Place]) {
    let row_length = rows.len() / places.len();
    for (row, place) in rows.chunks_mut(row_length).zip(places) {
        rotary.turn(row, head_length, place.position);
    }
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
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`; query
/// heads share key and value heads in groups.
/// Source: Vaswani et al. 2017; Ainslie et al. 2023, "GQA".
#[expect(clippy::too_many_arguments, reason = "what attention is computed from")]
pub(super) fn attention(
    path: Path,
    shape: &ModelShape,
    store: &Store,
    layer: usize,
    view: View,
    tables: &[&[u32]],
    places: &[Place],
    queries: &[f32],
    out: &mut [f32],
) {
    let heads = shape.heads as usize;
    let group = heads / shape.kv_heads as usize;
    let (key_length, value_length) = (shape.key_length as usize, shape.value_length as usize);
    let (keys, values) = store.rows(layer);
    let compute = |scratch: &mut AttentionScratch, (at, out): (usize, &mut [f32])| {
        let (place, head) = (places[at / heads], at % heads);
        let seen = view.seen(place.position);
        let looking = Looking {
            pages: tables[place.run],
            first: seen.start,
            end: seen.end,
            head: head / group,
            scale: view.scale,
            cap: view.cap,
        };
        let query = &queries[at * key_length..][..key_length];
        attend(path, query, &keys, &values, &looking, scratch, out);
    };
    let positions: usize = places.iter().map(|place| view.seen(place.position).len()).sum();
    if positions * heads * key_length < 1 << 17 {
        let mut scratch = AttentionScratch::default();
        out.chunks_mut(value_length).enumerate().for_each(|head| compute(&mut scratch, head));
    } else {
        let head_outputs = out.par_chunks_mut(value_length).enumerate();
        head_outputs.for_each_init(AttentionScratch::default, compute);
    }
}
