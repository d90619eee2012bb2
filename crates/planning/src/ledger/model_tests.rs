//! Comparison of the ledger with a simple model of a service: loads, unloads, crashes, restarts and changes of limits in any
//! order, on a simulated clock.

use std::collections::BTreeMap;
use std::time::Duration;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use super::*;
use crate::HOST;
use crate::fixture::demo_shape;
use crate::{Share, Unused, least_valuable_first};

/// Number of random operations.
const OPERATIONS: usize = 100_000;
/// Number of operations of a sequence.
const STORY: usize = 1_000;

#[derive(Debug, Clone)]
enum Operation {
    Load(Request),
    /// A call for a model that is not loaded: the least valuable instances are unloaded.
    Call(Request),
    Unload(u32),
    /// After a crash, memory stays reserved, because the instance is loaded again.
    Crash(u32),
    SetAside(u32),
    /// A call begins or ends.
    Busy(u32, bool),
    /// All processes have ended; instances are loaded again in the order of importance.
    Restart,
    Limit(usize, u64),
    Time(u64),
}

#[derive(Debug, Clone)]
struct Request {
    id: u32,
    /// Three files of different sizes.
    file: u8,
    lanes: u32,
    places: Vec<RequestedPlace>,
    pinned: bool,
    importance: i32,
}

#[derive(Debug, Clone)]
struct Loaded {
    request: Request,
    demand: Demand,
    busy: bool,
    since: u64,
}

/// The expected state, in the simplest form.
struct House {
    ledger: Ledger<u32>,
    loaded: BTreeMap<u32, Loaded>,
    limits: [u64; 3],
    clock: u64,
}

const POOLS: [&str; 3] = [HOST, "fern", "moss"];

fn shape_of(file: u8) -> ModelShape {
    let layer = Bytes::mib(u64::from(file) + 1);
    let file = Bytes(layer.0 * 5 + (2 << 20));
    ModelShape { file, layer_weights: vec![layer; 5], ..demo_shape() }
}

impl Request {
    /// Sends a request to the ledger.
    fn wanted<T>(&self, ask: impl FnOnce(Candidate<'_>) -> T) -> T {
        let (name, shape) = (format!("larkfen-{}/q8_0", self.file), shape_of(self.file));
        let settings = LoadSettings { lanes: self.lanes, ..LoadSettings::for_model(&shape) };
        let (shape, settings, places) = (&shape, &settings, &self.places);
        ask(Candidate { name: &name, file: &name, shape, settings, places })
    }
}

impl House {
    fn new() -> Self {
        let limits = [60, 12, 24].map(|mib| mib << 20);
        let pools = [0, 1, 2].map(|at: usize| Pool {
            name: POOLS[at].to_owned(),
            limit: Bytes(limits[at]),
            size: Bytes::mib(90),
        });
        let ledger = Ledger::new(pools.to_vec(), Some(9));
        Self { ledger, loaded: BTreeMap::new(), limits, clock: 0 }
    }

    /// Grants or refuses a load; a grant must keep each of its pools within the limit.
    fn load(&mut self, request: &Request) -> bool {
        let before = self.reserved();
        let ledger = &mut self.ledger;
        let result = request.wanted(|wanted| ledger.reserve(request.id, wanted, &BTreeSet::new()));
        let Ok(grant) = result else {
            assert_eq!(self.reserved(), before, "a refusal reserves nothing");
            return false;
        };
        let loaded = Loaded {
            request: request.clone(),
            demand: grant.demand,
            busy: false,
            since: self.clock,
        };
        self.loaded.insert(request.id, loaded);
        for ((after, before), limit) in self.reserved().into_iter().zip(before).zip(self.limits) {
            assert!(after == before || after <= limit, "{after} of {limit} after a grant");
        }
        assert!(self.loaded.len() <= 9);
        true
    }

    fn call(&mut self, request: &Request) {
        let unused: Vec<Unused<u32>> = self
            .loaded
            .values()
            .filter(|found| !found.busy && !found.request.pinned)
            .map(|found| Unused {
                id: found.request.id,
                importance: found.request.importance,
                idle: Duration::from_secs(self.clock - found.since),
                frees: found.demand.total(),
                reload: Duration::from_millis(200),
            })
            .collect();
        let order = least_valuable_first(unused);
        let Some(gone) = request.wanted(|wanted| self.ledger.evictions(wanted, &order)) else {
            return;
        };
        for id in &gone {
            let went = &self.loaded[id];
            assert!(!went.busy && !went.request.pinned, "a pinned or busy one was to go");
        }
        gone.iter().for_each(|id| self.unload(*id));
        assert!(self.load(request), "room was made, and it does not fit");
    }

    fn unload(&mut self, id: u32) {
        self.ledger.release(id);
        self.loaded.remove(&id);
    }

    fn restart(&mut self) {
        let mut requests: Vec<Request> =
            self.loaded.values().map(|found| found.request.clone()).collect();
        requests.sort_by_key(|request| std::cmp::Reverse(request.importance));
        requests.iter().for_each(|request| self.unload(request.id));
        assert_eq!(self.reserved(), [0; 3], "nothing is left of what was unloaded");
        for request in requests {
            self.load(&request);
        }
    }

    fn take(&mut self, operation: &Operation) {
        match operation {
            Operation::Load(request) if !self.loaded.contains_key(&request.id) => {
                self.load(request);
            }
            Operation::Call(request) if !self.loaded.contains_key(&request.id) => {
                self.call(request)
            }
            Operation::Load(_) | Operation::Call(_) => {}
            Operation::Unload(id) | Operation::SetAside(id) => self.unload(*id),
            Operation::Crash(id) => {
                if let Some(found) = self.loaded.get_mut(id) {
                    (found.busy, found.since) = (false, self.clock);
                }
            }
            Operation::Busy(id, busy) => {
                if let Some(found) = self.loaded.get_mut(id) {
                    (found.busy, found.since) = (*busy, self.clock);
                }
            }
            Operation::Restart => self.restart(),
            Operation::Limit(pool, mib) => {
                self.limits[*pool] = mib << 20;
                self.ledger.set_limit(POOLS[*pool], Bytes(mib << 20)).unwrap();
            }
            Operation::Time(seconds) => self.clock += seconds,
        }
    }

    fn reserved(&self) -> [u64; 3] {
        let reports = self.ledger.reports();
        [0, 1, 2].map(|at: usize| reports[at].reserved.0)
    }

    /// The sum of all loaded instances, with the weights in host memory once for each file.
    fn held(&self) -> [u64; 3] {
        let mut held = [0; 3];
        let mut shared = [0; 6];
        for found in self.loaded.values() {
            let file = &mut shared[usize::from(found.request.file)];
            *file = (*file).max(found.demand.amount(HOST).shared.0);
            for (held, pool) in held.iter_mut().zip(POOLS) {
                *held += found.demand.amount(pool).private.0;
            }
        }
        held[0] += shared.iter().sum::<u64>();
        held
    }
}

fn places() -> impl Strategy<Value = Vec<RequestedPlace>> + Clone {
    let share = prop_oneof![
        Just(Share::Rest),
        (1u32..4).prop_map(Share::Layers),
        (1u32..60).prop_map(Share::Percent),
    ];
    let place = |pool: &'static str| {
        let requested = move |share| RequestedPlace { pool: pool.to_owned(), share };
        share.clone().prop_map(requested).boxed()
    };
    let rest = RequestedPlace { pool: HOST.to_owned(), share: Share::Rest };
    prop_oneof![
        3 => Just(Vec::new()),
        1 => place("fern").prop_map(|fern| vec![fern]),
        1 => place("moss").prop_map(move |moss| vec![moss, rest.clone()]),
        1 => (place("fern"), place("moss")).prop_map(|(fern, moss)| vec![fern, moss]),
    ]
    .boxed()
}

fn operation() -> impl Strategy<Value = Operation> {
    let id = 0u32..14;
    let request = (id.clone(), 0u8..6, 1u32..6, places(), prop::bool::weighted(0.2), -1i32..2)
        .prop_map(|(id, file, lanes, places, pinned, importance)| Request {
            id,
            file,
            lanes,
            places,
            pinned,
            importance,
        })
        .boxed();
    prop_oneof![
        6 => request.clone().prop_map(Operation::Load),
        4 => request.prop_map(Operation::Call),
        4 => id.clone().prop_map(Operation::Unload),
        1 => id.clone().prop_map(Operation::Crash),
        1 => id.clone().prop_map(Operation::SetAside),
        3 => (id, any::<bool>()).prop_map(|(id, busy)| Operation::Busy(id, busy)),
        1 => (0usize..3, 1u64..90).prop_map(|(pool, mib)| Operation::Limit(pool, mib)),
        2 => (0u64..500).prop_map(Operation::Time),
        1 => Just(Operation::Restart),
    ]
}

#[test]
fn no_order_of_events_raises_a_pool_above_its_limit() {
    let cases = u32::try_from(OPERATIONS / STORY).unwrap();
    let mut runner = TestRunner::new(Config { cases, ..Config::default() });
    let stories = prop::collection::vec(operation(), STORY);
    runner
        .run(&stories, |story| {
            let mut house = House::new();
            for operation in &story {
                house.take(operation);
                prop_assert_eq!(house.reserved(), house.held(), "after {:?}", operation);
            }
            Ok(())
        })
        .unwrap();
}
