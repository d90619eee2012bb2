//! 512-bit twins of [`super::scalar`]. One register holds the sixteen partial sums.

use std::arch::x86_64::*;

mod quants;

use deft_formats::quant::{Blocks, GROUP, STRIP, STRIP_GROUPS, Strip, unpack, unpack_scales};

use super::activations::Eighths;
pub(super) use quants::Wide;

use super::panel::{PANEL_ROWS, Panel, PanelStrip, Sums};

/// Dot instructions that a strip takes.
const STEPS: usize = STRIP / 64;
/// Rows of a tile.
const TILE_ROWS: usize = 4;
/// Tokens of a tile: with the rows so many that integer sums, partial sums and weights fill the registers.
const TILE_TOKENS: usize = 3;

/// Where in the two registers of [`quarters`] the even quarters of groups 0 to 15 stand; odd ones four
/// lanes on.
const EVEN: [i32; 16] = {
    let mut places = [0; 16];
    let mut group = 0;
    while group < 16 {
        let register = group / 8 * 16;
        places[group as usize] = register + group % 2 * 8 + group % 8 / 2;
        group += 1;
    }
    places
};

#[target_feature(enable = "avx512f")]
#[inline]
fn places(odd: bool) -> __m512i {
    // SAFETY: the array has sixteen words.
    let even = unsafe { _mm512_loadu_si512(EVEN.as_ptr().cast()) };
    if odd { _mm512_add_epi32(even, _mm512_set1_epi32(4)) } else { even }
}

/// Eight registers, each with two groups of eight words, to two registers with the sums of four
/// neighbouring words: in a lane of 128 bits the same quarter of four registers.
#[target_feature(enable = "avx512f")]
#[inline]
fn quarters(sums: &[__m512i; STEPS]) -> (__m512i, __m512i) {
    let four = |first: usize| {
        let pair = |at: usize| {
            let (a, b) = (sums[at], sums[at + 1]);
            _mm512_add_epi32(_mm512_unpacklo_epi32(a, b), _mm512_unpackhi_epi32(a, b))
        };
        let (a, b) = (pair(first), pair(first + 2));
        _mm512_add_epi32(_mm512_unpacklo_epi64(a, b), _mm512_unpackhi_epi64(a, b))
    };
    (four(0), four(4))
}

/// The integer sums of both halves of all groups, in their order.
#[target_feature(enable = "avx512f")]
#[inline]
fn half_sums(sums: &[__m512i; STEPS]) -> (__m512i, __m512i) {
    let (low, high) = quarters(sums);
    (
        _mm512_permutex2var_epi32(low, places(false), high),
        _mm512_permutex2var_epi32(low, places(true), high),
    )
}

/// The scales, or minima, of a strip's groups in a half.
#[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
#[inline]
fn scales<B: Blocks>(strip: &Strip, half: usize) -> (__m512, __m512) {
    // SAFETY: all four arrays have sixteen entries.
    unsafe {
        let wide = |bits: &[u16; 16]| _mm512_cvtph_ps(_mm256_loadu_si256(bits.as_ptr().cast()));
        let mut scale = wide(&strip.scale);
        let mut min = if B::MINIMA { wide(&strip.min) } else { _mm512_setzero_ps() };
        if B::SUB_SCALES {
            let whole = _mm512_cvtepi8_epi32(_mm_loadu_si128(strip.scales[half].as_ptr().cast()));
            scale = _mm512_mul_ps(scale, _mm512_cvtepi32_ps(whole));
        }
        if B::SUB_SCALES && B::MINIMA {
            let whole = _mm512_cvtepu8_epi32(_mm_loadu_si128(strip.mins[half].as_ptr().cast()));
            min = _mm512_mul_ps(min, _mm512_cvtepi32_ps(whole));
        }
        (scale, min)
    }
}

/// Adds sixteen integer sums, and what minima take away, to the partial sums.
#[target_feature(enable = "avx512f")]
#[inline]
fn add<B: Blocks>(
    partial: __m512,
    sums: __m512i,
    scale: __m512,
    min: __m512,
    x: &Eighths,
    half: usize,
) -> __m512 {
    // SAFETY: the arrays have sixteen entries.
    unsafe {
        let factor = _mm512_mul_ps(scale, _mm512_load_ps(x.scales.as_ptr()));
        let partial = _mm512_fmadd_ps(_mm512_cvtepi32_ps(sums), factor, partial);
        if !B::MINIMA {
            return partial;
        }
        _mm512_fnmadd_ps(min, _mm512_load_ps(x.lows[half].as_ptr()), partial)
    }
}

/// Adds a strip's integer sums, which begin at nothing, to the partial sums.
#[target_feature(enable = "avx512f,avx512vl,avx512bw,f16c")]
#[inline]
fn add_strip<B: Blocks>(
    partial: __m512,
    sums: &[__m512i; STEPS],
    strip: &Strip,
    x: &Eighths,
) -> __m512 {
    let (first, second) = half_sums(sums);
    // SAFETY: the arrays have sixteen entries.
    let start = |half: usize| unsafe { _mm512_load_si512(x.starts[half].as_ptr().cast()) };
    let (scale, min) = scales::<B>(strip, 0);
    if !B::HALVES {
        let sums = _mm512_add_epi32(_mm512_add_epi32(first, second), start(0));
        return add::<B>(partial, sums, scale, min, x, 0);
    }
    let partial = add::<B>(partial, _mm512_add_epi32(first, start(0)), scale, min, x, 0);
    let (scale, min) = scales::<B>(strip, 1);
    add::<B>(partial, _mm512_add_epi32(second, start(1)), scale, min, x, 1)
}

/// Rows of so many bytes times the activations of a token, group by group.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx512vnni,avx2,fma,f16c")]
pub(super) fn rows<B: Wide>(rows: &[u8], row_bytes: usize, x: &[Eighths], out: &mut [f32]) {
    let mut strip = Strip::default();
    for (row, out) in rows.chunks_exact(row_bytes).zip(out) {
        let mut partial = _mm512_setzero_ps();
        let mut strips = row.chunks_exact(STRIP / B::VALUES * B::BYTES);
        for (blocks, x) in strips.by_ref().zip(x) {
            unpack_scales::<B>(blocks, &mut strip);
            // SAFETY: these are blocks of 512 values.
            let quants = unsafe { quants::load::<B>(blocks.as_ptr(), STEPS) };
            partial = add_strip::<B>(partial, &products(&quants, x), &strip, x);
        }
        let rest = strips.remainder();
        if let Some(x) = x.last().filter(|_| !rest.is_empty()) {
            let quants = quants_of::<B>(rest, &mut strip);
            partial = add_strip::<B>(partial, &products(&quants, x), &strip, x);
        }
        *out = tree(partial);
    }
}

/// Quants times activations, group by group: two groups in each register.
#[target_feature(enable = "avx512f,avx512vnni")]
#[inline]
fn products(quants: &[__m512i; STEPS], x: &Eighths) -> [__m512i; STEPS] {
    // SAFETY: activations have 512 quants, 64 for each step.
    std::array::from_fn(|step| unsafe {
        let x = _mm512_load_si512(x.quants.as_ptr().add(step * 64).cast());
        _mm512_dpbusd_epi32(_mm512_setzero_si512(), quants[step], x)
    })
}

/// Takes blocks of a row apart: quants in registers, two groups in each, everything else in the strip.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
#[inline]
fn quants_of<B: Wide>(blocks: &[u8], strip: &mut Strip) -> [__m512i; STEPS] {
    let values = blocks.len() / B::BYTES * B::VALUES;
    if values.is_multiple_of(64) {
        unpack_scales::<B>(blocks, strip);
        // SAFETY: these are blocks of so many values.
        return unsafe { quants::load::<B>(blocks.as_ptr(), values / 64) };
    }
    unpack::<B>(blocks, strip);
    // SAFETY: a strip has 512 quants.
    std::array::from_fn(|at| unsafe {
        _mm512_load_si512(strip.quants.as_ptr().add(at * 64).cast())
    })
}

/// The fixed tree at the end of a sum.
#[target_feature(enable = "avx512f,avx512dq,avx512vl")]
#[inline]
pub(crate) fn tree(sums: __m512) -> f32 {
    let eight = _mm256_add_ps(_mm512_castps512_ps256(sums), _mm512_extractf32x8_ps::<1>(sums));
    let four = _mm_add_ps(_mm256_castps256_ps128(eight), _mm256_extractf128_ps::<1>(eight));
    let two = _mm_add_ps(four, _mm_movehl_ps(four, four));
    _mm_cvtss_f32(_mm_add_ss(two, _mm_movehdup_ps(two)))
}

/// Takes blocks of a row apart, four quants of each group side by side.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(super) fn pack<B: Wide>(blocks: &[u8], strip: &mut Strip, packed: &mut PanelStrip) {
    let quants = quants_of::<B>(blocks, strip);
    // SAFETY: the packed strip has 512 quants; the other arrays have sixteen entries.
    unsafe {
        // In a lane of 128 bits: word `k` of the same quarter of four registers.
        let four = |first: usize| -> [__m512i; 4] {
            let (a, b) = (quants[first], quants[first + 1]);
            let (c, d) = (quants[first + 2], quants[first + 3]);
            let (low, high) = (_mm512_unpacklo_epi32(a, b), _mm512_unpackhi_epi32(a, b));
            let (more, most) = (_mm512_unpacklo_epi32(c, d), _mm512_unpackhi_epi32(c, d));
            [
                _mm512_unpacklo_epi64(low, more),
                _mm512_unpackhi_epi64(low, more),
                _mm512_unpacklo_epi64(high, most),
                _mm512_unpackhi_epi64(high, most),
            ]
        };
        let (low, high) = (four(0), four(4));
        for word in 0..4 {
            for odd in [false, true] {
                let step = word + usize::from(odd) * 4;
                let words = _mm512_permutex2var_epi32(low[word], places(odd), high[word]);
                _mm512_store_si512(packed.quants.as_mut_ptr().add(step * 64).cast(), words);
            }
        }
        for half in 0..if B::HALVES { 2 } else { 1 } {
            let (scale, min) = scales::<B>(strip, half);
            _mm512_store_ps(packed.scales[half].as_mut_ptr(), scale);
            if B::MINIMA {
                _mm512_store_ps(packed.mins[half].as_mut_ptr(), min);
            }
        }
    }
}

/// Strips of a panel of rows, and of all tokens: what [`multiply`] computes.
pub(super) struct Block<'a> {
    pub(super) panel: &'a Panel,
    /// `stride` strips for each token, of which those of the panel begin at `first`.
    pub(super) x: &'a [Eighths],
    pub(super) stride: usize,
    pub(super) first: usize,
    /// Partial sums, `tokens x rows of a panel`; not read where the panel has the first strips, and not
    /// written where it has the last ones.
    pub(super) sums: &'a mut [Sums],
    /// What comes out of the panel's rows: of the first token, others so many places on; written where the
    /// panel has the last strips.
    pub(super) out: *mut f32,
    pub(super) out_stride: usize,
    pub(super) tokens: usize,
}

/// A panel's strips of rows times all tokens.
///
/// # Safety
/// `x` has `stride` strips for each token, `sums` and `out` have what is said there; nobody else uses those
/// places of `out`.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx512vnni,avx2,fma,f16c")]
pub(super) unsafe fn multiply<B: Blocks>(block: &mut Block<'_>) {
    let tokens = block.tokens;
    // Weights of four rows stay in the nearest cache while all tokens pass by.
    for row in (0..PANEL_ROWS).step_by(TILE_ROWS) {
        let mut token = 0;
        while token < tokens {
            // SAFETY: the tile's tokens and rows exist, as the caller promises.
            token += unsafe {
                match tokens - token {
                    1 => tile::<B, 1>(block, row, token),
                    2 => tile::<B, 2>(block, row, token),
                    _ => tile::<B, TILE_TOKENS>(block, row, token),
                }
            };
        }
    }
}

/// Four rows times some tokens; returns how many.
///
/// # Safety
/// As [`multiply`], and these rows and tokens exist.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx512vnni,avx2,fma,f16c")]
#[inline]
unsafe fn tile<B: Blocks, const TOKENS: usize>(
    block: &mut Block<'_>,
    row: usize,
    token: usize,
) -> usize {
    let Block { panel, stride, first, .. } = *block;
    // SAFETY: what is read and written are the arrays of strips, of sixteen entries or 512 quants,
    // aligned to 64 bytes, and the sums and outputs of rows and tokens of the tile.
    unsafe {
        let x = block.x.as_ptr().add(token * stride + first);
        let sums = block.sums.as_mut_ptr().add(token * PANEL_ROWS + row);
        let mut partials = [[_mm512_setzero_ps(); TILE_ROWS]; TOKENS];
        if first > 0 {
            for (token, partials) in partials.iter_mut().enumerate() {
                for (at, partial) in partials.iter_mut().enumerate() {
                    *partial = _mm512_load_ps(sums.add(token * PANEL_ROWS + at).cast());
                }
            }
        }
        for strip in 0..panel.strips {
            let rows: [&PanelStrip; TILE_ROWS] =
                std::array::from_fn(|at| panel.rows[row + at].get_unchecked(strip));
            let tokens: [&Eighths; TOKENS] =
                std::array::from_fn(|token| &*x.add(token * stride + strip));
            add_tile::<B, TOKENS>(rows, tokens, &mut partials);
        }
        if first + panel.strips < stride {
            for (token, partials) in partials.iter().enumerate() {
                for (at, partial) in partials.iter().enumerate() {
                    _mm512_store_ps(sums.add(token * PANEL_ROWS + at).cast(), *partial);
                }
            }
        } else {
            for (at, partials) in partials.iter().enumerate() {
                let out = block.out.add((token + at) * block.out_stride + row);
                _mm_storeu_ps(out, trees(partials));
            }
        }
    }
    TOKENS
}

/// Adds one strip of each row times one of each token to the partial sums.
///
/// # Safety
/// The processor has the instructions.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx512vnni,avx2,fma,f16c")]
#[inline]
unsafe fn add_tile<B: Blocks, const TOKENS: usize>(
    rows: [&PanelStrip; TILE_ROWS],
    tokens: [&Eighths; TOKENS],
    partials: &mut [[__m512; TILE_ROWS]; TOKENS],
) {
    let halves = if B::HALVES { 2 } else { 1 };
    for half in 0..halves {
        // SAFETY: all arrays have 16 words, or 512 quants, and are aligned to 64 bytes.
        unsafe {
            let mut whole: [[__m512i; TILE_ROWS]; TOKENS] = std::array::from_fn(|token| {
                [_mm512_load_si512(tokens[token].starts[half].as_ptr().cast()); TILE_ROWS]
            });
            for step in half * STEPS / halves..(half + 1) * STEPS / halves {
                let weights: [__m512i; TILE_ROWS] = std::array::from_fn(|at| {
                    _mm512_load_si512(rows[at].quants.as_ptr().add(step * 64).cast())
                });
                for (whole, token) in whole.iter_mut().zip(tokens) {
                    let x = _mm512_load_si512(token.quants.as_ptr().add(step * 64).cast());
                    for (whole, weights) in whole.iter_mut().zip(weights) {
                        *whole = _mm512_dpbusd_epi32(*whole, weights, x);
                    }
                }
            }
            for at in 0..TILE_ROWS {
                let scale = _mm512_load_ps(rows[at].scales[half].as_ptr());
                let min = match B::MINIMA {
                    true => _mm512_load_ps(rows[at].mins[half].as_ptr()),
                    false => scale,
                };
                for token in 0..TOKENS {
                    let partial = &mut partials[token][at];
                    *partial =
                        add::<B>(*partial, whole[token][at], scale, min, tokens[token], half);
                }
            }
        }
    }
}

/// The fixed tree at the end of four sums at once.
#[target_feature(enable = "avx512f,avx512vl")]
#[inline]
fn trees(sums: &[__m512; TILE_ROWS]) -> __m128 {
    // Eight apart: of two sums, one in each half of a register.
    let eight = |a: __m512, b: __m512| {
        let low = _mm512_shuffle_f32x4::<0x44>(a, b);
        _mm512_add_ps(low, _mm512_shuffle_f32x4::<0xEE>(a, b))
    };
    let (a, b) = (eight(sums[0], sums[1]), eight(sums[2], sums[3]));
    // Four apart: of four sums, one in each quarter.
    let low = _mm512_shuffle_f32x4::<0x88>(a, b);
    let four = _mm512_add_ps(low, _mm512_shuffle_f32x4::<0xDD>(a, b));
    // Two apart, then neighbours, within each quarter.
    let two = _mm512_add_ps(four, _mm512_shuffle_ps::<0x4E>(four, four));
    let one = _mm512_add_ps(two, _mm512_shuffle_ps::<0xB1>(two, two));
    // The first of each quarter.
    let order = _mm512_setr_epi32(0, 4, 8, 12, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0);
    _mm512_castps512_ps128(_mm512_permutexvar_ps(order, one))
}

/// Float rows: how stored values become floats.
pub(super) trait Floats {
    /// Bytes of a value.
    const BYTES: usize;

    /// Sixteen values.
    ///
    /// # Safety
    /// So many can be read; the processor has the instructions.
    unsafe fn load(stored: *const u8) -> __m512;
}

pub(super) struct Single;
pub(super) struct Half;
pub(super) struct Brain;

impl Floats for Single {
    const BYTES: usize = 4;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: the caller promises sixteen values and the instructions.
        unsafe { _mm512_loadu_ps(stored.cast()) }
    }
}

impl Floats for Half {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: as above.
        unsafe { _mm512_cvtph_ps(_mm256_loadu_si256(stored.cast())) }
    }
}

impl Floats for Brain {
    const BYTES: usize = 2;

    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
    unsafe fn load(stored: *const u8) -> __m512 {
        // SAFETY: as above.
        unsafe {
            let wide = _mm512_cvtepu16_epi32(_mm256_loadu_si256(stored.cast()));
            _mm512_castsi512_ps(_mm512_slli_epi32::<16>(wide))
        }
    }
}

/// Some rows of floats times a token, as far as they are whole registers: the partial sums.
///
/// # Safety
/// All rows have `x.len()` values.
#[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl,avx2,fma,f16c")]
pub(super) unsafe fn float_rows<F: Floats, const ROWS: usize>(
    rows: [&[u8]; ROWS],
    x: &[f32],
) -> [[f32; 16]; ROWS] {
    let mut partials = [_mm512_setzero_ps(); ROWS];
    for at in (0..x.len() / 16 * 16).step_by(16) {
        // SAFETY: there are sixteen more values in each row and in `x`.
        unsafe {
            let x = _mm512_loadu_ps(x.as_ptr().add(at));
            for (partial, row) in partials.iter_mut().zip(rows) {
                let weights = F::load(row.as_ptr().add(at * F::BYTES));
                *partial = _mm512_fmadd_ps(weights, x, *partial);
            }
        }
    }
    let mut out = [[0f32; 16]; ROWS];
    for (out, partial) in out.iter_mut().zip(partials) {
        // SAFETY: sixteen entries.
        unsafe { _mm512_storeu_ps(out.as_mut_ptr(), partial) };
    }
    out
}

const _: () = assert!(GROUP == 32 && STRIP_GROUPS == 16 && PANEL_ROWS == 16);
