//! Layers in several memory pools.

use super::*;

fn place(pool: &str, layers: u32, free: u64) -> PlaceOrder {
    let accelerator = AcceleratorOrder { free, speed: Some(4 << 30) };
    PlaceOrder { pool: pool.to_owned(), layers, accelerator: Some(accelerator) }
}

fn open_in(name: &str, orders: &[PlaceOrder]) -> Result<Lanes, LoadError> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    let mut layer_memory = LayerMemory::ordered(orders);
    let model = Model::open_in(
        &path,
        96,
        &mut layer_memory,
        Weights::Mapped,
        ComputeSettings::default(),
        &mut |_, _| {},
    )?;
    let settings = settings(96, 2, 16, CacheType::F16);
    Ok(Lanes::new(model, settings, &mut layer_memory)?)
}

#[test]
fn layers_in_several_pools_give_the_same_tokens_and_scores() {
    let host = PlaceOrder { pool: "host".to_owned(), layers: 1, accelerator: None };
    let spreads = [
        vec![place("fern", 2, 64 << 20)],
        vec![place("fern", 1, 64 << 20), host, place("moss", 9, 64 << 20)],
    ];
    for name in ["golden/models/llama-moe.gguf", "golden/models/gemma2.gguf", DESK] {
        let alone = |lanes: &mut Lanes| {
            lanes.call(order(1, Prompt::Tokens((5..45).collect())));
            lanes.call(order(2, Prompt::Tokens((5..30).rev().collect())));
            run(lanes)
        };
        let wanted = alone(&mut open(name, settings(96, 2, 16, CacheType::F16)));
        for spread in &spreads {
            let found = alone(&mut open_in(name, spread).unwrap());
            for (key, answer) in &wanted {
                assert_eq!(found[key].text, answer.text, "{name} in {spread:?}");
                assert_eq!(found[key].scores, answer.scores, "{name} in {spread:?}");
            }
        }
    }
}

#[test]
fn an_accelerator_that_is_too_small_refuses_the_load() {
    // Its weights fit, its keys and values do not; and not even its weights.
    for free in [1_200_000, 1000] {
        let Err(LoadError::OutOfMemory(error)) = open_in(DESK, &[place("fern", 5, free)]) else {
            panic!("{free} bytes did");
        };
        assert!(error.free.0 <= free && error.to_string().contains("simulated"), "{error}");
    }
}
