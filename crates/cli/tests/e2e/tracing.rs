//! Traces of calls.

use serde_json::json;

use crate::browser::Browser;
use crate::world::{ANSWER, QUESTION, World, until, wait};

fn ask(world: &World, more: serde_json::Value) -> serde_json::Value {
    let mut request = json!({"model": "larkfen-desk", "temperature": 0, "messages": [{"role": "user", "content": QUESTION}]});
    request.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    world.posted("/v1/chat/completions", request)
}

#[test]
fn traced_calls_can_be_read_until_their_time_is_over_and_others_leave_none() {
    let world = World::stocked();
    assert!(ask(&world, json!({}))["choices"][0]["deft"]["traced"].is_null());
    assert!(world.deft(&["trace", "list"]).err.contains("no traces"));
    let on = world.ok(&["trace", "on", "--model", "larkfen-desk", "--for", "1h", "--keep", "4s"]);
    assert!(on.contains("calls of `larkfen-desk` are traced until"), "{on}");
    // It is visible where operators look, and to the caller.
    assert!(world.ok(&["status"]).contains("calls of `larkfen-desk` are traced"));
    assert!(world.log().contains("calls of `larkfen-desk` are traced until"));
    let tool = json!({"type": "function", "function": {"name": "stock_level", "parameters":
        {"type": "object", "properties": {"variety": {"type": "string"}}, "required": ["variety"]}}});
    let cut = json!({"tools": [tool], "tool_choice": "required", "max_tokens": 5});
    let answered = ask(&world, cut);
    assert_eq!(answered["choices"][0]["deft"]["traced"], true);
    let id = answered["id"].as_str().unwrap().trim_start_matches("chat-")[..8].to_owned();
    let listed = until("the trace is there", || {
        Some(world.deft(&["trace", "list"]).out).filter(|out| out.contains(&id))
    });
    assert!(listed.contains("stopped"), "{listed}");
    let shown = world.ok(&["trace", "show", &id]);
    for part in [
        "<|begin|><|tools|>stock_level",
        "Lark grammar",
        "<|call|>{",
        "reading a tool call stopped after",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let off = world.ok(&["trace", "off"]);
    assert!(off.contains("no calls are traced any more"), "{off}");
    ask(&world, json!({}));
    until("the trace is deleted", || {
        world.deft(&["trace", "list"]).err.contains("no traces").then_some(())
    });
    let unknown = world.deft(&["trace", "on", "--model", "nettle", "--for", "1h"]);
    assert_eq!((unknown.code, unknown.err.contains("nettle")), (3, true), "{unknown:?}");
    let forever = world.deft(&["trace", "on", "--model", "larkfen-desk", "--for", "2days"]);
    assert!(forever.err.contains("`seconds` is 172800"), "{forever:?}");
    assert_eq!(world.deft(&["trace", "off", "--model", "larkfen-desk"]).code, 3);
}

#[test]
fn the_console_traces_a_model_says_so_on_every_page_and_shows_the_traces() {
    let world = World::stocked();
    let address = world.address();
    wait(async {
        let browser = Browser::open(1280, 800).await;
        browser.page.goto(&format!("{address}/depot/larkfen-desk/q8_0")).await.unwrap();
        browser.press("self::main", "Trace").await;
        browser.read("Trace all calls of larkfen-desk for an hour?").await;
        browser.press("@role='alertdialog'", "Trace").await;
        browser.read("Calls are traced: prompts and answers are kept in memory.").await;
        // On a thread of its own, because it waits for its answer.
        std::thread::scope(|scope| drop(scope.spawn(|| ask(&world, json!({}))).join().unwrap()));
        browser.press("@aria-label='Pages'", "Calls").await;
        browser.read_in("[role='status']", "larkfen-desk until").await;
        browser.see("[aria-label='Traces'] .v-expansion-panel-title").await.click().await.unwrap();
        browser.read_in("pre[aria-label='Output']", ANSWER).await;
        browser.read_in("pre[aria-label='Prompt']", "<|visitor|>").await;
        browser.picture("console-traces").await;
        browser.press("@role='status'", "Stop tracing").await;
        browser.page.clone().close().await.unwrap();
    });
    until("nothing is traced", || world.status().tracing.is_empty().then_some(()));
}
