//! `deft service logs`.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use deft_service::Flags;
use deft_service::private_files::open_log;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Pause between two reads of a followed log.
const READ_EVERY: Duration = Duration::from_millis(200);
/// Length in bytes at which a log is rotated.
const MOST: u64 = 32 << 20;
/// Pause between two checks of the length.
const MEASURE_EVERY: Duration = Duration::from_secs(10);
/// Most bytes of a log that are read at once.
const LONGEST_TAIL: u64 = 4 << 20;

/// The log of the service in a data directory.
pub(super) fn file(data_dir: &Path) -> PathBuf {
    data_dir.join("logs/service.log")
}

/// The log before the last rotation.
fn previous(log: &Path) -> PathBuf {
    log.with_extension("previous.log")
}

/// Rotates the log that is this process's standard error.
///
/// # Errors
/// There is no thread for it.
pub(super) fn keep_small(log: PathBuf) -> io::Result<()> {
    let look = move || {
        loop {
            std::thread::sleep(MEASURE_EVERY);
            match turned(&log, MOST) {
                Ok(Some(new)) => {
                    if let Err(error) = rustix::stdio::dup2_stderr(new) {
                        tracing::warn!("the log continues in the previous file: {error}");
                    }
                }
                Ok(None) => {}
                Err(error) => tracing::warn!("the log cannot be rotated: {error}"),
            }
        }
    };
    std::thread::Builder::new().name("log".into()).spawn(look).map(|_| ())
}

/// Rotates a log that has reached this length; the new log, if so.
fn turned(log: &Path, most: u64) -> io::Result<Option<File>> {
    if std::fs::metadata(log).map_or(0, |found| found.len()) < most {
        return Ok(None);
    }
    std::fs::rename(log, previous(log))?;
    open_log(log).map(Some)
}

/// The last lines of a log.
pub(super) fn tail(path: &Path, lines: usize) -> io::Result<String> {
    let mut file = File::open(path)?;
    let length = file.metadata()?.len();
    file.seek(SeekFrom::Start(length.saturating_sub(LONGEST_TAIL)))?;
    let mut bytes = Vec::new();
    file.read_to_end(&mut bytes)?;
    let text = String::from_utf8_lossy(&bytes);
    let all: Vec<&str> = text.lines().collect();
    Ok(all[all.len().saturating_sub(lines)..].iter().map(|line| format!("{line}\n")).collect())
}

pub(super) fn run(common: &Common, lines: usize, follow: bool) -> Result<(), Failure> {
    let path = file(&connection::settings(common, Flags::default())?.config.data_dir);
    let missing = |error: io::Error| {
        Failure::missing(format!("the log `{}` cannot be read: {error}", path.display()))
            .with_way_out(
                "a service in the foreground writes its log to the terminal or the supervisor",
            )
    };
    let mut from = std::fs::metadata(&path).map_err(missing)?.len();
    show(common, &tail(&path, lines).map_err(missing)?);
    if !follow {
        return Ok(());
    }
    loop {
        std::thread::sleep(READ_EVERY);
        let news = news(&path, &mut from).map_err(missing)?;
        show(common, &String::from_utf8_lossy(&news));
    }
}

/// Prints lines of the log: as they are, or each as JSON.
fn show(common: &Common, text: &str) {
    if common.json {
        text.lines().for_each(|line| print::json_line(&serde_json::json!({"line": line})));
    } else {
        print::out(text);
    }
}

/// Reads the part of a log after a position, and moves the position.
fn news(log: &Path, from: &mut u64) -> io::Result<Vec<u8>> {
    let mut news = Vec::new();
    if std::fs::metadata(log)?.len() < *from {
        // The log was rotated: the unread part is in the previous one.
        let _ = read_from(&previous(log), *from, &mut news);
        *from = 0;
    }
    *from += read_from(log, *from, &mut news)?;
    Ok(news)
}

/// Reads a log from a position, and returns the number of bytes.
fn read_from(log: &Path, from: u64, bytes: &mut Vec<u8>) -> io::Result<u64> {
    let mut log = File::open(log)?;
    log.seek(SeekFrom::Start(from))?;
    Ok(log.take(LONGEST_TAIL).read_to_end(bytes)? as u64)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn a_log_that_grew_long_becomes_the_previous_one_and_there_are_never_three() {
        let folder = tempfile::tempdir().unwrap();
        let log = folder.path().join("service.log");
        let mut writing = open_log(&log).unwrap();
        writing.write_all(b"first\n").unwrap();
        assert!(turned(&log, 100).unwrap().is_none(), "it is short");
        for part in ["second", "third"] {
            let mut new = turned(&log, 1).unwrap().expect("it is long");
            assert_eq!(std::fs::read(&log).unwrap(), b"");
            writeln!(new, "{part}").unwrap();
        }
        assert_eq!(tail(&log, 9).unwrap(), "third\n");
        assert_eq!(tail(&previous(&log), 9).unwrap(), "second\n");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2);
    }

    #[test]
    fn whoever_follows_a_log_misses_nothing_when_it_becomes_the_previous_one() {
        let folder = tempfile::tempdir().unwrap();
        let log = folder.path().join("service.log");
        let mut writing = open_log(&log).unwrap();
        let (mut from, mut read) = (0, String::new());
        let mut expected = String::new();
        for line in 0..60 {
            writeln!(writing, "line {line}").unwrap();
            expected.push_str(&format!("line {line}\n"));
            if let Some(new) = turned(&log, 100).unwrap() {
                writing = new;
            }
            // The log is checked regularly.
            if line % 3 == 2 {
                read.push_str(&String::from_utf8(news(&log, &mut from).unwrap()).unwrap());
            }
        }
        assert_eq!(read, expected);
        assert!(previous(&log).exists());
    }
}
