//! Where the layers of a model are: host memory, or simulated accelerators.
//!
//! A simulated accelerator has a size and a speed. Its memory is memory of this process under a name
//! of its own, so that the kernel counts it apart; more than there is cannot be had. What it
//! computes, the processor computes; a step waits where the accelerator would have taken longer.

use std::ops::{Deref, DerefMut};
use std::time::{Duration, Instant};

use bytemuck::{Pod, Zeroable};
use deft_planning::Bytes;
use deft_protocol::engine::{AcceleratorOrder, PlaceOrder};
use memmap2::MmapMut;
use thiserror::Error;

use crate::mapped::accelerator_memory;

/// An accelerator has too little memory.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "the simulated accelerator `{pool}` is out of memory: {asked} more were asked for, and {free} is free"
)]
pub struct OutOfMemory {
    /// Its pool.
    pub pool: String,
    /// What was asked for.
    pub asked: Bytes,
    /// What is free.
    pub free: Bytes,
}

/// Bytes of a layer.
pub(crate) enum Memory {
    Host(Lines),
    Accelerator(MmapMut),
}

/// A line of the caches.
#[derive(Clone, Copy, Pod, Zeroable)]
#[repr(C, align(64))]
struct Line([u8; 64]);

/// Bytes that begin where a line of the caches does, so that no register comes from two of them.
pub(crate) struct Lines {
    lines: Vec<Line>,
    length: usize,
}

impl Lines {
    fn filled(length: usize, byte: u8) -> Self {
        Self { lines: vec![Line([byte; 64]); length.div_ceil(64)], length }
    }
}

impl Deref for Lines {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &bytemuck::cast_slice(&self.lines)[..self.length]
    }
}

impl DerefMut for Lines {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut bytemuck::cast_slice_mut(&mut self.lines)[..self.length]
    }
}

impl Deref for Memory {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        match self {
            Self::Host(bytes) => bytes,
            Self::Accelerator(bytes) => bytes,
        }
    }
}

impl DerefMut for Memory {
    fn deref_mut(&mut self) -> &mut [u8] {
        match self {
            Self::Host(bytes) => bytes,
            Self::Accelerator(bytes) => bytes,
        }
    }
}

struct Accelerator {
    pool: String,
    free: u64,
    /// Bytes it reads in a second.
    speed: Option<u64>,
}

/// The places of all layers.
#[derive(Default)]
pub struct Places {
    accelerators: Vec<Accelerator>,
    /// For each layer its accelerator; layers beyond are in host memory.
    of_layer: Vec<Option<usize>>,
}

impl Places {
    /// All in host memory.
    #[must_use]
    pub fn host() -> Self {
        Self::default()
    }

    /// As ordered, the first layers in the first place.
    #[must_use]
    pub fn ordered(orders: &[PlaceOrder]) -> Self {
        let mut places = Self::default();
        for PlaceOrder { pool, layers, accelerator } in orders {
            let at = accelerator.as_ref().map(|accelerator| {
                let &AcceleratorOrder { free, speed } = accelerator;
                places.accelerators.push(Accelerator { pool: pool.clone(), free, speed });
                places.accelerators.len() - 1
            });
            places.of_layer.extend((0..*layers).map(|_| at));
        }
        places
    }

    /// The accelerator of a layer.
    pub(crate) fn accelerator_of(&self, layer: usize) -> Option<usize> {
        self.of_layer.get(layer).copied().flatten()
    }

    pub(crate) fn accelerator_count(&self) -> usize {
        self.accelerators.len()
    }

    /// Memory of an accelerator.
    pub(crate) fn take(
        &mut self,
        accelerator: usize,
        length: usize,
    ) -> Result<MmapMut, OutOfMemory> {
        let Accelerator { pool, free, .. } = &mut self.accelerators[accelerator];
        let short = |free: u64| OutOfMemory {
            pool: pool.clone(),
            asked: Bytes(length as u64),
            free: Bytes(free),
        };
        let left = free.checked_sub(length as u64).ok_or_else(|| short(*free))?;
        // The kernel has none left for it.
        let memory = accelerator_memory(pool, length).map_err(|_| short(0))?;
        *free = left;
        Ok(memory)
    }

    /// Memory for a layer, every byte written.
    pub(crate) fn filled(
        &mut self,
        layer: usize,
        length: usize,
        byte: u8,
    ) -> Result<Memory, OutOfMemory> {
        let Some(accelerator) = self.accelerator_of(layer) else {
            return Ok(Memory::Host(Lines::filled(length, byte)));
        };
        let mut memory = self.take(accelerator, length)?;
        memory.fill(byte);
        Ok(Memory::Accelerator(memory))
    }

    /// How long each layer takes at least; `weights` are their stored bytes.
    pub(crate) fn pace(&self, weights: &[Bytes]) -> Pace {
        let seconds = |(layer, weights): (usize, &Bytes)| {
            let speed = self.accelerators[self.accelerator_of(layer)?].speed?;
            #[expect(clippy::cast_precision_loss, reason = "a waiting time")]
            Some(Duration::from_secs_f64(weights.0 as f64 / speed.max(1) as f64))
        };
        let least = weights.iter().enumerate().map(|layer| seconds(layer).unwrap_or_default());
        Pace { least: least.collect() }
    }
}

/// The speed of accelerators that are slower than the processor that stands in for them.
#[derive(Debug, Default)]
pub(crate) struct Pace {
    least: Vec<Duration>,
}

impl Pace {
    /// What is still to be waited for a layer that was begun then.
    pub(crate) fn owed(&self, layer: usize, begun: Instant) -> Duration {
        match self.least.get(layer) {
            Some(least) if *least > Duration::ZERO => least.saturating_sub(begun.elapsed()),
            _ => Duration::ZERO,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn places(speed: Option<u64>) -> Places {
        let fern = PlaceOrder {
            pool: "fern".to_owned(),
            layers: 2,
            accelerator: Some(AcceleratorOrder { free: 1000, speed }),
        };
        let host = PlaceOrder { pool: "host".to_owned(), layers: 1, accelerator: None };
        Places::ordered(&[fern, host])
    }

    #[test]
    fn more_than_there_is_cannot_be_had() {
        let mut places = places(None);
        assert!(matches!(places.filled(0, 600, 7).unwrap(), Memory::Accelerator(m) if m[599] == 7));
        assert!(matches!(places.filled(2, 6000, 7).unwrap(), Memory::Host(m) if m[5999] == 7));
        let Err(error) = places.filled(1, 401, 7) else { panic!("it was granted") };
        assert_eq!(
            error.to_string(),
            "the simulated accelerator `fern` is out of memory: 401 B more were asked for, and 400 B is free"
        );
        assert!(places.filled(1, 400, 7).is_ok(), "a refusal takes nothing");
    }

    #[test]
    fn a_slow_accelerator_is_waited_for_and_host_memory_is_not() {
        let pace = places(Some(1000)).pace(&[Bytes(500), Bytes(2000), Bytes(9000)]);
        let begun = Instant::now();
        let owed = [0, 1, 2, 3].map(|layer| pace.owed(layer, begun).as_secs_f64());
        assert!(owed[0] <= 0.5 && owed[0] > 0.3 && owed[1] > 1.5, "{owed:?}");
        assert_eq!((owed[2], owed[3]), (0.0, 0.0));
    }
}
