//! Polynomials modulo x^p - x - 1 with coefficients modulo q.

use zeroize::Zeroize;

use crate::field::{freeze, freeze3, negative_mask, nonzero_mask, reciprocal as reciprocal_of_one};
use crate::{Large, P, Q, Small};

/// 1/q modulo 2¹⁶, as Montgomery multiplication needs it.
const Q_INVERSE: i16 = {
    let mut inverse = 1u16;
    // Newton: each step doubles the number of right bits.
    let mut step = 0;
    while step < 4 {
        inverse = inverse.wrapping_mul(2u16.wrapping_sub((Q as u16).wrapping_mul(inverse)));
        step += 1;
    }
    inverse as i16
};
const _: () = assert!((Q as u16).wrapping_mul(Q_INVERSE as u16) == 1);

/// How many coefficients are worked on side by side: two of the smallest vectors of today's processors.
const LANES: usize = 16;
/// Coefficients of a working polynomial, rounded up to whole vectors.
const WIDTH: usize = (P + 1).next_multiple_of(LANES);
const STEPS: usize = 2 * P - 1;

/// A factor that many coefficients are multiplied with, prepared for [`Factor::times`]. It stands there once for each lane, since
/// compilers find the instruction for the high half of a product only where both sides are vectors of sixteen bits.
struct Factor {
    factor: [i16; LANES],
    /// The factor times 1/q, modulo 2¹⁶.
    over_q: [i16; LANES],
}

impl Factor {
    fn new(factor: i16) -> Self {
        let lanes = std::hint::black_box([factor; LANES]);
        Self { factor: lanes, over_q: lanes.map(|factor| factor.wrapping_mul(Q_INVERSE)) }
    }

    /// `x` times the factor times 2⁻¹⁶ modulo q, between -q and q (Montgomery 1985).
    #[inline(always)]
    fn times(&self, lane: usize, x: i16) -> i16 {
        let high = high_half(x, self.factor[lane]);
        high.wrapping_sub(high_half(x.wrapping_mul(self.over_q[lane]), Q as i16))
    }
}

#[inline(always)]
fn high_half(a: i16, b: i16) -> i16 {
    (i32::from(a).wrapping_mul(i32::from(b)) >> 16) as i16
}

/// The inverse of three times a small polynomial that is not zero; constant time. There always is one: the ring is a field.
///
/// The steps are those of [`crate::ring3::reciprocal`]. Montgomery's factor 2⁻¹⁶ gets into both lines of the computation
/// alike at each step, and is gone with the division at the end.
pub(crate) fn reciprocal_of_triple(input: &Small) -> Large {
    // g is divided by x, and v multiplied with it, at each step: they slide along their arrays instead of being moved.
    let (mut f, mut r) = ([0i16; WIDTH], [0i16; WIDTH]);
    let (mut g, mut v) = ([0i16; STEPS + WIDTH], [0i16; STEPS + WIDTH]);
    f[0] = 1;
    f[P - 1] = -1;
    f[P] = -1;
    for (to, from) in g.iter_mut().zip(input.iter().rev()) {
        *to = i16::from(*from);
    }
    r[0] = reciprocal_of_one(3);
    let mut delta = 1i16;
    for at in 0..STEPS {
        let v_start = STEPS - 1 - at;
        let (f0, g0) = (freeze(f[0].into()), freeze(g[at].into()));
        let swap = negative_mask(-delta) & nonzero_mask(g0);
        delta ^= swap & (delta ^ -delta);
        delta += 1;
        let exchange = swap & (f0 ^ g0);
        let (f0, g0) = (Factor::new(f0 ^ exchange), Factor::new(g0 ^ exchange));
        // The steps that are left look at so many coefficients of f and g; so many of v and r are not zero by now.
        let left = (STEPS - at).min(P + 1).next_multiple_of(LANES);
        let grown = (at + 2).min(P + 1).next_multiple_of(LANES);
        step(&mut f[..left], &mut g[at..at + left], &f0, &g0, swap);
        step(&mut v[v_start..v_start + grown], &mut r[..grown], &f0, &g0, swap);
    }
    let scale = i32::from(reciprocal_of_one(freeze(f[0].into())));
    let mut out = [0i16; P];
    for (to, from) in out.iter_mut().zip(v[..P].iter().rev()) {
        *to = freeze(scale * i32::from(freeze(i32::from(*from))));
    }
    f.zeroize();
    g.zeroize();
    v.zeroize();
    r.zeroize();
    out
}

/// Exchanges `f` and `g` where the mask `swap` says so; then `g` becomes f0·g - g0·f. What comes in lies between -2q and 2q, and
/// so does what goes out.
#[inline(always)]
fn step(f: &mut [i16], g: &mut [i16], f0: &Factor, g0: &Factor, swap: i16) {
    for (f, g) in f.as_chunks_mut::<LANES>().0.iter_mut().zip(g.as_chunks_mut::<LANES>().0) {
        for lane in 0..LANES {
            let exchange = swap & (f[lane] ^ g[lane]);
            f[lane] ^= exchange;
            g[lane] = f0.times(lane, g[lane] ^ exchange).wrapping_sub(g0.times(lane, f[lane]));
        }
    }
}

/// How many products of a coefficient with -1, 0 or 1 can be added up in sixteen bits.
const ROWS: usize = 14;
const _: () = assert!(ROWS as i32 * (Q - 1) / 2 <= i16::MAX as i32);

/// The product with a small one.
pub(crate) fn multiply(f: &Large, g: &Small) -> Large {
    let mut product = [0i32; 2 * P + ROWS];
    for (block, factors) in g.chunks(ROWS).enumerate() {
        // Some rows in sixteen bits, then all of them at once into the sum.
        let mut rows = [0i16; P + ROWS];
        for (at, factor) in factors.iter().enumerate() {
            let factor = i16::from(*factor);
            for (sum, coefficient) in rows[at..at + P].iter_mut().zip(f) {
                *sum = sum.wrapping_add(factor.wrapping_mul(*coefficient));
            }
        }
        let start = block * ROWS;
        for (sum, row) in product[start..start + P + ROWS].iter_mut().zip(&rows) {
            *sum = sum.wrapping_add(i32::from(*row));
        }
        rows.zeroize();
    }
    // x^p is x + 1.
    for at in (P..2 * P - 1).rev() {
        product[at - P] += product[at];
        product[at - P + 1] += product[at];
    }
    let mut out = [0i16; P];
    for (to, from) in out.iter_mut().zip(&product) {
        *to = freeze(*from);
    }
    product.zeroize();
    out
}

/// Each coefficient brought to the nearest multiple of 3.
pub(crate) fn round(large: &Large) -> Large {
    large.map(|coefficient| coefficient - i16::from(freeze3(coefficient.into())))
}

/// Three times each coefficient, modulo q and then modulo 3.
pub(crate) fn triple_modulo_3(large: &Large) -> Small {
    large.map(|coefficient| freeze3(freeze(3 * i32::from(coefficient)).into()))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::small::tests::smalls;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(16))]

        #[test]
        fn three_times_a_polynomial_times_the_inverse_is_one(f in smalls()) {
            prop_assume!(f.iter().any(|coefficient| *coefficient != 0));
            let product = multiply(&reciprocal_of_triple(&f), &f);
            let mut one = [0; P];
            one[0] = reciprocal_of_one(3);
            prop_assert_eq!(product, one);
        }

        /// Against the definition: every pair of coefficients, the slow way.
        #[test]
        fn products_are_those_of_the_definition(
            f in proptest::collection::vec(-2295i16..=2295, P),
            g in smalls(),
        ) {
            let f: Large = f.try_into().unwrap();
            let mut sums = [0i64; 2 * P];
            for (i, a) in f.iter().enumerate() {
                for (j, b) in g.iter().enumerate() {
                    sums[i + j] += i64::from(*a) * i64::from(*b);
                }
            }
            for at in (P..2 * P).rev() {
                let high = std::mem::take(&mut sums[at]);
                sums[at - P] += high;
                sums[at - P + 1] += high;
            }
            let product = multiply(&f, &g);
            for (at, coefficient) in product.iter().enumerate() {
                prop_assert_eq!((sums[at] - i64::from(*coefficient)).rem_euclid(i64::from(Q)), 0);
            }
        }

        #[test]
        fn montgomery_products_are_right_and_bounded(x in -9182i16..=9182, factor in -2295i16..=2295) {
            let product = Factor::new(factor).times(3, x);
            prop_assert!(i32::from(product).abs() <= Q);
            let scaled = i64::from(product) << 16;
            prop_assert_eq!((scaled - i64::from(x) * i64::from(factor)).rem_euclid(i64::from(Q)), 0);
        }
    }
}
