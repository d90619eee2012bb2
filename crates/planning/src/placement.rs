//! Placement: the pools of an instance's layers, and the number of layers in each.

use thiserror::Error;

/// The pool of host memory. Everything but layers is always there.
pub const HOST: &str = "host";

/// The requested number of layers in a pool.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Share {
    /// This many layers.
    Layers(u32),
    /// A percentage of the layers, in whole layers.
    Percent(u32),
    /// As many as fit; in the last pool without a number, all remaining layers.
    Rest,
}

/// A request for layers in a pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestedPlace {
    /// Name of the pool.
    pub pool: String,
    /// Number of layers.
    pub share: Share,
}

/// Layers in a pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Name of the pool.
    pub pool: String,
    /// Number of layers, at least one.
    pub layers: u32,
}

/// The places of all layers of an instance; the first layers are in the first place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Placement(pub Vec<Place>);

/// The error of a request that cannot be fulfilled.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PlacementError {
    /// There is no such pool.
    #[error("no pool `{pool}`; the pools are {}", in_a_row(.known))]
    NoSuchPool {
        /// The requested name.
        pool: String,
        /// The existing names.
        known: Vec<String>,
    },
    /// A pool is requested more than once.
    #[error("pool `{0}` is named twice")]
    Twice(String),
    /// The request has more or fewer layers than the model.
    #[error("{placed} layers are placed, but the model has {layers}")]
    Count {
        /// Layers of the request.
        placed: u32,
        /// Layers of the model.
        layers: u32,
    },
}

fn in_a_row(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}

impl Placement {
    /// All layers in host memory.
    #[must_use]
    pub fn in_host(layers: u32) -> Self {
        Self(vec![Place { pool: HOST.to_owned(), layers }])
    }

    /// The pool of each layer.
    pub fn pools(&self) -> impl Iterator<Item = &str> {
        self.0.iter().flat_map(|place| (0..place.layers).map(|_| place.pool.as_str()))
    }

    /// The places of a request. `layers` is the number of layers of the model, `known` the names of all pools; `fitting` returns
    /// how many layers, from a given one on, fit into a pool.
    ///
    /// Pools with a number get that many layers. Pools without a number are filled in order, and the last of them gets the
    /// remaining layers; if there is none, host memory gets them.
    ///
    /// # Errors
    /// A pool is unknown or requested twice, or the numbers do not match the model.
    pub fn of(
        requested: &[RequestedPlace],
        layers: u32,
        known: &[String],
        fitting: impl Fn(&str, u32) -> u32,
    ) -> Result<Self, PlacementError> {
        check_names(requested, known)?;
        let host = RequestedPlace { pool: HOST.to_owned(), share: Share::Rest };
        let implied =
            !requested.iter().any(|place| place.pool == HOST || place.share == Share::Rest);
        let all: Vec<&RequestedPlace> = requested.iter().chain(implied.then_some(&host)).collect();
        let numbers = numbers(&all, layers);
        let numbered =
            numbers.iter().flatten().fold(0, |sum: u32, count| sum.saturating_add(*count));
        let mut open = layers
            .checked_sub(numbered)
            .ok_or(PlacementError::Count { placed: numbered, layers })?;
        let last_open = all.iter().rposition(|place| place.share == Share::Rest);
        let mut places = Vec::new();
        let mut from = 0;
        for (at, (place, number)) in all.into_iter().zip(numbers).enumerate() {
            let count = match number {
                Some(count) => count,
                None if last_open == Some(at) => open,
                None => fitting(&place.pool, from).min(open),
            };
            if place.share == Share::Rest {
                open -= count;
            }
            from += count;
            if count > 0 {
                places.push(Place { pool: place.pool.clone(), layers: count });
            }
        }
        if open > 0 {
            return Err(PlacementError::Count { placed: from, layers });
        }
        Ok(Self(places))
    }
}

/// The number of layers of each place with a number. The cumulative percentage is rounded, so that percentages with a sum of
/// 100 give all layers.
fn numbers(places: &[&RequestedPlace], layers: u32) -> Vec<Option<u32>> {
    let mut percent = 0;
    let mut end = 0;
    let mut number = |place: &&RequestedPlace| match place.share {
        Share::Layers(count) => Some(count),
        Share::Percent(share) => {
            percent += u64::from(share);
            let before = std::mem::replace(&mut end, (u64::from(layers) * percent + 50) / 100);
            Some(u32::try_from(end - before).unwrap_or(u32::MAX))
        }
        Share::Rest => None,
    };
    places.iter().map(&mut number).collect()
}

fn check_names(requested: &[RequestedPlace], known: &[String]) -> Result<(), PlacementError> {
    for (at, RequestedPlace { pool, .. }) in requested.iter().enumerate() {
        if !known.contains(pool) {
            let (pool, known) = (pool.clone(), known.to_vec());
            return Err(PlacementError::NoSuchPool { pool, known });
        }
        if requested[..at].iter().any(|earlier| earlier.pool == *pool) {
            return Err(PlacementError::Twice(pool.clone()));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(requested: &[(&str, Share)], layers: u32) -> Result<Vec<(String, u32)>, String> {
        let requested: Vec<RequestedPlace> = requested
            .iter()
            .map(|&(pool, share)| RequestedPlace { pool: pool.to_owned(), share })
            .collect();
        let known = ["host", "fern", "moss"].map(str::to_owned);
        // In this test, five layers fit into each pool.
        let placed = Placement::of(&requested, layers, &known, |_, _| 5);
        let pairs = |placement: Placement| {
            placement.0.into_iter().map(|place| (place.pool, place.layers)).collect()
        };
        placed.map(pairs).map_err(|error| error.to_string())
    }

    fn placed(requested: &[(&str, Share)], layers: u32) -> String {
        let places = place(requested, layers).unwrap().into_iter();
        places.map(|(pool, count)| format!("{pool}={count}")).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn numbers_are_taken_and_the_rest_is_filled_in_order() {
        use Share::{Layers, Percent, Rest};
        assert_eq!(placed(&[], 12), "host=12");
        assert_eq!(placed(&[("fern", Layers(4))], 12), "fern=4 host=8");
        assert_eq!(placed(&[("fern", Percent(50)), ("host", Rest)], 12), "fern=6 host=6");
        assert_eq!(placed(&[("fern", Rest), ("host", Rest)], 12), "fern=5 host=7");
        assert_eq!(placed(&[("fern", Rest), ("moss", Rest)], 12), "fern=5 moss=7");
        assert_eq!(placed(&[("host", Layers(2)), ("fern", Rest)], 12), "host=2 fern=10");
        assert_eq!(placed(&[("fern", Rest), ("host", Rest)], 3), "fern=3", "no empty places");
        assert_eq!(placed(&[("fern", Percent(100))], 7), "fern=7");
        assert_eq!(placed(&[("fern", Percent(50)), ("host", Percent(50))], 5), "fern=3 host=2");
        let thirds = [("fern", Percent(33)), ("moss", Percent(33)), ("host", Percent(34))];
        assert_eq!(placed(&thirds, 7), "fern=2 moss=3 host=2");
    }

    #[test]
    fn the_pool_of_each_layer_follows_the_places() {
        let places = [("fern", 2), ("host", 1)];
        let places = places.map(|(pool, layers)| Place { pool: pool.to_owned(), layers });
        let placement = Placement(places.to_vec());
        assert_eq!(placement.pools().collect::<Vec<_>>(), ["fern", "fern", "host"]);
    }

    #[test]
    fn what_cannot_be_placed_is_reported() {
        use Share::{Layers, Rest};
        let wrong = |requested: &[(&str, Share)]| place(requested, 12).unwrap_err();
        assert_eq!(
            wrong(&[("reed", Rest)]),
            "no pool `reed`; the pools are `host`, `fern`, `moss`"
        );
        assert_eq!(wrong(&[("fern", Rest), ("fern", Rest)]), "pool `fern` is named twice");
        let too_many = [("fern", Layers(9)), ("moss", Layers(9))];
        assert_eq!(wrong(&too_many), "18 layers are placed, but the model has 12");
        let absurd = [("fern", Layers(u32::MAX)), ("moss", Layers(u32::MAX))];
        assert!(wrong(&absurd).contains("4294967295 layers are placed"));
        let too_few = [("fern", Layers(2)), ("host", Layers(2))];
        assert_eq!(wrong(&too_few), "4 layers are placed, but the model has 12");
    }
}
