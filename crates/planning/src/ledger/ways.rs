//! The changes that would make a refused load fit, the cheapest first.

use std::collections::BTreeSet;

use super::{Candidate, Ledger};
use crate::refusal::{Shortage, WayOut};
use crate::{Bytes, CacheType, HOST, LoadSettings, RequestedPlace, Share};

/// Suggested contexts are multiples of this.
const CONTEXT_STEP: u32 = 64;
/// The shortest suggested context, in steps.
const LEAST_STEPS: u32 = 4;

impl<Id: Ord + Copy> Ledger<Id> {
    pub(super) fn ways_out(
        &self,
        wanted: Candidate<'_>,
        shortage: &Shortage,
        pool: usize,
        idle: &BTreeSet<Id>,
    ) -> Vec<WayOut> {
        let mut ways = self.other_settings(wanted);
        ways.extend(self.other_places(wanted));
        ways.extend(self.unloading(wanted, pool, idle));
        if let (true, Shortage::Memory { pool: name, need, .. }) = (ways.is_empty(), shortage) {
            let to = self.reserved(pool) + *need;
            if to <= self.pools[pool].size {
                ways.push(WayOut::RaiseLimit { pool: name.clone(), to });
            }
        }
        ways
    }

    /// Settings with which the load fits: with one change, or with several if one is not enough.
    fn other_settings(&self, wanted: Candidate<'_>) -> Vec<WayOut> {
        let Candidate { shape, settings, .. } = wanted;
        let way = |settings: LoadSettings| {
            let settings = settings.within();
            let grant = self.fits(Candidate { settings: &settings, ..wanted })?;
            Some(WayOut::Settings { settings, need: grant.demand.total() })
        };
        let narrow = LoadSettings { keys: CacheType::Q8_0, values: CacheType::Q8_0, ..*settings };
        let narrow =
            Some(narrow).filter(|narrow| narrow != settings && narrow.check(shape).is_ok());
        let mut ways = Vec::new();
        ways.extend(narrow.and_then(way));
        ways.extend(self.largest_context(wanted, settings).and_then(way));
        let lanes = (1..settings.lanes).rev().map(|lanes| LoadSettings { lanes, ..*settings });
        ways.extend(lanes.into_iter().find_map(way));
        if ways.is_empty() {
            let least = LoadSettings { lanes: 1, ..narrow.unwrap_or(*settings) };
            let shorter = || self.largest_context(wanted, &least).and_then(way);
            ways.extend(way(least).or_else(shorter));
        }
        ways
    }

    /// The settings with the largest useful context that fits.
    fn largest_context(
        &self,
        wanted: Candidate<'_>,
        settings: &LoadSettings,
    ) -> Option<LoadSettings> {
        let with = |steps: u32| LoadSettings { context: steps * CONTEXT_STEP, ..*settings };
        let fits = |steps: u32| self.fits(Candidate { settings: &with(steps), ..wanted }).is_some();
        let mut most = settings.context.div_ceil(CONTEXT_STEP);
        let mut least = LEAST_STEPS;
        if least >= most || !fits(least) {
            return None;
        }
        // A shorter context never needs more memory.
        while least + 1 < most {
            let middle = least.midpoint(most);
            if fits(middle) { least = middle } else { most = middle }
        }
        Some(with(least))
    }

    /// Other places of the layers: host memory alone, or one accelerator with as many as fit there.
    fn other_places(&self, wanted: Candidate<'_>) -> Vec<WayOut> {
        let open = |pool: &str| RequestedPlace { pool: pool.to_owned(), share: Share::Rest };
        let accelerators = self.pools.iter().skip(1);
        let requests = accelerators
            .map(|pool| vec![open(&pool.name), open(HOST)])
            .chain((!wanted.places.is_empty()).then(|| vec![open(HOST)]));
        let mut ways: Vec<WayOut> = Vec::new();
        for request in requests {
            let Some(grant) = self.fits(Candidate { places: &request, ..wanted }) else {
                continue;
            };
            let way = WayOut::Places { places: grant.placement, need: grant.demand.total() };
            if !ways.contains(&way) {
                ways.push(way);
            }
        }
        ways
    }

    /// Idle instances whose unloading makes room: each one that is enough alone, or the fewest that are enough together.
    fn unloading(&self, wanted: Candidate<'_>, pool: usize, idle: &BTreeSet<Id>) -> Vec<WayOut> {
        let reserved = self.reserved(pool);
        let without = |ids: &[Id]| {
            let after = self.without(ids);
            after.fits(wanted)?;
            let holds = ids.iter().filter_map(|id| self.holds.get(id));
            let names = holds.map(|hold| hold.name.clone()).collect();
            let frees = reserved.saturating_sub(after.reserved(pool));
            Some(WayOut::Unload { names, frees })
        };
        let size = |id: &Id| -> Bytes {
            let amount = self.holds[id].amounts[pool];
            amount.private + amount.shared
        };
        let mut ids: Vec<Id> =
            idle.iter().copied().filter(|id| self.holds.contains_key(id)).collect();
        ids.sort_by_key(|id| std::cmp::Reverse(size(id)));
        let alone: Vec<WayOut> = ids.iter().filter_map(|&id| without(&[id])).collect();
        if !alone.is_empty() {
            return alone;
        }
        (2..=ids.len()).find_map(|count| without(&ids[..count])).into_iter().collect()
    }
}
