//! The bytes of all pages: for each layer keys and values, `pages x heads x 32 x row`.

use deft_formats::quant::TensorType;
use deft_kernels::{PagedRows, store_row};
use deft_planning::{CacheType, ModelShape};

use super::PAGE;
use super::index::PageId;

/// Rows of one kind, of one layer.
struct Rows {
    tensor_type: TensorType,
    heads: usize,
    length: usize,
    bytes: Vec<u8>,
}

impl Rows {
    fn new(kind: CacheType, heads: u32, length: u32, pages: usize) -> Self {
        let tensor_type = match kind {
            CacheType::F32 => TensorType::F32,
            CacheType::F16 => TensorType::F16,
            CacheType::Q8_0 => TensorType::Q8_0,
        };
        let (heads, length) = (heads as usize, length as usize);
        // All ones is a NaN in every form: a row that is read before it was written shows.
        let bytes = vec![0xFF; pages * heads * PAGE * tensor_type.row_bytes(length)];
        Self { tensor_type, heads, length, bytes }
    }

    fn row_bytes(&self) -> usize {
        self.tensor_type.row_bytes(self.length)
    }

    /// Writes the rows of all heads of one token.
    fn write(&mut self, page: PageId, slot: usize, values: &[f32]) {
        let (heads, row) = (self.heads, self.row_bytes());
        for (head, values) in values.chunks(self.length).enumerate() {
            let at = ((page as usize * heads + head) * PAGE + slot) * row;
            store_row(self.tensor_type, values, &mut self.bytes[at..at + row]);
        }
    }

    fn copy(&mut self, from: PageId, to: PageId, tokens: usize) {
        let row = self.row_bytes();
        for head in 0..self.heads {
            let at = |page: PageId| (page as usize * self.heads + head) * PAGE * row;
            let start = at(from);
            self.bytes.copy_within(start..start + tokens * row, at(to));
        }
    }

    fn paged(&self) -> PagedRows<'_> {
        PagedRows {
            tensor_type: self.tensor_type,
            length: self.length,
            heads: self.heads,
            page_rows: PAGE,
            bytes: &self.bytes,
        }
    }
}

/// Keys and values of all layers.
pub(crate) struct Store {
    layers: Vec<(Rows, Rows)>,
}

impl Store {
    pub(super) fn new(
        shape: &ModelShape,
        pages: usize,
        keys: CacheType,
        values: CacheType,
    ) -> Self {
        let rows = |kind, length| Rows::new(kind, shape.kv_heads, length, pages);
        let layer = |_| (rows(keys, shape.key_length), rows(values, shape.value_length));
        Self { layers: (0..shape.layers).map(layer).collect() }
    }

    /// Writes one token's keys and values of a layer.
    pub(crate) fn write(
        &mut self,
        layer: usize,
        pages: &[PageId],
        position: usize,
        keys: &[f32],
        values: &[f32],
    ) {
        let (page, slot) = (pages[position / PAGE], position % PAGE);
        let (key_rows, value_rows) = &mut self.layers[layer];
        key_rows.write(page, slot, keys);
        value_rows.write(page, slot, values);
    }

    /// Keys and values of a layer.
    pub(crate) fn rows(&self, layer: usize) -> (PagedRows<'_>, PagedRows<'_>) {
        let (keys, values) = &self.layers[layer];
        (keys.paged(), values.paged())
    }

    /// Copies the first tokens of a page, in all layers.
    pub(super) fn copy(&mut self, from: PageId, to: PageId, tokens: usize) {
        for (keys, values) in &mut self.layers {
            keys.copy(from, to, tokens);
            values.copy(from, to, tokens);
        }
    }
}
