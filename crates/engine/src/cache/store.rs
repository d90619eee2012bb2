//! The bytes of all pages: for each layer keys and values, `pages x heads x 32 x row`.

use deft_formats::quant::TensorType;
use deft_kernels::{PagedRows, store_row};
use deft_planning::{CacheType, ModelShape};

use super::PAGE;
use super::index::PageId;
use crate::places::{Memory, OutOfMemory, Places};

/// Rows of one kind, of one layer.
struct Rows {
    tensor_type: TensorType,
    heads: usize,
    length: usize,
    bytes: Memory,
}

/// Takes memory of a length, filled with a byte.
type Take<'a> = &'a mut dyn FnMut(usize, u8) -> Result<Memory, OutOfMemory>;

impl Rows {
    fn new(
        kind: CacheType,
        heads: u32,
        length: u32,
        pages: usize,
        take: Take<'_>,
    ) -> Result<Self, OutOfMemory> {
        let tensor_type = match kind {
            CacheType::F32 => TensorType::F32,
            CacheType::F16 => TensorType::F16,
            CacheType::Q8_0 => TensorType::Q8_0,
        };
        let (heads, length) = (heads as usize, length as usize);
        // All ones is a NaN in every form: a row that is read before it was written shows.
        let bytes = take(pages * heads * PAGE * tensor_type.row_bytes(length), 0xFF)?;
        Ok(Self { tensor_type, heads, length, bytes })
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
        places: &mut Places,
    ) -> Result<Self, OutOfMemory> {
        // What an encoder keeps for a moment belongs to no layer.
        let mut host = Places::host();
        let places = if shape.encoder { &mut host } else { places };
        let mut layers = Vec::new();
        for layer in 0..shape.layers as usize {
            let mut take = |length, byte| places.filled(layer, length, byte);
            let mut rows = |kind, length| Rows::new(kind, shape.kv_heads, length, pages, &mut take);
            layers.push((rows(keys, shape.key_length)?, rows(values, shape.value_length)?));
        }
        Ok(Self { layers })
    }

    /// Bytes of all pages.
    #[cfg(test)]
    pub(crate) fn bytes(&self) -> usize {
        self.layers.iter().map(|(keys, values)| keys.bytes.len() + values.bytes.len()).sum()
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

#[cfg(test)]
mod tests {
    use super::*;

    fn shape() -> ModelShape {
        ModelShape {
            layers: 2,
            kv_heads: 2,
            key_length: 32,
            value_length: 64,
            ..ModelShape::default()
        }
    }

    /// The values of one head at a position, read back.
    fn read(rows: PagedRows<'_>, page: usize, head: usize, slot: usize) -> Vec<f32> {
        let bytes = rows.tensor_type.row_bytes(rows.length);
        let at = ((page * rows.heads + head) * PAGE + slot) * bytes;
        let mut values = vec![0.0; rows.length];
        rows.tensor_type.decode(&rows.bytes[at..at + bytes], &mut values);
        values
    }

    #[test]
    fn every_head_of_every_layer_has_its_own_place() {
        let mut store =
            Store::new(&shape(), 3, CacheType::F32, CacheType::F16, &mut Places::host()).unwrap();
        let pages = [2, 0];
        let token = |layer: usize, position: usize| {
            let keys: Vec<f32> =
                (0..64).map(|at| (layer * 1000 + position * 100 + at) as f32).collect();
            let values: Vec<f32> = (0..128).map(|at| (at + position) as f32).collect();
            (keys, values)
        };
        for layer in 0..2 {
            for position in [0, 31, 32, 40] {
                let (keys, values) = token(layer, position);
                store.write(layer, &pages, position, &keys, &values);
            }
        }
        for layer in 0..2 {
            let (key_rows, value_rows) = store.rows(layer);
            for (position, page, slot) in [(0, 2, 0), (31, 2, 31), (32, 0, 0), (40, 0, 8)] {
                let (keys, values) = token(layer, position);
                for head in 0..2 {
                    assert_eq!(read(key_rows, page, head, slot), keys[head * 32..][..32]);
                    assert_eq!(read(value_rows, page, head, slot), values[head * 64..][..64]);
                }
            }
            assert!(read(key_rows, 1, 0, 0)[0].is_nan(), "what was never written shows");
        }
    }

    #[test]
    fn the_beginning_of_a_page_is_copied_and_no_more() {
        let mut store =
            Store::new(&shape(), 2, CacheType::Q8_0, CacheType::F16, &mut Places::host()).unwrap();
        for position in 0..10 {
            let keys = vec![1.0 + position as f32; 64];
            store.write(0, &[0], position, &keys, &[0.5; 128]);
            store.write(1, &[0], position, &keys, &[0.5; 128]);
        }
        store.copy(0, 1, 7);
        for layer in 0..2 {
            let (keys, _) = store.rows(layer);
            assert_eq!(read(keys, 1, 1, 6), read(keys, 0, 1, 6));
            assert!(read(keys, 1, 1, 7)[0].is_nan());
        }
    }
}
