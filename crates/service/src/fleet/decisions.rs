//! Decisions about instances and pools, with their reasons: logged, and the latest of them shown in the status.

use std::collections::VecDeque;

use chrono::Utc;
use deft_protocol::manage::Decision;

/// Number of decisions that are remembered.
const REMEMBERED: usize = 50;

/// Kinds of decisions, as in [`Decision::what`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum What {
    Load,
    Refuse,
    Wait,
    Drain,
    Evict,
    Unload,
    Reload,
    Replace,
    Restart,
    Fail,
    Limit,
}

impl What {
    const fn word(self) -> &'static str {
        match self {
            Self::Load => "load",
            Self::Refuse => "refuse",
            Self::Wait => "wait",
            Self::Drain => "drain",
            Self::Evict => "evict",
            Self::Unload => "unload",
            Self::Reload => "reload",
            Self::Replace => "replace",
            Self::Restart => "restart",
            Self::Fail => "fail",
            Self::Limit => "limit",
        }
    }

    const fn is_bad(self) -> bool {
        matches!(self, Self::Refuse | Self::Restart | Self::Fail)
    }
}

/// The latest decisions, the newest first.
#[derive(Debug, Default)]
pub(super) struct Decisions(VecDeque<Decision>);

impl Decisions {
    pub(super) fn note(&mut self, what: What, about: &str, why: impl Into<String>) {
        let (word, why) = (what.word(), why.into());
        if what.is_bad() {
            tracing::warn!("{word} `{about}`: {why}");
        } else {
            tracing::info!("{word} `{about}`: {why}");
        }
        self.0.truncate(REMEMBERED - 1);
        let about = about.to_owned();
        self.0.push_front(Decision { at: Utc::now(), about, what: word.to_owned(), why });
    }

    pub(super) fn latest(&self) -> Vec<Decision> {
        self.0.iter().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_are_remembered_the_newest_first() {
        let mut decisions = Decisions::default();
        for number in 0..60 {
            decisions.note(What::Load, &format!("desk{number}"), "it fits");
        }
        let latest = decisions.latest();
        assert_eq!((latest.len(), latest[0].about.as_str()), (REMEMBERED, "desk59"));
    }
}
