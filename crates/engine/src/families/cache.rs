//! Keys and values of one lane.

use deft_kernels::CacheRows;
use deft_planning::{CacheType, ModelShape};
use half::f16;

/// Keys and values of one sequence: for each layer `context x (kv heads x length)`, row-major.
///
/// All memory is taken and touched when it is made, so that what is measured is true from the start.
pub struct LaneCache {
    cache_type: CacheType,
    layers: Vec<(Vec<u8>, Vec<u8>)>,
    key_row: usize,
    value_row: usize,
    context: usize,
    filled: usize,
}

impl LaneCache {
    /// A cache for `context` tokens.
    #[must_use]
    pub fn new(shape: &ModelShape, context: u32, cache_type: CacheType) -> Self {
        let key_row = (shape.kv_heads * shape.key_length) as usize;
        let value_row = (shape.kv_heads * shape.value_length) as usize;
        let context = context as usize;
        #[expect(clippy::cast_possible_truncation, reason = "2 or 4")]
        let width = cache_type.value_bytes() as usize;
        // All ones is a NaN in both precisions: a row that is read before it was written shows.
        let rows = |row: usize| vec![0xFF; context * row * width];
        let layers = (0..shape.layers).map(|_| (rows(key_row), rows(value_row))).collect();
        Self { cache_type, layers, key_row, value_row, context, filled: 0 }
    }

    /// Tokens it holds.
    #[must_use]
    pub fn filled(&self) -> usize {
        self.filled
    }

    /// Tokens it has room for, in all.
    #[must_use]
    pub fn context(&self) -> usize {
        self.context
    }

    /// Forgets everything.
    pub fn clear(&mut self) {
        self.filled = 0;
    }

    /// Writes keys and values of the tokens after those already held.
    pub(super) fn write(&mut self, layer: usize, keys: &[f32], values: &[f32]) {
        let (start, cache_type) = (self.filled, self.cache_type);
        let (key_store, value_store) = &mut self.layers[layer];
        store(cache_type, key_store, start * self.key_row, keys);
        store(cache_type, value_store, start * self.value_row, values);
    }

    /// Counts tokens as held, after all layers wrote them.
    pub(super) fn advance(&mut self, tokens: usize) {
        self.filled += tokens;
    }

    /// Keys and values of a layer.
    pub(super) fn rows(&self, layer: usize) -> (CacheRows<'_>, CacheRows<'_>) {
        let (keys, values) = &self.layers[layer];
        match self.cache_type {
            CacheType::F32 => (CacheRows::F32(keys), CacheRows::F32(values)),
            CacheType::F16 => (CacheRows::F16(keys), CacheRows::F16(values)),
        }
    }
}

fn store(cache_type: CacheType, target: &mut [u8], start: usize, values: &[f32]) {
    match cache_type {
        CacheType::F32 => {
            let words = target.as_chunks_mut::<4>().0[start..][..values.len()].iter_mut();
            words.zip(values).for_each(|(word, value)| *word = value.to_le_bytes());
        }
        CacheType::F16 => {
            let words = target.as_chunks_mut::<2>().0[start..][..values.len()].iter_mut();
            words.zip(values).for_each(|(word, value)| *word = f16::from_f32(*value).to_le_bytes());
        }
    }
}
