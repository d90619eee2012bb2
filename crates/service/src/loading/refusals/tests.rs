use std::collections::BTreeSet;
use std::fmt::Write;

use deft_planning::{Bytes, CacheType, Candidate, Ledger, Pool, RequestedPlace, Share};

use super::*;

fn shape(file: u64) -> ModelShape {
    ModelShape {
        file: Bytes::mib(file),
        layers: 4,
        layer_weights: vec![Bytes::mib(file / 5); 4],
        heads: 6,
        kv_heads: 2,
        key_length: 64,
        value_length: 64,
        context_length: 4096,
        vocabulary: 2048,
        width: 384,
        feed_forward: 1024,
        ..ModelShape::default()
    }
}

fn pool(name: &str, limit: u64, size: u64) -> Pool {
    Pool { name: name.to_owned(), limit: Bytes::mib(limit), size: Bytes::mib(size) }
}

/// A house with a desk in it that holds most of it.
fn ledger(most: Option<usize>) -> Ledger<u32> {
    house(64, most)
}

fn house(host: u64, most: Option<usize>) -> Ledger<u32> {
    let pools = vec![pool("host", host, 96), pool("fern", 16, 16)];
    let mut ledger = Ledger::new(pools, most);
    let (shape, settings) = (shape(30), LoadSettings::for_model(&shape(30)));
    let desk = Candidate {
        name: "larkfen-desk/q8_0",
        file: "desk",
        shape: &shape,
        settings: &settings,
        places: &[],
    };
    ledger.reserve(1, desk, &BTreeSet::new()).unwrap();
    ledger
}

fn judge(ledger: &Ledger<u32>, file: u64, places: &[RequestedPlace], idle: bool) -> Problem {
    let shape = shape(file);
    let settings = LoadSettings::for_model(&shape);
    let leaf = Candidate {
        name: "larkfen-leaf/f16",
        file: "leaf",
        shape: &shape,
        settings: &settings,
        places,
    };
    let idle = if idle { BTreeSet::from([1]) } else { BTreeSet::new() };
    denial(&ledger.judge(leaf, &idle).unwrap_err(), &shape)
}

fn in_pool(pool: &str, share: Share) -> Vec<RequestedPlace> {
    vec![RequestedPlace { pool: pool.to_owned(), share }]
}

fn setting(change: impl FnOnce(&mut LoadSettings)) -> Problem {
    let shape = ModelShape { value_length: 80, ..shape(5) };
    let mut requested = LoadSettings::for_model(&shape);
    change(&mut requested);
    settings(&requested.check(&shape).unwrap_err())
}

fn limited(text: &str) -> Problem {
    limit(&crate::config::limit("the limit of pool `host`", text, Bytes::mib(96)).unwrap_err())
}

/// Every refusal of loading, as people read them.
fn all() -> Vec<(&'static str, Problem)> {
    let narrow = ledger(None);
    let mut lowered = ledger(None);
    lowered.set_limit("host", Bytes::mib(20)).unwrap();
    let no_room = judge(&narrow, 30, &[], true);
    vec![
        ("does not fit, and something is idle", no_room.clone()),
        ("does not fit, and nothing is idle", judge(&narrow, 55, &[], false)),
        ("never fits", judge(&narrow, 400, &[], true)),
        (
            "an accelerator is full",
            judge(&house(92, None), 15, &in_pool("fern", Share::Rest), false),
        ),
        ("a limit was lowered", judge(&lowered, 5, &[], true)),
        ("too many instances, one idle", judge(&ledger(Some(1)), 5, &[], true)),
        ("too many instances, none idle", judge(&ledger(Some(1)), 5, &[], false)),
        ("no room for a call", no_room_for_call(&no_room, None)),
        (
            "no room for a call that waited",
            no_room_for_call(&no_room, Some(Duration::from_secs(120))),
        ),
        ("no such pool", judge(&narrow, 5, &in_pool("reed", Share::Rest), false)),
        ("too many layers", judge(&narrow, 5, &in_pool("fern", Share::Layers(9)), false)),
        ("limit of no pool", no_such_pool(&lowered.set_limit("reed", Bytes(1)).unwrap_err())),
        ("limit beyond the machine", limited("2 TiB")),
        ("limit that is none", limited("plenty")),
        ("context 0", setting(|requested| requested.context = 0)),
        ("context beyond the model's own", setting(|requested| requested.context = 8192)),
        ("lanes 10,000", setting(|requested| requested.lanes = 10_000)),
        ("cache of broken blocks", setting(|requested| requested.values = CacheType::Q8_0)),
        ("threads 0", setting(|requested| requested.threads = Some(0))),
        ("instances 0", instances(0, 64)),
        ("share 0", share(0, 10_000)),
        ("not loaded, and calls may not load", not_loaded("larkfen-desk/q8_0")),
        ("being unloaded", draining("larkfen-desk/q8_0")),
        ("unloaded while a call waited", unloaded()),
        ("loading takes too long", load_slow(Duration::from_secs(120))),
        ("loaded otherwise", loaded_otherwise("larkfen-desk/q8_0")),
        ("no such instance", no_instance("0192")),
        ("ended while loading", ended_early()),
        ("ends again and again", crashes("signal: 9", "deft load larkfen-desk/q8_0 --lanes 3")),
        ("stopping", stopping()),
    ]
}

#[test]
fn every_refusal_has_its_figure_its_reason_and_a_way_out() {
    let mut page = String::new();
    for (case, problem) in all() {
        let retry =
            problem.retry_after_seconds.map_or_else(String::new, |s| format!(", again in {s} s"));
        let (status, code) = (problem.status, &problem.code);
        writeln!(page, "# {case} ({status} {code}{retry})\n{problem}\n").unwrap();
    }
    insta::assert_snapshot!(page);
}

#[test]
fn ready_commands_carry_what_a_program_can_act_on() {
    let problem = judge(&house(92, None), 27, &[], true);
    assert!(problem.ways.iter().all(|way| way.command.starts_with("deft ")));
    let settings = problem.ways.iter().filter_map(|way| way.settings.as_ref());
    assert!(settings.clone().any(|settings| settings.pools.is_some()), "other places");
    assert!(settings.clone().any(|settings| settings.context.is_some()), "a shorter context");
    assert!(problem.ways.iter().any(|way| way.unload == ["larkfen-desk/q8_0"]));
}
