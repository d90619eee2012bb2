//! Shared by the service's child processes: they end with the service, and their link to it is their standard input.

use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;

use deft_engine::confine;
use rustix::process::{Pid, Signal, getppid, set_parent_process_death_signal};

use crate::failure::Failure;

/// Ties this process to the one that started it, and returns the link to it. All other descriptors are closed.
pub(super) fn link_to(parent: u32) -> Result<UnixStream, Failure> {
    // The parent is checked again, for it may have died before the signal was set; a closed link would end
    // this process too, but only between two steps.
    set_parent_process_death_signal(Some(Signal::KILL)).map_err(std::io::Error::from)?;
    let now = getppid().map(Pid::as_raw_nonzero).and_then(|pid| u32::try_from(pid.get()).ok());
    if now != Some(parent) {
        return Err(Failure::fault("the service that started this process has ended"));
    }
    confine::close_inherited();
    Ok(UnixStream::from(std::io::stdin().as_fd().try_clone_to_owned()?))
}
