use super::*;
#[cfg(target_arch = "x86_64")]
use crate::matrix::tests::words;

#[test]
fn values_are_rounded_to_the_nearest_and_ties_to_even() {
    let to = |value: f32| f32::from_bits(u32::from(brain(value)) << 16);
    assert_eq!(to(1.0), 1.0);
    let step = 2f32.powi(-7);
    assert_eq!(to(1.0 + 0.49 * step), 1.0);
    assert_eq!(to(1.0 + 0.5 * step), 1.0, "a tie goes to the even one below");
    assert_eq!(to(1.0 + 1.5 * step), 1.0 + 2.0 * step, "and to the even one above");
    assert_eq!(to(-1.0 - 0.51 * step), -1.0 - step);
    assert_eq!(to(f32::MAX), f32::INFINITY, "it is nearer than the largest number");
    assert_eq!(to(f32::NEG_INFINITY), f32::NEG_INFINITY);
    for bits in [0x7F80_0001, 0x7FFF_FFFF, 0xFF80_0001, 0xFFFF_FFFF] {
        assert!(to(f32::from_bits(bits)).is_nan(), "{bits:08x}");
    }
    let smaller = f32::MIN_POSITIVE.next_down();
    assert_eq!(to(smaller).to_bits(), 0, "it would be rounded to a normal number");
    assert_eq!(to(-smaller).to_bits(), 0x8000_0000, "and keeps its sign");
    assert_eq!(to(f32::MIN_POSITIVE), f32::MIN_POSITIVE);
}

/// Computes one sum as the module's documentation describes: even terms, odd terms, both, then the former sum.
pub(crate) fn one_sum(before: f32, row: &[f32], x: &[f32]) -> f32 {
    let to = |value: &f32| f32::from_bits(u32::from(brain(*value)) << 16);
    let flush = |value: f32| if value.is_subnormal() { 0.0_f32.copysign(value) } else { value };
    let mut sum = flush(before);
    for (row, x) in row.chunks(TERMS).zip(x.chunks(TERMS)) {
        let half = |first: usize| {
            let pairs = row.iter().zip(x).skip(first).step_by(2);
            pairs.fold(0.0, |sum, (row, x)| flush(to(row).mul_add(to(x), sum)))
        };
        sum = flush(flush(half(0) + half(1)) + sum);
    }
    sum
}

/// Compares the instruction with its twin, for any bits. Skipped on processors without the instruction.
#[cfg(target_arch = "x86_64")]
#[test]
fn the_instruction_computes_what_its_twin_says() {
    if !instructions() {
        return eprintln!("skipped: this processor has no AMX");
    }
    for seed in 0..200 {
        // Numbers of similar and of different size, subnormal ones, and any bits.
        let exponent = |word: u32| match seed % 4 {
            0 => 124 + word % 6,
            1 => 107 + word % 40,
            2 => 60 + word % 8,
            _ => word % 255,
        };
        let number = |word: &u32| (word & 0x807F | exponent(word >> 16) << 7) as u16;
        let (count, columns) = (3, 1 + seed as usize % SIDE);
        let of_tiles = words(count * SIDE * TERMS * 2, seed + 1);
        let mut tiles = vec![Tile::zeroed(); 2 * count];
        for (place, word) in
            tiles.iter_mut().flat_map(|tile| tile.0.as_flattened_mut()).zip(&of_tiles)
        {
            *place = number(word);
        }
        let mut lines = vec![Sixteen::default(); count * columns];
        let pairs: &mut [u16] = bytemuck::cast_slice_mut(&mut lines);
        for (place, word) in pairs.iter_mut().zip(words(count * columns * TERMS, seed ^ 77).iter())
        {
            *place = number(word);
        }
        let begun: Vec<f32> =
            words(HIGH * SIDE * SIDE, seed ^ 5).iter().map(|word| *word as f32 / 1e9).collect();
        let (upper, lower) = tiles.split_at(count);
        let results = [true, false].map(|instructed| {
            let mut sums = <[Sums; HIGH]>::zeroed();
            for (place, value) in
                bytemuck::cast_slice_mut(sums.as_flattened_mut()).iter_mut().zip(&begun)
            {
                *place = *value;
            }
            let (panel, lines) = (Panel { upper, lower }, &lines[..]);
            let group = Group { lines, columns, sums: &mut sums };
            if instructed {
                Amx::begin().one(panel, group);
            } else {
                Simulated::begin().one(panel, group);
            }
            let rows = sums.as_flattened().iter().map(|row| row.0[..columns].to_vec());
            rows.collect::<Vec<_>>().concat()
        });
        let [found, expected] = results;
        for (found, expected) in found.iter().zip(&expected) {
            let same = found.to_bits() == expected.to_bits() || found.is_nan() && expected.is_nan();
            assert!(same, "{seed}: {found} instead of {expected}");
        }
    }
}

/// Rows of sums may have other numbers between them, which must not change.
#[test]
fn a_square_is_added_where_its_sums_stand() {
    fn tried<T: Tiles>() {
        let (across, apart) = (3, 2 * SIDE + 5);
        let value = |seed: usize| ((seed * 37 % 101) as f32 - 50.0) / 16.0;
        let tile = |at: usize| {
            Tile(std::array::from_fn(|row| {
                std::array::from_fn(|term| brain(value((row + 16 * at) * 96 + term)))
            }))
        };
        let left: Vec<Tile> = (0..2 * across).map(tile).collect();
        // Each column has other values.
        let line = |at: usize| -> Sixteen {
            let pair: [[u16; 2]; SIDE] = std::array::from_fn(|column| {
                std::array::from_fn(|half| brain(value(200 * column + 2 * at + half)))
            });
            bytemuck::cast(pair)
        };
        let lines: Vec<Sixteen> = (0..2 * across * SIDE).map(line).collect();
        let before: Vec<f32> = (0..2 * SIDE * apart).map(|at| value(at) * 3.0).collect();
        let mut sums = before.clone();
        let (upper, lower) = left.split_at(across);
        let (first, second) = lines.split_at(across * SIDE);
        T::begin().square(Panel { upper, lower }, [first, second], &mut sums, apart);
        for (at, (found, before)) in sums.iter().zip(&before).enumerate() {
            let (row, column) = (at / apart, at % apart);
            let expected = if column < 2 * SIDE {
                let tiles = &left[row / SIDE * across..][..across];
                let row: Vec<f32> =
                    tiles.iter().flat_map(|tile| tile.0[row % SIDE]).map(wide).collect();
                let lines = &lines[column / SIDE * across * SIDE..][..across * SIDE];
                let of_line =
                    |line: &Sixteen| bytemuck::cast::<_, [[u16; 2]; SIDE]>(*line)[column % SIDE];
                let column: Vec<f32> = lines.iter().flat_map(of_line).map(wide).collect();
                one_sum(*before, &row, &column)
            } else {
                *before
            };
            assert_eq!(found.to_bits(), expected.to_bits(), "{}: {at}", T::PATH);
        }
    }
    tried::<Simulated>();
    #[cfg(target_arch = "x86_64")]
    if instructions() {
        tried::<Amx>();
    }
}

fn wide(brain: u16) -> f32 {
    f32::from_bits(u32::from(brain) << 16)
}
