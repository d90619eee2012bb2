//! The device of a stage, with the memory of its weights and pages.

use std::sync::Arc;

use deft_kernels::{Device, Host, HostPages, Stored};

use crate::layer_memory::{LayerMemory, OutOfMemory};
use crate::mapped::Mapped;

/// The device of a stage, with its weights and pages.
pub(super) trait Home: Send {
    /// The type of device.
    type Device: Device;

    /// The device. `host` is the host, whose threads all stages share.
    fn device<'a>(&'a self, host: &'a Host) -> &'a Self::Device;

    /// Stored weights, by their offset in a part of the file.
    fn stored(&self, part: usize, offset: u64, bytes: u64) -> <Self::Device as Device>::Stored<'_>;

    /// Allocates the pages of a layer.
    fn pages(
        &self,
        layer: usize,
        bytes: usize,
        layer_memory: &mut LayerMemory,
    ) -> Result<<Self::Device as Device>::Pages, OutOfMemory>;
}

/// Files that are mapped into the host's memory, including layers in simulated accelerators.
impl Home for Arc<Mapped> {
    type Device = Host;

    fn device<'a>(&'a self, host: &'a Host) -> &'a Host {
        host
    }

    fn stored(&self, part: usize, offset: u64, bytes: u64) -> Stored<'_> {
        self.weights(part, offset, bytes)
    }

    fn pages(
        &self,
        layer: usize,
        bytes: usize,
        layer_memory: &mut LayerMemory,
    ) -> Result<HostPages, OutOfMemory> {
        // All ones is a NaN in every type, so reading a row before it is written is noticed.
        Ok(Box::new(layer_memory.filled(layer, bytes, 0xFF)?))
    }
}
