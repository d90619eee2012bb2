//! All lanes of an instance: waiting and running work, and the content of each step.

mod admission;
mod turns;

use std::collections::VecDeque;
use std::time::{Duration, Instant};

use deft_planning::LoadSettings;
use deft_planning::baton::Work;
use deft_planning::prompt_speed::PromptSpeed;
use deft_protocol::engine::{EngineStanding, FromEngine};
use smallvec::SmallVec;

use crate::baton::Baton;
use crate::cache::KvCache;
use crate::families::{Run, Wanted, Workspace};
use crate::lane::{CallError, Job, Lane, Next, Outcome, failed};
use crate::layer_memory::{LayerMemory, OutOfMemory};
use crate::model::Model;
use admission::Waiting;

use super::preparing::{Ready, Ticket};

/// The lanes, with the model, the cache and the buffers that they share.
pub(crate) struct Lanes {
    model: Model,
    settings: LoadSettings,
    cache: KvCache,
    work: Workspace,
    /// In the order in which they began.
    lanes: Vec<Lane>,
    /// Number of lanes that have begun.
    begun: u64,
    /// Paused lanes, in the same order.
    paused: Vec<Lane>,
    waiting: VecDeque<Waiting>,
    /// Number of used pages when the next work found too few; it is retried when fewer are used.
    full_at: Option<usize>,
    prompt_speed: PromptSpeed,
    done: Done,
}

/// Counts since the model was loaded.
#[derive(Debug, Default)]
struct Done {
    steps: u64,
    prompt_tokens: u64,
    answer_tokens: u64,
}

/// One item per lane of a step; allocates only for more than 32 lanes.
type PerLane<T> = SmallVec<[T; 32]>;

/// One lane's part of a step.
struct Part {
    lane: usize,
    next: Next,
    /// Index of its first row among the wanted states.
    row: usize,
}

impl Lanes {
    /// Allocates all memory, and computes one token, so that every weight has been read once and the first answer does not
    /// wait for the disk.
    ///
    /// # Errors
    /// An accelerator has too little memory for the keys and values of its layers.
    pub(crate) fn new(
        mut model: Model,
        settings: LoadSettings,
        layer_memory: &mut LayerMemory,
    ) -> Result<Self, OutOfMemory> {
        let mut cache = KvCache::new(&settings);
        let tokens = settings.step_tokens(model.shape());
        model.network.hold(&settings, tokens, layer_memory)?;
        let network = &mut model.network;
        let mut work = Workspace::new(network.host(), network.shape(), tokens, settings.lanes);
        let mut sequence = cache.begin(&[], 0);
        let has_room = cache.reserve(&mut sequence, 1);
        debug_assert!(has_room, "a cache holds at least one lane's context");
        let run = Run { sequence: &sequence, tokens: &[0], wanted: Wanted::Last };
        network.step(&[run], &mut work);
        if !network.shape().encoder {
            network.logits(0..1, &mut work);
        }
        cache.discard(sequence);
        let (lanes, paused, waiting) = (Vec::new(), Vec::new(), VecDeque::new());
        let prompt_speed = PromptSpeed::default();
        Ok(Self {
            model,
            settings,
            cache,
            work,
            lanes,
            begun: 0,
            paused,
            waiting,
            full_at: None,
            prompt_speed,
            done: Done::default(),
        })
    }

    pub(crate) fn model(&self) -> &Model {
        &self.model
    }

    fn context(&self) -> usize {
        self.settings.context as usize
    }

    pub(crate) fn is_idle(&self) -> bool {
        self.waiting.is_empty() && self.lanes.is_empty() && self.paused.is_empty()
    }

    /// Whether there is work to compute; calls that are still being prepared do not count.
    pub(crate) fn has_work(&self) -> bool {
        let is_ready = |waiting: &Waiting| !matches!(waiting, Waiting::Preparing(_));
        !self.lanes.is_empty() || !self.paused.is_empty() || self.waiting.iter().any(is_ready)
    }

    /// Adds a call that is being prepared, so that it keeps its order.
    pub(crate) fn expect(&mut self, ticket: Ticket) {
        self.waiting.push_back(Waiting::Preparing(ticket));
    }

    /// Adds a prepared call at its kept position. If that is gone, the caller has disconnected.
    pub(crate) fn take(
        &mut self,
        call: u64,
        prepared: Result<Ready, CallError>,
        out: &mut Vec<FromEngine>,
    ) {
        let is_it = |waiting: &Waiting| matches!(waiting, Waiting::Preparing(ticket) if ticket.call == call);
        let Some(at) = self.waiting.iter().position(is_it) else { return };
        match prepared {
            Ok(Ready::Call(prepared)) => self.waiting[at] = Waiting::Call(prepared),
            Ok(Ready::Embed(embedding)) => self.waiting[at] = Waiting::Embed(call, embedding),
            // It needs no lane.
            Ok(Ready::Tokens(tokens)) => {
                self.waiting.remove(at);
                tokens.send(out);
            }
            Err(error) => {
                self.waiting.remove(at);
                out.push(failed(call, &error));
            }
        }
    }

    /// Cancels a call: its lanes are free at once; computed tokens of its prompt stay cached.
    pub(crate) fn cancel(&mut self, call: u64) {
        self.end_call(call, true);
    }

    fn end_call(&mut self, call: u64, trusted: bool) {
        self.waiting.retain(|waiting| waiting.call() != call);
        self.paused.retain(|lane| lane.call != call);
        // The next work may be another one now, which needs fewer pages.
        self.full_at = None;
        for lane in self.lanes.extract_if(.., |lane| lane.call == call) {
            lane.end(trusted, &mut self.cache);
        }
    }

    /// Computes one step: a token of every answer, and up to a chunk of prompts, oldest first.
    pub(crate) fn step(&mut self, out: &mut Vec<FromEngine>) {
        let mut parts = self.plan();
        self.make_room(&mut parts, out);
        if parts.is_empty() {
            return;
        }
        self.take_baton(&parts);
        let begun = (Instant::now(), self.waited());
        let runs: PerLane<Run<'_>> = parts
            .iter()
            .map(|part| {
                let lane = &self.lanes[part.lane];
                let tokens = &lane.waiting()[..part.next.tokens];
                Run { sequence: &lane.sequence, tokens, wanted: part.next.wanted }
            })
            .collect();
        let network = &mut self.model.network;
        self.cache.copies().for_each(|copy| network.copy_page(copy));
        network.step(&runs, &mut self.work);
        drop(runs);
        self.count(&parts);
        let took = begun.0.elapsed().saturating_sub(self.waited() - begun.1);
        let taken: usize = parts.iter().map(|part| part.next.tokens).sum();
        self.prompt_speed.note(u32::try_from(taken).unwrap_or(u32::MAX), took);
        for part in &parts {
            let lane = &mut self.lanes[part.lane];
            lane.advance(part.next.tokens, &mut self.cache);
            if lane.takes_logits() && !lane.waiting().is_empty() {
                let done = u32::try_from(lane.sequence.length()).unwrap_or(u32::MAX);
                out.push(FromEngine::Intake { call: lane.call, done });
            }
        }
        let outcomes = self.deliver(&parts, out);
        self.settle(&parts, outcomes, out);
    }

    /// Shares the processor with other processes from now on.
    pub(crate) fn share(&mut self, baton: Baton) {
        self.work.baton = Some(baton);
    }

    /// Waits for the baton, if other processes compute too.
    fn take_baton(&self, parts: &[Part]) {
        let Some(baton) = &self.work.baton else {
            return;
        };
        let answers = |part: &Part| match &self.lanes[part.lane].job {
            Job::Answer(job) => job.is_answering(),
            Job::Embed(_) => false,
        };
        let work = if parts.iter().any(answers) { Work::Answers } else { Work::Prompts };
        baton.take(work);
    }

    /// Time that the process has waited for the baton.
    fn waited(&self) -> Duration {
        self.work.baton.as_ref().map_or(Duration::ZERO, Baton::waited)
    }

    /// Counts a step that has been computed, before its lanes are updated.
    fn count(&mut self, parts: &[Part]) {
        self.done.steps += 1;
        for part in parts {
            let Job::Answer(job) = &self.lanes[part.lane].job else {
                self.done.prompt_tokens += part.next.tokens as u64;
                continue;
            };
            if !job.is_answering() {
                self.done.prompt_tokens += part.next.tokens as u64;
            }
            let ends = part.next.tokens == self.lanes[part.lane].waiting().len();
            self.done.answer_tokens += u64::from(ends);
        }
    }

    /// State of lanes and pages.
    pub(crate) fn standing(&self) -> EngineStanding {
        let pages = self.cache.count();
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        EngineStanding {
            lanes: count(self.lanes.len()),
            paused: count(self.paused.len()),
            pages: count(pages.all),
            pages_used: count(pages.used),
            pages_cached: count(pages.known),
            steps: self.done.steps,
            prompt_tokens: self.done.prompt_tokens,
            answer_tokens: self.done.answer_tokens,
        }
    }

    /// Number of prompt tokens of the next step: fewer if others wait for its end.
    fn chunk(&self) -> usize {
        let is_wanted = self.work.baton.as_ref().is_some_and(Baton::is_wanted);
        let answers = self.lanes.iter().any(Lane::is_at_its_end);
        self.prompt_speed.tokens(self.settings.chunk, is_wanted || answers) as usize
    }

    /// Notes that there is no work for now.
    pub(crate) fn rest(&self) {
        if let Some(baton) = &self.work.baton {
            baton.release();
        }
    }

    /// What each lane computes in this step.
    fn plan(&self) -> PerLane<Part> {
        // An encoder processes whole inputs.
        let whole = self.model.shape().encoder;
        let mut room = if whole { self.context() } else { self.chunk() };
        let mut parts = PerLane::new();
        let mut row = 0;
        for (at, lane) in self.lanes.iter().enumerate() {
            let has_room = lane.is_at_its_end() && !whole;
            let next = lane.next(if has_room { 1 } else { room });
            if next.tokens == 0 || whole && next.tokens < lane.waiting().len() {
                continue;
            }
            if !has_room {
                room -= next.tokens;
            }
            parts.push(Part { lane: at, next, row });
            row += next.rows();
        }
        parts
    }

    /// Gives logits and states to their lanes.
    fn deliver(
        &mut self,
        parts: &[Part],
        out: &mut Vec<FromEngine>,
    ) -> PerLane<Result<Outcome, CallError>> {
        let mut outcomes: PerLane<_> = parts.iter().map(|_| Ok(Outcome::GoesOn)).collect();
        let width = self.model.shape().width as usize;
        // Rows of all answers, each with its part and position.
        let mut rows: PerLane<turns::Row> = PerLane::new();
        for (at, part) in parts.iter().enumerate() {
            let lane = &mut self.lanes[part.lane];
            let end = lane.sequence.length();
            let count = part.next.rows();
            if lane.takes_logits() {
                rows.extend((0..count).map(|row| (part.row + row, at, end - count + row)));
            } else if let Job::Embed(job) = &mut lane.job {
                let states = &self.work.wanted[part.row * width..(part.row + count) * width];
                let network = &*self.model.network;
                outcomes[at] = job.take(states, network, &mut lane.sequence, &mut self.cache, out);
            }
        }
        let vocabulary = self.model.shape().vocabulary as usize;
        for batch in consecutive(&rows, self.settings.lanes as usize) {
            let first = batch[0].0;
            self.model.network.logits(first..first + batch.len(), &mut self.work);
            let mut turns = turns::turns(&mut self.lanes, parts, batch, &outcomes);
            let (words, logits) = (&*self.model.words, &self.work.logits[..]);
            let team = self.model.network.host().team();
            team.rows(&mut turns, 1, turns::grain(vocabulary), |_, turn| {
                turn[0].take(words, logits, vocabulary, first);
            });
            for mut turn in turns {
                out.append(&mut turn.out);
                outcomes[turn.part] = turn.outcome;
            }
        }
        outcomes
    }

    /// Frees the lanes whose work is done or has failed.
    fn settle(
        &mut self,
        parts: &[Part],
        outcomes: PerLane<Result<Outcome, CallError>>,
        out: &mut Vec<FromEngine>,
    ) {
        let context = self.context();
        let mut ended = Vec::new();
        let mut broken = Vec::new();
        for (part, outcome) in parts.iter().zip(outcomes) {
            let lane = &mut self.lanes[part.lane];
            let outcome = match (outcome, &mut lane.job) {
                (Ok(Outcome::GoesOn), Job::Answer(job)) => {
                    job.keep_within(&self.model, context, &mut lane.sequence, &mut self.cache, out)
                }
                (other, _) => other,
            };
            match outcome {
                Ok(Outcome::GoesOn) => {}
                Ok(Outcome::Done) => ended.push(part.lane),
                Err(error) => {
                    out.push(failed(lane.call, &error));
                    broken.push(lane.call);
                }
            }
        }
        for at in ended.into_iter().rev() {
            self.lanes.remove(at).end(true, &mut self.cache);
        }
        for call in broken {
            self.end_call(call, false);
        }
    }
}

/// Divides rows into ranges of at most `most` neighbours.
fn consecutive<T>(
    rows: &[(usize, T, usize)],
    most: usize,
) -> impl Iterator<Item = &[(usize, T, usize)]> {
    rows.chunk_by(|a, b| a.0 + 1 == b.0).flat_map(move |stretch| stretch.chunks(most))
}

#[cfg(test)]
mod tests;
