//! Plans, with their reasons and the commands that carry them out.

use std::fmt::Write;

use deft_planning::{Demand, Grant, HOST, LoadSettings, Weights};
use deft_protocol::manage::{
    IdleLimit, ModelPlan, Origin, PlanPart, PoolShare, Settings, USUAL_SHARE,
};

use super::settings::{requested_share, settings, shares};
use crate::fleet::Target;
use crate::fleet::Verdict;

/// The plan of several instances, from the verdict about each.
pub(crate) fn plan(
    target: &Target,
    instances: u32,
    verdicts: &[Verdict],
    is_simulated: impl Fn(&str) -> bool,
) -> ModelPlan {
    let Some((grant, _)) = verdicts.first() else {
        unreachable!("there is at least one instance");
    };
    let refused = verdicts.iter().position(|(_, refusal)| refusal.is_some());
    let refusal = refused.and_then(|at| {
        let mut refusal = verdicts[at].1.clone()?;
        if at > 0 {
            refusal.detail = format!("{at} of {instances} instances fit; {}", refusal.detail);
        }
        Some(refusal)
    });
    ModelPlan {
        name: target.name.to_string(),
        settings: Settings { pools: shares(&grant.placement), ..settings(target) },
        instances,
        command: match instances {
            1 => command_of(target),
            instances => format!("{} --instances {instances}", command_of(target)),
        },
        parts: parts(&grant.demand),
        total: grant.demand.total().0,
        notes: notes(target, grant, is_simulated),
        refusal,
    }
}

/// Why a load was granted, with its figures.
pub(crate) fn reasons(grant: &Grant, origin: Origin) -> String {
    let places = grant.placement.0.iter().map(|place| {
        let planned = grant.demand.amount(&place.pool);
        format!("{} in pool `{}`", planned.shared + planned.private, place.pool)
    });
    let mut places: Vec<String> = places.collect();
    if !grant.placement.0.iter().any(|place| place.pool == HOST) {
        let planned = grant.demand.amount(HOST);
        places.push(format!("{} in pool `{HOST}`", planned.shared + planned.private));
    }
    let who = match origin {
        Origin::Requested => "requested by the operator",
        Origin::OnDemand => "loaded for a call",
    };
    format!("{who}; needs {}", places.join(", "))
}

/// What an operator should know of a plan.
fn notes(target: &Target, grant: &Grant, is_simulated: impl Fn(&str) -> bool) -> Vec<String> {
    let mut notes = Vec::new();
    if target.settings.weights == Weights::Mapped && target.settings.replicas == 0 {
        notes.push(
            "weights are memory-mapped: the system may evict them when memory is short and read them again from \
             disk"
                .to_owned(),
        );
    }
    for place in grant.placement.0.iter().filter(|place| is_simulated(&place.pool)) {
        notes.push(format!(
            "pool `{}` is simulated: its memory is counted, but the processor computes",
            place.pool
        ));
    }
    notes
}

pub(crate) fn parts(demand: &Demand) -> Vec<PlanPart> {
    let part = |part: &deft_planning::Part| PlanPart {
        pool: part.pool.clone(),
        part: part.kind.to_string(),
        bytes: part.bytes.0,
    };
    demand.parts.iter().map(part).collect()
}

/// The command that loads with these settings, without those that are defaults.
pub(crate) fn load_command(
    name: &str,
    settings: &LoadSettings,
    defaults: &LoadSettings,
    shares: &[PoolShare],
) -> String {
    let mut command = format!("deft load {name}");
    let mut flag = |name: &str, value: &dyn std::fmt::Display, differs: bool| {
        if differs {
            // Writing to a String does not fail.
            let _ = write!(command, " --{name} {value}");
        }
    };
    flag("context", &settings.context, settings.context != defaults.context);
    flag("lanes", &settings.lanes, settings.lanes != defaults.lanes);
    let together = settings.cache_tokens;
    flag("cache-tokens", &together.unwrap_or(0), together.is_some());
    flag("chunk", &settings.chunk, settings.chunk != defaults.chunk);
    flag("cache", &settings.keys.name(), settings.keys != defaults.keys);
    let values_apart = settings.values != settings.keys;
    flag("cache-values", &settings.values.name(), values_apart);
    let shares = shares.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
    flag("in", &shares, !shares.is_empty());
    flag("weights", &"resident", settings.weights == Weights::Resident);
    flag("threads", &settings.threads.unwrap_or(1), settings.threads.is_some());
    command
}

/// The command that loads as requested.
pub(crate) fn command_of(target: &Target) -> String {
    let Target { settings, policy, places, .. } = target;
    let defaults = LoadSettings::for_model(&target.shape);
    let shares: Vec<PoolShare> = places.iter().map(requested_share).collect();
    let mut command = load_command(&target.name.to_string(), settings, &defaults, &shares);
    let mut add = |text: String, differs: bool| {
        if differs {
            command.push_str(&text);
        }
    };
    add(" --pinned".to_owned(), policy.pinned);
    add(format!(" --importance {}", policy.importance), policy.importance != 0);
    add(format!(" --share {}", policy.share), policy.share != USUAL_SHARE);
    add(format!(" --idle {}", policy.idle), policy.idle != IdleLimit::Never);
    command
}
