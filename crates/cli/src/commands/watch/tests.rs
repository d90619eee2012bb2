use std::time::{Duration, Instant};

use deft_protocol::manage::ServiceStatus;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use serde_json::{Value, json};

use super::draw;
use super::view::{Act, Key, View};

fn instance(name: &str, answer_tokens: u64) -> Value {
    json!({
        "id": "0190b5c0-0000-7000-8000-000000000001", "name": name, "state": "ready",
        "origin": "requested", "held": [], "planned": [], "reserved_bytes": 9_437_184,
        "settings": {"context": 1024, "lanes": 4, "chunk": 128, "cache": "f16", "pinned": true},
        "measured_bytes": 9_437_184, "calls": 2, "queued": 3, "prompt_tokens": 0,
        "cached_tokens": 0, "answer_tokens": 0, "crashes": 0,
        "work": {"lanes_busy": 2, "lanes_paused": 1, "pages": 128, "pages_used": 32,
                 "pages_cached": 32, "steps": 900, "prompt_tokens": 4000,
                 "answer_tokens": answer_tokens, "computed_seconds": 1.5, "waited_seconds": 0.2},
    })
}

fn status(answer_tokens: u64) -> ServiceStatus {
    let status = json!({
        "version": "0.1.0", "pid": 7, "address": "http://127.0.0.1:8471", "node": "larkfen",
        "started_at": "2026-05-01T09:30:00Z", "database": {"kind": "private", "up": true},
        "machine": {"processors": 2, "busy": 0.42, "load": 1.25, "temperature": 61.0,
                    "memory": 25_769_803_776_u64, "memory_available": 19_327_352_832_u64},
        "pools": [
            {"name": "host", "limit": 33_554_432, "reserved": 16_777_216, "measured": 8_388_608},
            {"name": "fern", "limit": 16_777_216, "reserved": 0, "measured": 0, "simulated": true},
        ],
        "instances": [
            instance("larkfen-desk/q8_0", answer_tokens), instance("larkfen-desk-mini/q8_0", 0),
        ],
        "calls": [{
            "id": "0190b5c0-0000-7000-8000-000000000002", "name": "larkfen-desk/q8_0",
            "caller": "seed-agent", "priority": "usual", "arrived_at": "2026-05-01T09:31:00Z",
            "stage": "prompt", "share": 0.5, "seconds_left": 7.0, "prompt_tokens": 4000,
            "answer_tokens": 0, "total_seconds": 8.0,
        }],
    });
    serde_json::from_value(status).unwrap()
}

fn view() -> View {
    let (mut view, start) = (View::default(), Instant::now());
    for second in 0..30 {
        let tokens = 40 * second * second / 10;
        view.take(status(tokens), start + Duration::from_secs(second));
    }
    view
}

fn drawn(view: &View) -> String {
    let mut terminal = Terminal::new(TestBackend::new(140, 30)).unwrap();
    terminal.draw(|frame| draw::draw(frame, view)).unwrap();
    terminal.backend().to_string()
}

#[test]
fn pools_instances_rates_and_calls_are_drawn() {
    insta::assert_snapshot!(drawn(&view()));
}

#[test]
fn before_the_first_status_it_says_what_it_waits_for() {
    assert!(drawn(&View::default()).contains("waiting for the service"));
}

#[test]
fn keys_choose_a_line_and_what_cannot_be_taken_back_is_asked() {
    let mut view = view();
    assert_eq!(view.press(Key::Cancel), None);
    assert!(view.footer().contains("select a call first"), "an instance is chosen");
    assert_eq!(view.press(Key::Unload), None);
    assert!(
        view.footer().contains("unload `larkfen-desk/q8_0` after its running calls?"),
        "{}",
        view.footer()
    );
    assert_eq!(view.press(Key::No), None);
    assert_eq!(view.press(Key::Yes), None, "nothing is asked any more");
    view.press(Key::Down);
    view.press(Key::Unload);
    let Some(Act::Unload(instance)) = view.press(Key::Yes) else { panic!("it was agreed to") };
    assert_eq!(instance.name, "larkfen-desk-mini/q8_0");
    assert!(matches!(view.press(Key::Pin), Some(Act::Pin(_))));
    (0..9).for_each(|_| assert_eq!(view.press(Key::Down), None));
    view.press(Key::Cancel);
    assert!(view.footer().contains("by seed-agent? (y/n)"), "{}", view.footer());
    assert!(matches!(view.press(Key::Yes), Some(Act::Cancel(call)) if call.caller == "seed-agent"));
    assert_eq!(view.press(Key::Leave), Some(Act::Leave));
}

#[test]
fn rates_are_what_was_counted_in_a_second() {
    let view = view();
    assert_eq!(view.rates.answer.back(), Some(&228), "from 28² to 29²");
    assert!(view.rates.prompt.iter().all(|&rate| rate == 0));
}

#[test]
fn what_is_chosen_stays_within_what_is_there() {
    let mut view = view();
    (0..9).for_each(|_| assert_eq!(view.press(Key::Down), None));
    let mut empty = status(0);
    (empty.instances, empty.calls) = (Vec::new(), Vec::new());
    view.take(empty, Instant::now());
    assert_eq!(view.press(Key::Unload), None);
    assert_eq!(view.press(Key::Up), None);
    let drawn = drawn(&view);
    assert!(drawn.contains("running calls: 0") && !drawn.contains('›'), "{drawn}");
}
