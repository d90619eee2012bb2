use super::*;
use crate::fixture::demo_shape as shape;
use crate::placement::Place;

fn in_host(shape: &ModelShape, settings: &LoadSettings) -> Demand {
    Demand::of(shape, settings, &Placement::in_host(shape.placeable()))
}

fn cache(shape: &ModelShape, settings: &LoadSettings) -> Bytes {
    let demand = in_host(shape, settings);
    demand.parts.iter().find(|part| part.kind == PartKind::Cache).unwrap().bytes
}

#[test]
fn cache_grows_with_tokens_and_lanes() {
    let mut settings = LoadSettings::for_model(&shape());
    settings.lanes = 1;
    // 1024 tokens x 5 layers x 2 heads x (32 + 32) values x 2 bytes
    assert_eq!(cache(&shape(), &settings), Bytes(1024 * 5 * 2 * 64 * 2));
    settings.lanes = 3;
    settings.keys = CacheType::F32;
    assert_eq!(cache(&shape(), &settings), Bytes(3 * 1024 * 5 * 2 * (32 * 4 + 32 * 2)));
    settings.values = CacheType::Q8_0;
    assert_eq!(cache(&shape(), &settings), Bytes(3 * 1024 * 5 * 2 * (32 * 4 + 34)));
    settings.context = 33;
    assert_eq!(cache(&shape(), &settings), Bytes(3 * 64 * 5 * 2 * (32 * 4 + 34)));
}

#[test]
fn wide_models_take_larger_chunks_by_default() {
    let chunk = |width| LoadSettings::for_model(&ModelShape { width, ..shape() }).chunk;
    assert_eq!((chunk(1023), chunk(1024)), (128, 256));
}

#[test]
fn what_is_multiplied_with_floats_stays_floats() {
    let settings = LoadSettings::for_model(&shape());
    let floats = ModelShape { floats: true, ..shape() };
    let total = |shape| in_host(shape, &settings).total().0.cast_signed();
    let more = total(&floats) - total(&shape());
    let tokens = i64::from(settings.step_tokens(&shape()));
    // The widest input of a step, and that of the output for one token of each lane.
    let differs = |width: u32| i64::from(width) * 4 - i64::from(width.div_ceil(512)) * 832;
    let of_lanes = i64::from(settings.lanes) * differs(shape().width);
    assert_eq!(more, tokens * differs(shape().feed_forward) + of_lanes);
}

#[test]
fn what_each_expert_computes_is_counted() {
    let settings = LoadSettings::for_model(&shape());
    let experts = ModelShape { experts: 64, experts_used: 8, ..shape() };
    let more = in_host(&experts, &settings).total().0 - in_host(&shape(), &settings).total().0;
    let (width, tokens) = (u64::from(shape().width), u64::from(settings.step_tokens(&shape())));
    assert_eq!(more, 4 * (tokens * (8 * (width + 4) + 64 + width) + 64 * width));
}

#[test]
fn copies_of_the_weights_are_nobody_elses() {
    let settings = LoadSettings::for_model(&shape());
    let copied = LoadSettings { replicas: 2, ..settings };
    let (one, two) = (in_host(&shape(), &settings), in_host(&shape(), &copied));
    assert_eq!(two.total().0 - one.total().0, shape().file.0);
    assert_eq!(two.amount(HOST).shared, Bytes(0));
    assert_eq!(two.private().0 - one.private().0, 2 * shape().file.0);
    let [first, second] = [2, 3].map(|layers| {
        let pool = if layers == 2 { "fern" } else { HOST };
        Place { pool: pool.to_owned(), layers }
    });
    let spread = Demand::of(&shape(), &copied, &Placement(vec![first, second]));
    let moved: Bytes = shape().layer_weights[..2].iter().copied().sum();
    assert_eq!(two.total().0 - spread.total().0, moved.0, "an accelerator has one copy");
}

#[test]
fn layers_elsewhere_take_their_weights_and_their_cache_with_them() {
    let settings = LoadSettings::for_model(&shape());
    let places = [("fern", 2), ("host", 3)];
    let places = places.map(|(pool, layers)| Place { pool: pool.to_owned(), layers });
    let spread = Demand::of(&shape(), &settings, &Placement(places.to_vec()));
    let whole = in_host(&shape(), &settings);
    assert_eq!(spread.total(), whole.total(), "nothing is lost or counted twice");
    let stored: Bytes = shape().layer_weights[..2].iter().copied().sum();
    let fern = spread.amount("fern");
    assert_eq!(fern.shared, Bytes(0), "an accelerator has a copy of its own");
    assert_eq!(fern.private, stored + Bytes(2 * cache(&shape(), &settings).0 / 5));
    assert_eq!(spread.amount(HOST).shared, shape().file.saturating_sub(stored));
    let everything = Placement(vec![Place { pool: "fern".to_owned(), layers: 5 }]);
    let everything = Demand::of(&shape(), &settings, &everything);
    let in_host: Vec<PartKind> =
        everything.parts.iter().filter(|part| part.pool == HOST).map(|part| part.kind).collect();
    let stays = [PartKind::Weights, PartKind::StepBuffers, PartKind::Tokenizer, PartKind::Process];
    assert_eq!(in_host, stays, "what is no layer stays");
}

#[test]
fn an_encoders_cache_is_a_matter_of_its_process() {
    let encoder = ModelShape { encoder: true, layers: 1, context_length: 128, ..shape() };
    let settings = LoadSettings::for_model(&encoder);
    let places = vec![Place { pool: "fern".to_owned(), layers: 5 }];
    let demand = Demand::of(&encoder, &settings, &Placement(places));
    let layers: Bytes = encoder.layer_weights.iter().copied().sum();
    assert_eq!(demand.amount("fern").private, layers);
    assert!(demand.parts.iter().any(|part| part.kind == PartKind::Cache && part.pool == HOST));
}

#[test]
fn settings_out_of_range_are_named_with_their_range() {
    let settings = LoadSettings::for_model(&shape());
    let message = |settings: LoadSettings| settings.check(&shape()).unwrap_err().to_string();
    insta::assert_snapshot!(
        [
            message(LoadSettings { context: 0, ..settings }),
            message(LoadSettings { context: 4096, ..settings }),
            message(LoadSettings { lanes: 0, ..settings }),
            message(LoadSettings { lanes: 10_000, ..settings }),
            message(LoadSettings { chunk: 0, ..settings }),
            message(LoadSettings { threads: Some(0), ..settings }),
            LoadSettings { values: CacheType::Q8_0, ..settings }
                .check(&ModelShape { value_length: 80, ..shape() })
                .unwrap_err()
                .to_string(),
        ]
        .join("\n"),
        @r"
    context cannot be 0: from 1 to 1024 tokens, the context length of the model
    context cannot be 4096: from 1 to 1024 tokens, the context length of the model
    lanes cannot be 0: from 1 to 64 lanes
    lanes cannot be 10000: from 1 to 64 lanes
    chunk cannot be 0: from 1 to 4096 tokens
    threads cannot be 0: from 1 to 256 threads
    cache cannot be q8_0: its heads have 80 values, which is not a multiple of 32; use f16
    "
    );
}

#[test]
fn absurd_shapes_saturate_instead_of_wrapping() {
    let huge = ModelShape { kv_heads: u32::MAX, key_length: u32::MAX, ..shape() };
    let settings = LoadSettings { context: 1024, ..LoadSettings::for_model(&huge) };
    assert_eq!(in_host(&huge, &settings).total(), Bytes(u64::MAX));
}
