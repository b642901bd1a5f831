//! Flow control of one channel (RFC 4254 §5.2). All arithmetic that a peer can steer is in here, and checked.

use std::time::{Duration, Instant};

use crate::SshError;
use crate::limits::{INITIAL_WINDOW, MAX_WINDOW};

/// How much we may still send.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SendWindow(u32);

impl SendWindow {
    pub(crate) fn new(bytes: u32) -> Self {
        Self(bytes)
    }

    pub(crate) fn left(self) -> u32 {
        self.0
    }

    /// CHANNEL_WINDOW_ADJUST: the sum must stay below 2³² (§5.2).
    pub(crate) fn grow(&mut self, bytes: u32) -> Result<(), SshError> {
        let rule = "a window must stay below 2³² bytes (RFC 4254 §5.2)";
        self.0 = self.0.checked_add(bytes).ok_or(SshError::PeerBroke { rule })?;
        Ok(())
    }

    /// Notes that `bytes` are being sent; never more than [`Self::left`].
    pub(crate) fn take(&mut self, bytes: u32) {
        self.0 = self.0.saturating_sub(bytes);
    }
}

/// How much the peer may still send, and how much we let it.
///
/// The window grows with the bandwidth-delay product: when half of it is used up in less than two round trips,
/// the peer is waiting for us rather than for the line, and the window doubles, up to [`MAX_WINDOW`]. It never
/// grows while the data is not being consumed, so memory stays bounded by the window.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RecvWindow {
    size: u32,
    left: u32,
    consumed: u32,
    last_adjust: Option<Instant>,
}

impl RecvWindow {
    pub(crate) fn new() -> Self {
        Self { size: INITIAL_WINDOW, left: INITIAL_WINDOW, consumed: 0, last_adjust: None }
    }

    /// Data came in.
    pub(crate) fn on_data(&mut self, bytes: usize) -> Result<(), SshError> {
        let left = u32::try_from(bytes).ok().and_then(|bytes| self.left.checked_sub(bytes));
        self.left = left
            .ok_or(SshError::PeerBroke { rule: "it must not send more than the window (RFC 4254 §5.2)" })?;
        Ok(())
    }

    /// Data was used: by how much to adjust the window now, if at all.
    pub(crate) fn on_consumed(&mut self, bytes: usize, now: Instant, rtt: Option<Duration>) -> Option<u32> {
        let outstanding = self.size - self.left - self.consumed;
        self.consumed += u32::try_from(bytes).unwrap_or(u32::MAX).min(outstanding);
        if self.consumed < self.size / 2 {
            return None;
        }
        let mut adjust = self.consumed;
        let quick = match (self.last_adjust, rtt) {
            (Some(last), Some(rtt)) => now.saturating_duration_since(last) < rtt * 2,
            _ => false,
        };
        if quick && self.size < MAX_WINDOW {
            let size = (self.size * 2).min(MAX_WINDOW);
            adjust += size - self.size;
            self.size = size;
        }
        self.consumed = 0;
        self.left += adjust;
        self.last_adjust = Some(now);
        Some(adjust)
    }
}

#[cfg(test)]
mod tests {
    // Virtual time starts at some instant; it is only ever moved on by hand.
    #![allow(clippy::disallowed_methods)]

    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_window_grows_to_the_bandwidth_delay_product_and_no_further() {
        let (start, rtt) = (Instant::now(), Duration::from_millis(200));
        // 40 MB/s over 200 ms: 8 MB are under way; half a window must last two round trips, so 32 MB settle it.
        let settled = |bytes_per_ms: u32| {
            let mut window = RecvWindow::new();
            for ms in 0..5000 {
                let bytes = bytes_per_ms.min(window.left) as usize;
                window.on_data(bytes).unwrap();
                window.on_consumed(bytes, start + Duration::from_millis(ms), Some(rtt));
            }
            window.size
        };
        assert_eq!(settled(40_000), 32 << 20);
        assert_eq!(settled(1_000_000), MAX_WINDOW);
        assert_eq!(settled(100), INITIAL_WINDOW);
    }

    proptest! {
        /// Whatever is sent and consumed, what is under way never exceeds the window, and the peer is never starved.
        #[test]
        fn credit_is_conserved(steps in proptest::collection::vec((0u32..400_000, 0u64..500), 1..200)) {
            let (mut window, mut now) = (RecvWindow::new(), Instant::now());
            let mut credit = INITIAL_WINDOW;
            for (bytes, ms) in steps {
                let bytes = bytes.min(credit);
                window.on_data(bytes as usize).unwrap();
                credit -= bytes;
                now += Duration::from_millis(ms);
                credit += window.on_consumed(bytes as usize, now, Some(Duration::from_millis(50))).unwrap_or(0);
                prop_assert_eq!(credit, window.left);
                prop_assert!(credit >= window.size / 2);
                prop_assert!(window.clone().on_data(credit as usize + 1).is_err());
            }
        }
    }
}
