use serde_json::json;

use super::*;

#[test]
fn settings_that_nobody_knows_are_refused() {
    let settings = |value| serde_json::from_value::<SettingsRequest>(value);
    let known = settings(json!({"context": 512, "cache": "q8_0", "cache_values": "f16"})).unwrap();
    assert_eq!(known.cache, Some(CachePrecision::Q8_0));
    assert_eq!(known.cache_values, Some(CachePrecision::F16));
    let error = settings(json!({"contxt": 512})).unwrap_err().to_string();
    assert!(error.contains("`contxt`") && error.contains("`context`"), "{error}");
    assert!(settings(json!({"cache": "q2"})).is_err());
}

#[test]
fn precisions_are_written_as_operators_write_them() {
    for precision in [CachePrecision::F32, CachePrecision::F16, CachePrecision::Q8_0] {
        assert_eq!(json!(precision), precision.name());
    }
}

#[test]
fn idle_limits_are_words_or_times() {
    for (text, limit) in [
        ("never", IdleLimit::Never),
        ("answered", IdleLimit::Answered),
        ("90s", IdleLimit::Seconds(90)),
        ("10m", IdleLimit::Seconds(600)),
        ("90m", IdleLimit::Seconds(5400)),
    ] {
        assert_eq!(text.parse(), Ok(limit));
        assert_eq!(limit.to_string(), text);
        assert_eq!(serde_json::from_value::<IdleLimit>(json!(text)).unwrap(), limit);
    }
    for hours in ["2h", "1h 60m", "1h60min"] {
        assert_eq!(hours.parse(), Ok(IdleLimit::Seconds(7200)), "{hours}");
    }
    for wrong in ["", "soon", "0s", "-1m", "10", "99999999999999999999h"] {
        assert!(wrong.parse::<IdleLimit>().unwrap_err().contains("`never`"), "{wrong}");
    }
}

#[test]
fn settings_of_an_older_version_are_understood() {
    let stored = json!({"context": 512, "lanes": 2, "chunk": 128, "cache": "f16"});
    let settings: Settings = serde_json::from_value(stored).unwrap();
    assert_eq!((settings.pinned, settings.importance), (false, 0));
    assert_eq!((settings.idle, settings.cache_values), (IdleLimit::Never, CachePrecision::F16));
}

/// Records outlive versions: facts that an older version stored lack what came later.
#[test]
fn facts_of_an_older_version_are_understood() {
    let facts: ModelFacts = serde_json::from_value(json!({
        "family": "llama", "name": null, "parameters": 5, "mix": [], "quantisation": "q8_0",
        "context_length": 64, "layers": 1, "heads": 2, "kv_heads": 1, "width": 16,
        "vocabulary": 300, "tokenizer": "sentencepiece", "has_template": false,
        "licence": null, "description": null,
    }))
    .unwrap();
    assert!(facts.serves.is_empty() && facts.special_tokens.is_empty());
    assert_eq!((facts.files, facts.window), (0, None));
}

#[test]
fn pools_are_written_with_their_layers() {
    for (text, layers) in [
        ("fern", LayerShare::Rest),
        ("fern=12", LayerShare::Count(12)),
        ("fern=50%", LayerShare::Percent(50)),
    ] {
        let share = PoolShare { pool: "fern".to_owned(), layers };
        assert_eq!(text.parse(), Ok(share.clone()));
        assert_eq!(json!(share), text);
    }
    for wrong in ["", "=3", "fern=", "fern=-1", "fern=101%", "fern=half"] {
        assert!(wrong.parse::<PoolShare>().unwrap_err().contains("`fern=12`"), "{wrong}");
    }
    let error = serde_json::from_value::<SettingsRequest>(json!({"pools": ["fern=x"]}));
    assert!(error.unwrap_err().to_string().contains("`fern=x`"));
}

#[test]
fn further_instances_of_a_variant_have_a_number() {
    assert_eq!(instance_title("larkfen-desk/q8_0", 1), "larkfen-desk/q8_0");
    assert_eq!(instance_title("larkfen-desk/q8_0", 3), "larkfen-desk/q8_0#3");
}

#[test]
fn what_is_said_counts_before_what_is_usual() {
    let usual = SettingsRequest {
        context: Some(256),
        lanes: Some(3),
        cache: Some(CachePrecision::Q8_0),
        cache_values: Some(CachePrecision::F32),
        ..SettingsRequest::default()
    };
    let said = SettingsRequest {
        lanes: Some(1),
        cache: Some(CachePrecision::F16),
        ..SettingsRequest::default()
    };
    let both = said.or(&usual);
    assert_eq!((both.context, both.lanes), (Some(256), Some(1)));
    assert_eq!((both.cache, both.cache_values), (Some(CachePrecision::F16), None));
    assert_eq!(SettingsRequest::default().or(&usual), usual);
}

/// After an upgrade the command line asks the service of the version before, which must be restarted; and the service
/// reads settings that it stored then.
#[test]
fn what_the_version_before_wrote_is_read() {
    let settings = json!({
        "context": 256, "lanes": 3, "chunk": 128, "cache": "f16", "priority": 4, "pinned": true,
    });
    let stored: Settings = serde_json::from_value(settings.clone()).unwrap();
    assert_eq!((stored.importance, stored.pinned), (4, true));
    let defaults: SettingsRequest = serde_json::from_value(json!({"priority": -2})).unwrap();
    assert_eq!(defaults.importance, Some(-2));
    let report: InstanceReport = serde_json::from_value(json!({
        "id": "018f0000-0000-7000-8000-000000000001", "name": "larkfen-desk/q8_0", "copy": 2,
        "state": "displaced", "keeping": "kept", "settings": settings, "planned": [],
        "held": [{"pool": "host", "planned": 7, "measured": 6}], "planned_bytes": 7,
        "measured_bytes": 6, "pid": 1, "calls": 0, "prompt_tokens": 5, "reused_tokens": 3,
        "answer_tokens": 2, "load_seconds": 0.1, "load_share": null, "kernels": null, "crashes": 0,
        "note": null,
        "work": {
            "lanes_busy": 0, "lanes_paused": 0, "pages": 4, "pages_used": 0, "pages_known": 2,
            "steps": 1, "prompt_tokens": 5, "answer_tokens": 2, "computed_seconds": 0.1,
            "waited_seconds": 0.0,
        },
    }))
    .unwrap();
    assert_eq!((report.number, report.state), (2, InstanceState::Evicted));
    assert_eq!((report.origin, report.reserved_bytes), (Origin::Requested, 7));
    assert_eq!((report.cached_tokens, report.work.unwrap().pages_cached), (3, 2));
    assert_eq!(report.held[0].reserved, 7);
}
