//! The machine's limits, measured: how fast it reads memory and how much it multiplies.

use std::hint::black_box;
use std::time::Instant;

use crate::Instructions;
use crate::team::Team;

/// Bytes that are read for [`memory_speed`]: far more than caches hold.
const MEASURED: usize = 256 << 20;
/// So often; the best counts, for others use the machine too.
const MEASUREMENTS: usize = 3;
/// Sums that are added up side by side, so that adding is not what is measured.
const SUMS: usize = 32;
/// Bytes that a thread reads at a time.
const STRETCH: usize = 1 << 20;
/// Rounds of the innermost loop of a peak.
const ROUNDS: usize = 2_000_000;
/// Registers that are multiplied into, so that no instruction waits for the one before.
const REGISTERS: usize = 16;
/// The same where there are sixteen registers in all: more would be kept in memory.
#[cfg(target_arch = "x86_64")]
const FEWER_REGISTERS: usize = 12;

/// Bytes a second that all processors together read memory at, measured now: some tenths of a second,
/// and 256 MiB of memory for that time.
#[must_use]
pub fn memory_speed() -> f64 {
    let buffer = vec![1_u8; MEASURED];
    let read =
        |team: &Team| (0..MEASUREMENTS).map(|_| memory_read(team, &buffer)).fold(0.0, f64::max);
    with_all(read)
}

/// Measures with a team of which every thread has a processor of its own, and has begun. Else the system leaves
/// two of them on one at times, and what is found is half of what there is.
///
/// # Panics
/// When the measurement does.
pub fn with_all<T: Send>(measure: impl FnOnce(&Team) -> T + Send) -> T {
    let measured = || {
        let team = Team::new(None);
        team.settle();
        team.each(team.threads(), 1, |_, _| {});
        measure(&team)
    };
    // The calling thread is not bound any more.
    let result = std::thread::scope(|scope| scope.spawn(measured).join());
    result.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Bytes a second at which a team reads a buffer from its beginning to its end, each thread a part of its
/// own.
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "a rate")]
pub fn memory_read(team: &Team, buffer: &[u8]) -> f64 {
    // SAFETY: every pattern of bits is a number.
    let (_, words, _) = unsafe { buffer.align_to::<u64>() };
    let path = Instructions::best();
    let began = Instant::now();
    team.each(words.len(), STRETCH / 8, |_, stretch| {
        black_box(sum(path, &words[stretch]));
    });
    buffer.len() as f64 / began.elapsed().as_secs_f64()
}

/// Reads a stretch, in registers as wide as the path has.
fn sum(path: Instructions, words: &[u64]) -> u64 {
    match path {
        // SAFETY: the path was found on this processor.
        #[cfg(target_arch = "x86_64")]
        Instructions::Avx512 => unsafe { x86::sum_512(words) },
        _ => plain_sum(words),
    }
}

fn plain_sum(words: &[u64]) -> u64 {
    let mut sums = [0_u64; SUMS];
    for words in words.as_chunks::<SUMS>().0 {
        for (sum, word) in sums.iter_mut().zip(words) {
            *sum = sum.wrapping_add(*word);
        }
    }
    sums.iter().fold(0_u64, |all, sum| all.wrapping_add(*sum))
}

/// What multiplies integers fastest on a path, by the instruction's name.
#[must_use]
pub fn integer_instruction(path: Instructions) -> &'static str {
    match path.vectors() {
        Instructions::Avx512 => "vpdpbusd, 512 bits",
        Instructions::AvxVnni => "vpdpbusd, 256 bits",
        Instructions::Avx2 => "vpmaddubsw and vpmaddwd, 256 bits",
        _ => "imul",
    }
}

/// Multiplications and additions of bytes a second that a team does at most on a path, both counted.
#[must_use]
pub fn integer_peak(path: Instructions, team: &Team) -> f64 {
    let (each, products) = match path.vectors() {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor.
        Instructions::Avx512 => ((|| unsafe { x86::vnni() }) as fn() -> i32, 64 * REGISTERS),
        #[cfg(target_arch = "x86_64")]
        Instructions::AvxVnni => {
            // SAFETY: as above.
            let each: fn() -> i32 = || unsafe { x86::narrow_vnni() };
            (each, 32 * FEWER_REGISTERS)
        }
        #[cfg(target_arch = "x86_64")]
        // SAFETY: as above.
        Instructions::Avx2 => ((|| unsafe { x86::maddubs() }) as fn() -> i32, 32 * FEWER_REGISTERS),
        _ => (scalar_integers as fn() -> i32, REGISTERS),
    };
    peak(team, products, || {
        black_box(each());
    })
}

/// Multiplications and additions of floats a second that a team does at most on a path, both counted.
#[must_use]
pub fn float_peak(path: Instructions, team: &Team) -> f64 {
    let (each, products) = match path.vectors() {
        #[cfg(target_arch = "x86_64")]
        // SAFETY: the path was found on this processor.
        Instructions::Avx512 => ((|| unsafe { x86::fused_512() }) as fn() -> f32, 16 * REGISTERS),
        #[cfg(target_arch = "x86_64")]
        Instructions::AvxVnni | Instructions::Avx2 => {
            // SAFETY: as above.
            ((|| unsafe { x86::fused_256() }) as fn() -> f32, 8 * FEWER_REGISTERS)
        }
        _ => (scalar_floats as fn() -> f32, REGISTERS),
    };
    peak(team, products, || {
        black_box(each());
    })
}

/// What is done a second, where a round of the innermost loop does so many products.
#[expect(clippy::cast_precision_loss, reason = "a rate")]
fn peak(team: &Team, products: usize, each: impl Fn() + Sync) -> f64 {
    let began = Instant::now();
    // Each thread takes more than one, so that one that was held up does less.
    let count = team.threads() * 8;
    team.each(count, 1, |_, range| range.for_each(|_| each()));
    let done = 2 * products * (ROUNDS / 8) * count;
    done as f64 / began.elapsed().as_secs_f64()
}

fn scalar_integers() -> i32 {
    let mut sums = [0_i32; REGISTERS];
    for round in 0..ROUNDS / 8 {
        let factor = i32::from(black_box(round as u8));
        sums.iter_mut().for_each(|sum| *sum = sum.wrapping_add(factor.wrapping_mul(3)));
    }
    sums.iter().fold(0, |all, sum| all.wrapping_add(*sum))
}

fn scalar_floats() -> f32 {
    let mut sums = [0_f32; REGISTERS];
    for _ in 0..ROUNDS / 8 {
        let factor = black_box(0.5_f32);
        sums.iter_mut().for_each(|sum| *sum += factor * 3.0);
    }
    sums.iter().sum()
}

#[cfg(target_arch = "x86_64")]
mod x86 {
    use std::arch::x86_64::*;
    use std::hint::black_box;

    use super::{FEWER_REGISTERS, REGISTERS, ROUNDS};

    /// Multiplies into all registers, again and again; what is multiplied is not known beforehand.
    macro_rules! rounds {
        ($count:expr, $zero:expr, $x:expr, $y:expr, $multiply:expr, $sum:expr) => {{
            let mut registers = [$zero; $count];
            let (x, y) = (black_box($x), black_box($y));
            for _ in 0..ROUNDS / 8 {
                for register in &mut registers {
                    *register = $multiply(*register, x, y);
                }
            }
            $sum(registers)
        }};
    }

    #[target_feature(enable = "avx512f,avx512bw")]
    #[cfg_attr(not(test), target_feature(enable = "avx512vnni"))]
    pub(super) fn vnni() -> i32 {
        rounds!(
            REGISTERS,
            _mm512_setzero_si512(),
            _mm512_set1_epi8(3),
            _mm512_set1_epi8(5),
            |sum, x, y| crate::dots::wide_fours(sum, x, y),
            |all: [__m512i; REGISTERS]| {
                let sum =
                    all.into_iter().fold(_mm512_setzero_si512(), |a, b| _mm512_add_epi32(a, b));
                _mm512_reduce_add_epi32(sum)
            }
        )
    }

    /// With the instruction of AVX-VNNI.
    #[target_feature(enable = "avx2")]
    pub(super) fn narrow_vnni() -> i32 {
        rounds!(
            FEWER_REGISTERS,
            _mm256_setzero_si256(),
            _mm256_set1_epi8(3),
            _mm256_set1_epi8(5),
            // SAFETY: the path was found on this processor.
            |sum, x, y| unsafe { crate::dots::fours(sum, x, y) },
            |all: [__m256i; FEWER_REGISTERS]| {
                let sum =
                    all.into_iter().fold(_mm256_setzero_si256(), |a, b| _mm256_add_epi32(a, b));
                _mm256_extract_epi32::<0>(sum)
            }
        )
    }

    #[target_feature(enable = "avx512f")]
    pub(super) fn sum_512(words: &[u64]) -> u64 {
        let mut sums = [_mm512_setzero_si512(); 4];
        let (whole, rest) = words.as_chunks::<32>();
        for words in whole {
            for (at, sum) in sums.iter_mut().enumerate() {
                // SAFETY: 32 words are four registers.
                let words = unsafe { _mm512_loadu_si512(words.as_ptr().add(at * 8).cast()) };
                *sum = _mm512_add_epi64(*sum, words);
            }
        }
        let all = sums.into_iter().fold(_mm512_setzero_si512(), |a, b| _mm512_add_epi64(a, b));
        rest.iter().fold(_mm512_reduce_add_epi64(all).cast_unsigned(), |a, b| a.wrapping_add(*b))
    }

    #[target_feature(enable = "avx2")]
    pub(super) fn maddubs() -> i32 {
        rounds!(
            FEWER_REGISTERS,
            _mm256_setzero_si256(),
            _mm256_set1_epi8(3),
            _mm256_set1_epi8(5),
            |sum, x, y| {
                // What was summed is multiplied, so that no product is known beforehand.
                let fours = _mm256_madd_epi16(_mm256_maddubs_epi16(x, sum), y);
                _mm256_add_epi32(sum, fours)
            },
            |all: [__m256i; FEWER_REGISTERS]| {
                let sum =
                    all.into_iter().fold(_mm256_setzero_si256(), |a, b| _mm256_add_epi32(a, b));
                _mm256_extract_epi32::<0>(sum)
            }
        )
    }

    #[target_feature(enable = "avx512f")]
    pub(super) fn fused_512() -> f32 {
        rounds!(
            REGISTERS,
            _mm512_setzero_ps(),
            _mm512_set1_ps(3.0),
            _mm512_set1_ps(0.5),
            |sum, x, y| _mm512_fmadd_ps(x, y, sum),
            |all: [__m512; REGISTERS]| {
                let sum = all.into_iter().fold(_mm512_setzero_ps(), |a, b| _mm512_add_ps(a, b));
                _mm512_reduce_add_ps(sum)
            }
        )
    }

    #[target_feature(enable = "avx2,fma")]
    pub(super) fn fused_256() -> f32 {
        rounds!(
            FEWER_REGISTERS,
            _mm256_setzero_ps(),
            _mm256_set1_ps(3.0),
            _mm256_set1_ps(0.5),
            |sum, x, y| _mm256_fmadd_ps(x, y, sum),
            |all: [__m256; FEWER_REGISTERS]| {
                let sum = all.into_iter().fold(_mm256_setzero_ps(), |a, b| _mm256_add_ps(a, b));
                _mm256_cvtss_f32(sum)
            }
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everything_is_read() {
        for path in Instructions::available() {
            assert_eq!(sum(path, &[3; 4096]), 3 * 4096);
        }
        assert!(memory_speed() > 1e8, "a tenth of a gigabyte a second is what a disk reads");
    }

    #[test]
    fn peaks_are_peaks() {
        let team = Team::new(None);
        for path in Instructions::available() {
            let (integers, floats) = (integer_peak(path, &team), float_peak(path, &team));
            assert!(integers > 1e7 && floats > 1e7, "{path}: {integers} {floats}");
        }
    }
}
