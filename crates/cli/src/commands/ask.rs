//! `deft ask`.

use std::io::{IsTerminal, Read};

use deft_client::{AnswerStream, Client, ClientError};
use deft_protocol::chat::{AnswerOptions, ChatHead, ChatMessage, ChatRequest};
use deft_protocol::text::{TextHead, TextPrompt, TextRequest};
use serde_json::json;

use super::answer::{self, Answered};
use super::{passing, side_by_side};
use crate::arguments::{Ask, Common};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// What is asked.
#[derive(Clone)]
pub(super) enum Question {
    /// A conversation: perhaps a system text, and the question.
    Chat { system: Option<String>, text: String },
    /// A text to be continued.
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
        // What stands in the model's place is the question's first word.
        command.question.splice(0..0, command.model.take());
    }
    let text = question(&command)?;
    let question = match command.raw {
        true => Question::Raw(text),
        false => Question::Chat { system: command.answering.system.clone(), text },
    };
    let client = connection::connect(common).await?;
    let Some(model) = &command.model else {
        return side_by_side::run(common, &client, &command, question).await;
    };
    let meant = passing::usable(common, &client, model, command.fetch).await?;
    let mut options = answer::options(&command.answering);
    options.release = meant.passing.then_some(true);
    let stream = stream(&client, &question, meant.name, options).await?;
    let show = |text: &str| {
        if !common.json {
            print::out(text);
        }
    };
    let answered = answer::take(stream, show).await?;
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
            let head = TextHead { model, prompt, echo: None, control_tokens: None, logprobs: None };
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
        let model = command.model.as_deref().unwrap_or("--with MODEL,MODEL");
        let example = format!("deft ask {model} \"How deep do I sow Moonhook bean?\"");
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
