//! Products of tiles with AMX.
//!
//! The instructions are written as assembly, because stable Rust does not have them yet. Only this module uses tile
//! registers. [`Amx`] releases them when it is dropped, so that the system need not save them at a context switch.

use std::arch::asm;
use std::arch::x86_64::{__cpuid, __cpuid_count};
use std::ops::Range;
use std::sync::LazyLock;

#[cfg(test)]
use super::Simulated;
use super::{Group, HIGH, Panel, SIDE, Sums, Tile, Tiles, avx512, check, check_square};
use crate::Instructions;
use crate::sixteen::Sixteen;
use crate::team::Results;

/// Bits of leaf 7 that announce tiles and their BF16 products. Source: Intel, "Instruction Set Extensions
/// Programming Reference", CPUID.
const TILES: u32 = 1 << 24 | 1 << 22;
/// `ARCH_REQ_XCOMP_PERM`: requests permission to use a part of the processor's state.
const ASK_FOR_STATE: libc::c_int = 0x1023;
/// `XFEATURE_XTILEDATA`: the tile registers.
const TILE_STATE: libc::c_ulong = 18;
/// Bytes of a cache line, and of a row of a tile.
const CACHE_LINE: usize = 64;

/// Whether the processor has tiles and the system permits this process to use them. The permission is requested once. It
/// holds for all threads and forked processes, but not for programs that this process starts.
pub(crate) fn present() -> bool {
    let around = is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("avx512dq")
        && is_x86_feature_detected!("avx512vl")
        && Instructions::Avx2.runs_here();
    // On processors without the instructions, this crate's tests use their twins, so that all other code is tested.
    around && (cfg!(test) || instructions())
}

/// Whether the instructions are present: those of tiles, and the one that rounds to BF16.
pub(crate) fn instructions() -> bool {
    static FOUND: LazyLock<bool> = LazyLock::new(|| {
        let has_tiles = __cpuid(0).eax >= 7 && __cpuid_count(7, 0).edx & TILES == TILES;
        has_tiles && is_x86_feature_detected!("avx512bf16") && is_granted()
    });
    *FOUND
}

fn is_granted() -> bool {
    // SAFETY: the call takes two numbers and accesses no memory of this process. Systems without it return an error.
    unsafe { libc::syscall(libc::SYS_arch_prctl, ASK_FOR_STATE, TILE_STATE) == 0 }
}

/// Configuration of the tile registers: numbers of rows, and of bytes of a row.
#[repr(C, align(64))]
struct Sizes {
    palette: u8,
    start: u8,
    reserved: [u8; 14],
    bytes: [u16; 16],
    rows: [u8; 16],
}

impl Sizes {
    /// Registers 0 to 3 hold sums, 4 and 5 rows, 6 and 7 `columns` columns.
    fn of(columns: usize) -> Self {
        let mut sizes =
            Self { palette: 1, start: 0, reserved: [0; 14], bytes: [0; 16], rows: [0; 16] };
        #[expect(clippy::cast_possible_truncation, reason = "at most sixteen columns, 64 bytes")]
        for register in 0..8 {
            let of_rows = matches!(register, 4 | 5);
            sizes.bytes[register] = if of_rows { CACHE_LINE } else { 4 * columns } as u16;
            sizes.rows[register] = SIDE as u8;
        }
        sizes
    }
}

/// The calling thread's tile registers, configured for a number of columns.
pub(crate) struct Amx {
    columns: usize,
}

impl Amx {
    /// Configures the registers for a number of columns.
    fn configure(&mut self, columns: usize) {
        if self.columns == columns {
            return;
        }
        self.columns = columns;
        #[cfg(test)]
        if !instructions() {
            return;
        }
        let sizes = Sizes::of(columns);
        // SAFETY: the path is only chosen if the instructions were detected; palette 1 has these sizes.
        unsafe { asm!("ldtilecfg [{sizes}]", sizes = in(reg) &raw const sizes, options(nostack)) };
    }
}

impl Drop for Amx {
    fn drop(&mut self) {
        #[cfg(test)]
        if !instructions() {
            return;
        }
        if self.columns > 0 {
            // SAFETY: the instructions are present, because registers were configured.
            unsafe { asm!("tilerelease", options(nostack, nomem)) };
        }
    }
}

impl Tiles for Amx {
    const PATH: Instructions = Instructions::Amx;

    fn begin() -> Self {
        Self { columns: 0 }
    }

    fn one(&mut self, panel: Panel<'_>, group: Group<'_>) {
        self.configure(group.columns);
        check(panel, group.lines, group.columns);
        if panel.upper.is_empty() {
            return;
        }
        #[cfg(test)]
        if !instructions() {
            return Simulated.one(panel, group);
        }
        // SAFETY: `check` compared the lengths, there is at least one tile, and the registers are configured.
        unsafe { add_one(panel, group.lines, group.columns, group.sums) };
    }

    fn two(&mut self, panel: Panel<'_>, groups: [Group<'_>; 2]) {
        self.configure(SIDE);
        for group in &groups {
            assert_eq!(group.columns, SIDE, "a pair of groups needs sixteen columns each");
            check(panel, group.lines, SIDE);
        }
        if panel.upper.is_empty() {
            return;
        }
        #[cfg(test)]
        if !instructions() {
            return Simulated.two(panel, groups);
        }
        let [first, second] = groups;
        let [[upper, lower], [upper_beside, lower_beside]] = [first.sums, second.sums]
            .map(|[upper, lower]| [upper, lower].map(|sums| sums.as_mut_ptr().cast()));
        let sums = [upper, upper_beside, lower, lower_beside];
        // SAFETY: as above; rows of sums have sixteen numbers.
        unsafe { add_two(panel, [first.lines, second.lines], sums, SIDE) };
    }

    fn square(&mut self, panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: &mut [f32], apart: usize) {
        self.configure(SIDE);
        lines.iter().for_each(|lines| check(panel, lines, SIDE));
        check_square(sums, apart);
        if panel.upper.is_empty() {
            return;
        }
        #[cfg(test)]
        if !instructions() {
            return Simulated.square(panel, lines, sums, apart);
        }
        let sums = sums.as_mut_ptr();
        let below = sums.wrapping_add(SIDE * apart);
        let sums = [sums, sums.wrapping_add(SIDE), below, below.wrapping_add(SIDE)];
        // SAFETY: as above; `check_square` checked the rows of sums.
        unsafe { add_two(panel, lines, sums, apart) };
    }

    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize) {
        // SAFETY: the path was detected on this processor.
        unsafe { avx512::write_sums(sums, out, token, rows, tokens) };
    }
}

/// Multiplies two rows of tiles, one above the other, by tiles of `columns` columns.
///
/// # Safety
/// The processor has the instructions, the registers are configured for `columns`, and there are as many tiles of upper
/// rows as of lower rows and of columns, at least one.
unsafe fn add_one(panel: Panel<'_>, lines: &[Sixteen], columns: usize, sums: &mut [Sums; HIGH]) {
    // SAFETY: as many tiles are read as the panel has; `sums` is two tiles.
    unsafe {
        asm!(
            "tileloadd tmm0, [{sums} + {line}*1]",
            "tileloadd tmm2, [{sums} + {line}*1 + 1024]",
            "2:",
            "tileloadd tmm4, [{upper} + {line}*1]",
            "tileloadd tmm6, [{right} + {width}*1]",
            "tdpbf16ps tmm0, tmm4, tmm6",
            "tileloadd tmm5, [{lower} + {line}*1]",
            "tdpbf16ps tmm2, tmm5, tmm6",
            "add {upper}, 1024",
            "add {lower}, 1024",
            "add {right}, {step}",
            "dec {left}",
            "jnz 2b",
            "tilestored [{sums} + {line}*1], tmm0",
            "tilestored [{sums} + {line}*1 + 1024], tmm2",
            sums = in(reg) sums.as_mut_ptr(),
            line = in(reg) CACHE_LINE,
            width = in(reg) 4 * columns,
            step = in(reg) CACHE_LINE * columns,
            upper = inout(reg) panel.upper.as_ptr() => _,
            lower = inout(reg) panel.lower.as_ptr() => _,
            right = inout(reg) lines.as_ptr() => _,
            left = inout(reg) panel.upper.len() => _,
            out("tmm0") _, out("tmm2") _, out("tmm4") _, out("tmm5") _, out("tmm6") _,
            options(nostack)
        );
    }
}

/// Multiplies two rows of tiles, one above the other, by two groups of sixteen columns. `sums` are those of the upper rows
/// (first and second group), then of the lower rows; their rows begin `apart` numbers after one another.
///
/// # Safety
/// As for [`add_one`], with sixteen columns; each of `sums` has sixteen rows of sixteen numbers.
unsafe fn add_two(panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: [*mut f32; 4], apart: usize) {
    // SAFETY: as above.
    unsafe {
        asm!(
            "tileloadd tmm0, [{first} + {apart}*1]",
            "tileloadd tmm1, [{second} + {apart}*1]",
            "tileloadd tmm2, [{third} + {apart}*1]",
            "tileloadd tmm3, [{fourth} + {apart}*1]",
            "2:",
            "tileloadd tmm4, [{upper} + {line}*1]",
            "tileloadd tmm6, [{right} + {line}*1]",
            "tdpbf16ps tmm0, tmm4, tmm6",
            "tileloadd tmm7, [{beside} + {line}*1]",
            "tdpbf16ps tmm1, tmm4, tmm7",
            "tileloadd tmm5, [{lower} + {line}*1]",
            "tdpbf16ps tmm2, tmm5, tmm6",
            "tdpbf16ps tmm3, tmm5, tmm7",
            "add {upper}, 1024",
            "add {lower}, 1024",
            "add {right}, 1024",
            "add {beside}, 1024",
            "dec {left}",
            "jnz 2b",
            "tilestored [{first} + {apart}*1], tmm0",
            "tilestored [{second} + {apart}*1], tmm1",
            "tilestored [{third} + {apart}*1], tmm2",
            "tilestored [{fourth} + {apart}*1], tmm3",
            first = in(reg) sums[0],
            second = in(reg) sums[1],
            third = in(reg) sums[2],
            fourth = in(reg) sums[3],
            apart = in(reg) 4 * apart,
            line = in(reg) CACHE_LINE,
            upper = inout(reg) panel.upper.as_ptr() => _,
            lower = inout(reg) panel.lower.as_ptr() => _,
            right = inout(reg) lines[0].as_ptr() => _,
            beside = inout(reg) lines[1].as_ptr() => _,
            left = inout(reg) panel.upper.len() => _,
            out("tmm0") _, out("tmm1") _, out("tmm2") _, out("tmm3") _,
            out("tmm4") _, out("tmm5") _, out("tmm6") _, out("tmm7") _,
            options(nostack)
        );
    }
}

const _: () = assert!(size_of::<Tile>() == 1024 && size_of::<Sums>() == 1024);
const _: () = assert!(size_of::<Sizes>() == 64);
