//! Blueprints: a family's description of a decoder, with its tensors and its special features. The
//! [`Transformer`](super::transformer) computes it.

use deft_formats::gguf::{Header, MetadataError, TextList};
use deft_kernels::{GateCurve, Pairs};
use deft_planning::{Bytes, ModelShape};

use super::feed_forward::{Experts, FeedForward, Gated};
use super::parts::Sight;
use super::rotary::{RotaryPlan, Scaling, Yarn};
use super::tensors::{MatrixPlace, Tensors, VectorPlace};
use crate::layers::layer_weights;
use crate::load_error::LoadError;

/// The description of a decoder.
pub(super) struct Blueprint {
    pub(super) shape: ModelShape,
    pub(super) epsilon: f32,
    /// Factor of the token embeddings.
    pub(super) embedding_scale: f32,
    /// Factor of the scores before the softmax.
    pub(super) score_scale: f32,
    /// Scores are softly limited to plus and minus this.
    pub(super) score_cap: Option<f32>,
    /// Logits are softly limited to plus and minus this.
    pub(super) logit_cap: Option<f32>,
    pub(super) pairs: Pairs,
    /// Divisors of the rotary frequencies.
    pub(super) rotary_factors: Option<VectorPlace>,
    pub(super) embedding: MatrixPlace,
    pub(super) output_norm: VectorPlace,
    pub(super) output: MatrixPlace,
    pub(super) layers: Vec<LayerPlan>,
}

/// A projection, with its bias if it has one.
pub(super) struct Projection {
    pub(super) matrix: MatrixPlace,
    pub(super) bias: Option<VectorPlace>,
}

/// One layer.
pub(super) struct LayerPlan {
    pub(super) rotary: RotaryPlan,
    pub(super) sight: Sight,
    pub(super) attention_norm: VectorPlace,
    pub(super) query: Projection,
    pub(super) key: Projection,
    pub(super) value: Projection,
    /// Norms of each head of queries and keys, before the rotary embedding.
    pub(super) head_norms: Option<(VectorPlace, VectorPlace)>,
    pub(super) output: MatrixPlace,
    pub(super) attention_post_norm: Option<VectorPlace>,
    pub(super) feed_forward_norm: VectorPlace,
    pub(super) gate: GateCurve,
    pub(super) feed_forward: FeedForward,
    pub(super) feed_forward_post_norm: Option<VectorPlace>,
}

/// Reads the keys and tensors of a family.
pub(super) struct Reader<'h> {
    pub(super) header: &'h Header,
    pub(super) tensors: Tensors<'h>,
    family: &'h str,
}

/// The error of a feature that is not supported.
pub(super) fn unsupported(what: String) -> LoadError {
    LoadError::Unsupported { what }
}

impl<'h> Reader<'h> {
    pub(super) fn new(header: &'h Header) -> Result<Self, LoadError> {
        Ok(Self { header, tensors: Tensors::new(header), family: super::name(header)? })
    }

    /// A key with the prefix of the family.
    pub(super) fn key(&self, name: &str) -> String {
        format!("{}.{name}", self.family)
    }

    /// A required count, which must not be zero.
    pub(super) fn count(&self, name: &str) -> Result<u32, LoadError> {
        let key = self.key(name);
        match self.header.metadata.count(&key)? {
            0 => Err(LoadError::Metadata(MetadataError::OutOfRange {
                key,
                value: "0".to_owned(),
                reason: "it must be at least 1".to_owned(),
            })),
            count => Ok(count),
        }
    }

    /// An optional count, which must not be zero.
    pub(super) fn count_or(&self, name: &str, default: u32) -> Result<u32, LoadError> {
        match self.header.metadata.get(&self.key(name)) {
            None => Ok(default),
            Some(_) => self.count(name),
        }
    }

    /// An optional float, which must be positive.
    pub(super) fn float(&self, name: &str) -> Result<Option<f32>, LoadError> {
        let key = self.key(name);
        match self.header.metadata.optional_float(&key)? {
            Some(value) if !(value.is_finite() && value > 0.0) => {
                Err(unsupported(format!("key `{key}` is {value}, it must be positive")))
            }
            found => Ok(found),
        }
    }

    /// The sizes that all decoders have. `feed_forward` is the inner width that a token uses.
    pub(super) fn shape(&self, feed_forward: u32) -> Result<ModelShape, LoadError> {
        let heads = self.count("attention.head_count")?;
        let kv_heads = self.count_or("attention.head_count_kv", heads)?;
        if !heads.is_multiple_of(kv_heads) {
            return Err(unsupported(format!(
                "{heads} query heads are not a multiple of {kv_heads} key and value heads"
            )));
        }
        let width = self.count("embedding_length")?;
        let head_length = |name: &str| match self.header.metadata.get(&self.key(name)) {
            Some(_) => self.count(name),
            None if width.is_multiple_of(heads) => Ok(width / heads),
            None => {
                Err(unsupported(format!("the width {width} is not a multiple of {heads} heads")))
            }
        };
        let tokens = self.header.metadata.texts("tokenizer.ggml.tokens")?.len();
        let vocabulary = u32::try_from(tokens)
            .map_err(|_| unsupported(format!("a vocabulary of {tokens} tokens is too large")))?;
        let layers = self.count("block_count")?;
        let shape = ModelShape {
            file: Bytes(self.header.file_bytes),
            layer_weights: layer_weights(self.header, layers),
            layers,
            heads,
            kv_heads,
            key_length: head_length("attention.key_length")?,
            value_length: head_length("attention.value_length")?,
            context_length: self.count("context_length")?,
            vocabulary,
            width,
            feed_forward,
            // Set after the layers were read.
            experts: 0,
            experts_used: 0,
            floats: self.header.tensors.iter().any(|tensor| {
                let is_matrix = tensor.name.starts_with("blk.") && tensor.dimensions.len() > 1;
                is_matrix && tensor.tensor_type.is_float()
            }),
            encoder: false,
            tokenizer: tokenizer_bytes(self.header),
        };
        let widest = shape.key_length.max(shape.value_length);
        // The rows of three such projections side by side must fit 32 bits.
        if heads.checked_mul(widest).and_then(|values| values.checked_mul(4)).is_none() {
            return Err(unsupported(format!("{heads} heads of {widest} values are too wide")));
        }
        Ok(shape)
    }

    /// The rotary embedding that the keys describe.
    pub(super) fn rotary(&self, shape: &ModelShape) -> Result<RotaryPlan, LoadError> {
        let dimensions = self.count_or("rope.dimension_count", shape.key_length)?;
        if dimensions % 2 != 0 || dimensions > shape.key_length {
            return Err(unsupported(format!(
                "rotary embedding over {dimensions} of {} values of a head",
                shape.key_length
            )));
        }
        let base = self.float("rope.freq_base")?.unwrap_or(10_000.0);
        let scaling = self.scaling(shape)?;
        let of_yarn = if let Scaling::Yarn(yarn) = scaling { yarn.magnitude() } else { 1.0 };
        let magnitude = of_yarn * self.float("rope.scaling.attn_factor")?.unwrap_or(1.0);
        Ok(RotaryPlan { dimensions, base, scaling, magnitude })
    }

    /// The scaling of the rotary frequencies that the keys describe; `longrope` has factors of its own.
    fn scaling(&self, shape: &ModelShape) -> Result<Scaling, LoadError> {
        let factor = self.float("rope.scaling.factor")?;
        let kind = self.header.metadata.optional_text(&self.key("rope.scaling.type"))?;
        Ok(match (kind, factor) {
            // Files of the first versions of the format have a factor only.
            (None, _) => match self.float("rope.scale_linear")?.or(factor) {
                Some(factor) => Scaling::Linear(factor),
                None => Scaling::None,
            },
            (Some("none"), _) => Scaling::None,
            // The family applies its factors.
            (Some("longrope"), _) if self.family == "phi3" => Scaling::None,
            (Some("linear"), _) => Scaling::Linear(factor.unwrap_or(1.0)),
            (Some("yarn"), None) => {
                return Err(unsupported("rotary scaling `yarn` without its factor".to_owned()));
            }
            (Some("yarn"), Some(factor)) => {
                let name = "rope.scaling.original_context_length";
                Scaling::Yarn(Yarn {
                    factor,
                    original: self.count_or(name, shape.context_length)?,
                    fast: self.float("rope.scaling.yarn_beta_fast")?.unwrap_or(32.0),
                    slow: self.float("rope.scaling.yarn_beta_slow")?.unwrap_or(1.0),
                })
            }
            (Some(other), _) => {
                return Err(unsupported(format!(
                    "rotary scaling `{other}` is not supported for this family; `linear` and `yarn` are, \
                     and `longrope` for `phi3`"
                )));
            }
        })
    }

    /// The blueprint of the whole decoder; `plan` describes each layer. Special features are changed afterwards. Refuses a file
    /// with unused tensors.
    pub(super) fn blueprint(
        mut self,
        mut shape: ModelShape,
        pairs: Pairs,
        plan: impl Fn(&mut Self, u32) -> Result<LayerPlan, LoadError>,
    ) -> Result<Blueprint, LoadError> {
        let (embedding, output_norm, output) = self.ends(&shape)?;
        let layers: Vec<LayerPlan> =
            (0..shape.layers).map(|layer| plan(&mut self, layer)).collect::<Result<_, _>>()?;
        let experts = layers.iter().map(|layer| layer.feed_forward.experts()).max();
        (shape.experts, shape.experts_used) = experts.unwrap_or_default();
        shape.tokenizer += tree_bytes(self.header);
        let epsilon = self.header.metadata.float(&self.key("attention.layer_norm_rms_epsilon"))?;
        self.tensors.finish()?;
        Ok(Blueprint {
            epsilon,
            embedding_scale: 1.0,
            score_scale: usual_score_scale(shape.key_length),
            score_cap: None,
            logit_cap: None,
            pairs,
            rotary_factors: None,
            embedding,
            output_norm,
            output,
            layers,
            shape,
        })
    }

    /// A decoder with equal layers.
    pub(super) fn plain_blueprint(
        self,
        feed_forward: u32,
        pairs: Pairs,
        style: LayerStyle,
    ) -> Result<Blueprint, LoadError> {
        let shape = self.shape(feed_forward)?;
        let rotary = self.rotary(&shape)?;
        self.blueprint(shape.clone(), pairs, |reader, layer| {
            reader.plain_layer(layer, &shape, rotary, style)
        })
    }

    /// The embedding and the output matrix. A file without an output matrix uses the embedding for both.
    fn ends(
        &mut self,
        shape: &ModelShape,
    ) -> Result<(MatrixPlace, VectorPlace, MatrixPlace), LoadError> {
        let (width, vocabulary) = (shape.width, shape.vocabulary);
        let embedding = self.tensors.matrix("token_embd.weight", width, vocabulary)?;
        let output = if self.tensors.has("output.weight") {
            self.tensors.matrix("output.weight", width, vocabulary)?
        } else {
            embedding
        };
        Ok((embedding, self.tensors.vector("output_norm.weight", width)?, output))
    }

    pub(super) fn vector(
        &mut self,
        layer: u32,
        part: &str,
        length: u32,
    ) -> Result<VectorPlace, LoadError> {
        self.tensors.vector(&format!("blk.{layer}.{part}"), length)
    }

    pub(super) fn matrix(
        &mut self,
        layer: u32,
        part: &str,
        columns: u32,
        rows: u32,
    ) -> Result<MatrixPlace, LoadError> {
        self.tensors.matrix(&format!("blk.{layer}.{part}.weight"), columns, rows)
    }

    /// A projection, with its bias if the file has one; `biased` families require it.
    pub(super) fn projection(
        &mut self,
        layer: u32,
        part: &str,
        (columns, rows): (u32, u32),
        biased: bool,
    ) -> Result<Projection, LoadError> {
        let matrix = self.matrix(layer, part, columns, rows)?;
        let bias = format!("{part}.bias");
        let has_bias = biased || self.tensors.has(&format!("blk.{layer}.{bias}"));
        let bias = has_bias.then(|| self.vector(layer, &bias, rows)).transpose()?;
        Ok(Projection { matrix, bias })
    }

    /// The layer of most families: no extra norms, a dense feed-forward part gated by SiLU.
    pub(super) fn plain_layer(
        &mut self,
        layer: u32,
        shape: &ModelShape,
        rotary: RotaryPlan,
        style: LayerStyle,
    ) -> Result<LayerPlan, LoadError> {
        let width = shape.width;
        let queries = shape.heads * shape.key_length;
        let keys = shape.kv_heads * shape.key_length;
        let values = shape.kv_heads * shape.value_length;
        let [query, key, value] = if style.fused {
            let all = self.matrix(layer, "attn_qkv", width, queries + keys + values)?;
            [(0, queries), (queries, keys), (queries + keys, values)]
                .map(|(from, rows)| Projection { matrix: all.rows(from, rows), bias: None })
        } else {
            [
                self.projection(layer, "attn_q", (width, queries), style.biased)?,
                self.projection(layer, "attn_k", (width, keys), style.biased)?,
                self.projection(layer, "attn_v", (width, values), style.biased)?,
            ]
        };
        let head_norms = if style.head_norms {
            let query = self.vector(layer, "attn_q_norm.weight", shape.key_length)?;
            Some((query, self.vector(layer, "attn_k_norm.weight", shape.key_length)?))
        } else {
            None
        };
        let mut post_norm =
            |part: &str| style.post_norms.then(|| self.vector(layer, part, width)).transpose();
        let attention_post_norm = post_norm("post_attention_norm.weight")?;
        let feed_forward_post_norm = post_norm("post_ffw_norm.weight")?;
        Ok(LayerPlan {
            rotary,
            sight: Sight::Back,
            attention_norm: self.vector(layer, "attn_norm.weight", width)?,
            query,
            key,
            value,
            head_norms,
            output: self.matrix(layer, "attn_output", shape.heads * shape.value_length, width)?,
            attention_post_norm,
            feed_forward_norm: self.vector(layer, "ffn_norm.weight", width)?,
            gate: style.gate,
            feed_forward: self.feed_forward(layer, shape, style)?,
            feed_forward_post_norm,
        })
    }

    fn feed_forward(
        &mut self,
        layer: u32,
        shape: &ModelShape,
        style: LayerStyle,
    ) -> Result<FeedForward, LoadError> {
        let width = shape.width;
        if let Some(ExpertSizes { count, used, inner }) = style.experts {
            let router = self.matrix(layer, "ffn_gate_inp", width, count)?;
            let mut all = |part: &str, columns: u32, rows: u32| {
                let name = format!("blk.{layer}.{part}.weight");
                self.tensors.matrices(&name, columns, rows, count)
            };
            let gates = all("ffn_gate_exps", width, inner)?;
            let ups = all("ffn_up_exps", width, inner)?;
            let downs = all("ffn_down_exps", inner, width)?;
            let experts = gates.into_iter().zip(ups).zip(downs);
            let experts = experts.map(|((gate, up), down)| Gated { gate, up, down }).collect();
            let used = used as usize;
            return Ok(FeedForward::Experts(Experts { router, experts, used }));
        }
        let inner = shape.feed_forward;
        let (gate, up) = if style.fused {
            // The rows of the gate are first.
            let both =
                inner.checked_mul(2).ok_or_else(|| unsupported("it is too wide".to_owned()))?;
            let both = self.matrix(layer, "ffn_up", width, both)?;
            (both.rows(0, inner), both.rows(inner, inner))
        } else {
            (
                self.matrix(layer, "ffn_gate", width, inner)?,
                self.matrix(layer, "ffn_up", width, inner)?,
            )
        };
        let down = self.matrix(layer, "ffn_down", inner, width)?;
        Ok(FeedForward::Dense(Gated { gate, up, down }))
    }

    /// The numbers of experts, if the file has experts.
    pub(super) fn experts(&self, inner: &str) -> Result<Option<ExpertSizes>, LoadError> {
        if self.header.metadata.optional_count(&self.key("expert_count"))?.unwrap_or(0) == 0 {
            return Ok(None);
        }
        let (count, used) = (self.count("expert_count")?, self.count("expert_used_count")?);
        if used > count {
            return Err(unsupported(format!("it uses {used} of {count} experts")));
        }
        Ok(Some(ExpertSizes { count, used, inner: self.count(inner)? }))
    }
}

/// The experts of a layer.
#[derive(Debug, Clone, Copy)]
pub(super) struct ExpertSizes {
    pub(super) count: u32,
    pub(super) used: u32,
    /// Inner width of an expert.
    pub(super) inner: u32,
}

/// Special features of a family's layers.
#[derive(Debug, Clone, Copy)]
pub(super) struct LayerStyle {
    /// Queries, keys and values are one matrix, and so are gate and up.
    pub(super) fused: bool,
    /// Queries, keys and values have required biases.
    pub(super) biased: bool,
    /// The heads of queries and keys have norms.
    pub(super) head_norms: bool,
    /// Norms follow attention and feed-forward part.
    pub(super) post_norms: bool,
    pub(super) gate: GateCurve,
    pub(super) experts: Option<ExpertSizes>,
}

impl Default for LayerStyle {
    fn default() -> Self {
        Self {
            fused: false,
            biased: false,
            head_norms: false,
            post_norms: false,
            gate: GateCurve::Silu,
            experts: None,
        }
    }
}

/// `1 / sqrt(key length)`.
#[expect(clippy::cast_precision_loss, reason = "lengths are small")]
pub(super) fn usual_score_scale(key_length: u32) -> f32 {
    1.0 / (key_length as f32).sqrt()
}

/// Memory of the tokenizer and template: for each token its text and end, kind, score, and entries in two maps; for each merge
/// two pairs of ids in a map. A map has at most twice as many places as entries.
fn tokenizer_bytes(header: &Header) -> Bytes {
    let texts = |key: &str| header.metadata.optional_texts(key).ok().flatten();
    let count = |key: &str| texts(key).map_or(0, TextList::len);
    let places = |count: usize| (count * 8 / 7).next_power_of_two();
    let tokens = count("tokenizer.ggml.tokens");
    let text = texts("tokenizer.ggml.tokens").map_or(0, TextList::total_bytes);
    let token_bytes = text + tokens * (4 + 1 + 8) + 2 * places(tokens) * 5;
    let merges = places(count("tokenizer.ggml.merges")) * 17;
    Bytes((token_bytes + merges + TEMPLATE) as u64)
}

/// Memory of the tree of all tokens for constraints and tool calls, which is built at the first use: bytes for each token,
/// measured with 150,000 tokens.
const TREE: usize = 240;

fn tree_bytes(header: &Header) -> Bytes {
    let tokens = header.metadata.optional_texts("tokenizer.ggml.tokens").ok().flatten();
    Bytes((tokens.map_or(0, TextList::len) * TREE) as u64)
}

/// Memory of the template and its compiler.
const TEMPLATE: usize = 200 << 10;
