//! Folding a constant to a block (RFC 3961 §5.1).

/// Folds `input` to `N` bytes: copies of it, each turned by 13 bits more, are added up with the carry going around.
pub(super) fn fold<const N: usize>(input: &[u8]) -> [u8; N] {
    let mut out = [0u8; N];
    let bits = input.len() * 8;
    if bits == 0 {
        return out;
    }
    let copies = lcm(N, input.len()) / input.len();
    // Whole copies, written one behind the other.
    let long: Vec<u8> = (0..copies).flat_map(|copy| turned(input, 13 * copy % bits)).collect();
    for piece in long.chunks_exact(N) {
        let mut carry = 0u16;
        for (sum, byte) in out.iter_mut().zip(piece).rev() {
            let added = u16::from(*sum) + u16::from(*byte) + carry;
            *sum = added.to_le_bytes()[0];
            carry = added >> 8;
        }
        // Ones' complement: what falls off at the top comes in at the bottom.
        for sum in out.iter_mut().rev() {
            let added = u16::from(*sum) + carry;
            *sum = added.to_le_bytes()[0];
            carry = added >> 8;
        }
    }
    out
}

/// The bits of `input`, turned to the right.
fn turned(input: &[u8], by: usize) -> impl Iterator<Item = u8> + '_ {
    let (len, bytes, bits) = (input.len(), by / 8, by % 8);
    (0..len).map(move |at| {
        let byte =
            |back: usize| u16::from(input.get((at + 2 * len - bytes - back) % len).copied().unwrap_or(0));
        let both = byte(1) << 8 | byte(0);
        (both >> bits).to_le_bytes()[0]
    })
}

fn lcm(a: usize, b: usize) -> usize {
    let (mut x, mut y) = (a, b);
    while y != 0 {
        (x, y) = (y, x % y);
    }
    a / x * b
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn constants_fold_as_in_the_standards_examples() {
        // RFC 3961 appendix A.1
        assert_eq!(fold::<8>(b"012345"), [0xbe, 0x07, 0x26, 0x31, 0x27, 0x6b, 0x19, 0x55]);
        assert_eq!(fold::<7>(b"password"), [0x78, 0xa0, 0x7b, 0x6c, 0xaf, 0x85, 0xfa]);
        assert_eq!(fold::<8>(b"kerberos"), *b"kerberos");
        assert_eq!(
            fold::<16>(b"kerberos"),
            [0x6b, 0x65, 0x72, 0x62, 0x65, 0x72, 0x6f, 0x73, 0x7b, 0x9b, 0x5b, 0x2b, 0x93, 0x13, 0x2b, 0x93]
        );
        assert_eq!(fold::<8>(b""), [0; 8]);
    }
}
