//! Attention of one query head over cached keys and values.

use deft_formats::quant::{TensorType, encode_q8_0};
use half::f16;

use crate::dot::{self, BLOCK, Q8_BYTES};
use crate::{Path, activations, soft_cap, softmax};

/// Cached rows of one kind (keys or values) of one layer: `pages x heads x page rows x row`, so that
/// the rows of a head stand together within a page.
#[derive(Debug, Clone, Copy)]
pub struct PagedRows<'a> {
    /// How a row is stored: `F32`, `F16` or `Q8_0`.
    pub tensor_type: TensorType,
    /// Values in a row.
    pub length: usize,
    /// Rows of different heads at one position.
    pub heads: usize,
    /// Positions of a page.
    pub page_rows: usize,
    /// All pages.
    pub bytes: &'a [u8],
}

impl<'a> PagedRows<'a> {
    /// The rows of a head in a page, one after the other.
    fn rows(&self, page: u32, head: usize) -> std::slice::ChunksExact<'a, u8> {
        let row = self.tensor_type.row_bytes(self.length);
        let rows = self.page_rows * row;
        let start = (page as usize * self.heads + head) * rows;
        self.bytes[start..start + rows].chunks_exact(row)
    }
}

/// Writes a row of values in the form of a cache.
///
/// # Panics
/// When the lengths do not fit, or caches are not stored like that.
pub fn store_row(tensor_type: TensorType, values: &[f32], row: &mut [u8]) {
    assert_eq!(row.len(), tensor_type.row_bytes(values.len()), "row and values differ in length");
    match tensor_type {
        TensorType::F32 => {
            let words = row.as_chunks_mut::<4>().0.iter_mut();
            words.zip(values).for_each(|(word, value)| *word = value.to_le_bytes());
        }
        TensorType::F16 => {
            let words = row.as_chunks_mut::<2>().0.iter_mut();
            words.zip(values).for_each(|(word, value)| *word = f16::from_f32(*value).to_le_bytes());
        }
        TensorType::Q8_0 => {
            for (values, block) in values.chunks(BLOCK).zip(row.chunks_mut(Q8_BYTES)) {
                encode_q8_0(values, block);
            }
        }
        other => panic!("caches are not stored as {other}"),
    }
}

/// Which positions are looked at, and how.
#[derive(Debug, Clone, Copy)]
pub struct Looking<'a> {
    /// The page of each stretch of positions.
    pub pages: &'a [u32],
    /// The first position.
    pub first: usize,
    /// One past the last position.
    pub end: usize,
    /// The head of keys and values.
    pub head: usize,
    /// Factor on scores.
    pub scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub cap: Option<f32>,
}

impl Looking<'_> {
    /// Calls `each` with the rows of all positions, in their order.
    fn rows<'a>(&self, cached: &PagedRows<'a>, mut each: impl FnMut(usize, &'a [u8])) {
        let per_page = cached.page_rows;
        let mut position = self.first;
        while position < self.end {
            let page = position / per_page;
            let to = self.end.min((page + 1) * per_page);
            let skip = position % per_page;
            let rows = cached.rows(self.pages[page], self.head).skip(skip).take(to - position);
            rows.enumerate().for_each(|(at, row)| each(position + at - self.first, row));
            position = to;
        }
    }
}

/// Working space, reused from head to head.
#[derive(Debug, Default)]
pub struct AttentionScratch {
    scores: Vec<f32>,
    quants: Vec<i8>,
    scales: Vec<f32>,
}

/// `out = softmax(cap(scale * keys . query)) . values` over the positions looked at.
///
/// A query is rounded to eight bits where keys are `Q8_0`. Values are summed in order of positions
/// by fused multiply-add, so the result depends neither on how a prompt was cut into chunks nor on
/// which pages hold it.
///
/// # Panics
/// When a page is missing or lengths do not fit.
pub fn attend(
    path: Path,
    query: &[f32],
    keys: &PagedRows<'_>,
    values: &PagedRows<'_>,
    looking: &Looking<'_>,
    scratch: &mut AttentionScratch,
    out: &mut [f32],
) {
    scratch.scores.resize(looking.end - looking.first, 0.0);
    let scores = &mut scratch.scores[..];
    let scale = looking.scale;
    match keys.tensor_type {
        TensorType::F32 => looking.rows(keys, |at, row| {
            scores[at] = scale * dot::f32_row(path, row, query);
        }),
        TensorType::F16 => looking.rows(keys, |at, row| {
            scores[at] = scale * dot::f16_row(path, row, query);
        }),
        TensorType::Q8_0 => {
            activations::round(query, &mut scratch.quants, &mut scratch.scales);
            let (quants, scales) = (&scratch.quants, &scratch.scales);
            looking.rows(keys, |at, row| {
                scores[at] = scale * dot::q8_0_row(path, row, quants, scales);
            });
        }
        other => panic!("caches are not stored as {other}"),
    }
    if let Some(cap) = looking.cap {
        soft_cap(scores, cap);
    }
    softmax(scores);
    out.fill(0.0);
    match values.tensor_type {
        TensorType::F32 => looking.rows(values, |at, row| {
            dot::add_scaled_f32(path, row, scores[at], out);
        }),
        TensorType::F16 => looking.rows(values, |at, row| {
            dot::add_scaled_f16(path, row, scores[at], out);
        }),
        TensorType::Q8_0 => looking.rows(values, |at, row| {
            dot::add_scaled_q8_0(path, row, scores[at], out);
        }),
        other => panic!("caches are not stored as {other}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LENGTH: usize = 64;

    /// Rows of two heads, written into the pages that `pages` names.
    fn stored(
        tensor_type: TensorType,
        rows: &[Vec<f32>],
        pages: &[u32],
        page_rows: usize,
    ) -> Vec<u8> {
        let row_bytes = tensor_type.row_bytes(LENGTH);
        let most = *pages.iter().max().unwrap() as usize + 1;
        let mut bytes = vec![0xFF; most * 2 * page_rows * row_bytes];
        for (position, row) in rows.iter().enumerate() {
            let page = pages[position / page_rows] as usize;
            for head in 0..2 {
                let at = ((page * 2 + head) * page_rows + position % page_rows) * row_bytes;
                let values: Vec<f32> =
                    row.iter().map(|value| value * (1.0 + head as f32)).collect();
                store_row(tensor_type, &values, &mut bytes[at..at + row_bytes]);
            }
        }
        bytes
    }

    #[test]
    fn neither_the_place_of_a_page_nor_its_length_changes_a_bit_on_any_path() {
        let rows: Vec<Vec<f32>> = (0..70)
            .map(|at| (0..LENGTH).map(|i| ((at * 31 + i * 7) as f32 * 0.37).sin()).collect())
            .collect();
        let query: Vec<f32> = (0..LENGTH).map(|at| (at as f32 * 0.21).cos()).collect();
        for tensor_type in [TensorType::F32, TensorType::F16, TensorType::Q8_0] {
            let mut results = Vec::new();
            for path in Path::available() {
                let forms: [(&[u32], usize); 3] =
                    [(&[0], 128), (&[0, 1, 2], 32), (&[4, 0, 7, 1, 5], 16)];
                for (pages, page_rows) in forms {
                    let bytes = stored(tensor_type, &rows, pages, page_rows);
                    let paged = PagedRows {
                        tensor_type,
                        length: LENGTH,
                        heads: 2,
                        page_rows,
                        bytes: &bytes,
                    };
                    let looking = Looking {
                        pages,
                        first: 5,
                        end: 70,
                        head: 1,
                        scale: 0.125,
                        cap: Some(20.0),
                    };
                    let mut out = vec![f32::NAN; LENGTH];
                    let mut scratch = AttentionScratch::default();
                    attend(path, &query, &paged, &paged, &looking, &mut scratch, &mut out);
                    results.push(out);
                }
            }
            assert!(results.iter().all(|result| result == &results[0]), "{tensor_type}");
            assert!(results[0].iter().all(|value| value.is_finite() && *value != 0.0));
        }
    }
}
