//! Features of the chat-completions protocol besides plain answers.

use deft_protocol::chat::{AnswerOptions, ChatChunk};
use deft_protocol::engine::MAX_FRAME;
use serde_json::{Value, json};

use crate::world::{ANSWER, QUESTION, World, project, wait};

fn floats(value: &Value) -> Vec<f64> {
    value.as_array().unwrap().iter().map(|value| value.as_f64().unwrap()).collect()
}

/// Perplexity can be measured from outside: a text is scored token by token, without an answer.
#[test]
fn a_text_is_scored_from_outside() {
    let world = World::stocked();
    let scored = |text: Value, tokens: u32| {
        world.posted(
            "/v1/completions",
            json!({"model": "larkfen-desk", "prompt": text, "echo": true, "logprobs": 2,
                   "max_tokens": tokens, "temperature": 0}),
        )
    };
    let text = "Sow Moonhook bean 3 cm deep.";
    let found = scored(json!(text), 0);
    let choice = &found["choices"][0];
    assert_eq!((&choice["text"], &choice["finish_reason"]), (&json!(text), &json!("length")));
    let logprobs = &choice["logprobs"];
    let tokens = logprobs["tokens"].as_array().unwrap();
    assert_eq!(found["usage"]["prompt_tokens"], tokens.len());
    assert_eq!(found["usage"]["completion_tokens"], 0);
    assert_eq!(
        (&logprobs["token_logprobs"][0], &logprobs["top_logprobs"][0]),
        (&Value::Null, &Value::Null)
    );
    let sum = |logprobs: &Value| floats(logprobs).iter().sum::<f64>();
    let rest = |found: &Value| {
        json!(found["choices"][0]["logprobs"]["token_logprobs"].as_array().unwrap()[1..])
    };
    assert!(logprobs["top_logprobs"][1].as_object().unwrap().len() <= 2);
    let offsets = floats(&logprobs["text_offset"]);
    assert!(offsets.is_sorted() && offsets.len() == tokens.len());
    // Another number of centimetres is less likely.
    let wrong = scored(json!("Sow Moonhook bean 9 cm deep."), 0);
    assert!(sum(&rest(&found)) > sum(&rest(&wrong)));
    // The same with token ids, which scoring returned; and with an answer after it.
    let short = scored(json!("Sow Moonhook bean"), 5);
    let answer = short["choices"][0]["text"].as_str().unwrap();
    assert!(answer.starts_with("Sow Moonhook bean ") && answer.len() > 20, "{answer}");
    let by_ids = world.posted(
        "/v1/completions",
        json!({"model": "larkfen-desk", "prompt": [1, 20, 30, 40], "max_tokens": 3, "seed": 1}),
    );
    assert_eq!(by_ids["usage"]["prompt_tokens"], 4);
    let (status, error) =
        world.post("/v1/completions", json!({"model": "larkfen-desk", "prompt": [1, 900_000]}));
    assert_eq!((status, &error["error"]["code"]), (400, &json!("token_unknown")));
    let (status, error) =
        world.post("/v1/completions", json!({"model": "larkfen-desk", "prompt": {"text": 1}}));
    assert!(
        status == 400
            && error.to_string().contains("a text, a list of token ids, or a list of either"),
        "{error}"
    );
}

#[test]
fn answers_come_with_the_probabilities_of_their_tokens() {
    let world = World::stocked();
    let messages = json!([{"role": "user", "content": QUESTION}]);
    let body = |more: Value| {
        let mut body = json!({"model": "larkfen-desk", "messages": messages, "temperature": 0});
        body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        body
    };
    let plain = world.posted("/v1/chat/completions", body(json!({})));
    assert!(plain["choices"][0].get("logprobs").is_none());
    let answer =
        world.posted("/v1/chat/completions", body(json!({"logprobs": true, "top_logprobs": 3})));
    let content = answer["choices"][0]["logprobs"]["content"].as_array().unwrap();
    let spelt: String = content.iter().map(|token| token["token"].as_str().unwrap()).collect();
    assert_eq!(spelt, ANSWER);
    for token in content {
        let top = token["top_logprobs"].as_array().unwrap();
        assert_eq!((top.len(), &top[0]["token"]), (3, &token["token"]));
        assert!(token["logprob"].as_f64().unwrap() <= 0.0);
    }
    assert!(answer["usage"]["prompt_tokens_details"]["cached_tokens"].as_u64().unwrap() > 0);
    let (status, error) = world.post("/v1/chat/completions", body(json!({"top_logprobs": 3})));
    assert!(status == 400 && error.to_string().contains("`top_logprobs`"), "{error}");
    let (status, error) =
        world.post("/v1/chat/completions", body(json!({"logprobs": true, "top_logprobs": 30})));
    assert!(status == 400 && error.to_string().contains("at most 20"), "{error}");
}

#[test]
fn several_answers_come_whole_and_streamed_alike() {
    let world = World::stocked();
    let options = AnswerOptions {
        n: Some(3),
        temperature: Some(4.0),
        seed: Some(3),
        max_tokens: Some(9),
        ..AnswerOptions::default()
    };
    let mut request = crate::world::question("larkfen-desk", QUESTION);
    request.options = options;
    let client = world.client();
    let whole = wait(client.chat(&request)).unwrap();
    let texts: Vec<&str> =
        whole.choices.iter().map(|choice| choice.message.content.as_deref().unwrap()).collect();
    assert_eq!(whole.choices.iter().map(|choice| choice.index).collect::<Vec<_>>(), [0, 1, 2]);
    assert!(texts[0] != texts[1] && texts[1] != texts[2]);
    assert_eq!(whole.usage.prompt_tokens, 12, "the prompt is counted once");
    assert!(whole.choices[2].deft.cached_tokens >= 11);
    let mut body = serde_json::to_value(&request).unwrap();
    body["stream"] = json!(true);
    let url = format!("{}/v1/chat/completions", world.address());
    let events = wait(async {
        let sent = reqwest::Client::new().post(url).body(body.to_string()).send().await;
        sent.unwrap().text().await.unwrap()
    });
    let mut streamed = vec![String::new(); 3];
    let mut ended = 0;
    for event in events.lines().filter_map(|line| line.strip_prefix("data: {")) {
        let chunk: ChatChunk = serde_json::from_str(&format!("{{{event}")).unwrap();
        for choice in chunk.choices {
            streamed[choice.index as usize].push_str(&choice.delta.content.unwrap_or_default());
            ended += u32::from(choice.finish_reason.is_some() && choice.deft.is_some());
        }
    }
    assert_eq!((streamed, ended), (texts.iter().map(|text| (*text).to_owned()).collect(), 3));
}

#[test]
fn several_prompts_of_a_request_are_continued_each_by_itself() {
    let world = World::stocked();
    let body = |prompt: Value, more: Value| {
        let mut body = json!({"model": "larkfen-desk", "prompt": prompt, "temperature": 0,
                              "max_tokens": 6});
        body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        body
    };
    let texts = |found: &Value| -> Vec<String> {
        let choices = found["choices"].as_array().unwrap();
        let indices: Vec<u64> = choices.iter().map(|one| one["index"].as_u64().unwrap()).collect();
        assert_eq!(indices, (0..choices.len() as u64).collect::<Vec<_>>());
        choices.iter().map(|one| one["text"].as_str().unwrap().to_owned()).collect()
    };
    let prompts = ["Sow Moonhook bean", "Quillfen pea", "Ember chard"];
    let alone: Vec<Value> = prompts
        .iter()
        .map(|prompt| world.posted("/v1/completions", body(json!(prompt), json!({}))))
        .collect();
    // More calls than lanes: those that wait are let in when others end.
    let process = world.ready("larkfen-desk/q8_0").pid;
    let together = world.posted("/v1/completions", body(json!(prompts), json!({"n": 2})));
    assert_eq!(world.ready("larkfen-desk/q8_0").pid, process, "its process was not given up");
    let expected: Vec<String> =
        alone.iter().flat_map(|one| [&texts(one)[..]; 2].concat()).collect();
    assert_eq!(texts(&together), expected, "the answers to a prompt stand together");
    let prompt_tokens = |found: &Value| found["usage"]["prompt_tokens"].as_u64().unwrap();
    assert_eq!(prompt_tokens(&together), alone.iter().map(prompt_tokens).sum::<u64>());
    // The same by token ids, and as a stream.
    let ids = world.posted("/v1/completions", body(json!([[1, 20, 30], [1, 40]]), json!({})));
    assert_eq!((texts(&ids).len(), prompt_tokens(&ids)), (2, 5));
    let url = format!("{}/v1/completions", world.address());
    let streaming = body(json!(prompts), json!({"stream": true}));
    let events = wait(async {
        let sent = reqwest::Client::new().post(url).body(streaming.to_string()).send().await;
        sent.unwrap().text().await.unwrap()
    });
    let mut streamed = vec![String::new(); 3];
    for event in events.lines().filter_map(|line| line.strip_prefix("data: {")) {
        let piece: Value = serde_json::from_str(&format!("{{{event}")).unwrap();
        for choice in piece["choices"].as_array().unwrap() {
            let index = usize::try_from(choice["index"].as_u64().unwrap()).unwrap();
            streamed[index].push_str(choice["text"].as_str().unwrap());
        }
    }
    assert_eq!(streamed, alone.iter().flat_map(texts).collect::<Vec<_>>());
    assert!(events.ends_with("data: [DONE]\n\n"), "{events}");
    // More than sixteen answers, and too many.
    let many = world.posted("/v1/completions", body(json!("Sow"), json!({"n": 20})));
    assert_eq!(texts(&many).len(), 20);
    for (wrong, field) in [
        (body(json!("Sow"), json!({"n": 129})), "n"),
        (body(json!(prompts), json!({"n": 50})), "prompt"),
        (body(json!(["Sow", 5]), json!({})), "prompt"),
    ] {
        let (status, error) = world.post("/v1/completions", &wrong);
        assert_eq!(status, 400, "{error}");
        assert!(field == "prompt" || error["error"]["param"] == field, "{error}");
    }
}

#[test]
fn a_conversation_longer_than_the_context_drops_its_oldest_turns_when_asked() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "64"]);
    let turns = (0..8).flat_map(|_| {
        [
            json!({"role": "user", "content": QUESTION}),
            json!({"role": "assistant", "content": ANSWER}),
        ]
    });
    let last = json!({"role": "user", "content": QUESTION});
    let messages: Vec<Value> = turns.chain([last]).collect();
    let body = json!({"model": "larkfen-desk", "messages": messages, "temperature": 0});
    let (status, error) = world.post("/v1/chat/completions", &body);
    assert_eq!((status, &error["error"]["code"]), (400, &json!("context_length_exceeded")));
    let mut asked = body;
    asked["when_context_full"] = json!("leave_out_oldest");
    let answer = world.posted("/v1/chat/completions", asked);
    assert_eq!(answer["choices"][0]["message"]["content"], ANSWER);
    assert!(answer["choices"][0]["deft"]["left_out_messages"].as_u64().unwrap() >= 8);
}

#[test]
fn embeddings_find_what_is_meant() {
    let world = World::new().start();
    world.ok(&[
        "depot",
        "register",
        &project("demo/larkfen-find/larkfen-find-q8_0.gguf").to_string_lossy(),
    ]);
    let embed = |input: Value, format: &str| {
        world.posted(
            "/v1/embeddings",
            json!({"model": "larkfen-find", "input": input, "encoding_format": format}),
        )
    };
    let many =
        embed(json!(["When do I sow beans?", "When are beans sown?", "a ship at night"]), "float");
    let vectors: Vec<Vec<f64>> =
        many["data"].as_array().unwrap().iter().map(|entry| floats(&entry["embedding"])).collect();
    let cosine =
        |a: usize, b: usize| vectors[a].iter().zip(&vectors[b]).map(|(a, b)| a * b).sum::<f64>();
    assert!((cosine(0, 0) - 1.0).abs() < 1e-4);
    assert!(cosine(0, 1) > 0.7 && cosine(0, 2) < 0.4, "{} {}", cosine(0, 1), cosine(0, 2));
    assert_eq!(many["model"], "larkfen-find/q8_0");
    let one = embed(json!("When do I sow beans?"), "float");
    assert_eq!(floats(&one["data"][0]["embedding"]), vectors[0], "alone and among others");
    assert_eq!(one["usage"]["prompt_tokens"], one["usage"]["total_tokens"]);
    let coded = embed(json!("When do I sow beans?"), "base64");
    let coded = coded["data"][0]["embedding"].as_str().unwrap();
    assert_eq!(coded.len().div_ceil(4), (vectors[0].len() * 4).div_ceil(3));
    let (status, error) =
        world.post("/v1/embeddings", json!({"model": "larkfen-find", "input": []}));
    assert_eq!((status, &error["error"]["code"]), (400, &json!("prompt_empty")));
    let long = "bean ".repeat(500);
    let (status, error) =
        world.post("/v1/embeddings", json!({"model": "larkfen-find", "input": long}));
    assert_eq!((status, &error["error"]["code"]), (400, &json!("context_length_exceeded")));
    let said = world.deft(&["ask", "larkfen-find", "Hello"]);
    assert!(said.code == 4 && said.err.contains("makes only embeddings"), "{said:?}");
}

#[test]
fn the_eight_bit_cache_answers_as_well_and_takes_less() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--cache", "q8_0", "--cache-values", "f16"]);
    let instance = world.ready("larkfen-desk/q8_0");
    let cache = |instance: &deft_protocol::manage::InstanceReport| {
        instance.planned.iter().find(|part| part.part == "KV cache").unwrap().bytes
    };
    world.desk_answers();
    world.desk_answers();
    let mixed = cache(&instance);
    let used = world.instance("larkfen-desk/q8_0").unwrap();
    assert!(used.prompt_tokens == 24 && used.cached_tokens == 11, "{used:?}");
    world.ok(&["unload", "larkfen-desk"]);
    world.ok(&["load", "larkfen-desk", "--cache", "f16"]);
    assert!(mixed < cache(&world.ready("larkfen-desk/q8_0")));
}

#[test]
fn an_answer_that_repeats_itself_is_ended_and_counted_as_it_was() {
    let world = World::stocked();
    let body = |guard: bool| {
        json!({"model": "larkfen-desk", "prompt": "Sow", "logit_bias": {"300": 100},
               "temperature": 0, "max_tokens": 500, "repetition_guard": guard, "echo": true})
    };
    let ended = world.posted("/v1/completions", body(true));
    let choice = &ended["choices"][0];
    assert_eq!(
        (&choice["finish_reason"], &choice["deft"]["ended_by"]),
        (&json!("length"), &json!("repetition"))
    );
    assert!(choice["deft"]["detail"].as_str().unwrap().contains("repeated one token 240 times"));
    assert_eq!(ended["usage"]["completion_tokens"], 240);
    let client = world.client();
    let call = crate::world::until("the call is recorded", || wait(client.calls(1)).unwrap().pop());
    assert_eq!(call.answer_tokens, 240, "the echo of the prompt is no token of the answer");
    let free = world.posted("/v1/completions", body(false));
    assert_eq!(free["choices"][0]["deft"]["ended_by"], "token_limit");
}

/// Requests that ended an engine process once, or might: each is refused, and the process stays.
#[test]
fn no_request_ends_an_engine_process_however_deep_or_large_it_is() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let before = world.ready("larkfen-desk/q8_0").pid;
    let ask = |messages: &str, tools: &str| {
        let body = format!(
            "{{\"model\": \"larkfen-desk\", \"max_tokens\": 1, \"messages\": {messages}, \"tools\": {tools}}}"
        );
        world.post("/v1/chat/completions", body)
    };
    let hello = r#"[{"role": "user", "content": "Hello"}]"#;
    let nested = |levels: usize| format!("{}1{}", "[".repeat(levels), "]".repeat(levels));
    let deep_message =
        format!(r#"[{{"role": "user", "content": "Hello", "row": {}}}]"#, nested(100));
    let numbers =
        |number: &str, count: usize| format!("[[{}{number}]]", format!("{number},").repeat(count));
    let long = format!(r#"[{{"role": "user", "content": "{}"}}]"#, "sow ".repeat(7 << 20));
    // What goes along with it makes it longer than the link takes.
    let full = "sow ".repeat((MAX_FRAME - 200) / 4);
    let full = format!(r#"[{{"role": "user", "content": "{full}"}}]"#);
    for (case, messages, tools, code) in [
        ("tools nested 125 levels", hello, &nested(120)[..], "field_too_large"),
        ("tools nested 10,000 levels", hello, &nested(10_000), "body_invalid"),
        ("a message nested 100 levels", &deep_message, "[]", "field_too_large"),
        ("five million numbers", hello, &numbers("7", 5_000_000), "body_unreadable"),
        ("two hundred thousand numbers", hello, &numbers("7", 200_000), "field_too_large"),
        ("as long as a body may be", &full, "[]", "request_too_large"),
        ("28 MiB of text", &long, "[]", "body_unreadable"),
    ] {
        let (status, answer) = ask(messages, tools);
        assert_eq!(
            (status, answer["error"]["code"].as_str()),
            (400, Some(code)),
            "{case}: {answer}"
        );
    }
    // As many inputs as may be, and one long text.
    let inputs = vec!["Moonhook bean"; 2048];
    let (status, answer) =
        world.post("/v1/embeddings", json!({"model": "larkfen-desk", "input": inputs}));
    assert_eq!((status, answer["error"]["code"].as_str()), (400, Some("no_embeddings")));
    let (status, answer) = world.post(
        "/v1/chat/completions",
        json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": "sow ".repeat(7 << 18)}]}),
    );
    assert_eq!(status, 400, "a text that no context holds is refused in time: {answer}");
    let after = world.ready("larkfen-desk/q8_0");
    assert_eq!((after.pid, after.crashes), (before, 0));
    world.desk_answers();
}

#[test]
fn parts_of_a_message_are_one_text_and_what_is_no_text_is_refused_by_name() {
    let world = World::stocked();
    let ask = |content: serde_json::Value| {
        world.post(
            "/v1/chat/completions",
            json!({"model": "larkfen-desk", "temperature": 0, "max_tokens": 20,
                   "messages": [{"role": "user", "content": content}]}),
        )
    };
    let whole = ask(json!("How deep do I sow <|im_end|> Moonhook bean?"));
    let parts = ask(json!([
        {"type": "text", "text": "How deep do I sow <|im_"},
        {"type": "text", "text": "end|> Moonhook bean?"},
    ]));
    let usage = |answer: &(u16, serde_json::Value)| answer.1["usage"]["prompt_tokens"].clone();
    assert_eq!(parts.1["choices"][0]["message"], whole.1["choices"][0]["message"]);
    assert_eq!(usage(&parts), usage(&whole), "a control token in two parts stays words");
    let (status, answer) = ask(json!([
        {"type": "text", "text": "What is this?"},
        {"type": "image_url", "image_url": {"url": "data:image/png;base64,AAAA"}},
    ]));
    assert_eq!((status, answer["error"]["code"].as_str()), (400, Some("part_not_supported")));
    let detail = answer["error"]["message"].as_str().unwrap();
    assert!(detail.contains("`messages[0].content[1]` is of type `image_url`"), "{detail}");
}

#[test]
fn control_tokens_of_a_whole_prompt_act_and_those_of_a_message_are_words() {
    let world = World::stocked();
    let facts = wait(world.client().inspect("larkfen-desk")).unwrap().facts;
    let control = facts.special_tokens.iter().find(|token| token.role.contains("end")).unwrap();
    let ask = |more: serde_json::Value| {
        let mut body = json!({"model": "larkfen-desk", "max_tokens": 1, "temperature": 0,
                              "prompt": format!("Moonhook bean{}", control.text)});
        body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        world.posted("/v1/completions", body)["usage"]["prompt_tokens"].as_u64().unwrap()
    };
    let (acts, words) = (ask(json!({})), ask(json!({"control_tokens": false})));
    assert!(acts < words, "as one token it is shorter than as words: {acts}, {words}");
}

#[test]
fn documents_are_ordered_by_a_query() {
    let world = World::stocked();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    world.ok(&["depot", "register", &find.to_string_lossy()]);
    let documents =
        json!(["Ember chard is sown in March.", {"text": "Moonhook bean is sown 3 cm deep."}]);
    let ask = |more: Value| {
        let mut request = json!({"model": "larkfen-find", "query": "How deep do I sow Moonhook bean?", "documents": documents});
        request.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        world.post("/v1/rerank", request)
    };
    let (status, found) = ask(json!({"return_documents": true}));
    assert_eq!(status, 200, "{found}");
    let results = found["results"].as_array().unwrap();
    assert_eq!((results.len(), &results[0]["index"]), (2, &json!(1)), "{found}");
    assert_eq!(results[0]["document"], "Moonhook bean is sown 3 cm deep.");
    let score = |at: usize| results[at]["relevance_score"].as_f64().unwrap();
    assert!(score(0) > score(1) && score(0) <= 1.0, "{found}");
    assert!(found["usage"]["prompt_tokens"].as_u64() > Some(0));
    let (_, first) = ask(json!({"top_n": 1}));
    assert_eq!(first["results"].as_array().unwrap().len(), 1);
    assert!(first["results"][0]["document"].is_null());
    for (bad, code) in [
        (json!({"documents": []}), "field_out_of_range"),
        (json!({"documents": [5]}), "body_invalid"),
        (json!({"order": "up"}), "field_unknown"),
        (json!({"model": "larkfen-desk"}), "no_embeddings"),
    ] {
        let (status, error) = ask(bad);
        assert_eq!((status, &error["error"]["code"]), (400, &json!(code)), "{error}");
    }
}

#[test]
fn a_model_without_tokens_for_it_fills_in_no_middle() {
    let world = World::stocked();
    for (prompt, code) in [(json!("Sow "), "no_fill_in"), (json!([1, 2]), "field_out_of_range")] {
        let request = json!({"model": "larkfen-desk", "prompt": prompt, "suffix": " deep."});
        let (status, error) = world.post("/v1/completions", request);
        assert_eq!((status, &error["error"]["code"]), (400, &json!(code)), "{error}");
        assert_eq!(error["error"]["param"], "suffix");
    }
}
