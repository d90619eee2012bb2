//! Curves in single precision, made of simple operations only, so that every path computes the same bits.

/// Adding and subtracting it rounds to an integer, ties to even.
pub(crate) const ROUNDING: f32 = 12_582_912.0;
/// Smaller arguments give zero.
pub(crate) const LEAST: f32 = -87.0;
/// Larger arguments are replaced by this one.
pub(crate) const MOST: f32 = 88.0;

/// The natural logarithm of 2 in two parts. The first has few bits, so that its products with small integers are exact.
pub(crate) const LN_2_HIGH: f32 = 0.693_359_4;
pub(crate) const LN_2_LOW: f32 = -2.121_944_4e-4;
/// Coefficients of the polynomial, the highest first.
pub(crate) const POWERS: [f32; 8] =
    [1.0 / 5040.0, 1.0 / 720.0, 1.0 / 120.0, 1.0 / 24.0, 1.0 / 6.0, 0.5, 1.0, 1.0];

/// `e` to the power of `x`, within two units of the last place; zero below -87, and as of 88 above it.
///
/// `x = n ln 2 + r`; the power of `r` is a polynomial of degree 7 (Taylor's), which is enough within
/// half of `ln 2` of zero. Source: Cody and Waite 1980, "Software Manual for the Elementary Functions".
#[inline(always)]
pub(crate) fn exp(x: f32) -> f32 {
    let x = if x > MOST { MOST } else { x };
    let rounded = x.mul_add(std::f32::consts::LOG2_E, ROUNDING);
    let n = rounded - ROUNDING;
    let r = n.mul_add(-LN_2_LOW, n.mul_add(-LN_2_HIGH, x));
    let mut power = POWERS[0];
    for coefficient in &POWERS[1..] {
        power = r.mul_add(power, *coefficient);
    }
    // The integer is in the low bits; shifted to the exponent, it is a power of two.
    let scale = f32::from_bits((rounded.to_bits() << 23).wrapping_add(1.0f32.to_bits()));
    let result = power * scale;
    if x < LEAST { 0.0 } else { result }
}

/// The hyperbolic tangent, within 1e-7.
#[inline(always)]
pub(crate) fn tanh(x: f32) -> f32 {
    let magnitude = 1.0 - 2.0 / (exp(2.0 * x.abs()) + 1.0);
    magnitude.copysign(x)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn ends_and_middle_of_the_curves() {
        assert_eq!((exp(0.0), exp(f32::NEG_INFINITY), exp(-88.0)), (1.0, 0.0, 0.0));
        assert!(exp(f32::NAN).is_nan() && tanh(f32::NAN).is_nan());
        assert!(exp(f32::INFINITY) > 1e38 && exp(88.0) > 1e38);
        assert_eq!((tanh(0.0), tanh(50.0), tanh(-50.0)), (0.0, 1.0, -1.0));
    }

    proptest! {
        #[test]
        fn they_are_near_the_exact_ones(x in -86f32..87.0) {
            let exact = f64::from(x).exp();
            prop_assert!((f64::from(exp(x)) / exact - 1.0).abs() < 3e-7, "{}", x);
            prop_assert!((f64::from(tanh(x)) - f64::from(x).tanh()).abs() < 1.5e-7, "{}", x);
        }
    }
}
