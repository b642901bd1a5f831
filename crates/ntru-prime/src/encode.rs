//! Polynomials as bytes. Encoding takes the same time for all; decoding is used on what the wire carries, and not on secrets.

use crate::{ENCAPSULATION_KEY_LEN, Large, P, Q, ROUNDED_LEN, SMALL_LEN, Small};

/// Largest modulus that is not split further.
const LIMIT: u32 = 16_384;
const HALF_Q: i32 = (Q - 1) / 2;

/// Four coefficients a byte.
pub(crate) fn encode_small(small: &Small) -> [u8; SMALL_LEN] {
    let mut out = [0; SMALL_LEN];
    for (byte, coefficients) in out.iter_mut().zip(small.chunks(4)) {
        for (at, coefficient) in coefficients.iter().enumerate() {
            *byte |= ((coefficient + 1) as u8) << (2 * at);
        }
    }
    out
}

#[cfg(test)]
pub(crate) fn decode_small(bytes: &[u8]) -> Small {
    std::array::from_fn(|at| ((bytes[at / 4] >> (2 * (at % 4))) & 3) as i8 - 1)
}

/// Coefficients modulo q.
pub(crate) fn encode_large(large: &Large) -> [u8; ENCAPSULATION_KEY_LEN] {
    let digits = large.map(|coefficient| (i32::from(coefficient) + HALF_Q) as u16);
    encode(&digits, Q as u16)
}

/// The polynomial that was encoded; what no encoding gives is brought into range.
pub(crate) fn decode_large(bytes: &[u8; ENCAPSULATION_KEY_LEN]) -> Large {
    decode(bytes, Q as u16).map(|digit| (i32::from(digit) - HALF_Q) as i16)
}

/// Coefficients that are multiples of 3.
pub(crate) fn encode_rounded(rounded: &Large) -> [u8; ROUNDED_LEN] {
    // 10923/2¹⁵ is nearly 1/3.
    let digits = rounded.map(|coefficient| (((i32::from(coefficient) + HALF_Q) * 10_923) >> 15) as u16);
    encode(&digits, ((Q + 2) / 3) as u16)
}

pub(crate) fn decode_rounded(bytes: &[u8; ROUNDED_LEN]) -> Large {
    decode(bytes, ((Q + 2) / 3) as u16).map(|digit| (i32::from(digit) * 3 - HALF_Q) as i16)
}

/// Digits to a base as bytes (section 3.2 of the specification): neighbours are joined to one digit of a larger base, whose low
/// bytes leave as soon as it would not fit any more, until one digit is left.
fn encode<const LEN: usize>(digits: &[u16; P], base: u16) -> [u8; LEN] {
    let mut out = [0; LEN];
    let mut at = 0;
    let mut put = |byte: u32| {
        if let Some(place) = out.get_mut(at) {
            *place = byte as u8;
        }
        at += 1;
    };
    let mut digits: Vec<(u32, u32)> =
        digits.iter().map(|digit| (u32::from(*digit), u32::from(base))).collect();
    while digits.len() > 1 {
        digits = digits
            .chunks(2)
            .map(|pair| match *pair {
                [(low, low_base), (high, high_base)] => {
                    let (mut joined, mut base) = (low + high * low_base, low_base * high_base);
                    while base >= LIMIT {
                        put(joined);
                        joined >>= 8;
                        base = base.div_ceil(256);
                    }
                    (joined, base)
                }
                _ => pair.first().copied().unwrap_or_default(),
            })
            .collect();
    }
    let (mut last, mut base) = digits.first().copied().unwrap_or_default();
    while base > 1 {
        put(last);
        last >>= 8;
        base = base.div_ceil(256);
    }
    out
}

/// The bases of one level, and the low bytes that left there, each with its scale.
type Level = (Vec<u32>, Vec<(u32, u32)>);

/// The digits of [`encode`].
fn decode<const LEN: usize>(bytes: &[u8; LEN], base: u16) -> [u16; P] {
    let mut bytes = bytes.iter().map(|byte| u32::from(*byte));
    let mut take = || bytes.next().unwrap_or_default();
    // Down: the bases of each level, and the low bytes that left there.
    let mut levels: Vec<Level> = Vec::new();
    let mut bases = vec![u32::from(base); P];
    while bases.len() > 1 {
        let mut joined_bases = Vec::with_capacity(bases.len().div_ceil(2));
        let mut low_bytes = Vec::with_capacity(bases.len() / 2);
        for pair in bases.chunks(2) {
            let &[low, high] = pair else {
                joined_bases.extend_from_slice(pair);
                continue;
            };
            let (mut base, mut low, mut scale) = (low * high, 0, 1);
            while base >= LIMIT {
                low += take() * scale;
                scale *= 256;
                base = base.div_ceil(256);
            }
            joined_bases.push(base);
            low_bytes.push((low, scale));
        }
        levels.push((std::mem::replace(&mut bases, joined_bases), low_bytes));
    }
    let last_base = bases.first().copied().unwrap_or(1);
    let (mut last, mut scale, mut base) = (0, 1, last_base);
    while base > 1 {
        last += take() * scale;
        scale *= 256;
        base = base.div_ceil(256);
    }
    // And up again.
    let mut digits = vec![last % last_base];
    for (bases, low_bytes) in levels.iter().rev() {
        let mut below = Vec::with_capacity(bases.len());
        for (at, pair) in bases.chunks(2).enumerate() {
            let digit = digits.get(at).copied().unwrap_or_default();
            match (pair, low_bytes.get(at)) {
                (&[low_base, high_base], Some((low, scale))) => {
                    let joined = low + digit * scale;
                    below.push(joined % low_base);
                    // The remainder changes something only for bytes that nobody encoded.
                    below.push(joined / low_base % high_base);
                }
                _ => below.push(digit),
            }
        }
        digits = below;
    }
    std::array::from_fn(|at| digits.get(at).copied().unwrap_or_default() as u16)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ringq::round;
    use crate::small::tests::smalls;

    proptest! {
        #[test]
        fn what_is_encoded_is_decoded(large in proptest::collection::vec(-2295i16..=2295, P), small in smalls()) {
            let large: Large = large.try_into().unwrap();
            prop_assert_eq!(decode_large(&encode_large(&large)), large);
            let rounded = round(&large);
            prop_assert_eq!(decode_rounded(&encode_rounded(&rounded)), rounded);
            prop_assert_eq!(decode_small(&encode_small(&small)), small);
        }

        #[test]
        fn any_bytes_decode_to_coefficients_in_range(bytes in proptest::collection::vec(any::<u8>(), ENCAPSULATION_KEY_LEN)) {
            let large = decode_large(&bytes.clone().try_into().unwrap());
            prop_assert!(large.iter().all(|coefficient| (-2295..=2295).contains(coefficient)));
            let rounded = decode_rounded(&bytes[..ROUNDED_LEN].try_into().unwrap());
            prop_assert!(rounded.iter().all(|coefficient| (-2295..=2298).contains(coefficient)));
        }
    }
}
