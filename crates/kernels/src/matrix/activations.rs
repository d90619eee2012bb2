//! Activations of one or several tokens, in the form a weight type is multiplied with.

use bytemuck::{Pod, Zeroable};
use deft_formats::quant::{GROUP, STRIP, STRIP_GROUPS, TensorType};

use crate::matrix::form::Form;
#[cfg(target_arch = "x86_64")]
use crate::matrix::lines::TokenLines;
use crate::matrix::tiles;
use crate::on_every_path;
use crate::sixteen::{REGISTER, Sixteen};
use crate::{Class, Instructions, Team, in_large_pages};

/// Added and taken away again it rounds to a whole number, ties to even; its bits then end in that
/// number.
const ROUNDING: f32 = 12_582_912.0;
/// Tokens that a thread rounds at a time.
const GRAIN: usize = 6;

/// Tokens that a thread has for itself, at least: for fewer it does not pay that others take the same weights
/// apart.
#[cfg(target_arch = "x86_64")]
const LEAST_TOKENS: usize = 48;
/// Bytes of activations that stay in a thread's own caches while rows pass by.
#[cfg(target_arch = "x86_64")]
const NEAR_BYTES: usize = 576 << 10;

/// Tokens whose activations stand together where there are several: as many as a tile of the widest path
/// has.
pub(crate) const TILE_TOKENS: usize = 3;

/// The same for floats.
pub(crate) const FLOAT_TOKENS: usize = 6;

/// 512 activations of a token in eight bits, for weights of one [`Form`]; a row's last strip is filled
/// up with zeros.
#[derive(Debug, Clone, Copy, Pod, Zeroable)]
#[repr(C, align(64))]
pub(crate) struct RoundedStrip {
    /// Within -127..=127, group by group; of several tokens on AVX2 as that path reads them.
    pub(crate) quants: [i8; STRIP],
    /// Value = scale x quant.
    pub(crate) scales: [f32; STRIP_GROUPS],
    /// Minus the weights' offset times the sum of quants: of groups, or of both halves of groups. What
    /// an integer sum of stored quants begins with.
    pub(crate) sum_biases: [[i32; STRIP_GROUPS]; 2],
    /// Sum of quants times scale, likewise: what is multiplied with minima.
    pub(crate) min_factors: [[f32; STRIP_GROUPS]; 2],
}

#[cfg(target_arch = "x86_64")]
impl RoundedStrip {
    /// The first groups, so many, again and again.
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

/// Floats of tokens in the order in which a tile reads them: for each sixteen columns those of so many tokens.
#[cfg(target_arch = "x86_64")]
#[derive(Debug, Clone, Copy)]
pub(crate) struct FloatTiles<'a> {
    lines: &'a [Sixteen],
    pub(crate) columns: usize,
    /// Tokens of a tile; the last one may have fewer.
    pub(crate) together: usize,
}

#[cfg(target_arch = "x86_64")]
impl<'a> FloatTiles<'a> {
    /// Lines of a token's row, the last of which may be filled up with zeros.
    pub(crate) fn lines_of_row(&self) -> usize {
        self.columns.div_ceil(REGISTER)
    }

    /// From the tile on that begins with this token.
    pub(crate) fn of(&self, token: usize) -> &'a [Sixteen] {
        &self.lines[token * self.lines_of_row()..]
    }
}

/// Lines of a token's strip; in tiles there are no more.
const LINES: usize = size_of::<RoundedStrip>() / size_of::<Sixteen>();
#[cfg(target_arch = "x86_64")]
const _: () = assert!(TokenLines::MOST <= LINES * TILE_TOKENS);

/// How activations are multiplied.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Kind {
    /// As they are.
    #[default]
    Floats,
    /// In eight bits, for weights of a form.
    RoundedStrip(Form),
    /// In BF16, in tiles.
    Tiles,
}

impl Kind {
    /// For a type of weights on a path.
    fn of(path: Instructions, tensor_type: TensorType) -> Self {
        match (path.class(), Form::of(tensor_type)) {
            // Whoever keeps weights in single precision wants it, and so does a router.
            (_, None) if tensor_type == TensorType::F32 => Self::Floats,
            (Class::Bf16, _) => Self::Tiles,
            (Class::Int8, None) => Self::Floats,
            (Class::Int8, Some(form)) => Self::RoundedStrip(form),
        }
    }
}

/// `tokens x width` activations as a type of weights is multiplied with: floats as they are, blocks with
/// activations in eight bits. Reused from product to product.
#[derive(Debug, Default)]
pub struct Activations {
    /// Strip by strip [`RoundedStrip`], or tiles as [`TokenLines`] tells; floats as they are, or in tiles as
    /// [`FloatTiles`] tell; tiles of BF16 as [`tiles`] tell.
    lines: Vec<Sixteen>,
    pub(crate) tokens: usize,
    pub(crate) width: usize,
    pub(crate) kind: Kind,
    /// Which reads them.
    pub(crate) path: Option<Instructions>,
}

impl Activations {
    /// Room for so many tokens of such a width on a path, for weights in blocks or for floats too, so that
    /// preparing them takes no memory any more.
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

    /// Whether they are multiplied as they are with weights of a type, on a path.
    #[must_use]
    pub fn stay_floats(path: Instructions, tensor_type: TensorType) -> bool {
        Kind::of(path, tensor_type) == Kind::Floats
    }

    /// Takes values (`tokens x width`) for weights of a type.
    ///
    /// In eight bits they are rounded in blocks of 32: scale = largest magnitude / 127, ties to even. A
    /// block with a value that is not finite becomes NaN as a whole, so that it is noticed.
    ///
    /// # Panics
    /// When the type has blocks and `width` is not a multiple of 32.
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

    /// Whether tokens stand together: for the widest path, eight bits of several tokens and all floats.
    fn is_tiled(&self) -> bool {
        let widest = self.path.map(Instructions::vectors) == Some(Instructions::Avx512);
        widest && (self.kind == Kind::Floats || self.tokens > 1)
    }

    /// Takes values as they are: for the widest path in tiles.
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

    /// Tokens that are multiplied together, whole tiles of so many: a part for each thread where there are many,
    /// and no more than stay in a thread's own caches.
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

    /// Floats as they are, where they are not in tiles.
    pub(crate) fn floats(&self) -> &[f32] {
        assert!(!self.is_tiled(), "prepared for another path");
        &bytemuck::cast_slice(&self.lines)[..self.tokens * self.width]
    }

    /// Floats in tiles, from that on which begins with a token.
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn float_tiles(&self, token: usize) -> FloatTiles<'_> {
        assert!(self.is_tiled(), "prepared for another path");
        let together = self.tokens.min(FLOAT_TOKENS);
        debug_assert!(token.is_multiple_of(together), "no tile begins there");
        let lines = &self.lines[token * self.width.div_ceil(REGISTER)..];
        FloatTiles { lines, columns: self.width, together }
    }

    /// Whether what was taken last can be multiplied with another type as it is.
    #[must_use]
    pub fn fits(&self, tensor_type: TensorType) -> bool {
        self.path.is_some_and(|path| self.kind == Kind::of(path, tensor_type))
    }

    /// The strips of all tokens, where these do not stand together.
    pub(crate) fn strips(&self) -> &[RoundedStrip] {
        assert!(!self.is_tiled(), "prepared for another path");
        bytemuck::cast_slice(&self.lines)
    }

    /// Tiles of BF16, from the group on that begins with a token.
    pub(crate) fn tiles_of(&self, token: usize) -> &[Sixteen] {
        assert_eq!(self.kind, Kind::Tiles, "prepared for another path");
        &self.lines[tiles::lines_of(token, self.width)..]
    }

    /// A token's strips likewise.
    pub(crate) fn of(&self, token: usize) -> &[RoundedStrip] {
        let strips = self.width.div_ceil(STRIP);
        &self.strips()[token * strips..][..strips]
    }

    /// The strips of all tokens in tiles, as [`TokenLines`] tells.
    #[cfg(target_arch = "x86_64")]
    pub(crate) fn tiles(&self) -> &[Sixteen] {
        assert!(self.is_tiled() && self.kind != Kind::Tiles, "prepared for another path");
        &self.lines
    }
}

/// A token's row.
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

/// Rows of up to three tokens, for the widest path.
#[cfg(target_arch = "x86_64")]
fn round_tile(values: &[f32], width: usize, form: Form, tiles: &mut [Sixteen]) {
    for (token, values) in values.chunks(width).enumerate() {
        let tiles = tiles.chunks_exact_mut(TokenLines(form).count());
        for (values, tile) in values.chunks(STRIP).zip(tiles) {
            // SAFETY: tokens stand together only on this path, which was found on this processor.
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

/// A block's largest magnitude, and whether all its values are finite.
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

/// Rounds half a block; returns the sum of its quants.
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
