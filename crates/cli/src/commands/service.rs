//! `deft service`.

mod allocator;
mod logs;
mod start;
mod stop;
mod unit;

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use deft_client::Client;
use serde_json::json;

use super::wait_for;
use crate::arguments::{Common, Service};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Pause between two attempts to reach a service.
const RETRY_AFTER: Duration = Duration::from_millis(50);

pub(super) fn run(common: &Common, command: Service) -> Result<(), Failure> {
    match command {
        Service::Start(start) => start::run(common, &start),
        Service::Stop { now } => stop::run(common, now),
        Service::Restart(start) => restart(common, start),
        Service::Wait { model, timeout } => wait_for(wait(common, model.as_deref(), timeout)),
        Service::Status => wait_for(status(common)),
        Service::Logs { follow, lines } => logs::run(common, lines, follow),
        Service::Unit => unit::run(common),
    }
}

/// Restarts the service with the settings it runs with, unless other ones are named.
fn restart(common: &Common, mut start: crate::arguments::Start) -> Result<(), Failure> {
    let Some(presence) = connection::local(common)? else {
        return start::run(common, &start);
    };
    let before = presence.address.as_deref().and_then(|text| text.strip_prefix("http://"));
    let before = before.and_then(|text| text.parse().ok());
    let running = Running::of(presence.pid);
    let mut common = common.clone();
    common.config = common.config.or(running.config.clone());
    start.listen = start.listen.or(before);
    stop::stop(&common, false)?;
    print::note(format!(
        "restarting with these settings: {}",
        running.in_words(common.config.as_deref(), start.listen)
    ));
    start::run_with(&common, &start, &running.variables)
}

/// Settings that a running service was started with.
#[derive(Default)]
struct Running {
    config: Option<PathBuf>,
    /// Variables of its environment that are meant for it.
    variables: Vec<(OsString, OsString)>,
}

impl Running {
    /// Read from its process.
    fn of(pid: u32) -> Self {
        let read = |name: &str| std::fs::read(format!("/proc/{pid}/{name}")).unwrap_or_default();
        let text = |bytes: &[u8]| OsStr::from_bytes(bytes).to_owned();
        let arguments = read("cmdline");
        let mut arguments = arguments.split(|byte| *byte == 0);
        let config = arguments.find(|word| *word == b"--config").and_then(|_| arguments.next());
        let environment = read("environ");
        let own = environment.split(|byte| *byte == 0).filter_map(|line| {
            let at = line.iter().position(|byte| *byte == b'=')?;
            line.starts_with(b"DEFT_").then(|| (text(&line[..at]), text(&line[at + 1..])))
        });
        Self { config: config.map(|path| text(path).into()), variables: own.collect() }
    }

    /// The settings in words; only names of variables, because some values are secret.
    fn in_words(&self, config: Option<&Path>, listen: Option<std::net::SocketAddr>) -> String {
        let mut words = Vec::new();
        words.extend(config.map(|path| format!("file {}", path.display())));
        words.extend(listen.map(|address| format!("listening on {address}")));
        words.extend(self.variables.iter().map(|(name, _)| name.to_string_lossy().into_owned()));
        if words.is_empty() { "the defaults".to_owned() } else { words.join(", ") }
    }
}

async fn wait(common: &Common, model: Option<&str>, seconds: u64) -> Result<(), Failure> {
    let deadline = Instant::now() + Duration::from_secs(seconds);
    let client = loop {
        // The address is known only once the service is ready, so it is looked up each time.
        let look = async {
            let client = connection::client(common)?;
            client.status().await?;
            Ok::<Client, Failure>(client)
        };
        match look.await {
            Ok(client) => break client,
            Err(failure) if failure.is_no_service() && Instant::now() < deadline => {
                tokio::time::sleep(RETRY_AFTER).await;
            }
            Err(failure) => return Err(failure),
        }
    };
    if let Some(model) = model {
        let left = deadline.saturating_duration_since(Instant::now()).as_secs();
        let instance = client.wait_for(model, left).await?;
        if common.json {
            print::json(&instance);
        } else {
            print::note(format!("`{}` is ready", instance.name));
        }
    } else if common.json {
        print::json(&json!({"address": connection::address(common)?}));
    }
    Ok(())
}

async fn status(common: &Common) -> Result<(), Failure> {
    let client = connection::client(common)?;
    let (status, version) = client.status().await?;
    connection::note_other_version(version.as_deref());
    if common.json {
        print::json(&json!({
            "version": status.version, "pid": status.pid, "address": status.address,
            "started_at": status.started_at, "node": status.node, "database": status.database,
            "instances": status.instances.len(),
        }));
        return Ok(());
    }
    let database = match (status.database.kind.as_str(), status.database.up) {
        (kind, true) => kind.to_owned(),
        (kind, false) => format!("{kind}, does not answer; records are written later"),
    };
    let rows = [
        ("service", format!("{} (deft {})", status.address, status.version)),
        ("console", format!("{}/", status.address)),
        ("process", status.pid.to_string()),
        ("since", print::time_with_zone(status.started_at)),
        ("node", status.node),
        ("records", database),
        ("instances", status.instances.len().to_string()),
    ];
    for (name, value) in rows {
        print::line(format!("{name:<11}{value}"));
    }
    Ok(())
}
