//! Parts that families share: looking up tensors, working space, rotary embedding, attention.

use std::collections::HashSet;

use deft_formats::gguf::{Header, MetadataError, TensorInfo};
use deft_formats::quant::TensorType;
use deft_kernels::{Activations, Matrix, Path, attend, multiply};
use deft_planning::{Bytes, ModelShape};
use rayon::prelude::*;

use super::LaneCache;
use crate::mapped::MappedFile;
use crate::model::LoadError;

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

/// A matrix of the file: `rows x columns`.
#[derive(Debug, Clone, Copy)]
pub(super) struct MatrixPlace {
    tensor_type: TensorType,
    rows: usize,
    columns: usize,
    offset: u64,
    bytes: u64,
}

impl MatrixPlace {
    fn stored<'a>(&self, file: &'a MappedFile) -> &'a [u8] {
        file.bytes(self.offset, self.bytes).expect("checked against the file when it was opened")
    }

    /// `out[token] = self . x[token]`.
    pub(super) fn multiply(
        &self,
        file: &MappedFile,
        path: Path,
        x: &Activations<'_>,
        out: &mut [f32],
        scratch: &mut Vec<f32>,
    ) {
        let matrix = Matrix {
            tensor_type: self.tensor_type,
            rows: self.rows,
            columns: self.columns,
            bytes: self.stored(file),
        };
        multiply(path, matrix, x, out, scratch);
    }

    /// Activations in the form this matrix is multiplied with.
    pub(super) fn activations<'a>(&self, x: &'a [f32]) -> Activations<'a> {
        Matrix::activations(self.tensor_type, x, self.columns)
    }

    /// One row as values.
    pub(super) fn decode_row(&self, file: &MappedFile, row: usize, out: &mut [f32]) {
        let width = self.tensor_type.row_bytes(self.columns);
        self.tensor_type.decode(&self.stored(file)[row * width..][..width], out);
    }
}

/// A vector of the file, by name; read as values when the model is opened.
#[derive(Debug, Clone)]
pub(super) struct VectorPlace(TensorInfo);

impl VectorPlace {
    pub(super) fn load(&self, file: &MappedFile) -> Result<Vec<f32>, LoadError> {
        let bytes = file.bytes(self.0.offset, self.0.bytes).ok_or_else(|| LoadError::Tensor {
            tensor: self.0.name.clone(),
            what: "is not in the file any more; it was cut short".to_owned(),
        })?;
        let mut values = vec![0.0; bytes.len() / 4];
        self.0.tensor_type.decode(bytes, &mut values);
        Ok(values)
    }
}

/// Takes tensors out of a header, each with the form it must have; remembers which were taken, so
/// that a tensor nobody understands is noticed instead of silently left out.
pub(super) struct Tensors<'h> {
    header: &'h Header,
    taken: HashSet<&'h str>,
}

impl<'h> Tensors<'h> {
    pub(super) fn new(header: &'h Header) -> Self {
        Self { header, taken: HashSet::new() }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.header.tensor(name).is_some()
    }

    fn take(&mut self, name: &str, dimensions: &[u64]) -> Result<&'h TensorInfo, LoadError> {
        let wrong = |what: String| LoadError::Tensor { tensor: name.to_owned(), what };
        let tensor = self.header.tensor(name).ok_or_else(|| wrong("is missing".to_owned()))?;
        if tensor.dimensions != dimensions {
            let found = &tensor.dimensions;
            return Err(wrong(format!("has dimensions {found:?}, it must have {dimensions:?}")));
        }
        self.taken.insert(&tensor.name);
        Ok(tensor)
    }

    /// A matrix of `rows x columns`.
    pub(super) fn matrix(
        &mut self,
        name: &str,
        columns: u32,
        rows: u32,
    ) -> Result<MatrixPlace, LoadError> {
        let tensor = self.take(name, &[u64::from(columns), u64::from(rows)])?;
        Ok(MatrixPlace {
            tensor_type: tensor.tensor_type,
            rows: rows as usize,
            columns: columns as usize,
            offset: tensor.offset,
            bytes: tensor.bytes,
        })
    }

    /// A vector of `length` single-precision values.
    pub(super) fn vector(&mut self, name: &str, length: u32) -> Result<VectorPlace, LoadError> {
        let tensor = self.take(name, &[u64::from(length)])?;
        if tensor.tensor_type != TensorType::F32 {
            return Err(LoadError::Tensor {
                tensor: name.to_owned(),
                what: format!("has type {}; vectors are F32", tensor.tensor_type),
            });
        }
        Ok(VectorPlace(tensor.clone()))
    }

    /// Refuses a file with tensors that were not taken: its numbers would be wrong.
    pub(super) fn finish(self) -> Result<(), LoadError> {
        let left = self.header.tensors.iter().find(|tensor| !self.taken.contains(&*tensor.name));
        match left {
            None => Ok(()),
            Some(tensor) => Err(LoadError::Tensor {
                tensor: tensor.name.clone(),
                what: "is not understood for this family, so its numbers would be wrong".to_owned(),
            }),
        }
    }
}

/// A count from the metadata that must not be zero.
pub(super) fn positive(header: &Header, key: &str) -> Result<u32, LoadError> {
    match header.metadata.count(key)? {
        0 => Err(LoadError::Metadata(MetadataError::OutOfRange {
            key: key.to_owned(),
            value: "0".to_owned(),
            reason: "it must be at least 1".to_owned(),
        })),
        count => Ok(count),
    }
}

/// Memory that tokenizer and template take: each token's text is kept twice (list and look-up) with
/// its bookkeeping, each merge as two pairs of ids.
pub(super) fn tokenizer_bytes(header: &Header) -> Bytes {
    let texts = |key: &str| header.metadata.optional_texts(key).ok().flatten().unwrap_or_default();
    let tokens = texts("tokenizer.ggml.tokens");
    let token_bytes: usize = tokens.iter().map(|text| 2 * text.len().max(24) + 110).sum();
    let merges = texts("tokenizer.ggml.merges").len() * 40;
    Bytes((token_bytes + merges) as u64)
}

/// Rotary position embedding on interleaved pairs.
/// Source: Su et al. 2021, "RoFormer"; frequencies divided per dimension where the file says so.
#[derive(Debug, Clone)]
pub(super) struct Rotary {
    /// Angle per position of each pair.
    frequencies: Vec<f64>,
}

impl Rotary {
    /// `base^(-2i/dimensions)`, divided by the factors and the linear scale.
    pub(super) fn new(dimensions: u32, base: f32, linear: f32, factors: Option<&[f32]>) -> Self {
        let frequencies = (0..dimensions / 2)
            .map(|pair| {
                let exponent = -2.0 * f64::from(pair) / f64::from(dimensions);
                let factor = factors.map_or(1.0, |factors| f64::from(factors[pair as usize]));
                f64::from(base).powf(exponent) / factor / f64::from(linear)
            })
            .collect();
        Self { frequencies }
    }

    /// Turns every head of each row (`head_length` values a head); the first row is at `position`.
    pub(super) fn turn_interleaved(
        &self,
        rows: &mut [f32],
        row_length: usize,
        head_length: usize,
        position: usize,
    ) {
        for (offset, row) in rows.chunks_mut(row_length).enumerate() {
            #[expect(clippy::cast_precision_loss, reason = "positions are far below 2^52")]
            let position = (position + offset) as f64;
            for (pair, frequency) in self.frequencies.iter().enumerate() {
                #[expect(clippy::cast_possible_truncation, reason = "computed wide, used in f32")]
                let (sin, cos) = {
                    let (sin, cos) = (position * frequency).sin_cos();
                    (sin as f32, cos as f32)
                };
                for head in row.chunks_mut(head_length) {
                    let (a, b) = (head[2 * pair], head[2 * pair + 1]);
                    head[2 * pair] = a * cos - b * sin;
                    head[2 * pair + 1] = a * sin + b * cos;
                }
            }
        }
    }
}

/// Attention of a step's tokens over everything the lane holds up to each of them.
///
/// `queries` is `tokens x heads x key length`, `out` is `tokens x heads x value length`; query
/// heads share key and value heads in groups.
/// Source: Vaswani et al. 2017; Ainslie et al. 2023, "GQA".
pub(super) fn attention(
    path: Path,
    shape: &ModelShape,
    cache: &LaneCache,
    layer: usize,
    queries: &[f32],
    out: &mut [f32],
) {
    let (heads, kv_heads) = (shape.heads as usize, shape.kv_heads as usize);
    let (key_length, value_length) = (shape.key_length as usize, shape.value_length as usize);
    let (keys, values) = cache.rows(layer);
    let start = cache.filled();
    #[expect(clippy::cast_precision_loss, reason = "head lengths are small")]
    let scale = 1.0 / (key_length as f32).sqrt();
    let compute = |scores: &mut Vec<f32>, (at, out): (usize, &mut [f32])| {
        let (token, head) = (at / heads, at % heads);
        let kv_head = head / (heads / kv_heads);
        scores.resize(start + token + 1, 0.0);
        attend(
            path,
            &queries[at * key_length..][..key_length],
            keys,
            (kv_heads * key_length, kv_head * key_length),
            values,
            (kv_heads * value_length, kv_head * value_length),
            scale,
            scores,
            out,
        );
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
