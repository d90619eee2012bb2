//! `deft engine`: the engine process. Its link is standard input.

use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;

use deft_engine::confine::{self, Allowed, Confined};
use deft_engine::process;
use deft_protocol::engine::LoadOrder;
use rustix::process::{Pid, Signal, getppid, set_parent_process_death_signal};

use crate::failure::Failure;

pub(super) fn run(parent: u32) -> Result<(), Failure> {
    // Killed with the service. The parent is looked at again, for it may have died before the
    // signal was set; a closed link would end this process too, but only between two steps.
    set_parent_process_death_signal(Some(Signal::KILL)).map_err(std::io::Error::from)?;
    let now = getppid().map(Pid::as_raw_nonzero).and_then(|pid| u32::try_from(pid.get()).ok());
    if now != Some(parent) {
        return Err(Failure::fault("the service that started this engine process is gone"));
    }
    confine::close_inherited();
    let link = UnixStream::from(std::io::stdin().as_fd().try_clone_to_owned()?);
    let reader = link.try_clone()?;
    process::serve_confined(reader, link, confined).map_err(|error| {
        Failure::fault(error.to_string())
            .with_way_out("engine processes are started by the service: deft service start")
    })
}

/// Leaves the process its files, its link and the memory that was planned; says what holds.
fn confined(order: &LoadOrder) -> Result<String, String> {
    let files = std::iter::once(&order.file).chain(&order.parts).cloned().collect();
    let Confined { holds, missing } = confine::confine(&Allowed { files, memory: order.memory })?;
    let missing = match missing.is_empty() {
        true => String::new(),
        false => format!("; this kernel does not offer {}", missing.join(", ")),
    };
    Ok(format!("{}{missing}", holds.join(", ")))
}
