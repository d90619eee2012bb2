//! `deft talk`: a conversation at the terminal. Commands begin with a colon.

use deft_client::Client;
use deft_protocol::chat::{AnswerOptions, ChatHead, ChatMessage, ChatRequest};
use deft_protocol::engine::Overflow;
use rustyline::DefaultEditor;
use rustyline::error::ReadlineError;

use super::{answer, passing};
use crate::arguments::{Answering, Common, Talk};
use crate::connection;
use crate::failure::Failure;
use crate::print;

const HELP: &str = "What you can do:
  :help              see this
  :model MODEL       go on with another model
  :system TEXT       tell the model how to behave; without TEXT no longer
  :forget            begin anew
  :back              take the last question and its answer back
  :history           show the conversation so far
  :stats             tell figures of each answer, or no longer
  :leave             end (so does Ctrl-D)
A line that ends with \\ goes on in the next one. Ctrl-C stops an answer.";

struct Conversation {
    client: Client,
    model: String,
    answering: Answering,
    messages: Vec<ChatMessage>,
    /// Files that are there for the time of the talk.
    passing: Vec<String>,
}

/// What a line of input means.
#[derive(Debug, PartialEq, Eq)]
enum Line<'a> {
    Empty,
    Say(&'a str),
    Help,
    Model(&'a str),
    System(&'a str),
    Forget,
    Back,
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
        "forget" => Line::Forget,
        "back" => Line::Back,
        "history" => Line::History,
        "stats" => Line::Stats,
        "leave" => Line::Leave,
        _ => Line::Unknown(line),
    }
}

pub(super) async fn run(common: &Common, command: Talk) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let meant = passing::usable(common, &client, &command.model, command.fetch).await?;
    let variant = client.inspect(&meant.name).await?;
    let mut editor = DefaultEditor::new().map_err(|error| Failure::fault(error.to_string()))?;
    print::note(format!(
        "talking with `{}`; :help tells what you can do, :leave ends",
        variant.name
    ));
    let mut conversation = Conversation {
        client,
        model: variant.name,
        answering: command.answering,
        messages: Vec::new(),
        passing: meant.passing.then(|| meant.name.clone()).into_iter().collect(),
    };
    let ended = conversation.go_on(&mut editor).await;
    for name in &conversation.passing {
        passing::end(&conversation.client, name).await?;
    }
    ended
}

impl Conversation {
    /// Takes lines until the talk ends.
    async fn go_on(&mut self, editor: &mut DefaultEditor) -> Result<(), Failure> {
        loop {
            let read = tokio::task::block_in_place(|| read_line(editor));
            match read {
                Ok(line) => {
                    // Without history the talk goes on.
                    let _ = editor.add_history_entry(line.as_str());
                    if !self.take(meaning(&line)).await {
                        return Ok(());
                    }
                }
                Err(ReadlineError::Interrupted) => print::note("(:leave ends the talk)"),
                Err(ReadlineError::Eof) => return Ok(()),
                Err(error) => return Err(Failure::fault(error.to_string())),
            }
        }
    }
}

/// One line of input, or several where each but the last ends with a backslash.
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
    /// Does what a line says; false ends the talk.
    async fn take(&mut self, line: Line<'_>) -> bool {
        match line {
            Line::Empty => {}
            Line::Say(question) => self.say(question).await,
            Line::Help => print::note(HELP),
            Line::Model(name) => self.switch(name).await,
            Line::System(text) => {
                self.answering.system = (!text.is_empty()).then(|| text.to_owned());
                print::note(if text.is_empty() { "no system text any more" } else { "noted" });
            }
            Line::Forget => {
                self.messages.clear();
                print::note("forgotten");
            }
            Line::Back => {
                self.messages.truncate(self.messages.len().saturating_sub(2));
                print::note(format!("{} messages are left", self.messages.len()));
            }
            Line::History => self.history(),
            Line::Stats => {
                self.answering.stats = !self.answering.stats;
                let state = if self.answering.stats { "told" } else { "not told any more" };
                print::note(format!("figures are {state}"));
            }
            Line::Leave => return false,
            Line::Unknown(line) => print::note(format!("`{line}` is no command\n{HELP}")),
        }
        true
    }

    async fn switch(&mut self, name: &str) {
        match self.find(name).await {
            Ok(name) => {
                self.model = name;
                print::note(format!("going on with `{}`", self.model));
            }
            Err(failure) => print::failure(&failure),
        }
    }

    async fn find(&mut self, name: &str) -> Result<String, Failure> {
        let meant = passing::model(&self.client, name).await?;
        if meant.passing && !self.passing.contains(&meant.name) {
            self.passing.push(meant.name.clone());
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

    /// Asks, and shows the answer. A failure leaves the conversation as it was.
    async fn say(&mut self, question: &str) {
        self.messages.push(ChatMessage::text("user", question));
        match self.answer().await {
            Ok(Some(text)) => self.messages.push(ChatMessage::text("assistant", text)),
            Ok(None) => {
                self.messages.pop();
                print::note("\n(stopped; this question is not kept)");
            }
            Err(failure) => {
                self.messages.pop();
                print::failure(&failure);
                if failure.what.contains("context of") {
                    print::note("  -> or begin anew: :forget");
                }
            }
        }
    }

    /// The answer's text; none where Ctrl-C stopped it.
    async fn answer(&self) -> Result<Option<String>, Failure> {
        let system = self.answering.system.iter().map(|text| ChatMessage::text("system", text));
        let messages = system.chain(self.messages.iter().cloned()).collect();
        let head = ChatHead::new(self.model.clone(), messages);
        // A talk may be longer than the context: its oldest turns are left out then.
        let options = AnswerOptions {
            context_overflow: Some(Overflow::DropOldest),
            ..answer::options(&self.answering)
        };
        let request = ChatRequest { head, options };
        let answering = async {
            let stream = self.client.chat_stream(&request).await?;
            answer::take(stream, print::out).await
        };
        let answered = tokio::select! {
            answered = answering => answered?,
            _ = tokio::signal::ctrl_c() => return Ok(None),
        };
        print::out("\n");
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
        assert_eq!(meaning(":model larkfen-desk-mini"), Line::Model("larkfen-desk-mini"));
        assert_eq!(meaning(":system Be cheerful."), Line::System("Be cheerful."));
        assert_eq!(meaning(":system"), Line::System(""));
        assert_eq!(meaning(":model"), Line::Unknown(":model"));
        assert_eq!(meaning(":bye"), Line::Unknown(":bye"));
        assert_eq!(meaning("   "), Line::Empty);
    }
}
