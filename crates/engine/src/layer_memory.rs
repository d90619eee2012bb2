//! The memory of the layers of a model: host memory or simulated accelerators.
//!
//! A simulated accelerator has a size and a speed. Its memory is memory of this process with a name of its own, so that the kernel
//! counts it separately; its size is a limit. The processor does its computations; a step waits if the accelerator would have
//! taken longer.

use std::alloc::{Layout, handle_alloc_error};
use std::time::{Duration, Instant};

use deft_planning::Bytes;
use deft_protocol::engine::{AcceleratorOrder, PlaceOrder};
use memmap2::{Advice, MmapMut};
use thiserror::Error;

use crate::mapped::accelerator_memory;

/// An accelerator has too little memory.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "the simulated accelerator `{pool}` is out of memory: {asked} were requested, {free} are free"
)]
pub struct OutOfMemory {
    /// Its pool.
    pub pool: String,
    /// Requested bytes.
    pub asked: Bytes,
    /// Free bytes.
    pub free: Bytes,
}

struct Accelerator {
    pool: String,
    free: u64,
    /// Bytes that it reads per second.
    speed: Option<u64>,
}

/// Which memory each layer is in.
#[derive(Default)]
pub struct LayerMemory {
    accelerators: Vec<Accelerator>,
    /// The accelerator of each layer; further layers are in host memory.
    of_layer: Vec<Option<usize>>,
    /// Memory nodes with a copy of the weights in host memory; empty if the file is mapped instead.
    nodes: Vec<usize>,
}

impl LayerMemory {
    /// All layers in host memory.
    #[must_use]
    pub fn host() -> Self {
        Self::default()
    }

    /// Layers in the requested accelerators, the first layers in the first one.
    #[must_use]
    pub fn ordered(orders: &[PlaceOrder]) -> Self {
        let mut memory = Self::default();
        for PlaceOrder { pool, layers, accelerator } in orders {
            let at = accelerator.as_ref().map(|accelerator| {
                let &AcceleratorOrder { free, speed } = accelerator;
                memory.accelerators.push(Accelerator { pool: pool.clone(), free, speed });
                memory.accelerators.len() - 1
            });
            memory.of_layer.extend((0..*layers).map(|_| at));
        }
        memory
    }

    /// Gives each of these memory nodes a copy of the weights in host memory, in this order.
    #[must_use]
    pub fn with_copies_on(self, nodes: &[usize]) -> Self {
        Self { nodes: nodes.to_vec(), ..self }
    }

    /// The memory nodes with copies.
    pub(crate) fn nodes(&self) -> &[usize] {
        &self.nodes
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
        // The kernel has no memory for it.
        let memory = accelerator_memory(pool, length).map_err(|_| short(0))?;
        *free = left;
        Ok(memory)
    }

    /// Allocates memory for a layer and touches all of it, with large pages where they fit. It begins at a page, so that no
    /// register is loaded from two cache lines.
    pub(crate) fn filled(
        &mut self,
        layer: usize,
        length: usize,
        byte: u8,
    ) -> Result<MmapMut, OutOfMemory> {
        let mut memory = match self.accelerator_of(layer) {
            Some(accelerator) => self.take(accelerator, length)?,
            None => MmapMut::map_anon(length).unwrap_or_else(|_| none_left(length)),
        };
        // Requested before anything is written. Without large pages, small ones are used.
        #[cfg(target_os = "linux")]
        let _ = memory.advise(Advice::HugePage);
        memory.fill(byte);
        Ok(memory)
    }

    /// The least time of each layer; `weights` are the stored bytes of the layers.
    pub(crate) fn delay(&self, weights: &[Bytes]) -> AcceleratorDelay {
        let seconds = |(layer, weights): (usize, &Bytes)| {
            let speed = self.accelerators[self.accelerator_of(layer)?].speed?;
            #[expect(clippy::cast_precision_loss, reason = "a waiting time")]
            Some(Duration::from_secs_f64(weights.0 as f64 / speed.max(1) as f64))
        };
        let least = weights.iter().enumerate().map(|layer| seconds(layer).unwrap_or_default());
        AcceleratorDelay { least: least.collect() }
    }
}

/// Ends the process, as other failed allocations do.
fn none_left(length: usize) -> ! {
    handle_alloc_error(Layout::array::<u8>(length).unwrap_or(Layout::new::<u8>()))
}

/// The speed of simulated accelerators that are slower than the processor.
#[derive(Debug, Default)]
pub(crate) struct AcceleratorDelay {
    least: Vec<Duration>,
}

impl AcceleratorDelay {
    /// The time to wait for a layer that began at an instant.
    pub(crate) fn remaining(&self, layer: usize, begun: Instant) -> Duration {
        match self.least.get(layer) {
            Some(least) if *least > Duration::ZERO => least.saturating_sub(begun.elapsed()),
            _ => Duration::ZERO,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn memory(speed: Option<u64>) -> LayerMemory {
        let fern = PlaceOrder {
            pool: "fern".to_owned(),
            layers: 2,
            accelerator: Some(AcceleratorOrder { free: 1000, speed }),
        };
        let host = PlaceOrder { pool: "host".to_owned(), layers: 1, accelerator: None };
        LayerMemory::ordered(&[fern, host])
    }

    #[test]
    fn more_than_there_is_cannot_be_had() {
        let mut memory = memory(None);
        assert_eq!(memory.filled(0, 600, 7).unwrap()[..], [7; 600]);
        assert_eq!(
            memory.filled(2, 6000, 7).unwrap()[..],
            [7; 6000],
            "host memory has no such bound"
        );
        let Err(error) = memory.filled(1, 401, 7) else { panic!("it was granted") };
        assert_eq!(
            error.to_string(),
            "the simulated accelerator `fern` is out of memory: 401 B were requested, 400 B are free"
        );
        assert!(memory.filled(1, 400, 7).is_ok(), "a refusal takes nothing");
    }

    #[test]
    fn a_slow_accelerator_is_waited_for_and_host_memory_is_not() {
        let delay = memory(Some(1000)).delay(&[Bytes(500), Bytes(2000), Bytes(9000)]);
        let begun = Instant::now();
        let remaining = [0, 1, 2, 3].map(|layer| delay.remaining(layer, begun).as_secs_f64());
        assert!(remaining[0] <= 0.5 && remaining[0] > 0.3 && remaining[1] > 1.5, "{remaining:?}");
        assert_eq!((remaining[2], remaining[3]), (0.0, 0.0));
    }
}
