use proptest::prelude::*;

use super::*;
use crate::fixture::demo_shape;

fn shape(file: u64) -> ModelShape {
    ModelShape { file: Bytes(file), ..demo_shape() }
}

fn settings(lanes: u32) -> LoadSettings {
    LoadSettings { lanes, ..LoadSettings::for_model(&shape(0)) }
}

fn reserve(ledger: &mut Ledger<u32>, id: u32, file: u64) -> Result<Demand, Box<Refusal>> {
    let name = format!("larkfen-{file}/q8_0");
    let (shape, settings) = (shape(file), settings(1));
    let wanted = Candidate { name: &name, file: &name, shape: &shape, settings: &settings };
    ledger.reserve(id, wanted, &BTreeSet::from([1]))
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
        WayOut::RaiseLimit { to } => format!("a limit of {to}"),
    };
    let ways: Vec<String> = refusal.ways_out.iter().map(way).collect();
    format!("{refusal}\n{}", ways.join("\n"))
}

fn refuse(ledger: &Ledger<u32>, file: u64, lanes: u32, idle: &BTreeSet<u32>) -> Box<Refusal> {
    let (shape, settings) = (shape(file), settings(lanes));
    let name = "larkfen-leaf/f16";
    let wanted = Candidate { name, file: "leaf", shape: &shape, settings: &settings };
    ledger.judge(wanted, idle).unwrap_err()
}

#[test]
fn instances_of_one_file_share_its_weights() {
    let mut ledger = Ledger::new("host", Bytes::mib(64));
    let first = reserve(&mut ledger, 1, 10 << 20).unwrap();
    let alone = ledger.report().reserved;
    reserve(&mut ledger, 2, 10 << 20).unwrap();
    assert_eq!(ledger.report().reserved, alone + first.private());
    ledger.release(1);
    assert_eq!(ledger.report().reserved, alone);
    ledger.release(2);
    assert_eq!(ledger.report().reserved, Bytes(0));
}

#[test]
fn full_pool_refuses_names_the_holder_and_the_ways_out() {
    let mut ledger = Ledger::new("host", Bytes::mib(24));
    reserve(&mut ledger, 1, 12 << 20).unwrap();
    let refusal = refuse(&ledger, 1 << 20, 8, &BTreeSet::from([1]));
    insta::assert_snapshot!(in_words(&refusal));
    assert!(refusal.need > refusal.free);
}

#[test]
fn a_model_larger_than_the_pool_is_told_the_limit_it_needs() {
    let ledger = Ledger::<u32>::new("host", Bytes::mib(8));
    let refusal = refuse(&ledger, 20 << 20, 1, &BTreeSet::new());
    insta::assert_snapshot!(in_words(&refusal));
}

#[test]
fn eight_bit_values_and_encoders_need_what_they_need() {
    let total = |shape: &ModelShape, settings: &LoadSettings| Demand::of(shape, settings).total();
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
    let mut ledger = Ledger::new("host", Bytes::mib(40));
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
    let mut ledger = Ledger::new("host", Bytes::mib(27));
    for id in 1..5 {
        reserve(&mut ledger, id, u64::from(id) << 19).unwrap();
    }
    let all_idle = BTreeSet::from([1, 2, 3, 4]);
    insta::assert_snapshot!(in_words(&refuse(&ledger, 2 << 20, 12, &all_idle)));
}

#[test]
fn unloading_one_of_two_that_share_weights_frees_only_what_is_its_own() {
    let mut ledger = Ledger::new("host", Bytes::mib(22));
    let first = reserve(&mut ledger, 1, 12 << 20).unwrap();
    reserve(&mut ledger, 2, 12 << 20).unwrap();
    let refusal = refuse(&ledger, 3 << 20, 1, &BTreeSet::from([1]));
    let frees = refusal.ways_out.iter().find_map(|way| match way {
        WayOut::Unload { frees, .. } => Some(*frees),
        _ => None,
    });
    assert!(frees.is_none_or(|frees| frees == first.private()), "{refusal:?}");
}

#[test]
fn every_way_out_that_is_offered_really_fits() {
    let mut ledger = Ledger::new("host", Bytes::mib(24));
    reserve(&mut ledger, 1, 12 << 20).unwrap();
    let shape = shape(1 << 20);
    let wanted = settings(8);
    let refusal = refuse(&ledger, 1 << 20, 8, &BTreeSet::from([1]));
    assert!(refusal.ways_out.len() >= 3);
    for way in &refusal.ways_out {
        let mut after = Ledger::new("host", Bytes::mib(24));
        reserve(&mut after, 1, 12 << 20).unwrap();
        let changed = match way {
            WayOut::Settings { settings, .. } => *settings,
            WayOut::Unload { .. } => {
                after.release(1);
                wanted
            }
            WayOut::RaiseLimit { .. } => continue,
        };
        let candidate =
            Candidate { name: "larkfen-leaf/f16", file: "leaf", shape: &shape, settings: &changed };
        assert!(after.judge(candidate, &BTreeSet::new()).is_ok(), "{way:?}");
    }
}

#[test]
fn room_is_made_by_the_least_valuable_and_by_no_more_than_needed() {
    let mut ledger = Ledger::new("host", Bytes::mib(30));
    for (id, mib) in [(1, 2u64), (2, 9), (3, 3)] {
        reserve(&mut ledger, id, mib << 20).unwrap();
    }
    let room = |mib: u64, order: &[u32]| {
        let (shape, settings) = (shape(mib << 20), settings(1));
        let name = "larkfen-leaf/f16";
        let wanted = Candidate { name, file: "leaf", shape: &shape, settings: &settings };
        ledger.make_room(wanted, order)
    };
    assert_eq!(room(1, &[1, 3, 2]), Some(vec![1]), "the first does");
    assert_eq!(room(8, &[1, 3, 2]), Some(vec![1, 3]), "the first alone would not do");
    assert_eq!(room(9, &[1, 2, 3]), Some(vec![2]), "the first need not go after all");
    assert_eq!(room(40, &[1, 2, 3]), None);
    assert_eq!(
        Ledger::new("host", Bytes::mib(30)).make_room(
            Candidate { name: "a", file: "a", shape: &shape(1), settings: &settings(1) },
            &[1],
        ),
        Some(Vec::new())
    );
}

proptest! {
    #[test]
    fn no_order_of_loads_and_unloads_raises_a_pool_above_its_limit(
        steps in prop::collection::vec((0u32..12, 1u64..5, any::<bool>()), 1..200),
    ) {
        let limit = Bytes::mib(40);
        let mut ledger = Ledger::new("host", limit);
        for (id, file, loads) in steps {
            if loads && !ledger.holds.contains_key(&id) {
                let before = ledger.report().reserved;
                if reserve(&mut ledger, id, file << 20).is_err() {
                    prop_assert_eq!(ledger.report().reserved, before);
                }
            } else {
                ledger.release(id);
            }
            prop_assert!(ledger.report().reserved <= limit);
        }
    }
}
