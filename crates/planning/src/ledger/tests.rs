use proptest::prelude::*;

use super::*;

fn shape(file: u64) -> ModelShape {
    ModelShape {
        file: Bytes(file),
        layers: 5,
        heads: 6,
        kv_heads: 2,
        key_length: 32,
        value_length: 32,
        context_length: 1024,
        vocabulary: 2048,
        width: 192,
        feed_forward: 320,
        tokenizer: Bytes(400_000),
    }
}

fn settings(lanes: u32) -> LoadSettings {
    LoadSettings { lanes, ..LoadSettings::for_model(&shape(0)) }
}

fn reserve(ledger: &mut Ledger<u32>, id: u32, file: u64) -> Result<Demand, Box<Refusal>> {
    let name = format!("larkfen-{file}/q8_0");
    ledger.reserve(id, &name, &name, &shape(file), &settings(1), &BTreeSet::from([1]))
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
    let refusal = ledger
        .judge("larkfen-leaf/f16", "leaf", &shape(1 << 20), &settings(8), &BTreeSet::from([1]))
        .unwrap_err();
    insta::assert_snapshot!(refusal.to_string());
    assert!(refusal.need > refusal.free);
}

#[test]
fn a_model_larger_than_the_pool_is_told_the_limit_it_needs() {
    let ledger = Ledger::<u32>::new("host", Bytes::mib(8));
    let refusal = ledger
        .judge("larkfen-leaf/f16", "leaf", &shape(20 << 20), &settings(1), &BTreeSet::new())
        .unwrap_err();
    insta::assert_snapshot!(refusal.to_string());
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
