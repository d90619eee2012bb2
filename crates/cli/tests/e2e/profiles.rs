//! Profiles, and models that compare texts.

use serde_json::{Value, json};

use crate::database::sql;
use crate::world::{QUESTION, World, project};

fn register(world: &World, name: &str) {
    world.ok(&["depot", "register", &project(name).to_string_lossy()]);
}

fn error((status, body): (u16, Value)) -> (u16, String) {
    (status, body["error"]["code"].as_str().unwrap_or_default().to_owned())
}

#[test]
fn a_cross_encoder_orders_documents_and_does_nothing_else() {
    let world = World::new().start();
    register(&world, "golden/own/rank.gguf");
    register(&world, "golden/models/bert-classes.gguf");
    let facts = std::fs::read(project("golden/own/rank.json")).unwrap();
    let facts: Value = serde_json::from_slice(&facts).unwrap();
    let request =
        json!({"model": "rank", "query": facts["query"], "documents": facts["documents"]});
    let found = world.posted("/v1/rerank", request.clone());
    let results = found["results"].as_array().unwrap();
    let order: Vec<u64> = results.iter().map(|one| one["index"].as_u64().unwrap()).collect();
    assert_eq!(order, [3, 2, 0, 1], "{found}");
    let best = facts["scores"][3].as_f64().unwrap();
    let score = results[0]["relevance_score"].as_f64().unwrap();
    assert!((score - 1.0 / (1.0 + (-best).exp())).abs() < 1e-3, "{found}");
    let tokens: usize =
        facts["tokens"].as_array().unwrap().iter().map(|pair| pair.as_array().unwrap().len()).sum();
    assert_eq!(found["usage"]["prompt_tokens"], tokens, "a pair has the query and the document");

    let embed = world.post("/v1/embeddings", json!({"model": "rank", "input": "frost"}));
    assert_eq!(error(embed), (400, "only_ranks".to_owned()));
    let chat = json!({"model": "rank", "messages": [{"role": "user", "content": "frost"}]});
    assert_eq!(error(world.post("/v1/chat/completions", chat)), (400, "only_ranks".to_owned()));
    let classes = json!({"model": "bert-classes", "query": "frost", "documents": ["May"]});
    assert_eq!(error(world.post("/v1/rerank", classes)), (400, "only_classes".to_owned()));
    let long = json!({"model": "rank", "query": "frost", "documents": ["seed ".repeat(70)]});
    assert_eq!(error(world.post("/v1/rerank", long)), (400, "context_length_exceeded".to_owned()));
    let inspected = world.deft(&["depot", "inspect", "bert-classes"]);
    assert!(inspected.err.contains("3 classes"), "{inspected:?}");
}

#[test]
fn a_profile_puts_prefixes_before_inputs_and_shortens_embeddings() {
    let world = World::new().start();
    register(&world, "demo/larkfen-find/larkfen-find-q8_0.gguf");
    let save = ["profile", "save", "seek", "--from", "larkfen-find", "--query-prefix", "query: "];
    let more = ["--passage-prefix", "passage: ", "--dimensions", "16,32"];
    let saved = world.ok(&[&save[..], &more].concat());
    assert!(saved.contains("profile `seek` saved"), "{saved}");
    let embed = |more: Value| {
        let mut request = json!({"model": "larkfen-find", "input": "frost"});
        request.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let (status, found) = world.post("/v1/embeddings", request);
        match status {
            200 => {
                Ok(serde_json::from_value::<Vec<f64>>(found["data"][0]["embedding"].clone())
                    .unwrap())
            }
            _ => Err(error((status, found)).1),
        }
    };
    let of_profile = |more: Value| {
        let mut more = more;
        more["model"] = json!("seek");
        embed(more)
    };
    assert_eq!(of_profile(json!({})), embed(json!({"input": "passage: frost"})));
    let query = of_profile(json!({"input_role": "query"}));
    assert_eq!(query, embed(json!({"input": "query: frost"})));
    let short = of_profile(json!({"dimensions": 16})).unwrap();
    let length: f64 = short.iter().map(|value| value * value).sum();
    assert!(short.len() == 16 && (length - 1.0).abs() < 1e-5, "{short:?}");
    let whole = query.unwrap().len();
    assert_eq!(embed(json!({"dimensions": whole})).map(|all| all.len()), Ok(whole));
    for (bad, code) in [
        (embed(json!({"dimensions": 16})), "dimensions_not_trained"),
        (of_profile(json!({"dimensions": 17})), "dimensions_not_trained"),
        (embed(json!({"input_role": "query"})), "field_out_of_place"),
        (of_profile(json!({"input": [5, 6]})), "field_out_of_place"),
        (of_profile(json!({"input_role": "title"})), "body_invalid"),
    ] {
        assert_eq!(bad, Err(code.to_owned()));
    }
    // Documents are passages, and what is searched is a query.
    let rank = |model: &str, query: &str, document: &str| {
        let request = json!({"model": model, "query": query, "documents": [document]});
        world.posted("/v1/rerank", request)["results"][0]["relevance_score"].clone()
    };
    assert_eq!(
        rank("seek", "frost", "in May"),
        rank("larkfen-find", "query: frost", "passage: in May")
    );
    assert_ne!(rank("seek", "frost", "in May"), rank("larkfen-find", "frost", "in May"));
}

#[test]
fn a_profile_is_listed_like_a_model_and_stays_until_it_is_removed() {
    let world = World::stocked();
    register(&world, "demo/larkfen-find/larkfen-find-q8_0.gguf");
    assert!(world.deft(&["profile", "list"]).err.contains("no profiles"));
    world.ok(&["profile", "save", "brief", "--from", "larkfen-desk"]);
    world.ok(&[
        "profile",
        "save",
        "seek",
        "--from",
        "larkfen-find",
        "--inputs",
        "query",
        "--query-prefix",
        "q: ",
    ]);
    world.ok(&["service", "stop"]);
    let world = world.start();
    insta::assert_snapshot!(world.ok(&["profile", "list"]));
    insta::assert_snapshot!(world.ok(&["profile", "show", "seek"]));
    let ask = json!({"model": "brief", "max_tokens": 2, "messages": [{"role": "user", "content": QUESTION}]});
    assert_eq!(world.posted("/v1/chat/completions", ask)["model"], "larkfen-desk/q8_0");
    let listed = world.got("/v1/models");
    let ids: Vec<&str> =
        listed["data"].as_array().unwrap().iter().filter_map(|one| one["id"].as_str()).collect();
    assert!(ids.contains(&"brief") && ids.contains(&"seek"), "{ids:?}");
    assert_eq!(world.got("/v1/models/seek")["serves"], json!(["embeddings", "rerank"]));

    let refused = |arguments: &[&str], code: i32, words: &str| {
        let said = world.deft(arguments);
        assert!(said.code == code && said.err.contains(words), "{arguments:?}: {said:?}");
    };
    refused(&["profile", "save", "larkfen-desk", "--from", "larkfen-find"], 4, "name of a model");
    refused(&["profile", "save", "a/b", "--from", "larkfen-find"], 4, "letters, digits");
    refused(&["profile", "save", "two", "--from", "brief"], 4, "`brief` is a profile");
    refused(&["profile", "save", "two", "--from", "nettle"], 3, "no model `nettle`");
    refused(&["profile", "show", "brie"], 3, "did you mean `brief`");
    let known = ["profile", "save", "two", "--from", "larkfen-desk", "--call-example", "find"];
    refused(&known, 4, "writes calls itself");
    let desk = project("demo/larkfen-desk/larkfen-desk-q8_0.gguf").to_string_lossy().into_owned();
    for taken in [
        &["depot", "register", &desk, "--as", "brief"][..],
        &["depot", "import", &desk, "--as", "brief/other"],
        &["depot", "rename", "larkfen-find", "seek"],
    ] {
        refused(taken, 4, "is the name of a profile");
    }
    world.ok(&["depot", "remove", "larkfen-find"]);
    let orphan = world.post("/v1/embeddings", json!({"model": "seek", "input": "frost"}));
    assert_eq!(error(orphan), (404, "model_not_found".to_owned()));
    assert!(world.ok(&["profile", "remove", "seek"]).contains("`seek` removed"));
    refused(&["profile", "remove", "seek"], 3, "no profile `seek`");
}

#[test]
fn a_profile_that_is_not_understood_stays_as_it_is() {
    let world = World::stocked();
    sql(
        &world,
        "insert into profiles (node, name, profile)
         select id, 'tomorrow', '{\"model\": \"larkfen-desk\", \"mood\": 7}' from nodes",
    );
    world.ok(&["service", "restart"]);
    assert!(!world.ok(&["profile", "list"]).contains("tomorrow"));
    let desk = project("demo/larkfen-desk/larkfen-desk-q8_0.gguf").to_string_lossy().into_owned();
    for (refused, words) in [
        (&["profile", "save", "tomorrow", "--from", "larkfen-desk"][..], "cannot be read"),
        (&["profile", "remove", "tomorrow"], "cannot be read"),
        (&["depot", "register", &desk, "--as", "tomorrow"], "is the name of a profile"),
    ] {
        let said = world.deft(refused);
        assert!(said.code == 4 && said.err.contains(words), "{refused:?}: {said:?}");
    }
    let stays = sql(&world, "select profile ->> 'mood' from profiles where name = 'tomorrow'");
    assert_eq!(stays, "7");
    assert!(world.log().contains("the profile `tomorrow` was left unchanged"), "{}", world.log());
}

#[test]
fn a_model_whose_template_knows_no_tools_calls_them_in_the_form_of_a_profile() {
    let world = World::new().start();
    let folder = tempfile::tempdir().unwrap();
    let template = folder.path().join("plain.jinja");
    let text = "{% for m in messages %}{% if loop.index0 > 0 and m.role == messages[loop.index0 - 1].role %}\
                {{ raise_exception('two messages of one role') }}{% endif %}[{{ m.role }}] {{ m.content }}\n{% endfor %}";
    std::fs::write(&template, text).unwrap();
    let desk = project("demo/larkfen-desk/larkfen-desk-q8_0.gguf");
    let import = ["depot", "import", &desk.to_string_lossy(), "--as", "plain", "--template"];
    world.ok(&[&import[..], &[&*template.to_string_lossy()]].concat());
    let tool = json!({"type": "function", "function": {"name": "stock_level", "parameters":
        {"type": "object", "properties": {"variety": {"enum": ["Moonhook bean", "Ember chard"]}}, "required": ["variety"],
         "additionalProperties": false}}});
    let earlier = json!([
        {"role": "user", "content": "How many packets of Ember chard are there?"},
        {"role": "assistant", "content": null, "tool_calls": [{"id": "a", "type": "function",
            "function": {"name": "stock_level", "arguments": "{\"variety\": \"Ember chard\"}"}}]},
        {"role": "tool", "tool_call_id": "a", "content": "12"},
        {"role": "user", "content": "And of Moonhook bean?"},
    ]);
    let ask = |model: &str, choice: &str| {
        let request = json!({"model": model, "temperature": 0, "max_tokens": 60, "messages": earlier,
                             "tools": [tool], "tool_choice": choice});
        world.post("/v1/chat/completions", request)
    };
    let (status, refused) = ask("plain", "required");
    assert_eq!((status, &refused["error"]["code"]), (400, &json!("no_tool_calls")), "{refused}");
    for (at, example) in [
        "{\"name\": \"find\", \"arguments\": {\"text\": \"Moonhook\"}}",
        "<call>{\"tool\": \"find\", \"with\": {\"text\": \"Moonhook\"}}</call>",
        "[find(text=\"Moonhook\")]",
    ]
    .iter()
    .enumerate()
    {
        let name = format!("told-{at}");
        world.ok(&["profile", "save", &name, "--from", "plain", "--call-example", example]);
        let serves = world.got(&format!("/v1/models/{name}"))["serves"].to_string();
        assert!(serves.contains("tool calls"), "{serves}");
        let (status, found) = ask(&name, "required");
        assert_eq!(
            (status, &found["choices"][0]["finish_reason"]),
            (200, &json!("tool_calls")),
            "{found}"
        );
        let call = &found["choices"][0]["message"]["tool_calls"][0]["function"];
        assert_eq!(call["name"], "stock_level");
        let arguments: Value = serde_json::from_str(call["arguments"].as_str().unwrap()).unwrap();
        assert!(arguments["variety"].is_string(), "{found}");
        // Without a call in the answer, earlier calls and results are still understood.
        assert_eq!(ask(&name, "none").0, 200);
    }
    let bad =
        world.deft(&["profile", "save", "odd", "--from", "plain", "--call-example", "find it"]);
    assert!(bad.code == 4 && bad.err.contains("none of the known forms"), "{bad:?}");
}
