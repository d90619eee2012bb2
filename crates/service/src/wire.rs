//! Between the types on the wire and those of the rooms below: the only place that knows both.

use std::fmt::Write;
use std::time::Duration;

use deft_depot::{
    DepotError, FileRole, NamedFileError, RemoteError, Source, SourceError, StoreError,
};
use deft_planning::{
    CacheType, Demand, Grant, HOST, LoadSettings, ModelShape, Place, Placement, Share, Weights,
    WishedPlace,
};
use deft_protocol::manage::{
    CachePrecision, IdleLimit, LayerShare, ModelPlan, Origin, PlanPart, PoolShare, Settings,
    SettingsRequest, USUAL_SHARE, Variant, WeightsHeld,
};
use deft_protocol::{Problem, ProblemKind};

use crate::fleet::Verdict;
use crate::fleet::instance::{Policy, Target};
use crate::records::calls::Use;
use crate::records::variants::Registered;
use crate::refusals;

/// Largest share of the processor: a hundred times the usual one.
const MOST_SHARE: u32 = 10_000;

/// How something is wished to be loaded.
pub(crate) fn settings(target: &Target) -> Settings {
    let Target { settings, policy, places, .. } = target;
    Settings {
        pinned: policy.pinned,
        importance: policy.importance,
        share: policy.share,
        idle: policy.idle,
        context: settings.context,
        lanes: settings.lanes,
        cache_tokens: settings.cache_tokens,
        chunk: settings.chunk,
        cache: precision(settings.keys),
        cache_values: precision(settings.values),
        pools: places.iter().map(wish_share).collect(),
        weights: match settings.weights {
            Weights::Mapped => WeightsHeld::Mapped,
            Weights::Resident => WeightsHeld::Resident,
        },
        threads: settings.threads,
    }
}

/// Where layers are wished.
pub(crate) fn places(request: &SettingsRequest) -> Vec<WishedPlace> {
    let place = |share: &PoolShare| WishedPlace {
        pool: share.pool.clone(),
        share: match share.layers {
            LayerShare::Count(count) => Share::Layers(count),
            LayerShare::Percent(percent) => Share::Percent(percent),
            LayerShare::Rest => Share::Rest,
        },
    };
    request.pools.iter().flatten().map(place).collect()
}

pub(crate) fn wish_share(place: &WishedPlace) -> PoolShare {
    let layers = match place.share {
        Share::Layers(count) => LayerShare::Count(count),
        Share::Percent(percent) => LayerShare::Percent(percent),
        Share::Rest => LayerShare::Rest,
    };
    PoolShare { pool: place.pool.clone(), layers }
}

/// Layers as they are placed.
pub(crate) fn share_of(place: &Place) -> PoolShare {
    PoolShare { pool: place.pool.clone(), layers: LayerShare::Count(place.layers) }
}

/// All places; one alone needs no number.
pub(crate) fn all_shares(placement: &Placement) -> Vec<PoolShare> {
    match &placement.0[..] {
        [only] => vec![PoolShare { pool: only.pool.clone(), layers: LayerShare::Rest }],
        places => places.iter().map(share_of).collect(),
    }
}

/// All places; none where everything is in host memory.
pub(crate) fn shares(placement: &Placement) -> Vec<PoolShare> {
    match &placement.0[..] {
        [only] if only.pool == HOST => Vec::new(),
        places => places.iter().map(share_of).collect(),
    }
}

/// The plan of so many instances, by what was judged of each.
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
pub(crate) fn notes(
    target: &Target,
    grant: &Grant,
    is_simulated: impl Fn(&str) -> bool,
) -> Vec<String> {
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

fn precision(cache: CacheType) -> CachePrecision {
    match cache {
        CacheType::F32 => CachePrecision::F32,
        CacheType::F16 => CachePrecision::F16,
        CacheType::Q8_0 => CachePrecision::Q8_0,
    }
}

fn cache_type(precision: CachePrecision) -> CacheType {
    match precision {
        CachePrecision::F32 => CacheType::F32,
        CachePrecision::F16 => CacheType::F16,
        CachePrecision::Q8_0 => CacheType::Q8_0,
    }
}

/// Settings as wished, the model's defaults standing in for what was not named.
pub(crate) fn load_settings(
    request: &SettingsRequest,
    shape: &ModelShape,
) -> Result<LoadSettings, Problem> {
    let defaults = LoadSettings::for_model(shape);
    let settings = LoadSettings {
        context: request.context.unwrap_or(defaults.context),
        lanes: request.lanes.unwrap_or(defaults.lanes),
        cache_tokens: request.cache_tokens,
        chunk: request.chunk.unwrap_or(defaults.chunk),
        keys: request.cache.map_or(defaults.keys, cache_type),
        values: request.cache_values.or(request.cache).map_or(defaults.values, cache_type),
        weights: match request.weights.unwrap_or_default() {
            WeightsHeld::Mapped => Weights::Mapped,
            WeightsHeld::Resident => Weights::Resident,
        },
        // The machine decides, not the request.
        replicas: 0,
        threads: request.threads,
    };
    settings.check(shape).map_err(|error| refusals::settings(&error))?;
    Ok(settings)
}

/// The part of a request that is about staying loaded; `idle` where nothing is said.
///
/// # Errors
/// The share of the processor is none.
pub(crate) fn policy(request: &SettingsRequest, idle: IdleLimit) -> Result<Policy, Problem> {
    let share = request.share.unwrap_or(USUAL_SHARE);
    if !(1..=MOST_SHARE).contains(&share) {
        return Err(refusals::share(share, MOST_SHARE));
    }
    Ok(Policy {
        pinned: request.pinned.unwrap_or(false),
        importance: request.importance.unwrap_or(0),
        share,
        idle: request.idle.unwrap_or(idle),
    })
}

pub(crate) fn parts(demand: &Demand) -> Vec<PlanPart> {
    let part = |part: &deft_planning::Part| PlanPart {
        pool: part.pool.clone(),
        part: part.kind.to_string(),
        bytes: part.bytes.0,
    };
    demand.parts.iter().map(part).collect()
}

/// A request that says what memory depends on, and nothing of staying loaded.
pub(crate) fn memory_request(settings: &LoadSettings) -> SettingsRequest {
    SettingsRequest {
        context: Some(settings.context),
        lanes: Some(settings.lanes),
        cache_tokens: settings.cache_tokens,
        chunk: Some(settings.chunk),
        cache: Some(precision(settings.keys)),
        cache_values: Some(precision(settings.values)),
        ..SettingsRequest::default()
    }
}

/// The command that loads with these settings; what is a default anyway is left out.
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

/// The command that loads as something was wished.
pub(crate) fn command_of(target: &Target) -> String {
    let Target { settings, policy, places, .. } = target;
    let defaults = LoadSettings::for_model(&target.shape);
    let shares: Vec<PoolShare> = places.iter().map(wish_share).collect();
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

pub(crate) fn depot_problem(error: &DepotError) -> Problem {
    let (kind, code) = match error {
        DepotError::NoFile { .. } => (ProblemKind::Missing, "file_missing"),
        DepotError::NotAFile { .. } => (ProblemKind::Invalid, "not_a_file"),
        DepotError::Read { .. } => (ProblemKind::Invalid, "file_unreadable"),
        DepotError::Refused { .. } => (ProblemKind::Refused, "file_refused"),
        DepotError::Changed { .. } => (ProblemKind::Refused, refusals::FILE_CHANGED),
        DepotError::Checkpoint { .. } => (ProblemKind::Refused, "file_refused"),
        DepotError::Unconverted { .. } => (ProblemKind::Refused, "not_converted"),
        DepotError::Link(_) => (ProblemKind::Refused, "link_refused"),
        DepotError::NotAProjector { .. } => (ProblemKind::Refused, "projector_unusable"),
        DepotError::NotATemplate { .. } => (ProblemKind::Refused, "template_unusable"),
    };
    Problem::new(kind, code, error.to_string())
}

pub(crate) fn store_problem(error: &StoreError) -> Problem {
    let (kind, code) = match error {
        StoreError::Locked(_) => (ProblemKind::Refused, "depot_locked"),
        StoreError::Io { .. } => (ProblemKind::Fault, "depot_io"),
        StoreError::NoSpace { .. } => (ProblemKind::Refused, "disk_full"),
        StoreError::Cancelled => (ProblemKind::Refused, "cancelled"),
        StoreError::Taken(_) => (ProblemKind::Refused, "name_taken"),
        StoreError::NoVariant(_) => (ProblemKind::Missing, "not_stored"),
        StoreError::FileThere(_) => (ProblemKind::Refused, "file_there"),
        StoreError::Named(NamedFileError::Absent(_)) => (ProblemKind::Missing, "file_missing"),
        StoreError::Named(NamedFileError::Link { .. }) => (ProblemKind::Refused, "link_refused"),
        StoreError::Named(_) => (ProblemKind::Invalid, "file_unreadable"),
        StoreError::NotUnderstood { .. }
        | StoreError::OtherForm { .. }
        | StoreError::MarkerUnusable { .. } => (ProblemKind::Refused, "not_understood"),
    };
    Problem::new(kind, code, error.to_string())
}

/// What a file is for, in a word.
pub(crate) const fn role(role: FileRole) -> &'static str {
    match role {
        FileRole::Weights => "weights",
        FileRole::Projector => "projector",
        FileRole::Config => "config",
        FileRole::Template => "template",
    }
}

/// Why a source does not give what is asked for, with the way out.
pub(crate) fn source_problem(error: &SourceError, source: Option<&Source>) -> Problem {
    let problem = |kind, code: &str| Problem::new(kind, code, error.to_string());
    match error {
        SourceError::Remote(error) => remote_problem(error, source),
        SourceError::Index(_) => problem(ProblemKind::Refused, "index_unusable"),
        SourceError::Folder(error) => depot_problem(error),
        SourceError::NoModel { .. } => problem(ProblemKind::Missing, "no_offer")
            .with_way_out("search the sources: deft depot search WORDS"),
        SourceError::Several { .. } => problem(ProblemKind::Invalid, "offer_ambiguous")
            .with_way_out("name the variant too: SOURCE:MODEL/VARIANT"),
        SourceError::NotListed { source_name } => problem(ProblemKind::Refused, "not_listed")
            .with_way_out(format!(
                "name a repository: deft depot preview {source_name}:REPOSITORY"
            )),
        SourceError::Git { .. } => problem(ProblemKind::Fault, "git_failed"),
        SourceError::GitSentOn { .. } => problem(ProblemKind::Refused, "source_sends_on"),
        SourceError::Registry { .. } => problem(ProblemKind::Refused, "registry_unusable"),
        SourceError::Wrong(_) => problem(ProblemKind::Refused, "offer_unusable"),
    }
}

/// Why another machine's file cannot be had, with the way out.
pub(crate) fn remote_problem(error: &RemoteError, source: Option<&Source>) -> Problem {
    let problem = |kind, code: &str| Problem::new(kind, code, error.to_string());
    let token = || match source {
        Some(Source { name, address, .. }) => {
            format!("set a token: deft source add {name} '{address}' --ask-token")
        }
        None => {
            "add the address as a source with a token: deft source add NAME ADDRESS --ask-token"
                .to_owned()
        }
    };
    let later = |problem: Problem, later: Option<Duration>| match later {
        None => problem,
        Some(later) => {
            let seconds = u32::try_from(later.as_secs()).unwrap_or(u32::MAX);
            problem.retry_after(seconds)
        }
    };
    match error {
        RemoteError::Unauthorized { .. } => {
            problem(ProblemKind::Refused, "token_refused").with_way_out(token())
        }
        RemoteError::Forbidden { .. } => {
            problem(ProblemKind::Refused, "access_refused").with_way_out(token())
        }
        RemoteError::NotFound { .. } => problem(ProblemKind::Missing, "not_there"),
        RemoteError::TooMany { later: when, .. } => {
            later(problem(ProblemKind::Busy, "asked_too_often"), *when)
        }
        RemoteError::Status { later: when, .. } => {
            later(problem(ProblemKind::Busy, "place_troubled"), *when)
        }
        RemoteError::Unreachable { .. } => problem(ProblemKind::Down, "place_unreachable")
            .with_way_out("what was downloaded is kept; retry when the address can be reached"),
        RemoteError::Store(error) => store_problem(error),
        RemoteError::Cancelled => problem(ProblemKind::Refused, "cancelled"),
        RemoteError::SecretUnusable => problem(ProblemKind::Invalid, "token_unusable"),
        RemoteError::CaFile { .. } | RemoteError::Setup(_) => {
            problem(ProblemKind::Fault, "connections_impossible")
        }
        RemoteError::WrongDigest { .. } => problem(ProblemKind::Refused, "digest_wrong")
            .with_way_out("retry; if it fails again, tell the operator of that source"),
        RemoteError::RangeRefused { .. } | RemoteError::Changed { .. } => {
            problem(ProblemKind::Refused, "content_changing").with_way_out("retry later")
        }
        RemoteError::RedirectLoop { .. }
        | RemoteError::Downgrade { .. }
        | RemoteError::Page { .. }
        | RemoteError::Confused { .. }
        | RemoteError::WrongLength { .. }
        | RemoteError::Empty { .. } => problem(ProblemKind::Refused, "content_unusable"),
    }
}

pub(crate) fn variant(registered: &Registered, loaded: bool, used: Use) -> Variant {
    Variant {
        name: registered.name.to_string(),
        model: registered.name.model.clone(),
        variant: registered.name.variant.clone(),
        path: registered.path.display().to_string(),
        file_bytes: registered.stamp.bytes,
        registered_at: registered.registered_at,
        loaded,
        stored: registered.stored,
        last_used: used.last,
        calls: used.calls,
        facts: registered.facts.clone(),
    }
}

#[cfg(test)]
mod tests;
