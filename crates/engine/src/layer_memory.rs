//! Where the layers of a model are: host memory, or simulated accelerators.
//!
//! A simulated accelerator has a size and a speed. Its memory is memory of this process under a name
//! of its own, so that the kernel counts it apart; more than there is cannot be had. What it
//! computes, the processor computes; a step waits where the accelerator would have taken longer.

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
    /// What was asked for.
    pub asked: Bytes,
    /// What is free.
    pub free: Bytes,
}

struct Accelerator {
    pool: String,
    free: u64,
    /// Bytes it reads in a second.
    speed: Option<u64>,
}

/// Which memory each layer is in.
#[derive(Default)]
pub struct LayerMemory {
    accelerators: Vec<Accelerator>,
    /// For each layer its accelerator; layers beyond are in host memory.
    of_layer: Vec<Option<usize>>,
    /// Memory nodes that have a copy of the weights in host memory; none where the file is mapped instead.
    nodes: Vec<usize>,
}

impl LayerMemory {
    /// All in host memory.
    #[must_use]
    pub fn host() -> Self {
        Self::default()
    }

    /// As ordered, the first layers in the first place.
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

    /// Of weights in host memory each of these memory nodes gets a copy, in their order.
    #[must_use]
    pub fn with_copies_on(self, nodes: &[usize]) -> Self {
        Self { nodes: nodes.to_vec(), ..self }
    }

    /// The memory nodes that get copies.
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
        // The kernel has none left for it.
        let memory = accelerator_memory(pool, length).map_err(|_| short(0))?;
        *free = left;
        Ok(memory)
    }

    /// Memory for a layer, every byte written, in large pages where whole ones lie within. It begins with a page of memory, so that no register comes from
    /// two lines of the caches.
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
        // Before anything is written: where the system has none, small ones do.
        #[cfg(target_os = "linux")]
        let _ = memory.advise(Advice::HugePage);
        memory.fill(byte);
        Ok(memory)
    }

    /// How long each layer takes at least; `weights` are their stored bytes.
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

/// Ends the process, as it ends where any other memory cannot be had.
fn none_left(length: usize) -> ! {
    handle_alloc_error(Layout::array::<u8>(length).unwrap_or(Layout::new::<u8>()))
}

/// The speed of accelerators that are slower than the processor that stands in for them.
#[derive(Debug, Default)]
pub(crate) struct AcceleratorDelay {
    least: Vec<Duration>,
}

impl AcceleratorDelay {
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
        let owed = [0, 1, 2, 3].map(|layer| delay.owed(layer, begun).as_secs_f64());
        assert!(owed[0] <= 0.5 && owed[0] > 0.3 && owed[1] > 1.5, "{owed:?}");
        assert_eq!((owed[2], owed[3]), (0.0, 0.0));
    }
}
