//! `deft ask`.

use std::io::{IsTerminal, Read};

use deft_protocol::chat::{ChatHead, ChatMessage, ChatRequest};
use deft_protocol::text::{TextHead, TextPrompt, TextRequest};
use serde_json::json;

use super::answer::{self, Answered};
use super::passing;
use crate::arguments::{Ask, Common};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Ask) -> Result<(), Failure> {
    let question = question(&command)?;
    let client = connection::connect(common).await?;
    let meant = passing::usable(common, &client, &command.model, command.fetch).await?;
    let mut options = answer::options(&command.answering);
    options.release = meant.passing.then_some(true);
    let model = meant.name;
    let stream = if command.raw {
        let prompt = TextPrompt::Text(question);
        let head = TextHead { model, prompt, echo: None, logprobs: None };
        client.text_stream(&TextRequest { head, options }).await?
    } else {
        let system = command.answering.system.iter().map(|text| ChatMessage::text("system", text));
        let messages = system.chain([ChatMessage::text("user", question)]).collect();
        let head = ChatHead::new(model, messages);
        client.chat_stream(&ChatRequest { head, options }).await?
    };
    let show = |text: &str| {
        if !common.json {
            print::out(text);
        }
    };
    let answered = answer::take(stream, show).await?;
    finish(common, &command, &answered);
    Ok(())
}

fn finish(common: &Common, command: &Ask, answered: &Answered) {
    if common.json {
        print::json(&json!({
            "model": command.model,
            "answer": answered.text,
            "usage": answered.usage,
            "figures": answered.figures,
        }));
        return;
    }
    if !answered.text.ends_with('\n') {
        print::out("\n");
    }
    answer::note_if_cut(answered);
    if command.answering.stats {
        answer::note_figures(answered);
    }
}

/// The question from the command line, else from standard input.
fn question(command: &Ask) -> Result<String, Failure> {
    let words = command.question.join(" ");
    if !words.is_empty() && words != "-" {
        return Ok(words);
    }
    let mut stdin = std::io::stdin().lock();
    if stdin.is_terminal() && words.is_empty() {
        let example = format!("deft ask {} \"How deep do I sow Moonhook bean?\"", command.model);
        return Err(Failure::usage("there is no question").with_way_out(format!("ask: {example}")));
    }
    let mut text = String::new();
    stdin.read_to_string(&mut text)?;
    let text = text.trim_end().to_owned();
    if text.is_empty() {
        return Err(Failure::usage("the question on standard input is empty"));
    }
    Ok(text)
}
