//! How a process that reads headers talks to the one that has the files: a line of JSON each, one question at
//! a time. The bytes of a file follow the line that announces them. Neither side believes the other.

use std::io::{self, BufRead, Write};
use std::time::Instant;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::{HeaderAnswer, HeaderTask, NumberedFiles, Refusal, RefusalKind, answer};

/// Longest line in bytes: a template of the file's, with all that JSON adds to it.
const LONGEST_LINE: u64 = 32 << 20;
/// Most bytes of a file that are sent at once.
const MOST_AT_ONCE: u32 = 1 << 20;
/// Most bytes that are sent in all: more than any header needs, even if parts are read twice.
const MOST_IN_ALL: u64 = 2 << 30;

/// What the process that reads asks, or says at last.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Ask {
    /// Open a file.
    Open(u32),
    /// Read that many bytes of it, from an offset.
    Read { file: u32, at: u64, length: u32 },
    /// The result.
    Done(Result<HeaderAnswer, Refusal>),
}

/// What it is answered.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Reply {
    /// The file's length.
    Length(u64),
    /// So many bytes follow.
    Bytes(u32),
    /// It cannot be had.
    Failed(String),
}

/// Lets the process at the other end read headers. Returns what it found.
///
/// # Errors
/// Why the files cannot be used; the process ended, is silent, wants too much or talks nonsense.
pub fn converse(
    task: &HeaderTask,
    files: &mut dyn NumberedFiles,
    mut from: impl BufRead,
    mut to: impl Write,
    deadline: Instant,
) -> Result<HeaderAnswer, Refusal> {
    let talk = |error: io::Error| {
        let what = format!("the process that reads its header did not finish: {error}");
        Refusal::new(RefusalKind::Process, what)
    };
    let wrong = |what: &str| talk(io::Error::other(what.to_owned()));
    let mut left = MOST_IN_ALL;
    let mut buffer = Vec::new();
    say(&mut to, task).map_err(talk)?;
    loop {
        if Instant::now() > deadline {
            return Err(wrong("it took too long"));
        }
        match hear(&mut from).map_err(talk)? {
            Ask::Open(number) => say(
                &mut to,
                &match files.open(number) {
                    Ok(length) => Reply::Length(length),
                    Err(error) => Reply::Failed(error.to_string()),
                },
            ),
            Ask::Read { file, at, length } => {
                let length = length.min(MOST_AT_ONCE);
                left = left.checked_sub(length.into()).ok_or_else(|| wrong("it read too much"))?;
                buffer.resize(length as usize, 0);
                match files.read_at(file, at, &mut buffer) {
                    Ok(count) => {
                        let reply = Reply::Bytes(u32::try_from(count).unwrap_or(0));
                        say(&mut to, &reply).and_then(|()| to.write_all(&buffer[..count]))
                    }
                    Err(error) => say(&mut to, &Reply::Failed(error.to_string())),
                }
            }
            Ask::Done(Ok(HeaderAnswer::Model { shape: Some(shape), .. }))
                if !shape.is_possible() =>
            {
                return Err(wrong("it declares sizes that no model has"));
            }
            Ask::Done(result) => return result,
        }
        .map_err(talk)?;
    }
}

/// Reads headers for the process at the other end: the whole life of the process that does so.
///
/// # Errors
/// The other end is gone, or talks nonsense.
pub fn serve(mut from: impl BufRead, mut to: impl Write) -> io::Result<()> {
    let task: HeaderTask = hear(&mut from)?;
    let mut files = Asking { from: &mut from, to: &mut to };
    let answered = answer(&task, &mut files);
    say(&mut to, &Ask::Done(answered))
}

/// Files that are at the other end.
struct Asking<R, W> {
    from: R,
    to: W,
}

impl<R: BufRead, W: Write> NumberedFiles for Asking<R, W> {
    fn open(&mut self, number: u32) -> io::Result<u64> {
        say(&mut self.to, &Ask::Open(number))?;
        match hear(&mut self.from)? {
            Reply::Length(length) => Ok(length),
            Reply::Failed(what) => Err(io::Error::other(what)),
            Reply::Bytes(_) => Err(io::Error::other("the reply belongs to another request")),
        }
    }

    fn read_at(&mut self, file: u32, at: u64, target: &mut [u8]) -> io::Result<usize> {
        let length = u32::try_from(target.len()).unwrap_or(u32::MAX).min(MOST_AT_ONCE);
        say(&mut self.to, &Ask::Read { file, at, length })?;
        match hear(&mut self.from)? {
            Reply::Bytes(count) => {
                let target = target.get_mut(..count as usize);
                let target =
                    target.ok_or_else(|| io::Error::other("the reply is longer than requested"))?;
                self.from.read_exact(target)?;
                Ok(count as usize)
            }
            Reply::Failed(what) => Err(io::Error::other(what)),
            Reply::Length(_) => Err(io::Error::other("the reply belongs to another request")),
        }
    }
}

fn say<T: Serialize>(mut to: impl Write, message: &T) -> io::Result<()> {
    let mut line = serde_json::to_vec(message)?;
    line.push(b'\n');
    to.write_all(&line)?;
    to.flush()
}

fn hear<T: DeserializeOwned>(from: impl BufRead) -> io::Result<T> {
    let mut line = Vec::new();
    from.take(LONGEST_LINE).read_until(b'\n', &mut line)?;
    match line.last() {
        Some(b'\n') => Ok(serde_json::from_slice(&line)?),
        Some(_) if line.len() as u64 == LONGEST_LINE => {
            Err(io::Error::other("the reply is too long"))
        }
        _ => Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it ended")),
    }
}
