//! Calls that have no seat yet.

use deft_protocol::Problem;
use deft_protocol::manage::CallRecord;

use crate::answering::board::{Arrived, CALL_ENDED};
use crate::records::calls::Recorder;
use crate::records::variants::Registered;

/// A call without a seat. It leaves a record too, also where its caller left while it waited.
pub(super) struct Unseated<'a> {
    recorder: &'a Recorder,
    call: &'a Arrived,
    name: String,
    /// How it ended; none where it has a seat now.
    ended: Option<(&'static str, Option<String>)>,
}

impl<'a> Unseated<'a> {
    pub(super) fn new(recorder: &'a Recorder, call: &'a Arrived, registered: &Registered) -> Self {
        let ended = Some(("cancelled", None));
        Self { recorder, call, name: registered.name.to_string(), ended }
    }

    /// It has a seat, or there is a reason why not.
    pub(super) fn become_known(&mut self, problem: Option<&Problem>) {
        self.ended = problem.map(|problem| {
            let outcome = if problem.code == CALL_ENDED { "cancelled" } else { "failed" };
            (outcome, Some(problem.code.clone()))
        });
    }
}

impl Drop for Unseated<'_> {
    fn drop(&mut self) {
        let Some((outcome, detail)) = self.ended.take() else { return };
        let waited = self.call.elapsed();
        self.recorder.record(CallRecord {
            id: self.call.id(),
            name: std::mem::take(&mut self.name),
            caller: self.call.caller(),
            arrived_at: self.call.at(),
            outcome: outcome.to_owned(),
            detail,
            prompt_tokens: 0,
            cached_tokens: 0,
            answer_tokens: 0,
            queue_seconds: waited,
            first_token_seconds: None,
            prompt_rate: None,
            answer_rate: None,
            total_seconds: waited,
        });
    }
}
