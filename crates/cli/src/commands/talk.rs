//! `deft talk`: a conversation on the terminal. Commands begin with a colon.

use deft_client::Client;
use deft_protocol::chat::{AnswerOptions, ChatHead, ChatMessage, ChatRequest};
use deft_protocol::engine::WhenContextFull;
use rustyline::DefaultEditor;
use rustyline::error::ReadlineError;
use serde_json::json;

use super::{answer, model};
use crate::arguments::{Answering, Common, Talk};
use crate::connection;
use crate::failure::Failure;
use crate::print;

const HELP: &str = "Commands:
  :help              show this help
  :model MODEL       switch to another model
  :system TEXT       set the system text, which tells the model how to behave; without TEXT, remove it
  :new               start a new conversation
  :undo              undo the last turn
  :history           show the conversation
  :stats             show figures of each answer, or stop showing them
  :leave             end the program, like Ctrl-D
End a line with \\ to continue it on the next line. Press Ctrl-C to stop an answer.";

struct Conversation {
    client: Client,
    model: String,
    answering: Answering,
    messages: Vec<ChatMessage>,
    /// Models that are registered temporarily, for this conversation.
    temporary: Vec<String>,
    /// Whether answers are printed as lines of JSON.
    json: bool,
}

/// What a line of input means.
#[derive(Debug, PartialEq, Eq)]
enum Line<'a> {
    Empty,
    Say(&'a str),
    Help,
    Model(&'a str),
    System(&'a str),
    New,
    Undo,
    History,
    Stats,
    Leave,
    Unknown(&'a str),
}

fn meaning(line: &str) -> Line<'_> {
    let line = line.trim();
    let Some(command) = line.strip_prefix(':') else {
        return if line.is_empty() { Line::Empty } else { Line::Say(line) };
    };
    let (name, rest) = command.split_once(char::is_whitespace).unwrap_or((command, ""));
    let rest = rest.trim();
    match name {
        "help" => Line::Help,
        "model" if !rest.is_empty() => Line::Model(rest),
        "system" => Line::System(rest),
        "new" | "forget" => Line::New,
        "undo" | "back" => Line::Undo,
        "history" => Line::History,
        "stats" => Line::Stats,
        "leave" => Line::Leave,
        _ => Line::Unknown(line),
    }
}

pub(super) async fn run(common: &Common, command: Talk) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let meant = model::usable(common, &client, &command.model, command.yes).await?;
    let variant = client.inspect(&meant.name).await?;
    let mut editor = DefaultEditor::new().map_err(|error| Failure::fault(error.to_string()))?;
    print::note(format!(
        "conversation with `{}`; type :help for help, :leave to end",
        variant.name
    ));
    let mut conversation = Conversation {
        client,
        model: variant.name,
        answering: command.answering,
        messages: Vec::new(),
        temporary: meant.temporary.then(|| meant.name.clone()).into_iter().collect(),
        json: common.json,
    };
    let ended = conversation.run(&mut editor).await;
    for name in &conversation.temporary {
        model::end(&conversation.client, name).await?;
    }
    ended
}

impl Conversation {
    /// Takes lines until the conversation ends.
    async fn run(&mut self, editor: &mut DefaultEditor) -> Result<(), Failure> {
        loop {
            let read = tokio::task::block_in_place(|| read_line(editor));
            match read {
                Ok(line) => {
                    // The history is only a convenience.
                    let _ = editor.add_history_entry(line.as_str());
                    if !self.take(meaning(&line)).await {
                        return Ok(());
                    }
                }
                Err(ReadlineError::Interrupted) => print::note("(type :leave to end)"),
                Err(ReadlineError::Eof) => return Ok(()),
                Err(error) => return Err(Failure::fault(error.to_string())),
            }
        }
    }
}

/// One line of input, or several that are joined by a backslash at the end.
fn read_line(editor: &mut DefaultEditor) -> Result<String, ReadlineError> {
    let mut text = editor.readline("> ")?;
    while text.ends_with('\\') {
        text.pop();
        text.push('\n');
        text.push_str(&editor.readline(". ")?);
    }
    Ok(text)
}

impl Conversation {
    /// Carries out a line; false ends the conversation.
    async fn take(&mut self, line: Line<'_>) -> bool {
        match line {
            Line::Empty => {}
            Line::Say(question) => self.say(question).await,
            Line::Help => print::note(HELP),
            Line::Model(name) => self.switch(name).await,
            Line::System(text) => {
                self.answering.system = (!text.is_empty()).then(|| text.to_owned());
                print::note(if text.is_empty() {
                    "system text removed"
                } else {
                    "system text set"
                });
            }
            Line::New => {
                self.messages.clear();
                print::note("new conversation");
            }
            Line::Undo => {
                self.messages.truncate(self.messages.len().saturating_sub(2));
                print::note(format!("undone; {} messages left", self.messages.len()));
            }
            Line::History => self.history(),
            Line::Stats => {
                self.answering.stats = !self.answering.stats;
                let state = if self.answering.stats { "on" } else { "off" };
                print::note(format!("figures {state}"));
            }
            Line::Leave => return false,
            Line::Unknown(line) => print::note(format!("`{line}` is not a command\n{HELP}")),
        }
        true
    }

    async fn switch(&mut self, name: &str) {
        match self.find(name).await {
            Ok(name) => {
                self.model = name;
                print::note(format!("switched to `{}`", self.model));
            }
            Err(failure) => print::failure_as(&failure, self.json),
        }
    }

    async fn find(&mut self, name: &str) -> Result<String, Failure> {
        let meant = model::model(&self.client, name).await?;
        if meant.temporary && !self.temporary.contains(&meant.name) {
            self.temporary.push(meant.name.clone());
        }
        Ok(self.client.inspect(&meant.name).await?.name)
    }

    fn history(&self) {
        for message in &self.messages {
            if let Some(deft_protocol::chat::Content::Text(text)) = &message.content {
                print::line(format!("{}: {text}", message.role));
            }
        }
    }

    /// Asks, and shows the answer. A failure leaves the conversation unchanged.
    async fn say(&mut self, question: &str) {
        self.messages.push(ChatMessage::text("user", question));
        match self.answer().await {
            Ok(Some(text)) => self.messages.push(ChatMessage::text("assistant", text)),
            Ok(None) => {
                self.messages.pop();
                print::note("\n(stopped; the question was removed)");
            }
            Err(failure) => {
                self.messages.pop();
                print::failure_as(&failure, self.json);
                if failure.what.contains("context of") {
                    print::note("  -> or start a new conversation: :new");
                }
            }
        }
    }

    /// The answer's text; none where Ctrl-C stopped it.
    async fn answer(&self) -> Result<Option<String>, Failure> {
        let system = self.answering.system.iter().map(|text| ChatMessage::text("system", text));
        let messages = system.chain(self.messages.iter().cloned()).collect();
        let head = ChatHead::new(self.model.clone(), messages);
        // A long conversation is shortened to fit the context.
        let options = AnswerOptions {
            when_context_full: Some(WhenContextFull::LeaveOutOldest),
            ..answer::options(&self.answering)
        };
        let request = ChatRequest { head, options };
        let answering = async {
            let stream = self.client.chat_stream(&request).await?;
            let show = |text: &str| {
                if !self.json {
                    print::out(text);
                }
            };
            answer::take(stream, self.answering.reasoning, show).await
        };
        let answered = tokio::select! {
            answered = answering => answered?,
            _ = tokio::signal::ctrl_c() => return Ok(None),
        };
        if self.json {
            print::json_line(&json!({
                "model": self.model, "answer": answered.text, "reasoning": answered.reasoning,
                "usage": answered.usage, "figures": answered.figures,
            }));
            return Ok(Some(answered.text));
        }
        print::out("\n");
        answer::note_reasoning(&answered);
        answer::note_if_cut(&answered);
        answer::note_if_shortened(&answered);
        if self.answering.stats {
            answer::note_figures(&answered);
        }
        Ok(Some(answered.text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_that_begin_with_a_colon_are_commands() {
        assert_eq!(
            meaning("  When do I sow Ember chard? "),
            Line::Say("When do I sow Ember chard?")
        );
        assert_eq!(meaning(":leave"), Line::Leave);
        assert_eq!((meaning(":new"), meaning(":undo")), (Line::New, Line::Undo));
        assert_eq!(meaning(":model larkfen-desk-mini"), Line::Model("larkfen-desk-mini"));
        assert_eq!(meaning(":system Be cheerful."), Line::System("Be cheerful."));
        assert_eq!(meaning(":system"), Line::System(""));
        assert_eq!(meaning(":model"), Line::Unknown(":model"));
        assert_eq!(meaning(":bye"), Line::Unknown(":bye"));
        assert_eq!(meaning("   "), Line::Empty);
    }
}
