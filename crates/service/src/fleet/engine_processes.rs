//! Engine processes of the fleet: their start, their events, and what follows when one ends.

use std::time::Duration;

use deft_protocol::Problem;
use deft_protocol::manage::{InstanceState, Origin};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use super::Ask;
use super::actor::Actor;
use super::decisions::What;
use super::engine_link::{EngineProcess, ProcessEvent};
use super::instance::AfterCrash;
use crate::{loading::refusals, process::descriptors, wire};

/// Pause before a process is started again after the limit of open files was reached.
const FILES_AGAIN: Duration = Duration::from_secs(2);

/// How a process ended, with the usual cause.
fn explained(how: &str) -> String {
    if how.contains("SIGKILL") {
        format!("{how}: killed by a user, or by the system when out of memory")
    } else {
        how.to_owned()
    }
}

impl Actor {
    pub(super) fn start(&self, id: Uuid) {
        let instance = &self.instances[&id];
        let others = self.instances.values().filter(|found| found.id != id && found.holds_memory());
        let places = self.machine.places(&instance.grant, others.map(|found| &found.grant));
        let board = self.board.clone();
        let order = instance.order(places, &self.machine.computing, board.as_ref());
        let asks = self.asks.clone();
        tokio::spawn(async move {
            let (sender, mut events) = mpsc::unbounded_channel();
            let result = EngineProcess::start(order, board, sender).await;
            let started = result.is_ok();
            let _ = asks.send(Ask::Started { id, result }).await;
            while let Some(event) = events.recv().await.filter(|_| started) {
                let _ = asks.send(Ask::Process { id, event }).await;
            }
        });
    }

    pub(super) fn started(&mut self, id: Uuid, result: std::io::Result<EngineProcess>) {
        let Some(instance) = self.instances.get_mut(&id) else {
            // Unloaded before it began.
            result.iter().for_each(EngineProcess::kill);
            return;
        };
        match result {
            Ok(process) if instance.state == InstanceState::Draining => {
                process.kill();
                instance.process = Some(process);
            }
            Ok(process) => instance.process = Some(process),
            Err(error) if descriptors::are_exhausted(&error) => self.no_descriptors(id),
            Err(error) => self.ended(id, &format!("it could not be started: {error}")),
        }
    }

    /// No more files may be open: that is no crash, and passes when connections close.
    pub(super) fn no_descriptors(&mut self, id: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let title = instance.target.title();
        if instance.state == InstanceState::Draining {
            self.remove(id);
            return;
        }
        let why = "no engine process can be started: too many files and connections are open";
        instance.wait_for_files(why);
        self.decisions.note(What::Restart, &title, why);
        self.load_again_after(id, FILES_AGAIN);
    }

    pub(super) fn load_again_after(&self, id: Uuid, pause: Duration) {
        let asks = self.asks.clone();
        tokio::spawn(async move {
            tokio::time::sleep(pause).await;
            let _ = asks.send(Ask::Restart { id }).await;
        });
    }

    pub(super) fn process(&mut self, id: Uuid, event: ProcessEvent) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        match event {
            ProcessEvent::Loading { share } => instance.load_share = Some(share),
            ProcessEvent::Loaded { kernels, seconds, warnings, confined } => {
                if instance.state == InstanceState::Loading {
                    let title = instance.target.title();
                    tracing::info!(
                        "`{title}` is ready after {seconds:.3} s; confined to: {confined}"
                    );
                    instance.become_ready(kernels, seconds, &warnings);
                    if let Some(queue) = self.queues.get_mut(&instance.target.variant) {
                        queue.reload = None;
                    }
                    self.measure();
                }
            }
            ProcessEvent::LoadFailed(problem) => {
                self.decisions.note(What::Refuse, &instance.target.title(), &problem.detail);
                instance.fail(&problem);
                self.ledger.release(id);
            }
            ProcessEvent::Standing(standing) => instance.standing = Some(standing),
            ProcessEvent::Exited { how } => self.ended(id, &how),
        }
    }

    pub(super) fn look_at_baton_times(&mut self) {
        let Some(board) = &self.board else { return };
        for instance in self.instances.values_mut() {
            let baton_times =
                instance.process.as_ref().and_then(|process| board.times(process.pid));
            instance.baton_times = baton_times.unwrap_or_default();
        }
    }

    /// Ends processes that have calls and compute nothing. Whoever waits for its turn is excused: it may
    /// be waiting for one of them.
    pub(super) fn end_the_hung(&mut self) {
        let (hang, board) = (self.hang, self.board.as_ref());
        let mut is_ended = false;
        for instance in self.instances.values_mut() {
            let Some(process) = &instance.process else { continue };
            let waits = board.is_some_and(|board| board.is_waiting(process.pid));
            if process.link.silence() < hang || waits {
                continue;
            }
            is_ended = true;
            let why = format!("it had calls but computed nothing for {} s", hang.as_secs());
            tracing::error!("`{}` hangs: {why}; its process is killed", instance.target.title());
            instance.why_ended = Some(why);
            process.kill();
        }
        if is_ended {
            // The others may have waited for it.
            self.instances
                .values()
                .filter_map(|found| found.process.as_ref())
                .for_each(|process| process.link.excuse());
        }
    }

    /// An engine process ended: asked to, or not.
    pub(super) fn ended(&mut self, id: Uuid, how: &str) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        let title = instance.target.title();
        let how = &instance.why_ended.take().unwrap_or_else(|| explained(how));
        match instance.state {
            InstanceState::Draining => {
                tracing::info!("unloaded `{title}`");
                self.remove(id);
            }
            InstanceState::Failed => {
                instance.process = None;
                instance.measured = None;
                if instance.origin == Origin::OnDemand {
                    self.remove(id);
                }
            }
            _ => match instance.crashed(how) {
                AfterCrash::RestartAfter(pause) => {
                    let why = format!("its engine process ended ({how}); restarting in {pause:?}");
                    self.decisions.note(What::Restart, &title, why);
                    self.load_again_after(id, pause);
                }
                AfterCrash::GiveUp => {
                    let problem = refusals::crashes(how, &wire::command_of(&instance.target));
                    self.decisions.note(What::Fail, &title, &problem.detail);
                    instance.fail(&problem);
                    self.ledger.release(id);
                }
            },
        }
    }

    /// Two processes ended by one call: it is refused, and the instance is not to blame.
    pub(super) fn blame(&mut self, id: Uuid, caller: &str, call: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        instance.forgive(2);
        let title = instance.target.title();
        let why = format!("call {call} of {caller} ended its engine process twice and is refused");
        self.decisions.note(What::Refuse, &title, why);
    }

    pub(super) fn remove(&mut self, id: Uuid) {
        self.ledger.release(id);
        let target = self.instances.get(&id).map(|instance| instance.target.clone());
        let waiting =
            self.instances.get_mut(&id).map(|instance| std::mem::take(&mut instance.waiting));
        let evicted = self.instances.get_mut(&id).is_some_and(|instance| {
            instance.state == InstanceState::Draining && instance.become_evicted()
        });
        let gone = if evicted {
            self.instances.get_mut(&id).map(|instance| std::mem::take(&mut instance.gone))
        } else {
            self.instances.remove(&id).map(|instance| instance.gone)
        };
        gone.into_iter().flatten().for_each(|gone| {
            let _ = gone.send(());
        });
        self.retry_pending();
        // Requests that waited for it wait for its replacement.
        let next = target.and_then(|target| self.same_as(&target).map(|found| found.id));
        if let Some(next) = next.and_then(|id| self.instances.get_mut(&id))
            && next.state == InstanceState::Loading
        {
            next.waiting.extend(waiting.into_iter().flatten());
        }
    }

    pub(super) fn restart(&mut self, id: Uuid) {
        let Some(instance) = self.instances.get_mut(&id) else {
            return;
        };
        if instance.state == InstanceState::Restarting {
            instance.state = InstanceState::Loading;
            self.start(id);
        }
    }

    /// Notified when an instance is ready; none if none is loading.
    pub(super) fn ready(&mut self, id: Uuid) -> Option<oneshot::Receiver<Result<(), Problem>>> {
        let is_replaced =
            self.instances.get(&id).is_some_and(|found| self.is_replaced(&found.target));
        let instance = self.instances.get_mut(&id)?;
        if instance.state == InstanceState::Evicted {
            return None;
        }
        let (answer, ready) = oneshot::channel();
        instance.tell_when_ready(answer, is_replaced);
        Some(ready)
    }
}
