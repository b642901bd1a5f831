//! What was never written of a file, where it goes as a stream: zeros.

use bytes::Bytes;

/// Most zeros that are held, in bytes: a hole may be larger than any memory.
const PIECE: u64 = 64 * 1024;

/// As many zeros as this, in pieces that share one place in memory.
pub(super) fn zeros(len: u64) -> impl Iterator<Item = Bytes> {
    let piece = Bytes::from(vec![0; usize::try_from(len.min(PIECE)).unwrap_or(0)]);
    let mut left = len;
    std::iter::from_fn(move || {
        let next = usize::try_from(left).unwrap_or(usize::MAX).min(piece.len());
        left = left.saturating_sub(next as u64);
        (next > 0).then(|| piece.slice(..next))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_zeros_come_as_were_asked_for() {
        for len in [0, 1, PIECE - 1, PIECE, PIECE + 1, 40 * PIECE + 7] {
            let pieces: Vec<Bytes> = zeros(len).collect();
            assert_eq!(pieces.iter().map(|piece| piece.len() as u64).sum::<u64>(), len);
            assert!(pieces.iter().all(|piece| piece.iter().all(|byte| *byte == 0)));
        }
        // The size of a hole is the size of nothing here.
        assert_eq!(zeros(u64::MAX).next().map(|piece| piece.len() as u64), Some(PIECE));
    }
}
