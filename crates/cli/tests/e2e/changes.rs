//! A change that has begun is completed even if its caller disconnects. The service does not wait for callers that send nothing.

use std::io::Write;
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant};

use deft_protocol::manage::{InstanceState, PullRequest, TransferState};
use serde_json::json;

use crate::world::{PATIENCE, World, desk, mini, until, wait};

const DESK: &str = "larkfen-desk/q8_0";

/// Sends a request and hangs up before anything comes back.
fn ask_and_leave(world: &World, method: &str, path: &str, body: &serde_json::Value) {
    let address = world.listens();
    let body = if body.is_null() { String::new() } else { body.to_string() };
    let mut socket = TcpStream::connect(&address).unwrap();
    let request = format!(
        "{method} {path} HTTP/1.1\r\nhost: {address}\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    );
    socket.write_all(request.as_bytes()).unwrap();
    // The request is read, and then its caller disconnects.
    std::thread::sleep(Duration::from_millis(30));
}

#[test]
fn whoever_hangs_up_in_the_middle_of_a_change_the_change_is_made() {
    let world = World::new().start();
    let none = serde_json::Value::Null;
    let listed = |name: &str| world.ok(&["depot", "list"]).contains(name);
    ask_and_leave(&world, "POST", "/manage/v1/depot/import", &json!({"path": desk()}));
    until("it is imported", || listed(DESK).then_some(()));
    ask_and_leave(&world, "POST", "/manage/v1/depot/register", &json!({"path": mini()}));
    until("it is registered", || listed("larkfen-desk-mini/q8_0").then_some(()));
    let rename = "/manage/v1/depot/larkfen-desk/q8_0/rename";
    ask_and_leave(&world, "POST", rename, &json!({"name": "larkfen-shelf/q8_0"}));
    until("it has its new name", || listed("larkfen-shelf/q8_0").then_some(()));
    let path = world.ok(&["depot", "path", "larkfen-shelf"]);
    assert!(std::path::Path::new(path.trim()).is_file(), "memory and disk agree: {path}");
    ask_and_leave(&world, "POST", "/manage/v1/instances", &json!({"model": "larkfen-shelf"}));
    let loaded = world.ready("larkfen-shelf/q8_0");
    ask_and_leave(&world, "PUT", "/manage/v1/pools/host", &json!({"limit": "64 MiB"}));
    until("the limit is changed", || (world.status().pools[0].limit == 64 << 20).then_some(()));
    let unload = format!("/manage/v1/instances/{}", loaded.id);
    ask_and_leave(&world, "DELETE", &unload, &none);
    until("it is unloaded", || world.status().instances.is_empty().then_some(()));
    world.ok(&["service", "restart"]);
    assert!(world.status().instances.is_empty(), "the requested instance is removed too");
    ask_and_leave(&world, "DELETE", "/manage/v1/depot/larkfen-shelf/q8_0", &none);
    until("it is removed", || (!listed("larkfen-shelf/q8_0")).then_some(()));
    let folder = world.data_dir().join("depot/models/larkfen-shelf");
    until("its files are gone", || (!folder.exists()).then_some(()));
}

/// A place that takes a connection and says nothing.
fn silent() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let held: Vec<TcpStream> = listener.incoming().filter_map(Result::ok).collect();
        drop(held);
    });
    port
}

fn with_silent_sources(world: &World) -> [&'static str; 3] {
    let port = silent();
    let sources = [
        ("quiet-index", format!("http://127.0.0.1:{port}/index"), "index"),
        ("quiet-registry", format!("http://127.0.0.1:{port}"), "registry"),
        ("quiet-git", format!("http://127.0.0.1:{port}/desk.git"), "git"),
    ];
    for (name, address, kind) in &sources {
        world.ok(&["source", "add", name, address, "--kind", kind]);
    }
    ["quiet-index:desk/q8_0", "quiet-registry:desk/q8_0", "quiet-git:q8_0"]
}

#[test]
fn a_place_that_takes_a_connection_and_says_nothing_is_given_up() {
    let world = World::new().with("DEFT_STALL_SECONDS", "2").start();
    for reference in with_silent_sources(&world) {
        let began = Instant::now();
        let said = world.deft(&["depot", "pull", reference]);
        assert_ne!(said.code, 0, "{reference}: {said:?}");
        assert!(began.elapsed() < PATIENCE, "{reference}: {said:?}");
    }
}

#[test]
fn a_fetch_from_a_silent_place_is_cancelled_at_once_and_does_not_come_back() {
    let world = World::new().with("DEFT_STALL_SECONDS", "600").start();
    let client = world.client();
    let begun: Vec<_> = with_silent_sources(&world)
        .iter()
        .map(|reference| {
            let reference = (*reference).to_owned();
            wait(client.pull(&PullRequest { reference, name: None, limit: None })).unwrap()
        })
        .collect();
    // All three places for fetches are taken, and one more waits.
    let reference = "quiet-index:other/q8_0".to_owned();
    let waiting = wait(client.pull(&PullRequest { reference, name: None, limit: None })).unwrap();
    for transfer in begun.iter().chain([&waiting]) {
        let began = Instant::now();
        wait(client.cancel_transfer(transfer.id)).unwrap();
        until("it has ended", || {
            let found = wait(client.transfer(transfer.id)).unwrap();
            (found.state == TransferState::Cancelled).then_some(())
        });
        assert!(began.elapsed() < Duration::from_secs(6), "a hundredth of what it would wait");
    }
    world.ok(&["service", "restart"]);
    let all = wait(world.client().transfers()).unwrap();
    assert!(all.iter().all(|found| found.state == TransferState::Cancelled), "{all:?}");
}

#[test]
fn what_is_loaded_by_a_caller_who_leaves_counts_as_wished() {
    let world = World::stocked();
    ask_and_leave(&world, "POST", "/manage/v1/instances", &json!({"model": "larkfen-desk"}));
    world.ready(DESK);
    world.ok(&["service", "restart"]);
    let back = world.ready(DESK);
    assert_eq!(back.state, InstanceState::Ready);
}
