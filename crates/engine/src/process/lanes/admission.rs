//! Admission: which calls get a lane and pages, and which wait.
//!
//! A lane begins only if there are pages for its prompt and the beginning of its answer; then it grows page by page. When
//! pages run out, the youngest lane is paused: it gives its pages back, and begins again with the same tokens when there
//! is room, before any new lane. The oldest lane is never paused, and the context of one lane always fits, so every lane
//! that begins also ends.

use std::sync::Arc;

use deft_protocol::engine::FromEngine;

use super::{Lanes, Part, PerLane};
use crate::lane::{Embedding, Job, Lane, Prepared, tracing};
use crate::process::preparing::Ticket;

/// Number of answer tokens that must have room before an answer begins: two pages.
const FIRST_STRETCH: usize = 64;

/// Work that waits for a lane.
pub(super) enum Waiting {
    /// A call whose prompt is being tokenised.
    Preparing(Ticket),
    Call(Box<Prepared>),
    /// One answer of a call. Further answers begin when the prompt is cached.
    Answer(Arc<Prepared>, u32),
    Embed(u64, Embedding),
    /// Inputs in tokens, with their call.
    Inputs(u64, Embedding),
}

impl Waiting {
    pub(super) fn call(&self) -> u64 {
        match self {
            Self::Preparing(ticket) => ticket.call,
            Self::Call(prepared) => prepared.order.call,
            Self::Answer(prepared, _) => prepared.order.call,
            Self::Embed(call, _) | Self::Inputs(call, _) => *call,
        }
    }
}

impl Lanes {
    /// Gives free lanes to waiting work: first to paused lanes, then in order of arrival.
    pub(crate) fn admit(&mut self, out: &mut Vec<FromEngine>) {
        while self.lanes.len() < self.settings.lanes as usize {
            let used = self.cache.count().used;
            if self.full_at.is_some_and(|full| used >= full) {
                return;
            }
            self.full_at = None;
            let begun = if self.paused.is_empty() { self.begin_next(out) } else { self.resume() };
            if !begun {
                return;
            }
        }
    }

    /// Begins the oldest waiting work, if possible. Returns whether there may be more to begin.
    fn begin_next(&mut self, out: &mut Vec<FromEngine>) -> bool {
        let Some(at) = self.waiting.iter().position(|waiting| self.can_begin(waiting)) else {
            return false;
        };
        let waiting = self.waiting.remove(at).expect("found just now");
        match self.begin(waiting, at, out) {
            None => true,
            // There are no pages for it. Others must not overtake it, or it could wait for ever.
            Some(waiting) => {
                self.waiting.insert(at, waiting);
                self.full_at = Some(self.cache.count().used);
                false
            }
        }
    }

    fn can_begin(&self, waiting: &Waiting) -> bool {
        let prepared = match waiting {
            Waiting::Preparing(_) => return false,
            Waiting::Call(_) | Waiting::Embed(..) | Waiting::Inputs(..) => return true,
            Waiting::Answer(prepared, _) => prepared,
        };
        let call = prepared.order.call;
        !self.lanes.iter().any(|lane| {
            lane.call == call && matches!(&lane.job, Job::Answer(job) if !job.is_answering())
        })
    }

    /// Begins work that waited at this index. Returns it if there are no pages for it.
    fn begin(&mut self, waiting: Waiting, at: usize, out: &mut Vec<FromEngine>) -> Option<Waiting> {
        match waiting {
            // It cannot begin yet.
            Waiting::Preparing(_) => Some(waiting),
            Waiting::Call(prepared) => {
                let (call, prepared) = (prepared.order.call, Arc::new(*prepared));
                let prompt_tokens = u32::try_from(prepared.prompt.len()).unwrap_or(u32::MAX);
                out.push(FromEngine::PromptTaken { call, prompt_tokens });
                if prepared.order.traced {
                    out.push(tracing::prompt(&self.model.words, &prepared));
                }
                for answer in (0..prepared.order.answers).rev() {
                    self.waiting.insert(at, Waiting::Answer(Arc::clone(&prepared), answer));
                }
                None
            }
            Waiting::Answer(prepared, answer) => self.begin_answer(prepared, answer, out),
            Waiting::Embed(call, embedding) => {
                let prompt_tokens = embedding.token_count();
                out.push(FromEngine::PromptTaken { call, prompt_tokens });
                self.waiting.insert(at, Waiting::Inputs(call, embedding));
                None
            }
            Waiting::Inputs(call, embedding) => self.begin_inputs(call, embedding),
        }
    }

    fn begin_answer(
        &mut self,
        prepared: Arc<Prepared>,
        answer: u32,
        out: &mut Vec<FromEngine>,
    ) -> Option<Waiting> {
        let again = Arc::clone(&prepared);
        let mut lane = Lane::answer(&self.model, prepared, answer, &mut self.cache);
        if let Job::Answer(job) = &mut lane.job
            && job.needs_nothing()
        {
            job.end_at_once(&self.model, out);
            lane.end(true, &mut self.cache);
            return None;
        }
        let lane = self.seat(lane)?;
        lane.end(true, &mut self.cache);
        Some(Waiting::Answer(again, answer))
    }

    fn begin_inputs(&mut self, call: u64, embedding: Embedding) -> Option<Waiting> {
        let lane = Lane::embed(call, embedding, &mut self.cache);
        let mut lane = self.seat(lane)?;
        lane.leave_pages(&mut self.cache);
        match lane.job {
            Job::Embed(embedding) => Some(Waiting::Inputs(call, embedding)),
            Job::Answer(_) => None,
        }
    }

    /// Adds a lane, if there are pages for its tokens and the beginning of its answer; otherwise returns it.
    fn seat(&mut self, mut lane: Lane) -> Option<Lane> {
        let most = self.context() - lane.sequence.length();
        let tokens = (lane.waiting().len() + lane.grows_by().min(FIRST_STRETCH)).min(most);
        if !self.cache.reserve(&mut lane.sequence, tokens) {
            return Some(lane);
        }
        if lane.began == 0 {
            self.begun += 1;
            lane.began = self.begun;
        }
        // Lanes are in the order in which they began.
        let at = self.lanes.partition_point(|other| other.began < lane.began);
        self.lanes.insert(at, lane);
        None
    }

    /// Continues the oldest paused lane, if there are pages for it.
    fn resume(&mut self) -> bool {
        let mut lane = self.paused.remove(0);
        lane.take_up(&mut self.cache);
        let Some(mut lane) = self.seat(lane) else {
            return true;
        };
        lane.leave_pages(&mut self.cache);
        self.paused.insert(0, lane);
        self.full_at = Some(self.cache.count().used);
        false
    }

    /// Finds pages for all parts of a step. If there are too few, pauses the youngest lanes.
    pub(super) fn make_room(&mut self, parts: &mut PerLane<Part>, out: &mut Vec<FromEngine>) {
        let mut at = 0;
        while let Some(part) = parts.get(at) {
            let sequence = &mut self.lanes[part.lane].sequence;
            if self.cache.reserve(sequence, part.next.tokens) {
                at += 1;
                continue;
            }
            let Some(mut youngest) = self.lanes.pop() else { return };
            youngest.leave_pages(&mut self.cache);
            out.push(FromEngine::Paused { call: youngest.call });
            let among = self.paused.partition_point(|other| other.began < youngest.began);
            self.paused.insert(among, youngest);
            // The youngest lane's part is the last one, if it has one.
            parts.retain(|part| part.lane < self.lanes.len());
        }
    }
}
