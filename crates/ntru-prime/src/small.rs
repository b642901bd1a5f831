//! Random small polynomials.

use zeroize::{Zeroize, Zeroizing};

use crate::{P, Small, W};

/// Where random bytes come from.
pub(crate) type Random<'a> = &'a mut dyn FnMut(&mut [u8]);

fn words(random: Random<'_>) -> Zeroizing<[u32; P]> {
    let mut bytes = Zeroizing::new([0u8; 4 * P]);
    random(&mut *bytes);
    let mut words = Zeroizing::new([0; P]);
    for (word, bytes) in words.iter_mut().zip(bytes.as_chunks::<4>().0) {
        *word = u32::from_le_bytes(*bytes);
    }
    words
}

/// Every coefficient -1, 0 or 1, nearly evenly.
pub(crate) fn random_small(random: Random<'_>) -> Small {
    let mut out = [0; P];
    for (to, word) in out.iter_mut().zip(words(random).iter()) {
        *to = ((((word & 0x3fff_ffff) * 3) >> 30) as i8) - 1;
    }
    out
}

/// Exactly [`W`] coefficients -1 or 1, the others 0, at places that are shuffled by sorting random numbers.
pub(crate) fn random_short(random: Random<'_>) -> Small {
    let mut words = words(random);
    for (at, word) in words.iter_mut().enumerate() {
        *word = if at < W { *word & !1 } else { (*word & !3) | 1 };
    }
    sort(&mut words);
    let mut out = [0; P];
    for (to, word) in out.iter_mut().zip(words.iter()) {
        *to = ((word & 3) as i8) - 1;
    }
    out
}

/// Sorts by a network of comparisons (Batcher's odd-even merge sort): the same ones for every input.
fn sort(words: &mut [u32; P]) {
    let mut half = 1;
    while half < P {
        let mut distance = half;
        while distance > 0 {
            let first = distance % half;
            let mut start = first;
            while start + distance < P {
                for low in start..(start + distance).min(P - distance) {
                    if low / (2 * half) == (low + distance) / (2 * half) {
                        let (a, b) = (words[low], words[low + distance]);
                        // A mask, so that nothing branches on what is sorted.
                        let exchange = 0u32
                            .wrapping_sub(((u64::from(b).wrapping_sub(u64::from(a))) >> 63) as u32)
                            & (a ^ b);
                        words[low] = a ^ exchange;
                        words[low + distance] = b ^ exchange;
                    }
                }
                start += 2 * distance;
            }
            distance /= 2;
        }
        half *= 2;
    }
}

/// Wipes a polynomial that was a secret.
pub(crate) fn wipe(mut small: Small) {
    small.zeroize();
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;

    pub(crate) fn smalls() -> impl Strategy<Value = Small> {
        proptest::collection::vec(-1i8..=1, P).prop_map(|all| all.try_into().unwrap())
    }

    pub(crate) fn seeded(mut state: u64) -> impl FnMut(&mut [u8]) {
        move |out| {
            for byte in out {
                state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
                let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
                *byte = (mixed >> 56) as u8;
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn the_network_sorts(words in proptest::collection::vec(any::<u32>(), P)) {
            let mut network: [u32; P] = words.clone().try_into().unwrap();
            sort(&mut network);
            let mut sorted = words;
            sorted.sort_unstable();
            prop_assert_eq!(network.to_vec(), sorted);
        }

        #[test]
        fn short_ones_have_their_weight_and_small_ones_all_three_values(seed: u64) {
            let short = random_short(&mut seeded(seed));
            prop_assert_eq!(short.iter().filter(|coefficient| **coefficient != 0).count(), W);
            prop_assert!(short.contains(&-1) && short.contains(&1));
            let small = random_small(&mut seeded(seed));
            for value in -1..=1 {
                let count = small.iter().filter(|coefficient| **coefficient == value).count();
                prop_assert!((180..330).contains(&count), "{} times {}", count, value);
            }
        }
    }
}
