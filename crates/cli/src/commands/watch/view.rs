//! State of the live view and the effect of keys, without a terminal or a service.

use std::collections::VecDeque;
use std::time::{Duration, Instant};

use deft_protocol::manage::{InstanceReport, RunningCall, ServiceStatus};

/// Points of the small charts, a second each.
const POINTS: usize = 120;
/// A point of the small charts.
const POINT: Duration = Duration::from_secs(1);

/// A key, by its meaning.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Key {
    Leave,
    Up,
    Down,
    Unload,
    Pin,
    Cancel,
    Yes,
    No,
}

/// The action of a key.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Act {
    Leave,
    Unload(Box<InstanceReport>),
    Pin(Box<InstanceReport>),
    Cancel(Box<RunningCall>),
}

/// A line that can be selected.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Line<'a> {
    Instance(&'a InstanceReport),
    Call(&'a RunningCall),
}

/// Tokens per second, the newest last.
#[derive(Debug, Default)]
pub(super) struct Rates {
    pub(super) prompt: VecDeque<u64>,
    pub(super) answer: VecDeque<u64>,
    counted: Option<(Instant, u64, u64)>,
}

impl Rates {
    fn take(&mut self, status: &ServiceStatus, now: Instant) {
        let works = || status.instances.iter().filter_map(|instance| instance.work.as_ref());
        let prompt: u64 = works().map(|work| work.prompt_tokens).sum();
        let answer: u64 = works().map(|work| work.answer_tokens).sum();
        let Some((then, prompt_then, answer_then)) = self.counted else {
            self.counted = Some((now, prompt, answer));
            return;
        };
        if now.duration_since(then) < POINT {
            return;
        }
        self.counted = Some((now, prompt, answer));
        let seconds = now.duration_since(then).as_secs_f64();
        for (points, tokens) in [
            (&mut self.prompt, prompt.saturating_sub(prompt_then)),
            (&mut self.answer, answer.saturating_sub(answer_then)),
        ] {
            #[expect(
                clippy::cast_precision_loss,
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "a point of a chart"
            )]
            points.push_back((tokens as f64 / seconds).round() as u64);
            if points.len() > POINTS {
                points.pop_front();
            }
        }
    }
}

/// State of the view.
#[derive(Debug, Default)]
pub(super) struct View {
    pub(super) status: Option<ServiceStatus>,
    pub(super) rates: Rates,
    /// The selected line: instances first, then calls.
    chosen: usize,
    /// What waits for a confirmation.
    pub(super) asked: Option<Act>,
    pub(super) said: Option<String>,
}

impl View {
    /// A new status.
    pub(super) fn take(&mut self, status: ServiceStatus, now: Instant) {
        self.rates.take(&status, now);
        self.status = Some(status);
        self.chosen = self.chosen.min(self.lines().len().saturating_sub(1));
    }

    /// All lines that can be selected.
    pub(super) fn lines(&self) -> Vec<Line<'_>> {
        let Some(status) = &self.status else { return Vec::new() };
        let instances = status.instances.iter().map(Line::Instance);
        instances.chain(status.calls.iter().map(Line::Call)).collect()
    }

    /// The selected instance or call, by its number.
    pub(super) fn chosen(&self) -> (Option<usize>, Option<usize>) {
        let instances = self.status.as_ref().map_or(0, |status| status.instances.len());
        match self.chosen.checked_sub(instances) {
            Some(call) => (None, Some(call)),
            None => (Some(self.chosen), None),
        }
    }

    /// Shows a message.
    pub(super) fn say(&mut self, what: String) {
        self.said = Some(what);
    }

    /// Handles a key; returns the action.
    pub(super) fn press(&mut self, key: Key) -> Option<Act> {
        if let Some(asked) = self.asked.take() {
            return match key {
                Key::Yes => Some(asked),
                Key::Leave => Some(Act::Leave),
                _ => None,
            };
        }
        self.said = None;
        let last = self.lines().len().saturating_sub(1);
        match key {
            Key::Leave => return Some(Act::Leave),
            Key::Up => self.chosen = self.chosen.saturating_sub(1),
            Key::Down => self.chosen = (self.chosen + 1).min(last),
            Key::Yes | Key::No => {}
            Key::Unload | Key::Pin | Key::Cancel => {
                let act = match (key, self.lines().get(self.chosen)) {
                    (Key::Unload, Some(Line::Instance(found))) => {
                        Ok(Act::Unload(Box::new((*found).clone())))
                    }
                    (Key::Pin, Some(Line::Instance(found))) => {
                        Ok(Act::Pin(Box::new((*found).clone())))
                    }
                    (Key::Cancel, Some(Line::Call(found))) => {
                        Ok(Act::Cancel(Box::new((*found).clone())))
                    }
                    (Key::Cancel, _) => Err("select a call first, with the arrow keys"),
                    _ => Err("select an instance first, with the arrow keys"),
                };
                match act {
                    Ok(act @ Act::Pin(_)) => return Some(act),
                    // What cannot be undone needs a confirmation.
                    Ok(act) => self.asked = Some(act),
                    Err(what) => self.said = Some(what.to_owned()),
                }
            }
        }
        None
    }

    /// The last line: a question, a message, or the keys.
    pub(super) fn footer(&self) -> String {
        match (&self.asked, &self.said) {
            (Some(Act::Unload(instance)), _) => {
                format!("unload `{}` after its running calls? (y/n)", instance.title())
            }
            (Some(Act::Cancel(call)), _) => {
                format!("cancel the call of `{}` by {}? (y/n)", call.name, call.caller)
            }
            (_, Some(said)) => said.lines().next().unwrap_or_default().to_owned(),
            _ => "arrows select   u unload   p pin   c cancel call   q quit".to_owned(),
        }
    }
}
