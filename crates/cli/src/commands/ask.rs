//! `deft ask`.

use std::io::{IsTerminal, Read};

use deft_client::{AnswerStream, Client, ClientError};
use deft_protocol::chat::{AnswerOptions, ChatHead, ChatMessage, ChatRequest};
use deft_protocol::engine::MAX_FRAME;
use deft_protocol::text::{TextHead, TextPrompt, TextRequest};
use serde_json::json;

use super::answer::{self, Answered};
use super::{model, side_by_side};
use crate::arguments::{Ask, Common};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Most bytes of a question from standard input: the service accepts no longer request.
const MOST_TEXT: u64 = MAX_FRAME as u64;

/// A question.
#[derive(Clone)]
pub(super) enum Question {
    /// A conversation: perhaps a system text, and the question.
    Chat { system: Option<String>, text: String },
    /// A text to continue.
    Raw(String),
}

impl Question {
    pub(super) fn text(&self) -> &str {
        match self {
            Self::Chat { text, .. } | Self::Raw(text) => text,
        }
    }
}

pub(super) async fn run(common: &Common, mut command: Ask) -> Result<(), Failure> {
    if !command.with.is_empty() {
        // The first word is part of the question.
        command.question.splice(0..0, command.model.take());
    }
    let text = question(&command)?;
    let question = match command.raw {
        true => Question::Raw(text),
        false => Question::Chat { system: command.answering.system.clone(), text },
    };
    let client = connection::connect(common).await?;
    let Some(name) = &command.model else {
        return side_by_side::run(common, &client, &command, question).await;
    };
    let meant = model::usable(common, &client, name, command.yes).await?;
    let mut options = answer::options(&command.answering);
    options.unload_after = meant.temporary.then_some(true);
    let stream = stream(&client, &question, meant.name, options).await?;
    let show = |text: &str| {
        if !common.json {
            print::out(text);
        }
    };
    let answered = answer::take(stream, command.answering.reasoning, show).await?;
    finish(common, &command, &answered);
    Ok(())
}

/// Asks one model.
pub(super) async fn stream(
    client: &Client,
    question: &Question,
    model: String,
    options: AnswerOptions,
) -> Result<AnswerStream, ClientError> {
    match question {
        Question::Raw(text) => {
            let prompt = TextPrompt::Text(text.clone());
            let head = TextHead {
                model,
                prompt,
                suffix: None,
                echo: None,
                control_tokens: None,
                logprobs: None,
            };
            client.text_stream(&TextRequest { head, options }).await
        }
        Question::Chat { system, text } => {
            let system = system.iter().map(|text| ChatMessage::text("system", text));
            let messages = system.chain([ChatMessage::text("user", text)]).collect();
            let head = ChatHead::new(model, messages);
            client.chat_stream(&ChatRequest { head, options }).await
        }
    }
}

fn finish(common: &Common, command: &Ask, answered: &Answered) {
    if common.json {
        print::json(&json!({
            "model": command.model,
            "answer": answered.text, "reasoning": answered.reasoning,
            "usage": answered.usage,
            "figures": answered.figures,
        }));
        return;
    }
    if !answered.text.ends_with('\n') {
        print::out("\n");
    }
    answer::note_reasoning(answered);
    answer::note_if_cut(answered);
    if command.answering.stats {
        answer::note_figures(answered);
    }
}

/// The question from the command line, followed by text from standard input if that is a file or a pipe.
fn question(command: &Ask) -> Result<String, Failure> {
    let words = command.question.join(" ");
    let stdin = std::io::stdin();
    let is_named = words == "-";
    let words = if is_named { String::new() } else { words };
    if words.is_empty() && stdin.is_terminal() && !is_named {
        let model = command.model.as_deref().unwrap_or("--with MODEL,MODEL");
        let example = format!("deft ask {model} \"How deep do I sow Moonhook bean?\"");
        return Err(Failure::usage("no question").with_way_out(format!("for instance: {example}")));
    }
    let mut text = String::new();
    if words.is_empty() || has_text(&stdin) {
        stdin.lock().take(MOST_TEXT + 1).read_to_string(&mut text)?;
        if text.len() as u64 > MOST_TEXT {
            let what = format!("standard input has more than {}", print::bytes(MOST_TEXT));
            return Err(Failure::usage(what).with_way_out("ask about a part of it"));
        }
    }
    let parts = [words.as_str(), text.trim_end()];
    let question: Vec<&str> = parts.into_iter().filter(|part| !part.is_empty()).collect();
    if question.is_empty() {
        return Err(Failure::usage("the question on standard input is empty"));
    }
    Ok(question.join("\n\n"))
}

/// Whether text comes from a file or a pipe: a terminal, a socket or `/dev/null` would be waited for in vain.
fn has_text(stdin: &std::io::Stdin) -> bool {
    use rustix::fs::{FileType, fstat};
    fstat(stdin).is_ok_and(|found| {
        matches!(FileType::from_raw_mode(found.st_mode), FileType::Fifo | FileType::RegularFile)
    })
}
