//! `deft status`.

use deft_protocol::manage::{
    ComputingReport, InstanceReport, InstanceState, Origin, Pool, ServiceStatus,
};

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Width of a pool's bar in characters.
const BAR: u64 = 40;

pub(super) async fn run(common: &Common, why: bool) -> Result<(), Failure> {
    let (status, version) = connection::client(common)?.status().await?;
    connection::note_other_version(version.as_deref());
    if common.json {
        print::json(&status);
    } else {
        print::line(text(&status));
        if why {
            print::line(format!("\n{}", decisions(&status)));
        }
    }
    Ok(())
}

fn text(status: &ServiceStatus) -> String {
    let widest = status.pools.iter().map(|pool| label(pool).len()).max().unwrap_or(0);
    let pools: Vec<String> = status.pools.iter().map(|found| pool(found, widest)).collect();
    let mut parts = vec![pools.join("\n"), computing(&status.computing)];
    parts.extend(status.tracing.iter().map(super::trace::sentence));
    if status.instances.is_empty() {
        parts.push("no model is loaded; load one: deft load MODEL".to_owned());
        return parts.join("\n\n");
    }
    let rows = status.instances.iter().map(instance).collect();
    let headers = [
        "instance",
        "state",
        "loaded by",
        "reserved",
        "measured",
        "lanes",
        "calls",
        "queue",
        "process",
    ];
    parts.push(print::table(&headers, rows, &[3, 4, 6, 7, 8]));
    let notes = status.instances.iter().filter_map(|instance| {
        let problem = instance.problem.as_ref().map(ToString::to_string);
        let note = problem.or_else(|| instance.note.clone())?;
        let since = instance.down_since.map(|since| format!("down since {}: ", print::time(since)));
        Some(format!("`{}`: {}{note}", instance.title(), since.unwrap_or_default()))
    });
    parts.extend(notes);
    parts.join("\n\n")
}

/// Processors and instructions that engines compute with.
fn computing(found: &ComputingReport) -> String {
    let processors = match found.processors {
        1 => "1 processor".to_owned(),
        count => format!("{count} processors"),
    };
    let slower = match found.slower {
        0 => String::new(),
        count => format!(" ({count} of them slower)"),
    };
    let spare = match found.spare {
        0 => String::new(),
        1 => "; 1 is reserved for the service".to_owned(),
        count => format!("; {count} are reserved for the service"),
    };
    let nodes = match found.nodes {
        0 | 1 => String::new(),
        count if found.replicated => {
            format!("; memory interleaved over {count} NUMA nodes, weights replicated on each")
        }
        count => format!("; memory interleaved over {count} NUMA nodes"),
    };
    format!("{processors}{slower} with {}{spare}{nodes}", found.kernels)
}

/// The latest decisions, oldest first.
fn decisions(status: &ServiceStatus) -> String {
    if status.decisions.is_empty() {
        return "no decisions yet".to_owned();
    }
    let lines = status.decisions.iter().rev().map(|decision| {
        let at = print::time(decision.at);
        format!("{at}  {} `{}`: {}", decision.what, decision.about, decision.why)
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// Name and kind of a pool.
fn label(pool: &Pool) -> String {
    match (pool.simulated, pool.speed) {
        (false, _) => pool.name.clone(),
        (true, None) => format!("{} (simulated)", pool.name),
        (true, Some(speed)) => format!("{} (simulated, {}/s)", pool.name, print::bytes(speed)),
    }
}

/// A pool as a bar, with its label padded to the widest.
fn pool(pool: &Pool, width: usize) -> String {
    let cells = |bytes: u64| match (bytes, pool.limit) {
        (0, _) | (_, 0) => 0,
        (bytes, limit) => {
            let share = u128::from(bytes) * u128::from(BAR) / u128::from(limit);
            u64::try_from(share).unwrap_or(BAR).clamp(1, BAR)
        }
    };
    let full = usize::try_from(cells(pool.reserved)).unwrap_or(0);
    let rest = usize::try_from(BAR).unwrap_or(0) - full;
    format!(
        "pool {:<width$}  [{}{}]  {} reserved, {} measured, limit {}{}",
        label(pool),
        "#".repeat(full),
        ".".repeat(rest),
        print::bytes(pool.reserved),
        print::bytes(pool.measured),
        print::bytes(pool.limit),
        match pool.reserved.checked_sub(pool.limit) {
            Some(excess) if excess > 0 => {
                format!("; {} above the limit, which was lowered", print::bytes(excess))
            }
            _ => String::new(),
        },
    )
}

fn instance(instance: &InstanceReport) -> Vec<String> {
    vec![
        instance.title(),
        match instance.load_share {
            Some(share) => format!("{} {:.0} %", state(instance.state), share * 100.0),
            None => state(instance.state).to_owned(),
        },
        match instance.origin {
            Origin::Requested => "operator",
            Origin::OnDemand => "a call",
        }
        .to_owned(),
        print::bytes(instance.reserved_bytes),
        instance.measured_bytes.map_or_else(String::new, print::bytes),
        format!("{} x {}", instance.settings.lanes, print::count(instance.settings.context.into())),
        instance.calls.to_string(),
        instance.queued.to_string(),
        instance.pid.map_or_else(String::new, |pid| pid.to_string()),
    ]
}

fn state(state: InstanceState) -> &'static str {
    match state {
        InstanceState::Loading => "loading",
        InstanceState::Ready => "ready",
        InstanceState::Draining => "draining",
        InstanceState::Restarting => "restarting",
        InstanceState::Evicted => "evicted",
        InstanceState::Failed => "failed",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processors_and_instructions_are_one_line() {
        let report = |processors, slower, spare, nodes| ComputingReport {
            kernels: "AVX2".into(),
            processors,
            slower,
            spare,
            nodes,
            replicated: nodes > 2,
        };
        let lines = [
            report(1, 0, 0, 1),
            report(2, 0, 0, 1),
            report(7, 0, 1, 1),
            report(12, 8, 4, 1),
            report(64, 0, 0, 2),
            report(64, 0, 0, 4),
        ];
        insta::assert_snapshot!(lines.map(|line| computing(&line)).join("\n"), @r"
        1 processor with AVX2
        2 processors with AVX2
        7 processors with AVX2; 1 is reserved for the service
        12 processors (8 of them slower) with AVX2; 4 are reserved for the service
        64 processors with AVX2; memory interleaved over 2 NUMA nodes
        64 processors with AVX2; memory interleaved over 4 NUMA nodes, weights replicated on each
        ");
    }

    #[test]
    fn a_pool_is_drawn_by_what_is_reserved() {
        let host = |reserved| Pool {
            name: "host".into(),
            limit: 4000,
            reserved,
            measured: 900,
            simulated: false,
            speed: None,
        };
        assert!(pool(&host(0), 4).contains("[........................................]"));
        assert!(pool(&host(1000), 4).contains("[##########......"));
        assert!(pool(&host(1), 4).contains("[#......"), "one cell, however small the amount");
        let over = pool(&host(9000), 4);
        assert!(over.contains("[########################################]"), "{over}");
        assert!(over.contains("above the limit"), "{over}");
        let fern = Pool { simulated: true, speed: Some(2 << 30), ..host(0) };
        assert!(pool(&fern, 30).contains("(simulated, 2.00 GiB/s)  "));
    }
}
