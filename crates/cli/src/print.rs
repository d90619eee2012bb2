//! The only place that writes to the terminal: results to stdout, notes to stderr.
#![expect(clippy::print_stderr, reason = "this is the printer")]

use std::io::{self, IsTerminal, Write};

use chrono::{DateTime, Local, Utc};
use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Table};
use deft_planning::Bytes;
use serde::Serialize;

use crate::failure::Failure;

/// Exit code where a result cannot be written.
const CANNOT_WRITE: i32 = 1;

/// Writes a result. A closed pipe ends the program quietly, for its reader has seen enough; any other error ends it with
/// a message.
pub(crate) fn out(text: &str) {
    let mut stdout = io::stdout().lock();
    match stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush()) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => std::process::exit(0),
        Err(error) => {
            eprintln!("deft: cannot write to standard output: {error}");
            std::process::exit(CANNOT_WRITE);
        }
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

/// Writes a result as one line of JSON, for commands that follow something.
pub(crate) fn json_line(value: &impl Serialize) {
    line(serde_json::to_string(value).unwrap_or_default());
}

/// Writes a note or progress.
pub(crate) fn note(text: impl AsRef<str>) {
    eprintln!("{}", text.as_ref());
}

/// Writes why a command failed, as text or as one line of JSON.
pub(crate) fn failure_as(failure: &Failure, json: bool) {
    if json {
        eprintln!("{}", serde_json::to_string(&failure.report()).unwrap_or_default());
    } else {
        eprintln!("{failure}");
    }
}

/// Asks a question that is answered by yes or no; no where standard input is no terminal.
pub(crate) fn ask_yes(question: &str) -> bool {
    if !io::stdin().is_terminal() {
        return false;
    }
    eprint!("{question} [y/N] ");
    let mut answer = String::new();
    io::stdin().read_line(&mut answer).is_ok() && answer.trim().eq_ignore_ascii_case("y")
}

/// Whether results have colours: on a terminal, unless `NO_COLOR` is set.
fn has_colours() -> bool {
    let refused = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty())
        || std::env::var_os("TERM").is_some_and(|value| value == "dumb");
    io::stdout().is_terminal() && !refused
}

/// The colour of a state, which is always written as a word too.
fn colour_of(word: &str) -> Option<Color> {
    match word.split(' ').next()? {
        "ready" | "done" | "passed" | "loaded" => Some(Color::Green),
        "failed" | "FAILED" => Some(Color::Red),
        "loading" | "draining" | "restarting" | "evicted" | "waiting" | "running" | "cancelled" => {
            Some(Color::Yellow)
        }
        _ => None,
    }
}

/// A table without lines: headers, then rows. Columns in `right` are aligned to the right. It is as wide as the terminal at
/// most, and complete where it is piped.
pub(crate) fn table(headers: &[&str], rows: Vec<Vec<String>>, right: &[usize]) -> String {
    let is_terminal = io::stdout().is_terminal();
    let size = is_terminal.then(|| ratatui::crossterm::terminal::size().ok()).flatten();
    arranged(headers, rows, right, size.map(|(width, _)| width), has_colours())
}

/// A table of at most `width` columns.
fn arranged(
    headers: &[&str],
    rows: Vec<Vec<String>>,
    right: &[usize],
    width: Option<u16>,
    coloured: bool,
) -> String {
    let mut table = Table::new();
    table.load_style(NOTHING);
    if let Some(width) = width {
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    }
    if coloured {
        table.enforce_styling();
    } else {
        table.force_no_tty();
    }
    if !headers.is_empty() {
        table.set_header(headers.to_vec());
    }
    let cell = |text: String| match colour_of(&text).filter(|_| coloured) {
        Some(colour) => Cell::new(text).fg(colour),
        None => Cell::new(text),
    };
    let names = rows.iter().filter_map(|row| row.first()).map(|name| name.chars().count());
    let longest_name = names.max().unwrap_or(0);
    for row in rows {
        table.add_row(row.into_iter().map(cell).collect::<Vec<_>>());
    }
    for (at, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, 3));
        // The first column has names, which readers copy: others are wrapped first.
        if at == 0 && width.is_some_and(|width| longest_name <= usize::from(width) / 2) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
        if right.contains(&at) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    lines.join("\n")
}

/// A time for people: local.
pub(crate) fn time(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%F %T").to_string()
}

/// A time for people, with its zone: where a reader may be elsewhere.
pub(crate) fn time_with_zone(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%F %T %:z").to_string()
}

/// Bytes with a binary unit.
pub(crate) fn bytes(count: u64) -> String {
    Bytes(count).to_string()
}

/// A count with its digits in groups: `1,808,448`.
pub(crate) fn count(number: u64) -> String {
    indicatif::HumanCount(number).to_string()
}

/// Seconds with a unit that suits them.
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

    #[test]
    fn a_piped_table_is_complete_and_has_no_colours() {
        let long = "x".repeat(400);
        let rows = vec![vec!["larkfen-desk/q8_0".to_owned(), "failed".to_owned(), long.clone()]];
        let text = table(&["model", "state", "why"], rows, &[]);
        assert!(text.contains(&long) && !text.contains('\u{1b}'), "{text}");
    }

    #[test]
    fn names_in_the_first_column_stay_whole_where_the_rest_is_wrapped() {
        let name = "larkfen:larkfen-labels/q8_0";
        let texts = ["completion of texts", "CC0-1.0", "a long description of it"];
        let row = [name, texts[0], texts[1], texts[2]].map(str::to_owned).to_vec();
        let text =
            arranged(&["offer", "serves", "licence", "about"], vec![row], &[], Some(60), false);
        assert!(text.contains(name), "{text}");
        assert!(text.lines().all(|line| line.chars().count() <= 60), "{text}");
    }

    #[test]
    fn a_table_fits_the_terminal_with_and_without_colours() {
        let row = || vec!["larkfen-desk/q8_0".to_owned(), "ready".to_owned(), "word ".repeat(40)];
        for coloured in [false, true] {
            let text = arranged(&["model", "state", "why"], vec![row()], &[], Some(60), coloured);
            assert_eq!(text.contains('\u{1b}'), coloured, "{text}");
            let shown = text.replace("\u{1b}[38;5;10m", "").replace("\u{1b}[39m", "");
            assert!(shown.lines().all(|line| line.chars().count() <= 60), "{shown:?}");
            assert_eq!(shown.matches("word").count(), 40, "nothing is cut off");
        }
    }
}
