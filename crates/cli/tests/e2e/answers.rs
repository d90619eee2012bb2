//! Answers in all ways.

use std::io::Write;
use std::process::Stdio;

use deft_client::StreamedPiece;
use deft_protocol::chat::{EndedBy, FinishReason};
use serde_json::{Value, json};

use crate::processes;
use crate::world::{ANSWER, QUESTION, World, endless, question, until, wait};

#[test]
fn whole_and_streamed_answers_agree_and_count_their_tokens() {
    let world = World::stocked();
    let client = world.client();
    wait(async {
        let whole = client.chat(&question("larkfen-desk", QUESTION)).await.unwrap();
        assert_eq!(whole.choices[0].message.content.as_deref(), Some(ANSWER));
        assert_eq!(whole.choices[0].finish_reason, FinishReason::Stop);
        assert_eq!(whole.model, "larkfen-desk/q8_0");
        let usage = whole.usage;
        assert_eq!((usage.prompt_tokens, usage.completion_tokens, usage.total_tokens), (12, 8, 20));
        assert_eq!(whole.choices[0].deft.ended_by, EndedBy::EndToken);
        let mut request = question("larkfen-desk", QUESTION);
        request.options.stream = Some(true);
        request.options.stream_options =
            Some(deft_protocol::chat::StreamOptions { include_usage: true });
        let mut stream = client.chat_stream(&request).await.unwrap();
        let (mut text, mut pieces, mut counted) = (String::new(), 0, None);
        while let Some(piece) = stream.next().await.unwrap() {
            match piece {
                StreamedPiece::Reasoning(thought) => panic!("this model does not think: {thought}"),
                StreamedPiece::Text(piece) => {
                    text.push_str(&piece);
                    pieces += 1;
                }
                StreamedPiece::Counted(usage) => counted = Some(usage),
                StreamedPiece::Ended(figures) => {
                    let before_text = figures.prepare_seconds + figures.prompt_seconds;
                    assert!(figures.prepare_seconds > 0.0, "{figures:?}");
                    assert!(before_text <= figures.first_token_seconds, "{figures:?}");
                }
            }
        }
        assert_eq!(text, ANSWER);
        assert!(pieces > 3, "it came in {pieces} pieces");
        let counted = counted.unwrap();
        assert_eq!(counted.completion_tokens, usage.completion_tokens);
        assert_eq!(counted.prompt_tokens, usage.prompt_tokens);
        assert_eq!(counted.prompt_tokens_details.cached_tokens, 11, "the same prompt again");
        let models = client.models().await.unwrap();
        let names: Vec<&str> = models.data.iter().map(|model| model.id.as_str()).collect();
        assert_eq!(names, ["larkfen-desk/q8_0", "larkfen-desk-mini/q8_0"]);
        assert!(models.data[0].loaded && !models.data[1].loaded);
    });
}

#[test]
fn a_seed_repeats_a_drawn_answer() {
    let world = World::stocked();
    let client = world.client();
    let draw = |seed: u64| {
        let mut request = question("larkfen-desk", "Hello");
        request.options.temperature = Some(3.0);
        request.options.max_tokens = Some(24);
        request.options.seed = Some(seed);
        wait(client.chat(&request)).unwrap().choices[0].message.content.clone()
    };
    assert_eq!(draw(1), draw(1));
    assert_ne!(draw(1), draw(2));
}

#[test]
fn an_answer_stops_when_the_caller_leaves() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let client = world.client();
    wait(async {
        let mut stream = client.chat_stream(&endless("larkfen-desk")).await.unwrap();
        for _ in 0..3 {
            stream.next().await.unwrap();
        }
        // Leaves here.
    });
    let cancelled = until("the call ended", || {
        let calls = wait(client.calls(5)).unwrap();
        calls.into_iter().find(|call| call.outcome == "cancelled")
    });
    assert!(cancelled.answer_tokens < 900, "it ran to its end: {cancelled:?}");
    until("nobody is counted as busy", || {
        world.instance("larkfen-desk/q8_0").filter(|found| found.calls == 0)
    });
    // The lane is free at once.
    world.desk_answers();
}

#[test]
fn a_whole_answer_stops_as_well_when_its_caller_hangs_up() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let client = world.client();
    let mut request = endless("larkfen-desk");
    request.options.stream = None;
    // The engine is stopped while its caller disconnects, so that the answer does not end before.
    let engine = world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap();
    processes::halt(engine);
    wait(async {
        let running = async {
            while client.status().await.unwrap().0.calls.is_empty() {
                tokio::time::sleep(std::time::Duration::from_millis(20)).await;
            }
        };
        tokio::select! {
            answer = client.chat(&request) => panic!("it was answered: {answer:?}"),
            () = running => {}
        }
    });
    processes::go_on(engine);
    let call = until("the call is recorded", || wait(client.calls(1)).unwrap().pop());
    assert_eq!(call.outcome, "cancelled");
    assert!(call.answer_tokens < 900, "it ran to its end: {call:?}");
}

#[test]
fn the_command_line_asks_in_several_ways() {
    let world = World::stocked();
    let greedy = ["--temperature", "0"];
    let ask = |more: &[&str]| {
        let mut arguments = vec!["ask", "larkfen-desk", QUESTION];
        arguments.extend(greedy.iter().chain(more));
        world.deft(&arguments)
    };
    let plain = ask(&[]);
    assert_eq!((plain.out.as_str(), plain.err.as_str()), ("Sow Moonhook bean 3 cm deep.\n", ""));
    let stats = ask(&["--stats"]);
    for figure in ["12 tokens", "8 tokens", "tokens/s", "first token", "load"] {
        assert!(stats.err.contains(figure), "{figure} is missing: {stats:?}");
    }
    let cut = ask(&["--max-tokens", "3"]);
    assert!(cut.err.contains("limit of 3 tokens; raise it with --max-tokens"), "{cut:?}");
    assert_eq!(ask(&["--stop", " 3 cm"]).out, "Sow Moonhook bean\n");
    let capitals = ask(&["--system", "Answer in capitals."]);
    assert_eq!(capitals.out, "SOW MOONHOOK BEAN 3 CM DEEP.\n");
    let json: Value = serde_json::from_str(&ask(&["--json"]).out).unwrap();
    assert_eq!((&json["answer"], &json["usage"]["completion_tokens"]), (&json!(ANSWER), &json!(8)));
    // Raw text is continued, without a template.
    let raw = world.ok(&[
        "ask",
        "larkfen-desk",
        "Sow Moonhook bean",
        "--raw",
        "--temperature",
        "0",
        "--max-tokens",
        "3",
        "--json",
    ]);
    let raw: Value = serde_json::from_str(&raw).unwrap();
    assert_eq!(raw["usage"]["prompt_tokens"], 4, "a begin token and three words: {raw}");
    assert_eq!(raw["usage"]["completion_tokens"], 3, "{raw}");
    let mut child = world
        .command(&["ask", "larkfen-desk", "-", "--temperature", "0"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(QUESTION.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout).trim(), ANSWER);
}

#[test]
fn a_full_context_says_so_and_how_to_get_more() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "64"]);
    let said = world.deft(&[
        "ask",
        "larkfen-desk",
        "Tell me all about Quillfen pea.",
        "--temperature",
        "0",
    ]);
    assert!(said.code == 0 && said.err.contains("the end of the context of 64 tokens"), "{said:?}");
    let long = "How deep do I sow Moonhook bean? ".repeat(20);
    let said = world.deft(&["ask", "larkfen-desk", &long]);
    assert!(said.code == 4 && said.err.contains("context of this instance has 64"), "{said:?}");
}

/// Wrong requests get the protocol's error shape, with the field's name.
#[test]
fn wrong_requests_are_refused_by_the_fields_name() {
    let world = World::stocked();
    let post = |path: &str, body: String| world.post(path, body);
    let message = json!([{"role": "user", "content": "Hello"}]);
    for (body, part) in [
        (
            json!({"model": "larkfen-desk", "messages": message, "temperature": "hot"}),
            "`temperature`",
        ),
        (json!({"model": "larkfen-desk", "messages": message, "stop": 5}), "`stop`"),
        (json!({"model": "larkfen-desk", "messages": [{"role": 1}]}), "`messages[0]"),
        (json!({"model": "larkfen-desk", "messages": []}), "`messages` is empty"),
        (json!({"model": "larkfen-desk", "messages": message, "n": 200}), "`n`"),
        (json!({"messages": message}), "model"),
    ] {
        let (status, error) = post("/v1/chat/completions", body.to_string());
        assert_eq!(status, 400, "{error}");
        let text = error["error"]["message"].as_str().unwrap();
        assert!(text.contains(part), "{text}");
        assert_eq!(error["error"]["type"], "invalid_request_error");
    }
    assert_eq!(post("/v1/chat/completions", "{\"model\":".to_owned()).0, 400);
    let unknown =
        json!({"model": "larkfen-desk", "messages": message, "max_tokens": 2, "colour": "green"});
    let (status, error) = post("/v1/chat/completions", unknown.to_string());
    assert_eq!((status, &error["error"]["param"]), (400, &json!("colour")));
    let harmless = json!({"model": "larkfen-desk", "messages": message, "max_tokens": 2, "metadata": {"row": "4"}});
    assert_eq!(post("/v1/chat/completions", harmless.to_string()).0, 200);
    let (status, error) =
        post("/v1/chat/completions", json!({"model": "none", "messages": message}).to_string());
    assert_eq!((status, &error["error"]["code"]), (404, &json!("model_not_found")));
    let (status, error) = post("/manage/v1/plans", json!({"model": 5}).to_string());
    assert_eq!((status, &error["code"]), (400, &json!("body_invalid")));
    assert_eq!(post("/manage/v1/nothing", String::new()).0, 404);
    let (status, error) = post("/v1/chat/completions", "x".repeat(33 << 20));
    assert_eq!((status, &error["error"]["code"]), (400, &json!("body_unreadable")), "{error}");
}
