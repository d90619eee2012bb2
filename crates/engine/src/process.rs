//! The life of an engine process: load one model, answer calls that come over a link, end when the
//! link closes.

use std::collections::VecDeque;
use std::io::{Read, Write};
use std::sync::mpsc::{Receiver, TryRecvError, channel};
use std::time::Instant;

use deft_planning::{CacheType, LoadSettings};
use deft_protocol::ProblemKind;
use deft_protocol::engine::{
    CallOrder, FrameError, FromEngine, LINK_VERSION, LoadOrder, ToEngine, read_frame, write_frame,
};
use thiserror::Error;

use crate::families::{LaneCache, Logits, Workspace};
use crate::lane::{Answering, CallError, Progress};
use crate::model::{LoadError, Model};

/// Why an engine process ended otherwise than asked.
#[derive(Debug, Error)]
pub enum ServeError {
    /// The first frame was no order to load.
    #[error("the link began with something else than an order to load")]
    Protocol,
    /// The model could not be loaded; the service was told.
    #[error("cannot load: {0}")]
    Load(String),
    /// The link failed.
    #[error(transparent)]
    Link(#[from] FrameError),
}

/// Serves one model over a link until it is drained or the other side is gone.
///
/// # Errors
/// The link failed, or the model could not be loaded.
pub fn serve<R, W>(mut reader: R, mut writer: W) -> Result<(), ServeError>
where
    R: Read + Send + 'static,
    W: Write,
{
    write_frame(&mut writer, &FromEngine::Hello { version: LINK_VERSION })?;
    let started = Instant::now();
    let ToEngine::Load(order) = read_frame(&mut reader)? else {
        return Err(ServeError::Protocol);
    };
    let mut engine = match Engine::new(&order) {
        Ok(engine) => engine,
        Err((kind, detail)) => {
            write_frame(&mut writer, &FromEngine::LoadFailed { kind, detail: detail.clone() })?;
            return Err(ServeError::Load(detail));
        }
    };
    let loaded = FromEngine::Loaded {
        kernels: deft_kernels::Path::best().to_string(),
        seconds: started.elapsed().as_secs_f64(),
        warnings: engine.model.warnings(),
    };
    write_frame(&mut writer, &loaded)?;
    let (sender, messages) = channel();
    // Reading has a thread of its own, so that a caller who leaves is noticed between two steps.
    std::thread::spawn(move || {
        while let Ok(message) = read_frame::<ToEngine>(&mut reader) {
            if sender.send(message).is_err() {
                return;
            }
        }
    });
    engine.run(&messages, &mut writer)
}

struct Engine {
    model: Model,
    lanes: Vec<(LaneCache, Option<Answering>)>,
    work: Workspace,
    chunk: usize,
    waiting: VecDeque<CallOrder>,
    draining: bool,
}

impl Engine {
    fn new(order: &LoadOrder) -> Result<Self, (ProblemKind, String)> {
        if order.version != LINK_VERSION {
            let detail = format!(
                "service and engine differ (link version {} and {LINK_VERSION}); restart the \
                 service with `deft service restart`",
                order.version
            );
            return Err((ProblemKind::Fault, detail));
        }
        let refused = |error: LoadError| (ProblemKind::Refused, error.to_string());
        let model = Model::open(&order.file).map_err(refused)?;
        let cache = match order.cache.as_str() {
            "f32" => CacheType::F32,
            "f16" => CacheType::F16,
            other => return Err((ProblemKind::Invalid, format!("cache type `{other}`"))),
        };
        let settings =
            LoadSettings { context: order.context, lanes: order.lanes, chunk: order.chunk, cache };
        let shape = model.shape();
        settings.check(shape).map_err(|error| (ProblemKind::Invalid, error.to_string()))?;
        let mut lanes: Vec<_> = (0..settings.lanes)
            .map(|_| (LaneCache::new(shape, settings.context, settings.cache), None))
            .collect();
        let mut work = Workspace::new(shape, settings.chunk);
        // Warm: one token reads every weight once, so that the first answer does not wait for disk.
        let (cache, _) = &mut lanes[0];
        model.decoder.step(&[0], cache, &mut work, Logits::Last);
        cache.clear();
        Ok(Self {
            model,
            lanes,
            work,
            chunk: settings.chunk as usize,
            waiting: VecDeque::new(),
            draining: false,
        })
    }

    fn is_idle(&self) -> bool {
        self.waiting.is_empty() && self.lanes.iter().all(|(_, answering)| answering.is_none())
    }

    fn run(
        &mut self,
        messages: &Receiver<ToEngine>,
        writer: &mut impl Write,
    ) -> Result<(), ServeError> {
        loop {
            if self.is_idle() {
                if self.draining {
                    return Ok(());
                }
                match messages.recv() {
                    Ok(message) => self.take(message),
                    Err(_) => return Ok(()),
                }
            }
            loop {
                match messages.try_recv() {
                    Ok(message) => self.take(message),
                    Err(TryRecvError::Empty) => break,
                    Err(TryRecvError::Disconnected) => return Ok(()),
                }
            }
            self.admit(writer)?;
            for lane in 0..self.lanes.len() {
                self.step(lane, writer)?;
            }
        }
    }

    fn take(&mut self, message: ToEngine) {
        match message {
            ToEngine::Call(order) => self.waiting.push_back(*order),
            ToEngine::Cancel { call } => {
                self.waiting.retain(|order| order.call != call);
                for (_, answering) in &mut self.lanes {
                    answering.take_if(|answering| answering.call == call);
                }
            }
            ToEngine::Drain => self.draining = true,
            ToEngine::Load(_) => {}
        }
    }

    /// Gives free lanes to waiting calls, first come first served.
    fn admit(&mut self, writer: &mut impl Write) -> Result<(), ServeError> {
        while let Some(free) = self.lanes.iter().position(|(_, answering)| answering.is_none()) {
            let Some(order) = self.waiting.pop_front() else {
                break;
            };
            let call = order.call;
            let (cache, answering) = &mut self.lanes[free];
            cache.clear();
            match Answering::new(&self.model, order, cache.context()) {
                Ok(new) => {
                    let prompt_tokens = new.prompt_tokens();
                    *answering = Some(new);
                    write_frame(&mut *writer, &FromEngine::PromptTaken { call, prompt_tokens })?;
                }
                Err(error) => write_frame(&mut *writer, &failed(call, &error))?,
            }
        }
        Ok(())
    }

    fn step(&mut self, lane: usize, writer: &mut impl Write) -> Result<(), ServeError> {
        let (cache, slot) = &mut self.lanes[lane];
        let Some(answering) = slot else { return Ok(()) };
        let call = answering.call;
        match answering.step(&self.model, cache, &mut self.work, self.chunk) {
            Ok(Progress::Nothing) => {}
            Ok(Progress::Text(text)) => write_frame(writer, &FromEngine::Text { call, text })?,
            Ok(Progress::Done(text, figures)) => {
                *slot = None;
                if !text.is_empty() {
                    write_frame(&mut *writer, &FromEngine::Text { call, text })?;
                }
                write_frame(writer, &FromEngine::Done { call, figures })?;
            }
            Err(error) => {
                *slot = None;
                write_frame(writer, &failed(call, &error))?;
            }
        }
        Ok(())
    }
}

fn failed(call: u64, error: &CallError) -> FromEngine {
    let (kind, code) = error.kind_and_code();
    FromEngine::Failed { call, kind, code: code.to_owned(), detail: error.to_string() }
}

#[cfg(test)]
mod tests;
