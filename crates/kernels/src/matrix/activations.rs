//! Activations, in the form in which a path multiplies them by weights of a type.
//!
//! Float weights are multiplied by the activations themselves. Weights in blocks are multiplied by activations that are
//! rounded to eight bits (class `int8`) or to BF16 (class `bf16`).

use bytemuck::{Pod, Zeroable};
use deft_formats::quant::{GROUP, STRIP, STRIP_GROUPS, TensorType};

use crate::matrix::form::Form;
#[cfg(target_arch = "x86_64")]
use crate::matrix::lines::TokenLines;
use crate::matrix::tiles;
use crate::on_every_path;
use crate::sixteen::{REGISTER, Sixteen};
use crate::{Class, Instructions, Team, in_large_pages};

/// Added to a small float, it rounds that float to a whole number, ties to even; the low bits of the sum are the
/// number.
const ROUNDING: f32 = 12_582_912.0;
/// Number of tokens that a thread rounds at a time.
const GRAIN: usize = 6;

/// Least number of tokens of a thread's own part. With fewer, unpacking the same weights on several threads costs more
/// than it saves.
#[cfg(target_arch = "x86_64")]
const LEAST_TOKENS: usize = 48;
/// Bytes of activations that stay in a core's own caches (L1, L2) while rows are read.
#[cfg(target_arch = "x86_64")]
const NEAR_BYTES: usize = 576 << 10;

/// Number of tokens in a tile of the AVX-512 path; their activations are stored together.
pub(crate) const TILE_TOKENS: usize = 3;

/// The same for float weights.
pub(crate) const FLOAT_TOKENS: usize = 6;

/// 512 activations of a token in eight bits, for weights of one [`Form`]. A row's last strip is padded with zeros.
#[derive(Debug, Clone, Copy, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct RoundedStrip {
    /// Quants within -127..=127, group by group. For several tokens on AVX2 they are interleaved as that path reads
    /// them.
    pub(crate) quants: [i8; STRIP],
    /// Scale of each group: value = scale x quant.
    pub(crate) scales: [f32; STRIP_GROUPS],
    /// Bias of the integer sums, because weights are stored with an offset: minus offset x sum of quants. Per group,
    /// or per half of a group if the form has a scale per half.
    pub(crate) sum_biases: [[i32; STRIP_GROUPS]; 2],
    /// Factor of the weights' minima: scale x sum of quants, per group or half likewise.
    pub(crate) min_factors: [[f32; STRIP_GROUPS]; 2],
}

#[cfg(target_arch = "x86_64")]
impl RoundedStrip {
    /// A strip that repeats the first `groups` groups.
    pub(crate) fn repeated(&self, groups: usize) -> Self {
        let mut all = *self;
        for group in groups..STRIP_GROUPS {
            let first = group % groups;
            all.quants.copy_within(first * GROUP..(first + 1) * GROUP, group * GROUP);
            all.scales[group] = all.scales[first];
            for half in 0..2 {
                all.sum_biases[half][group] = all.sum_biases[half][first];
                all.min_factors[half][group] = all.min_factors[half][first];
            }
        }
        all
    }
}

/// Float activations in the order in which a tile reads them: sixteen columns of each token of the tile, then the next
/// sixteen columns.
#[cfg(target_arch = "x86_64")]
#[derive(Debug, Clone, Copy)]
pub(crate) struct FloatTiles<'a> {
    lines: &'a [Sixteen],
    pub(crate) columns: usize,
    /// Number of tokens in a tile; the last tile may have fewer.
    pub(crate) together: usize,
}

#[cfg(target_arch = "x86_64")]
impl<'a> FloatTiles<'a> {
    /// Number of 64-byte lines of a token; the last line may be padded with zeros.
    pub(crate) fn lines_of_row(&self) -> usize {
        self.columns.div_ceil(REGISTER)
    }

    /// The tile that begins with this token, and those after it.
    pub(crate) fn of(&self, token: usize) -> &'a [Sixteen] {
        &self.lines[token * self.lines_of_row()..]
    }
}

/// Number of 64-byte lines of a strip. A strip in a tile has no more.
const LINES: usize = size_of::<RoundedStrip>() / size_of::<Sixteen>();
#[cfg(target_arch = "x86_64")]
const _: () = assert!(TokenLines::MOST <= LINES * TILE_TOKENS);

/// Form of activations.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Kind {
    /// Floats, unchanged.
    #[default]
    Floats,
    /// Eight bits, for weights of a form.
    RoundedStrip(Form),
    /// BF16, in tiles.
    Tiles,
}

impl Kind {
    /// The form for weights of a type on a path.
    fn of(path: Instructions, tensor_type: TensorType) -> Self {
        match (path.class(), Form::of(tensor_type)) {
            // Weights in single precision (for instance of a router) are there for their precision.
            (_, None) if tensor_type == TensorType::F32 => Self::Floats,
            (Class::Bf16, _) => Self::Tiles,
            (Class::Int8, None) => Self::Floats,
            (Class::Int8, Some(form)) => Self::RoundedStrip(form),
        }
    }
}

/// Activations of `tokens x width`, in the form for a type of weights. Reused for product after product.
#[derive(Debug, Default)]
pub struct Activations {
    /// A [`RoundedStrip`] after the other, or tiles of them ([`TokenLines`]); plain floats, or tiles of them
    /// ([`FloatTiles`]); or tiles of BF16 ([`tiles`]).
    lines: Vec<Sixteen>,
    pub(crate) tokens: usize,
    pub(crate) width: usize,
    pub(crate) kind: Kind,
    /// Path that they were prepared for.
    pub(crate) path: Option<Instructions>,
}

impl Activations {
    /// Activations with room for `tokens x width`, so that [`Self::prepare`] allocates nothing. `floats` makes room for
    /// float weights too.
    #[must_use]
    pub fn with_room(path: Instructions, tokens: usize, width: usize, floats: bool) -> Self {
        let blocks = match path.class() {
            Class::Int8 => tokens.next_multiple_of(TILE_TOKENS) * width.div_ceil(STRIP) * LINES,
            Class::Bf16 => tiles::lines_of(tokens, width),
        };
        let floats = if floats {
            tokens.next_multiple_of(FLOAT_TOKENS) * width.div_ceil(REGISTER)
        } else {
            0
        };
        Self { lines: in_large_pages(blocks.max(floats), Sixteen::default()), ..Self::default() }
    }

    /// Whether weights of a type are multiplied by unchanged activations on a path.
    #[must_use]
    pub fn stay_floats(path: Instructions, tensor_type: TensorType) -> bool {
        Kind::of(path, tensor_type) == Kind::Floats
    }

    /// Converts values (`tokens x width`) to the form for weights of a type.
    ///
    /// Rounding to eight bits is in blocks of 32: scale = largest magnitude / 127, ties to even. A block with a value
    /// that is not finite becomes NaN as a whole, so that the error is noticed.
    ///
    /// # Panics
    /// If the type has blocks and `width` is not a multiple of 32.
    pub fn prepare(
        &mut self,
        path: Instructions,
        team: &Team,
        tensor_type: TensorType,
        values: &[f32],
        width: usize,
    ) {
        (self.tokens, self.width) = (values.len() / width, width);
        (self.kind, self.path) = (Kind::of(path, tensor_type), Some(path));
        let form = match self.kind {
            Kind::Floats => return self.take_floats(team, values),
            Kind::Tiles => {
                self.lines.resize(tiles::lines_of(self.tokens, width), Sixteen::default());
                return tiles::round(path, team, values, width, &mut self.lines);
            }
            Kind::RoundedStrip(form) => form,
        };
        assert!(width.is_multiple_of(GROUP), "rows of {width} values are not whole blocks");
        let is_tiled = self.is_tiled();
        let strips = width.div_ceil(STRIP);
        let together = if is_tiled { TILE_TOKENS } else { 1 };
        let pieces = self.tokens.div_ceil(together);
        let lines = match is_tiled {
            #[cfg(target_arch = "x86_64")]
            true => TokenLines(form).count(),
            _ => LINES,
        };
        self.lines.resize(pieces * strips * lines, Sixteen::default());
        let places = crate::team::DisjointRows::new(&mut self.lines, strips * lines);
        #[cfg(target_arch = "x86_64")]
        let is_interleaved = path.is_narrow() && self.tokens > 1;
        team.each(pieces, GRAIN / together, |_, pieces| {
            for piece in pieces {
                let first = piece * together * width;
                let rows = &values[first..values.len().min(first + together * width)];
                // SAFETY: a piece is given to one thread once.
                let lines = unsafe { places.take(piece) };
                if is_tiled {
                    #[cfg(target_arch = "x86_64")]
                    round_tile(rows, width, form, lines);
                } else {
                    let strips = bytemuck::cast_slice_mut(lines);
                    round_row(path, rows, form, strips);
                    #[cfg(target_arch = "x86_64")]
                    if is_interleaved {
                        // SAFETY: the path was found on this processor.
                        strips.iter_mut().for_each(|strip| unsafe {
                            super::avx2::interleave(&mut strip.quants);
                        });
                    }
                }
            }
        });
    }

    /// Whether activations are in tiles of several tokens: on AVX-512, floats, and eight bits of more than one token.
    fn is_tiled(&self) -> bool {
        let widest = self.path.map(Instructions::vectors) == Some(Instructions::Avx512);
        widest && (self.kind == Kind::Floats || self.tokens > 1)
    }

    /// Copies values unchanged; on AVX-512 in the order of tiles.
    fn take_floats(&mut self, team: &Team, values: &[f32]) {
        if !self.is_tiled() {
            self.lines.resize(values.len().div_ceil(REGISTER), Sixteen::default());
            bytemuck::cast_slice_mut(&mut self.lines)[..values.len()].copy_from_slice(values);
            return;
        }
        let (tokens, width) = (self.tokens, self.width);
        let together = tokens.min(FLOAT_TOKENS);
        let pieces = tokens.div_ceil(together.max(1));
        let length = width.div_ceil(REGISTER) * together;
        self.lines.resize(pieces * length, Sixteen::default());
        let places = crate::team::DisjointRows::new(&mut self.lines, length);
        team.each(pieces, 1, |_, pieces| {
            for piece in pieces {
                let first = piece * together * width;
                let rows = &values[first..values.len().min(first + together * width)];
                // SAFETY: a piece is given to one thread once.
                let lines = unsafe { places.take(piece) };
                for (token, row) in rows.chunks(width).enumerate() {
                    for (values, line) in
                        row.chunks(REGISTER).zip(lines[token..].iter_mut().step_by(together))
                    {
                        line.0[..values.len()].copy_from_slice(values);
                        line.0[values.len()..].fill(0.0);
                    }
                }
            }
        });
    }

    /// Number of tokens of a part, a multiple of `tile`. Many tokens are divided into a part for each thread, and into
    /// parts that fit a core's own caches.
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn tokens_together(&self, threads: usize, tile: usize) -> usize {
        let lines = match self.kind {
            Kind::RoundedStrip(form) => {
                self.width.div_ceil(STRIP) * (TokenLines(form).count() / TILE_TOKENS)
            }
            _ => self.width.div_ceil(REGISTER),
        };
        let near = (NEAR_BYTES / size_of::<Sixteen>() / lines.max(1)).max(1);
        let parts = (self.tokens / LEAST_TOKENS).clamp(1, threads.max(self.tokens.div_ceil(near)));
        self.tokens.div_ceil(parts).next_multiple_of(tile)
    }

    /// Plain floats.
    pub(crate) fn floats(&self) -> &[f32] {
        assert!(!self.is_tiled(), "prepared for another path");
        &bytemuck::cast_slice(&self.lines)[..self.tokens * self.width]
    }

    /// Floats in tiles, from the tile that begins with a token.
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn float_tiles(&self, token: usize) -> FloatTiles<'_> {
        assert!(self.is_tiled(), "prepared for another path");
        let together = self.tokens.min(FLOAT_TOKENS);
        debug_assert!(token.is_multiple_of(together), "no tile begins there");
        let lines = &self.lines[token * self.width.div_ceil(REGISTER)..];
        FloatTiles { lines, columns: self.width, together }
    }

    /// Whether the prepared activations also have the form for another type of weights.
    #[must_use]
    pub fn fits(&self, tensor_type: TensorType) -> bool {
        self.path.is_some_and(|path| self.kind == Kind::of(path, tensor_type))
    }

    /// The strips of all tokens, one token after the other.
    pub(crate) fn strips(&self) -> &[RoundedStrip] {
        assert!(!self.is_tiled(), "prepared for another path");
        bytemuck::cast_slice(&self.lines)
    }

    /// Tiles of BF16, from the tile that begins with a token.
    pub(crate) fn tiles_of(&self, token: usize) -> &[Sixteen] {
        assert_eq!(self.kind, Kind::Tiles, "prepared for another path");
        &self.lines[tiles::lines_of(token, self.width)..]
    }

    /// The strips of a token.
    pub(crate) fn of(&self, token: usize) -> &[RoundedStrip] {
        let strips = self.width.div_ceil(STRIP);
        &self.strips()[token * strips..][..strips]
    }

    /// The strips of all tokens, in tiles ([`TokenLines`]).
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn tiles(&self) -> &[Sixteen] {
        assert!(self.is_tiled() && self.kind != Kind::Tiles, "prepared for another path");
        &self.lines
    }
}

/// Rounds the activations of one token.
fn round_row(path: Instructions, values: &[f32], form: Form, strips: &mut [RoundedStrip]) {
    for (values, strip) in values.chunks(STRIP).zip(strips) {
        match path {
            #[cfg(target_arch = "x86_64")]
            // SAFETY: the path was found on this processor.
            Instructions::Avx512 => unsafe { super::avx512::round_strip(values, form, strip) },
            _ => round_strip(path, values, form, strip),
        }
    }
}

/// Rounds the activations of up to three tokens into a tile of the AVX-512 path.
#[cfg(target_arch = "x86_64")]
fn round_tile(values: &[f32], width: usize, form: Form, tiles: &mut [Sixteen]) {
    for (token, values) in values.chunks(width).enumerate() {
        let tiles = tiles.chunks_exact_mut(TokenLines(form).count());
        for (values, tile) in values.chunks(STRIP).zip(tiles) {
            // SAFETY: only the AVX-512 path uses these tiles, and it was detected on this processor.
            unsafe { super::avx512::round_into(values, form, tile, token) };
        }
    }
}

on_every_path! {
    fn round_strip(values: &[f32], form: Form, strip: &mut RoundedStrip) = round_strip_plain;
}

#[inline(always)]
fn round_strip_plain(values: &[f32], form: Form, strip: &mut RoundedStrip) {
    let (blocks, _) = values.as_chunks::<GROUP>();
    let mut inverses = [0f32; STRIP_GROUPS];
    strip.scales = [0.0; STRIP_GROUPS];
    for (group, block) in blocks.iter().enumerate() {
        let (largest, finite) = largest(block);
        inverses[group] = if largest > 0.0 && finite { 127.0 / largest } else { 0.0 };
        strip.scales[group] = if finite { largest / 127.0 } else { f32::NAN };
    }
    let (groups, _) = strip.quants.as_chunks_mut::<GROUP>();
    groups[blocks.len()..].fill([0; GROUP]);
    let mut sums = [[0; STRIP_GROUPS]; 2];
    for ((group, block), quants) in blocks.iter().enumerate().zip(groups) {
        if inverses[group] == 0.0 {
            *quants = [0; GROUP];
            continue;
        }
        let (values, _) = block.as_chunks::<16>();
        let (quants, _) = quants.as_chunks_mut::<16>();
        for half in 0..2 {
            sums[half][group] = round_half(&values[half], inverses[group], &mut quants[half]);
        }
    }
    if !form.halves {
        let [first, second] = &mut sums;
        first.iter_mut().zip(&mut *second).for_each(|(first, second)| *first += *second);
        *second = [0; STRIP_GROUPS];
    }
    for (half, sums) in sums.iter().enumerate() {
        strip.sum_biases[half] = sums.map(|sum| -i32::from(form.offset) * sum);
        for ((low, sum), scale) in strip.min_factors[half].iter_mut().zip(sums).zip(strip.scales) {
            #[expect(clippy::cast_precision_loss, reason = "at most 32 x 127")]
            let sum = *sum as f32;
            *low = scale * sum;
        }
    }
}

/// Largest magnitude of a block, and whether all its values are finite.
#[inline(always)]
fn largest(block: &[f32; GROUP]) -> (f32, bool) {
    let mut largest = [0f32; 16];
    let mut finite = true;
    for half in block.as_chunks::<16>().0 {
        for (largest, value) in largest.iter_mut().zip(half) {
            let value = value.abs();
            *largest = if value > *largest { value } else { *largest };
            finite &= value < f32::INFINITY;
        }
    }
    let mut width = 8;
    while width > 0 {
        for at in 0..width {
            let other = largest[at + width];
            largest[at] = if other > largest[at] { other } else { largest[at] };
        }
        width /= 2;
    }
    (largest[0], finite)
}

/// Rounds half a block, and returns the sum of its quants.
#[inline(always)]
fn round_half(values: &[f32; 16], inverse: f32, quants: &mut [i8; 16]) -> i32 {
    let mut sum = 0;
    for (quant, value) in quants.iter_mut().zip(values) {
        let whole = (value * inverse + ROUNDING).to_bits();
        // The low byte of the bits is the number's own.
        #[expect(clippy::cast_possible_truncation, reason = "within -127..=127 by the scale")]
        let whole = whole as u8;
        *quant = whole.cast_signed();
        sum += i32::from(*quant);
    }
    sum
}

#[cfg(test)]
mod tests;
