//! Stored weights, possibly with a copy in the memory of each node.

use std::ops::Deref;

use crate::processors;

/// Memory of the host.
pub type HostMemory = Box<dyn Deref<Target = [u8]> + Send + Sync>;

/// Stored weights: shared by all threads, or copied so that each thread reads the copy of its own memory node.
#[derive(Clone, Copy)]
pub struct Stored<'a> {
    bytes: &'a [u8],
    /// Memory of each node, with these bytes from offset `from` on; none if all threads read the same.
    copies: &'a [HostMemory],
    from: usize,
}

impl<'a> From<&'a [u8]> for Stored<'a> {
    fn from(bytes: &'a [u8]) -> Self {
        Self { bytes, copies: &[], from: 0 }
    }
}

impl<'a> Stored<'a> {
    /// Bytes from one on, as many as `length`, of which each node has a copy.
    ///
    /// # Panics
    /// There is no copy, or one is too short.
    #[must_use]
    pub fn copied(copies: &'a [HostMemory], from: usize, length: usize) -> Self {
        assert!(
            copies.iter().all(|copy| from.checked_add(length).is_some_and(|end| end <= copy.len())),
            "copies are too short"
        );
        Self { bytes: &copies[0][from..from + length], copies, from }
    }

    /// Number of bytes.
    #[must_use]
    #[expect(clippy::len_without_is_empty, reason = "nobody asks")]
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// The bytes in the calling thread's node.
    #[must_use]
    pub fn near(&self) -> &'a [u8] {
        match self.copies {
            [] | [_] => self.bytes,
            copies => match copies.get(processors::own_node()) {
                Some(copy) => &copy[self.from..self.from + self.bytes.len()],
                None => self.bytes,
            },
        }
    }
}

impl std::fmt::Debug for Stored<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { bytes, copies, .. } = self;
        write!(f, "{} bytes, {} copies", bytes.len(), copies.len())
    }
}

#[cfg(test)]
mod tests {
    use std::num::NonZero;

    use deft_formats::quant::TensorType;

    use super::*;
    use crate::matrix::{Activations, Matrix, multiply};
    use crate::{Instructions, Team};

    /// Different copies, so that the test sees which one was read.
    #[test]
    fn each_thread_reads_the_copy_of_its_node() {
        let (rows, columns) = (40, 64);
        let of = |value: f32| -> HostMemory {
            let row = half::f16::from_f32(value).to_le_bytes();
            let before = [0_u8; 6].into_iter();
            Box::new(
                before.chain(row.into_iter().cycle().take(rows * columns * 2)).collect::<Vec<u8>>(),
            )
        };
        let copies = [of(1.0), of(2.0), of(3.0)];
        let matrix = Matrix {
            tensor_type: TensorType::F16,
            rows,
            columns,
            bytes: Stored::copied(&copies, 6, rows * columns * 2),
        };
        // A node that has no copy reads the first one.
        for (node, value) in [(0, 1.0), (1, 2.0), (2, 3.0), (9, 1.0)] {
            processors::say_node(node);
            for path in Instructions::available() {
                let team = Team::new(NonZero::new(1));
                let mut x = Activations::default();
                x.prepare(path, &team, matrix.tensor_type, &[1.0; 64], columns);
                let mut out = vec![0.0; rows];
                multiply(path, &team, matrix, &x, &mut out);
                assert!(out.iter().all(|found| *found == value * 64.0), "{path} on node {node}");
            }
            // A new thread has not set its node.
            std::thread::scope(|scope| {
                let first = scope.spawn(|| matrix.bytes.near()[..2].to_vec());
                assert_eq!(first.join().unwrap(), half::f16::ONE.to_le_bytes());
            });
        }
        processors::say_node(0);
    }

    #[test]
    #[should_panic(expected = "copies are too short")]
    fn a_copy_that_is_too_short_is_noticed() {
        let copies: [HostMemory; 2] = [Box::new(vec![0; 9]), Box::new(vec![0; 8])];
        let _ = Stored::copied(&copies, 4, 5);
    }
}
