//! `deft engine`: the engine process. Its link is standard input.

use deft_engine::confine::{self, Allowed, Confined};
use deft_engine::process;
use deft_protocol::engine::LoadOrder;

use super::child;
use crate::failure::Failure;

pub(super) fn run(parent: u32) -> Result<(), Failure> {
    let link = child::link_to(parent)?;
    let reader = link.try_clone()?;
    process::serve_confined(reader, link, confined).map_err(|error| {
        Failure::fault(error.to_string())
            .with_way_out("engine processes are started by the service: deft service start")
    })
}

/// Leaves the process its files, its link and the memory that was planned; says what holds.
fn confined(order: &LoadOrder) -> Result<String, String> {
    let files = std::iter::once(&order.file).chain(&order.parts).cloned().collect();
    let Confined { holds, missing } =
        confine::confine(&Allowed { files, memory: order.memory, ..Allowed::default() })?;
    let missing = match missing.is_empty() {
        true => String::new(),
        false => format!("; this kernel does not offer {}", missing.join(", ")),
    };
    Ok(format!("{}{missing}", holds.join(", ")))
}
