//! `deft service stop`.

use deft_service::{Flags, presence};
use rustix::process::{Pid, Signal, kill_process};

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) fn run(common: &Common, now: bool) -> Result<(), Failure> {
    if common.service.is_some() {
        return Err(Failure::usage("a service is stopped on its own machine, without --service"));
    }
    let data_dir = connection::settings(common, Flags::default())?.config.data_dir;
    let Some(found) = presence::find(&data_dir) else {
        print::note(format!("no service is running with `{}`", data_dir.display()));
        return Ok(());
    };
    let pid = i32::try_from(found.pid).ok().and_then(Pid::from_raw);
    let pid = pid.ok_or_else(|| Failure::fault(format!("{} is no process", found.pid)))?;
    let signal = || kill_process(pid, Signal::TERM).map_err(std::io::Error::from);
    signal()?;
    if now {
        // Told twice, it does not wait for running calls.
        signal()?;
    }
    // Its lock is free when it and all its children are gone.
    presence::wait_until_gone(&data_dir)?;
    print::line("the service is stopped");
    Ok(())
}
