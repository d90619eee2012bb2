//! The instructions of AMX.
//!
//! Written as they are, for the compiler does not know them yet. Nothing else in a program uses tile registers, and
//! [`Amx`] gives them back, so that the system need not keep them when it goes on with another thread.

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

/// Bits of leaf 7 that tell of tiles and of their products of BF16. Source: Intel, "Instruction Set Extensions
/// Programming Reference", CPUID.
const TILES: u32 = 1 << 24 | 1 << 22;
/// Asks Linux for a part of a processor's state that is given on demand only.
const ASK_FOR_STATE: libc::c_int = 0x1023;
/// Tile registers among those.
const TILE_STATE: libc::c_ulong = 18;
/// Bytes of a line.
const CACHE_LINE: usize = 64;

/// Whether the processor has tiles, and the system lets this process use them. Asked once; the answer holds for
/// all threads and for processes that this one becomes by `fork`, and not for programs that it starts.
pub(crate) fn present() -> bool {
    let around = is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("avx512dq")
        && is_x86_feature_detected!("avx512vl")
        && Instructions::Avx2.runs_here();
    // Without the instructions tests of this crate use their twins: everything around them is tried.
    around && (cfg!(test) || instructions())
}

/// The instructions themselves, those of tiles and the one that rounds.
pub(crate) fn instructions() -> bool {
    static FOUND: LazyLock<bool> = LazyLock::new(|| {
        let told = __cpuid(0).eax >= 7 && __cpuid_count(7, 0).edx & TILES == TILES;
        told && is_x86_feature_detected!("avx512bf16") && is_granted()
    });
    *FOUND
}

fn is_granted() -> bool {
    // SAFETY: the call takes two numbers and touches no memory of ours. Where there is no such call it fails.
    unsafe { libc::syscall(libc::SYS_arch_prctl, ASK_FOR_STATE, TILE_STATE) == 0 }
}

/// How many rows, and bytes of a row, each tile register has.
#[repr(C, align(64))]
struct Sizes {
    palette: u8,
    start: u8,
    reserved: [u8; 14],
    bytes: [u16; 16],
    rows: [u8; 16],
}

impl Sizes {
    /// Registers 0 to 3 hold sums, 4 and 5 rows, 6 and 7 so many columns.
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

/// Tile registers, with room for a number of columns.
pub(crate) struct Amx {
    columns: usize,
}

impl Amx {
    /// Makes room for so many columns.
    fn hold(&mut self, columns: usize) {
        if self.columns == columns {
            return;
        }
        self.columns = columns;
        #[cfg(test)]
        if !instructions() {
            return;
        }
        let sizes = Sizes::of(columns);
        // SAFETY: the path is only chosen where the instructions were found; sizes are of the known palette.
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
            // SAFETY: the instructions are there, for sizes were loaded.
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
        self.hold(group.columns);
        check(panel, group.lines, group.columns);
        if panel.upper.is_empty() {
            return;
        }
        #[cfg(test)]
        if !instructions() {
            return Simulated.one(panel, group);
        }
        // SAFETY: there are as many tiles on the left as on the right, at least one, and registers have their sizes.
        unsafe { add_one(panel, group.lines, group.columns, group.sums) };
    }

    fn two(&mut self, panel: Panel<'_>, groups: [Group<'_>; 2]) {
        self.hold(SIDE);
        for group in &groups {
            assert_eq!(group.columns, SIDE, "two groups are whole");
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
        // SAFETY: as above; rows of sums are lines of sixteen.
        unsafe { add_two(panel, [first.lines, second.lines], sums, SIDE) };
    }

    fn square(&mut self, panel: Panel<'_>, lines: [&[Sixteen]; 2], sums: &mut [f32], apart: usize) {
        self.hold(SIDE);
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
        // SAFETY: as above; rows of sums were checked to be there.
        unsafe { add_two(panel, lines, sums, apart) };
    }

    fn write(sums: &Sums, out: &Results<'_>, token: usize, rows: Range<usize>, tokens: usize) {
        // SAFETY: the path was found on this processor; places are those of the results.
        unsafe { avx512::write_sums(sums, out, token, rows, tokens) };
    }
}

/// Two tiles above one another times one of so many columns, tile by tile.
///
/// # Safety
/// The processor has the instructions, registers have the sizes for so many columns, and there are as many tiles of
/// upper rows as of lower ones and of columns, at least one.
unsafe fn add_one(panel: Panel<'_>, lines: &[Sixteen], columns: usize, sums: &mut [Sums; HIGH]) {
    // SAFETY: tiles are read one after the other, as many as there are; sums are two tiles of lines.
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

/// Two tiles above one another times two of sixteen columns, tile by tile. Sums are those of the upper rows, first
/// columns and second, then of the lower rows; their rows are so many numbers apart.
///
/// # Safety
/// As of [`add_one`], for sixteen columns; at each place of sums there are sixteen rows of sixteen numbers.
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
