//! How something is to be loaded, as requests and answers say it.

use deft_planning::{
    CacheType, HOST, LoadSettings, ModelShape, Place, Placement, RequestedPlace, Share, Weights,
};
use deft_protocol::Problem;
use deft_protocol::manage::{
    CachePrecision, IdleLimit, LayerShare, PoolShare, Settings, SettingsRequest, USUAL_SHARE,
    WeightsHeld,
};

use crate::fleet::{Policy, Target};
use crate::loading::refusals;

/// Largest share of the processor: a hundred times the usual one.
const MOST_SHARE: u32 = 10_000;

/// How something is requested to be loaded.
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
        pools: places.iter().map(requested_share).collect(),
        weights: match settings.weights {
            Weights::Mapped => WeightsHeld::Mapped,
            Weights::Resident => WeightsHeld::Resident,
        },
        threads: settings.threads,
    }
}

/// The requested settings, with the model's defaults for the others.
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

/// The part of a request about staying loaded; `idle` is the default.
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

/// Where layers are requested.
pub(crate) fn places(request: &SettingsRequest) -> Vec<RequestedPlace> {
    let place = |share: &PoolShare| RequestedPlace {
        pool: share.pool.clone(),
        share: match share.layers {
            LayerShare::Count(count) => Share::Layers(count),
            LayerShare::Percent(percent) => Share::Percent(percent),
            LayerShare::Rest => Share::Rest,
        },
    };
    request.pools.iter().flatten().map(place).collect()
}

pub(crate) fn requested_share(place: &RequestedPlace) -> PoolShare {
    let layers = match place.share {
        Share::Layers(count) => LayerShare::Count(count),
        Share::Percent(percent) => LayerShare::Percent(percent),
        Share::Rest => LayerShare::Rest,
    };
    PoolShare { pool: place.pool.clone(), layers }
}

/// Layers as they are placed.
fn share_of(place: &Place) -> PoolShare {
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
