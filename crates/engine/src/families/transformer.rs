//! Computes a decoder by its blueprint.

use std::ops::Range;
use std::time::{Duration, Instant};

use deft_kernels::{Gate as Curve, Path, add, add_rows, gate, rms_norm, soft_cap, softmax};
use deft_planning::ModelShape;

use super::blueprint::{Blueprint, FeedForward, Gate, Gated, LayerPlan, Projection};
use super::parts::{Routing, View, attention, sized, turn};
use super::rotary::{Pairs, Rotary};
use super::tensors::{MatrixPlace, VectorPlace};
use super::{Network, Run, Workspace};
use crate::cache::Store;
use crate::mapped::Mapped;
use crate::model::LoadError;
use crate::places::{Pace, Places, wait};

/// A decoder, opened.
pub(super) struct Transformer {
    path: Path,
    file: Mapped,
    plan: Blueprint,
    output_norm: Vec<f32>,
    layers: Vec<Vectors>,
    pace: Pace,
}

/// The vectors of a layer, read; its matrices stay in the mapped file.
struct Vectors {
    rotary: Rotary,
    attention_norm: Vec<f32>,
    query_bias: Option<Vec<f32>>,
    key_bias: Option<Vec<f32>>,
    value_bias: Option<Vec<f32>>,
    head_norms: Option<(Vec<f32>, Vec<f32>)>,
    attention_post_norm: Option<Vec<f32>>,
    feed_forward_norm: Vec<f32>,
    feed_forward_post_norm: Option<Vec<f32>>,
}

fn load(place: Option<&VectorPlace>, file: &Mapped) -> Result<Option<Vec<f32>>, LoadError> {
    place.map(|place| place.load(file)).transpose()
}

impl Vectors {
    fn new(
        plan: &LayerPlan,
        pairs: Pairs,
        factors: Option<&[f32]>,
        file: &Mapped,
    ) -> Result<Self, LoadError> {
        let bias = |projection: &Projection| load(projection.bias.as_ref(), file);
        let head_norms = match &plan.head_norms {
            Some((query, key)) => Some((query.load(file)?, key.load(file)?)),
            None => None,
        };
        Ok(Self {
            rotary: Rotary::new(pairs, plan.rotary, factors),
            attention_norm: plan.attention_norm.load(file)?,
            query_bias: bias(&plan.query)?,
            key_bias: bias(&plan.key)?,
            value_bias: bias(&plan.value)?,
            head_norms,
            attention_post_norm: load(plan.attention_post_norm.as_ref(), file)?,
            feed_forward_norm: plan.feed_forward_norm.load(file)?,
            feed_forward_post_norm: load(plan.feed_forward_post_norm.as_ref(), file)?,
        })
    }
}

impl Transformer {
    pub(super) fn new(plan: Blueprint, file: Mapped, places: &Places) -> Result<Self, LoadError> {
        let factors = load(plan.rotary_factors.as_ref(), &file)?;
        let vectors = |layer| Vectors::new(layer, plan.pairs, factors.as_deref(), &file);
        let layers = plan.layers.iter().map(vectors).collect::<Result<_, _>>()?;
        let output_norm = plan.output_norm.load(&file)?;
        let pace = places.pace(&plan.shape.layer_weights);
        Ok(Self { path: Path::best(), file, plan, output_norm, layers, pace })
    }

    /// `out = matrix . x` for each token.
    fn multiply(&self, matrix: &MatrixPlace, x: &[f32], out: &mut [f32], scratch: &mut Vec<f32>) {
        matrix.multiply(&self.file, self.path, x, out, scratch);
    }

    fn attention_part(
        &self,
        at: usize,
        tables: &[&[u32]],
        store: &mut Store,
        work: &mut Workspace,
    ) {
        let (shape, epsilon) = (&self.plan.shape, self.plan.epsilon);
        let tokens = work.places.len();
        let (plan, vectors) = (&self.plan.layers[at], &self.layers[at]);
        let rows = |heads: u32, length: u32| tokens * heads as usize * length as usize;
        let normed = sized(&mut work.normed, work.state.len());
        rms_norm(&work.state, &vectors.attention_norm, epsilon, normed);
        let queries = sized(&mut work.queries, rows(shape.heads, shape.key_length));
        let keys = sized(&mut work.keys, rows(shape.kv_heads, shape.key_length));
        let values = sized(&mut work.values, rows(shape.kv_heads, shape.value_length));
        for (projection, bias, out) in [
            (&plan.query, &vectors.query_bias, &mut *queries),
            (&plan.key, &vectors.key_bias, &mut *keys),
            (&plan.value, &vectors.value_bias, &mut *values),
        ] {
            self.multiply(&projection.matrix, normed, out, &mut work.scratch);
            if let Some(bias) = bias {
                add_rows(out, bias);
            }
        }
        if let Some((query_norm, key_norm)) = &vectors.head_norms {
            // Every head is a row of its own.
            let before = work.heads.len().max(queries.len()).max(keys.len());
            let copy = sized(&mut work.heads, before);
            for (rows, norm) in [(&mut *queries, query_norm), (&mut *keys, key_norm)] {
                copy[..rows.len()].copy_from_slice(rows);
                rms_norm(&copy[..rows.len()], norm, epsilon, rows);
            }
        }
        let head = shape.key_length as usize;
        turn(&vectors.rotary, queries, head, &work.places);
        turn(&vectors.rotary, keys, head, &work.places);
        let rows_of_token =
            keys.chunks(keys.len() / tokens).zip(values.chunks(values.len() / tokens));
        for ((keys, values), place) in rows_of_token.zip(&work.places) {
            store.write(at, tables[place.run], place.position, keys, values);
        }
        let heads = sized(&mut work.heads, rows(shape.heads, shape.value_length));
        let view =
            View { sight: plan.sight, scale: self.plan.score_scale, cap: self.plan.score_cap };
        attention(self.path, shape, store, at, view, tables, &work.places, queries, heads);
        self.multiply(&plan.output, heads, normed, &mut work.scratch);
        self.add_to_state(vectors.attention_post_norm.as_deref(), work);
    }

    fn feed_forward_part(&self, at: usize, work: &mut Workspace) {
        let (plan, vectors) = (&self.plan.layers[at], &self.layers[at]);
        let normed = sized(&mut work.normed, work.state.len());
        rms_norm(&work.state, &vectors.feed_forward_norm, self.plan.epsilon, normed);
        match &plan.feed_forward {
            FeedForward::Dense(part) => {
                let tokens = normed.len() / self.plan.shape.width as usize;
                let inner = tokens * part.gate.row_count();
                let gate = sized(&mut work.gate, inner);
                let up = sized(&mut work.up, inner);
                self.gated(plan.gate, part, normed, gate, up, &mut work.scratch);
                self.multiply(&part.down, gate, normed, &mut work.scratch);
            }
            FeedForward::Experts { router, experts, used } => {
                self.experts(plan.gate, router, experts, *used, work);
            }
        }
        self.add_to_state(vectors.feed_forward_post_norm.as_deref(), work);
    }

    /// `gate = curve(gate . x) * (up . x)`.
    fn gated(
        &self,
        curve: Gate,
        part: &Gated,
        x: &[f32],
        out: &mut [f32],
        up: &mut [f32],
        scratch: &mut Vec<f32>,
    ) {
        self.multiply(&part.gate, x, out, scratch);
        self.multiply(&part.up, x, up, scratch);
        let curve = match curve {
            Gate::Silu => Curve::Silu,
            Gate::GeluTanh => Curve::GeluTanh,
        };
        gate(curve, out, up);
    }

    /// For each token: the router's likeliest experts, weighted by their share among themselves.
    /// Source: Shazeer et al. 2017; shares are made to sum to one over those used.
    fn experts(
        &self,
        curve: Gate,
        router: &MatrixPlace,
        experts: &[Gated],
        used: usize,
        work: &mut Workspace,
    ) {
        let width = self.plan.shape.width as usize;
        let inner = experts[0].gate.row_count();
        let Workspace { normed, gate, up, scratch, routing, .. } = work;
        let Routing { row, shares, order, sum, one } = routing;
        let one = sized(one, width);
        for x in normed.chunks_mut(width) {
            shares.resize(experts.len(), 0.0);
            self.route(router, x, row, shares);
            order.clear();
            order.extend(0..experts.len());
            order.sort_unstable_by(|&a, &b| shares[b].total_cmp(&shares[a]).then(a.cmp(&b)));
            order.truncate(used);
            let total: f32 = order.iter().map(|&expert| shares[expert]).sum();
            sum.clear();
            sum.resize(width, 0.0);
            for &expert in &*order {
                let part = &experts[expert];
                let (out, up) = (sized(gate, inner), sized(up, inner));
                self.gated(curve, part, x, out, up, scratch);
                self.multiply(&part.down, out, one, scratch);
                let share = shares[expert] / total;
                sum.iter_mut().zip(&*one).for_each(|(sum, value)| *sum += share * value);
            }
            x.copy_from_slice(sum);
        }
    }

    /// Shares of all experts. The router is multiplied in floats, however it is stored: rounding
    /// to eight bits can turn a near tie over.
    fn route(&self, router: &MatrixPlace, x: &[f32], row: &mut Vec<f32>, shares: &mut [f32]) {
        let row = sized(row, x.len());
        for (expert, share) in shares.iter_mut().enumerate() {
            router.decode_row(&self.file, expert, row);
            *share = deft_kernels::dot::floats(self.path, row, x);
        }
        softmax(shares);
    }

    /// Norms the states of the tokens asked for.
    fn keep_wanted(&self, runs: &[Run<'_>], work: &mut Workspace) {
        let width = self.plan.shape.width as usize;
        let rows: usize = runs.iter().map(Run::wanted_rows).sum();
        let mut out = sized(&mut work.wanted, rows * width);
        let mut states = &work.state[..];
        for run in runs {
            let (own, after) = states.split_at(run.tokens.len() * width);
            states = after;
            let own = &own[own.len() - run.wanted_rows() * width..];
            let (normed, rest) = out.split_at_mut(own.len());
            rms_norm(own, &self.output_norm, self.plan.epsilon, normed);
            out = rest;
        }
    }

    /// Adds what a part computed to the state, normed where the family says so.
    fn add_to_state(&self, norm: Option<&[f32]>, work: &mut Workspace) {
        if let Some(norm) = norm {
            let copy = sized(&mut work.scratch, work.normed.len());
            copy.copy_from_slice(&work.normed);
            rms_norm(copy, norm, self.plan.epsilon, &mut work.normed);
        }
        add(&mut work.state, &work.normed);
    }
}

impl Network for Transformer {
    fn shape(&self) -> &ModelShape {
        &self.plan.shape
    }

    fn step(&self, runs: &[Run<'_>], store: &mut Store, work: &mut Workspace) {
        let plan = &self.plan;
        let width = plan.shape.width as usize;
        work.place(runs);
        let tokens = runs.iter().flat_map(|run| run.tokens);
        let state = sized(&mut work.state, work.places.len() * width);
        for (row, &token) in state.chunks_mut(width).zip(tokens) {
            plan.embedding.decode_row(&self.file, token as usize, row);
            row.iter_mut().for_each(|value| *value *= plan.embedding_scale);
        }
        let tables: Vec<&[u32]> = runs.iter().map(|run| run.sequence.pages()).collect();
        let mut owed = Duration::ZERO;
        for at in 0..self.layers.len() {
            let begun = Instant::now();
            self.attention_part(at, &tables, store, work);
            self.feed_forward_part(at, work);
            owed += self.pace.owed(at, begun);
        }
        wait(owed);
        self.keep_wanted(runs, work);
    }

    fn logits(&self, rows: Range<usize>, work: &mut Workspace) {
        let plan = &self.plan;
        let width = plan.shape.width as usize;
        let out = sized(&mut work.logits, rows.len() * plan.shape.vocabulary as usize);
        let states = &work.wanted[rows.start * width..rows.end * width];
        self.multiply(&plan.output, states, out, &mut work.scratch);
        if let Some(cap) = plan.logit_cap {
            soft_cap(out, cap);
        }
    }
}
