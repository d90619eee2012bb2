//! Why something about loading is refused: every problem of it is made here, each with its reason and
//! the way out, so that command line, HTTP and console show the same.

use std::time::Duration;

use deft_planning::{
    Denial, LoadSettings, ModelShape, NoSuchPool, PlacementError, Refusal, SettingsError, Shortage,
    WayOut,
};
use deft_protocol::manage::{PoolShare, SettingsRequest};
use deft_protocol::{Problem, ProblemKind, Way};

use crate::config::ConfigError;
use crate::fleet::QueueReport;
use crate::records::variants::Registered;
use crate::wire;

/// Code of a load that does not fit.
pub(crate) const DOES_NOT_FIT: &str = "does_not_fit";
/// Code of a load of a model that is loaded with other settings.
pub(crate) const LOADED_OTHERWISE: &str = "loaded_otherwise";
/// Code of a model that was not ready in time.
pub(crate) const LOAD_SLOW: &str = "load_slow";
/// Code of a file that is another one than it was.
pub(crate) const FILE_CHANGED: &str = "file_changed";
/// Code of a model that is being unloaded.
pub(crate) const DRAINING: &str = "draining";
/// When a call that found no room may come again, in seconds.
const ROOM_LATER: u32 = 10;

fn busy(code: &str, detail: impl Into<String>) -> Problem {
    Problem::new(ProblemKind::Busy, code, detail)
}

pub(crate) fn stopping() -> Problem {
    busy("stopping", "the service is stopping")
        .with_way_out("wait until it runs again: deft service wait")
}

/// A file that is another one than it was, with what to do about it.
pub(crate) fn changed(problem: Problem, registered: &Registered) -> Problem {
    let Registered { name, path, .. } = registered;
    problem.with_way_out(match registered.stored {
        true => format!("verify and repair its files: deft depot verify {name}"),
        false => format!("register it again: deft depot register {} --as {name}", path.display()),
    })
}

/// Something that cannot be done with files that are in use.
pub(crate) fn in_use(name: &str) -> Problem {
    let detail = format!("`{name}` is loaded, or requested to be loaded");
    Problem::new(ProblemKind::Refused, "in_use", detail)
        .with_way_out(format!("unload it first: deft unload {name}"))
}

pub(crate) fn settings(error: &SettingsError) -> Problem {
    Problem::new(ProblemKind::Invalid, "settings_out_of_range", error.to_string())
}

pub(crate) fn instances(given: u32, most: u32) -> Problem {
    let detail = format!("instances cannot be {given}: from 1 to {most}");
    Problem::new(ProblemKind::Invalid, "settings_out_of_range", detail)
}

pub(crate) fn share(given: u32, most: u32) -> Problem {
    let detail = format!("share cannot be {given}: from 1 to {most}, 100 by default");
    Problem::new(ProblemKind::Invalid, "settings_out_of_range", detail)
}

pub(crate) fn places(error: &PlacementError) -> Problem {
    let way_out = match error {
        PlacementError::NoSuchPool { .. } => "show the pools: deft status",
        PlacementError::Twice(_) => "name each pool once",
        PlacementError::Count { .. } => {
            "name one pool without a number: it takes the remaining layers"
        }
    };
    Problem::new(ProblemKind::Invalid, "places_impossible", error.to_string()).with_way_out(way_out)
}

pub(crate) fn no_such_pool(error: &NoSuchPool) -> Problem {
    Problem::new(ProblemKind::Missing, "no_pool", error.to_string())
        .with_way_out("show the pools: deft status")
}

pub(crate) fn limit(error: &ConfigError) -> Problem {
    Problem::new(ProblemKind::Invalid, "limit_out_of_range", error.to_string())
}

/// A load that is not granted; `shape` is the model's.
pub(crate) fn denial(denial: &Denial, shape: &ModelShape) -> Problem {
    match denial {
        Denial::Places(error) => places(error),
        Denial::Room(refusal) => no_room(refusal, shape),
    }
}

/// A refusal with its ways out as ready commands.
fn no_room(refusal: &Refusal, shape: &ModelShape) -> Problem {
    let mut problem = Problem::new(ProblemKind::Refused, DOES_NOT_FIT, refusal.to_string());
    problem.ways = refusal.ways_out.iter().map(|way| command(way, refusal, shape)).collect();
    problem.with_way_out(match (&refusal.shortage, &refusal.ways_out[..]) {
        (_, [_, ..]) => "any of these makes it fit:",
        (Shortage::Instances { .. }, _) => {
            "no instance is idle; wait, or raise `loading.max_instances` in the settings"
        }
        (Shortage::Memory { .. }, _) => {
            "it cannot fit at the moment: no other settings, no unloading and no higher limit would be enough"
        }
    })
}

/// The name that means one instance only: the first of several has no number of its own.
fn alone(name: &str, refusal: &Refusal) -> String {
    let further = format!("{name}#");
    let has_further = refusal.holders.iter().any(|holder| holder.name.starts_with(&further));
    if has_further { format!("{further}1") } else { name.to_owned() }
}

/// A way out as a ready command.
fn command(way: &WayOut, refusal: &Refusal, shape: &ModelShape) -> Way {
    let nothing = |command: String, effect: String| Way {
        command,
        effect,
        settings: None,
        unload: Vec::new(),
    };
    let defaults = LoadSettings::for_model(shape);
    let load = |settings: &LoadSettings, shares: &[PoolShare]| {
        wire::load_command(&refusal.name, settings, &defaults, shares)
    };
    match way {
        WayOut::Settings { settings, need } => {
            let requested: Vec<PoolShare> =
                refusal.places.iter().map(wire::requested_share).collect();
            Way {
                settings: Some(wire::memory_request(settings)),
                ..nothing(load(settings, &requested), format!("needs {need}"))
            }
        }
        WayOut::Places { places, need } => {
            let shares = wire::all_shares(places);
            let command = load(&refusal.settings, &shares);
            let settings = SettingsRequest { pools: Some(shares), ..SettingsRequest::default() };
            Way { settings: Some(settings), ..nothing(command, format!("needs {need} in total")) }
        }
        WayOut::Unload { names, frees } => {
            let names: Vec<String> = names.iter().map(|name| alone(name, refusal)).collect();
            let command = format!("deft unload {}", names.join(" "));
            Way { unload: names, ..nothing(command, format!("frees {frees}")) }
        }
        WayOut::RaiseLimit { pool, to } => {
            let mebibytes = to.0.div_ceil(1 << 20);
            nothing(
                format!("deft limit {pool} {mebibytes}MiB"),
                "the machine has enough memory for this limit".to_owned(),
            )
        }
    }
}

/// A call whose model would fit if others were not there.
pub(crate) fn no_room_for_call(refusal: &Problem, waited: Option<Duration>) -> Problem {
    let mut problem = refusal.clone();
    problem.kind = ProblemKind::Busy;
    problem.status = problem.kind.status();
    problem.code = "no_room".to_owned();
    if let Some(waited) = waited {
        let waited = waited.as_secs_f64();
        problem.detail = format!("no memory became free within {waited} s: {}", refusal.detail);
    }
    problem.retry_after_seconds = Some(ROOM_LATER);
    problem
}

pub(crate) fn not_loaded(name: &str) -> Problem {
    Problem::new(ProblemKind::Refused, "not_loaded", format!("`{name}` is not loaded"))
        .with_way_out(format!("load it: deft load {name}"))
}

pub(crate) fn draining(name: &str) -> Problem {
    busy(DRAINING, format!("`{name}` is being unloaded")).with_way_out("retry in a moment")
}

pub(crate) fn unloaded() -> Problem {
    busy("unloaded", "the model was unloaded while the call waited for it")
        .with_way_out("send the request again; it is loaded again if calls may load models")
}

pub(crate) fn load_slow(waited: Duration) -> Problem {
    busy(LOAD_SLOW, format!("the model was not ready within {} s", waited.as_secs_f64()))
        .with_way_out("retry, or show its state: deft status")
}

/// As many calls wait as may.
pub(crate) fn queue_full(most: usize, wait: Option<Duration>) -> Problem {
    let detail = match most {
        0 => "all lanes of the model are busy, and calls may not wait".to_owned(),
        most => format!("{most} calls wait for a lane of this model, the most that may"),
    };
    let problem = Problem::new(ProblemKind::Overloaded, "queue_full", detail).with_way_out(
        "retry later; or load the model with more lanes (deft load MODEL --lanes), or raise `calls.queue` in \
         the settings",
    );
    match wait.and_then(|wait| u32::try_from(wait.as_secs() + 1).ok()) {
        Some(seconds) => problem.retry_after(seconds),
        None => problem,
    }
}

/// A call that found no lane in time.
pub(crate) fn queue_slow(waited: Duration, report: &QueueReport) -> Problem {
    let detail = format!(
        "no lane of the model became free within {} s; the call was at position {} of the queue",
        waited.as_secs_f64(),
        report.position
    );
    let problem = Problem::new(ProblemKind::Overloaded, "queue_slow", detail)
        .with_way_out("retry, or load the model with more lanes: deft load MODEL --lanes");
    match report.expected.and_then(|wait| u32::try_from(wait.as_secs() + 1).ok()) {
        Some(seconds) => problem.retry_after(seconds),
        None => problem,
    }
}

pub(crate) fn loaded_otherwise(name: &str) -> Problem {
    let detail = format!("`{name}` is already loaded with other settings");
    Problem::new(ProblemKind::Refused, LOADED_OTHERWISE, detail)
}

pub(crate) fn no_instance(id: impl std::fmt::Display) -> Problem {
    Problem::new(ProblemKind::Missing, "no_instance", format!("no instance {id}"))
        .with_way_out("show loaded models: deft status")
}

pub(crate) fn ended_early() -> Problem {
    let detail = "the instance ended before it was ready";
    Problem::new(ProblemKind::Fault, "load_failed", detail)
        .with_way_out("read the reason in the log: deft service logs")
}

/// A call that ended two engine processes, the second time with no other call there.
pub(crate) fn ends_engines(name: &str) -> Problem {
    let detail = format!(
        "the engine process of `{name}` ended twice during this call, the second time without other calls; the \
         call is not retried"
    );
    Problem::new(ProblemKind::Refused, "ends_engines", detail)
        .with_way_out("change the request; read how the processes ended: deft service logs")
}

/// An instance whose process ended too often; `again` is the command that loads it as it was.
pub(crate) fn crashes(how: &str, again: &str) -> Problem {
    let detail = format!("its engine process ended repeatedly ({how})");
    Problem::new(ProblemKind::Fault, "engine_crashes", detail)
        .with_way_out(format!("read the log (deft service logs), then retry: {again}"))
}

#[cfg(test)]
mod tests;
