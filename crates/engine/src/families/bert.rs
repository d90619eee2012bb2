//! The `bert` family: an encoder, for embeddings.
//!
//! Source: Devlin et al. 2018 and the GGUF naming of its tensors. Tokens see each other both ways;
//! positions and token types are embedded; norms follow what they norm; the curve between the two
//! feed-forward matrices is the exact Gaussian error unit.

use std::ops::Range;
use std::time::{Duration, Instant};

use deft_formats::gguf::Header;
use deft_kernels::{Activations, add, gelu_erf, layer_norm};
use deft_planning::ModelShape;

use super::Network;
use super::blueprint::{Projection, Reader, usual_score_scale};
use super::parts::{Run, Sight, View, Workspace, attention, grain, sized};
use super::tensors::{MatrixPlace, VectorPlace};
use crate::cache::Store;
use crate::compute::{Compute, ComputeSettings};
use crate::mapped::Mapped;
use crate::model::LoadError;
use crate::places::{Pace, Places};

/// Where everything lies.
pub(super) struct Plan {
    pub(super) shape: ModelShape,
    epsilon: f32,
    tokens: MatrixPlace,
    positions: MatrixPlace,
    types: MatrixPlace,
    norm: NormPlace,
    layers: Vec<LayerPlan>,
}

impl Plan {
    pub(super) fn layers(&self) -> u32 {
        u32::try_from(self.layers.len()).unwrap_or(u32::MAX)
    }
}

struct NormPlace {
    weight: VectorPlace,
    bias: VectorPlace,
}

struct LayerPlan {
    query: Projection,
    key: Projection,
    value: Projection,
    output: Projection,
    attention_norm: NormPlace,
    up: Projection,
    down: Projection,
    output_norm: NormPlace,
}

pub(super) fn plan(header: &Header) -> Result<Plan, LoadError> {
    let mut reader = Reader::new(header)?;
    let shape = reader.shape(reader.count("feed_forward_length")?)?;
    let (width, inner) = (shape.width, shape.feed_forward);
    let types = reader.header.metadata.optional_count("tokenizer.ggml.token_type_count")?;
    let epsilon = header.metadata.float(&reader.key("attention.layer_norm_epsilon"))?;
    let norm = |reader: &mut Reader<'_>, name: &str| -> Result<NormPlace, LoadError> {
        Ok(NormPlace {
            weight: reader.tensors.vector(&format!("{name}.weight"), width)?,
            bias: reader.tensors.vector(&format!("{name}.bias"), width)?,
        })
    };
    let tokens = reader.tensors.matrix("token_embd.weight", width, shape.vocabulary)?;
    let positions = reader.tensors.matrix("position_embd.weight", width, shape.context_length)?;
    let types = reader.tensors.matrix("token_types.weight", width, types.unwrap_or(2))?;
    let first_norm = norm(&mut reader, "token_embd_norm")?;
    let mut layers = Vec::new();
    for layer in 0..shape.layers {
        let mut part = |name: &str, columns: u32, rows: u32| {
            reader.projection(layer, name, (columns, rows), true)
        };
        layers.push(LayerPlan {
            query: part("attn_q", width, shape.heads * shape.key_length)?,
            key: part("attn_k", width, shape.kv_heads * shape.key_length)?,
            value: part("attn_v", width, shape.kv_heads * shape.value_length)?,
            output: part("attn_output", shape.heads * shape.value_length, width)?,
            up: part("ffn_up", width, inner)?,
            down: part("ffn_down", inner, width)?,
            attention_norm: norm(&mut reader, &format!("blk.{layer}.attn_output_norm"))?,
            output_norm: norm(&mut reader, &format!("blk.{layer}.layer_output_norm"))?,
        });
    }
    reader.tensors.finish()?;
    // Keys and values are kept of the layer at hand only.
    let shape = ModelShape { layers: 1, encoder: true, ..shape };
    Ok(Plan { shape, epsilon, tokens, positions, types, norm: first_norm, layers })
}

struct Norm {
    weight: Vec<f32>,
    bias: Vec<f32>,
}

impl Norm {
    fn load(place: &NormPlace, file: &Mapped) -> Result<Self, LoadError> {
        Ok(Self { weight: place.weight.load(file)?, bias: place.bias.load(file)? })
    }
}

/// A matrix with its bias, read.
struct Linear {
    matrix: MatrixPlace,
    bias: Vec<f32>,
}

impl Linear {
    fn load(projection: &Projection, file: &Mapped) -> Result<Self, LoadError> {
        let bias = projection.bias.as_ref().map(|bias| bias.load(file)).transpose()?;
        Ok(Self { matrix: projection.matrix, bias: bias.unwrap_or_default() })
    }
}

struct Layer {
    query: Linear,
    key: Linear,
    value: Linear,
    output: Linear,
    attention_norm: Norm,
    up: Linear,
    down: Linear,
    output_norm: Norm,
}

impl Layer {
    fn load(plan: &LayerPlan, file: &Mapped) -> Result<Self, LoadError> {
        Ok(Self {
            query: Linear::load(&plan.query, file)?,
            key: Linear::load(&plan.key, file)?,
            value: Linear::load(&plan.value, file)?,
            output: Linear::load(&plan.output, file)?,
            attention_norm: Norm::load(&plan.attention_norm, file)?,
            up: Linear::load(&plan.up, file)?,
            down: Linear::load(&plan.down, file)?,
            output_norm: Norm::load(&plan.output_norm, file)?,
        })
    }
}

/// An encoder, opened.
pub(super) struct Bert {
    compute: Compute,
    file: Mapped,
    shape: ModelShape,
    epsilon: f32,
    tokens: MatrixPlace,
    positions: MatrixPlace,
    types: MatrixPlace,
    norm: Norm,
    layers: Vec<Layer>,
    pace: Pace,
}

impl Bert {
    pub(super) fn new(
        plan: Plan,
        file: Mapped,
        places: &Places,
        compute: ComputeSettings,
    ) -> Result<Self, LoadError> {
        let layers = plan.layers.iter().map(|layer| Layer::load(layer, &file));
        Ok(Self {
            compute: Compute::new(compute),
            layers: layers.collect::<Result<_, _>>()?,
            norm: Norm::load(&plan.norm, &file)?,
            file,
            pace: places.pace(&plan.shape.layer_weights),
            shape: plan.shape,
            epsilon: plan.epsilon,
            tokens: plan.tokens,
            positions: plan.positions,
            types: plan.types,
        })
    }

    /// `out = x . matrix + bias` for each token.
    fn linear(&self, linear: &Linear, x: &[f32], out: &mut [f32], act: &mut Activations) {
        self.linear_all(x, [(linear, out)], act);
    }

    /// The same for several of them with the same `x`, which is made ready once.
    fn linear_all<const COUNT: usize>(
        &self,
        x: &[f32],
        mut products: [(&Linear, &mut [f32]); COUNT],
        act: &mut Activations,
    ) {
        let matrices = products.each_mut().map(|(linear, out)| (&linear.matrix, &mut **out));
        MatrixPlace::multiply_all(&self.file, &self.compute, x, matrices, act);
        let path = self.compute.path;
        for (Linear { bias, .. }, out) in products {
            self.each_row(out, bias.len(), |_, row| add(path, row, bias));
        }
    }

    /// Does work on each row of so many values, by its number.
    fn each_row(&self, rows: &mut [f32], width: usize, work: impl Fn(usize, &mut [f32]) + Sync) {
        self.compute.team.rows(rows, width, grain(width), work);
    }

    /// Embeds tokens of the first type at their positions.
    fn embed(&self, tokens: &[u32], state: &mut [f32]) {
        let mut row = vec![0.0; self.shape.width as usize];
        for (position, (state, &token)) in state.chunks_mut(row.len()).zip(tokens).enumerate() {
            self.tokens.decode_row(&self.file, token as usize, state);
            for (matrix, at) in [(&self.positions, position), (&self.types, 0)] {
                matrix.decode_row(&self.file, at, &mut row);
                add(self.compute.path, state, &row);
            }
        }
        layer_norm(self.compute.path, state, &self.norm.weight, &self.norm.bias, self.epsilon);
    }

    fn layer(&self, layer: &Layer, table: &[u32], store: &mut Store, work: &mut Workspace) {
        let shape = &self.shape;
        let tokens = work.places.len();
        let rows = |heads: u32, length: u32| tokens * heads as usize * length as usize;
        let queries = sized(&mut work.queries, rows(shape.heads, shape.key_length));
        let keys = sized(&mut work.keys, rows(shape.kv_heads, shape.key_length));
        let values = sized(&mut work.values, rows(shape.kv_heads, shape.value_length));
        let products =
            [(&layer.query, &mut *queries), (&layer.key, &mut *keys), (&layer.value, &mut *values)];
        self.linear_all(&work.state, products, &mut work.activations);
        store.write(&self.compute.team, 0, (keys, values), |position| (table, position));
        let heads = sized(&mut work.heads, rows(shape.heads, shape.value_length));
        let scale = usual_score_scale(shape.key_length);
        let view = View { sight: Sight::Around(tokens), scale, cap: None };
        let (places, looks) = (&work.places, (&mut work.looks, &mut work.spans));
        attention(&self.compute, shape, store, 0, view, &[table], places, looks, queries, heads);
        let out = sized(&mut work.normed, work.state.len());
        self.linear(&layer.output, heads, out, &mut work.activations);
        self.add_and_norm(&layer.attention_norm, work);
        let inner = sized(&mut work.gate, tokens * shape.feed_forward as usize);
        self.linear(&layer.up, &work.state, inner, &mut work.activations);
        let path = self.compute.path;
        self.each_row(inner, shape.feed_forward as usize, |_, row| gelu_erf(path, row));
        self.linear(&layer.down, inner, &mut work.normed, &mut work.activations);
        self.add_and_norm(&layer.output_norm, work);
    }

    fn add_and_norm(&self, norm: &Norm, work: &mut Workspace) {
        let (path, epsilon, width) = (self.compute.path, self.epsilon, norm.weight.len());
        let Workspace { state, normed, .. } = work;
        self.each_row(state, width, |at, row| {
            add(path, row, &normed[at * width..][..width]);
            layer_norm(path, row, &norm.weight, &norm.bias, epsilon);
        });
    }
}

impl Network for Bert {
    fn shape(&self) -> &ModelShape {
        &self.shape
    }

    fn compute(&self) -> &Compute {
        &self.compute
    }

    fn step(&self, runs: &[Run<'_>], store: &mut Store, work: &mut Workspace) {
        let width = self.shape.width as usize;
        let mut wanted = std::mem::take(&mut work.wanted);
        wanted.clear();
        let mut owed = Duration::ZERO;
        for run in runs {
            work.place(std::slice::from_ref(run));
            self.embed(run.tokens, sized(&mut work.state, run.tokens.len() * width));
            for (at, layer) in self.layers.iter().enumerate() {
                let begun = Instant::now();
                self.layer(layer, run.sequence.pages(), store, work);
                owed += self.pace.owed(at, begun);
                work.end_layer();
            }
            let from = work.state.len() - run.wanted_rows() * width;
            wanted.extend_from_slice(&work.state[from..]);
        }
        work.wanted = wanted;
        work.wait(owed);
    }

    fn logits(&self, _: Range<usize>, _: &mut Workspace) {
        panic!("an encoder has no logits");
    }
}
