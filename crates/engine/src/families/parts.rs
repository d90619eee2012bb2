//! Parts that families share: working space, rotary embedding, attention.

use deft_kernels::{Path, Reach, attend};
use deft_planning::ModelShape;
use rayon::prelude::*;

use super::LaneCache;
use super::blueprint::{Pairs, RotaryPlan};

/// Which tokens of a step get logits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Logits {
    /// None: more of the prompt follows.
    None,
    /// The last token.
    Last,
    /// Every token.
    All,
}

/// Working space of a step, reused from step to step.
#[derive(Default)]
pub struct Workspace {
    /// Logits, `tokens asked for x vocabulary`.
    pub logits: Vec<f32>,
    pub(super) state: Vec<f32>,
    pub(super) normed: Vec<f32>,
    pub(super) queries: Vec<f32>,
    pub(super) keys: Vec<f32>,
    pub(super) values: Vec<f32>,
    pub(super) heads: Vec<f32>,
    pub(super) gate: Vec<f32>,
    pub(super) up: Vec<f32>,
    pub(super) scratch: Vec<f32>,
}

impl Workspace {
    /// Space for steps of up to `chunk` tokens, touched now so that its memory is measured.
    #[must_use]
    pub fn new(shape: &ModelShape, chunk: u32) -> Self {
        let rows = |width: u32| vec![f32::NAN; chunk as usize * width as usize];
        let queries = shape.heads * shape.key_length;
        Self {
            logits: vec![f32::NAN; shape.vocabulary as usize],
            state: rows(shape.width),
            normed: rows(shape.width),
            queries: rows(queries),
            keys: rows(shape.kv_heads * shape.key_length),
            values: rows(shape.kv_heads * shape.value_length),
            heads: rows(shape.heads * shape.value_length),
            gate: rows(shape.feed_forward),
            up: rows(shape.feed_forward),
            scratch: rows(shape.feed_forward.max(queries).max(shape.width)),
        }
    }
}

/// Sizes a buffer for a step; within what [`Workspace::new`] took it never allocates.
pub(super) fn sized(buffer: &mut Vec<f32>, length: usize) -> &mut [f32] {
    buffer.resize(length, 0.0);
    buffer
}

/// Rotary position embedding.
/// Source: Su et al. 2021, "RoFormer"; frequencies divided per dimension where the file says so.
#[derive(Debug, Clone)]
pub(super) struct Rotary {
    pairs: Pairs,
    /// Angle per position of each pair.
    frequencies: Vec<f64>,
}

impl Rotary {
    /// `base^(-2i/dimensions)`, divided by the factors and the linear scale.
    pub(super) fn new(pairs: Pairs, plan: RotaryPlan, factors: Option<&[f32]>) -> Self {
        let frequencies = (0..plan.dimensions / 2)
            .map(|pair| {
                let exponent = -2.0 * f64::from(pair) / f64::from(plan.dimensions);
                let factor = factors.map_or(1.0, |factors| f64::from(factors[pair as usize]));
                f64::from(plan.base).powf(exponent) / factor / f64::from(plan.linear)
            })
            .collect();
        Self { pairs, frequencies }
    }

    /// Turns every head of each row (`head_length` values a head); the first row is at `position`.
    pub(super) fn turn(
        &self,
        rows: &mut [f32],
        row_length: usize,
        head_length: usize,
        position: usize,
    ) {
        let half = self.frequencies.len();
        for (offset, row) in rows.chunks_mut(row_length).enumerate() {
            #[expect(clippy::cast_precision_loss, reason = "positions are far below 2^52")]
            let position = (position + offset) as f64;
            for (pair, frequency) in self.frequencies.iter().enumerate() {
                let (sin, cos) = (position * frequency).sin_cos();
                #[expect(clippy::cast_possible_truncation, reason = "computed wide, used in f32")]
                let (sin, cos) = (sin as f32, cos as f32);
                let (first, second) = match self.pairs {
                    Pairs::Interleaved => (2 * pair, 2 * pair + 1),
                    Pairs::HalfSplit => (pair, pair + half),
                };
                for head in row.chunks_mut(head_length) {
                    let (a, b) = (head[first], head[second]);
                    head[first] = a * cos - b * sin;
                    head[second] = a * sin + b * cos;
                }
            }
        }
    }
}

/// How a layer looks back.
#[derive(Debug, Clone, Copy)]
pub(super) struct Looking {
    /// A token sees itself and so many minus one before it.
    pub(super) window: Option<u32>,
    /// Factor on scores.
    pub(super) scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub(super) cap: Option<f32>,
}

/// Attention of a step's tokens over what the lane holds up to each of them.
///
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`; query
/// heads share key and value heads in groups.
/// Source: Vaswani et al. 2017; Ainslie et al. 2023, "GQA".
pub(super) fn attention(
    path: Path,
    shape: &ModelShape,
    cache: &LaneCache,
    layer: usize,
    looking: Looking,
    queries: &[f32],
    out: &mut [f32],
) {
    let (heads, kv_heads) = (shape.heads as usize, shape.kv_heads as usize);
    let (key_length, value_length) = (shape.key_length as usize, shape.value_length as usize);
    let (keys, values) = cache.rows(layer);
    let start = cache.filled();
    let compute = |scores: &mut Vec<f32>, (at, out): (usize, &mut [f32])| {
        let (token, head) = (at / heads, at % heads);
        let kv_head = head / (heads / kv_heads);
        let seen = start + token + 1;
        let first = looking.window.map_or(0, |window| seen.saturating_sub(window as usize));
        scores.resize(seen - first, 0.0);
        let reach = Reach {
            first,
            key_stride: kv_heads * key_length,
            key_offset: kv_head * key_length,
            value_stride: kv_heads * value_length,
            value_offset: kv_head * value_length,
            scale: looking.scale,
            cap: looking.cap,
        };
        let query = &queries[at * key_length..][..key_length];
        attend(path, query, keys, values, reach, scores, out);
    };
    let tokens = queries.len() / (heads * key_length);
    if (start + tokens) * queries.len() < 1 << 17 {
        let mut scores = Vec::new();
        out.chunks_mut(value_length).enumerate().for_each(|head| compute(&mut scores, head));
    } else {
        let head_outputs = out.par_chunks_mut(value_length).enumerate();
        head_outputs.for_each_init(Vec::new, compute);
    }
}
