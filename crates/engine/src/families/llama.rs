//! The `llama` family, dense.
//!
//! Source: Touvron et al. 2023, "LLaMA", and the GGUF naming of its tensors. Query and key rows are
//! stored for rotary embedding on interleaved pairs. Without `output.weight` the embedding matrix
//! is used for the output.

use deft_formats::gguf::Header;
use deft_kernels::{Activations, Path, add, rms_norm, silu_gate};
use deft_planning::{Bytes, ModelShape};

use super::parts::{
    MatrixPlace, Rotary, Tensors, VectorPlace, attention, positive, sized, tokenizer_bytes,
};
use super::{Decoder, LaneCache, Logits, Workspace};
use crate::mapped::MappedFile;
use crate::model::LoadError;

/// Where everything lies in a file, checked.
pub(super) struct Layout {
    pub(super) shape: ModelShape,
    epsilon: f32,
    rope: Rope,
    rope_factors: Option<VectorPlace>,
    embedding: MatrixPlace,
    output_norm: VectorPlace,
    output: MatrixPlace,
    layers: Vec<LayerPlaces>,
}

struct Rope {
    dimensions: u32,
    base: f32,
    linear: f32,
}

struct LayerPlaces {
    attention_norm: VectorPlace,
    query: MatrixPlace,
    key: MatrixPlace,
    value: MatrixPlace,
    output: MatrixPlace,
    feed_forward_norm: VectorPlace,
    gate: MatrixPlace,
    up: MatrixPlace,
    down: MatrixPlace,
}

impl Layout {
    pub(super) fn new(header: &Header) -> Result<Self, LoadError> {
        let shape = shape(header)?;
        let rope = rope(header, &shape)?;
        let mut tensors = Tensors::new(header);
        let embedding = tensors.matrix("token_embd.weight", shape.width, shape.vocabulary)?;
        let output = if tensors.has("output.weight") {
            tensors.matrix("output.weight", shape.width, shape.vocabulary)?
        } else {
            embedding
        };
        let rope_factors = if tensors.has("rope_freqs.weight") {
            Some(tensors.vector("rope_freqs.weight", rope.dimensions / 2)?)
        } else {
            None
        };
        let layers = (0..shape.layers)
            .map(|layer| LayerPlaces::new(&mut tensors, layer, &shape))
            .collect::<Result<_, _>>()?;
        let output_norm = tensors.vector("output_norm.weight", shape.width)?;
        tensors.finish()?;
        let epsilon = header.metadata.float("llama.attention.layer_norm_rms_epsilon")?;
        Ok(Self { shape, epsilon, rope, rope_factors, embedding, output_norm, output, layers })
    }
}

fn shape(header: &Header) -> Result<ModelShape, LoadError> {
    let metadata = &header.metadata;
    let unsupported = |what: String| LoadError::Unsupported { what };
    if metadata.optional_count("llama.expert_count")?.unwrap_or(0) > 0 {
        return Err(unsupported("it has experts, which are not supported yet".to_owned()));
    }
    let heads = positive(header, "llama.attention.head_count")?;
    let kv_heads = match metadata.optional_count("llama.attention.head_count_kv")? {
        None => heads,
        Some(_) => positive(header, "llama.attention.head_count_kv")?,
    };
    if !heads.is_multiple_of(kv_heads) {
        return Err(unsupported(format!(
            "{heads} query heads cannot share {kv_heads} key and value heads evenly"
        )));
    }
    let width = positive(header, "llama.embedding_length")?;
    let head_length = |key: &str| -> Result<u32, LoadError> {
        match metadata.optional_count(key)? {
            Some(_) => positive(header, key),
            None if width.is_multiple_of(heads) => Ok(width / heads),
            None => Err(unsupported(format!("{heads} heads do not divide the width {width}"))),
        }
    };
    let tokens = metadata.texts("tokenizer.ggml.tokens")?.len();
    let vocabulary = u32::try_from(tokens)
        .map_err(|_| unsupported(format!("a vocabulary of {tokens} tokens is too large")))?;
    Ok(ModelShape {
        file: Bytes(header.file_bytes),
        layers: positive(header, "llama.block_count")?,
        heads,
        kv_heads,
        key_length: head_length("llama.attention.key_length")?,
        value_length: head_length("llama.attention.value_length")?,
        context_length: positive(header, "llama.context_length")?,
        vocabulary,
        width,
        feed_forward: positive(header, "llama.feed_forward_length")?,
        tokenizer: tokenizer_bytes(header),
    })
}

fn rope(header: &Header, shape: &ModelShape) -> Result<Rope, LoadError> {
    let metadata = &header.metadata;
    let unsupported = |what: String| LoadError::Unsupported { what };
    let dimensions =
        metadata.optional_count("llama.rope.dimension_count")?.unwrap_or(shape.key_length);
    if dimensions % 2 != 0 || dimensions > shape.key_length || dimensions == 0 {
        return Err(unsupported(format!(
            "rotary embedding over {dimensions} of {} values of a head",
            shape.key_length
        )));
    }
    let base = metadata.optional_float("llama.rope.freq_base")?.unwrap_or(10_000.0);
    let linear = match metadata.optional_text("llama.rope.scaling.type")? {
        None | Some("none") => 1.0,
        Some("linear") => metadata.float("llama.rope.scaling.factor")?,
        Some(other) => {
            return Err(unsupported(format!("rotary scaling `{other}` is not supported yet")));
        }
    };
    if !(base.is_finite() && base > 0.0 && linear.is_finite() && linear > 0.0) {
        return Err(unsupported(format!("rotary base {base} or factor {linear} is not positive")));
    }
    Ok(Rope { dimensions, base, linear })
}

impl LayerPlaces {
    fn new(tensors: &mut Tensors<'_>, layer: u32, shape: &ModelShape) -> Result<Self, LoadError> {
        let name = |part: &str| format!("blk.{layer}.{part}.weight");
        let overflow = || LoadError::Unsupported { what: "its heads are too wide".to_owned() };
        let product = |a: u32, b: u32| a.checked_mul(b).ok_or_else(overflow);
        let queries = product(shape.heads, shape.key_length)?;
        let keys = product(shape.kv_heads, shape.key_length)?;
        let values = product(shape.kv_heads, shape.value_length)?;
        let heads = product(shape.heads, shape.value_length)?;
        let (width, inner) = (shape.width, shape.feed_forward);
        Ok(Self {
            attention_norm: tensors.vector(&name("attn_norm"), width)?,
            query: tensors.matrix(&name("attn_q"), width, queries)?,
            key: tensors.matrix(&name("attn_k"), width, keys)?,
            value: tensors.matrix(&name("attn_v"), width, values)?,
            output: tensors.matrix(&name("attn_output"), heads, width)?,
            feed_forward_norm: tensors.vector(&name("ffn_norm"), width)?,
            gate: tensors.matrix(&name("ffn_gate"), width, inner)?,
            up: tensors.matrix(&name("ffn_up"), width, inner)?,
            down: tensors.matrix(&name("ffn_down"), inner, width)?,
        })
    }
}

/// A model of the family, opened.
pub(super) struct Llama {
    shape: ModelShape,
    path: Path,
    file: MappedFile,
    epsilon: f32,
    rotary: Rotary,
    embedding: MatrixPlace,
    output_norm: Vec<f32>,
    output: MatrixPlace,
    layers: Vec<Layer>,
}

struct Layer {
    attention_norm: Vec<f32>,
    feed_forward_norm: Vec<f32>,
    places: LayerPlaces,
}

impl Llama {
    pub(super) fn new(layout: Layout, file: MappedFile) -> Result<Self, LoadError> {
        let factors = layout.rope_factors.map(|place| place.load(&file)).transpose()?;
        let Rope { dimensions, base, linear } = layout.rope;
        let layers = layout
            .layers
            .into_iter()
            .map(|places| {
                Ok(Layer {
                    attention_norm: places.attention_norm.load(&file)?,
                    feed_forward_norm: places.feed_forward_norm.load(&file)?,
                    places,
                })
            })
            .collect::<Result<_, LoadError>>()?;
        Ok(Self {
            shape: layout.shape,
            path: Path::best(),
            epsilon: layout.epsilon,
            rotary: Rotary::new(dimensions, base, linear, factors.as_deref()),
            embedding: layout.embedding,
            output_norm: layout.output_norm.load(&file)?,
            output: layout.output,
            layers,
            file,
        })
    }

    fn attention_part(
        &self,
        at: usize,
        tokens: usize,
        cache: &mut LaneCache,
        work: &mut Workspace,
    ) {
        let shape = &self.shape;
        let layer = &self.layers[at];
        let places = &layer.places;
        let rows = |heads: u32, length: u32| tokens * heads as usize * length as usize;
        let normed = sized(&mut work.normed, work.state.len());
        rms_norm(&work.state, &layer.attention_norm, self.epsilon, normed);
        let queries = sized(&mut work.queries, rows(shape.heads, shape.key_length));
        let keys = sized(&mut work.keys, rows(shape.kv_heads, shape.key_length));
        let values = sized(&mut work.values, rows(shape.kv_heads, shape.value_length));
        for (place, out) in [
            (&places.query, &mut *queries),
            (&places.key, &mut *keys),
            (&places.value, &mut *values),
        ] {
            self.multiply(place, &place.activations(normed), out, &mut work.scratch);
        }
        let head = shape.key_length as usize;
        let position = cache.filled();
        self.rotary.turn_interleaved(queries, shape.heads as usize * head, head, position);
        self.rotary.turn_interleaved(keys, shape.kv_heads as usize * head, head, position);
        cache.write(at, keys, values);
        let heads = sized(&mut work.heads, rows(shape.heads, shape.value_length));
        attention(self.path, shape, cache, at, queries, heads);
        self.multiply(&places.output, &places.output.activations(heads), normed, &mut work.scratch);
        add(&mut work.state, normed);
    }

    fn feed_forward_part(&self, at: usize, tokens: usize, work: &mut Workspace) {
        let layer = &self.layers[at];
        let places = &layer.places;
        let inner = tokens * self.shape.feed_forward as usize;
        let normed = sized(&mut work.normed, work.state.len());
        rms_norm(&work.state, &layer.feed_forward_norm, self.epsilon, normed);
        let gate = sized(&mut work.gate, inner);
        let up = sized(&mut work.up, inner);
        for (place, out) in [(&places.gate, &mut *gate), (&places.up, &mut *up)] {
            self.multiply(place, &place.activations(normed), out, &mut work.scratch);
        }
        silu_gate(gate, up);
        self.multiply(&places.down, &places.down.activations(gate), normed, &mut work.scratch);
        add(&mut work.state, normed);
    }

    fn multiply(
        &self,
        place: &MatrixPlace,
        x: &Activations<'_>,
        out: &mut [f32],
        scratch: &mut Vec<f32>,
    ) {
        place.multiply(&self.file, self.path, x, out, scratch);
    }
}

impl Decoder for Llama {
    fn shape(&self) -> &ModelShape {
        &self.shape
    }

    fn step(&self, tokens: &[u32], cache: &mut LaneCache, work: &mut Workspace, logits: Logits) {
        assert!(cache.filled() + tokens.len() <= cache.context(), "the lane's context is full");
        let width = self.shape.width as usize;
        let state = sized(&mut work.state, tokens.len() * width);
        for (row, &token) in state.chunks_mut(width).zip(tokens) {
            self.embedding.decode_row(&self.file, token as usize, row);
        }
        for at in 0..self.layers.len() {
            self.attention_part(at, tokens.len(), cache, work);
            self.feed_forward_part(at, tokens.len(), work);
        }
        cache.advance(tokens.len());
        let first = match logits {
            Logits::None => return,
            Logits::Last => tokens.len() - 1,
            Logits::All => 0,
        };
        let wanted = &work.state[first * width..];
        let normed = sized(&mut work.normed, wanted.len());
        rms_norm(wanted, &self.output_norm, self.epsilon, normed);
        let rows = (tokens.len() - first) * self.shape.vocabulary as usize;
        let out = sized(&mut work.logits, rows);
        self.multiply(&self.output, &self.output.activations(normed), out, &mut work.scratch);
    }
}
