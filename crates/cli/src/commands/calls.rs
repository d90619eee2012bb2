//! `deft calls`.

use std::collections::HashSet;

use deft_client::Client;
use deft_protocol::chat::CallPriority;
use deft_protocol::manage::{CallRecord, RunningCall};
use serde_json::json;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, count: u32, end: Option<&str>) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    if let Some(id) = end {
        return end_call(common, &client, id).await;
    }
    let running = client.running_calls().await?;
    let ended = client.calls(count).await?;
    if common.json {
        print::json(&json!({ "running": running, "ended": ended }));
        return Ok(());
    }
    if !running.is_empty() {
        print::line(format!("{}\n", under_way(&running)));
    }
    if ended.is_empty() {
        print::note("no call has ended yet");
    } else {
        print::line(latest(&ended));
    }
    Ok(())
}

async fn end_call(common: &Common, client: &Client, id: &str) -> Result<(), Failure> {
    let running = client.running_calls().await?;
    let mut meant = running.iter().filter(|call| call.id.to_string().starts_with(id));
    let (call, other) = (meant.next(), meant.next());
    let Some(call) = call.filter(|_| other.is_none()) else {
        let what = match call {
            Some(_) => format!("more than one call under way begins with `{id}`"),
            None => format!("no call `{id}` is under way; it may have ended"),
        };
        return Err(Failure::missing(what).with_way_out("what is under way: deft calls"));
    };
    client.end_call(call.id).await?;
    if common.json {
        print::json(call);
    } else {
        print::line(format!("the call of `{}` is ended; its caller is told", call.name));
    }
    Ok(())
}

/// Enough of each id to tell the calls apart.
fn id_length(calls: &[RunningCall]) -> usize {
    const SHORT: usize = 13;
    let short = |call: &RunningCall| call.id.to_string()[..SHORT].to_owned();
    let different: HashSet<String> = calls.iter().map(short).collect();
    if different.len() == calls.len() { SHORT } else { 36 }
}

fn under_way(calls: &[RunningCall]) -> String {
    let length = id_length(calls);
    let row = |call: &RunningCall| {
        vec![
            call.id.to_string()[..length].to_owned(),
            call.name.clone(),
            caller(&call.caller, call.priority),
            call.standing(),
            call.prompt_tokens.map_or_else(String::new, |tokens| print::count(tokens.into())),
            print::count(call.answer_tokens.into()),
            call.first_token_seconds.map_or_else(String::new, print::seconds),
            print::seconds(call.total_seconds),
        ]
    };
    let headers =
        ["under way", "model", "caller", "stands at", "prompt", "answer", "first token", "so far"];
    print::table(&headers, calls.iter().map(row).collect(), &[4, 5, 6, 7])
}

fn caller(name: &str, priority: CallPriority) -> String {
    match priority {
        CallPriority::Urgent => format!("{name}, urgent"),
        CallPriority::Usual => name.to_owned(),
        CallPriority::Background => format!("{name}, background"),
    }
}

fn latest(calls: &[CallRecord]) -> String {
    let rate = |rate: Option<f64>| rate.map_or_else(String::new, |rate| format!("{rate:.0}/s"));
    let row = |call: &CallRecord| {
        let ended = match &call.detail {
            Some(detail) => format!("{}: {detail}", call.outcome),
            None => call.outcome.clone(),
        };
        vec![
            call.arrived_at.format("%F %T").to_string(),
            call.name.clone(),
            call.caller.clone(),
            ended,
            print::count(call.prompt_tokens.into()),
            rate(call.prompt_rate),
            print::count(call.answer_tokens.into()),
            rate(call.answer_rate),
            print::seconds(call.queue_seconds),
            call.first_token_seconds.map_or_else(String::new, print::seconds),
            print::seconds(call.total_seconds),
        ]
    };
    let headers = [
        "arrived (UTC)",
        "model",
        "caller",
        "ended",
        "prompt",
        "",
        "answer",
        "",
        "queued",
        "first token",
        "total",
    ];
    print::table(&headers, calls.iter().map(row).collect(), &[4, 5, 6, 7, 8, 9, 10])
}
