//! Calls that wait for a lane: turns, places, bounds, and callers who are slow, many, or gone.

use std::io::Read;
use std::net::TcpStream;
use std::time::Duration;

use deft_client::{ClientError, StreamedPiece};
use deft_protocol::chat::{CallPriority, ChatRequest, EndedBy};
use deft_protocol::manage::{CallStage, RunningCall};
use serde_json::json;

use crate::processes;
use crate::world::{QUESTION, World, endless, question, send, until, wait};

/// Pools on which a step takes a tenth and a fiftieth of a second: what is answered there takes its time,
/// however fast the machine is.
const SLOW: &str = r#"
[[pools.simulated]]
name = "fern"
size = "32 MiB"
speed = "20 MiB/s"
[[pools.simulated]]
name = "moss"
size = "32 MiB"
speed = "80 MiB/s"
"#;

fn slow() -> World {
    World::configured(SLOW)
}

/// One lane, and a caller who has it as long as its socket is there.
fn taken(world: &World) -> TcpStream {
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--lanes", "1"]);
    let socket = send(&world.listens(), &of("agent", endless("larkfen-desk")));
    until("the lane is taken", || {
        running(world).into_iter().find(|call| call.stage == CallStage::Answering)
    });
    socket
}

fn of(user: &str, mut request: ChatRequest) -> ChatRequest {
    request.options.user = Some(user.to_owned());
    request.options.stream = Some(true);
    request
}

fn running(world: &World) -> Vec<RunningCall> {
    wait(world.client().running_calls()).unwrap()
}

/// Runs `deft ask` in a thread, like a program that runs at the same time as others.
fn ask(
    world: &World,
    request: ChatRequest,
) -> std::thread::JoinHandle<Result<String, ClientError>> {
    let (client, before) = (world.client(), running(world).len());
    let asked = std::thread::spawn(move || {
        wait(async move {
            let mut stream = client.chat_stream(&request).await?;
            let mut all = String::new();
            while let Some(piece) = stream.next().await? {
                if let StreamedPiece::Text(text) = piece {
                    all += &text;
                }
            }
            Ok(all)
        })
    });
    until("the call has arrived", || (running(world).len() > before).then_some(()));
    asked
}

fn code(result: Result<String, ClientError>) -> String {
    match result {
        Err(ClientError::Refused(problem)) => problem.code,
        other => panic!("it was not refused: {other:?}"),
    }
}

/// Those that wait, in their order.
fn places(world: &World) -> Vec<(u32, String)> {
    let mut all: Vec<(u32, String)> =
        running(world).into_iter().filter_map(|call| Some((call.position?, call.caller))).collect();
    all.sort();
    all
}

#[test]
fn callers_take_turns_and_see_their_places() {
    let world = slow().start().stock();
    let held = taken(&world);
    let short = || question("larkfen-desk", QUESTION);
    let mut asked = vec![ask(&world, of("agent", short())), ask(&world, of("agent", short()))];
    asked.push(ask(&world, of("person", short())));
    let mut later = of("notebook", short());
    later.options.priority = Some(CallPriority::Background);
    asked.push(ask(&world, later));
    let order = ["person", "agent", "agent", "notebook"];
    until("positions are reported", || {
        let output: Vec<String> = places(&world).into_iter().map(|(_, caller)| caller).collect();
        (output == order).then_some(())
    });
    let output = world.ok(&["calls"]);
    assert!(output.contains("waiting, position 1 in the queue"), "{output}");
    assert!(output.contains("notebook, background"), "{output}");
    drop(held);
    for answer in asked {
        assert!(answer.join().unwrap().unwrap().contains("3 cm"));
    }
    let ended = until("all are recorded", || {
        let calls = wait(world.client().calls(10)).unwrap();
        (calls.len() == 5).then_some(calls)
    });
    let person = ended.iter().find(|call| call.caller == "person").unwrap();
    assert!(person.queue_seconds > 0.0 && person.answer_rate.is_some(), "{person:?}");
    assert!(person.queue_seconds <= person.total_seconds);
    let output = world.ok(&["calls"]);
    assert!(output.contains("person") && output.contains("queued"), "{output}");
}

#[test]
fn a_full_queue_refuses_until_somebody_leaves() {
    let world = slow().with("DEFT_QUEUE", "1").start().stock();
    let held = taken(&world);
    let (address, whole) = (world.listens(), question("larkfen-desk", "Hello"));
    // An answer without a stream, whose caller sends nothing more while it waits.
    let waits = send(&address, &whole);
    until("it waits", || places(&world).first().cloned());
    let mut refused = send(&address, &whole);
    let mut output = [0; 400];
    let length = refused.read(&mut output).unwrap();
    let output = String::from_utf8_lossy(&output[..length]).to_lowercase();
    assert!(output.starts_with("http/1.1 429") && output.contains("retry-after: "), "{output}");
    let asked = wait(world.client().chat_stream(&of("person", question("larkfen-desk", "Hello"))));
    let Err(ClientError::Refused(problem)) = asked else { panic!("a second one waits") };
    assert!(problem.code == "queue_full" && problem.detail.contains("1 calls wait"), "{problem}");
    // Counting tokens needs no lane, so it does not wait.
    let counted = world.posted("/v1/tokenize", json!({"model": "larkfen-desk", "input": "Hello"}));
    assert!(counted["count"].as_u64() > Some(0), "{counted}");
    // A caller that disconnects leaves the queue.
    drop(waits);
    until("its place is free", || places(&world).is_empty().then_some(()));
    until("it is recorded", || {
        let calls = wait(world.client().calls(9)).unwrap();
        calls.into_iter().find(|call| call.outcome == "cancelled" && call.prompt_tokens == 0)
    });
    let next = ask(&world, of("person", question("larkfen-desk", QUESTION)));
    drop(held);
    assert!(next.join().unwrap().unwrap().contains("3 cm"));
}

#[test]
fn a_deadline_that_passes_or_has_passed_is_reported() {
    let world = slow().with("DEFT_WAIT_SECONDS", "1").start().stock();
    let held = taken(&world);
    let mut hasty = of("person", question("larkfen-desk", QUESTION));
    hasty.options.wait_seconds = Some(0.3);
    let Err(ClientError::Refused(problem)) = wait(world.client().chat_stream(&hasty)) else {
        panic!("there is no lane")
    };
    assert_eq!(problem.code, "queue_slow");
    assert!(problem.detail.contains("within 0.3 s") && problem.detail.contains("position 1"));
    assert!(places(&world).is_empty(), "it does not wait any more");
    for past in [-5.0, 0.0] {
        hasty.options.wait_seconds = Some(past);
        let Err(ClientError::Refused(problem)) = wait(world.client().chat_stream(&hasty)) else {
            panic!("that was before it began")
        };
        assert!(problem.detail.contains("`wait_seconds`"), "{problem}");
    }
    // A call without a limit waits for a lane without a limit: the limit of the service applies to loads.
    let patient = ask(&world, of("person", question("larkfen-desk", QUESTION)));
    std::thread::sleep(Duration::from_millis(1500));
    assert_eq!(places(&world), [(1, "person".to_owned())]);
    drop(held);
    assert!(patient.join().unwrap().unwrap().contains("3 cm"));
    until("it is recorded", || {
        let calls = wait(world.client().calls(9)).unwrap();
        calls.into_iter().find(|call| call.detail.as_deref() == Some("queue_slow"))
    });
}

#[test]
fn an_unload_while_sixteen_lanes_answer_lets_them_end_and_refuses_who_waits() {
    let world = slow().with("DEFT_HANG_SECONDS", "600").start().stock();
    world.ok(&["load", "larkfen-desk", "--in", "fern", "--lanes", "16", "--context", "128"]);
    // So that none of them is answered before the unload comes.
    let engine = world.ready("larkfen-desk/q8_0").pid.unwrap();
    processes::halt(engine);
    let held: Vec<_> = (0..16).map(|_| ask(&world, of("agent", endless("larkfen-desk")))).collect();
    let waits = ask(&world, of("person", question("larkfen-desk", QUESTION)));
    let unloading = std::thread::scope(|scope| {
        let unloading = scope.spawn(|| world.deft(&["unload", "larkfen-desk"]));
        assert_eq!(code(waits.join().unwrap()), "draining");
        processes::go_on(engine);
        unloading.join().unwrap()
    });
    assert_eq!(unloading.code, 0, "{unloading:?}");
    for answer in held {
        assert!(answer.join().unwrap().unwrap().len() > 100, "it was answered to its end");
    }
    assert!(world.instance("larkfen-desk/q8_0").is_none());
}

#[test]
fn five_hundred_streams_that_leave_leave_nothing_behind() {
    let world = slow().start().stock();
    world.ok(&["load", "larkfen-desk", "--in", "fern"]);
    let address = world.listens();
    let sockets: Vec<TcpStream> =
        (0..500).map(|_| send(&address, &endless("larkfen-desk"))).collect();
    until("two are answered and the queue is full", || {
        let all = running(&world);
        (all.len() == 258).then_some(())
    });
    drop(sockets);
    until("all are gone", || running(&world).is_empty().then_some(()));
    let instance = || world.instance("larkfen-desk/q8_0").unwrap();
    until("no lane is taken", || (instance().calls == 0).then_some(()));
    world.desk_answers();
    assert_eq!(instance().crashes, 0);
}

#[test]
fn a_caller_who_reads_a_byte_a_second_holds_nobody_up() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--lanes", "1"]);
    let mut slow = of("slow", question("larkfen-desk", QUESTION));
    slow.options.max_tokens = Some(8);
    let mut socket = send(&world.listens(), &slow);
    let mut first = [0; 3];
    for byte in &mut first {
        std::thread::sleep(Duration::from_secs(1));
        socket.read_exact(std::slice::from_mut(byte)).unwrap();
    }
    // Its answer is complete long since, and the one lane is free for others.
    world.desk_answers();
    assert!(running(&world).is_empty());
    let mut rest = String::new();
    socket.read_to_string(&mut rest).unwrap();
    assert!(first == *b"HTT" && rest.contains("data: [DONE]"), "nothing is lost: {rest}");
}

#[test]
fn lanes_that_share_too_few_pages_are_paused_and_end_as_they_should() {
    let world = slow().with("DEFT_HANG_SECONDS", "600").start().stock();
    let settings = ["--in", "moss", "--lanes", "4", "--context", "256", "--cache-tokens", "352"];
    let said = world.deft(&[&["load", "larkfen-desk"], &settings[..]].concat());
    assert!(said.err.contains("4 lanes of 256 tokens, sharing 352 tokens of KV cache"), "{said:?}");
    let engine = world.ready("larkfen-desk/q8_0").pid.unwrap();
    processes::halt(engine);
    let asked: Vec<_> = (0..4).map(|_| ask(&world, of("agent", endless("larkfen-desk")))).collect();
    processes::go_on(engine);
    until("one is paused", || {
        running(&world).into_iter().find(|call| call.stage == CallStage::Paused)
    });
    let answers: Vec<String> =
        asked.into_iter().map(|asked| asked.join().unwrap().unwrap()).collect();
    // The same question and seed: paused or not, the same answer.
    assert!(answers.iter().all(|answer| *answer == answers[0] && answer.len() > 300));
    assert_eq!(world.ready("larkfen-desk/q8_0").settings.cache_tokens, Some(352));
    let refused =
        world.deft(&["plan", "larkfen-desk", "--context", "512", "--cache-tokens", "100"]);
    assert!(refused.err.contains("from 512, the context of one lane, to 2048"), "{refused:?}");
}

#[test]
fn a_prompt_beyond_the_context_is_refused_and_a_limit_beyond_it_is_none() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "256"]);
    let long = question("larkfen-desk", &"How deep do I sow Moonhook bean? ".repeat(60));
    let (status, answer) =
        world.post("/v1/chat/completions", serde_json::to_string(&long).unwrap());
    assert_eq!((status, &answer["error"]["code"]), (400, &json!("context_length_exceeded")));
    let mut greedy = endless("larkfen-desk");
    greedy.options.max_tokens = Some(u32::MAX);
    let ended = wait(async {
        let mut stream = world.client().chat_stream(&greedy).await.unwrap();
        loop {
            if let StreamedPiece::Ended(figures) = stream.next().await.unwrap().unwrap() {
                return figures.ended_by;
            }
        }
    });
    assert_eq!(ended, EndedBy::ContextFull);
}
