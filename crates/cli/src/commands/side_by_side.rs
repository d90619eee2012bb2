//! `deft ask --with A,B,C`: one question to several models, or several times to one.

mod columns;

use std::io::IsTerminal;
use std::time::Duration;

use deft_client::{Client, ClientError};
use deft_protocol::chat::AnswerOptions;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use tokio::sync::mpsc;

use super::ask::{Question, stream};
use super::{answer, model};
use crate::arguments::{Ask, Common};
use crate::failure::Failure;
use crate::print;
use columns::{Column, Comparison};

/// Shortest pause between two drawings of the columns.
const DRAW_EVERY: Duration = Duration::from_millis(100);
/// Default width in columns.
const USUAL_WIDTH: usize = 120;

/// News of one of the answers.
enum Update {
    Text(String),
    /// Memory of its instance in bytes.
    Memory(u64),
    Done(Box<answer::Answered>),
    Failed(Failure),
}

pub(super) async fn run(
    common: &Common,
    client: &Client,
    command: &Ask,
    question: Question,
) -> Result<(), Failure> {
    let mut comparison = Comparison::new(question.text(), &command.with);
    let mut orders = Vec::new();
    for name in &command.with {
        let meant = model::usable(common, client, name, command.yes).await?;
        let mut options = answer::options(&command.answering);
        options.unload_after = (meant.temporary || command.unload_after).then_some(true);
        orders.push((meant.name, options));
    }
    let (sender, mut updates) = mpsc::unbounded_channel();
    let sequential = command.sequential || command.unload_after;
    tokio::spawn(ask_all(client.clone(), question, orders, sequential, sender));
    let live = Live::start(common);
    let mut failure = None;
    while let Some((at, update)) = updates.recv().await {
        let column = &mut comparison.answers[at];
        match update {
            Update::Text(text) => column.answer.push_str(&text),
            Update::Memory(bytes) => column.memory_bytes = Some(bytes),
            Update::Done(answered) => {
                (column.figures, column.usage) = (answered.figures, Some(answered.usage));
            }
            Update::Failed(error) => {
                column.problem = Some(error.to_string());
                failure.get_or_insert(error);
            }
        }
        live.show(&comparison.answers);
    }
    live.end();
    finish(common, command, &comparison)?;
    failure.map_or(Ok(()), Err)
}

fn finish(common: &Common, command: &Ask, comparison: &Comparison) -> Result<(), Failure> {
    if common.json {
        print::json(comparison);
    } else {
        print::line(columns::side_by_side(&comparison.answers, width(), None));
    }
    let Some(file) = &command.output else { return Ok(()) };
    let text = if file.extension().is_some_and(|end| end.eq_ignore_ascii_case("json")) {
        serde_json::to_string_pretty(comparison).unwrap_or_default() + "\n"
    } else {
        comparison.markdown()
    };
    let failed = |error| Failure::fault(format!("cannot write `{}`: {error}", file.display()));
    std::fs::write(file, text).map_err(failed)?;
    print::note(format!("written to {}", file.display()));
    Ok(())
}

type UpdateSender = mpsc::UnboundedSender<(usize, Update)>;

/// Asks all, at the same time or one after the other.
async fn ask_all(
    client: Client,
    question: Question,
    orders: Vec<(String, AnswerOptions)>,
    sequential: bool,
    sender: UpdateSender,
) {
    let asked = orders.into_iter().enumerate().map(|(at, (model, options))| {
        let (client, question, sender) = (client.clone(), question.clone(), sender.clone());
        async move {
            let result = ask_one(&client, &question, model, options, at, &sender).await;
            let update = match result {
                Ok(answered) => Update::Done(Box::new(answered)),
                Err(error) => Update::Failed(error),
            };
            // The receiver may have gone.
            let _ = sender.send((at, update));
        }
    });
    if sequential {
        for one in asked {
            one.await;
        }
    } else {
        futures_util::future::join_all(asked).await;
    }
}

async fn ask_one(
    client: &Client,
    question: &Question,
    model: String,
    options: AnswerOptions,
    at: usize,
    sender: &UpdateSender,
) -> Result<answer::Answered, Failure> {
    let stream = stream(client, question, model.clone(), options).await?;
    // The prompt is accepted: its model is loaded.
    if let Ok(Some(bytes)) = memory(client, &model).await {
        let _ = sender.send((at, Update::Memory(bytes)));
    }
    answer::take(stream, false, |text| {
        let _ = sender.send((at, Update::Text(text.to_owned())));
    })
    .await
}

/// Memory of an instance of the model: measured, or reserved where it was not measured yet.
async fn memory(client: &Client, model: &str) -> Result<Option<u64>, ClientError> {
    let variant = client.inspect(model).await?.name;
    let (status, _) = client.status().await?;
    let found = status.instances.into_iter().find(|instance| instance.name == variant);
    Ok(found.map(|found| found.measured_bytes.unwrap_or(found.reserved_bytes)))
}

fn size() -> (usize, usize) {
    let size = ratatui::crossterm::terminal::size().ok();
    size.map_or((USUAL_WIDTH, 40), |(width, height)| (width.into(), height.into()))
}

fn width() -> usize {
    if std::io::stdout().is_terminal() { size().0 } else { USUAL_WIDTH }
}

/// The growing columns, on a terminal.
struct Live(Option<ProgressBar>);

impl Live {
    fn start(common: &Common) -> Self {
        if common.json || !std::io::stdout().is_terminal() || !std::io::stderr().is_terminal() {
            return Self(None);
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
        if let Ok(style) = ProgressStyle::with_template("{msg}") {
            bar.set_style(style);
        }
        bar.enable_steady_tick(DRAW_EVERY);
        Self(Some(bar))
    }

    fn show(&self, columns: &[Column]) {
        if let Some(bar) = &self.0 {
            let (width, height) = size();
            // The end of each column, as much as there is room for above its figures.
            let lines = height.saturating_sub(10).max(3);
            bar.set_message(columns::side_by_side(columns, width.saturating_sub(1), Some(lines)));
        }
    }

    fn end(self) {
        if let Some(bar) = self.0 {
            bar.finish_and_clear();
        }
    }
}
