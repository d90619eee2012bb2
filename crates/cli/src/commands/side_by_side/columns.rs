//! Answers side by side with their figures below, for the terminal and as Markdown.

use chrono::{DateTime, Utc};
use deft_protocol::chat::{Figures, Usage};
use serde::Serialize;
use textwrap::core::display_width;

use crate::print;

/// Narrowest readable column; in narrower terminals the answers are printed one below the other.
const NARROWEST: usize = 24;
const BETWEEN: &str = " │ ";

/// A question with the answers of several models.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Comparison {
    question: String,
    asked_at: DateTime<Utc>,
    pub(super) answers: Vec<Column>,
}

/// One answer.
#[derive(Debug, Clone, Serialize)]
pub(super) struct Column {
    model: String,
    pub(super) answer: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) memory_bytes: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) figures: Option<Figures>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) usage: Option<Usage>,
    /// Why the answer is missing or incomplete.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) problem: Option<String>,
}

impl Column {
    fn new(model: &str) -> Self {
        Self {
            model: model.to_owned(),
            answer: String::new(),
            memory_bytes: None,
            figures: None,
            usage: None,
            problem: None,
        }
    }

    /// The figures with their names; empty where not known yet.
    fn figures(&self) -> Vec<(&'static str, String)> {
        let figure = |value: &dyn Fn(&Figures) -> String| self.figures.as_ref().map(value);
        let tokens = |count: u32, rate: f64| {
            format!("{} tokens, {rate:.0} tokens/s", print::count(count.into()))
        };
        let usage = self.usage.unwrap_or_default();
        [
            ("memory", self.memory_bytes.map(print::bytes)),
            (
                "load",
                figure(&|figures| match figures.load_seconds {
                    0.0 => "already loaded".to_owned(),
                    seconds => print::seconds(seconds),
                }),
            ),
            ("first token", figure(&|figures| print::seconds(figures.first_token_seconds))),
            ("prompt", figure(&|figures| tokens(usage.prompt_tokens, figures.prompt_rate))),
            ("answer", figure(&|figures| tokens(usage.completion_tokens, figures.answer_rate))),
            ("total", figure(&|figures| print::seconds(figures.total_seconds))),
        ]
        .map(|(name, figure)| (name, figure.unwrap_or_default()))
        .to_vec()
    }

    fn text(&self) -> String {
        match &self.problem {
            Some(problem) => format!("{}\n({problem})", self.answer).trim_start().to_owned(),
            None => self.answer.clone(),
        }
    }
}

impl Comparison {
    /// A question to these models, without answers yet.
    pub(super) fn new(question: &str, models: &[String]) -> Self {
        let title = |(at, model): (usize, &String)| {
            let before = models[..at].iter().filter(|other| *other == model).count();
            let alone = models.iter().filter(|other| *other == model).count() == 1;
            Column::new(&if alone { model.clone() } else { format!("{model} ({})", before + 1) })
        };
        Self {
            question: question.to_owned(),
            asked_at: Utc::now(),
            answers: models.iter().enumerate().map(title).collect(),
        }
    }

    /// As Markdown: the question, a table of the figures, the answers.
    pub(super) fn markdown(&self) -> String {
        let quoted: String = self.question.lines().map(|line| format!("> {line}\n")).collect();
        let row = |name: &str, cells: Vec<String>| {
            let cells = cells.iter().map(|cell| cell.replace('|', "\\|")).collect::<Vec<_>>();
            format!("| {name} | {} |\n", cells.join(" | "))
        };
        let mut table = row("", self.answers.iter().map(|column| column.model.clone()).collect());
        table += &row("---", self.answers.iter().map(|_| "---".to_owned()).collect());
        let all: Vec<Vec<(&str, String)>> = self.answers.iter().map(Column::figures).collect();
        let names = all.first().into_iter().flatten().map(|(name, _)| *name);
        for (at, name) in names.enumerate() {
            table += &row(name, all.iter().map(|figures| figures[at].1.clone()).collect());
        }
        let answers: String = self
            .answers
            .iter()
            .map(|column| format!("\n## {}\n\n{}\n", column.model, column.text().trim()))
            .collect();
        let when = print::time_with_zone(self.asked_at);
        format!("# Side by side\n\n{quoted}\nAsked {when}.\n\n{table}{answers}")
    }
}

/// The answers in columns of this total width, with only the last lines of each if `last` is set.
pub(super) fn side_by_side(columns: &[Column], width: usize, last: Option<usize>) -> String {
    let gaps = BETWEEN.chars().count() * columns.len().saturating_sub(1);
    let each = width.saturating_sub(gaps) / columns.len().max(1);
    if each < NARROWEST {
        let blocks = columns.iter().map(|column| block(column, width, last).join("\n"));
        return blocks.collect::<Vec<_>>().join("\n\n");
    }
    let answers = columns.iter().map(|column| answer_lines(column, each, last)).collect();
    let figures = columns.iter().map(|column| figure_lines(column, each)).collect();
    [beside(answers, each), beside(figures, each)].concat().join("\n")
}

/// The lines of blocks side by side, each of this width and as high as the highest.
fn beside(blocks: Vec<Vec<String>>, width: usize) -> Vec<String> {
    let height = blocks.iter().map(Vec::len).max().unwrap_or(0);
    let cell = |lines: &Vec<String>, at: usize| {
        let line = lines.get(at).map_or("", String::as_str);
        format!("{line}{}", " ".repeat(width.saturating_sub(display_width(line))))
    };
    let row = |at| blocks.iter().map(|block| cell(block, at)).collect::<Vec<_>>().join(BETWEEN);
    (0..height).map(|at| row(at).trim_end().to_owned()).collect()
}

fn block(column: &Column, width: usize, last: Option<usize>) -> Vec<String> {
    [answer_lines(column, width, last), figure_lines(column, width)].concat()
}

fn answer_lines(column: &Column, width: usize, last: Option<usize>) -> Vec<String> {
    let text = column.text();
    let wrapped: Vec<String> =
        textwrap::wrap(text.trim_end(), width).into_iter().map(String::from).collect();
    let skipped = wrapped.len().saturating_sub(last.unwrap_or(usize::MAX));
    let mut lines = vec![cut(&column.model, width), "─".repeat(width)];
    lines.extend(wrapped.into_iter().skip(skipped));
    lines
}

fn figure_lines(column: &Column, width: usize) -> Vec<String> {
    let figures = column.figures().into_iter();
    let lines = figures.map(|(name, figure)| cut(&format!("{name:<12} {figure}"), width));
    std::iter::once("─".repeat(width)).chain(lines).collect()
}

fn cut(line: &str, width: usize) -> String {
    line.chars().take(width).collect()
}

#[cfg(test)]
mod tests {
    use deft_protocol::chat::EndedBy;

    use super::*;

    fn comparison() -> Comparison {
        let models = ["larkfen-desk", "larkfen-desk-mini"].map(str::to_owned);
        let mut all = Comparison::new("How deep do I sow Moonhook bean?", &models);
        all.asked_at = "2026-05-01T09:30:00Z".parse().unwrap();
        let figures = Figures {
            ended_by: EndedBy::EndToken,
            detail: None,
            cached_tokens: 0,
            left_out_messages: 0,
            reasoning_tokens: 0,
            reasoning_seconds: 0.0,
            first_token_seconds: 0.05,
            load_seconds: 0.0,
            queue_seconds: 0.0,
            prepare_seconds: 0.0,
            prompt_seconds: 0.04,
            prompt_rate: 700.0,
            answer_seconds: 0.1,
            answer_rate: 90.0,
            traced: false,
            total_seconds: 0.15,
            context: 1024,
        };
        let usage = Usage { prompt_tokens: 28, completion_tokens: 9, ..Usage::default() };
        let first = &mut all.answers[0];
        first.answer = "Sow Moonhook bean 3 cm deep. Water it well, and wait for two weeks.".into();
        first.memory_bytes = Some(9 << 20);
        (first.figures, first.usage) = (Some(figures), Some(usage));
        all.answers[1].problem = Some("no room | for it".to_owned());
        all
    }

    #[test]
    fn columns_stand_side_by_side_with_their_figures() {
        let columns = side_by_side(&comparison().answers, 80, None);
        assert!(columns.lines().all(|line| display_width(line) <= 80), "{columns}");
        insta::assert_snapshot!(columns);
    }

    #[test]
    fn narrow_terminals_get_them_below_each_other_and_growing_ones_their_ends() {
        let columns = side_by_side(&comparison().answers, 40, Some(1));
        assert!(columns.contains("wait for two weeks."), "{columns}");
        assert!(!columns.contains("Sow Moonhook"), "{columns}");
        assert!(!columns.contains(BETWEEN));
    }

    #[test]
    fn what_is_kept_reads_well() {
        insta::assert_snapshot!(comparison().markdown());
    }

    #[test]
    fn the_same_model_asked_twice_has_two_titles() {
        let models = ["larkfen-desk", "larkfen-desk"].map(str::to_owned);
        let titles: Vec<String> =
            Comparison::new("?", &models).answers.into_iter().map(|column| column.model).collect();
        assert_eq!(titles, ["larkfen-desk (1)", "larkfen-desk (2)"]);
    }
}
