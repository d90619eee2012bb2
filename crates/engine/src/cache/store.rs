//! The pages of a stage: keys and values of each layer, `pages x heads x page`.

use std::ops::Range;

use deft_formats::quant::TensorType;
use deft_kernels::{CacheRows, Device, Kind};
use deft_planning::{CacheType, LoadSettings, ModelShape};

use super::PAGE;
use super::index::{PageCopy, PageId};
use crate::layer_memory::OutOfMemory;

/// Keys and values of some layers.
pub(crate) struct Store<D: Device> {
    layers: Vec<[CacheRows<D::Pages>; 2]>,
    /// Bytes of all pages.
    #[cfg(test)]
    pub(crate) bytes: usize,
}

fn stored_as(cache_type: CacheType) -> TensorType {
    match cache_type {
        CacheType::F32 => TensorType::F32,
        CacheType::F16 => TensorType::F16,
        CacheType::Q8_0 => TensorType::Q8_0,
    }
}

impl<D: Device> Store<D> {
    /// Allocates pages for some layers; `take` allocates memory, given a layer and a length.
    ///
    /// # Errors
    /// There is too little memory.
    pub(crate) fn new(
        shape: &ModelShape,
        settings: &LoadSettings,
        layers: Range<usize>,
        mut take: impl FnMut(usize, usize) -> Result<D::Pages, OutOfMemory>,
    ) -> Result<Self, OutOfMemory> {
        let (heads, pages) = (shape.kv_heads as usize, settings.pages() as usize);
        let mut all = Vec::new();
        #[cfg(test)]
        let mut taken = 0;
        for layer in layers {
            let mut rows = |kind, cache_type, length: u32| {
                let (tensor_type, length) = (stored_as(cache_type), length as usize);
                let bytes = CacheRows::<D::Pages>::bytes(tensor_type, heads, length, pages);
                #[cfg(test)]
                (taken += bytes);
                let pages = take(layer, bytes)?;
                Ok(CacheRows { kind, tensor_type, heads, length, pages })
            };
            let keys = rows(Kind::Keys, settings.keys, shape.key_length)?;
            let values = rows(Kind::Values, settings.values, shape.value_length)?;
            all.push([keys, values]);
        }
        Ok(Self {
            layers: all,
            #[cfg(test)]
            bytes: taken,
        })
    }

    /// Writes keys and values of some tokens of a layer, given the pages of each token's sequence and its position.
    pub(crate) fn write<'a>(
        &mut self,
        device: &D,
        layer: usize,
        (keys, values): (&D::Numbers, &D::Numbers),
        place: impl Fn(usize) -> (&'a [PageId], usize) + Sync,
    ) {
        let place = |token: usize| {
            let (pages, position) = place(token);
            (pages[position / PAGE], position % PAGE)
        };
        let [key_rows, value_rows] = &mut self.layers[layer];
        device.write_cache(key_rows, keys, place);
        device.write_cache(value_rows, values, place);
    }

    /// Keys and values of a layer.
    pub(crate) fn rows(&self, layer: usize) -> [&CacheRows<D::Pages>; 2] {
        self.layers[layer].each_ref()
    }

    /// Copies the first tokens of a page, in all layers.
    pub(crate) fn copy(&mut self, device: &D, PageCopy { from, to, tokens }: PageCopy) {
        for rows in self.layers.as_flattened_mut() {
            device.copy_page(rows, from, to, tokens);
        }
    }
}

#[cfg(test)]
mod tests {
    use deft_kernels::{Host, HostPages, Instructions};

    use super::*;
    use crate::layer_memory::LayerMemory;

    fn shape() -> ModelShape {
        ModelShape {
            layers: 2,
            kv_heads: 2,
            key_length: 32,
            value_length: 64,
            ..ModelShape::default()
        }
    }

    /// A store with a number of pages, and the team that writes to it.
    fn store(pages: u32, keys: CacheType, values: CacheType) -> (Store<Host>, Host) {
        let context = pages * PAGE as u32;
        let settings = LoadSettings { context, keys, values, ..LoadSettings::for_model(&shape()) };
        let mut layer_memory = LayerMemory::host();
        let take = |layer, bytes| -> Result<HostPages, OutOfMemory> {
            Ok(Box::new(layer_memory.filled(layer, bytes, 0xFF)?))
        };
        let store = Store::new(&shape(), &LoadSettings { lanes: 1, ..settings }, 0..2, take);
        (store.unwrap(), Host::new(Instructions::best(), None))
    }

    /// Reads the values of a head at a position.
    fn read(rows: &CacheRows<HostPages>, page: u32, head: usize, slot: usize) -> Vec<f32> {
        rows.cached().read(rows.kind, page, head, slot)
    }

    #[test]
    fn every_head_of_every_layer_has_its_own_place() {
        let (mut store, host) = store(3, CacheType::F32, CacheType::F16);
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
                store.write(&host, layer, (&keys, &values), |_| (&pages, position));
            }
        }
        for layer in 0..2 {
            let [key_rows, value_rows] = store.rows(layer);
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
        let (mut store, host) = store(2, CacheType::Q8_0, CacheType::F16);
        for position in 0..10 {
            let keys = vec![1.0 + position as f32; 64];
            for layer in 0..2 {
                store.write(&host, layer, (&keys, &vec![0.5; 128]), |_| (&[0], position));
            }
        }
        store.copy(&host, PageCopy { from: 0, to: 1, tokens: 7 });
        for layer in 0..2 {
            let [keys, _] = store.rows(layer);
            assert_eq!(read(keys, 1, 1, 6), read(keys, 0, 1, 6));
            assert!(read(keys, 1, 1, 7)[0].is_nan());
        }
    }
}
