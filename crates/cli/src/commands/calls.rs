//! `deft calls`.

use deft_client::Client;
use deft_protocol::chat::CallPriority;
use deft_protocol::manage::{CallRecord, RunningCall};
use serde_json::json;

use crate::arguments::{Calls, Common};
use crate::connection;
use crate::failure::Failure;
use crate::ids;
use crate::print;

pub(super) async fn run(common: &Common, command: &Calls) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    if let Some(id) = &command.cancel {
        return cancel(common, &client, id).await;
    }
    let running = client.running_calls().await?;
    let finished = client.calls(command.count).await?;
    if common.json {
        print::json(&json!({ "running": running, "finished": finished }));
        return Ok(());
    }
    if !running.is_empty() {
        print::line(format!("{}\n", running_table(&running)));
    }
    if finished.is_empty() {
        print::note("no call has finished yet");
    } else {
        print::line(finished_table(&finished));
    }
    Ok(())
}

async fn cancel(common: &Common, client: &Client, id: &str) -> Result<(), Failure> {
    let running = client.running_calls().await?;
    let call = ids::by_id(&running, |call| call.id, id, "running call")
        .map_err(|failure| failure.with_way_out("show running calls: deft calls"))?;
    client.cancel_call(call.id).await?;
    if common.json {
        print::json(call);
    } else {
        print::line(format!("cancelled the call of `{}`; its caller gets an error", call.name));
    }
    Ok(())
}

fn running_table(calls: &[RunningCall]) -> String {
    let all: Vec<_> = calls.iter().map(|call| call.id).collect();
    let length = ids::id_length(&all);
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
        ["running", "model", "caller", "stage", "prompt", "answer", "first token", "elapsed"];
    print::table(&headers, calls.iter().map(row).collect(), &[4, 5, 6, 7])
}

fn caller(name: &str, priority: CallPriority) -> String {
    match priority {
        CallPriority::Urgent => format!("{name}, urgent"),
        CallPriority::Usual => name.to_owned(),
        CallPriority::Background => format!("{name}, background"),
    }
}

fn finished_table(calls: &[CallRecord]) -> String {
    let rate = |rate: Option<f64>| rate.map_or_else(String::new, |rate| format!("{rate:.0}/s"));
    let row = |call: &CallRecord| {
        let ended = match &call.detail {
            Some(detail) => format!("{}: {detail}", call.outcome),
            None => call.outcome.clone(),
        };
        vec![
            print::time(call.arrived_at),
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
        "arrived",
        "model",
        "caller",
        "result",
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
