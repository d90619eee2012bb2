//! Pages of cached keys and values: how they are written and read.

use deft_formats::quant::{GROUP, TensorType, encode_q8_0};
use half::f16;
use half::slice::HalfFloatSliceExt;

use super::plain::Rows;
use super::{check, filled};
use crate::sixteen::Sixteen;
use crate::team::DisjointRows;
use crate::{Instructions, Team, on_every_path};

/// Number of positions of a page.
pub const PAGE: usize = 32;
/// Number of classes of pages, by page number. One thread writes a class of a head, because there may be fewer heads than
/// threads.
const CLASSES: usize = 8;
/// Bytes of a block of `Q8_0`: a half-precision scale and 32 signed bytes.
const Q8_BYTES: usize = 2 + GROUP;
/// Bytes of 32 values of all keys of a page in eight bits: scales, then quants.
const KEY_BLOCK: usize = PAGE * Q8_BYTES;

/// Number of values that are stored at a time.
const TOGETHER: usize = 64;
/// Least number of values that a thread writes at a time; with fewer, dividing the work costs more than it saves.
const LEAST_VALUES: usize = 8192;

/// Keys or values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// In a page `length x positions`, so that scores of all positions are computed side by side. In
    /// eight bits: for each 32 values of a key the scales of all positions, then the quants likewise.
    Keys,
    /// In a page `positions x length`.
    Values,
}

/// Cached rows of one kind of one layer: `pages x heads x page`.
#[derive(Debug, Clone, Copy)]
pub struct Cached<'a> {
    /// How a row is stored: `F32`, `F16` or `Q8_0`.
    pub tensor_type: TensorType,
    /// Values in a row.
    pub length: usize,
    /// Rows of different heads at one position.
    pub heads: usize,
    /// All pages.
    pub bytes: &'a [u8],
}

impl<'a> Cached<'a> {
    /// The bytes of a page of a head.
    pub(super) fn page(&self, page: u32, head: usize) -> &'a [u8] {
        let bytes = PAGE * self.tensor_type.row_bytes(self.length);
        &self.bytes[(page as usize * self.heads + head) * bytes..][..bytes]
    }

    /// Keys of a page, `length x positions`, as floats, or `as_stored` for paths that read half floats.
    pub(super) fn keys<'b>(
        &self,
        path: Instructions,
        page: u32,
        head: usize,
        as_stored: bool,
        out: &'b mut [f32],
    ) -> Rows<'b>
    where
        'a: 'b,
    {
        let bytes = self.page(page, head);
        match self.tensor_type {
            #[cfg(target_arch = "x86_64")]
            TensorType::F16 if as_stored => return Rows::Half(bytes),
            TensorType::F16 => widen(path, bytes, out),
            TensorType::Q8_0 => key_blocks(path, bytes, out),
            _ => match as_floats(bytes) {
                Some(floats) => return Rows::Single(floats),
                None => copy(bytes, out),
            },
        }
        Rows::Single(out)
    }

    /// Values of the first `used` positions, likewise; rows of floats are padded to whole registers.
    pub(super) fn values<'b>(
        &self,
        path: Instructions,
        page: u32,
        head: usize,
        used: usize,
        as_stored: bool,
        out: &'b mut [f32],
    ) -> Rows<'b>
    where
        'a: 'b,
    {
        let row = self.tensor_type.row_bytes(self.length);
        let width = filled(self.length);
        let bytes = &self.page(page, head)[..used * row];
        let all = &mut out[..used * width];
        if let Some(floats) = as_floats(bytes)
            && self.tensor_type == TensorType::F32
            && width == self.length
        {
            return Rows::Single(floats);
        }
        match self.tensor_type {
            #[cfg(target_arch = "x86_64")]
            TensorType::F16 if as_stored && width == self.length => {
                return Rows::Half(bytes);
            }
            TensorType::F16 if width == self.length => widen(path, bytes, all),
            TensorType::Q8_0 if width == self.length => value_blocks(path, bytes, all),
            _ => {
                for (row, out) in bytes.chunks(row).zip(all.chunks_mut(width)) {
                    self.tensor_type.decode(row, &mut out[..self.length]);
                }
            }
        }
        Rows::Single(out)
    }

    /// Reads the row of a position and head, as floats.
    ///
    /// # Panics
    /// When there is no such position.
    #[must_use]
    pub fn read(&self, kind: Kind, page: u32, head: usize, slot: usize) -> Vec<f32> {
        let (first, step) = match kind {
            Kind::Values => (slot * filled(self.length), 1),
            Kind::Keys => (slot, PAGE),
        };
        let mut values = vec![0.0; PAGE * filled(self.length)];
        let rows = match kind {
            Kind::Values => self.values(Instructions::Scalar, page, head, PAGE, false, &mut values),
            Kind::Keys => {
                let keys = &mut values[..PAGE * self.length];
                self.keys(Instructions::Scalar, page, head, false, keys)
            }
        };
        rows.floats()[first..].iter().step_by(step).take(self.length).copied().collect()
    }

    /// Writes the row of a position into a page of a head.
    ///
    /// # Panics
    /// If lengths do not match, or caches cannot be stored in this type.
    pub fn write(tensor_type: TensorType, kind: Kind, slot: usize, row: &[f32], page: &mut [u8]) {
        check(tensor_type);
        let bytes = tensor_type.row_bytes(row.len());
        assert!(page.len() == PAGE * bytes && slot < PAGE, "a page has another length");
        match (kind, tensor_type) {
            (Kind::Values, _) => store(tensor_type, row, &mut page[slot * bytes..][..bytes]),
            (Kind::Keys, TensorType::Q8_0) => {
                let blocks = row.as_chunks::<GROUP>().0.iter();
                for (values, block) in blocks.zip(page.as_chunks_mut::<KEY_BLOCK>().0) {
                    let mut stored = [0; Q8_BYTES];
                    store(tensor_type, values, &mut stored);
                    let (scales, quants) = block.split_at_mut(PAGE * 2);
                    scales[slot * 2..][..2].copy_from_slice(&stored[..2]);
                    for (at, quant) in stored[2..].iter().enumerate() {
                        quants[at * PAGE + slot] = *quant;
                    }
                }
            }
            (Kind::Keys, TensorType::F16) => scatter::<2>(tensor_type, row, slot, page),
            (Kind::Keys, _) => scatter::<4>(tensor_type, row, slot, page),
        }
    }

    /// Writes rows of all heads of some positions, `positions x heads x length`, each position's to a page and a
    /// slot in it.
    ///
    /// # Panics
    /// As [`Self::write`], and when there is no such page.
    pub fn write_all(
        team: &Team,
        tensor_type: TensorType,
        kind: Kind,
        (heads, length): (usize, usize),
        rows: &[f32],
        place: impl Fn(usize) -> (u32, usize) + Sync,
        bytes: &mut [u8],
    ) {
        let positions = rows.len() / (heads * length);
        let pages = DisjointRows::new(bytes, PAGE * tensor_type.row_bytes(length));
        // A piece is a head with the pages of a class: those with the same remainder of their numbers.
        let grain = LEAST_VALUES.div_ceil((positions * length).div_ceil(CLASSES).max(1));
        team.each(heads * CLASSES, grain, |_, own| {
            for (head, class) in own.map(|piece| (piece / CLASSES, piece % CLASSES)) {
                for position in 0..positions {
                    let (page, slot) = place(position);
                    if page as usize % CLASSES != class {
                        continue;
                    }
                    let row = &rows[(position * heads + head) * length..][..length];
                    // SAFETY: a piece is given to one thread once, and only it writes to these pages of the head.
                    let page = unsafe { pages.take(page as usize * heads + head) };
                    Self::write(tensor_type, kind, slot, row, page);
                }
            }
        });
    }

    /// Copies the first positions of a page to another one (all bytes of a page and head).
    ///
    /// # Panics
    /// When the lengths do not fit.
    pub fn copy(tensor_type: TensorType, kind: Kind, count: usize, from: &[u8], to: &mut [u8]) {
        assert!(from.len() == to.len() && count <= PAGE, "pages differ in length");
        match (kind, tensor_type) {
            (Kind::Values, _) => {
                let bytes = from.len() / PAGE * count;
                to[..bytes].copy_from_slice(&from[..bytes]);
            }
            (Kind::Keys, TensorType::Q8_0) => {
                for (from, to) in from.chunks(KEY_BLOCK).zip(to.chunks_mut(KEY_BLOCK)) {
                    to[..count * 2].copy_from_slice(&from[..count * 2]);
                    let quants = from[PAGE * 2..].chunks(PAGE).zip(to[PAGE * 2..].chunks_mut(PAGE));
                    quants.for_each(|(from, to)| to[..count].copy_from_slice(&from[..count]));
                }
            }
            (Kind::Keys, _) => {
                let one = tensor_type.block_bytes();
                let rows = from.chunks(PAGE * one).zip(to.chunks_mut(PAGE * one));
                rows.for_each(|(from, to)| to[..count * one].copy_from_slice(&from[..count * one]));
            }
        }
    }
}

/// The largest stored value; larger and infinite values are clamped to it. Otherwise a masked position, whose weight is 0,
/// could give 0 x infinity, which is NaN.
fn largest(tensor_type: TensorType) -> f32 {
    let half = f16::MAX.to_f32();
    match tensor_type {
        TensorType::F16 => half,
        // Its scale is a half float.
        TensorType::Q8_0 => half * 127.0,
        // The largest BF16 value: tiles would round larger ones to infinity.
        _ => f32::from_bits(0x7F7F_0000),
    }
}

/// Stores a row of values.
fn store(tensor_type: TensorType, values: &[f32], row: &mut [u8]) {
    let most = largest(tensor_type);
    match tensor_type {
        TensorType::F32 => {
            let words = row.as_chunks_mut::<4>().0.iter_mut();
            let values = values.iter().map(|value| value.clamp(-most, most));
            words.zip(values).for_each(|(word, value)| *word = value.to_le_bytes());
        }
        TensorType::F16 => {
            let mut halves = [f16::ZERO; TOGETHER];
            let mut kept = [0.0; TOGETHER];
            for (values, row) in values.chunks(TOGETHER).zip(row.chunks_mut(TOGETHER * 2)) {
                let (halves, kept) = (&mut halves[..values.len()], &mut kept[..values.len()]);
                clamp(values, most, kept);
                halves.convert_from_f32_slice(kept);
                let words = row.as_chunks_mut::<2>().0.iter_mut();
                words.zip(halves).for_each(|(word, half)| *word = half.to_le_bytes());
            }
        }
        _ => {
            let mut kept = [0.0; GROUP];
            for (values, block) in values.chunks(GROUP).zip(row.chunks_mut(Q8_BYTES)) {
                clamp(values, most, &mut kept);
                encode_q8_0(&kept, block);
            }
        }
    }
}

fn clamp(values: &[f32], most: f32, kept: &mut [f32]) {
    kept.iter_mut().zip(values).for_each(|(kept, value)| *kept = value.clamp(-most, most));
}

/// Stores the values of a key, `BYTES` each, at its position.
fn scatter<const BYTES: usize>(tensor_type: TensorType, row: &[f32], slot: usize, page: &mut [u8]) {
    let mut stored = [[0; BYTES]; TOGETHER];
    let places = page.as_chunks_mut::<BYTES>().0;
    for (values, places) in row.chunks(TOGETHER).zip(places.chunks_mut(TOGETHER * PAGE)) {
        let stored = &mut stored[..values.len()];
        store(tensor_type, values, stored.as_flattened_mut());
        let places = places[slot..].iter_mut().step_by(PAGE);
        places.zip(stored).for_each(|(place, value)| *place = *value);
    }
}

/// Floats that are stored as they are read here: little-endian, where a line begins.
fn as_floats(bytes: &[u8]) -> Option<&[f32]> {
    let is_read = cfg!(target_endian = "little")
        && bytes.as_ptr().addr().is_multiple_of(align_of::<Sixteen>());
    is_read.then(|| bytemuck::try_cast_slice(bytes).ok()).flatten()
}

fn copy(bytes: &[u8], out: &mut [f32]) {
    for (value, word) in out.iter_mut().zip(bytes.as_chunks::<4>().0) {
        *value = f32::from_le_bytes(*word);
    }
}

/// Half floats to floats.
fn widen(path: Instructions, bytes: &[u8], out: &mut [f32]) {
    assert_eq!(bytes.len(), out.len() * 2, "half floats and floats differ in length");
    let whole = out.len() / 16 * 16;
    let done = match path {
        // SAFETY: the path was found on this processor; lengths are equal.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx512 => unsafe { x86::widen_512(bytes, &mut out[..whole]) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Instructions::AvxVnni | Instructions::Avx2 => unsafe {
            x86::widen_256(bytes, &mut out[..whole])
        },
        _ => 0,
    };
    for (value, word) in out[done..].iter_mut().zip(bytes[done * 2..].as_chunks::<2>().0) {
        *value = f16::from_le_bytes(*word).to_f32();
    }
}

/// Keys in eight bits to floats.
fn key_blocks(path: Instructions, bytes: &[u8], out: &mut [f32]) {
    assert_eq!(bytes.len() / KEY_BLOCK * GROUP * PAGE, out.len(), "blocks and floats differ");
    match path {
        // SAFETY: the path was found on this processor; lengths are equal.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx512 => unsafe { x86::key_blocks_512(bytes, out) },
        _ => narrow_key_blocks(path, bytes, out),
    }
}

/// Values in eight bits to floats.
fn value_blocks(path: Instructions, bytes: &[u8], out: &mut [f32]) {
    assert_eq!(bytes.len() / Q8_BYTES * GROUP, out.len(), "blocks and floats differ");
    match path {
        // SAFETY: the path was found on this processor; lengths are equal.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx512 => unsafe { x86::value_blocks_512(bytes, out) },
        _ => narrow_value_blocks(path, bytes, out),
    }
}

on_every_path! {
    fn narrow_key_blocks(bytes: &[u8], out: &mut [f32]) = plain_key_blocks;
    fn narrow_value_blocks(bytes: &[u8], out: &mut [f32]) = plain_value_blocks;
}

/// Converts a half float with integer operations, which the compiler can vectorise on every path; exact.
#[inline(always)]
fn half_to_single(bits: u16) -> f32 {
    let bits = u32::from(bits);
    let (sign, rest) = ((bits & 0x8000) << 16, (bits & 0x7FFF) << 13);
    // The biases of the exponents differ by 112. Multiplying corrects that, also for subnormal numbers.
    let magnitude = f32::from_bits(rest) * f32::from_bits(239 << 23);
    let is_finite = rest < 0x7C00 << 13;
    let odd = f32::from_bits(rest | 0x7F80_0000);
    let magnitude = if is_finite { magnitude } else { odd };
    f32::from_bits(magnitude.to_bits() | sign)
}

#[inline(always)]
fn plain_key_blocks(bytes: &[u8], out: &mut [f32]) {
    let blocks = bytes.as_chunks::<KEY_BLOCK>().0.iter();
    for (block, out) in blocks.zip(out.chunks_mut(GROUP * PAGE)) {
        let mut scales = [0f32; PAGE];
        for (at, scale) in scales.iter_mut().enumerate() {
            *scale = half_to_single(u16::from_le_bytes([block[at * 2], block[at * 2 + 1]]));
        }
        let quants = block[PAGE * 2..].as_chunks::<PAGE>().0;
        for (quants, out) in quants.iter().zip(out.as_chunks_mut::<PAGE>().0) {
            for at in 0..PAGE {
                out[at] = f32::from(quants[at].cast_signed()) * scales[at];
            }
        }
    }
}

#[inline(always)]
fn plain_value_blocks(bytes: &[u8], out: &mut [f32]) {
    let blocks = bytes.as_chunks::<Q8_BYTES>().0.iter();
    for (block, out) in blocks.zip(out.as_chunks_mut::<GROUP>().0) {
        let scale = half_to_single(u16::from_le_bytes([block[0], block[1]]));
        for at in 0..GROUP {
            out[at] = f32::from(block[2 + at].cast_signed()) * scale;
        }
    }
}

#[cfg(target_arch = "x86_64")]
mod x86 {
    use std::arch::x86_64::*;

    use super::{GROUP, KEY_BLOCK, PAGE, Q8_BYTES};

    /// Sixteen signed bytes as floats.
    #[target_feature(enable = "avx512f")]
    #[inline]
    unsafe fn floats(bytes: *const u8) -> __m512 {
        // SAFETY: the caller promises sixteen bytes.
        let bytes = unsafe { _mm_loadu_si128(bytes.cast()) };
        _mm512_cvtepi32_ps(_mm512_cvtepi8_epi32(bytes))
    }

    /// # Safety
    /// `out` has `GROUP` rows of a page's positions for each block.
    #[target_feature(enable = "avx512f")]
    pub(super) unsafe fn key_blocks_512(bytes: &[u8], out: &mut [f32]) {
        let blocks = bytes.as_chunks::<KEY_BLOCK>().0.iter();
        for (block, out) in blocks.zip(out.chunks_exact_mut(GROUP * PAGE)) {
            // SAFETY: a block has 32 half floats and 32 times as many bytes, `out` as many places.
            unsafe {
                let scales = |at: usize| {
                    _mm512_cvtph_ps(_mm256_loadu_si256(block.as_ptr().add(at * 2).cast()))
                };
                let scales = [scales(0), scales(16)];
                let quants = block.as_ptr().add(PAGE * 2);
                for (at, out) in out.as_chunks_mut::<16>().0.iter_mut().enumerate() {
                    let values = _mm512_mul_ps(floats(quants.add(at * 16)), scales[at % 2]);
                    _mm512_storeu_ps(out.as_mut_ptr(), values);
                }
            }
        }
    }

    /// # Safety
    /// `out` has 32 places for each block.
    #[target_feature(enable = "avx512f,f16c")]
    pub(super) unsafe fn value_blocks_512(bytes: &[u8], out: &mut [f32]) {
        let blocks = bytes.as_chunks::<Q8_BYTES>().0.iter();
        for (block, out) in blocks.zip(out.as_chunks_mut::<GROUP>().0) {
            let scale = _mm_cvtsi32_si128(i32::from(u16::from_le_bytes([block[0], block[1]])));
            let scale = _mm512_broadcastss_ps(_mm_cvtph_ps(scale));
            // SAFETY: a block has 32 bytes, `out` as many places.
            unsafe {
                for half in [0, 16] {
                    let values = _mm512_mul_ps(floats(block.as_ptr().add(2 + half)), scale);
                    _mm512_storeu_ps(out.as_mut_ptr().add(half), values);
                }
            }
        }
    }

    /// # Safety
    /// `bytes` holds at least as many half floats as `out` has places, a multiple of 16.
    #[target_feature(enable = "avx512f")]
    pub(super) unsafe fn widen_512(bytes: &[u8], out: &mut [f32]) -> usize {
        for at in (0..out.len()).step_by(16) {
            // SAFETY: sixteen more of both are there.
            unsafe {
                let half = _mm256_loadu_si256(bytes.as_ptr().add(at * 2).cast());
                _mm512_storeu_ps(out.as_mut_ptr().add(at), _mm512_cvtph_ps(half));
            }
        }
        out.len()
    }

    /// # Safety
    /// As [`widen_512`].
    #[target_feature(enable = "avx2,f16c")]
    pub(super) unsafe fn widen_256(bytes: &[u8], out: &mut [f32]) -> usize {
        for at in (0..out.len()).step_by(8) {
            // SAFETY: eight more of both are there.
            unsafe {
                let half = _mm_loadu_si128(bytes.as_ptr().add(at * 2).cast());
                _mm256_storeu_ps(out.as_mut_ptr().add(at), _mm256_cvtph_ps(half));
            }
        }
        out.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_half_float_is_widened_exactly_on_every_path() {
        let bytes: Vec<u8> = (0..=u16::MAX).flat_map(u16::to_le_bytes).collect();
        for path in Instructions::available() {
            let mut out = vec![0.0; 1 << 16];
            widen(path, &bytes, &mut out);
            for bits in 0..=u16::MAX {
                let exact = f16::from_bits(bits).to_f32();
                for found in [out[usize::from(bits)], half_to_single(bits)] {
                    let same = found.to_bits() == exact.to_bits();
                    assert!(same || found.is_nan() && exact.is_nan(), "{bits:04x}: {found}");
                }
            }
        }
    }
}
