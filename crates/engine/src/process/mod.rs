//! An engine process: it loads one model, answers calls that arrive over a link, and ends when the link closes.

mod lanes;
mod preparing;

use std::io::{Read, Write};
use std::num::NonZero;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};
use std::time::{Duration, Instant};

use deft_kernels::{Instructions, processors};
use deft_planning::{CacheType, LoadSettings, Weights};
use deft_protocol::ProblemKind;
use deft_protocol::engine::{
    BatonOrder, FrameError, FromEngine, LINK_VERSION, LoadOrder, ToEngine, read_frame, write_frame,
};
use thiserror::Error;

use crate::baton::Board;
use crate::compute::ComputeSettings;
use crate::lane::CallError;
use crate::layer_memory::LayerMemory;
use crate::model::{Model, Words};
use lanes::Lanes;
use preparing::{Order, Ready, Ticket, ToPrepare};

/// Stack size of the thread that renders templates, which may be deeply nested: that of a main thread.
const STACK: usize = 8 << 20;
/// Least time between two reports of the progress of a load.
const REPORT_EVERY: Duration = Duration::from_millis(100);
/// Least time between two reports of lanes and pages while it computes.
const STANDING_EVERY: Duration = Duration::from_millis(250);

/// The error with which an engine process ends.
#[derive(Debug, Error)]
pub enum ServeError {
    /// The first message was not a load order.
    #[error("the first message of the link is not a load order")]
    Protocol,
    /// The model could not be loaded; the service has been informed.
    #[error("cannot load: {0}")]
    Load(String),
    /// The link failed.
    #[error(transparent)]
    Link(#[from] FrameError),
    /// Calls could not be prepared any more.
    #[error("the thread that prepares prompts failed")]
    Preparing,
}

/// Serves one model over a link, until it is drained or the link closes.
///
/// # Errors
/// The link failed, or the model could not be loaded.
pub fn serve<R, W>(reader: R, writer: W) -> Result<(), ServeError>
where
    R: Read + Send + 'static,
    W: Write,
{
    serve_confined(reader, writer, |_| Ok(String::new()))
}

/// As [`serve`], in a process that restricts itself after it has received the load order, and before it reads the model.
///
/// # Errors
/// As [`serve`].
pub fn serve_confined<R, W>(
    mut reader: R,
    mut writer: W,
    confine: impl FnOnce(&LoadOrder) -> Result<String, String>,
) -> Result<(), ServeError>
where
    R: Read + Send + 'static,
    W: Write,
{
    write_frame(&mut writer, &FromEngine::Hello { version: LINK_VERSION })?;
    let started = Instant::now();
    let ToEngine::Load(order) = read_frame(&mut reader)? else {
        return Err(ServeError::Protocol);
    };
    let mut last_report = started;
    let mut report = |done: u64, bytes: u64| {
        if last_report.elapsed() >= REPORT_EVERY {
            last_report = Instant::now();
            // A closed link is noticed after the load.
            let _ = write_frame(&mut writer, &FromEngine::Loading { done, bytes });
        }
    };
    // Shared memory is opened before the restrictions, because it cannot be opened afterwards.
    let board = order.baton.as_ref().and_then(board);
    let loaded = confine(&order)
        .map_err(|why| (ProblemKind::Fault, format!("the process cannot be confined: {why}")))
        .and_then(|confined| Ok((load(&order, board, &mut report)?, confined)));
    let (mut lanes, confined) = match loaded {
        Ok(loaded) => loaded,
        Err((kind, detail)) => {
            write_frame(&mut writer, &FromEngine::LoadFailed { kind, detail: detail.clone() })?;
            return Err(ServeError::Load(detail));
        }
    };
    let loaded = FromEngine::Loaded {
        kernels: lanes.model().path().to_string(),
        seconds: started.elapsed().as_secs_f64(),
        warnings: lanes.model().warnings(),
        confined,
    };
    write_frame(&mut writer, &loaded)?;
    let messages = listen(reader, Arc::clone(&lanes.model().words), order.context as usize);
    lanes.model().settle();
    run(&mut lanes, &messages, &mut writer)
}

/// Reads messages and prepares calls, on two threads, so that a disconnected caller is noticed between two steps and a
/// long prompt does not delay others.
fn listen(
    mut reader: impl Read + Send + 'static,
    words: Arc<Words>,
    context: usize,
) -> Receiver<Received> {
    let (sender, messages) = channel();
    let (orders, to_prepare) = channel();
    let ready = sender.clone();
    let failures = sender.clone();
    let prepare_all = move || {
        preparing::or_report(&failures, || {
            preparing::prepare_all(&words, context, &to_prepare, &ready)
        });
    };
    std::thread::Builder::new()
        .name("preparing".to_owned())
        .stack_size(STACK)
        .spawn(prepare_all)
        .expect("a thread can be started where a model was loaded");
    std::thread::spawn(move || {
        while let Some(message) = next(&mut reader) {
            let sent = match message {
                Received::Message(ToEngine::Call(order)) => {
                    prepare(Order::Call(order), &sender, &orders)
                }
                Received::Message(ToEngine::Tokenize(order)) => {
                    prepare(Order::Tokenize(order), &sender, &orders)
                }
                Received::Message(ToEngine::Embed(order)) => {
                    prepare(Order::Embed(order), &sender, &orders)
                }
                other => sender.send(other).ok(),
            };
            if sent.is_none() {
                return;
            }
        }
        let _ = sender.send(Received::Closed);
    });
    messages
}

/// A received message.
enum Received {
    Message(ToEngine),
    /// A call that is being prepared.
    Coming(Ticket),
    /// A call whose prompt is prepared, or refused.
    Prepared {
        call: u64,
        prepared: Result<Ready, CallError>,
    },
    /// The link is closed.
    Closed,
    /// The thread that prepares calls failed.
    Broken,
    /// The message is invalid or too long; its call gets this error.
    Unusable {
        call: u64,
        why: String,
    },
}

/// Announces a call, and then has it prepared, so that calls keep their order.
fn prepare(order: Order, messages: &Sender<Received>, orders: &Sender<ToPrepare>) -> Option<()> {
    let (ticket, to_prepare) = preparing::ticket(order);
    messages.send(Received::Coming(ticket)).ok()?;
    orders.send(to_prepare).ok()
}

/// The next message; none if the link is closed.
fn next(reader: &mut impl Read) -> Option<Received> {
    match read_frame::<ToEngine>(reader) {
        Ok(message) => Some(Received::Message(message)),
        Err(
            ref error @ (FrameError::Malformed { call, .. } | FrameError::TooLong { call, .. }),
        ) => Some(Received::Unusable { call, why: error.to_string() }),
        Err(FrameError::Closed | FrameError::Io(_)) => None,
    }
}

fn load(
    order: &LoadOrder,
    board: Option<Board>,
    report: &mut dyn FnMut(u64, u64),
) -> Result<Lanes, (ProblemKind, String)> {
    if order.version != LINK_VERSION {
        let detail = format!(
            "service and engine have different versions of the link ({} and {LINK_VERSION}); restart the \
             service: deft service restart",
            order.version
        );
        return Err((ProblemKind::Fault, detail));
    }
    let invalid = |what: String| (ProblemKind::Invalid, what);
    let cache = |name: &str| {
        CacheType::named(name).ok_or_else(|| invalid(format!("there is no cache type `{name}`")))
    };
    let settings = LoadSettings {
        context: order.context,
        lanes: order.lanes,
        cache_tokens: order.cache_tokens,
        chunk: order.chunk,
        keys: cache(&order.keys)?,
        values: cache(&order.values)?,
        weights: if order.resident { Weights::Resident } else { Weights::Mapped },
        replicas: if order.copied { u32::try_from(order.nodes.len()).unwrap_or(0) } else { 0 },
        threads: order.threads,
    };
    settle(order);
    let copied = if order.copied { &order.nodes[..] } else { &[] };
    let mut layer_memory = LayerMemory::ordered(&order.places).with_copies_on(copied);
    let compute = ComputeSettings {
        path: path(order).map_err(invalid)?,
        threads: order.threads.and_then(|threads| NonZero::new(threads as usize)),
    };
    let weights = settings.weights;
    let model =
        Model::open_in(&order.file, order.context, &mut layer_memory, weights, compute, report)
            .map(|model| match &order.template {
                Some(template) => model.with_template(template),
                None => model,
            })
            .map_err(|error| (ProblemKind::Refused, error.to_string()))?;
    settings.check(model.shape()).map_err(|error| invalid(error.to_string()))?;
    let mut lanes = Lanes::new(model, settings, &mut layer_memory)
        .map_err(|error| (ProblemKind::Refused, error.to_string()))?;
    let share = order.baton.as_ref().map_or(0, |baton| baton.share);
    if let Some(baton) = board.and_then(|board| board.join(std::process::id(), share)) {
        lanes.share(baton);
    }
    Ok(lanes)
}

/// Opens the baton's table. Without it the process computes whenever it has work.
fn board(order: &BatonOrder) -> Option<Board> {
    let opened = Board::open(&order.path);
    let log = |error: &std::io::Error| {
        tracing::warn!("the processor is not shared fairly with other models: {error}")
    };
    opened.inspect_err(log).ok()
}

/// Sets the processors and memory nodes to use, before any compute thread starts.
fn settle(order: &LoadOrder) {
    processors::compute_on(&order.processors, &order.processor_nodes);
    if order.nodes.len() > 1
        && let Err(error) = processors::interleave(&order.nodes)
    {
        tracing::warn!("memory is not interleaved over the NUMA nodes: {error}");
    }
}

/// The requested instructions; otherwise the fastest measured ones, if this process may use them; otherwise the best
/// available ones.
fn path(order: &LoadOrder) -> Result<Instructions, String> {
    let Some(name) = &order.kernels else {
        return Ok(fastest(order).unwrap_or_else(Instructions::best));
    };
    let names: Vec<&str> = Instructions::available().map(Instructions::name).collect();
    let found = Instructions::named(name).filter(|path| path.runs_here());
    found.ok_or_else(|| format!("this processor has no `{name}`; it has {}", names.join(", ")))
}

/// The fastest measured instructions. The system may refuse them to some processes.
fn fastest(order: &LoadOrder) -> Option<Instructions> {
    let name = order.fastest.as_deref()?;
    let found = Instructions::named(name).filter(|path| path.runs_here());
    if found.is_none() {
        tracing::warn!(
            "`{name}` does not run in this process; it computes with {}",
            Instructions::best()
        );
    }
    found
}

/// Receives messages and computes steps, until there is no work and the link is closed or drained.
fn run(
    lanes: &mut Lanes,
    messages: &Receiver<Received>,
    writer: &mut impl Write,
) -> Result<(), ServeError> {
    let mut draining = false;
    let mut out = Vec::new();
    let mut last_report = Instant::now();
    loop {
        if lanes.is_idle() {
            // A closed link is noticed below.
            let _ = write_frame(&mut *writer, &FromEngine::Standing(lanes.standing()));
            if draining {
                return Ok(());
            }
        }
        let mut next = if lanes.has_work() {
            messages.try_recv().map(Some).or_else(empty)
        } else {
            // While it only waits for calls to be prepared, it sends no reports. If preparation takes longer than the time after
            // which a process counts as hung, it does hang.
            lanes.rest();
            messages.recv().map(Some).map_err(|_| ())
        };
        loop {
            match next {
                Ok(Some(Received::Closed)) | Err(()) => return Ok(()),
                Ok(Some(Received::Broken)) => return Err(ServeError::Preparing),
                Ok(Some(message)) => take(lanes, message, &mut draining, &mut out),
                Ok(None) => break,
            }
            next = messages.try_recv().map(Some).or_else(empty);
        }
        lanes.admit(&mut out);
        lanes.step(&mut out);
        if last_report.elapsed() >= STANDING_EVERY {
            last_report = Instant::now();
            out.push(FromEngine::Standing(lanes.standing()));
        }
        for message in out.drain(..) {
            send(&mut *writer, &message)?;
        }
    }
}

/// An empty queue is not an error; a closed one is.
fn empty(error: TryRecvError) -> Result<Option<Received>, ()> {
    match error {
        TryRecvError::Empty => Ok(None),
        TryRecvError::Disconnected => Err(()),
    }
}

/// Sends a message. A message that is too long becomes an error of its call.
fn send(writer: &mut impl Write, message: &FromEngine) -> Result<(), FrameError> {
    match write_frame(&mut *writer, message) {
        Err(error @ (FrameError::TooLong { call, .. } | FrameError::Malformed { call, .. })) => {
            write_frame(writer, &unusable(call, &error.to_string(), ProblemKind::Fault))
        }
        sent => sent,
    }
}

fn unusable(call: u64, why: &str, kind: ProblemKind) -> FromEngine {
    let (code, detail) = ("message_unusable".to_owned(), why.to_owned());
    FromEngine::Failed { call, kind, code, field: None, detail }
}

fn take(lanes: &mut Lanes, message: Received, draining: &mut bool, out: &mut Vec<FromEngine>) {
    let message = match message {
        Received::Message(message) => message,
        Received::Unusable { call, why } => {
            out.push(unusable(call, &why, ProblemKind::Invalid));
            return;
        }
        Received::Coming(ticket) => return lanes.expect(ticket),
        Received::Prepared { call, prepared } => return lanes.take(call, prepared, out),
        // Received messages are looked at first.
        Received::Closed | Received::Broken => return,
    };
    match message {
        ToEngine::Cancel { call } => lanes.cancel(call),
        ToEngine::Drain => *draining = true,
        // Calls arrive prepared, and the load order was the first message.
        ToEngine::Call(_) | ToEngine::Tokenize(_) | ToEngine::Embed(_) | ToEngine::Load(_) => {}
    }
}

#[cfg(test)]
mod tests;
