//! Computes a decoder by its blueprint.

use std::ops::Range;
use std::time::{Duration, Instant};

use deft_kernels::{Activations, add, add_rows, rms_norm, soft_cap};
use deft_planning::ModelShape;
use smallvec::SmallVec;

use super::blueprint::{Blueprint, LayerPlan, Projection};
use super::parts::{Turns, View, attention, grain, sized};
use super::rotary::Rotary;
use super::tensors::{MatrixPlace, VectorPlace};
use super::{Network, Run, Workspace};
use crate::cache::Store;
use crate::compute::{Compute, ComputeSettings};
use crate::mapped::Mapped;
use crate::model::LoadError;
use crate::places::{Pace, Places};

/// A decoder, opened.
pub(super) struct Transformer {
    compute: Compute,
    file: Mapped,
    plan: Blueprint,
    output_norm: Vec<f32>,
    layers: Vec<Vectors>,
    /// The different ones; most models have one for all layers.
    rotaries: Vec<Rotary>,
    pace: Pace,
}

/// The vectors of a layer, read; its matrices stay in the mapped file.
struct Vectors {
    /// Which of the rotary embeddings.
    rotary: usize,
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
    fn new(plan: &LayerPlan, rotary: usize, file: &Mapped) -> Result<Self, LoadError> {
        let bias = |projection: &Projection| load(projection.bias.as_ref(), file);
        let head_norms = match &plan.head_norms {
            Some((query, key)) => Some((query.load(file)?, key.load(file)?)),
            None => None,
        };
        Ok(Self {
            rotary,
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
    pub(super) fn new(
        plan: Blueprint,
        file: Mapped,
        places: &Places,
        compute: ComputeSettings,
    ) -> Result<Self, LoadError> {
        let factors = load(plan.rotary_factors.as_ref(), &file)?;
        let mut rotaries: Vec<Rotary> = Vec::new();
        let mut layers = Vec::new();
        for layer in &plan.layers {
            let own = Rotary::new(plan.pairs, layer.rotary, factors.as_deref());
            let known = rotaries.iter().position(|known| *known == own);
            let rotary = known.unwrap_or(rotaries.len());
            if known.is_none() {
                rotaries.push(own);
            }
            layers.push(Vectors::new(layer, rotary, &file)?);
        }
        let output_norm = plan.output_norm.load(&file)?;
        let pace = places.pace(&plan.shape.layer_weights);
        let compute = Compute::new(compute);
        Ok(Self { compute, file, plan, output_norm, layers, rotaries, pace })
    }

    /// `out = matrix . x` for each token.
    fn multiply(&self, matrix: &MatrixPlace, x: &[f32], out: &mut [f32], act: &mut Activations) {
        matrix.multiply(&self.file, &self.compute, x, out, act);
    }

    /// Norms each row.
    fn norm(&self, x: &[f32], weight: &[f32], out: &mut [f32]) {
        let (width, path, epsilon) = (weight.len(), self.compute.path, self.plan.epsilon);
        self.compute.team.rows(out, width, grain(width), |row, out| {
            rms_norm(path, &x[row * width..][..width], weight, epsilon, out);
        });
    }

    fn attention_part(
        &self,
        at: usize,
        tables: &[&[u32]],
        store: &mut Store,
        work: &mut Workspace,
    ) {
        let shape = &self.plan.shape;
        let tokens = work.places.len();
        let (plan, vectors) = (&self.plan.layers[at], &self.layers[at]);
        let rows = |heads: u32, length: u32| tokens * heads as usize * length as usize;
        let normed = sized(&mut work.normed, work.state.len());
        self.norm(&work.state, &vectors.attention_norm, normed);
        let queries = sized(&mut work.queries, rows(shape.heads, shape.key_length));
        let keys = sized(&mut work.keys, rows(shape.kv_heads, shape.key_length));
        let values = sized(&mut work.values, rows(shape.kv_heads, shape.value_length));
        let products = [
            (&plan.query.matrix, &mut *queries),
            (&plan.key.matrix, &mut *keys),
            (&plan.value.matrix, &mut *values),
        ];
        let act = &mut work.activations;
        MatrixPlace::multiply_all(&self.file, &self.compute, normed, products, act);
        for (bias, out) in [
            (&vectors.query_bias, &mut *queries),
            (&vectors.key_bias, &mut *keys),
            (&vectors.value_bias, &mut *values),
        ] {
            if let Some(bias) = bias {
                let (width, path) = (bias.len(), self.compute.path);
                self.compute
                    .team
                    .rows(out, width, grain(width), |_, row| add_rows(path, row, bias));
            }
        }
        if let Some((query_norm, key_norm)) = &vectors.head_norms {
            // Every head is a row of its own.
            let before = work.heads.len().max(queries.len()).max(keys.len());
            let copy = sized(&mut work.heads, before);
            for (rows, norm) in [(&mut *queries, query_norm), (&mut *keys, key_norm)] {
                copy[..rows.len()].copy_from_slice(rows);
                self.norm(&copy[..rows.len()], norm, rows);
            }
        }
        let head = shape.key_length as usize;
        let (turns, rotary) = (&work.turns[vectors.rotary], &self.rotaries[vectors.rotary]);
        turns.turn(&self.compute, rotary, queries, head, tokens);
        turns.turn(&self.compute, rotary, keys, head, tokens);
        let places = &work.places;
        store.write(&self.compute.team, at, (keys, values), |token| {
            (tables[places[token].run], places[token].position)
        });
        let heads = sized(&mut work.heads, rows(shape.heads, shape.value_length));
        let view =
            View { sight: plan.sight, scale: self.plan.score_scale, cap: self.plan.score_cap };
        let (places, looks) = (&work.places, (&mut work.looks, &mut work.spans));
        attention(&self.compute, shape, store, at, view, tables, places, looks, queries, heads);
        self.multiply(&plan.output, heads, normed, &mut work.activations);
        self.add_to_state(vectors.attention_post_norm.as_deref(), work);
    }

    fn feed_forward_part(&self, at: usize, work: &mut Workspace) {
        let (plan, vectors) = (&self.plan.layers[at], &self.layers[at]);
        let normed = sized(&mut work.normed, work.state.len());
        self.norm(&work.state, &vectors.feed_forward_norm, normed);
        plan.feed_forward.compute(&self.file, &self.compute, plan.gate, work);
        self.add_to_state(vectors.feed_forward_post_norm.as_deref(), work);
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
            self.norm(own, &self.output_norm, normed);
            out = rest;
        }
    }

    /// Adds what a part computed to the state, normed where the family says so.
    fn add_to_state(&self, norm: Option<&[f32]>, work: &mut Workspace) {
        if let Some(norm) = norm {
            let copy = sized(&mut work.scratch, work.normed.len());
            copy.copy_from_slice(&work.normed);
            self.norm(copy, norm, &mut work.normed);
        }
        let (width, path) = (self.plan.shape.width as usize, self.compute.path);
        let normed = &work.normed;
        self.compute.team.rows(&mut work.state, width, grain(width), |row, state| {
            add(path, state, &normed[row * width..][..width]);
        });
    }
}

impl Network for Transformer {
    fn shape(&self) -> &ModelShape {
        &self.plan.shape
    }

    fn compute(&self) -> &Compute {
        &self.compute
    }

    fn step(&self, runs: &[Run<'_>], store: &mut Store, work: &mut Workspace) {
        let plan = &self.plan;
        let width = plan.shape.width as usize;
        work.place(runs);
        let state = sized(&mut work.state, work.places.len() * width);
        let (places, file) = (&work.places, &self.file);
        self.compute.team.rows(state, width, grain(width), |row, state| {
            let place = places[row];
            let run = &runs[place.run];
            let token = run.tokens[place.position - run.sequence.length()];
            plan.embedding.decode_row(file, token as usize, state);
            state.iter_mut().for_each(|value| *value *= plan.embedding_scale);
        });
        work.turns.resize_with(self.rotaries.len(), Turns::default);
        for (turns, rotary) in work.turns.iter_mut().zip(&self.rotaries) {
            turns.set(rotary, &work.places);
        }
        let tables: SmallVec<[&[u32]; 32]> = runs.iter().map(|run| run.sequence.pages()).collect();
        let mut owed = Duration::ZERO;
        for at in 0..self.layers.len() {
            let begun = Instant::now();
            self.attention_part(at, &tables, store, work);
            self.feed_forward_part(at, work);
            owed += self.pace.owed(at, begun);
            work.end_layer();
        }
        work.wait(owed);
        self.keep_wanted(runs, work);
    }

    fn logits(&self, rows: Range<usize>, work: &mut Workspace) {
        let plan = &self.plan;
        let width = plan.shape.width as usize;
        let out = sized(&mut work.logits, rows.len() * plan.shape.vocabulary as usize);
        let states = &work.wanted[rows.start * width..rows.end * width];
        self.multiply(&plan.output, states, out, &mut work.activations);
        if let Some(cap) = plan.logit_cap {
            soft_cap(self.compute.path, out, cap);
        }
    }
}
