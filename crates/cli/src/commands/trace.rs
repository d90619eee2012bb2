//! `deft trace`.

use deft_protocol::manage::{Trace, TraceSummary, Tracing, TracingRequest};

use crate::arguments::{Common, Trace as Command};
use crate::connection;
use crate::failure::Failure;
use crate::ids;
use crate::print;

pub(super) async fn run(common: &Common, command: &Command) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    match command {
        Command::On { model, duration, keep } => {
            let request =
                TracingRequest { model: model.clone(), seconds: *duration, keep_seconds: *keep };
            let tracing = client.trace_on(&request).await?;
            show(common, &tracing, || sentence(&tracing));
        }
        Command::Off { model } => {
            let rest = client.trace_off(model.as_deref()).await?;
            show(common, &rest, || match rest.as_slice() {
                [] => "no calls are traced any more".to_owned(),
                rest => rest.iter().map(sentence).collect::<Vec<_>>().join("\n"),
            });
        }
        Command::List => {
            let all = client.traces().await?;
            if all.is_empty() && !common.json {
                print::note(
                    "no traces; trace calls of a model: deft trace on --model MODEL --for 1h",
                );
            } else {
                show(common, &all, || table(&all));
            }
        }
        Command::Show { call } => {
            let all = client.traces().await?;
            let found = ids::by_id(&all, |trace| trace.call, call, "trace")
                .map_err(|failure| failure.with_way_out("list all traces: deft trace list"))?;
            let trace = client.trace(found.call).await?;
            show(common, &trace, || text(&trace));
        }
        Command::Delete => {
            let count = client.delete_traces().await?;
            show(common, &count, || format!("{count} traces deleted"));
        }
    }
    Ok(())
}

fn show<T: serde::Serialize>(common: &Common, what: &T, text: impl FnOnce() -> String) {
    if common.json { print::json(what) } else { print::line(text()) }
}

/// That calls of a model are traced.
pub(super) fn sentence(tracing: &Tracing) -> String {
    format!(
        "calls of `{}` are traced until {}: prompts and answers are kept in memory for {}; stop: deft trace off",
        tracing.model,
        print::time(tracing.until),
        humantime::format_duration(std::time::Duration::from_secs(tracing.keep_seconds)),
    )
}

fn table(all: &[TraceSummary]) -> String {
    let calls: Vec<_> = all.iter().map(|trace| trace.call).collect();
    let length = ids::id_length(&calls);
    let row = |trace: &TraceSummary| {
        vec![
            trace.call.to_string()[..length].to_owned(),
            print::time(trace.arrived_at),
            trace.name.clone(),
            trace.caller.clone(),
            trace.outcome.clone(),
            if trace.stopped { "stopped" } else { "" }.to_owned(),
            print::time(trace.deleted_at),
        ]
    };
    let headers = ["call", "arrived", "model", "caller", "result", "tool call", "deleted"];
    print::table(&headers, all.iter().map(row).collect(), &[])
}

/// A whole trace.
fn text(trace: &Trace) -> String {
    let summary = &trace.summary;
    let mut parts = vec![format!(
        "call {} of `{}` by {}, {}; deleted at {}",
        summary.call,
        summary.name,
        summary.caller,
        summary.outcome,
        print::time(summary.deleted_at)
    )];
    parts.push(part("prompt", &trace.prompt));
    if let Some(form) = &trace.call_form {
        parts.push(part("a tool call as this model writes it", form));
    }
    if let Some(constraint) = &trace.constraint {
        parts.push(part("constraint", constraint));
    }
    for (at, answer) in trace.answers.iter().enumerate() {
        let title = match trace.answers.len() {
            1 => "output".to_owned(),
            _ => format!("output {}", at + 1),
        };
        parts.push(part(&title, &answer.output));
        if let Some(stopped) = answer.stopped_at {
            let read: String = answer.output.chars().take(stopped).collect();
            let title = format!("reading a tool call stopped after {stopped} characters");
            parts.push(part(&title, &read));
        }
    }
    parts.join("\n\n")
}

fn part(title: &str, text: &str) -> String {
    format!("{title}:\n{}", textwrap::indent(text, "    "))
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;
    use deft_protocol::manage::TracedAnswer;
    use uuid::Uuid;

    use super::*;

    #[test]
    fn a_trace_shows_where_reading_stopped() {
        let summary = TraceSummary {
            call: Uuid::nil(),
            name: "larkfen-desk/q8_0".to_owned(),
            caller: "an agent".to_owned(),
            arrived_at: DateTime::UNIX_EPOCH,
            outcome: "length".to_owned(),
            stopped: true,
            deleted_at: DateTime::UNIX_EPOCH,
        };
        let output = "<|call|>{\"name\": \"stöck".to_owned();
        let trace = Trace {
            summary: summary.clone(),
            prompt: "<|visitor|>Hello<|end|>\n<|desk|>".to_owned(),
            constraint: Some("Lark grammar\nstart: call".to_owned()),
            call_form: Some("<|call|>{...}<|/call|>".to_owned()),
            answers: vec![TracedAnswer { output, stopped_at: Some(14) }],
        };
        let text = text(&trace);
        assert!(text.contains("prompt:\n    <|visitor|>Hello<|end|>\n    <|desk|>"), "{text}");
        assert!(text.ends_with("stopped after 14 characters:\n    <|call|>{\"name"), "{text}");
        assert!(table(&[summary]).contains("larkfen-desk/q8_0"));
    }
}
