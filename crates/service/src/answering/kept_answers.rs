//! Answers that their callers want to continue. They are in memory only, for a limited time.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use deft_protocol::responses::ResponseObject;
use serde_json::{Map, Value};

/// How long an answer is kept after it was last used.
const KEPT_FOR: Duration = Duration::from_secs(3600);
/// Time between two searches for old answers.
const SWEEP: Duration = Duration::from_secs(60);
/// Most bytes of all kept answers, written as JSON; the oldest are dropped first.
const MOST_BYTES: usize = 32 << 20;

/// An answer with its conversation.
pub(crate) struct Kept {
    pub(crate) response: ResponseObject,
    /// Items of the request.
    pub(crate) input: Vec<Map<String, Value>>,
    /// Items of the conversation, with the answer.
    pub(crate) items: Vec<Map<String, Value>>,
}

/// The kept answers, the one used longest ago first.
#[derive(Default)]
pub(crate) struct KeptAnswers(Mutex<VecDeque<Entry>>);

struct Entry {
    kept: Arc<Kept>,
    bytes: usize,
    used: Instant,
}

impl KeptAnswers {
    /// Keeps an answer. One that is larger than the limit is not kept.
    pub(crate) fn keep(&self, kept: Kept) {
        let length = |value: serde_json::Result<String>| value.map_or(0, |text| text.len());
        let bytes = length(serde_json::to_string(&kept.response))
            + length(serde_json::to_string(&kept.input))
            + length(serde_json::to_string(&kept.items));
        self.with(|all| {
            all.push_back(Entry { kept: Arc::new(kept), bytes, used: Instant::now() });
        });
    }

    /// An answer by its id.
    pub(crate) fn find(&self, id: &str) -> Option<Arc<Kept>> {
        self.with(|all| {
            let at = all.iter().position(|entry| entry.kept.response.id == id)?;
            let entry = all.remove(at)?;
            let kept = Arc::clone(&entry.kept);
            all.push_back(Entry { used: Instant::now(), ..entry });
            Some(kept)
        })
    }

    /// Removes an answer; returns whether it was there.
    pub(crate) fn remove(&self, id: &str) -> bool {
        self.with(|all| {
            let before = all.len();
            all.retain(|entry| entry.kept.response.id != id);
            all.len() < before
        })
    }

    /// No answers yet. Those whose time is over are dropped every minute.
    pub(crate) fn start() -> Arc<Self> {
        let all = Arc::new(Self::default());
        let kept = Arc::downgrade(&all);
        tokio::spawn(async move {
            while let Some(all) = kept.upgrade() {
                all.drop_old();
                drop(all);
                tokio::time::sleep(SWEEP).await;
            }
        });
        all
    }

    fn drop_old(&self) {
        self.with(|_| ());
    }

    fn with<T>(&self, change: impl FnOnce(&mut VecDeque<Entry>) -> T) -> T {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        all.retain(|entry| now.duration_since(entry.used) < KEPT_FOR);
        let changed = change(&mut all);
        let mut bytes: usize = all.iter().map(|entry| entry.bytes).sum();
        while bytes > MOST_BYTES {
            let Some(oldest) = all.pop_front() else { break };
            bytes -= oldest.bytes;
        }
        changed
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn kept(id: &str, bytes: usize) -> Kept {
        let response = json!({
            "id": id, "object": "response", "created_at": 1, "status": "completed", "error": null, "incomplete_details": null,
            "model": "larkfen-desk/q8_0", "output": [], "usage": null, "instructions": null, "previous_response_id": null,
            "store": true, "tools": [], "tool_choice": "auto", "parallel_tool_calls": true, "text": {},
            "truncation": "disabled", "temperature": null, "top_p": null, "max_output_tokens": null, "metadata": null,
        });
        let item = json!({"content": "x".repeat(bytes)}).as_object().cloned().unwrap();
        let response = serde_json::from_value(response).unwrap();
        Kept { response, input: Vec::new(), items: vec![item] }
    }

    #[test]
    fn answers_are_found_until_they_are_removed() {
        let all = KeptAnswers::default();
        all.keep(kept("a", 1));
        assert_eq!(all.find("a").unwrap().items[0]["content"], "x");
        assert!(all.find("b").is_none());
        assert!(all.remove("a") && !all.remove("a"));
        assert!(all.find("a").is_none());
    }

    #[test]
    fn the_answers_used_longest_ago_make_room() {
        let all = KeptAnswers::default();
        for id in ["a", "b", "c"] {
            all.keep(kept(id, MOST_BYTES / 4));
        }
        assert!(all.find("a").is_some());
        all.keep(kept("d", MOST_BYTES / 4));
        let found = ["a", "b", "c", "d"].map(|id| all.find(id).is_some());
        assert_eq!(found, [true, false, true, true]);
        all.keep(kept("too large", MOST_BYTES));
        assert!(all.find("too large").is_none());
    }

    #[test]
    fn answers_are_dropped_when_their_time_is_over() {
        let all = KeptAnswers::default();
        all.keep(kept("a", 1));
        all.0.lock().unwrap()[0].used = Instant::now().checked_sub(KEPT_FOR).unwrap();
        all.drop_old();
        assert!(all.0.lock().unwrap().is_empty());
    }
}
