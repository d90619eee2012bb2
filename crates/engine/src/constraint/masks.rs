//! Masks of allowed tokens, computed while the model computes.

use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::sync::{Arc, LazyLock};
use std::thread;
use std::time::Duration;

use llguidance::toktrie::SimpleVob;
use llguidance::{CancellationHandle, Matcher};
use parking_lot::Mutex;

use super::ConstraintError;
use super::grammar::{Grammar, in_words};

/// Longest time of a mask; a grammar that needs more is refused.
const LONGEST_MASK: Duration = Duration::from_secs(1);
/// Number of helper threads: lanes rarely need more masks at the same moment.
const HELPERS: usize = 2;

/// The tokens that may follow: a bit for each.
#[derive(Debug, Clone)]
pub(crate) struct Mask(SimpleVob);

impl Mask {
    /// Whether a token may follow.
    #[cfg(test)]
    pub(crate) fn allows(&self, token: u32) -> bool {
        (token as usize) < self.0.len() && self.0.is_allowed(token)
    }

    /// The bits, 32 tokens each.
    pub(crate) fn words(&self) -> &[u32] {
        self.0.as_slice()
    }
}

/// A matcher with the mask of the next token.
struct Step {
    matcher: Matcher,
    mask: Result<Mask, String>,
}

/// The next mask of a matcher, after a token.
struct Job {
    matcher: Matcher,
    tokens: Vec<u32>,
    reply: SyncSender<Step>,
}

impl Job {
    fn run(mut self) {
        let consumed = self.matcher.consume_tokens(&self.tokens);
        let mask = consumed.and_then(|()| self.matcher.compute_mask_or_eos());
        let mask = mask.map(Mask).map_err(|error| error.to_string());
        // The answer may have ended meanwhile.
        let _ = self.reply.send(Step { matcher: self.matcher, mask });
    }
}

/// Threads that compute masks. They are started when the first constraint is used.
static HELPER: LazyLock<Option<Sender<Job>>> = LazyLock::new(|| {
    let (sender, jobs) = channel::<Job>();
    let jobs: &'static Mutex<Receiver<Job>> = Box::leak(Box::new(Mutex::new(jobs)));
    let mut started = false;
    for _ in 0..HELPERS {
        let run = || {
            loop {
                let Ok(job) = jobs.lock().recv() else { return };
                job.run();
            }
        };
        started |= thread::Builder::new().name("deft-masks".to_owned()).spawn(run).is_ok();
    }
    started.then_some(sender)
});

fn submit(matcher: Matcher, tokens: Vec<u32>) -> Receiver<Step> {
    let (reply, receiver) = sync_channel(1);
    let job = Job { matcher, tokens, reply };
    match &*HELPER {
        Some(helper) => {
            if let Err(job) = helper.send(job) {
                job.0.run();
            }
        }
        None => job.run(),
    }
    receiver
}

/// The constraint of one answer.
pub(crate) struct Constrained {
    grammar: Arc<Grammar>,
    state: State,
}

enum State {
    /// The mask of the next token.
    Ready(Box<Matcher>, Mask),
    /// The mask is being computed.
    Pending(Mutex<Receiver<Step>>, Option<CancellationHandle>),
    /// The matcher was taken.
    Taken,
}

/// The state of a new answer, with its first mask.
///
/// # Errors
/// The first mask takes too long, or no token is allowed.
pub(super) fn begin(
    grammar: Arc<Grammar>,
    matcher: Matcher,
    longest: Duration,
) -> Result<Constrained, ConstraintError> {
    let handle = matcher.cancellation_handle();
    let receiver = submit(matcher, Vec::new());
    let step = receiver.recv_timeout(longest).map_err(|_| too_slow(handle))?;
    let mask = step.mask.map_err(|error| in_words(&error))?;
    if mask.words().iter().all(|word| *word == 0) {
        return Err(ConstraintError::Invalid("no answer can fulfil it".to_owned()));
    }
    Ok(Constrained { grammar, state: State::Ready(Box::new(step.matcher), mask) })
}

/// Ends the computation of a mask that takes too long, so that its thread is free for others.
fn too_slow(handle: Option<CancellationHandle>) -> ConstraintError {
    if let Some(handle) = handle {
        handle.cancel();
    }
    ConstraintError::TooSlow("the allowed tokens take too long to compute")
}

impl Constrained {
    /// A separate state for another answer; none while a mask is being computed.
    pub(crate) fn fork(&self) -> Option<Self> {
        match &self.state {
            State::Ready(matcher, mask) => Some(Self {
                grammar: Arc::clone(&self.grammar),
                state: State::Ready(Box::new(matcher.deep_clone()), mask.clone()),
            }),
            State::Pending(..) | State::Taken => None,
        }
    }

    /// The grammar, as text.
    pub(crate) fn grammar(&self) -> String {
        self.grammar.to_string()
    }

    /// Waits for the mask of the next token.
    ///
    /// # Errors
    /// The grammar is too complex at this point.
    pub(crate) fn mask(&mut self) -> Result<&Mask, ConstraintError> {
        if let State::Pending(receiver, handle) = &mut self.state {
            let received = receiver.get_mut().recv_timeout(LONGEST_MASK);
            let step = received.map_err(|_| too_slow(handle.take()))?;
            let mask = step.mask.map_err(|error| in_words(&error))?;
            self.state = State::Ready(Box::new(step.matcher), mask);
        }
        match &self.state {
            State::Ready(_, mask) => Ok(mask),
            State::Pending(..) | State::Taken => {
                Err(ConstraintError::Invalid("the constraint was lost".to_owned()))
            }
        }
    }

    /// Continues with tokens.
    pub(crate) fn advance(&mut self, tokens: &[u32]) {
        self.state = match std::mem::replace(&mut self.state, State::Taken) {
            State::Ready(matcher, _) => {
                let handle = matcher.cancellation_handle();
                State::Pending(Mutex::new(submit(*matcher, tokens.to_vec())), handle)
            }
            other => other,
        };
    }
}
