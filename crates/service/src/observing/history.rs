//! History: series of measurements, stored in the records with three step lengths.
//!
//! Rates are taken by a clock that never jumps; the time of day only says where a sample is kept. Where it
//! jumps, a stretch is empty or counted twice, and nothing else.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use deft_protocol::manage::{InstanceReport, MachineReport, Pool, Span};
use sqlx::PgPool;
use tokio::sync::watch;
use uuid::Uuid;

use crate::fleet::Fleet;
use crate::records::{calls, history};

/// Seconds between two samples: the shortest step.
const EVERY: Duration = Duration::from_secs(Span::Hour.step_seconds() as u64);
/// Most samples in memory while the database is unavailable; then the oldest are dropped.
const BUFFERED: usize = 360;
/// So many samples from one removal of old rows to the next.
const CLEAN_EVERY: u32 = 30;

/// The measurements of a moment.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Sample {
    pub(crate) at: DateTime<Utc>,
    pub(crate) values: BTreeMap<String, f64>,
}

/// Tokens counted so far, by instance.
#[derive(Default)]
struct Counted {
    when: Option<Instant>,
    tokens: HashMap<Uuid, (u64, u64)>,
}

/// Samples until it is aborted.
pub(crate) async fn keep(
    database: PgPool,
    node: Uuid,
    fleet: Fleet,
    machine: watch::Receiver<MachineReport>,
    calls_kept: u32,
) {
    let mut counted = Counted::default();
    let mut waiting: VecDeque<Sample> = VecDeque::new();
    let mut clock = tokio::time::interval(EVERY);
    clock.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    for number in 0_u32.. {
        clock.tick().await;
        let report = fleet.reports().borrow().clone();
        let mut values = standing(&report.pools, &report.instances, &machine.borrow());
        values.extend(counted.rates(&report.instances, Instant::now()));
        waiting.push_back(Sample { at: Utc::now(), values });
        if waiting.len() > BUFFERED {
            waiting.pop_front();
        }
        while let Some(sample) = waiting.front() {
            if let Err(error) = history::store(&database, node, sample).await {
                tracing::debug!(
                    "the database does not answer, so samples of the history are written later: \
                 {error}"
                );
                break;
            }
            waiting.pop_front();
        }
        if number % CLEAN_EVERY == 0 {
            // What could not be removed is removed next time.
            let _ = history::forget_old(&database, node, Utc::now()).await;
            let _ = calls::forget_old(&database, node, calls_kept).await;
        }
    }
}

#[expect(clippy::cast_precision_loss, reason = "points of a chart")]
fn standing(
    pools: &[Pool],
    instances: &[InstanceReport],
    machine: &MachineReport,
) -> BTreeMap<String, f64> {
    let mut values = BTreeMap::new();
    for pool in pools {
        let figures =
            [("granted", pool.reserved), ("measured", pool.measured), ("limit", pool.limit)];
        for (what, bytes) in figures {
            values.insert(format!("pool:{}:{what}", pool.name), bytes as f64);
        }
    }
    let calls: u32 = instances.iter().map(|instance| instance.calls).sum();
    let works = instances.iter().filter_map(|instance| instance.work.as_ref());
    let lanes: u32 = works.map(|work| work.lanes_busy).sum();
    // Each instance of a variant reports the queue that all of them share.
    let queues: HashMap<&str, u32> =
        instances.iter().map(|instance| (&instance.name[..], instance.queued)).collect();
    values.insert("calls".to_owned(), calls.into());
    values.insert("queued".to_owned(), queues.values().sum::<u32>().into());
    values.insert("lanes".to_owned(), lanes.into());
    values.insert("busy".to_owned(), machine.busy);
    if let Some(degrees) = machine.temperature {
        values.insert("temperature".to_owned(), degrees);
    }
    values
}

impl Counted {
    /// Tokens per second since the last look; none at the first.
    #[expect(clippy::cast_precision_loss, reason = "points of a chart")]
    fn rates(&mut self, instances: &[InstanceReport], now: Instant) -> Vec<(String, f64)> {
        let of = |instance: &InstanceReport| {
            let work = instance.work.as_ref()?;
            Some((instance.id, (work.prompt_tokens, work.answer_tokens)))
        };
        let tokens: HashMap<Uuid, (u64, u64)> = instances.iter().filter_map(of).collect();
        let before = std::mem::replace(&mut self.tokens, tokens);
        let Some(seconds) = self.when.replace(now).map(|then| (now - then).as_secs_f64()) else {
            return Vec::new();
        };
        // A process that is new counts from nothing.
        let grown = |pick: fn(&(u64, u64)) -> u64| -> u64 {
            self.tokens
                .iter()
                .map(|(id, now)| {
                    let then = before.get(id).map_or(0, pick);
                    pick(now).checked_sub(then).unwrap_or(pick(now))
                })
                .sum()
        };
        let rate = |tokens: u64| if seconds > 0.0 { tokens as f64 / seconds } else { 0.0 };
        vec![
            ("prompt_rate".to_owned(), rate(grown(|counts| counts.0))),
            ("answer_rate".to_owned(), rate(grown(|counts| counts.1))),
        ]
    }
}

/// When the step began in which a time falls.
pub(crate) fn step(at: DateTime<Utc>, step_seconds: u32) -> DateTime<Utc> {
    let seconds = at.timestamp().div_euclid(step_seconds.into()) * i64::from(step_seconds);
    DateTime::from_timestamp(seconds, 0).unwrap_or(at)
}

#[cfg(test)]
mod tests {
    use deft_protocol::manage::{InstanceState, InstanceWork, Origin, Settings};
    use serde_json::json;

    use super::*;

    fn instance(id: u128, prompt_tokens: u64, answer_tokens: u64) -> InstanceReport {
        let settings = json!({"context": 64, "lanes": 2, "chunk": 128, "cache": "f16"});
        let settings: Settings = serde_json::from_value(settings).unwrap();
        InstanceReport {
            id: Uuid::from_u128(id),
            name: "larkfen-desk/q8_0".to_owned(),
            number: 1,
            state: InstanceState::Ready,
            origin: Origin::Requested,
            settings,
            held: Vec::new(),
            planned: Vec::new(),
            reserved_bytes: 0,
            measured_bytes: None,
            pid: None,
            calls: 2,
            queued: 3,
            work: Some(InstanceWork {
                prompt_tokens,
                answer_tokens,
                lanes_busy: 1,
                ..InstanceWork::default()
            }),
            prompt_tokens: 0,
            cached_tokens: 0,
            answer_tokens: 0,
            load_seconds: None,
            load_share: None,
            kernels: None,
            down_since: None,
            crashes: 0,
            note: None,
            problem: None,
        }
    }

    #[test]
    fn rates_are_what_was_counted_between_two_looks() {
        let (mut counted, start) = (Counted::default(), Instant::now());
        let later = |seconds| start + Duration::from_secs(seconds);
        assert!(counted.rates(&[instance(1, 500, 900)], start).is_empty());
        let rates = counted.rates(&[instance(1, 700, 950)], later(10));
        assert_eq!(rates[0], ("prompt_rate".to_owned(), 20.0));
        assert_eq!(rates[1], ("answer_rate".to_owned(), 5.0));
        // Another process of the same instance, and one more instance.
        let rates = counted.rates(&[instance(1, 30, 0), instance(2, 70, 40)], later(20));
        assert_eq!((rates[0].1, rates[1].1), (10.0, 4.0));
    }

    #[test]
    fn copies_share_one_queue_and_add_up_otherwise() {
        let values =
            standing(&[], &[instance(1, 0, 0), instance(2, 0, 0)], &MachineReport::default());
        assert_eq!((values["calls"], values["queued"], values["lanes"]), (4.0, 3.0, 2.0));
        assert!(!values.contains_key("temperature"), "there was no report");
    }

    #[test]
    fn a_clock_that_jumps_moves_where_a_sample_is_kept_and_nothing_else() {
        let noon: DateTime<Utc> = "2026-05-01T12:00:07Z".parse().unwrap();
        assert_eq!(step(noon, 10).to_rfc3339(), "2026-05-01T12:00:00+00:00");
        assert_eq!(
            step(noon - chrono::TimeDelta::days(700), 900),
            step(noon, 900) - chrono::TimeDelta::days(700)
        );
        assert_eq!(step(DateTime::from_timestamp(-7, 0).unwrap(), 10).timestamp(), -10);
    }
}
