//! Bytes without a pattern.

/// Bytes that are the same in every run and repeat nowhere near.
pub fn noise(len: usize) -> Vec<u8> {
    let mut state = 0x1234_5678_9abc_def1u64;
    let mut out = Vec::with_capacity(len + 8);
    while out.len() < len {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        out.extend_from_slice(&state.to_le_bytes());
    }
    out.truncate(len);
    out
}
