use deft_planning::{Bytes, CacheType, LoadSettings, ModelShape};
use deft_protocol::manage::{CachePrecision, IdleLimit, SettingsRequest, WeightsHeld};
use deft_protocol::{Problem, ProblemKind};

use super::*;
use crate::fleet::{Policy, Target};

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
    let kept = Policy { pinned: true, importance: 3, share: 250, idle: IdleLimit::Seconds(90) };
    let requested = Target { settings: loaded, policy: kept, ..target(&request) };
    let request = SettingsRequest::from(&settings(&requested));
    assert_eq!(load_settings(&request, &shape()).unwrap(), loaded);
    assert_eq!(policy(&request, IdleLimit::Never).unwrap(), kept);
    let nothing = SettingsRequest { share: Some(0), ..Default::default() };
    assert!(policy(&nothing, IdleLimit::Never).unwrap_err().detail.contains("share cannot be 0"));
}

#[test]
fn settings_out_of_range_are_invalid_and_named() {
    for (request, part) in [
        (SettingsRequest { context: Some(9999), ..Default::default() }, "context cannot be 9999"),
        (SettingsRequest { lanes: Some(0), ..Default::default() }, "lanes cannot be 0"),
        (SettingsRequest { cache: Some(CachePrecision::Q8_0), ..Default::default() }, "80 values"),
    ] {
        let problem = load_settings(&request, &shape()).unwrap_err();
        assert_eq!(problem.code, "settings_out_of_range");
        assert!(problem.detail.contains(part), "{problem}");
    }
}

#[test]
fn a_command_says_what_is_no_default() {
    let defaults = LoadSettings::for_model(&shape());
    let command = |settings: LoadSettings| load_command("desk/q8_0", &settings, &defaults, &[]);
    assert_eq!(command(defaults), "deft load desk/q8_0");
    let narrow = LoadSettings { keys: CacheType::Q8_0, values: CacheType::Q8_0, ..defaults };
    assert_eq!(command(narrow), "deft load desk/q8_0 --cache q8_0");
    let mixed = LoadSettings { keys: CacheType::Q8_0, lanes: 5, context: 256, ..defaults };
    assert_eq!(
        command(mixed),
        "deft load desk/q8_0 --context 256 --lanes 5 --cache q8_0 --cache-values f16"
    );
}

fn target(request: &SettingsRequest) -> Target {
    Target {
        template: None,
        variant: uuid::Uuid::nil(),
        number: 1,
        name: deft_depot::VariantName { model: "larkfen-desk".into(), variant: "q8_0".into() },
        files: Vec::new(),
        settings: load_settings(request, &shape()).unwrap(),
        places: places(request),
        policy: policy(request, IdleLimit::Never).unwrap(),
        shape: shape(),
    }
}

#[test]
fn the_command_that_loads_again_says_all_that_was_wished() {
    assert_eq!(command_of(&target(&SettingsRequest::default())), "deft load larkfen-desk/q8_0");
    let request = SettingsRequest {
        context: Some(512),
        pools: Some(vec!["fern=3".parse().unwrap(), "host".parse().unwrap()]),
        weights: Some(WeightsHeld::Resident),
        threads: Some(1),
        pinned: Some(true),
        importance: Some(-2),
        idle: Some(IdleLimit::Seconds(90)),
        ..Default::default()
    };
    let requested = target(&request);
    assert_eq!(
        command_of(&requested),
        "deft load larkfen-desk/q8_0 --context 512 --in fern=3,host --weights resident --threads 1 \
         --pinned --importance -2 --idle 90s"
    );
    let again = SettingsRequest::from(&settings(&requested));
    assert_eq!(places(&again), requested.places);
    assert_eq!(load_settings(&again, &shape()).unwrap(), requested.settings);
}

#[test]
fn plans_of_several_instances_tell_the_first_that_does_not_fit() {
    let target = target(&SettingsRequest::default());
    let grant = target.in_host();
    let refusal = Problem::new(ProblemKind::Refused, "does_not_fit", "it needs more");
    let verdicts = [(grant.clone(), None), (grant, Some(refusal))];
    let report = plan(&target, 2, &verdicts, |_| false);
    assert_eq!((report.instances, report.total), (2, verdicts[0].0.demand.total().0));
    assert_eq!(report.refusal.unwrap().detail, "1 of 2 instances fit; it needs more");
    assert!(report.notes[0].contains("weights are memory-mapped"), "{:?}", report.notes);
}
