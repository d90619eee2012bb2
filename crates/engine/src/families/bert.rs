//! The `bert` family: an encoder, for embeddings or (as cross-encoder) for scores of pairs of texts.
//!
//! Source: Devlin et al. 2018 and the GGUF naming of its tensors; scores of pairs: Nogueira and Cho 2019. Attention is
//! bidirectional; positions and token types have embeddings; norms follow attention and feed-forward part; the activation
//! function is the exact Gaussian error unit.

use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_formats::gguf::Header;
use deft_kernels::{Device, Host, Norm};
use deft_planning::{LoadSettings, ModelShape};

use super::blueprint::{Projection, Reader, usual_score_scale};
use super::buffers::{Buffers, Step};
use super::home::Home;
use super::network::Network;
use super::parts::{Run, Sight, View, Workspace};
use super::pooling::Pooling;
use super::tensors::{MatrixPlace, VectorPlace};
use crate::cache::{PageCopy, Store};
use crate::compute::ComputeSettings;
use crate::layer_memory::{AcceleratorDelay, LayerMemory, OutOfMemory};
use crate::load_error::LoadError;
use crate::mapped::Mapped;

/// The matrices and vectors of the file.
pub(super) struct Plan {
    pub(super) shape: ModelShape,
    epsilon: f32,
    tokens: MatrixPlace,
    positions: MatrixPlace,
    types: MatrixPlace,
    norm: NormPlace,
    layers: Vec<LayerPlan>,
    head: Option<HeadPlan>,
}

/// The head of a cross-encoder.
struct HeadPlan {
    /// A square layer before the scores; some models have none.
    pooler: Option<Projection>,
    scores: Projection,
}

impl HeadPlan {
    fn read(reader: &mut Reader<'_>, width: u32, scores: u32) -> Result<Self, LoadError> {
        let pooler = reader.tensors.has("cls.weight");
        let mut part = |name: &str, rows: u32| -> Result<Projection, LoadError> {
            let bias = format!("{name}.bias");
            let has_bias = reader.tensors.has(&bias);
            Ok(Projection {
                matrix: reader.tensors.matrix(&format!("{name}.weight"), width, rows)?,
                bias: has_bias.then(|| reader.tensors.vector(&bias, rows)).transpose()?,
            })
        };
        let pooler = pooler.then(|| part("cls", width)).transpose()?;
        let scores = part("cls.output", scores)?;
        Ok(Self { pooler, scores })
    }
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
    let head = match Pooling::of(header)? {
        Some(Pooling::Rank { scores }) => Some(HeadPlan::read(&mut reader, width, scores)?),
        _ => None,
    };
    reader.tensors.finish()?;
    // Only the current layer has keys and values.
    let shape = ModelShape { layers: 1, encoder: true, ..shape };
    Ok(Plan { shape, epsilon, tokens, positions, types, norm: first_norm, layers, head })
}

impl NormPlace {
    fn load(&self, file: &Mapped, epsilon: f32) -> Result<Norm<Vec<f32>>, LoadError> {
        Ok(Norm { weight: self.weight.load(file)?, bias: Some(self.bias.load(file)?), epsilon })
    }
}

/// A matrix, and its bias as floats.
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
    attention_norm: Norm<Vec<f32>>,
    up: Linear,
    down: Linear,
    output_norm: Norm<Vec<f32>>,
}

impl Layer {
    fn load(plan: &LayerPlan, epsilon: f32, file: &Mapped) -> Result<Self, LoadError> {
        Ok(Self {
            query: Linear::load(&plan.query, file)?,
            key: Linear::load(&plan.key, file)?,
            value: Linear::load(&plan.value, file)?,
            output: Linear::load(&plan.output, file)?,
            attention_norm: plan.attention_norm.load(file, epsilon)?,
            up: Linear::load(&plan.up, file)?,
            down: Linear::load(&plan.down, file)?,
            output_norm: plan.output_norm.load(file, epsilon)?,
        })
    }
}

/// The opened head of a cross-encoder.
struct Head {
    pooler: Option<Linear>,
    scores: Linear,
}

impl Head {
    fn load(plan: &HeadPlan, file: &Mapped) -> Result<Self, LoadError> {
        let load = |projection| Linear::load(projection, file);
        Ok(Self {
            pooler: plan.pooler.as_ref().map(load).transpose()?,
            scores: load(&plan.scores)?,
        })
    }
}

/// An opened encoder. All its layers are one stage on the host.
pub(super) struct Bert {
    host: Host,
    file: Arc<Mapped>,
    shape: ModelShape,
    tokens: MatrixPlace,
    positions: MatrixPlace,
    types: MatrixPlace,
    norm: Norm<Vec<f32>>,
    layers: Vec<Layer>,
    head: Option<Head>,
    delay: AcceleratorDelay,
    held: Option<Held>,
}

/// Pages of one layer, and working space.
struct Held {
    store: Store<Host>,
    buffers: Buffers<Host>,
}

impl Bert {
    pub(super) fn new(
        plan: Plan,
        file: Mapped,
        layer_memory: &LayerMemory,
        compute: ComputeSettings,
    ) -> Result<Self, LoadError> {
        let layers = plan.layers.iter().map(|layer| Layer::load(layer, plan.epsilon, &file));
        Ok(Self {
            host: compute.host(),
            layers: layers.collect::<Result<_, _>>()?,
            norm: plan.norm.load(&file, plan.epsilon)?,
            head: plan.head.as_ref().map(|head| Head::load(head, &file)).transpose()?,
            file: Arc::new(file),
            delay: layer_memory.delay(&plan.shape.layer_weights),
            shape: plan.shape,
            tokens: plan.tokens,
            positions: plan.positions,
            types: plan.types,
            held: None,
        })
    }

    /// `out = x . matrix + bias` for each token, for several of them with the same `x`.
    fn linear<const COUNT: usize>(
        &self,
        x: &Vec<f32>,
        mut products: [(&Linear, &mut Vec<f32>); COUNT],
        activations: &mut <Host as Device>::Activations,
    ) {
        let tokens = x.len() / products[0].0.matrix.column_count();
        for (linear, out) in &mut products {
            self.host.size(out, tokens * linear.matrix.row_count());
        }
        let matrices = products
            .each_mut()
            .map(|(linear, out)| (linear.matrix.of(&self.file), (&mut **out).into()));
        self.host.multiply(x, matrices, activations);
        for (Linear { bias, .. }, out) in products {
            if !bias.is_empty() {
                self.host.add_to_rows(out, bias);
            }
        }
    }

    /// The type of each token of an input. In a pair of texts, those of the second text have another type: they follow the
    /// first separator, which is also the last token.
    fn types(&self, tokens: &[u32]) -> impl Iterator<Item = usize> + use<> {
        let has_two = self.head.is_some() && self.types.row_count() > 1;
        let separator = tokens.last().filter(|_| has_two);
        let second = separator
            .and_then(|separator| tokens.iter().position(|token| token == separator))
            .map_or(usize::MAX, |at| at + 1);
        (0..tokens.len()).map(move |at| usize::from(at >= second))
    }

    /// Computes the embeddings of tokens at their positions.
    fn embed(&self, tokens: &[u32], state: &mut Vec<f32>) {
        let width = self.shape.width as usize;
        self.host.size(state, tokens.len() * width);
        let mut row = vec![0.0; width];
        let inputs = tokens.iter().zip(self.types(tokens));
        for (position, (state, (&token, kind))) in state.chunks_mut(width).zip(inputs).enumerate() {
            self.tokens.decode_row(&self.file, token as usize, state);
            for (matrix, at) in [(&self.positions, position), (&self.types, kind)] {
                matrix.decode_row(&self.file, at, &mut row);
                state.iter_mut().zip(&row).for_each(|(state, value)| *state += value);
            }
        }
        self.host.norm_in_place(&self.norm, state);
    }

    fn layer(&self, layer: &Layer, held: &mut Held, step: &Step<'_>) {
        let (shape, host) = (&self.shape, &self.host);
        let (tokens, width) = (step.positions.len(), shape.width as usize);
        let Held { store, buffers } = held;
        let Buffers { state, queries, keys, values, activations, .. } = buffers;
        let products =
            [(&layer.query, &mut *queries), (&layer.key, &mut *keys), (&layer.value, &mut *values)];
        self.linear(state, products, activations);
        store.write(host, 0, (keys, values), |position| (step.tables[0], position));
        host.size(&mut buffers.heads, tokens * (shape.heads * shape.value_length) as usize);
        let scale = usual_score_scale(shape.key_length);
        let view = View { sight: Sight::Around(tokens), scale, cap: None };
        buffers.attend(host, shape.heads, store, 0, view, step);
        let Buffers { state, normed, heads, gate, activations, .. } = buffers;
        self.linear(heads, [(&layer.output, normed)], activations);
        host.add(state, normed, width);
        host.norm_in_place(&layer.attention_norm, state);
        self.linear(state, [(&layer.up, gate)], activations);
        host.gelu(gate, shape.feed_forward as usize);
        self.linear(gate, [(&layer.down, normed)], activations);
        host.add(state, normed, width);
        host.norm_in_place(&layer.output_norm, state);
    }
}

impl Network for Bert {
    fn shape(&self) -> &ModelShape {
        &self.shape
    }

    fn host(&self) -> &Host {
        &self.host
    }

    fn hold(
        &mut self,
        settings: &LoadSettings,
        tokens: u32,
        _: &mut LayerMemory,
    ) -> Result<(), OutOfMemory> {
        // The pages of an encoder belong to no layer in particular.
        let mut layer_memory = LayerMemory::host();
        let take = |layer, bytes| self.file.pages(layer, bytes, &mut layer_memory);
        let store = Store::new(&self.shape, settings, 0..1, take)?;
        let buffers = Buffers::new(&self.host, &self.shape, settings, tokens);
        self.held = Some(Held { store, buffers });
        Ok(())
    }

    fn copy_page(&mut self, copy: PageCopy) {
        if let Some(held) = &mut self.held {
            held.store.copy(&self.host, copy);
        }
    }

    fn step(&mut self, runs: &[Run<'_>], work: &mut Workspace) {
        let width = self.shape.width as usize;
        let mut held = self.held.take().expect("memory is taken before the first step");
        work.wanted.clear();
        let mut delay = Duration::ZERO;
        for run in runs {
            work.place(std::slice::from_ref(run));
            self.embed(run.tokens, &mut work.state);
            self.host.put(&mut work.state, &mut held.buffers.state);
            let tables = [run.sequence.pages()];
            let step =
                Step { positions: &work.positions, tables: &tables, baton: work.baton.as_ref() };
            for (at, layer) in self.layers.iter().enumerate() {
                let begun = Instant::now();
                self.layer(layer, &mut held, &step);
                delay += self.delay.remaining(at, begun);
                step.between_layers();
            }
            self.host.take(&mut held.buffers.state, &mut work.state);
            let from = work.state.len() - run.wanted_rows() * width;
            work.wanted.extend_from_slice(&work.state[from..]);
        }
        self.held = Some(held);
        work.wait(delay);
    }

    fn logits(&mut self, _: Range<usize>, _: &mut Workspace) {
        panic!("an encoder has no logits");
    }

    fn scores(&self, state: &[f32]) -> Vec<f32> {
        let head = self.head.as_ref().expect("the lane checks that there is a head");
        let mut activations = Default::default();
        let (mut state, mut out) = (state.to_vec(), Vec::new());
        if let Some(pooler) = &head.pooler {
            self.linear(&state, [(pooler, &mut out)], &mut activations);
            state.clear();
            state.extend(out.iter().map(|value| value.tanh()));
        }
        self.linear(&state, [(&head.scores, &mut out)], &mut activations);
        out
    }

    #[cfg(test)]
    fn page_bytes(&self) -> usize {
        self.held.as_ref().map_or(0, |held| held.store.bytes)
    }
}
