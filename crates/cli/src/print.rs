//! The only place that writes to the terminal: results to stdout, notes to stderr.
#![expect(clippy::print_stderr, reason = "this is the printer")]

use std::io::{self, IsTerminal, Write};

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, Table};
use deft_planning::Bytes;
use serde::Serialize;

use crate::failure::Failure;

/// Writes a result. A reader who closed the pipe has seen enough: that ends the program quietly.
pub(crate) fn out(text: &str) {
    let mut stdout = io::stdout().lock();
    let written = stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush());
    if written.is_err_and(|error| error.kind() == io::ErrorKind::BrokenPipe) {
        std::process::exit(0);
    }
}

/// Writes a line of result.
pub(crate) fn line(text: impl AsRef<str>) {
    out(&format!("{}\n", text.as_ref()));
}

/// Writes a result as JSON.
pub(crate) fn json(value: &impl Serialize) {
    line(serde_json::to_string_pretty(value).unwrap_or_default());
}

/// Writes a note or progress.
pub(crate) fn note(text: impl AsRef<str>) {
    eprintln!("{}", text.as_ref());
}

/// Writes why a command failed.
pub(crate) fn failure(failure: &Failure) {
    eprintln!("{failure}");
}

/// Asks a question that is answered by yes or no; no where nobody can be asked.
pub(crate) fn ask_yes(question: &str) -> bool {
    if !io::stdin().is_terminal() {
        return false;
    }
    eprint!("{question} [y/N] ");
    let mut answer = String::new();
    io::stdin().read_line(&mut answer).is_ok() && answer.trim().eq_ignore_ascii_case("y")
}

/// A table without lines: headers, then rows. Columns in `right` are aligned to the right.
pub(crate) fn table(headers: &[&str], rows: Vec<Vec<String>>, right: &[usize]) -> String {
    let mut table = Table::new();
    table.load_style(NOTHING);
    if !headers.is_empty() {
        table.set_header(headers.to_vec());
    }
    table.add_rows(rows);
    for (at, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, 3));
        if right.contains(&at) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    lines.join("\n")
}

/// Bytes in words.
pub(crate) fn bytes(count: u64) -> String {
    Bytes(count).to_string()
}

/// A count with thin groups: `1,808,448`.
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// Seconds with a sensible unit.
pub(crate) fn seconds(seconds: f64) -> String {
    match seconds {
        s if s < 0.0995 => format!("{:.1} ms", s * 1000.0),
        s if s < 9.995 => format!("{s:.2} s"),
        s => format!("{s:.1} s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_are_written_for_people() {
        assert_eq!(count(1_808_448), "1,808,448");
        assert_eq!(count(12), "12");
        assert_eq!([0.0021, 0.25, 12.34].map(seconds), ["2.1 ms", "0.25 s", "12.3 s"]);
    }
}
