//! How fast this machine reads memory: the limit of answering.

use std::hint::black_box;
use std::time::Instant;

/// Bytes that are read: far more than caches hold.
const MEASURED: usize = 256 << 20;
/// So often; the best counts, for others use the machine too.
const MEASUREMENTS: usize = 3;
/// Sums that are added up side by side, so that adding is not what is measured.
const SUMS: usize = 8;

/// Bytes a second that all processors together read memory at, measured now: some tenths of a second,
/// and 256 MiB of memory for that time.
#[must_use]
pub fn memory_speed() -> f64 {
    let buffer = vec![1_u64; MEASURED / size_of::<u64>()];
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let part = buffer.len().div_ceil(threads);
    let measure = || {
        let began = Instant::now();
        std::thread::scope(|scope| {
            for part in buffer.chunks(part) {
                scope.spawn(move || black_box(sum(part)));
            }
        });
        #[expect(clippy::cast_precision_loss, reason = "a rate")]
        let bytes = MEASURED as f64;
        bytes / began.elapsed().as_secs_f64()
    };
    (0..MEASUREMENTS).map(|_| measure()).fold(0.0, f64::max)
}

fn sum(part: &[u64]) -> u64 {
    let mut sums = [0_u64; SUMS];
    for values in part.chunks_exact(SUMS) {
        for (sum, value) in sums.iter_mut().zip(values) {
            *sum = sum.wrapping_add(*value);
        }
    }
    sums.iter().fold(0_u64, |all, sum| all.wrapping_add(*sum))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everything_is_read() {
        assert_eq!(sum(&[3; 4096]), 3 * 4096);
        assert!(memory_speed() > 1e8, "a tenth of a gigabyte a second is what a disk reads");
    }
}
