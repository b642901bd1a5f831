//! Single coefficients: modulo 3 and modulo q, in constant time.

use crate::Q;

/// Brings `x`, between -2²³ and 2²³, to the representative from -(q-1)/2 to (q-1)/2.
#[inline(always)]
pub(crate) fn freeze(x: i32) -> i16 {
    // Two steps of Barrett: 228/2²⁰ and 58470/2²⁸ are a little less than and nearly 1/q.
    let x = x - Q * ((228 * x) >> 20);
    let x = x - Q * ((58_470 * x + (1 << 27)) >> 28);
    x as i16
}

/// The inverse modulo q, by Fermat: `a` to the power of q - 2. Zero stays zero.
pub(crate) fn reciprocal(a: i16) -> i16 {
    let mut result = 1i16;
    for bit in (0..13).rev() {
        result = freeze(i32::from(result) * i32::from(result));
        // The exponent is no secret.
        if (Q - 2) >> bit & 1 == 1 {
            result = freeze(i32::from(result) * i32::from(a));
        }
    }
    result
}

/// Brings `x` to the representative -1, 0 or 1 modulo 3, for |x| below 2¹⁴.
#[inline(always)]
pub(crate) fn freeze3(x: i32) -> i8 {
    // 10923/2¹⁵ is nearly 1/3.
    (x - 3 * ((10_923 * x + (1 << 14)) >> 15)) as i8
}

/// -1 where `x` is not zero, else 0.
#[inline(always)]
pub(crate) fn nonzero_mask(x: i16) -> i16 {
    let x = x as u16;
    -(((x | x.wrapping_neg()) >> 15) as i16)
}

/// -1 where `x` is negative, else 0.
#[inline(always)]
pub(crate) fn negative_mask(x: i16) -> i16 {
    x >> 15
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_value_is_brought_to_its_representative() {
        for x in -(1 << 23)..(1 << 23) {
            let frozen = i32::from(freeze(x));
            assert!((-2295..=2295).contains(&frozen) && (x - frozen) % Q == 0, "{x} {frozen}");
        }
        for x in -16_383..=16_383 {
            let frozen = i32::from(freeze3(x));
            assert!((-1..=1).contains(&frozen) && (x - frozen) % 3 == 0, "{x} {frozen}");
        }
    }

    #[test]
    fn every_coefficient_times_its_inverse_is_one() {
        for a in (-2295i16..=2295).filter(|a| *a != 0) {
            assert_eq!(freeze(i32::from(a) * i32::from(reciprocal(a))), 1);
        }
        assert_eq!(reciprocal(0), 0);
    }

    #[test]
    fn masks_are_all_ones_or_nothing() {
        for x in i16::MIN..=i16::MAX {
            assert_eq!(nonzero_mask(x), if x == 0 { 0 } else { -1 });
            assert_eq!(negative_mask(x), if x < 0 { -1 } else { 0 });
        }
    }
}
