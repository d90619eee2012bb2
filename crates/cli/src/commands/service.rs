//! `deft service`.

mod logs;
mod start;
mod stop;
mod unit;

use std::time::{Duration, Instant};

use deft_client::Client;
use serde_json::json;

use super::wait_for;
use crate::arguments::{Common, Service};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Pause between two looks for a service.
const LOOK_AGAIN: Duration = Duration::from_millis(50);

pub(super) fn run(common: &Common, command: Service) -> Result<(), Failure> {
    match command {
        Service::Start(start) => start::run(common, &start),
        Service::Stop { now } => stop::run(common, now),
        Service::Restart(start) => restart(common, start),
        Service::Wait { model, seconds } => wait_for(wait(common, model.as_deref(), seconds)),
        Service::Status => wait_for(status(common)),
        Service::Logs { follow, lines } => logs::run(common, lines, follow),
        Service::Unit => unit::run(common),
    }
}

/// Stops and starts; it listens where it did, unless told otherwise.
fn restart(common: &Common, mut start: crate::arguments::Start) -> Result<(), Failure> {
    if let Some(presence) = connection::local(common)? {
        let before = presence.address.as_deref().and_then(|text| text.strip_prefix("http://"));
        let before = before.and_then(|text| text.parse().ok());
        start.listen = start.listen.or(before);
        stop::run(common, false)?;
    }
    start::run(common, &start)
}

async fn wait(common: &Common, model: Option<&str>, seconds: u64) -> Result<(), Failure> {
    let deadline = Instant::now() + Duration::from_secs(seconds);
    let client = loop {
        // The address may appear only once the service is there: it is looked up anew each time.
        let look = async {
            let client = connection::client(common)?;
            client.status().await?;
            Ok::<Client, Failure>(client)
        };
        match look.await {
            Ok(client) => break client,
            Err(failure) if failure.is_no_service() && Instant::now() < deadline => {
                tokio::time::sleep(LOOK_AGAIN).await;
            }
            Err(failure) => return Err(failure),
        }
    };
    if let Some(model) = model {
        let left = deadline.saturating_duration_since(Instant::now()).as_secs();
        let instance = client.wait_for(model, left).await?;
        print::note(format!("`{}` is ready", instance.name));
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
        (kind, false) => format!("{kind}, does not answer: records wait"),
    };
    let rows = [
        ("service", format!("{} (deft {})", status.address, status.version)),
        ("console", format!("{}/", status.address)),
        ("process", status.pid.to_string()),
        ("since", status.started_at.format("%F %T UTC").to_string()),
        ("node", status.node),
        ("records", database),
        ("instances", status.instances.len().to_string()),
    ];
    for (name, value) in rows {
        print::line(format!("{name:<11}{value}"));
    }
    Ok(())
}
