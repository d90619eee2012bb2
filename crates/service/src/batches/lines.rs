//! Lines of a batch's file, and of its answers.

use std::collections::BTreeSet;
use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use deft_protocol::batches::{BatchAnswer, BatchError, BatchLine};

use crate::routes::MAX_BODY;

/// Longest line in bytes: a request with some room for its name.
const MAX_LINE: usize = MAX_BODY + 4096;
/// Longest name of a call.
const MAX_NAME: usize = 256;
/// Most calls of a batch.
const MOST_CALLS: u32 = 50_000;
/// Most defects that are reported.
const MOST_ERRORS: usize = 20;

/// Reads a file line by line; a line has at most [`MAX_LINE`] bytes.
pub(super) struct Lines {
    reader: BufReader<File>,
    /// Number of the last line.
    number: u32,
}

/// A line with its number.
pub(super) type Numbered = (u32, Result<BatchLine, BatchError>);

impl Lines {
    pub(super) fn open(path: &Path) -> io::Result<Self> {
        Ok(Self { reader: BufReader::new(File::open(path)?), number: 0 })
    }

    /// The next line that is not empty.
    pub(super) fn next(&mut self) -> io::Result<Option<Numbered>> {
        loop {
            let mut line = Vec::new();
            let read =
                self.reader.by_ref().take(MAX_LINE as u64 + 1).read_until(b'\n', &mut line)?;
            if read == 0 {
                return Ok(None);
            }
            self.number = self.number.saturating_add(1);
            if read > MAX_LINE {
                self.skip_line()?;
                let what = format!("the line has more than {MAX_LINE} bytes");
                return Ok(Some((self.number, Err(self.defect("line_too_long", what, None)))));
            }
            if !line.trim_ascii().is_empty() {
                return Ok(Some((self.number, self.parse(&line))));
            }
        }
    }

    /// Reads to the end of the line without keeping it.
    fn skip_line(&mut self) -> io::Result<()> {
        loop {
            let bytes = self.reader.fill_buf()?;
            let (used, ends) = match bytes.iter().position(|byte| *byte == b'\n') {
                Some(at) => (at + 1, true),
                None => (bytes.len(), bytes.is_empty()),
            };
            self.reader.consume(used);
            if ends {
                return Ok(());
            }
        }
    }

    fn parse(&self, line: &[u8]) -> Result<BatchLine, BatchError> {
        let line: BatchLine = serde_json::from_slice(line)
            .map_err(|error| self.defect("line_not_a_call", error.to_string(), None))?;
        let name = line.custom_id.chars().count();
        if name == 0 || name > MAX_NAME {
            let what = format!("`custom_id` must have 1 to {MAX_NAME} characters");
            return Err(self.defect("custom_id_invalid", what, Some("custom_id")));
        }
        if line.method != "POST" {
            return Err(self.defect(
                "method_invalid",
                "`method` must be `POST`".into(),
                Some("method"),
            ));
        }
        Ok(line)
    }

    fn defect(&self, code: &str, message: String, param: Option<&str>) -> BatchError {
        let param = param.map(str::to_owned);
        BatchError { code: code.to_owned(), message, param, line: Some(self.number) }
    }
}

/// Checks a batch's file before any call begins; returns the number of calls.
///
/// # Errors
/// Its first defects. A file that cannot be read is one.
pub(super) fn check(path: &Path, endpoint: &str) -> Result<u32, Vec<BatchError>> {
    let mut errors = Vec::new();
    match count(path, endpoint, &mut errors) {
        Ok(0) if errors.is_empty() => Err(vec![of_file("file_empty", "the file has no calls")]),
        Ok(calls) if errors.is_empty() => Ok(calls),
        Ok(_) => Err(errors),
        Err(error) => Err(vec![of_file("file_unreadable", &error.to_string())]),
    }
}

fn of_file(code: &str, message: &str) -> BatchError {
    let param = Some("input_file_id".to_owned());
    BatchError { code: code.to_owned(), message: message.to_owned(), param, line: None }
}

fn count(path: &Path, endpoint: &str, errors: &mut Vec<BatchError>) -> io::Result<u32> {
    let (mut lines, mut names, mut calls) = (Lines::open(path)?, BTreeSet::new(), 0);
    while let Some((_, line)) = lines.next()? {
        if errors.len() >= MOST_ERRORS {
            break;
        }
        match line {
            Err(error) => errors.push(error),
            Ok(line) if line.url != endpoint => {
                let what = format!("`url` must be `{endpoint}`, as the batch says");
                errors.push(lines.defect("url_invalid", what, Some("url")));
            }
            Ok(line) => {
                calls += 1;
                if !names.insert(line.custom_id) {
                    let what = "an earlier line has the same `custom_id`".to_owned();
                    errors.push(lines.defect("custom_id_twice", what, Some("custom_id")));
                }
            }
        }
        if calls > MOST_CALLS {
            errors.push(of_file(
                "too_many_calls",
                &format!("a batch has at most {MOST_CALLS} calls"),
            ));
            break;
        }
    }
    Ok(calls)
}

/// A file of answers that grows line by line.
pub(super) struct Answers {
    file: File,
    pub(super) count: u32,
}

impl Answers {
    /// Opens a file, and adds the names of the calls it has to `names`. An incomplete last line is cut off: the process ended
    /// while it wrote it.
    pub(super) fn open(path: &Path, names: &mut BTreeSet<String>) -> io::Result<Self> {
        let mut options = OpenOptions::new();
        let options = options.create(true).truncate(false).read(true).write(true).mode(0o600);
        let mut file = options.open(path)?;
        let mut reader = BufReader::new(&mut file);
        let (mut end, mut count) = (0, 0);
        loop {
            let mut line = Vec::new();
            let read = reader.read_until(b'\n', &mut line)?;
            let answer = serde_json::from_slice::<BatchAnswer>(&line);
            match answer {
                Ok(answer) if line.ends_with(b"\n") => {
                    names.insert(answer.custom_id);
                    end += read as u64;
                    count += 1;
                }
                _ => break,
            }
        }
        file.set_len(end)?;
        file.seek(SeekFrom::Start(end))?;
        Ok(Self { file, count })
    }

    pub(super) fn add(&mut self, answer: &BatchAnswer) -> io::Result<()> {
        let mut line = serde_json::to_vec(answer)?;
        line.push(b'\n');
        self.file.write_all(&line)?;
        self.count += 1;
        Ok(())
    }

    pub(super) fn bytes(&self) -> io::Result<u64> {
        self.file.sync_all()?;
        Ok(self.file.metadata()?.len())
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    const PATH: &str = "/v1/chat/completions";

    fn line(name: &str) -> String {
        json!({"custom_id": name, "method": "POST", "url": PATH, "body": {"model": "desk"}})
            .to_string()
    }

    fn checked(text: &str) -> Result<u32, Vec<(String, Option<u32>)>> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        let codes = |errors: Vec<BatchError>| {
            errors.into_iter().map(|error| (error.code, error.line)).collect()
        };
        check(file.path(), PATH).map_err(codes)
    }

    #[test]
    fn all_lines_are_checked_before_any_call() {
        let good = format!("{}\n\n{}", line("a"), line("b"));
        assert_eq!(
            checked(&good),
            Ok(2),
            "the last line needs no end, and empty lines are left out"
        );
        for (name, text, code, at) in [
            ("an empty file", String::new(), "file_empty", None),
            (
                "a broken line in the middle",
                format!("{}\n{{\"custom\n{}\n", line("a"), line("b")),
                "line_not_a_call",
                Some(2),
            ),
            (
                "the same name twice",
                format!("{}\n{}\n", line("a"), line("a")),
                "custom_id_twice",
                Some(2),
            ),
            ("no name", line(""), "custom_id_invalid", Some(1)),
            ("a long name", line(&"a".repeat(300)), "custom_id_invalid", Some(1)),
            (
                "another path",
                line("a").replace("chat/completions", "embeddings"),
                "url_invalid",
                Some(1),
            ),
            ("another method", line("a").replace("POST", "GET"), "method_invalid", Some(1)),
            ("a line without end", "x".repeat(MAX_LINE + 5), "line_too_long", Some(1)),
        ] {
            assert_eq!(checked(&text), Err(vec![(code.to_owned(), at)]), "{name}");
        }
        let long = format!("{}\n{}\n", "x".repeat(MAX_LINE + 5), line("a"));
        assert_eq!(checked(&long).unwrap_err().len(), 1, "the line after a long one is read");
        assert_eq!(checked(&"x\n".repeat(100)).unwrap_err().len(), MOST_ERRORS);
    }

    #[test]
    fn answers_continue_after_the_last_whole_line() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("answers");
        let answer = |name: &str| BatchAnswer {
            id: "1".to_owned(),
            custom_id: name.to_owned(),
            response: None,
            error: None,
        };
        let mut answers = Answers::open(&path, &mut BTreeSet::new()).unwrap();
        answers.add(&answer("a")).unwrap();
        answers.add(&answer("b")).unwrap();
        let whole = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, format!("{whole}{{\"id\": \"1\", \"custom")).unwrap();
        let mut names = BTreeSet::new();
        let mut answers = Answers::open(&path, &mut names).unwrap();
        assert_eq!((answers.count, names.len()), (2, 2));
        answers.add(&answer("c")).unwrap();
        let lines = std::fs::read_to_string(&path).unwrap();
        assert_eq!(lines.lines().count(), 3);
        assert_eq!(answers.bytes().unwrap(), lines.len() as u64);
    }
}
