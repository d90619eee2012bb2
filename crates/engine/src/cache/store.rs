//! The bytes of all pages: for each layer keys and values, `pages x heads x page`.

use deft_formats::quant::TensorType;
use deft_kernels::{Cached, Kind, Team};
use deft_planning::{CacheType, ModelShape};
use memmap2::MmapMut;

use super::PAGE;
use super::index::PageId;
use crate::places::{OutOfMemory, Places};

/// Rows of one kind, of one layer.
struct Rows {
    kind: Kind,
    tensor_type: TensorType,
    heads: usize,
    length: usize,
    bytes: MmapMut,
}

/// Takes memory of a length, filled with a byte.
type Take<'a> = &'a mut dyn FnMut(usize, u8) -> Result<MmapMut, OutOfMemory>;

impl Rows {
    fn new(
        kind: Kind,
        cache_type: CacheType,
        heads: u32,
        length: u32,
        pages: usize,
        take: Take<'_>,
    ) -> Result<Self, OutOfMemory> {
        let tensor_type = match cache_type {
            CacheType::F32 => TensorType::F32,
            CacheType::F16 => TensorType::F16,
            CacheType::Q8_0 => TensorType::Q8_0,
        };
        let (heads, length) = (heads as usize, length as usize);
        // All ones is a NaN in every form: a row that is read before it was written shows.
        let bytes = take(pages * heads * PAGE * tensor_type.row_bytes(length), 0xFF)?;
        Ok(Self { kind, tensor_type, heads, length, bytes })
    }

    /// Bytes of a page of one head.
    fn page_bytes(&self) -> usize {
        PAGE * self.tensor_type.row_bytes(self.length)
    }

    /// Writes rows of all heads of some tokens, each token's at its place.
    fn write(
        &mut self,
        team: &Team,
        rows: &[f32],
        place: &(impl Fn(usize) -> (PageId, usize) + Sync),
    ) {
        let sizes = (self.heads, self.length);
        Cached::write_all(team, self.tensor_type, self.kind, sizes, rows, place, &mut self.bytes);
    }

    fn copy(&mut self, from: PageId, to: PageId, tokens: usize) {
        let (bytes, heads) = (self.page_bytes(), self.heads);
        let all = &mut self.bytes[..];
        for head in 0..heads {
            let at = |page: PageId| (page as usize * heads + head) * bytes;
            let (low, high) = all.split_at_mut(at(from).max(at(to)));
            let (from, to) = if from < to {
                (&low[at(from)..][..bytes], &mut high[..bytes])
            } else {
                (&high[..bytes], &mut low[at(to)..][..bytes])
            };
            Cached::copy(self.tensor_type, self.kind, tokens, from, to);
        }
    }

    fn cached(&self) -> Cached<'_> {
        Cached {
            tensor_type: self.tensor_type,
            length: self.length,
            heads: self.heads,
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
            let heads = shape.kv_heads;
            layers.push((
                Rows::new(Kind::Keys, keys, heads, shape.key_length, pages, &mut take)?,
                Rows::new(Kind::Values, values, heads, shape.value_length, pages, &mut take)?,
            ));
        }
        Ok(Self { layers })
    }

    /// Bytes of all pages.
    #[cfg(test)]
    pub(crate) fn bytes(&self) -> usize {
        self.layers.iter().map(|(keys, values)| keys.bytes.len() + values.bytes.len()).sum()
    }

    /// Writes keys and values of some tokens of a layer; of each token its sequence's pages and its position are
    /// told.
    pub(crate) fn write<'a>(
        &mut self,
        team: &Team,
        layer: usize,
        (keys, values): (&[f32], &[f32]),
        place: impl Fn(usize) -> (&'a [PageId], usize) + Sync,
    ) {
        let place = |token: usize| {
            let (pages, position) = place(token);
            (pages[position / PAGE], position % PAGE)
        };
        let (key_rows, value_rows) = &mut self.layers[layer];
        key_rows.write(team, keys, &place);
        value_rows.write(team, values, &place);
    }

    /// Keys and values of a layer.
    pub(crate) fn rows(&self, layer: usize) -> (Cached<'_>, Cached<'_>) {
        let (keys, values) = &self.layers[layer];
        (keys.cached(), values.cached())
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
    fn read(rows: Cached<'_>, kind: Kind, page: usize, head: usize, slot: usize) -> Vec<f32> {
        rows.read(kind, u32::try_from(page).unwrap(), head, slot)
    }

    #[test]
    fn every_head_of_every_layer_has_its_own_place() {
        let mut store =
            Store::new(&shape(), 3, CacheType::F32, CacheType::F16, &mut Places::host()).unwrap();
        let team = Team::new(None);
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
                store.write(&team, layer, (&keys, &values), |_| (&pages, position));
            }
        }
        for layer in 0..2 {
            let (key_rows, value_rows) = store.rows(layer);
            for (position, page, slot) in [(0, 2, 0), (31, 2, 31), (32, 0, 0), (40, 0, 8)] {
                let (keys, values) = token(layer, position);
                for head in 0..2 {
                    assert_eq!(
                        read(key_rows, Kind::Keys, page, head, slot),
                        keys[head * 32..][..32]
                    );
                    assert_eq!(
                        read(value_rows, Kind::Values, page, head, slot),
                        values[head * 64..][..64]
                    );
                }
            }
            assert!(
                read(key_rows, Kind::Keys, 1, 0, 0)[0].is_nan(),
                "what was never written shows"
            );
        }
    }

    #[test]
    fn the_beginning_of_a_page_is_copied_and_no_more() {
        let mut store =
            Store::new(&shape(), 2, CacheType::Q8_0, CacheType::F16, &mut Places::host()).unwrap();
        let team = Team::new(None);
        for position in 0..10 {
            let keys = vec![1.0 + position as f32; 64];
            for layer in 0..2 {
                store.write(&team, layer, (&keys, &[0.5; 128]), |_| (&[0], position));
            }
        }
        store.copy(0, 1, 7);
        for layer in 0..2 {
            let (keys, _) = store.rows(layer);
            assert_eq!(read(keys, Kind::Keys, 1, 1, 6), read(keys, Kind::Keys, 0, 1, 6));
            assert!(read(keys, Kind::Keys, 1, 1, 7)[0].is_nan());
        }
    }
}
