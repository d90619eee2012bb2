//! What was decided about what is loaded, and why: told in the log, and the latest of it to whoever
//! looks.

use std::collections::VecDeque;

use chrono::Utc;
use deft_protocol::manage::Decision;

/// So many are remembered.
const REMEMBERED: usize = 50;

/// What is decided, as [`Decision::what`] has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum What {
    Load,
    Refuse,
    Wait,
    GiveWay,
    Displace,
    Unload,
    BringBack,
    Replace,
    LoadAgain,
    SetAside,
    Limit,
}

impl What {
    const fn word(self) -> &'static str {
        match self {
            Self::Load => "load",
            Self::Refuse => "refuse",
            Self::Wait => "wait",
            Self::GiveWay => "give way",
            Self::Displace => "displace",
            Self::Unload => "unload",
            Self::BringBack => "bring back",
            Self::Replace => "replace",
            Self::LoadAgain => "load again",
            Self::SetAside => "set aside",
            Self::Limit => "limit",
        }
    }

    const fn is_bad(self) -> bool {
        matches!(self, Self::Refuse | Self::LoadAgain | Self::SetAside)
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
