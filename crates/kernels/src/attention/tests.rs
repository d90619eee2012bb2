use std::num::NonZero;

use proptest::prelude::*;

use super::*;
use crate::tiles::tests::one_sum;

const HEADS: usize = 2;

/// A cache of two heads, its pages in some order.
struct Cache {
    tensor_type: TensorType,
    length: usize,
    pages: Vec<u32>,
    keys: Vec<u8>,
    values: Vec<u8>,
}

/// A value that differs from place to place.
fn value(position: usize, head: usize, at: usize) -> f32 {
    ((position * 31 + head * 11 + at * 7) as f32 * 0.37).sin()
}

impl Cache {
    /// Holds so many positions; what was not written are numbers that are none.
    fn new(tensor_type: TensorType, length: usize, positions: usize, pages: Vec<u32>) -> Self {
        let bytes = PAGE * tensor_type.row_bytes(length);
        let all = vec![0xFF; (*pages.iter().max().unwrap() as usize + 1) * HEADS * bytes];
        let mut cache = Self { tensor_type, length, pages, keys: all.clone(), values: all };
        for position in 0..positions {
            let page = cache.pages[position / PAGE] as usize;
            for head in 0..HEADS {
                let place = (page * HEADS + head) * bytes..(page * HEADS + head + 1) * bytes;
                let row: Vec<f32> = (0..length).map(|at| value(position, head, at)).collect();
                let slot = position % PAGE;
                Cached::write(tensor_type, Kind::Keys, slot, &row, &mut cache.keys[place.clone()]);
                let row: Vec<f32> = row.iter().map(|value| value * 0.5 + 0.1).collect();
                Cached::write(tensor_type, Kind::Values, slot, &row, &mut cache.values[place]);
            }
        }
        cache
    }

    fn of<'a>(&self, bytes: &'a [u8]) -> Cached<'a> {
        Cached { tensor_type: self.tensor_type, length: self.length, heads: HEADS, bytes }
    }

    fn attention<'a>(
        &'a self,
        pages: &'a [&'a [u32]],
        group: usize,
        cap: Option<f32>,
    ) -> Attention<'a> {
        Attention {
            keys: self.of(&self.keys),
            values: self.of(&self.values),
            pages,
            heads: HEADS * group,
            scale: 0.3,
            cap,
        }
    }
}

fn run(
    path: Instructions,
    threads: usize,
    attention: &Attention<'_>,
    looks: &[Look],
    queries: &[f32],
) -> Vec<u32> {
    let team = Team::new(NonZero::new(threads));
    let mut out = vec![f32::NAN; looks.len() * attention.heads * attention.values.length];
    let rows = looks.len() * attention.heads;
    let mut aside =
        SpanSums::with_room(rows, attention.pages[0].len() * PAGE, attention.values.length);
    attend(path, &team, attention, looks, queries, &mut out, &mut aside);
    out.into_iter().map(f32::to_bits).collect()
}

/// The plain paths of both classes, and all that give the same bits.
fn classes() -> [(Instructions, Vec<Instructions>); 2] {
    [Instructions::Scalar, Instructions::AmxSimulated].map(|twin| {
        (twin, Instructions::available().filter(|path| path.class() == twin.class()).collect())
    })
}

/// In double precision, straight from the definition.
fn exact(look: &Look, query: &[f32], head: usize, length: usize, cap: Option<f32>) -> Vec<f64> {
    let score = |position: usize| -> f64 {
        let products = query.iter().enumerate();
        let dot: f64 =
            products.map(|(at, q)| f64::from(*q) * f64::from(value(position, head, at))).sum();
        let score = dot * 0.3;
        cap.map_or(score, |cap| f64::from(cap) * (score / f64::from(cap)).tanh())
    };
    let weights: Vec<f64> = (look.first..look.end).map(|at| score(at).exp()).collect();
    let total: f64 = weights.iter().sum();
    let sum = |at: usize| -> f64 {
        let each = weights.iter().zip(look.first..);
        each.map(|(weight, position)| weight * (f64::from(value(position, head, at)) * 0.5 + 0.1))
            .sum()
    };
    (0..length).map(|at| sum(at) / total).collect()
}

/// Largest distance of a token's attention, bit patterns of `heads x length` values, from the definition.
fn apart(
    found: &[u32],
    queries: &[f32],
    look: &Look,
    (group, length): (usize, usize),
    cap: Option<f32>,
) -> f64 {
    let mut largest = 0f64;
    for head in 0..HEADS * group {
        let query = &queries[head * length..][..length];
        let wanted = exact(look, query, head / group, length, cap);
        for (found, wanted) in found[head * length..][..length].iter().zip(wanted) {
            largest = largest.max((f64::from(f32::from_bits(*found)) - wanted).abs());
        }
    }
    largest
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// One token, one thread, the plain path of a class: the specification. Tokens together, threads, paths and
    /// places of pages change no bit of it; and it is near what the definition says.
    #[test]
    fn nothing_but_what_is_seen_changes_a_bit(
        end in 1usize..150,
        tokens in 1usize..40,
        window in prop::option::of(1usize..80),
        group in 1usize..5,
        length in prop::sample::select(vec![32usize, 40, 64, 80, 96]),
        cap in prop::option::of(Just(20f32)),
        threads in 1usize..4,
    ) {
        let tokens = tokens.min(end);
        let queries: Vec<f32> = (0..tokens * HEADS * group * length)
            .map(|at| (at as f32 * 0.21).cos())
            .collect();
        let count = end.div_ceil(PAGE);
        let pages: [Vec<u32>; 2] = [
            (0..u32::try_from(count).unwrap()).collect(),
            (0..u32::try_from(count).unwrap()).rev().map(|page| page * 2 + 1).collect(),
        ];
        let types = [TensorType::F32, TensorType::F16, TensorType::Q8_0];
        // In eight bits rows are whole blocks.
        let is_stored = |kind: &TensorType| length.is_multiple_of(kind.block_values());
        for tensor_type in types.into_iter().filter(is_stored) {
            let caches = pages.clone().map(|pages| Cache::new(tensor_type, length, end, pages));
            let look = |token: usize| {
                let end = end - tokens + token + 1;
                let first = window.map_or(0, |window| end.saturating_sub(window));
                Look { sequence: 0, first, end }
            };
            let own: Vec<Look> = (0..tokens).map(look).collect();
            let row = HEADS * group * length;
            let pages = [&caches[0].pages[..]];
            let attention = caches[0].attention(&pages, group, cap);
            for (plain, paths) in classes() {
                let twin: Vec<u32> = own
                    .iter()
                    .zip(queries.chunks(row))
                    .flat_map(|(look, queries)| {
                        run(plain, 1, &attention, std::slice::from_ref(look), queries)
                    })
                    .collect();
                for path in paths {
                    for cache in &caches {
                        let pages = [&cache.pages[..]];
                        let attention = cache.attention(&pages, group, cap);
                        let found = run(path, threads, &attention, &own, &queries);
                        prop_assert_eq!(&found, &twin, "{} on {}", tensor_type, path);
                    }
                }
                let exactly = if plain == Instructions::Scalar { 2e-3 } else { 8e-3 };
                let allowed = if tensor_type == TensorType::Q8_0 { 0.03 } else { exactly };
                let (last, from) = (&own[tokens - 1], (tokens - 1) * row);
                let apart = apart(&twin[from..], &queries[from..], last, (group, length), cap);
                prop_assert!(apart < allowed, "{}: {} apart", tensor_type, apart);
            }
        }
    }
}

/// Sequences of several spans: one thread alone goes from span to span, more threads than there is else to do share
/// them out, and windows begin within one. All give the same bits, near what the definition says.
#[test]
fn spans_give_the_same_bits_whoever_computes_them() {
    let (end, length, group) = (2 * SPAN + 77, 48, 3);
    let pages: Vec<u32> = (0..u32::try_from(end.div_ceil(PAGE)).unwrap()).rev().collect();
    for tensor_type in [TensorType::F16, TensorType::F32] {
        let cache = Cache::new(tensor_type, length, end, pages.clone());
        let pages = [&cache.pages[..]];
        for (window, cap) in [(None, None), (Some(SPAN / 2), Some(20.0)), (Some(SPAN + 9), None)] {
            let attention = cache.attention(&pages, group, cap);
            let row = HEADS * group * length;
            // Some end in every span, and some just at its end.
            let ends = [9, SPAN - 1, SPAN, SPAN + 1, 2 * SPAN, end - 1, end];
            let look = |end: usize| {
                let first = window.map_or(0, |window| end.saturating_sub(window));
                Look { sequence: 0, first, end }
            };
            let looks = ends.map(look);
            let queries: Vec<f32> =
                (0..looks.len() * row).map(|at| (at as f32 * 0.21).cos()).collect();
            let alone = |at: usize, path: Instructions, threads: usize| {
                let own = &queries[at * row..][..row];
                run(path, threads, &attention, std::slice::from_ref(&looks[at]), own)
            };
            for (plain, paths) in classes() {
                let twin: Vec<u32> = (0..looks.len()).flat_map(|at| alone(at, plain, 1)).collect();
                for path in paths {
                    for threads in [1, 3] {
                        let found = run(path, threads, &attention, &looks, &queries);
                        assert!(found == twin, "{tensor_type} on {path}, {threads} threads");
                    }
                    for at in 0..looks.len() {
                        let found = alone(at, path, 5);
                        let own = &twin[at * row..][..row];
                        assert!(found == own, "{tensor_type} on {path}, {at} alone");
                    }
                }
                let allowed = if plain == Instructions::Scalar { 2e-3 } else { 8e-3 };
                for (at, look) in looks.iter().enumerate() {
                    let query = &queries[at * row..][..length];
                    let wanted = exact(look, query, 0, length, cap);
                    for (found, wanted) in twin[at * row..][..length].iter().zip(wanted) {
                        let error = (f64::from(f32::from_bits(*found)) - wanted).abs();
                        assert!(error < allowed, "{tensor_type} on {plain}, {at}: {error} apart");
                    }
                }
            }
        }
    }
}

/// A page of one head, step by step in the words of the module.
#[test]
fn attention_in_tiles_is_summed_in_the_documented_order() {
    let (length, used) = (48, 29);
    let cache = Cache::new(TensorType::F16, length, used, vec![0]);
    let pages = [&cache.pages[..]];
    let attention = cache.attention(&pages, 1, None);
    let queries: Vec<f32> = (0..HEADS * length).map(|at| (at as f32 * 0.21).cos()).collect();
    let look = Look { sequence: 0, first: 3, end: used };
    let read = |kind, bytes, position| cache.of(bytes).read(kind, 0, 1, position);
    let mut scores = [[0f32; PAGE]];
    for (position, score) in scores[0].iter_mut().enumerate().take(used) {
        let key = read(Kind::Keys, &cache.keys, position);
        *score = one_sum(0.0, &queries[length..], &key);
    }
    let (mut largest, mut weights, mut sums) = ([f32::NEG_INFINITY], [0.0], [0.0; 48]);
    let softmax = plain::Softmax {
        scores: &mut scores,
        seen: &[seen_of(&look, 0)],
        largest: &mut largest,
        weights: &mut weights,
        sums: &mut sums,
    };
    plain::soften(Instructions::Scalar, softmax, length, attention.scale, 0.0);
    let mean = |at: usize| {
        let value = |position| read(Kind::Values, &cache.values, position)[at];
        let values: Vec<f32> = (0..used).map(value).collect();
        one_sum(0.0, &scores[0][..used], &values) * (1.0 / weights[0])
    };
    let expected: Vec<u32> = (0..length).map(|at| mean(at).to_bits()).collect();
    let (_, paths) = &classes()[1];
    for path in paths {
        let found = run(*path, 1, &attention, std::slice::from_ref(&look), &queries);
        assert_eq!(found[length..], expected, "{path}");
    }
}

#[test]
fn without_room_for_spans_one_thread_goes_through_them() {
    let cache = Cache::new(TensorType::F16, 32, 2 * SPAN, (0..2 * SPAN as u32 / 32).collect());
    let pages = [&cache.pages[..]];
    let attention = cache.attention(&pages, 1, None);
    let looks = [Look { sequence: 0, first: 0, end: 2 * SPAN }];
    let queries: Vec<f32> = (0..HEADS * 32).map(|at| (at as f32 * 0.21).cos()).collect();
    let mut out = vec![f32::NAN; HEADS * 32];
    let (path, team) = (Instructions::best(), Team::new(NonZero::new(4)));
    attend(path, &team, &attention, &looks, &queries, &mut out, &mut SpanSums::default());
    let found: Vec<u32> = out.into_iter().map(f32::to_bits).collect();
    assert_eq!(found, run(path, 4, &attention, &looks, &queries));
}

/// Half of it would be without end in the cache's own type.
#[test]
fn a_value_too_large_for_the_cache_reaches_nobody_who_does_not_see_it() {
    for (tensor_type, large) in [
        (TensorType::F32, f32::INFINITY),
        (TensorType::F16, 1e9),
        (TensorType::F16, f32::NEG_INFINITY),
        (TensorType::Q8_0, 1e30),
    ] {
        let clean = Cache::new(tensor_type, 64, 40, vec![0, 1]);
        let mut spoilt = Cache::new(tensor_type, 64, 40, vec![0, 1]);
        let bytes = PAGE * tensor_type.row_bytes(64);
        for head in 0..HEADS {
            let place = (HEADS + head) * bytes..(HEADS + head + 1) * bytes;
            let row = [large; 64];
            Cached::write(tensor_type, Kind::Keys, 7, &row, &mut spoilt.keys[place.clone()]);
            Cached::write(tensor_type, Kind::Values, 7, &row, &mut spoilt.values[place]);
        }
        // Position 39 holds it; only the last of four tokens sees that.
        let looks: Vec<Look> = (37..=40).map(|end| Look { sequence: 0, first: 0, end }).collect();
        let queries: Vec<f32> = (0..4 * HEADS * 64).map(|at| (at as f32 * 0.21).cos()).collect();
        let pages = [&clean.pages[..]];
        let row = HEADS * 64;
        for path in Instructions::available() {
            let expected = run(path, 1, &clean.attention(&pages, 1, None), &looks, &queries);
            let found = run(path, 1, &spoilt.attention(&pages, 1, None), &looks, &queries);
            assert!(found[..3 * row] == expected[..3 * row], "{tensor_type} on {path}");
            assert!(found[3 * row..] != expected[3 * row..], "the last one sees it");
        }
    }
}

#[test]
fn sequences_of_one_step_see_their_own_pages_only() {
    let cache = Cache::new(TensorType::F16, 64, 90, vec![0, 1, 2]);
    let queries: Vec<f32> = (0..5 * HEADS * 64).map(|at| (at as f32 * 0.21).cos()).collect();
    let pages: [&[u32]; 2] = [&[0, 1], &[2, 0]];
    let attention = cache.attention(&pages, 1, None);
    let look = |sequence, end| Look { sequence, first: 0, end };
    let looks = [look(0, 40), look(0, 41), look(1, 20), look(0, 42), look(1, 60)];
    for path in Instructions::available() {
        let together = run(path, 2, &attention, &looks, &queries);
        for (at, look) in looks.iter().enumerate() {
            let own = &queries[at * HEADS * 64..][..HEADS * 64];
            let alone = run(path, 1, &attention, std::slice::from_ref(look), own);
            assert_eq!(&together[at * HEADS * 64..][..HEADS * 64], &alone, "token {at} on {path}");
        }
    }
}

#[test]
fn a_copied_page_holds_the_first_positions() {
    for tensor_type in [TensorType::F32, TensorType::F16, TensorType::Q8_0] {
        let whole = Cache::new(tensor_type, 64, 32, vec![0]);
        let part = Cache::new(tensor_type, 64, 11, vec![0]);
        for (kind, from, wanted) in
            [(Kind::Keys, &whole.keys, &part.keys), (Kind::Values, &whole.values, &part.values)]
        {
            let mut to = vec![0xFF; from.len()];
            let half = from.len() / HEADS;
            for (from, to) in from.chunks(half).zip(to.chunks_mut(half)) {
                Cached::copy(tensor_type, kind, 11, from, to);
            }
            assert_eq!(&to, wanted, "{tensor_type} {kind:?}");
        }
    }
}

#[test]
fn threads_write_together_what_is_written_row_by_row() {
    // Positions in an order of their own, the last of each page left out.
    let pages = vec![2, 0, 1];
    let positions: Vec<usize> = (0..3 * PAGE).rev().filter(|at| at % PAGE != PAGE - 1).collect();
    for (tensor_type, length) in [
        (TensorType::F32, 80),
        (TensorType::F16, 80),
        (TensorType::F16, 17),
        (TensorType::Q8_0, 96),
    ] {
        let wanted = Cache::new(tensor_type, length, 0, pages.clone());
        let rows: Vec<f32> = (0..positions.len() * HEADS * length)
            .map(|at| value(at / HEADS / length, at / length % HEADS, at % length))
            .collect();
        let place = |token: usize| (pages[positions[token] / PAGE], positions[token] % PAGE);
        for kind in [Kind::Keys, Kind::Values] {
            let mut row_by_row = wanted.keys.clone();
            let bytes = PAGE * tensor_type.row_bytes(length);
            for (at, row) in rows.chunks(length).enumerate() {
                let (page, slot) = place(at / HEADS);
                let page = page as usize * HEADS + at % HEADS;
                let page = &mut row_by_row[page * bytes..][..bytes];
                Cached::write(tensor_type, kind, slot, row, page);
            }
            for threads in 1..6 {
                let team = Team::new(NonZero::new(threads));
                let mut together = wanted.keys.clone();
                let sizes = (HEADS, length);
                Cached::write_all(&team, tensor_type, kind, sizes, &rows, place, &mut together);
                assert!(together == row_by_row, "{kind:?} in {tensor_type}, {threads} threads");
            }
        }
    }
}

#[test]
fn floats_are_read_where_they_stand_or_copied_with_the_same_result() {
    let cache = Cache::new(TensorType::F32, 48, 40, vec![1, 0]);
    let queries: Vec<f32> = (0..HEADS * 48).map(|at| value(at, 1, 3)).collect();
    let looks = [Look { sequence: 0, first: 0, end: 40 }];
    let mut lines = vec![crate::sixteen::Sixteen::default(); cache.keys.len() / 64 + 1];
    for path in Instructions::available() {
        let results = [0, 4].map(|offset| {
            let bytes: &mut [u8] = bytemuck::cast_slice_mut(&mut lines);
            let keys = &mut bytes[offset..][..cache.keys.len()];
            keys.copy_from_slice(&cache.keys);
            let mut attention = cache.attention(&[], 1, None);
            attention.keys.bytes = keys;
            attention.pages = &[&[1, 0]];
            run(path, 1, &attention, &looks, &queries)
        });
        assert_eq!(results[0], results[1], "{path}");
    }
}
