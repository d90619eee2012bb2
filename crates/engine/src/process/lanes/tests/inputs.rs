//! Embeddings of inputs, and their relevance to a query.

use deft_protocol::engine::EmbedTask;
use serde_json::Value;

use super::*;

fn project(name: &str) -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
}

fn embedded(mut out: Vec<FromEngine>) -> Vec<Vec<f32>> {
    match out.pop() {
        Some(FromEngine::Embedded { vectors, .. }) => vectors,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_cross_encoder_scores_each_document_with_the_query() {
    let facts = std::fs::read(project("golden/own/rank.json")).unwrap();
    let facts: Value = serde_json::from_slice(&facts).unwrap();
    let mut lanes = open("golden/own/rank.gguf", settings(64, 1, 64, CacheType::F32));
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let documents = facts["documents"].as_array().unwrap().iter();
    let inputs = documents.map(|document| Prompt::Text(text(document))).collect();
    let task = EmbedTask::Rank { query: text(&facts["query"]) };
    lanes.embed(EmbedOrder { call: 1, inputs, task });
    let mut out = Vec::new();
    while !lanes.is_idle() {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    let found = embedded(out);
    assert_eq!(found.len(), 4);
    for (found, score) in found.iter().zip(facts["scores"].as_array().unwrap()) {
        let wanted = 1.0 / (1.0 + (-score.as_f64().unwrap()).exp());
        assert!((f64::from(found[0]) - wanted).abs() < 1e-3, "{found:?} for {wanted}");
    }
}

#[test]
fn embeddings_are_the_same_alone_and_among_others() {
    let model = "demo/larkfen-find/larkfen-find-q8_0.gguf";
    let shape = Model::open(&project(model), 64).unwrap().shape().clone();
    let mut lanes = open(model, LoadSettings::for_model(&shape));
    let texts = ["When is Ember chard sown?", "frost", "How deep do I sow Moonhook bean?"];
    let mut embed = |inputs: &[&str]| {
        let inputs = inputs.iter().map(|text| Prompt::Text((*text).to_owned())).collect();
        let task = EmbedTask::Embed { dimensions: None };
        lanes.embed(EmbedOrder { call: 1, inputs, task });
        let mut out = Vec::new();
        while !lanes.is_idle() {
            lanes.admit(&mut out);
            lanes.step(&mut out);
        }
        embedded(out)
    };
    let together = embed(&texts);
    for (text, expected) in texts.iter().zip(&together) {
        assert_eq!(&embed(&[text])[0], expected, "{text}");
        let length: f32 = expected.iter().map(|value| value * value).sum();
        assert!((length - 1.0).abs() < 1e-5);
    }
}

#[test]
fn a_model_is_not_asked_for_what_it_does_not_make() {
    let code = |mut messages: Vec<FromEngine>| match messages.pop() {
        Some(FromEngine::Failed { code, .. }) => code,
        other => panic!("{other:?}"),
    };
    let mut desk = open(DESK, settings(64, 1, 16, CacheType::F16));
    let seed = |task: EmbedTask| {
        let inputs = vec![Prompt::Text("seed".to_owned())];
        EmbedOrder { call: 1, inputs, task }
    };
    let embed = || seed(EmbedTask::Embed { dimensions: None });
    assert_eq!(code(desk.embed(embed())), "no_embeddings");
    let messages = desk.call(order(2, Prompt::Tokens(vec![900_000])));
    assert_eq!(code(messages), "token_unknown");
    assert_eq!(code(desk.call(order(3, Prompt::Tokens(Vec::new())))), "prompt_empty");
    assert!(desk.is_idle());
    let find = settings(64, 1, 64, CacheType::F32);
    let mut find = open("demo/larkfen-find/larkfen-find-q8_0.gguf", find);
    assert_eq!(code(find.call(order(4, Prompt::Text("seed".to_owned())))), "no_answers");
    let mut rank = open("golden/own/rank.gguf", settings(64, 1, 64, CacheType::F32));
    assert_eq!(code(rank.call(order(5, Prompt::Text("seed".to_owned())))), "only_ranks");
    assert_eq!(code(rank.embed(embed())), "only_ranks");
    let mut classes = open("golden/models/bert-classes.gguf", settings(64, 1, 64, CacheType::F32));
    let ordered = seed(EmbedTask::Rank { query: "bean".to_owned() });
    assert_eq!(code(classes.embed(ordered)), "only_classes");
}
