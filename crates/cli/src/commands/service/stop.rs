//! `deft service stop`.

use deft_service::{Flags, presence};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::json;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) fn run(common: &Common, now: bool) -> Result<(), Failure> {
    let stopped = stop(common, now)?;
    if common.json {
        print::json(&json!({"stopped": stopped}));
    } else if stopped {
        print::line("the service is stopped");
    }
    Ok(())
}

/// Stops the service and waits until it has ended; false where none was running.
pub(super) fn stop(common: &Common, now: bool) -> Result<bool, Failure> {
    if common.service.is_some() {
        return Err(Failure::usage("stop the service on its own machine, without --service"));
    }
    let data_dir = connection::settings(common, Flags::default())?.config.data_dir;
    let Some(found) = presence::find(&data_dir) else {
        print::note(format!("no service is running in `{}`", data_dir.display()));
        return Ok(false);
    };
    let pid = i32::try_from(found.pid).ok().and_then(Pid::from_raw);
    let pid = pid.ok_or_else(|| Failure::fault(format!("{} is not a process id", found.pid)))?;
    let signal = || kill_process(pid, Signal::TERM).map_err(std::io::Error::from);
    signal()?;
    if now {
        // A second signal cancels running calls.
        signal()?;
    }
    // Its lock is free when it and all its children have ended.
    presence::wait_until_gone(&data_dir)?;
    Ok(true)
}
