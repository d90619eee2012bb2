//! Draws the live view.

use deft_protocol::manage::{
    CallStage, InstanceReport, InstanceState, Pool, RunningCall, ServiceStatus,
};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Style, Stylize};
use ratatui::text::{Line, Span};
use ratatui::widgets::{
    Block, Cell, HighlightSpacing, Paragraph, Row, Sparkline, Table, TableState,
};

use super::view::View;
use crate::print;

/// Cells of a bar inside a line.
const BAR: usize = 24;
const ACCENT: Color = Color::Cyan;

pub(super) fn draw(frame: &mut Frame<'_>, view: &View) {
    let Some(status) = &view.status else {
        frame.render_widget("waiting for the service", frame.area());
        return;
    };
    let height = |count: usize, least: u16| u16::try_from(count).unwrap_or(u16::MAX).max(least);
    let areas = Layout::vertical([
        Constraint::Length(2),
        Constraint::Length(height(status.pools.len() + 1, 2)),
        Constraint::Length(6),
        Constraint::Length(height(status.instances.len() + 3, 4)),
        Constraint::Min(4),
        Constraint::Length(1),
    ])
    .split(frame.area());
    frame.render_widget(Paragraph::new(head(status)), areas[0]);
    frame.render_widget(Paragraph::new(pools(status)), areas[1]);
    rates(frame, areas[2], view);
    let (instance, call) = view.chosen();
    instances(frame, areas[3], status, instance);
    calls(frame, areas[4], status, call);
    let footer = Line::from(view.footer());
    let footer = if view.asked.is_some() { footer.bold().yellow() } else { footer.dim() };
    frame.render_widget(footer, areas[5]);
}

fn head(status: &ServiceStatus) -> Vec<Line<'static>> {
    let machine = &status.machine;
    let database = if status.database.up { "" } else { "   the database does not answer" };
    let mut figures = format!(
        "{} processors {:.0} % busy, load {:.1}   memory {} of {} available",
        machine.processors,
        machine.busy * 100.0,
        machine.load,
        print::bytes(machine.memory_available),
        print::bytes(machine.memory),
    );
    if let Some(degrees) = machine.temperature {
        figures += &format!("   {degrees:.0} °C");
    }
    let tracing = match status.tracing.as_slice() {
        [] => String::new(),
        on => {
            let models: Vec<&str> = on.iter().map(|tracing| &tracing.model[..]).collect();
            format!("   traced: {}", models.join(", "))
        }
    };
    let title = format!("   {} on {}, version {}", status.address, status.node, status.version);
    vec![
        Line::from(vec![
            "Deft Harbor".bold(),
            Span::raw(title).dim(),
            Span::raw(database).red(),
            Span::raw(tracing).yellow(),
        ]),
        Line::from(figures),
    ]
}

/// A bar with a full part, a shaded part, and the rest.
fn bar(full: f64, shaded: f64, width: usize) -> Vec<Span<'static>> {
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "cells of a bar"
    )]
    let cells = |share: f64| ((share.clamp(0.0, 1.0) * width as f64).round() as usize).min(width);
    let full = cells(full);
    let shaded = cells(shaded).max(full);
    vec![
        Span::styled("█".repeat(full), Style::new().fg(ACCENT)),
        Span::styled("▒".repeat(shaded - full), Style::new().fg(ACCENT)),
        Span::styled("░".repeat(width - shaded), Style::new().dim()),
    ]
}

#[expect(clippy::cast_precision_loss, reason = "shares of a bar")]
fn pools(status: &ServiceStatus) -> Vec<Line<'static>> {
    let widest = status.pools.iter().map(|pool| pool.name.len()).max().unwrap_or(0);
    let line = |pool: &Pool| {
        let share = |bytes: u64| bytes as f64 / pool.limit.max(1) as f64;
        let mut spans = vec![Span::raw(format!("pool {:<widest$}  ", pool.name))];
        spans.extend(bar(share(pool.measured), share(pool.reserved), 40));
        spans.push(Span::raw(format!(
            "  {} measured, {} reserved, limit {}{}",
            print::bytes(pool.measured),
            print::bytes(pool.reserved),
            print::bytes(pool.limit),
            if pool.simulated { " (simulated)" } else { "" },
        )));
        Line::from(spans)
    };
    status.pools.iter().map(line).collect()
}

fn rates(frame: &mut Frame<'_>, area: Rect, view: &View) {
    let halves = Layout::horizontal([Constraint::Fill(1), Constraint::Fill(1)]).split(area);
    let rates = &view.rates;
    for (name, points, area) in [
        ("prompt tokens/s", &rates.prompt, halves[0]),
        ("answer tokens/s", &rates.answer, halves[1]),
    ] {
        let now = points.back().copied().unwrap_or(0);
        let most = points.iter().copied().max().unwrap_or(0);
        let title = format!(" {name}: {} now, {} highest ", print::count(now), print::count(most));
        let room = usize::from(area.width.saturating_sub(2));
        let shown = points.iter().copied().skip(points.len().saturating_sub(room));
        let chart = Sparkline::default()
            .block(Block::bordered().title(title))
            .data(shown.collect::<Vec<_>>())
            .style(Style::new().fg(ACCENT));
        frame.render_widget(chart, area);
    }
}

fn state(instance: &InstanceReport) -> Cell<'static> {
    let word = match instance.state {
        InstanceState::Loading => match instance.load_share {
            Some(share) => format!("loading {:.0} %", share * 100.0),
            None => "loading".to_owned(),
        },
        InstanceState::Ready => "ready".to_owned(),
        InstanceState::Draining => "draining".to_owned(),
        InstanceState::Restarting => "restarting".to_owned(),
        InstanceState::Failed => "failed".to_owned(),
        InstanceState::Evicted => "evicted".to_owned(),
    };
    let color = match instance.state {
        InstanceState::Ready => Color::Green,
        InstanceState::Failed => Color::Red,
        _ => Color::Yellow,
    };
    Cell::from(word).style(Style::new().fg(color))
}

fn instances(frame: &mut Frame<'_>, area: Rect, status: &ServiceStatus, chosen: Option<usize>) {
    let row = |instance: &InstanceReport| {
        let work = instance.work.clone().unwrap_or_default();
        let pages = f64::from(work.pages.max(1));
        let used = f64::from(work.pages_used) / pages;
        let cached = f64::from(work.pages_used + work.pages_cached) / pages;
        let mut cache = bar(used, cached, BAR);
        cache.push(Span::raw(format!(" {}", work.pages)));
        let paused = match work.lanes_paused {
            0 => String::new(),
            paused => format!(", {paused} paused"),
        };
        Row::new(vec![
            Cell::from(instance.title()),
            state(instance),
            Cell::from(if instance.settings.pinned { "pinned" } else { "" }),
            Cell::from(format!("{} of {}{paused}", work.lanes_busy, instance.settings.lanes)),
            Cell::from(instance.queued.to_string()),
            Cell::from(Line::from(cache)),
            Cell::from(instance.measured_bytes.map_or_else(String::new, print::bytes)),
            Cell::from(instance.settings.share.to_string()),
        ])
    };
    let widths = [
        Constraint::Fill(1),
        Constraint::Length(13),
        Constraint::Length(6),
        Constraint::Length(16),
        Constraint::Length(6),
        Constraint::Length(31),
        Constraint::Length(10),
        Constraint::Length(5),
    ];
    let headers =
        ["instance", "state", "", "lanes", "queue", "pages in use, cached", "memory", "share"];
    table(frame, area, " instances ", &headers, status.instances.iter().map(row), &widths, chosen);
}

fn calls(frame: &mut Frame<'_>, area: Rect, status: &ServiceStatus, chosen: Option<usize>) {
    let row = |call: &RunningCall| {
        let progress = match (call.stage, call.share) {
            (CallStage::Prompt | CallStage::Loading, Some(share)) => bar(share, 0.0, BAR / 2),
            _ => vec![Span::raw("")],
        };
        let count = |tokens: u32| print::count(tokens.into());
        Row::new(vec![
            Cell::from(call.name.clone()),
            Cell::from(call.caller.clone()),
            Cell::from(call.standing()),
            Cell::from(Line::from(progress)),
            Cell::from(call.prompt_tokens.map_or_else(String::new, count)),
            Cell::from(count(call.answer_tokens)),
            Cell::from(print::seconds(call.total_seconds)),
        ])
    };
    let widths = [
        Constraint::Fill(2),
        Constraint::Fill(2),
        Constraint::Min(48),
        Constraint::Length(13),
        Constraint::Length(7),
        Constraint::Length(7),
        Constraint::Length(8),
    ];
    let title = format!(" running calls: {} ", status.calls.len());
    let headers = ["model", "caller", "stage", "", "prompt", "answer", "elapsed"];
    table(frame, area, &title, &headers, status.calls.iter().map(row), &widths, chosen);
}

fn table<'a>(
    frame: &mut Frame<'_>,
    area: Rect,
    title: &str,
    headers: &[&'static str],
    rows: impl Iterator<Item = Row<'a>>,
    widths: &[Constraint],
    chosen: Option<usize>,
) {
    let table = Table::new(rows, widths)
        .header(Row::new(headers.to_vec()).dim())
        .block(Block::bordered().title(title.to_owned()))
        .row_highlight_style(Style::new().bold())
        .highlight_symbol("› ")
        .highlight_spacing(HighlightSpacing::Always);
    let mut state = TableState::new().with_selected(chosen);
    frame.render_stateful_widget(table, area, &mut state);
}
