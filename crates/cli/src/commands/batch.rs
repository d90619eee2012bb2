//! `deft batch`: uploads a file of calls, follows its batch, and writes the answers.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use deft_client::{Client, ClientError};
use deft_protocol::batches::{Batch, BatchLine, BatchRequest, BatchStatus};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Map, Value};

use crate::arguments::{Batch as Command, Common};
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Pause between two questions about the progress.
const ASK_EVERY: Duration = Duration::from_millis(300);
/// The progress bar.
const BAR: &str = "{prefix}  [{bar:30}]  {msg}";
/// Longest duration of a batch.
const WINDOW: &str = "168h";
/// Where the batch's record has the digest of the file.
const DIGEST: &str = "file_digest";
/// Longest first line.
const MAX_LINE: u64 = 9 << 20;

pub(super) async fn run(common: &Common, command: &Command) -> Result<(), Failure> {
    let calls = Calls::read(&command.file)?;
    let outputs = Outputs::beside(&command.file, command.output.clone())?;
    let client = connection::connect(common).await?;
    let known = calls.known(&client, command.again).await?;
    let batch = match known {
        Some(batch) if command.cancel && !batch.status.has_ended() => {
            client.cancel_batch(&batch.id).await?
        }
        _ if command.cancel => {
            let what = format!("no batch of `{}` is running", command.file.display());
            return Err(Failure::missing(what));
        }
        Some(batch) => {
            print::note(match batch.status.has_ended() {
                true => "this file was answered before; to answer it anew: --again",
                false => "the batch of this file is running already",
            });
            batch
        }
        None => calls.begin(&client, &command.file).await?,
    };
    let batch = follow(&client, batch).await?;
    let written = outputs.write(&client, &batch).await?;
    report(common, &batch, &written)
}

/// The calls of a file.
struct Calls {
    /// The path of the first call, which all must have.
    endpoint: String,
    /// Digest of the content, by which an earlier batch is found again.
    digest: String,
    bytes: u64,
}

impl Calls {
    fn read(path: &Path) -> Result<Self, Failure> {
        let unreadable = |error: io::Error| {
            Failure::missing(format!("`{}` cannot be read: {error}", path.display()))
        };
        let mut first = Vec::new();
        let file = File::open(path).map_err(unreadable)?;
        let bytes = file.metadata().map_err(unreadable)?.len();
        let mut reader = BufReader::new(file.take(MAX_LINE));
        while first.trim_ascii().is_empty() {
            first.clear();
            if reader.read_until(b'\n', &mut first).map_err(unreadable)? == 0 {
                return Err(Failure::refused(format!("`{}` has no calls", path.display())));
            }
        }
        let line: BatchLine = serde_json::from_slice(&first).map_err(|error| {
            Failure::refused(format!("the first line of `{}` is not a call: {error}", path.display()))
                .with_way_out(
                    "write one JSON object in each line: {\"custom_id\": \"1\", \"method\": \"POST\", \"url\": \
                     \"/v1/chat/completions\", \"body\": {\"model\": ..., \"messages\": ...}}",
                )
        })?;
        let mut digest = blake3::Hasher::new();
        digest.update_reader(File::open(path).map_err(unreadable)?).map_err(unreadable)?;
        Ok(Self { endpoint: line.url, digest: digest.finalize().to_hex().to_string(), bytes })
    }

    /// The batch of the same content that is running or was completed, unless that shall be done `again`.
    async fn known(&self, client: &Client, again: bool) -> Result<Option<Batch>, Failure> {
        let is_same = |batch: &Batch| {
            let digest = batch.metadata.as_ref().and_then(|data| data.get(DIGEST));
            digest.and_then(Value::as_str) == Some(&self.digest) && batch.endpoint == self.endpoint
        };
        let is_useful = |batch: &Batch| match batch.status {
            BatchStatus::Completed => !again,
            status => !status.has_ended(),
        };
        let all = client.batches().await?;
        Ok(all.into_iter().find(|batch| is_same(batch) && is_useful(batch)))
    }

    async fn begin(&self, client: &Client, path: &Path) -> Result<Batch, Failure> {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let file = tokio::fs::File::open(path).await?;
        let file = client.upload(name, file, self.bytes).await?;
        let metadata = Map::from_iter([(DIGEST.to_owned(), Value::from(self.digest.clone()))]);
        let request = BatchRequest {
            input_file_id: file.id,
            endpoint: self.endpoint.clone(),
            completion_window: WINDOW.to_owned(),
            metadata: Some(metadata),
        };
        let batch = client.begin_batch(&request).await?;
        print::note(
            "the batch goes on if this command is interrupted; the same command follows it again",
        );
        Ok(batch)
    }
}

/// Follows a batch to its end, with progress on a terminal. The service may restart meanwhile.
async fn follow(client: &Client, mut batch: Batch) -> Result<Batch, Failure> {
    let style = ProgressStyle::with_template(BAR).unwrap_or_else(|_| ProgressStyle::default_bar());
    let bar = ProgressBar::new(1).with_style(style.progress_chars("#> ")).with_prefix("batch");
    let begun = (Instant::now(), done(&batch));
    let mut is_away = false;
    while !batch.status.has_ended() {
        bar.set_length(u64::from(batch.request_counts.total.max(1)));
        bar.set_position(u64::from(done(&batch)));
        bar.set_message(progress(&batch, begun));
        tokio::time::sleep(ASK_EVERY).await;
        match client.batch(&batch.id).await {
            Ok(newer) => (batch, is_away) = (newer, false),
            Err(ClientError::NoService { .. } | ClientError::Broken(_)) => {
                if !std::mem::replace(&mut is_away, true) {
                    bar.suspend(|| print::note("the service does not answer; waiting for it"));
                }
            }
            Err(error) => return Err(error.into()),
        }
    }
    bar.finish_and_clear();
    Ok(batch)
}

fn done(batch: &Batch) -> u32 {
    batch.request_counts.completed + batch.request_counts.failed
}

/// The progress in words; `begun` is when and with how many calls the measurement of the time left began.
fn progress(batch: &Batch, (begun, before): (Instant, u32)) -> String {
    let counts = batch.request_counts;
    let mut words = match batch.status {
        BatchStatus::Validating => return "checking the file".to_owned(),
        BatchStatus::Cancelling => "cancelling, ".to_owned(),
        _ => String::new(),
    };
    words += &format!("{} of {} calls", done(batch), counts.total);
    if counts.failed > 0 {
        words += &format!(", {} failed", counts.failed);
    }
    let answered = done(batch).saturating_sub(before);
    if answered > 0 {
        let left = counts.total.saturating_sub(done(batch));
        let each = begun.elapsed().as_secs_f64() / f64::from(answered);
        let whole = Duration::try_from_secs_f64((each * f64::from(left)).round());
        let left = humantime::format_duration(whole.unwrap_or(Duration::MAX)).to_string();
        words += &format!(", about {left} left");
    }
    words
}

/// The files that the answers are written to.
struct Outputs {
    answers: PathBuf,
    failed: PathBuf,
}

/// The written files.
#[derive(Default)]
struct Written {
    answers: Option<PathBuf>,
    failed: Option<PathBuf>,
}

impl Outputs {
    /// Files beside the calls, or as requested. Files that exist are never overwritten.
    fn beside(calls: &Path, requested: Option<PathBuf>) -> Result<Self, Failure> {
        let answers = requested.unwrap_or_else(|| calls.with_extension("answers.jsonl"));
        let stem = answers.to_string_lossy();
        let stem = stem.trim_end_matches(".jsonl").trim_end_matches(".answers");
        let failed = PathBuf::from(format!("{stem}.failed.jsonl"));
        if let Some(path) = [&answers, &failed].into_iter().find(|path| path.exists()) {
            return Err(Failure::refused(format!("`{}` exists already", path.display()))
                .with_way_out("move it away, or choose another file: --output"));
        }
        Ok(Self { answers, failed })
    }

    async fn write(&self, client: &Client, batch: &Batch) -> Result<Written, Failure> {
        let mut written = Written::default();
        for (id, path, into) in [
            (&batch.output_file_id, &self.answers, &mut written.answers),
            (&batch.error_file_id, &self.failed, &mut written.failed),
        ] {
            let Some(id) = id else { continue };
            let mut file = tokio::fs::File::create_new(path).await.map_err(|error| {
                Failure::fault(format!("`{}` cannot be written: {error}", path.display()))
            })?;
            if let Err(error) = client.download(id, &mut file).await {
                let _ = tokio::fs::remove_file(path).await;
                return Err(error.into());
            }
            *into = Some(path.clone());
        }
        Ok(written)
    }
}

/// Says how the batch ended.
fn report(common: &Common, batch: &Batch, written: &Written) -> Result<(), Failure> {
    if common.json {
        print::json(batch);
    }
    if let Some(errors) = &batch.errors {
        let defect = |error: &deft_protocol::batches::BatchError| match error.line {
            Some(line) => format!("line {line}: {}", error.message),
            None => error.message.clone(),
        };
        let defects: Vec<String> = errors.data.iter().map(defect).collect();
        return Err(Failure::refused(format!("no call was answered\n  {}", defects.join("\n  ")))
            .with_way_out("mend these lines, and run the command again"));
    }
    let counts = batch.request_counts;
    if !common.json {
        let end = match batch.status {
            BatchStatus::Cancelled => ", cancelled",
            BatchStatus::Expired => ", its time was over",
            _ => "",
        };
        print::line(format!("{} of {} calls answered{end}", counts.completed, counts.total));
        for path in written.answers.iter().chain(&written.failed) {
            print::line(format!("  {}", path.display()));
        }
    }
    match counts.failed {
        0 => Ok(()),
        failed => Err(Failure::fault(format!("{failed} of {} calls failed", counts.total))
            .with_way_out(match &written.failed {
                Some(path) => format!("each line of `{}` has the reason", path.display()),
                None => "read the reasons: GET /v1/files".to_owned(),
            })),
    }
}

#[cfg(test)]
mod tests {
    use deft_protocol::batches::BatchCounts;

    use super::*;

    #[test]
    fn progress_counts_what_was_answered_since_it_is_followed() {
        let mut batch = Batch { status: BatchStatus::InProgress, ..Batch::default() };
        batch.request_counts = BatchCounts { total: 500, completed: 120, failed: 2 };
        let minute = Instant::now().checked_sub(Duration::from_secs(60)).unwrap();
        let words = progress(&batch, (minute, 2));
        assert!(words.starts_with("122 of 500 calls, 2 failed, about 3m"), "{words}");
        assert_eq!(progress(&batch, (minute, 122)), "122 of 500 calls, 2 failed");
    }

    #[test]
    fn answers_are_written_beside_the_calls_and_never_over_a_file() {
        let folder = tempfile::tempdir().unwrap();
        let outputs = Outputs::beside(&folder.path().join("calls.jsonl"), None).unwrap();
        assert!(outputs.answers.ends_with("calls.answers.jsonl"), "{:?}", outputs.answers);
        assert!(outputs.failed.ends_with("calls.failed.jsonl"), "{:?}", outputs.failed);
        std::fs::write(&outputs.failed, "mine").unwrap();
        assert!(Outputs::beside(&folder.path().join("calls.jsonl"), None).is_err());
        let other = Some(folder.path().join("other.jsonl"));
        let outputs = Outputs::beside(&folder.path().join("calls.jsonl"), other).unwrap();
        assert!(outputs.failed.ends_with("other.failed.jsonl"), "{:?}", outputs.failed);
    }
}
