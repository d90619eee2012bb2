//! Which experts the rows of a step are computed with.

/// An expert that a row is computed with.
#[derive(Debug, Clone, Copy, Default)]
pub struct Chosen {
    /// Its number.
    pub expert: u32,
    /// Its part of the sum.
    pub share: f32,
    /// Index of its result among all of a step.
    pub place: u32,
}

/// What a router chose, and working space for it.
#[derive(Debug, Default)]
pub struct Routing<N> {
    /// How many experts a row is computed with.
    pub used: usize,
    /// `rows x used`, the likeliest first.
    pub chosen: Vec<Chosen>,
    /// The router's rows as floats, where they are not stored as such: `experts x width`.
    pub router: N,
    /// `rows x experts`.
    pub shares: N,
    /// `rows x used x width`, expert by expert.
    pub results: N,
    /// Where each expert's results begin, and one past the last.
    pub starts: Vec<u32>,
    /// For each result, expert by expert, its row.
    pub rows: Vec<u32>,
}

impl<N> Routing<N> {
    /// Gives each result a place: those of an expert side by side, in the order of rows.
    pub fn place(&mut self, experts: usize) {
        self.starts.clear();
        self.starts.resize(experts + 1, 0);
        for chosen in &self.chosen {
            self.starts[chosen.expert as usize + 1] += 1;
        }
        for expert in 0..experts {
            self.starts[expert + 1] += self.starts[expert];
        }
        self.rows.resize(self.chosen.len(), 0);
        for (row, chosen) in (0..).zip(self.chosen.chunks_mut(self.used.max(1))) {
            for chosen in chosen {
                let next = &mut self.starts[chosen.expert as usize];
                chosen.place = *next;
                self.rows[*next as usize] = row;
                *next += 1;
            }
        }
        // Each start has gone on to the next one.
        self.starts.copy_within(0..experts, 1);
        self.starts[0] = 0;
    }
}

/// The largest of some shares, the first of equal ones first, each as a part of their sum.
pub(super) fn choose(shares: &[f32], chosen: &mut [Chosen]) {
    let mut count = 0;
    for (expert, &share) in (0..).zip(shares) {
        let is_smaller = |other: &Chosen| other.share.total_cmp(&share).is_lt();
        let at = chosen[..count].iter().position(is_smaller).unwrap_or(count);
        if at == chosen.len() {
            continue;
        }
        count = (count + 1).min(chosen.len());
        chosen[at..count].rotate_right(1);
        chosen[at] = Chosen { expert, share, place: 0 };
    }
    let total: f32 = chosen.iter().map(|chosen| chosen.share).sum();
    chosen.iter_mut().for_each(|chosen| chosen.share /= total);
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_largest_shares_are_chosen_and_equal_ones_in_their_order(
            shares in prop::collection::vec(0_u8..6, 1..20),
            used in 1_usize..20,
        ) {
            let shares: Vec<f32> = shares.into_iter().map(|share| f32::from(share) + 0.25).collect();
            let used = used.min(shares.len());
            let mut order: Vec<usize> = (0..shares.len()).collect();
            order.sort_by(|&a, &b| shares[b].total_cmp(&shares[a]).then(a.cmp(&b)));
            let total: f32 = order[..used].iter().map(|&expert| shares[expert]).sum();
            let mut chosen = vec![Chosen::default(); used];
            choose(&shares, &mut chosen);
            for (chosen, &expert) in chosen.iter().zip(&order) {
                prop_assert_eq!(chosen.expert as usize, expert);
                prop_assert_eq!(chosen.share, shares[expert] / total);
            }
        }
    }

    #[test]
    fn results_of_an_expert_stand_side_by_side() {
        let chosen = [2, 0, 2, 3, 0, 2].map(|expert| Chosen { expert, ..Chosen::default() });
        let mut routing =
            Routing::<Vec<f32>> { used: 2, chosen: chosen.to_vec(), ..Routing::default() };
        routing.place(4);
        assert_eq!(routing.starts, [0, 2, 2, 5, 6]);
        assert_eq!(routing.rows, [0, 2, 0, 1, 2, 1]);
        let places: Vec<u32> = routing.chosen.iter().map(|chosen| chosen.place).collect();
        assert_eq!(places, [2, 0, 3, 5, 1, 4]);
    }
}
