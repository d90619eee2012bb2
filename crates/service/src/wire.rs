//! Between the types on the wire and those of the rooms below: the only place that knows both.

use deft_depot::DepotError;
use deft_planning::{CacheType, Demand, LoadSettings, ModelShape, Refusal, SettingsError};
use deft_protocol::manage::{CachePrecision, PlanPart, Settings, SettingsRequest, Variant};
use deft_protocol::{Problem, ProblemKind};

use crate::records::variants::Registered;

pub(crate) fn settings(settings: &LoadSettings) -> Settings {
    Settings {
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

pub(crate) fn request_of(settings: &Settings) -> SettingsRequest {
    SettingsRequest {
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

pub(crate) fn refusal(refusal: &Refusal) -> Problem {
    let ways: Vec<String> = refusal.ways_out.iter().map(ToString::to_string).collect();
    let plain = Refusal { ways_out: Vec::new(), ..refusal.clone() };
    Problem::new(ProblemKind::Refused, "does_not_fit", plain.to_string())
        .with_way_out(format!("what would make it fit: {}", ways.join("; or ")))
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
