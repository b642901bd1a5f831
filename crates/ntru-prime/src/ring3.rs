//! Polynomials modulo x^p - x - 1 with coefficients modulo 3.

use zeroize::Zeroize;

use crate::field::{freeze3, negative_mask, nonzero_mask};
use crate::{P, Small};

/// The inverse of a polynomial; none where it has none. Constant time but for that, which is no secret: another one is drawn then.
///
/// It is the extended Euclidean algorithm in steps that are the same for every input: "divsteps" of Bernstein and Yang
/// (2019), on the reversed polynomials.
pub(crate) fn reciprocal(input: &Small) -> Option<Small> {
    let mut reversed = *input;
    reversed.reverse();
    let (mut f, mut g) = (Bits::default(), Bits::pack(&reversed));
    let (mut v, mut r) = (Bits::default(), Bits::default());
    reversed.zeroize();
    for (at, value) in [(0, 1), (P - 1, -1), (P, -1)] {
        f.set(at, value);
    }
    r.set(0, 1);
    let mut delta = 1i16;
    for _ in 0..2 * P - 1 {
        v.shift_up();
        let (f0, g0) = (f.first(), g.first());
        let swap = negative_mask(-delta) & nonzero_mask(g0.into());
        delta ^= swap & (delta ^ -delta);
        delta += 1;
        let (sign, swap) = (-g0 * f0, i64::from(swap) as u64);
        step(&mut f, &mut g, sign, swap);
        step(&mut v, &mut r, sign, swap);
        g.shift_down();
    }
    let sign = f.first();
    let mut out = [0i8; P];
    for (at, to) in out.iter_mut().rev().enumerate() {
        *to = sign * v.get(at);
    }
    for secret in [&mut f, &mut g, &mut v, &mut r] {
        secret.zeroize();
    }
    (delta == 0).then_some(out)
}

/// Words of a bit for each coefficient of a polynomial of degree p.
const WORDS: usize = (P + 1).div_ceil(64);

/// A polynomial of degree p at most, spread over two bits a coefficient: whether it is not zero, and whether it is -1. So an
/// operation on words does 64 coefficients at once.
#[derive(Default, Zeroize)]
struct Bits {
    nonzero: [u64; WORDS],
    negative: [u64; WORDS],
}

impl Bits {
    fn pack(small: &Small) -> Self {
        let mut bits = Self::default();
        for (at, value) in small.iter().enumerate() {
            bits.set(at, *value);
        }
        bits
    }

    /// Sets a coefficient that is zero.
    fn set(&mut self, at: usize, value: i8) {
        let (word, bit) = (at / 64, at % 64);
        self.nonzero[word] |= u64::from(value as u8 & 1) << bit;
        self.negative[word] |= u64::from(value as u8 >> 7) << bit;
    }

    fn get(&self, at: usize) -> i8 {
        let bit = |words: &[u64; WORDS]| (words[at / 64] >> (at % 64) & 1) as i8;
        bit(&self.nonzero) - 2 * bit(&self.negative)
    }

    fn first(&self) -> i8 {
        self.get(0)
    }

    /// Times x; the coefficient of x^p is not used any more where there is one.
    fn shift_up(&mut self) {
        for words in [&mut self.nonzero, &mut self.negative] {
            for at in (1..WORDS).rev() {
                words[at] = words[at] << 1 | words[at - 1] >> 63;
            }
            words[0] <<= 1;
        }
    }

    /// Divided by x, where the first coefficient is zero.
    fn shift_down(&mut self) {
        for words in [&mut self.nonzero, &mut self.negative] {
            for at in 0..WORDS - 1 {
                words[at] = words[at] >> 1 | words[at + 1] << 63;
            }
            words[WORDS - 1] >>= 1;
        }
    }
}

/// Exchanges `f` and `g` where the mask `swap` says so, then adds `sign` times `f` to `g`.
#[inline(always)]
fn step(f: &mut Bits, g: &mut Bits, sign: i8, swap: u64) {
    let keep = 0u64.wrapping_sub(u64::from(sign as u8 & 1));
    let negate = 0u64.wrapping_sub(u64::from(sign as u8 >> 7));
    for at in 0..WORDS {
        let exchange = swap & (f.nonzero[at] ^ g.nonzero[at]);
        f.nonzero[at] ^= exchange;
        let x0 = g.nonzero[at] ^ exchange;
        let exchange = swap & (f.negative[at] ^ g.negative[at]);
        f.negative[at] ^= exchange;
        let x1 = g.negative[at] ^ exchange;
        let y0 = f.nonzero[at] & keep;
        let y1 = (f.negative[at] ^ (f.nonzero[at] & negate)) & keep;
        // Addition modulo 3 of such pairs of bits (Boothby and Bradshaw 2009).
        let (s, t) = (x0 ^ y1, x1 ^ y0);
        g.negative[at] = s & t;
        g.nonzero[at] = (s ^ x1) | (t ^ y1);
    }
}

/// The product of two.
pub(crate) fn multiply(f: &Small, g: &Small) -> Small {
    // A sum of 761 products of -1, 0 and 1 stays far within 16 bits.
    let mut product = [0i16; 2 * P];
    for (at, factor) in g.iter().enumerate() {
        let factor = i16::from(*factor);
        for (sum, coefficient) in product[at..at + P].iter_mut().zip(f) {
            *sum = sum.wrapping_add(factor.wrapping_mul(i16::from(*coefficient)));
        }
    }
    // x^p is x + 1.
    for at in (P..2 * P - 1).rev() {
        product[at - P] += product[at];
        product[at - P + 1] += product[at];
    }
    let mut out = [0i8; P];
    for (to, from) in out.iter_mut().zip(&product) {
        *to = freeze3(i32::from(*from));
    }
    product.zeroize();
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::small::tests::smalls;

    #[test]
    fn a_polynomial_without_inverse_has_none() {
        assert_eq!(reciprocal(&[0; P]), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(16))]

        #[test]
        fn a_polynomial_times_its_inverse_is_one(g in smalls()) {
            if let Some(inverse) = reciprocal(&g) {
                let mut one = [0; P];
                one[0] = 1;
                prop_assert_eq!(multiply(&g, &inverse), one);
            }
        }
    }
}
