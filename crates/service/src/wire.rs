//! Between the types on the wire and those of the rooms below: the only place that knows both.

use std::fmt::Write;

use deft_depot::DepotError;
use deft_planning::{CacheType, Demand, LoadSettings, ModelShape, Refusal, SettingsError, WayOut};
use deft_protocol::manage::{
    CachePrecision, IdleLimit, PlanPart, Settings, SettingsRequest, Variant,
};
use deft_protocol::{Problem, ProblemKind, Way};

use crate::fleet::instance::Policy;
use crate::records::variants::Registered;

pub(crate) fn settings(settings: &LoadSettings, policy: Policy) -> Settings {
    Settings {
        pinned: policy.pinned,
        priority: policy.priority,
        idle: policy.idle,
        context: settings.context,
        lanes: settings.lanes,
        chunk: settings.chunk,
        cache: precision(settings.keys),
        cache_values: precision(settings.values),
    }
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
        chunk: request.chunk.unwrap_or(defaults.chunk),
        keys: request.cache.map_or(defaults.keys, cache_type),
        values: request.cache_values.or(request.cache).map_or(defaults.values, cache_type),
    };
    settings.check(shape).map_err(|error| settings_problem(&error))?;
    Ok(settings)
}

/// The part of a request that is about staying loaded; `idle` where nothing is said.
pub(crate) fn policy(request: &SettingsRequest, idle: IdleLimit) -> Policy {
    Policy {
        pinned: request.pinned.unwrap_or(false),
        priority: request.priority.unwrap_or(0),
        idle: request.idle.unwrap_or(idle),
    }
}

pub(crate) fn request_of(settings: &Settings) -> SettingsRequest {
    SettingsRequest {
        pinned: Some(settings.pinned),
        priority: Some(settings.priority),
        idle: Some(settings.idle),
        context: Some(settings.context),
        lanes: Some(settings.lanes),
        chunk: Some(settings.chunk),
        cache: Some(settings.cache),
        cache_values: Some(settings.cache_values),
    }
}

fn settings_problem(error: &SettingsError) -> Problem {
    Problem::new(ProblemKind::Invalid, "settings_out_of_range", error.to_string())
}

pub(crate) fn parts(demand: &Demand) -> Vec<PlanPart> {
    let part =
        |part: &deft_planning::Part| PlanPart { part: part.kind.to_string(), bytes: part.bytes.0 };
    demand.parts.iter().map(part).collect()
}

/// A refusal with its ways out as ready commands; `shape` is the model's.
pub(crate) fn refusal(refusal: &Refusal, shape: &ModelShape) -> Problem {
    let mut problem = Problem::new(ProblemKind::Refused, "does_not_fit", refusal.to_string());
    problem.ways = refusal.ways_out.iter().filter_map(|way| command(way, refusal, shape)).collect();
    let limit = refusal.ways_out.iter().find_map(|way| match way {
        WayOut::RaiseLimit { to } => Some(to),
        _ => None,
    });
    problem.with_way_out(match limit {
        Some(to) => format!(
            "what would make it fit: a limit of {to} or more for pool `{}`, in the settings",
            refusal.pool
        ),
        None => "what would make it fit:".to_owned(),
    })
}

/// A way out as a ready command, where it is one.
fn command(way: &WayOut, refusal: &Refusal, shape: &ModelShape) -> Option<Way> {
    Some(match way {
        WayOut::Settings { settings, need } => {
            let request = memory_request(settings);
            Way {
                command: load_command(&refusal.name, settings, &LoadSettings::for_model(shape)),
                effect: format!("then it needs {need}"),
                settings: Some(request),
                unload: Vec::new(),
            }
        }
        WayOut::Unload { names, frees } => Way {
            command: format!("deft unload {}", names.join(" ")),
            effect: format!("frees {frees}"),
            settings: None,
            unload: names.clone(),
        },
        WayOut::RaiseLimit { .. } => return None,
    })
}

/// A request that says what memory depends on, and nothing of staying loaded.
fn memory_request(settings: &LoadSettings) -> SettingsRequest {
    SettingsRequest {
        context: Some(settings.context),
        lanes: Some(settings.lanes),
        chunk: Some(settings.chunk),
        cache: Some(precision(settings.keys)),
        cache_values: Some(precision(settings.values)),
        ..SettingsRequest::default()
    }
}

/// The command that loads with these settings; what is a default anyway is left out.
fn load_command(name: &str, settings: &LoadSettings, defaults: &LoadSettings) -> String {
    let mut command = format!("deft load {name}");
    let mut flag = |name: &str, value: &dyn std::fmt::Display, differs: bool| {
        if differs {
            // Writing to a String does not fail.
            let _ = write!(command, " --{name} {value}");
        }
    };
    flag("context", &settings.context, settings.context != defaults.context);
    flag("lanes", &settings.lanes, settings.lanes != defaults.lanes);
    flag("chunk", &settings.chunk, settings.chunk != defaults.chunk);
    flag("cache", &settings.keys.name(), settings.keys != defaults.keys);
    let values_apart = settings.values != settings.keys;
    flag("cache-values", &settings.values.name(), values_apart);
    command
}

pub(crate) fn depot_problem(error: &DepotError) -> Problem {
    let (kind, code) = match error {
        DepotError::NoFile { .. } => (ProblemKind::Missing, "file_missing"),
        DepotError::NotAFile { .. } => (ProblemKind::Invalid, "not_a_file"),
        DepotError::Read { .. } => (ProblemKind::Invalid, "file_unreadable"),
        DepotError::Refused { .. } => (ProblemKind::Refused, "file_refused"),
        DepotError::Changed { .. } => (ProblemKind::Refused, "file_changed"),
    };
    Problem::new(kind, code, error.to_string())
}

pub(crate) fn variant(registered: &Registered, loaded: bool) -> Variant {
    Variant {
        name: registered.name.to_string(),
        model: registered.name.model.clone(),
        variant: registered.name.variant.clone(),
        path: registered.path.display().to_string(),
        file_bytes: registered.stamp.bytes,
        registered_at: registered.registered_at,
        loaded,
        facts: registered.facts.clone(),
    }
}

#[cfg(test)]
mod tests {
    use deft_planning::{Bytes, Holder};

    use super::*;

    fn shape() -> ModelShape {
        ModelShape {
            file: Bytes(1_993_568),
            layers: 5,
            heads: 6,
            kv_heads: 2,
            key_length: 32,
            value_length: 80,
            context_length: 1024,
            ..ModelShape::default()
        }
    }

    #[test]
    fn what_was_not_named_gets_the_models_defaults() {
        let plain = load_settings(&SettingsRequest::default(), &shape()).unwrap();
        assert_eq!((plain.context, plain.lanes), (1024, 2));
        assert_eq!((plain.keys, plain.values), (CacheType::F16, CacheType::F16));
        let request = SettingsRequest { cache: Some(CachePrecision::F32), ..Default::default() };
        let both = load_settings(&request, &shape()).unwrap();
        assert_eq!((both.keys, both.values), (CacheType::F32, CacheType::F32));
        let request = SettingsRequest {
            cache: Some(CachePrecision::Q8_0),
            cache_values: Some(CachePrecision::F16),
            ..Default::default()
        };
        let apart = load_settings(&request, &shape()).unwrap();
        assert_eq!((apart.keys, apart.values), (CacheType::Q8_0, CacheType::F16));
    }

    #[test]
    fn settings_return_as_they_were() {
        let request = SettingsRequest { lanes: Some(3), chunk: Some(64), ..Default::default() };
        let loaded = load_settings(&request, &shape()).unwrap();
        let kept = Policy { pinned: true, priority: 3, idle: IdleLimit::Seconds(90) };
        let request = request_of(&settings(&loaded, kept));
        assert_eq!(load_settings(&request, &shape()).unwrap(), loaded);
        assert_eq!(policy(&request, IdleLimit::Never), kept);
    }

    #[test]
    fn settings_out_of_range_are_invalid_and_named() {
        for (request, part) in [
            (SettingsRequest { context: Some(9999), ..Default::default() }, "context 9999"),
            (SettingsRequest { lanes: Some(0), ..Default::default() }, "lanes 0"),
            (
                SettingsRequest { cache: Some(CachePrecision::Q8_0), ..Default::default() },
                "80 values",
            ),
        ] {
            let problem = load_settings(&request, &shape()).unwrap_err();
            assert_eq!(problem.code, "settings_out_of_range");
            assert!(problem.detail.contains(part), "{problem}");
        }
    }

    #[test]
    fn a_command_says_what_is_no_default() {
        let defaults = LoadSettings::for_model(&shape());
        let command = |settings: LoadSettings| load_command("desk/q8_0", &settings, &defaults);
        assert_eq!(command(defaults), "deft load desk/q8_0");
        let narrow = LoadSettings { keys: CacheType::Q8_0, values: CacheType::Q8_0, ..defaults };
        assert_eq!(command(narrow), "deft load desk/q8_0 --cache q8_0");
        let mixed = LoadSettings { keys: CacheType::Q8_0, lanes: 5, context: 256, ..defaults };
        assert_eq!(
            command(mixed),
            "deft load desk/q8_0 --context 256 --lanes 5 --cache q8_0 --cache-values f16"
        );
    }

    #[test]
    fn a_limit_that_is_too_low_for_anything_is_told_and_is_no_command() {
        let refused = Refusal {
            name: "larkfen-leaf/f16".to_owned(),
            pool: "host".to_owned(),
            need: Bytes::mib(90),
            free: Bytes::mib(12),
            limit: Bytes::mib(12),
            holders: Vec::new(),
            ways_out: vec![WayOut::RaiseLimit { to: Bytes::mib(90) }],
        };
        let problem = refusal(&refused, &shape());
        assert!(problem.ways.is_empty());
        assert!(problem.way_out.unwrap().contains("a limit of 90.0 MiB or more for pool `host`"));
    }

    #[test]
    fn a_refusal_names_who_holds_the_memory_and_the_ways_out() {
        let holder = Holder { name: "larkfen-desk/q8_0".into(), bytes: Bytes::mib(8), idle: true };
        let refused = Refusal {
            name: "larkfen-leaf/f16".to_owned(),
            pool: "host".to_owned(),
            need: Bytes::mib(9),
            free: Bytes::mib(4),
            limit: Bytes::mib(12),
            holders: vec![holder],
            ways_out: vec![
                WayOut::Settings {
                    settings: LoadSettings { lanes: 1, ..LoadSettings::for_model(&shape()) },
                    need: Bytes::mib(4),
                },
                WayOut::Unload { names: vec!["larkfen-desk/q8_0".into()], frees: Bytes::mib(8) },
            ],
        };
        let problem = refusal(&refused, &shape());
        assert_eq!((problem.kind, problem.code.as_str()), (ProblemKind::Refused, "does_not_fit"));
        assert!(problem.detail.contains("held by `larkfen-desk/q8_0` 8.00 MiB"), "{problem}");
        let commands: Vec<&str> = problem.ways.iter().map(|way| way.command.as_str()).collect();
        assert_eq!(
            commands,
            ["deft load larkfen-leaf/f16 --lanes 1", "deft unload larkfen-desk/q8_0"]
        );
        assert_eq!(problem.ways[0].settings.as_ref().and_then(|settings| settings.lanes), Some(1));
        assert_eq!(problem.ways[1].unload, ["larkfen-desk/q8_0"]);
        assert!(!problem.detail.contains("--lanes"), "ways out are told once");
    }
}
