//! `deft transfers`, and following one to its end.

use std::collections::BTreeMap;
use std::time::Duration;

use deft_client::Client;
use deft_protocol::manage::{Transfer, TransferKind, TransferState};
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use uuid::Uuid;

use crate::arguments::{Common, Transfers};
use crate::connection;
use crate::failure::Failure;
use crate::ids;
use crate::print;

/// Pause between two questions about progress.
const ASK_EVERY: Duration = Duration::from_millis(150);
/// Template of a transfer's progress bar.
const BAR: &str = "{prefix}  [{bar:30}]  {msg}";

pub(super) async fn run(common: &Common, command: &Transfers) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    if let Some(id) = &command.cancel {
        let all = client.transfers().await?;
        let id = ids::by_id(&all, |transfer| transfer.id, id, "transfer")
            .map_err(|failure| failure.with_way_out("show transfers: deft transfers"))?
            .id;
        let transfer = client.cancel_transfer(id).await?;
        if common.json {
            print::json(&transfer);
        } else {
            print::line(format!("cancelled the {} of `{}`", verb(transfer.kind), transfer.about));
        }
        return Ok(());
    }
    if command.follow {
        return follow_all(common, &client).await;
    }
    let transfers = client.transfers().await?;
    if common.json {
        print::json(&transfers);
    } else if transfers.is_empty() {
        print::note("no transfers yet");
    } else {
        print::line(table(&transfers));
    }
    Ok(())
}

/// Follows a transfer to its end, with progress on a terminal.
pub(super) async fn follow(client: &Client, begun: Transfer) -> Result<Transfer, Failure> {
    let bars = Bars::new();
    let mut transfer = begun;
    while !transfer.state.has_ended() {
        bars.show(std::slice::from_ref(&transfer), &mut BTreeMap::new());
        tokio::time::sleep(ASK_EVERY).await;
        transfer = client.transfer(transfer.id).await?;
    }
    bars.clear();
    match (&transfer.state, &transfer.problem) {
        (TransferState::Failed, Some(problem)) => Err(Failure::from(problem.clone())),
        (TransferState::Cancelled, _) => {
            Err(Failure::refused(format!("the {} was cancelled", verb(transfer.kind))))
        }
        _ => Ok(transfer),
    }
}

/// Follows all transfers to their end: bars on a terminal, or a line of JSON for each change.
async fn follow_all(common: &Common, client: &Client) -> Result<(), Failure> {
    let bars = Bars::new();
    let mut drawn = BTreeMap::new();
    let mut printed = Vec::new();
    loop {
        let mut running = client.transfers().await?;
        running.retain(|transfer| !transfer.state.has_ended());
        if common.json {
            for transfer in running.iter().filter(|found| !printed.contains(*found)) {
                print::json_line(transfer);
            }
            printed.clone_from(&running);
        } else {
            bars.show(&running, &mut drawn);
        }
        if running.is_empty() {
            bars.clear();
            let all = client.transfers().await?;
            if common.json {
                all.iter().for_each(print::json_line);
            } else if !all.is_empty() {
                print::line(table(&all));
            }
            return Ok(());
        }
        tokio::time::sleep(ASK_EVERY).await;
    }
}

/// Progress in the terminal, one line for each transfer.
struct Bars {
    all: MultiProgress,
    single: ProgressBar,
}

impl Bars {
    fn new() -> Self {
        let all = MultiProgress::new();
        let single = all.add(bar());
        Self { all, single }
    }

    fn show(&self, transfers: &[Transfer], drawn: &mut BTreeMap<Uuid, ProgressBar>) {
        for (at, transfer) in transfers.iter().enumerate() {
            let bar = if at == 0 {
                self.single.clone()
            } else {
                drawn.entry(transfer.id).or_insert_with(|| self.all.add(bar())).clone()
            };
            bar.set_length(transfer.total_bytes.max(1));
            bar.set_position(transfer.done_bytes);
            bar.set_prefix(format!("{} {}", verb(transfer.kind), transfer.about));
            bar.set_message(progress(transfer));
        }
    }

    fn clear(&self) {
        self.single.finish_and_clear();
        // Fails only where the terminal is gone.
        let _ = self.all.clear();
    }
}

/// Progress in bytes, if the total is unknown.
pub(super) fn spinner(what: &'static str) -> ProgressBar {
    let style = ProgressStyle::with_template("{prefix}  {bytes} at {bytes_per_sec}")
        .unwrap_or_else(|_| ProgressStyle::default_spinner());
    ProgressBar::no_length().with_style(style).with_prefix(what)
}

fn bar() -> ProgressBar {
    let style = ProgressStyle::with_template(BAR).unwrap_or_else(|_| ProgressStyle::default_bar());
    ProgressBar::new(1).with_style(style.progress_chars("#."))
}

/// Progress of a transfer in words.
fn progress(transfer: &Transfer) -> String {
    let mut words =
        format!("{} of {}", print::bytes(transfer.done_bytes), print::bytes(transfer.total_bytes));
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a rate")]
    if let Some(rate) = transfer.rate {
        words += &format!(", {}/s", print::bytes(rate as u64));
    }
    if let Some(seconds) = transfer.seconds_left {
        words += &format!(", {} left", print::seconds(seconds));
    }
    if let Some(stage) = &transfer.stage {
        words += &format!(", {stage}");
    }
    if let Some(file) = &transfer.file {
        words += &format!(", {file}");
    }
    if transfer.files.len() > 1 {
        let done = transfer.files.iter().filter(|file| file.done_bytes == file.total_bytes);
        words += &format!(", {} of {} files", done.count(), transfer.files.len());
    }
    words
}

fn verb(kind: TransferKind) -> &'static str {
    match kind {
        TransferKind::Import => "import",
        TransferKind::Export => "export",
        TransferKind::Verify => "verify",
        TransferKind::Pull => "pull",
    }
}

fn table(transfers: &[Transfer]) -> String {
    let all: Vec<_> = transfers.iter().map(|transfer| transfer.id).collect();
    let length = ids::id_length(&all);
    let row = |transfer: &Transfer| {
        let problem = transfer.problem.as_ref().map(|problem| problem.detail.clone());
        let outcome = problem.or_else(|| transfer.outcome.clone());
        vec![
            transfer.id.to_string()[..length].to_owned(),
            verb(transfer.kind).to_owned(),
            transfer.about.clone(),
            match transfer.state {
                TransferState::Waiting => "waiting",
                TransferState::Running => "running",
                TransferState::Done => "done",
                TransferState::Failed => "failed",
                TransferState::Cancelled => "cancelled",
            }
            .to_owned(),
            outcome.unwrap_or_else(|| progress(transfer)),
        ]
    };
    let headers = ["id", "kind", "model", "state", ""];
    print::table(&headers, transfers.iter().map(row).collect(), &[])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn progress_reads_well() {
        let transfer = Transfer {
            id: Uuid::nil(),
            kind: TransferKind::Import,
            about: "larkfen-desk/q8_0".to_owned(),
            state: TransferState::Running,
            stage: None,
            file: Some("larkfen-desk-q8_0.gguf".to_owned()),
            files: Vec::new(),
            done_bytes: 5 << 20,
            total_bytes: 20 << 20,
            rate: Some(f64::from(10 << 20)),
            seconds_left: Some(1.5),
            began_at: chrono::DateTime::UNIX_EPOCH,
            ended_at: None,
            outcome: None,
            problem: None,
        };
        let words = "5.00 MiB of 20.0 MiB, 10.0 MiB/s, 1.50 s left, larkfen-desk-q8_0.gguf";
        assert_eq!(progress(&transfer), words);
        assert!(table(&[transfer]).contains("import   larkfen-desk/q8_0   running"));
    }
}
