//! `deft service start`.
//!
//! Detached, the service is started as a child that tells on its standard output when it is ready,
//! or why it will not be. The command waits for that line: no sleep, no guess. The child leaves the
//! terminal's session, so that closing the terminal or a notebook's cell does not end it.

use std::ffi::OsString;
use std::fs::OpenOptions;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::AsFd;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use deft_client::Client;
use deft_service::presence::{self, Presence};
use deft_service::private_files::{data_folder, open_log, private_folder};
use deft_service::{Config, Flags, RunError, StartOptions, Starting, own_program};
use serde::{Deserialize, Serialize};
use serde_json::json;
use tracing_subscriber::EnvFilter;

use super::super::wait_for;
use super::{allocator, logs};
use crate::arguments::{Common, Start};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Longest time that a service that does not answer is waited for: it may be starting or dying.
const LONGEST_CHANGE: Duration = Duration::from_secs(15);
/// How often it is looked after meanwhile.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// What the child tells the command that started it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Told {
    Waiting { what: String },
    Ready { address: String },
    Failed { why: String },
}

pub(super) fn run(common: &Common, start: &Start) -> Result<(), Failure> {
    run_with(common, start, &[])
}

/// As [`run`], with more in the environment of the service.
pub(super) fn run_with(
    common: &Common,
    start: &Start,
    variables: &[(OsString, OsString)],
) -> Result<(), Failure> {
    let flags = Flags { listen: start.listen, data_dir: None };
    let config = connection::settings(common, flags)?.config;
    if start.foreground || start.detached {
        allocator::settle();
        return serve(config, start);
    }
    if let Some(found) = wait_for(running(&config.data_dir))? {
        let place = found.address.as_deref().unwrap_or("an address it has not told yet");
        print::line(format!(
            "a service is running already at {place} (process {}, deft {})",
            found.pid, found.version
        ));
        return Ok(());
    }
    let address = detach(common, start, &config, variables)?;
    if common.json {
        print::json(&json!({"address": address}));
    } else {
        print::line(format!("the service is ready at {address}"));
        print::line(format!("console: {address}/"));
    }
    Ok(())
}

/// The service that has the data directory. One that is just starting, or just dying, is waited for.
async fn running(data_dir: &Path) -> Result<Option<Presence>, Failure> {
    let began = Instant::now();
    loop {
        let Some(found) = presence::find(data_dir) else {
            return Ok(None);
        };
        if let Some(address) = &found.address
            && Client::new(address)?.greet().await.is_ok()
        {
            return Ok(Some(found));
        }
        if began.elapsed() > LONGEST_CHANGE {
            return Ok(Some(found));
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

/// Starts the service as a process of its own and waits until it tells that it is ready.
fn detach(
    common: &Common,
    start: &Start,
    config: &Config,
    variables: &[(OsString, OsString)],
) -> Result<String, Failure> {
    let cannot = |what: &Path, error: std::io::Error| {
        Failure::fault(format!("`{}` cannot be used: {error}", what.display()))
            .with_way_out("choose another data directory with --data-dir or DEFT_DATA_DIR")
    };
    let log = logs::file(&config.data_dir);
    let folder = log.parent().unwrap_or(&config.data_dir);
    data_folder(&config.data_dir, None).map_err(|error| cannot(&config.data_dir, error))?;
    private_folder(folder, None).map_err(|error| cannot(folder, error))?;
    let log_file = open_log(&log).map_err(|error| cannot(&log, error))?;
    let mut command = Command::new(own_program());
    command.args(["service", "start", "--detached", "--data-dir"]).arg(&config.data_dir);
    if let Some(file) = &common.config {
        command.arg("--config").arg(std::path::absolute(file)?);
    }
    if let Some(listen) = start.listen {
        command.arg("--listen").arg(listen.to_string());
    }
    if start.accept_depot {
        command.arg("--accept-depot");
    }
    command.envs(variables.iter().map(|(name, value)| (name, value)));
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(log_file);
    let mut child = command.spawn()?;
    let pipe = child.stdout.take().expect("standard output is piped");
    let mut lines = BufReader::new(pipe).lines();
    let mut next = || std::io::Result::Ok(lines.next().transpose()?.unwrap_or_default());
    let mut line: String = next()?;
    while let Ok(Told::Waiting { what }) = serde_json::from_str(&line) {
        print::note(format!("still starting: {what}"));
        line = next()?;
    }
    match serde_json::from_str(&line) {
        Ok(Told::Ready { address }) => Ok(address),
        Ok(Told::Failed { why }) => {
            let _ = child.wait();
            Err(Failure::fault(format!("the service did not start: {why}"))
                .with_way_out(format!("its log is in {}", log.display())))
        }
        _ => {
            let _ = child.wait();
            let tail = logs::tail(&log, 12).unwrap_or_default();
            Err(Failure::fault(format!(
                "the service ended before it was ready; its log ends:\n{tail}"
            )))
        }
    }
}

/// Runs the service in this process.
fn serve(config: Config, start: &Start) -> Result<(), Failure> {
    let detached = start.detached;
    let options = StartOptions { accept_depot: start.accept_depot };
    if detached {
        // A session of its own: signals of the terminal do not reach it. It fails where this
        // process leads its group already, and then it is detached as it is.
        let _ = rustix::process::setsid();
        logs::keep_small(logs::file(&config.data_dir))?;
    }
    let filter =
        EnvFilter::try_from_env("DEFT_LOG").unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn"));
    let colours = !detached && std::io::IsTerminal::is_terminal(&std::io::stderr());
    tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(colours)
        .with_target(false)
        .init();
    let told = move |how_far: Starting<'_>| match how_far {
        Starting::Waiting(what) => {
            if detached {
                tell(&Told::Waiting { what: what.to_owned() });
            }
            // A supervisor waits a minute longer each time.
            let longer = sd_notify::NotifyState::ExtendTimeoutUsec(60_000_000);
            let _ = sd_notify::notify(&[sd_notify::NotifyState::Status(what), longer]);
        }
        Starting::Ready(address) => {
            if detached {
                tell_at_last(&Told::Ready { address: address.to_owned() });
            }
            // Where no supervisor asked, nobody is told.
            let _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
        }
    };
    let served: Result<(), RunError> =
        wait_for(async { Ok(deft_service::run(config, options, told).await) })?;
    let _ = sd_notify::notify(&[sd_notify::NotifyState::Stopping]);
    served.map_err(|error| {
        let why = error.to_string();
        tracing::error!("the service did not start: {why}");
        if detached {
            tell_at_last(&Told::Failed { why: why.clone() });
        }
        Failure::fault(why)
    })
}

/// Tells the command that waits.
fn tell(told: &Told) {
    // Whoever waited for this may have been broken off: the service goes on all the same.
    let line = serde_json::to_string(told).unwrap_or_default();
    let _ = writeln!(std::io::stdout(), "{line}");
}

/// Tells the command that waits the last, and lets go of its pipe.
fn tell_at_last(told: &Told) {
    tell(told);
    if let Ok(nowhere) = OpenOptions::new().write(true).open("/dev/null") {
        let _ = rustix::stdio::dup2_stdout(nowhere.as_fd());
    }
}
