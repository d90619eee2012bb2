//! Batches: from the command line, over HTTP, and through an end of the service.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::PathBuf;

use deft_protocol::batches::{Batch, BatchAnswer, BatchRequest, BatchStatus};
use serde_json::{Value, json};

use crate::database::sql;
use crate::processes;
use crate::world::{QUESTION, World, until, wait};

const PATH: &str = "/v1/chat/completions";

fn line(name: &str, body: &Value) -> Value {
    json!({"custom_id": name, "method": "POST", "url": PATH, "body": body})
}

fn short() -> Value {
    json!({"model": "larkfen-desk", "temperature": 0, "messages": [{"role": "user", "content": QUESTION}]})
}

/// A call whose answer takes a while.
fn long() -> Value {
    let mut body = short();
    body["must_match"] = json!({"regex": "[a-z]{300}"});
    body
}

/// Writes these lines to a file of calls.
fn write(world: &World, name: &str, lines: impl IntoIterator<Item = Value>) -> PathBuf {
    let path = world.data_dir().with_file_name(name);
    let mut text = String::new();
    for line in lines {
        writeln!(text, "{line}").unwrap();
    }
    std::fs::write(&path, text).unwrap();
    path
}

/// Begins a batch of these lines over HTTP.
fn begin(world: &World, lines: impl IntoIterator<Item = Value>) -> Batch {
    let path = write(world, "calls.jsonl", lines);
    let bytes = std::fs::metadata(&path).unwrap().len();
    wait(async {
        let file = tokio::fs::File::open(&path).await.unwrap();
        let client = world.client();
        let file = client.upload("calls.jsonl".to_owned(), file, bytes).await.unwrap();
        let request = BatchRequest {
            input_file_id: file.id,
            endpoint: PATH.to_owned(),
            completion_window: "24h".to_owned(),
            metadata: None,
        };
        client.begin_batch(&request).await.unwrap()
    })
}

fn ended(world: &World, id: &str) -> Batch {
    until("the batch has ended", || {
        Some(wait(world.client().batch(id)).unwrap()).filter(|batch| batch.status.has_ended())
    })
}

fn answers(world: &World, file: &str) -> Vec<BatchAnswer> {
    let mut bytes = Vec::new();
    wait(world.client().download(file, &mut bytes)).unwrap();
    let text = String::from_utf8(bytes).unwrap();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn a_file_of_calls_is_answered_by_one_command() {
    let world = World::stocked();
    let missing = json!({"model": "nettle", "messages": [{"role": "user", "content": QUESTION}]});
    let streamed = json!({"model": "larkfen-desk", "stream": true, "messages": []});
    let calls = write(
        &world,
        "calls.jsonl",
        [line("a", &short()), line("b", &missing), line("c", &short()), line("d", &streamed)],
    );
    let calls = calls.to_string_lossy();
    let said = world.deft(&["batch", &calls]);
    assert_eq!(said.code, 1, "calls failed: {said:?}");
    assert!(said.out.starts_with("2 of 4 calls answered"), "{said:?}");
    assert!(said.err.contains("2 of 4 calls failed"), "{said:?}");
    let read = |end: &str| std::fs::read_to_string(calls.replace("jsonl", end)).unwrap();
    let answered = read("answers.jsonl");
    let names: BTreeSet<String> = answered
        .lines()
        .map(|line| {
            let answer: Value = serde_json::from_str(line).unwrap();
            let body = &answer["response"]["body"];
            assert_eq!(body["choices"][0]["message"]["content"], "Sow Moonhook bean 3 cm deep.");
            answer["custom_id"].as_str().unwrap().to_owned()
        })
        .collect();
    assert_eq!(names, BTreeSet::from(["a".to_owned(), "c".to_owned()]));
    let failed = read("failed.jsonl");
    assert!(
        failed.contains("model_not_found") && failed.contains("`stream` must be false"),
        "{failed}"
    );
    // The calls are recorded with the name of the batch, and wait behind all others.
    let caller = until("a call is recorded", || wait(world.client().calls(1)).unwrap().pop());
    assert!(caller.caller.starts_with("batch "), "{caller:?}");

    // The same file again: no file is overwritten, and no call is answered twice.
    let again = world.deft(&["batch", &calls]);
    assert_eq!((again.code, again.err.contains("exists already")), (4, true), "{again:?}");
    let other = calls.replace("calls.jsonl", "other.jsonl");
    let again = world.deft(&["batch", &calls, "--output", &other]);
    assert!(again.err.contains("answered before"), "{again:?}");
    assert_eq!(std::fs::read_to_string(&other).unwrap(), answered);
    assert_eq!(wait(world.client().batches()).unwrap().len(), 1);
}

#[test]
fn a_broken_line_in_the_middle_ends_a_batch_before_any_call() {
    let world = World::stocked();
    let calls =
        write(&world, "calls.jsonl", [line("a", &short()), json!("no call"), line("c", &short())]);
    let said = world.deft(&["batch", &calls.to_string_lossy()]);
    assert_eq!(said.code, 4, "{said:?}");
    assert!(said.err.contains("no call was answered") && said.err.contains("line 2: "), "{said:?}");
    let batch = wait(world.client().batches()).unwrap().remove(0);
    assert_eq!((batch.status, batch.request_counts.total), (BatchStatus::Failed, 0));
    assert_eq!(wait(world.client().calls(9)).unwrap(), []);
}

#[test]
fn a_batch_that_is_cancelled_half_way_keeps_its_answers() {
    let world = World::stocked();
    let batch = begin(&world, (0..400).map(|at| line(&at.to_string(), &long())));
    let id = &batch.id;
    until("some calls are answered", || {
        let counts = wait(world.client().batch(id)).unwrap().request_counts;
        (counts.completed >= 3).then_some(())
    });
    // Others do not wait for it.
    let (status, _) = world.post(PATH, short());
    assert_eq!(status, 200);
    let client = world.client();
    let refused = wait(client.cancel_batch("batch_0")).unwrap_err().to_string();
    assert!(refused.contains("no batch `batch_0`"), "{refused}");
    let cancelling = wait(world.client().cancel_batch(id)).unwrap();
    assert_eq!(cancelling.status, BatchStatus::Cancelling);
    let batch = ended(&world, id);
    let counts = batch.request_counts;
    assert_eq!((batch.status, counts.total), (BatchStatus::Cancelled, 400));
    assert!((3..400).contains(&counts.completed), "{counts:?}");
    let written = answers(&world, batch.output_file_id.as_ref().unwrap());
    assert_eq!(written.len(), counts.completed as usize);
    assert!(wait(world.client().cancel_batch(id)).unwrap().status == BatchStatus::Cancelled);
}

/// Also while its end is being recorded: that must not set it back.
#[test]
fn a_batch_that_is_cancelled_again_and_again_ends_once() {
    let world = World::stocked();
    let batch = begin(&world, (0..400).map(|at| line(&at.to_string(), &long())));
    let id = &batch.id;
    until("some calls are answered", || {
        (wait(world.client().batch(id)).unwrap().request_counts.completed >= 3).then_some(())
    });
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut has_ended = false;
                for _ in 0..60 {
                    let status = wait(world.client().cancel_batch(id)).unwrap().status;
                    assert!(status.has_ended() || !has_ended, "{status:?} after its end");
                    has_ended = status.has_ended();
                }
            });
        }
    });
    assert_eq!(ended(&world, id).status, BatchStatus::Cancelled);
    let recorded = sql(&world, "select ended, report ->> 'status' from batches");
    assert_eq!(recorded, "t|cancelled");
}

#[test]
fn a_batch_goes_on_after_the_service_was_killed_and_answers_each_call_once() {
    let world = World::stocked();
    let batch = begin(&world, (0..60).map(|at| line(&at.to_string(), &long())));
    until("some calls are answered", || {
        let counts = wait(world.client().batch(&batch.id)).unwrap().request_counts;
        (counts.completed >= 3).then_some(())
    });
    processes::kill(world.status().pid);
    // The kill may have hit the writing of a line.
    let folder = world.data_dir().join("batches");
    let growing = std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
    let growing = growing.filter(|path| path.extension().is_some());
    let answered = growing.max_by_key(|path| path.metadata().unwrap().len()).unwrap();
    let mut text = std::fs::read_to_string(&answered).unwrap();
    text.push_str("{\"id\": \"batch_req_1\", \"custom_id\": \"59");
    std::fs::write(&answered, text).unwrap();
    let foreign = folder.join("notes.part");
    std::fs::write(&foreign, "mine").unwrap();
    let world = world.start();
    let batch = ended(&world, &batch.id);
    assert_eq!((batch.status, batch.request_counts.completed), (BatchStatus::Completed, 60));
    let written = answers(&world, batch.output_file_id.as_ref().unwrap());
    let names: BTreeSet<String> = written.iter().map(|answer| answer.custom_id.clone()).collect();
    assert_eq!((written.len(), names.len()), (60, 60));
    assert_eq!(std::fs::read_to_string(foreign).unwrap(), "mine");
}

#[test]
fn files_and_batches_that_cannot_be_are_refused_by_field() {
    let world = World::stocked();
    let file = "file-00000000000000000000000000000000";
    let request = json!({"input_file_id": file, "endpoint": PATH, "completion_window": "24h"});
    for (field, value, status, code) in [
        ("input_file_id", json!(file), 404, "file_not_found"),
        ("input_file_id", json!("../secret"), 404, "file_not_found"),
        ("endpoint", json!("/v1/models"), 400, "endpoint_not_supported"),
        ("completion_window", json!("9w"), 400, "field_out_of_range"),
        ("input_file", json!("a"), 400, "field_unknown"),
    ] {
        let mut request = request.clone();
        request[field] = value;
        let (found, error) = world.post("/v1/batches", request);
        assert_eq!((found, &error["error"]["code"]), (status, &json!(code)), "{error}");
        assert_eq!(error["error"]["param"], field);
    }
    let (status, error) = world.post("/v1/files", json!({"purpose": "batch"}));
    assert_eq!((status, &error["error"]["code"]), (400, &json!("body_invalid")), "{error}");
}
