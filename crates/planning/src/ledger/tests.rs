use super::*;
use crate::HOST;
use crate::Share;
use crate::fixture::demo_shape;
use crate::refusal::WayOut;

fn shape(file: u64) -> ModelShape {
    ModelShape { file: Bytes(file), ..demo_shape() }
}

fn settings(lanes: u32) -> LoadSettings {
    LoadSettings { lanes, ..LoadSettings::for_model(&shape(0)) }
}

fn reserve(ledger: &mut Ledger<u32>, id: u32, file: u64) -> Result<Demand, Box<Refusal>> {
    let name = format!("larkfen-{file}/q8_0");
    let (shape, settings) = (shape(file), settings(1));
    let wanted = candidate(&name, &name, &shape, &settings);
    ledger.reserve(id, wanted, &BTreeSet::from([1])).map(|grant| grant.demand).map_err(refused)
}

fn candidate<'a>(
    name: &'a str,
    file: &'a str,
    shape: &'a ModelShape,
    settings: &'a LoadSettings,
) -> Candidate<'a> {
    Candidate { name, file, shape, settings, places: &[] }
}

fn pool(name: &str, mib: u64) -> Pool {
    Pool { name: name.to_owned(), limit: Bytes::mib(mib), size: Bytes::mib(40) }
}

fn host(mib: u64) -> Ledger<u32> {
    Ledger::new(vec![pool(HOST, mib)], None)
}

fn refused(denial: Denial) -> Box<Refusal> {
    match denial {
        Denial::Room(refusal) => refusal,
        Denial::Places(error) => panic!("{error}"),
    }
}

fn reserved(ledger: &Ledger<u32>) -> Bytes {
    ledger.reports()[0].reserved
}

fn in_words(refusal: &Refusal) -> String {
    let way = |way: &WayOut| match way {
        WayOut::Settings { settings, need } => format!(
            "{} lanes of {} tokens, {}/{} cache: {need}",
            settings.lanes,
            settings.context,
            settings.keys.name(),
            settings.values.name()
        ),
        WayOut::Unload { names, frees } => format!("unload {}: frees {frees}", names.join(", ")),
        WayOut::RaiseLimit { to, .. } => format!("a limit of {to}"),
        WayOut::Places { places, need } => {
            let places = places.0.iter().map(|place| format!("{}={}", place.pool, place.layers));
            format!("in {}: {need}", places.collect::<Vec<_>>().join(" "))
        }
    };
    let ways: Vec<String> = refusal.ways_out.iter().map(way).collect();
    format!("{refusal}\n{}", ways.join("\n"))
}

fn refuse(ledger: &Ledger<u32>, file: u64, lanes: u32, idle: &BTreeSet<u32>) -> Box<Refusal> {
    let (shape, settings) = (shape(file), settings(lanes));
    let name = "larkfen-leaf/f16";
    refused(ledger.judge(candidate(name, "leaf", &shape, &settings), idle).unwrap_err())
}

#[test]
fn instances_of_one_file_share_its_weights() {
    let mut ledger = host(64);
    let first = reserve(&mut ledger, 1, 10 << 20).unwrap();
    let alone = reserved(&ledger);
    reserve(&mut ledger, 2, 10 << 20).unwrap();
    assert_eq!(reserved(&ledger), alone + first.amount(HOST).private);
    ledger.release(1);
    assert_eq!(reserved(&ledger), alone);
    ledger.release(2);
    assert_eq!(reserved(&ledger), Bytes(0));
}

#[test]
fn full_pool_refuses_names_the_holder_and_the_ways_out() {
    let mut ledger = host(24);
    reserve(&mut ledger, 1, 12 << 20).unwrap();
    let refusal = refuse(&ledger, 1 << 20, 8, &BTreeSet::from([1]));
    insta::assert_snapshot!(in_words(&refusal));
}

#[test]
fn a_model_larger_than_the_pool_gets_the_limit_it_needs() {
    let ledger = host(8);
    let refusal = refuse(&ledger, 20 << 20, 1, &BTreeSet::new());
    insta::assert_snapshot!(in_words(&refusal));
    let too_large = refuse(&ledger, 60 << 20, 1, &BTreeSet::new());
    assert_eq!(too_large.ways_out, [], "there is no such memory");
}

#[test]
fn eight_bit_values_and_encoders_need_what_they_need() {
    let total = |shape: &ModelShape, settings: &LoadSettings| {
        Demand::of(shape, settings, &Placement::in_host(shape.placeable())).total()
    };
    let plain = settings(2);
    let narrow = LoadSettings { keys: crate::CacheType::Q8_0, ..plain };
    assert!(total(&shape(1 << 20), &narrow) < total(&shape(1 << 20), &plain));
    let encoder = ModelShape { encoder: true, layers: 1, context_length: 128, ..shape(1 << 20) };
    let own = LoadSettings::for_model(&encoder);
    assert_eq!((own.lanes, own.chunk, own.keys), (1, 128, crate::CacheType::F32));
    assert_eq!(own.step_tokens(&encoder), 128, "a whole input at once");
    assert_eq!(plain.step_tokens(&shape(0)), plain.chunk + 2, "a chunk and a token of each lane");
    assert_eq!(LoadSettings { context: 33, lanes: 3, ..plain }.pages(), 6);
}

#[test]
fn holders_are_listed_by_size_and_only_idle_ones_are_offered() {
    let mut ledger = host(40);
    reserve(&mut ledger, 1, 9 << 20).unwrap();
    reserve(&mut ledger, 2, 14 << 20).unwrap();
    let refusal = refuse(&ledger, 9 << 20, 1, &BTreeSet::from([1]));
    let names: Vec<&str> = refusal.holders.iter().map(|holder| holder.name.as_str()).collect();
    assert_eq!(names, ["larkfen-14680064/q8_0", "larkfen-9437184/q8_0"]);
    let offered = |name: &str| {
        refusal
            .ways_out
            .iter()
            .any(|way| matches!(way, WayOut::Unload { names, .. } if names == &[name]))
    };
    assert!(offered("larkfen-9437184/q8_0") && !offered("larkfen-14680064/q8_0"));
}

#[test]
fn where_one_change_or_one_unloading_does_not_do_several_are_offered() {
    let mut ledger = host(27);
    for id in 1..5 {
        reserve(&mut ledger, id, u64::from(id) << 19).unwrap();
    }
    let all_idle = BTreeSet::from([1, 2, 3, 4]);
    insta::assert_snapshot!(in_words(&refuse(&ledger, 2 << 20, 12, &all_idle)));
}

#[test]
fn unloading_one_of_two_that_share_weights_frees_only_what_is_its_own() {
    let mut ledger = host(22);
    let first = reserve(&mut ledger, 1, 12 << 20).unwrap();
    reserve(&mut ledger, 2, 12 << 20).unwrap();
    let refusal = refuse(&ledger, 3 << 20, 1, &BTreeSet::from([1]));
    let frees = refusal.ways_out.iter().find_map(|way| match way {
        WayOut::Unload { frees, .. } => Some(*frees),
        _ => None,
    });
    assert!(frees.is_none_or(|frees| frees == first.amount(HOST).private), "{refusal:?}");
}

#[test]
fn every_way_out_that_is_offered_really_fits() {
    let mut ledger = host(24);
    reserve(&mut ledger, 1, 12 << 20).unwrap();
    let shape = shape(1 << 20);
    let wanted = settings(8);
    let refusal = refuse(&ledger, 1 << 20, 8, &BTreeSet::from([1]));
    assert!(refusal.ways_out.len() >= 3);
    for way in &refusal.ways_out {
        let mut after = host(24);
        reserve(&mut after, 1, 12 << 20).unwrap();
        let changed = match way {
            WayOut::Settings { settings, .. } => *settings,
            WayOut::Unload { .. } => {
                after.release(1);
                wanted
            }
            WayOut::RaiseLimit { .. } | WayOut::Places { .. } => continue,
        };
        let wanted = candidate("larkfen-leaf/f16", "leaf", &shape, &changed);
        assert!(after.judge(wanted, &BTreeSet::new()).is_ok(), "{way:?}");
    }
}

#[test]
fn room_is_made_by_the_least_valuable_and_by_no_more_than_needed() {
    let mut ledger = host(30);
    for (id, mib) in [(1, 2u64), (2, 9), (3, 3)] {
        reserve(&mut ledger, id, mib << 20).unwrap();
    }
    let room = |mib: u64, order: &[u32]| {
        let (shape, settings) = (shape(mib << 20), settings(1));
        let name = "larkfen-leaf/f16";
        ledger.evictions(candidate(name, "leaf", &shape, &settings), order)
    };
    assert_eq!(room(1, &[1, 3, 2]), Some(vec![1]), "the first does");
    assert_eq!(room(8, &[1, 3, 2]), Some(vec![1, 3]), "the first alone would not do");
    assert_eq!(room(9, &[1, 2, 3]), Some(vec![2]), "the first need not go after all");
    assert_eq!(room(40, &[1, 2, 3]), None);
    assert_eq!(
        host(30).evictions(candidate("a", "a", &shape(1), &settings(1)), &[1],),
        Some(Vec::new())
    );
}

/// Host memory and two accelerators.
fn three_pools(host: u64, fern: u64, moss: u64) -> Ledger<u32> {
    Ledger::new(vec![pool(HOST, host), pool("fern", fern), pool("moss", moss)], None)
}

/// Five layers of 1 MiB, and as much outside of layers.
fn layered() -> ModelShape {
    ModelShape { layer_weights: vec![Bytes::mib(1); 5], ..shape(10 << 20) }
}

fn open(pool: &str) -> RequestedPlace {
    RequestedPlace { pool: pool.to_owned(), share: Share::Rest }
}

#[test]
fn layers_fill_an_accelerator_and_the_rest_stays_in_host_memory() {
    let mut ledger = three_pools(64, 3, 8);
    let (shape, settings) = (layered(), settings(1));
    let places = [open("fern"), open("host")];
    let wanted = Candidate { places: &places, ..candidate("a", "a", &shape, &settings) };
    let grant = ledger.reserve(1, wanted, &BTreeSet::new()).unwrap();
    let counts: Vec<u32> = grant.placement.0.iter().map(|place| place.layers).collect();
    assert_eq!(counts, [2, 3], "a layer is 1 MiB and its cache of 256 KiB");
    let [host, fern, moss] = &ledger.reports()[..] else { panic!("three pools") };
    assert_eq!(fern.reserved, Bytes((2 << 20) + (2 << 18)));
    assert_eq!(host.reserved + fern.reserved, grant.demand.total());
    assert_eq!(moss.reserved, Bytes(0));
    // Instances of the file share the weights in host memory, the larger part of their memory.
    let whole = candidate("b", "a", &shape, &settings);
    let more = ledger.reserve(2, whole, &BTreeSet::new()).unwrap().demand.amount(HOST);
    let after = ledger.reports()[0].reserved;
    assert_eq!(after, host.reserved + more.private + Bytes::mib(2), "two layers more are shared");
}

#[test]
fn a_full_accelerator_refuses_and_other_places_are_a_way_out() {
    let ledger = three_pools(64, 3, 8);
    let (shape, settings) = (layered(), settings(1));
    let places = [open("fern")];
    let wanted = Candidate { places: &places, ..candidate("a", "a", &shape, &settings) };
    let refusal = refused(ledger.judge(wanted, &BTreeSet::new()).unwrap_err());
    insta::assert_snapshot!(in_words(&refusal));
    // With too little host memory, layers are placed in an accelerator.
    let refusal = refused(
        three_pools(12, 3, 8)
            .judge(candidate("a", "a", &shape, &settings), &BTreeSet::new())
            .unwrap_err(),
    );
    insta::assert_snapshot!(in_words(&refusal));
}

#[test]
fn a_limit_lowered_below_what_is_loaded_is_reported_and_stops_grants() {
    let mut ledger = host(40);
    reserve(&mut ledger, 1, 12 << 20).unwrap();
    ledger.set_limit(HOST, Bytes::mib(10)).unwrap();
    let refusal = reserve(&mut ledger, 2, 1 << 20).unwrap_err();
    assert!(refusal.to_string().contains("more than its limit are reserved"), "{refusal}");
    assert!(reserved(&ledger) > Bytes::mib(10), "what is loaded stays");
    ledger.release(1);
    reserve(&mut ledger, 2, 1 << 20).unwrap();
    let error = ledger.set_limit("reed", Bytes(1)).unwrap_err();
    assert_eq!(error.to_string(), "no pool `reed`; the pools are `host`");
}

#[test]
fn no_more_instances_than_may_be_loaded() {
    let mut ledger = Ledger::new(vec![pool(HOST, 64)], Some(2));
    reserve(&mut ledger, 1, 1 << 20).unwrap();
    reserve(&mut ledger, 2, 2 << 20).unwrap();
    let refusal = reserve(&mut ledger, 3, 3 << 20).unwrap_err();
    insta::assert_snapshot!(in_words(&refusal));
    let (shape, settings) = (shape(1), settings(1));
    let wanted = candidate("b", "b", &shape, &settings);
    assert_eq!(ledger.evictions(wanted, &[2, 1]), Some(vec![2]));
    ledger.release(2);
    reserve(&mut ledger, 3, 3 << 20).unwrap();
}
