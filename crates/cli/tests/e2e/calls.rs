//! Running calls: waiting callers are informed, operators see and end calls, and a crash before the first
//! word is no caller's concern.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use deft_protocol::manage::{CallStage, IdleLimit, InstanceState, Origin, RunningCall};
use serde_json::{Value, json};

use crate::browser::Browser;
use crate::processes;
use crate::world::{World, question, send, until, wait};

/// So slow that a step takes a good half of a second.
const SLOW: &str = r#"
[calls]
heartbeat_seconds = 1
status_seconds = 1
[[pools.simulated]]
name = "fern"
size = "16 MiB"
speed = "2 MiB/s"
"#;

/// A reader that hears nothing for so long gives up.
const GIVES_UP: Duration = Duration::from_millis(2500);

fn slow() -> World {
    let world = World::configured(SLOW).start().stock();
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--chunk", "16"]);
    world
}

fn long_question(stream: bool) -> Value {
    let words = "How deep do I sow Moonhook bean, and when? ".repeat(8);
    json!({"model": "larkfen-desk", "messages": [{"role": "user", "content": words}],
           "temperature": 0, "max_tokens": 2, "stream": stream})
}

/// Asks as a program does that gives up when it hears nothing; all that comes back.
fn ask(world: &World, body: &Value) -> JoinHandle<String> {
    ask_patiently(world, body, GIVES_UP)
}

fn ask_patiently(world: &World, body: &Value, patience: Duration) -> JoinHandle<String> {
    let address = world.address().trim_start_matches("http://").trim_end_matches('/').to_owned();
    let body = body.to_string();
    std::thread::spawn(move || {
        let mut socket = TcpStream::connect(&address).unwrap();
        socket.set_read_timeout(Some(patience)).unwrap();
        let length = body.len();
        let head = format!(
            "POST /v1/chat/completions HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\
             content-type: application/json\r\ncontent-length: {length}\r\n\r\n"
        );
        socket.write_all(format!("{head}{body}").as_bytes()).unwrap();
        let mut all = String::new();
        socket.read_to_string(&mut all).expect("it hears something in time");
        all
    })
}

fn running(world: &World) -> Vec<RunningCall> {
    wait(world.client().running_calls()).unwrap()
}

/// Waits until a part of the call's prompt is processed; returns the call.
fn taken_in(world: &World) -> RunningCall {
    until("some of the prompt is taken in", || {
        running(world).into_iter().find(|call| call.share.is_some_and(|share| share > 0.0))
    })
}

#[test]
fn a_caller_who_waits_gets_its_position() {
    let world = slow();
    let streamed = ask(&world, &long_question(true));
    let call = taken_in(&world);
    assert_eq!((call.stage, call.name.as_str()), (CallStage::Prompt, "larkfen-desk/q8_0"));
    assert!(call.prompt_tokens.is_some_and(|tokens| tokens > 64), "{call:?}");
    let output = world.ok(&["calls"]);
    assert!(output.contains("processing the prompt, ") && output.contains(" % "), "{output}");
    assert!(until("its pace is known", || running(&world)[0].seconds_left) > 0.0);
    let streamed = streamed.join().unwrap();
    assert!(streamed.starts_with("HTTP/1.1 200"), "{streamed}");
    let comments: Vec<&str> = streamed.lines().filter(|line| line.starts_with(": ")).collect();
    assert!(comments.len() >= 2, "{streamed}");
    assert!(
        comments.iter().any(|line| line.starts_with(": processing the prompt, ")),
        "{streamed}"
    );
    assert!(streamed.contains("\"finish_reason\":\"length\""), "{streamed}");
    assert!(streamed.contains("data: [DONE]"), "{streamed}");
    assert!(running(&world).is_empty());
    // In one piece: white space, and then the answer. Another question, for this one is known now.
    let mut other = long_question(false);
    other["messages"][0]["content"] = json!("Is Quillfen pea hardy? ".repeat(12));
    let whole = ask(&world, &other).join().unwrap();
    let (head, body) = whole.split_once("\r\n\r\n").unwrap();
    assert!(head.starts_with("HTTP/1.1 200") && head.contains("application/json"), "{head}");
    let chunks: Vec<&str> = body.split("\r\n").collect();
    assert!(chunks[1] == " " && chunks[3] == " ", "white space comes first: {body}");
    let json: Value = chunks
        .iter()
        .find_map(|chunk| serde_json::from_str(chunk).ok().filter(Value::is_object))
        .unwrap();
    assert_eq!(json["usage"]["completion_tokens"], 2);
}

#[test]
fn a_failure_of_an_answer_in_one_piece_has_its_own_status_also_after_seconds() {
    let held = SLOW.replace("status_seconds = 1", "status_seconds = 600");
    let world = World::configured(&held).start().stock();
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--chunk", "16"]);
    let asked = ask_patiently(&world, &long_question(false), Duration::from_secs(60));
    let id = taken_in(&world).id.to_string();
    // Heartbeats are every second.
    std::thread::sleep(Duration::from_secs(2));
    world.ok(&["calls", "--cancel", &id]);
    let output = asked.join().unwrap();
    let (head, body) = output.split_once("\r\n\r\n").unwrap();
    assert!(!head.starts_with("HTTP/1.1 2"), "{output}");
    assert!(body.starts_with('{') && body.contains("\"code\":\"call_cancelled\""), "{output}");
}

#[test]
fn an_operator_ends_a_call_and_its_caller_is_informed() {
    let world = slow();
    let streamed = ask(&world, &long_question(true));
    let id = taken_in(&world).id.to_string();
    let missing = world.deft(&["calls", "--cancel", "ffff"]);
    assert!(missing.code > 2 && missing.err.contains("no running call has the id"), "{missing:?}");
    let said = world.ok(&["calls", "--cancel", &id]);
    assert!(said.contains("its caller gets an error"), "{said}");
    let streamed = streamed.join().unwrap();
    assert!(streamed.contains("\"code\":\"call_cancelled\""), "{streamed}");
    let instance = || world.instance("larkfen-desk/q8_0").unwrap();
    until("its lane is free", || (instance().calls == 0).then_some(()));
    until("it is recorded", || {
        let calls = wait(world.client().calls(1)).unwrap();
        calls.into_iter().find(|call| call.outcome == "cancelled")
    });
    let again = world.deft(&["calls", "--cancel", &id]);
    assert!(again.code > 2 && again.err.contains("no running call has the id"), "{again:?}");
    // The processed part is cached for a second attempt.
    let second = ask(&world, &long_question(true)).join().unwrap();
    let reused = second.split("\"cached_tokens\":").nth(1).unwrap();
    let reused: u32 =
        reused.split(|letter: char| !letter.is_ascii_digit()).next().unwrap().parse().unwrap();
    assert!(reused >= 16, "{second}");
}

#[test]
fn a_caller_who_leaves_while_its_prompt_is_taken_in_frees_its_lane_and_goes_on_later() {
    let world = slow();
    let mut request = question("larkfen-desk", &"How deep do I sow Moonhook bean? ".repeat(12));
    request.options.max_tokens = Some(2);
    let leaves = send(&world.listens(), &request);
    let still_to_come = until("the caller gets the expected time of its prompt", || {
        running(&world).into_iter().find_map(|call| call.share.and(call.seconds_left))
    });
    drop(leaves);
    let begun = Instant::now();
    until("its lane is free", || (world.instance("larkfen-desk/q8_0")?.calls == 0).then_some(()));
    until("it does not exist", || running(&world).is_empty().then_some(()));
    // It ends after the current step, not after the whole prompt.
    let took = begun.elapsed().as_secs_f64();
    assert!(took < still_to_come / 2.0, "{took} s of {still_to_come} s");
    let again = wait(world.client().chat(&request)).unwrap();
    let known = again.usage.prompt_tokens_details.cached_tokens;
    assert!(known >= 16 && again.usage.prompt_tokens > known, "{:?}", again.usage);
    let left = until("both are recorded", || {
        let calls = wait(world.client().calls(2)).unwrap();
        (calls.len() == 2).then(|| calls[1].outcome.clone())
    });
    assert_eq!(left, "cancelled");
}

#[test]
fn a_client_that_waits_ten_seconds_for_a_word_gets_its_answer_to_a_prompt_of_a_minute() {
    let world = World::configured(&SLOW.replace("heartbeat_seconds = 1\nstatus_seconds = 1", ""))
        .start()
        .stock();
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--chunk", "1"]);
    let begun = Instant::now();
    let asked = ask_patiently(&world, &long_question(true), Duration::from_secs(10));
    let streamed = asked.join().unwrap();
    assert!(begun.elapsed() > Duration::from_secs(50), "it took {:?}", begun.elapsed());
    assert!(streamed.contains("\"finish_reason\":\"length\""), "{streamed}");
    assert!(streamed.lines().filter(|line| line.starts_with(": processing")).count() >= 8);
}

#[test]
fn a_call_whose_engine_dies_before_the_first_word_is_asked_once_more() {
    let world = slow();
    let streamed = ask(&world, &long_question(true));
    taken_in(&world);
    processes::kill(world.ready("larkfen-desk/q8_0").pid.unwrap());
    let streamed = streamed.join().unwrap();
    assert!(streamed.contains("\"finish_reason\":\"length\""), "{streamed}");
    assert!(!streamed.contains("\"error\""), "{streamed}");
    assert_eq!(world.ready("larkfen-desk/q8_0").crashes, 1);
    assert!(world.log().contains("is retried alone"), "{}", world.log());
    // Twice it is not: alone with a process that ended, it is known which call it was.
    let mut other = long_question(true);
    other["messages"][0]["content"] = json!("Is Quillfen pea hardy? ".repeat(12));
    let streamed = ask(&world, &other);
    for crash in 2..=3 {
        taken_in(&world);
        processes::kill(world.ready("larkfen-desk/q8_0").pid.unwrap());
        until("it is noticed", || {
            (world.instance("larkfen-desk/q8_0")?.crashes == crash).then_some(())
        });
    }
    let streamed = streamed.join().unwrap();
    assert!(streamed.contains("\"code\":\"ends_engines\""), "{streamed}");
    let why = world.ok(&["status", "--why"]);
    assert!(why.contains("ended its engine process twice and is refused"), "{why}");
    let recorded = until("it is recorded", || {
        let calls = wait(world.client().calls(3)).unwrap();
        calls.into_iter().find(|call| call.detail.as_deref() == Some("ends_engines"))
    });
    assert_eq!(recorded.outcome, "failed");
}

#[test]
fn a_call_that_ends_processes_takes_no_other_call_with_it() {
    let world = slow();
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--chunk", "16", "--lanes", "3"]);
    // All lanes are at work on prompts when the process ends.
    let texts = ["Is Quillfen pea hardy? ", "Is Moonhook bean hardy? ", "Is Ember chard hardy? "];
    let asked: Vec<_> = texts
        .iter()
        .map(|text| {
            let mut question = long_question(true);
            question["messages"][0]["content"] = json!(text.repeat(12));
            ask(&world, &question)
        })
        .collect();
    until("all are at work", || {
        let at_work = |call: &&RunningCall| call.stage == CallStage::Prompt;
        (running(&world).iter().filter(at_work).count() == 3).then_some(())
    });
    processes::kill(world.ready("larkfen-desk/q8_0").pid.unwrap());
    until("it is noticed", || (world.instance("larkfen-desk/q8_0")?.crashes == 1).then_some(()));
    // The first that is asked again ends its process once more, alone.
    let again = world.ready("larkfen-desk/q8_0").pid.unwrap();
    until("one of them is at work alone", || {
        let calls = wait(world.client().running_calls()).unwrap();
        let works = |call: &&RunningCall| call.stage == CallStage::Prompt;
        let waits = |call: &&RunningCall| call.position.is_some();
        (calls.iter().filter(works).count() == 1 && calls.iter().filter(waits).count() == 2)
            .then_some(())
    });
    processes::kill(again);
    let answers: Vec<String> = asked.into_iter().map(|asked| asked.join().unwrap()).collect();
    let refused = answers.iter().filter(|answer| answer.contains("ends_engines")).count();
    let answered = answers.iter().filter(|answer| answer.contains("\"finish_reason\":\"length\""));
    assert_eq!((refused, answered.count()), (1, 2), "{answers:?}");
}

#[test]
fn a_model_that_was_set_aside_comes_back_as_it_was_kept() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "512", "--pinned"]);
    let mut last = 0;
    until("it is set aside", || {
        let found = world.instance("larkfen-desk/q8_0")?;
        if let Some(pid) = found.pid.filter(|&pid| pid != last) {
            last = pid;
            processes::kill(pid);
        }
        (found.state == InstanceState::Failed).then_some(())
    });
    let down = world.ok(&["status"]);
    assert!(down.contains("down since ") && down.contains("ended repeatedly"), "{down}");
    world.desk_answers();
    let back = world.ready("larkfen-desk/q8_0");
    assert_eq!((back.origin, back.settings.pinned), (Origin::Requested, true));
    assert_eq!((back.settings.context, back.settings.idle), (512, IdleLimit::Never));
    assert!(back.down_since.is_none());
}

#[test]
fn the_console_shows_calls_under_way_and_ends_them() {
    let world = slow();
    let streamed = wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&world.address()).await.unwrap();
        browser.see("[data-state=ready]").await;
        // However slowly a browser starts: it looks already when the call comes.
        let streamed = ask(&world, &long_question(true));
        browser.see("[data-call=prompt]").await;
        browser.read("processing the prompt, ").await;
        browser.picture("console-calls").await;
        browser.press("@aria-label='Running calls'", "Cancel").await;
        browser.press("@aria-label='Confirm' and @role='alertdialog'", "Cancel").await;
        streamed
    });
    assert!(streamed.join().unwrap().contains("call_cancelled"));
}

#[test]
fn records_of_calls_are_bounded_and_how_often_a_model_was_asked_stays() {
    let world = World::configured("[calls]\nkept = 2\n").start().stock();
    for tokens in ["1", "2", "3", "4"] {
        // The likeliest answer is longer; another one may end before its limit.
        world.ok(&["ask", "larkfen-desk", "Hello", "--temperature", "0", "--max-tokens", tokens]);
    }
    let records = || wait(world.client().calls(9)).unwrap();
    until("all are recorded", || (records().len() == 4).then_some(()));
    // The oldest go when it starts, and each hour.
    world.ok(&["service", "restart"]);
    let left = until("the oldest go", || Some(records()).filter(|records| records.len() == 2));
    let tokens: Vec<u32> = left.iter().map(|record| record.answer_tokens).collect();
    assert_eq!(tokens, [4, 3], "the latest stay");
    let variants = wait(world.client().depot()).unwrap();
    let desk = variants.iter().find(|found| found.name == "larkfen-desk/q8_0").unwrap();
    assert_eq!(desk.calls, 4);
}
