//! One engine process as the service sees it: its start, its link, and its supervision.

use std::collections::HashMap;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream as StdUnixStream;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Weak};
use std::time::Duration;

use bytes::Bytes;
use deft_engine::baton::Board;
use deft_protocol::Problem;
use deft_protocol::engine::{
    CALL_BYTES, CallOrder, EmbedOrder, EngineFigures, EngineStanding, FromEngine, LINK_VERSION,
    LoadOrder, MAX_FRAME, Part, ToEngine, TokenScore, TokenizeOrder, TraceStep, encode_frame,
};
use futures_util::StreamExt;
use parking_lot::Mutex;
use rustix::process::{Pid, PidfdFlags, Signal, kill_process, pidfd_open, pidfd_send_signal};
use tokio::net::UnixStream;
use tokio::net::unix::OwnedReadHalf;
use tokio::sync::mpsc;
use tokio_util::codec::{FramedRead, LengthDelimitedCodec};

use crate::process::spawner;

mod outbox;
mod problems;
mod silence;
mod unread;

use outbox::Outbox;
pub(crate) use problems::{engine_lost, too_large};
use problems::{odd, unread};
use silence::Silence;
use unread::{Listener, Unread};

/// Events of an engine process.
#[derive(Debug)]
pub(crate) enum ProcessEvent {
    /// Progress of reading its weights.
    Loading { share: f64 },
    /// Its model is loaded and warm.
    Loaded { kernels: String, seconds: f64, warnings: Vec<String>, confined: String },
    /// Its model cannot be loaded.
    LoadFailed(Problem),
    /// State of its lanes and pages.
    Standing(EngineStanding),
    /// It ended.
    Exited { how: String },
}

/// Events of a call. If the channel closes before the end of the call, the engine process has ended.
#[derive(Debug)]
pub(crate) enum CallEvent {
    PromptTaken(u32),
    /// Number of processed prompt tokens.
    Intake(u32),
    /// It is paused, because older calls need its pages.
    Paused,
    Text {
        answer: u32,
        part: Part,
        text: String,
        scores: Vec<TokenScore>,
    },
    /// A tool call begins.
    ToolCall {
        answer: u32,
        index: u32,
        name: String,
    },
    Done {
        answer: u32,
        figures: EngineFigures,
    },
    /// How the engine process works on it.
    Traced {
        answer: u32,
        step: TraceStep,
    },
    /// Embeddings of some inputs, in their order; the last of them end the call.
    Embedded {
        is_last: bool,
        vectors: Vec<Vec<f32>>,
        tokens: u32,
    },
    /// Tokens of a prompt, in order.
    Tokenized {
        is_last: bool,
        tokens: Vec<u32>,
        texts: Vec<String>,
    },
    Failed(Problem),
}

/// Environment variables that an engine process gets: for local time and for debugging.
const PASSED: [&str; 3] = ["TZ", "LC_ALL", "RUST_BACKTRACE"];

type Calls = Arc<Mutex<HashMap<u64, Listener>>>;

/// The link to an engine process; cheap to clone.
#[derive(Clone)]
pub(crate) struct EngineLink {
    calls: Calls,
    outbox: Arc<Outbox>,
    next_call: Arc<AtomicU64>,
    silence: Arc<Silence>,
}

impl EngineLink {
    /// Sends a call, and gives it a number.
    ///
    /// # Errors
    /// It is too large for the link.
    pub(crate) fn call(&self, order: CallOrder) -> Result<CallStream, Problem> {
        let answers = order.answers;
        self.send(answers, |call| ToEngine::Call(Box::new(CallOrder { call, ..order })))
    }

    /// Sends inputs to compute embeddings of.
    ///
    /// # Errors
    /// They are too large for the link.
    pub(crate) fn embed(&self, order: EmbedOrder) -> Result<CallStream, Problem> {
        self.send(1, |call| ToEngine::Embed(EmbedOrder { call, ..order }))
    }

    /// Sends a prompt to convert to tokens.
    ///
    /// # Errors
    /// It is too large for the link.
    pub(crate) fn tokenize(&self, order: TokenizeOrder) -> Result<CallStream, Problem> {
        let TokenizeOrder { of, texts } = order;
        let numbered = |call| TokenizeOrder { of: CallOrder { call, ..of }, texts };
        self.send(1, |call| ToEngine::Tokenize(Box::new(numbered(call))))
    }

    fn send(
        &self,
        answers: u32,
        order: impl FnOnce(u64) -> ToEngine,
    ) -> Result<CallStream, Problem> {
        let call = self.next_call.fetch_add(1, Ordering::Relaxed);
        let frame = encode_frame(&order(call)).map_err(|error| too_large(&error))?;
        // The receiving side limits the number of events, so that the engine never waits for a slow caller.
        let (sender, events) = mpsc::unbounded_channel();
        let unread = Arc::<Unread>::default();
        let listener = Listener { events: sender, unread: Arc::clone(&unread) };
        {
            let mut calls = self.calls.lock();
            if calls.is_empty() {
                // Without calls it had nothing to send.
                self.silence.ends();
            }
            calls.insert(call, listener);
        }
        if self.outbox.send(frame.into()).is_err() {
            // The process has ended; closing the channel reports that.
            self.calls.lock().remove(&call);
        }
        Ok(CallStream { call, events, unread, link: self.clone(), left: answers, broken: false })
    }

    /// Sends a message that is never too large.
    fn report(&self, message: &ToEngine) {
        if let Ok(frame) = encode_frame(message) {
            // A process that has ended needs no message.
            let _ = self.outbox.send(frame.into());
        }
    }

    /// How long the process has been silent although it has calls.
    pub(crate) fn silence(&self) -> Duration {
        if self.calls.lock().is_empty() { Duration::ZERO } else { self.silence.duration() }
    }

    /// Resets that time, because there was a reason to be silent.
    pub(crate) fn excuse(&self) {
        self.silence.ends();
    }

    /// Whether the process still accepts orders; if not, it has ended.
    pub(crate) fn is_open(&self) -> bool {
        !self.outbox.is_closed()
    }

    /// Tells the process to end after its running calls.
    pub(crate) fn drain(&self) {
        self.report(&ToEngine::Drain);
    }
}

/// The events of one call. Dropping it before its end cancels the call.
pub(crate) struct CallStream {
    call: u64,
    events: mpsc::UnboundedReceiver<(usize, CallEvent)>,
    unread: Arc<Unread>,
    link: EngineLink,
    /// Number of incomplete answers.
    left: u32,
    /// Whether it ended before all were complete.
    broken: bool,
}

impl CallStream {
    /// The next event; none if the engine process has ended. Cancel safe.
    pub(crate) async fn next(&mut self) -> Option<CallEvent> {
        let event = self.events.recv().await.map(|(bytes, event)| {
            self.unread.remove(bytes);
            event
        });
        self.left = match &event {
            Some(
                CallEvent::PromptTaken(_)
                | CallEvent::Intake(_)
                | CallEvent::Paused
                | CallEvent::Text { .. }
                | CallEvent::ToolCall { .. }
                | CallEvent::Traced { .. }
                | CallEvent::Embedded { is_last: false, .. }
                | CallEvent::Tokenized { is_last: false, .. },
            ) => self.left,
            Some(CallEvent::Done { .. }) => self.left.saturating_sub(1),
            Some(
                CallEvent::Embedded { .. } | CallEvent::Tokenized { .. } | CallEvent::Failed(_),
            )
            | None => 0,
        };
        self.broken |= matches!(event, Some(CallEvent::Failed(_)) | None);
        event
    }

    /// Whether there are no more events.
    pub(crate) fn has_ended(&self) -> bool {
        self.left == 0
    }

    /// Whether all answers are complete.
    pub(crate) fn is_complete(&self) -> bool {
        self.has_ended() && !self.broken
    }
}

impl Drop for CallStream {
    fn drop(&mut self) {
        self.link.calls.lock().remove(&self.call);
        if !self.has_ended() {
            self.link.report(&ToEngine::Cancel { call: self.call });
        }
    }
}

/// A started engine process.
pub(crate) struct EngineProcess {
    pub(crate) pid: u32,
    pub(crate) link: EngineLink,
    pidfd: Option<OwnedFd>,
}

impl EngineProcess {
    /// Starts a process and sends it the load order. Its events go to `report`. When it has ended, it is removed from the
    /// baton's table.
    pub(crate) async fn start(
        order: LoadOrder,
        board: Option<Board>,
        report: mpsc::UnboundedSender<ProcessEvent>,
    ) -> io::Result<Self> {
        let (ours, theirs) = StdUnixStream::pair()?;
        ours.set_nonblocking(true)?;
        let mut command = Command::new(spawner::own_program());
        command.arg("engine").arg("--parent").arg(std::process::id().to_string());
        command.stdin(Stdio::from(OwnedFd::from(theirs))).stdout(Stdio::null());
        // Without the service's environment, which may contain tokens and the address of the database.
        command
            .env_clear()
            .envs(PASSED.iter().filter_map(|name| Some((name, std::env::var_os(name)?))));
        command.current_dir("/");
        let child = tokio::task::spawn_blocking(move || spawner::spawn(command))
            .await
            .map_err(io::Error::other)??;
        let pid = child.id();
        let raw = i32::try_from(pid).ok().and_then(Pid::from_raw);
        let pidfd = raw.and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok());
        let stream = UnixStream::from_std(ours)?;
        let (reading, writing) = stream.into_split();
        let (outbox, waiting) = Outbox::new(writing);
        let outbox = Arc::new(outbox);
        let calls = Calls::default();
        let silence = Arc::new(Silence::new());
        let next_call = Arc::new(AtomicU64::new(1));
        let link = EngineLink { calls, outbox, next_call, silence: Arc::clone(&silence) };
        let frame = encode_frame(&ToEngine::Load(Box::new(order))).map_err(io::Error::other)?;
        // A process that has ended already is reported by its end.
        let _ = link.outbox.send(frame.into());
        tokio::spawn(attend(
            reading,
            (Arc::downgrade(&link.outbox), waiting),
            Arc::clone(&link.calls),
            silence,
            report.clone(),
        ));
        tokio::task::spawn_blocking(move || {
            let mut child = child;
            let how = match child.wait() {
                Ok(status) => status.to_string(),
                Err(error) => error.to_string(),
            };
            // It may have ended during a step, with the baton.
            if let Some(board) = board {
                board.forget(pid);
            }
            let _ = report.send(ProcessEvent::Exited { how });
        });
        Ok(Self { pid, link, pidfd })
    }

    /// Ends the process at once.
    pub(crate) fn kill(&self) {
        // An error means that it has ended already.
        match &self.pidfd {
            Some(pidfd) => drop(pidfd_send_signal(pidfd, Signal::KILL)),
            None => self.kill_by_number(),
        }
    }

    /// Without a process handle from the kernel: the process id stays valid until the end of the process is collected,
    /// which is after its link closes.
    fn kill_by_number(&self) {
        let pid = i32::try_from(self.pid).ok().and_then(Pid::from_raw);
        if let Some(pid) = pid.filter(|_| self.link.is_open()) {
            let _ = kill_process(pid, Signal::KILL);
        }
    }
}

/// Transfers messages in both directions until the link closes.
async fn attend(
    reading: OwnedReadHalf,
    (outbox, mut waiting): (Weak<Outbox>, mpsc::UnboundedReceiver<Bytes>),
    calls: Calls,
    silence: Arc<Silence>,
    report: mpsc::UnboundedSender<ProcessEvent>,
) {
    let codec =
        LengthDelimitedCodec::builder().little_endian().max_frame_length(MAX_FRAME).new_codec();
    let mut frames = FramedRead::new(reading, codec);
    let write = async {
        // The outbox ends with the last link to it, which ends the process.
        while let Some(message) = waiting.recv().await
            && let Some(outbox) = outbox.upgrade()
            && outbox.write_waiting(message).await
        {}
    };
    let read = async {
        while let Some(Ok(frame)) = frames.next().await {
            silence.ends();
            let (call, body) = frame.split_at(frame.len().min(CALL_BYTES));
            let given_up = match serde_json::from_slice::<FromEngine>(body) {
                Ok(message) => dispatch(message, frame.len(), &calls, &report),
                Err(error) => {
                    tracing::error!("a message of an engine process cannot be read: {error}");
                    let call = call.try_into().map_or(0, u64::from_le_bytes);
                    fail(call, odd(), &calls)
                }
            };
            if let (Some(call), Some(outbox)) = (given_up, outbox.upgrade())
                && let Ok(frame) = encode_frame(&ToEngine::Cancel { call })
            {
                let _ = outbox.send(frame.into());
            }
        }
    };
    tokio::select! {
        () = write => {}
        () = read => {}
    }
    // In this order: first no more orders are accepted, then all channels close. In the other order, a call that is
    // sent in between would wait for ever.
    if let Some(outbox) = outbox.upgrade() {
        outbox.close();
    }
    waiting.close();
    calls.lock().clear();
}

/// Delivers a message. Returns the call to cancel if its caller is too slow.
fn dispatch(
    message: FromEngine,
    bytes: usize,
    calls: &Calls,
    report: &mpsc::UnboundedSender<ProcessEvent>,
) -> Option<u64> {
    let (call, event) = match message {
        FromEngine::Hello { version } => {
            if version != LINK_VERSION {
                tracing::error!("an engine process uses link version {version}");
            }
            return None;
        }
        FromEngine::Loading { done, bytes } => {
            #[expect(clippy::cast_precision_loss, reason = "a share")]
            let share = done as f64 / bytes.max(1) as f64;
            let _ = report.send(ProcessEvent::Loading { share });
            return None;
        }
        FromEngine::Loaded { kernels, seconds, warnings, confined } => {
            let _ = report.send(ProcessEvent::Loaded { kernels, seconds, warnings, confined });
            return None;
        }
        FromEngine::LoadFailed { kind, detail } => {
            let problem = Problem::new(kind, "load_failed", detail);
            let _ = report.send(ProcessEvent::LoadFailed(problem));
            return None;
        }
        FromEngine::Standing(standing) => {
            let _ = report.send(ProcessEvent::Standing(standing));
            return None;
        }
        FromEngine::Paused { call } => (call, CallEvent::Paused),
        FromEngine::Intake { call, done } => (call, CallEvent::Intake(done)),
        FromEngine::PromptTaken { call, prompt_tokens } => {
            (call, CallEvent::PromptTaken(prompt_tokens))
        }
        FromEngine::Text { call, answer, part, text, scores } => {
            (call, CallEvent::Text { answer, part, text, scores })
        }
        FromEngine::ToolCall { call, answer, index, name } => {
            (call, CallEvent::ToolCall { answer, index, name })
        }
        FromEngine::Traced { call, answer, step } => (call, CallEvent::Traced { answer, step }),
        FromEngine::Done { call, answer, figures } => (call, CallEvent::Done { answer, figures }),
        FromEngine::Embedded { call, is_last, vectors, tokens } => {
            (call, CallEvent::Embedded { is_last, vectors, tokens })
        }
        FromEngine::Tokenized { call, is_last, tokens, texts } => {
            (call, CallEvent::Tokenized { is_last, tokens, texts })
        }
        FromEngine::Failed { call, kind, code, field, detail } => {
            let problem = Problem::new(kind, &code, detail);
            (call, CallEvent::Failed(Problem { field, ..problem }))
        }
    };
    let listener = calls.lock().get(&call).cloned()?;
    if listener.unread.add(bytes) {
        return fail(call, unread(), calls);
    }
    // A caller that disconnects at this moment has already sent a cancellation.
    let _ = listener.events.send((bytes, event));
    None
}

/// Ends a call with an error and removes it. Returns it if it existed.
fn fail(call: u64, problem: Problem, calls: &Calls) -> Option<u64> {
    let listener = calls.lock().remove(&call)?;
    listener.unread.add(0);
    let _ = listener.events.send((0, CallEvent::Failed(problem)));
    Some(call)
}

#[cfg(test)]
mod tests;
