//! `deft service start`.
//!
//! The service is started as a child process that reports on its standard output when it is ready, or why it failed. The
//! command waits for that line. The child leaves the terminal's session, so that it survives the terminal.

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

/// Longest wait for a service that does not answer, because it is starting or stopping.
const LONGEST_CHANGE: Duration = Duration::from_secs(15);
/// Pause between two attempts to reach it.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// Reports of the child process to the command that started it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Report {
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
    let settings = connection::settings(common, flags)?;
    let config = settings.config;
    if start.foreground || start.detached {
        allocator::settle();
        return serve(config, start, &settings.warnings);
    }
    for warning in &settings.warnings {
        print::note(format!("note: {warning}"));
    }
    if let Some(found) = wait_for(running(&config.data_dir))? {
        if common.json {
            print::json(
                &json!({"address": found.address, "pid": found.pid, "already_running": true}),
            );
            return Ok(());
        }
        let place = found.address.as_deref().unwrap_or("an address that is not known yet");
        print::line(format!(
            "the service is already running at {place} (process {}, deft {})",
            found.pid, found.version
        ));
        return Ok(());
    }
    let address = detach(common, start, &config, variables)?;
    if common.json {
        print::json(&json!({"address": address, "already_running": false}));
    } else {
        print::line(format!("the service is ready at {address}"));
        print::line(format!("console: {address}/"));
    }
    Ok(())
}

/// The service that uses the data directory; waits for one that is starting or stopping.
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

/// Starts the service as its own process and waits until it reports that it is ready.
fn detach(
    common: &Common,
    start: &Start,
    config: &Config,
    variables: &[(OsString, OsString)],
) -> Result<String, Failure> {
    let cannot = |what: &Path, error: std::io::Error| {
        Failure::fault(format!("`{}` cannot be used: {error}", what.display()))
            .with_way_out("use another data directory: --data-dir DIR or DEFT_DATA_DIR")
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
    while let Ok(Report::Waiting { what }) = serde_json::from_str(&line) {
        print::note(format!("still starting: {what}"));
        line = next()?;
    }
    match serde_json::from_str(&line) {
        Ok(Report::Ready { address }) => Ok(address),
        Ok(Report::Failed { why }) => {
            let _ = child.wait();
            Err(Failure::fault(format!("the service did not start: {why}"))
                .with_way_out(format!("read its log: {}", log.display())))
        }
        _ => {
            let _ = child.wait();
            let tail = logs::tail(&log, 12).unwrap_or_default();
            Err(Failure::fault(format!(
                "the service ended before it was ready; the end of its log:\n{tail}"
            )))
        }
    }
}

/// Runs the service in this process.
fn serve(config: Config, start: &Start, warnings: &[String]) -> Result<(), Failure> {
    let detached = start.detached;
    let options = StartOptions { accept_depot: start.accept_depot };
    if detached {
        // Signals of the terminal do not reach another session. This fails where the process leads its group
        // already, which is just as well.
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
    warnings.iter().for_each(|warning| tracing::warn!("{warning}"));
    let report = move |how_far: Starting<'_>| match how_far {
        Starting::Waiting(what) => {
            if detached {
                send(&Report::Waiting { what: what.to_owned() });
            }
            // Each message extends the supervisor's timeout by a minute.
            let longer = sd_notify::NotifyState::ExtendTimeoutUsec(60_000_000);
            let _ = sd_notify::notify(&[sd_notify::NotifyState::Status(what), longer]);
        }
        Starting::Ready(address) => {
            if detached {
                report_last(&Report::Ready { address: address.to_owned() });
            }
            // Has no effect without a supervisor.
            let _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
        }
    };
    let served: Result<(), RunError> =
        wait_for(async { Ok(deft_service::run(config, options, report).await) })?;
    let _ = sd_notify::notify(&[sd_notify::NotifyState::Stopping]);
    served.map_err(|error| {
        let why = error.to_string();
        tracing::error!("the service did not start: {why}");
        if detached {
            report_last(&Report::Failed { why: why.clone() });
        }
        Failure::fault(why)
    })
}

/// Reports to the waiting command.
fn send(report: &Report) {
    // The waiting command may have been interrupted, which does not matter to the service.
    let line = serde_json::to_string(report).unwrap_or_default();
    let _ = writeln!(std::io::stdout(), "{line}");
}

/// Sends the last report to the waiting command, and closes the pipe.
fn report_last(report: &Report) {
    send(report);
    if let Ok(nowhere) = OpenOptions::new().write(true).open("/dev/null") {
        let _ = rustix::stdio::dup2_stdout(nowhere.as_fd());
    }
}
