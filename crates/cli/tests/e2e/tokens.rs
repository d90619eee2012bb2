//! Tokens, and what the list of models says.

use serde_json::{Value, json};

use crate::world::{QUESTION, World, project, until, wait};

fn tokens(world: &World, what: Value) -> Value {
    let mut request = json!({"model": "larkfen-desk"});
    request.as_object_mut().unwrap().extend(what.as_object().unwrap().clone());
    world.posted("/v1/tokenize", request)
}

#[test]
fn tokens_are_those_that_a_call_would_have() {
    let world = World::stocked();
    let text = "Sow Moonhook bean 3 cm deep.<|end|>";
    let found = tokens(&world, json!({"input": text, "texts": true}));
    let texts: Vec<&str> =
        found["texts"].as_array().unwrap().iter().map(|text| text.as_str().unwrap()).collect();
    assert!(texts.concat().ends_with("deep.<|end|>"), "{texts:?}");
    assert_eq!((&found["count"], *texts.last().unwrap()), (&json!(texts.len()), "<|end|>"));
    let back = json!({"model": "larkfen-desk", "tokens": found["tokens"]});
    let back = world.posted("/v1/detokenize", back);
    assert!(back["text"].as_str().unwrap().ends_with(text), "{back}");
    // Control tokens may be plain text, which takes more tokens.
    let plain = tokens(&world, json!({"input": text, "control_tokens": false}));
    assert!(plain["count"].as_u64() > found["count"].as_u64(), "{plain}");
    assert!(plain["texts"].is_null());

    let messages = json!([{"role": "user", "content": QUESTION}]);
    let tools = json!([{"type": "function", "function": {"name": "stock_level",
        "parameters": {"type": "object", "properties": {"variety": {"type": "string"}}}}}]);
    for with in [json!({}), json!({"tools": tools})] {
        let mut request = json!({"model": "larkfen-desk", "messages": messages});
        request.as_object_mut().unwrap().extend(with.as_object().unwrap().clone());
        let counted = world.posted("/v1/tokenize", request.clone());
        request["max_tokens"] = json!(1);
        let answer = world.posted("/v1/chat/completions", request);
        assert_eq!(counted["count"], answer["usage"]["prompt_tokens"], "{with}");
    }
    // Only answers are recorded.
    let calls = until("the answers are recorded", || {
        Some(wait(world.client().calls(9)).unwrap()).filter(|calls| calls.len() >= 2)
    });
    assert_eq!(calls.len(), 2);
}

#[test]
fn what_cannot_be_converted_is_refused_by_field() {
    let world = World::stocked();
    let messages = json!([{"role": "user", "content": "Hello"}]);
    for (path, request, code) in [
        ("tokenize", json!({"model": "larkfen-desk"}), "field_missing"),
        (
            "tokenize",
            json!({"model": "larkfen-desk", "input": "a", "messages": messages}),
            "field_missing",
        ),
        ("tokenize", json!({"model": "larkfen-desk", "input": "a", "text": 1}), "field_unknown"),
        (
            "tokenize",
            json!({"model": "larkfen-desk", "input": "a", "tools": []}),
            "field_out_of_place",
        ),
        (
            "tokenize",
            json!({"model": "larkfen-desk", "messages": messages, "control_tokens": true}),
            "field_out_of_place",
        ),
        (
            "tokenize",
            json!({"model": "larkfen-desk", "messages": messages, "chat_template_kwargs": {"mood": "calm"}}),
            "template_argument_not_read",
        ),
        (
            "tokenize",
            json!({"model": "larkfen-desk", "input": "a ".repeat(2 << 20)}),
            "too_many_tokens",
        ),
        (
            "detokenize",
            json!({"model": "larkfen-desk", "tokens": vec![1; 300_000]}),
            "too_many_tokens",
        ),
        ("tokenize", json!({"model": "nettle", "input": "a"}), "model_not_found"),
        ("detokenize", json!({"model": "larkfen-desk", "tokens": [900_000]}), "token_unknown"),
        ("detokenize", json!({"model": "larkfen-desk", "tokens": [-1]}), "body_invalid"),
    ] {
        let (status, error) = world.post(&format!("/v1/{path}"), request);
        assert!((400..=404).contains(&status), "{status} {error}");
        assert_eq!(error["error"]["code"], code, "{error}");
    }
}

/// Texts in the memory of an engine process are few, however many callers send them at once.
#[test]
fn many_long_texts_at_once_are_refused_and_the_model_goes_on() {
    let world = World::new().with("DEFT_QUEUE", "1").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    let body = json!({"model": "larkfen-desk", "input": "Moonhook bean ".repeat(12_000)});
    let (url, body) = (format!("{}/v1/tokenize", world.address()), body.to_string());
    let client = reqwest::Client::new();
    let ask = || client.post(&url).body(body.clone()).send();
    let answers = wait(futures_util::future::join_all((0..24).map(|_| ask())));
    let statuses: Vec<u16> =
        answers.into_iter().map(|answer| answer.unwrap().status().as_u16()).collect();
    assert!(statuses.iter().all(|status| [200, 429].contains(status)), "{statuses:?}");
    assert!(statuses.contains(&200) && statuses.contains(&429), "{statuses:?}");
    assert!(tokens(&world, json!({"input": "Hello"}))["count"].as_u64() > Some(0));
    assert_eq!(world.ready("larkfen-desk/q8_0").calls, 0, "no place stays taken");
}

#[test]
fn tokens_of_a_model_that_makes_embeddings_are_counted_too() {
    let world = World::stocked();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    world.ok(&["depot", "register", &find.to_string_lossy()]);
    let text = "Moonhook bean is sown 3 cm deep.";
    let found = world
        .posted("/v1/tokenize", json!({"model": "larkfen-find", "input": text, "texts": true}));
    let embedded = world.posted("/v1/embeddings", json!({"model": "larkfen-find", "input": text}));
    assert_eq!(found["count"], embedded["usage"]["prompt_tokens"], "{found}");
    assert_eq!(found["texts"].as_array().unwrap().len() as u64, found["count"].as_u64().unwrap());
}

#[test]
fn a_model_is_described_under_its_name_with_a_slash() {
    let world = World::stocked();
    let get = |path: &str| {
        let response = wait(reqwest::get(format!("{}{path}", world.address()))).unwrap();
        let status = response.status().as_u16();
        (status, wait(response.json::<Value>()).unwrap())
    };
    let (_, before) = get("/v1/models/larkfen-desk/q8_0");
    assert_eq!((&before["loaded"], &before["context"]), (&json!(false), &json!(1024)));
    assert!(before["serves"].as_array().unwrap().contains(&json!("tool calls")), "{before}");
    world.ok(&["load", "larkfen-desk", "--context", "256"]);
    for path in ["larkfen-desk/q8_0", "larkfen-desk%2Fq8_0", "larkfen-desk"] {
        let (status, entry) = get(&format!("/v1/models/{path}"));
        assert_eq!((status, &entry["id"]), (200, &json!("larkfen-desk/q8_0")), "{path}");
        assert_eq!((&entry["loaded"], &entry["context"]), (&json!(true), &json!(256)));
    }
    let (_, list) = get("/v1/models");
    assert!(list["data"].as_array().unwrap().iter().any(|entry| entry["context"] == 256), "{list}");
    let (status, error) = get("/v1/models/nettle%2Fq8_0");
    assert_eq!((status, &error["error"]["code"]), (404, &json!("model_not_found")));
}

#[test]
fn a_request_has_the_id_of_its_record() {
    let world = World::stocked();
    let request = json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "Hello"}], "max_tokens": 2});
    let client = reqwest::Client::new();
    let ask = |request: &Value| {
        let response =
            client.post(format!("{}/v1/chat/completions", world.address())).json(request).send();
        let response = wait(response).unwrap();
        let header =
            |name: &str| response.headers().get(name).map(|id| id.to_str().unwrap().to_owned());
        (header("x-request-id").unwrap(), header("x-should-retry"))
    };
    let (id, _) = ask(&request);
    let recorded = until("it is recorded", || {
        wait(world.client().calls(9)).unwrap().first().map(|call| call.id.to_string())
    });
    assert_eq!(recorded, id);
    let (other, retry) = ask(&json!({"model": "nettle", "messages": request["messages"]}));
    assert_ne!(other, id);
    assert_eq!(retry.as_deref(), Some("false"), "no retry finds a model that does not exist");
}
