//! `deft service logs`.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use deft_service::Flags;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// Pause between two looks at a log that is followed.
const LOOK_AGAIN: Duration = Duration::from_millis(200);
/// Longest end of a log that is read at once.
const LONGEST_TAIL: u64 = 4 << 20;

/// The log of the service in a data directory.
pub(super) fn file(data_dir: &Path) -> PathBuf {
    data_dir.join("logs/service.log")
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
            .with_way_out("a service in the foreground logs to its terminal or supervisor")
    };
    let mut from = std::fs::metadata(&path).map_err(missing)?.len();
    print::out(&tail(&path, lines).map_err(missing)?);
    if !follow {
        return Ok(());
    }
    loop {
        std::thread::sleep(LOOK_AGAIN);
        let mut log = File::open(&path).map_err(missing)?;
        let length = log.metadata()?.len();
        // A shorter file is a new one.
        from = if length < from { 0 } else { from };
        log.seek(SeekFrom::Start(from))?;
        let mut bytes = Vec::new();
        log.take(length - from).read_to_end(&mut bytes)?;
        from += bytes.len() as u64;
        print::out(&String::from_utf8_lossy(&bytes));
    }
}
