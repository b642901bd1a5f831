//! Flow control of one channel (RFC 4254 §5.2). All arithmetic that a peer can steer is in here, and checked.

use std::time::{Duration, Instant};

use crate::SshError;
use crate::limits::{
    INITIAL_WINDOW, MAX_CHANNEL_PACKET, MAX_WINDOW, MAX_WINDOWS, MIN_INITIAL_WINDOW, MIN_SPLIT_PACKET,
};

/// How much we may still send.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SendWindow {
    left: u32,
    largest: u32,
}

impl SendWindow {
    pub(crate) fn new(bytes: u32) -> Self {
        Self { left: bytes, largest: bytes }
    }

    pub(crate) fn left(self) -> u32 {
        self.left
    }

    /// The largest that it has been.
    pub(crate) fn largest(self) -> u32 {
        self.largest
    }

    /// CHANNEL_WINDOW_ADJUST: the sum must stay below 2³² (§5.2).
    pub(crate) fn grow(&mut self, bytes: u32) -> Result<(), SshError> {
        let rule = "a window must stay below 2³² bytes (RFC 4254 §5.2)";
        self.left = self.left.checked_add(bytes).ok_or(SshError::PeerBroke { rule })?;
        self.largest = self.largest.max(self.left);
        Ok(())
    }

    /// Notes that `bytes` are being sent; never more than [`Self::left`].
    pub(crate) fn take(&mut self, bytes: u32) {
        self.left = self.left.saturating_sub(bytes);
    }
}

/// Most data in one packet to a peer that offers this window and takes packets of this size, both in bytes.
///
/// Where the window is small, packets of half of it keep two under way: the peer can make room for the third while the
/// second still travels. One packet of the whole window would leave the line idle for a round trip each time.
pub(crate) fn packet_limit(window: u32, max_packet: u32) -> u32 {
    max_packet.min(MAX_CHANNEL_PACKET).min((window / 2).max(MIN_SPLIT_PACKET))
}

/// The window that a new channel starts with, in bytes, where all channels together have been granted `granted`: a
/// fixed part of what is left, so that few channels have large ones and thousands still have some.
pub(crate) fn initial_window(granted: u64) -> u32 {
    let share = MAX_WINDOWS.saturating_sub(granted) / 64;
    u32::try_from(share).unwrap_or(u32::MAX).clamp(MIN_INITIAL_WINDOW, INITIAL_WINDOW)
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
    pub(crate) fn new(size: u32) -> Self {
        Self { size, left: size, consumed: 0, last_adjust: None }
    }

    /// How large it is when nothing is under way, in bytes.
    pub(crate) fn size(self) -> u32 {
        self.size
    }

    /// Data came in.
    pub(crate) fn on_data(&mut self, bytes: usize) -> Result<(), SshError> {
        let left = u32::try_from(bytes).ok().and_then(|bytes| self.left.checked_sub(bytes));
        self.left = left
            .ok_or(SshError::PeerBroke { rule: "it must not send more than the window (RFC 4254 §5.2)" })?;
        Ok(())
    }

    /// Data was used: by how much to adjust the window now, if at all. It grows by `may_grow` bytes at most.
    pub(crate) fn on_consumed(
        &mut self,
        bytes: usize,
        now: Instant,
        rtt: Option<Duration>,
        may_grow: u64,
    ) -> Option<u32> {
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
            let growth =
                (self.size.min(MAX_WINDOW - self.size)).min(u32::try_from(may_grow).unwrap_or(u32::MAX));
            adjust += growth;
            self.size += growth;
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
            let mut window = RecvWindow::new(INITIAL_WINDOW);
            for ms in 0..5000 {
                let bytes = bytes_per_ms.min(window.left) as usize;
                window.on_data(bytes).unwrap();
                window.on_consumed(bytes, start + Duration::from_millis(ms), Some(rtt), u64::MAX);
            }
            window.size
        };
        assert_eq!(settled(40_000), 32 << 20);
        assert_eq!(settled(1_000_000), MAX_WINDOW);
        assert_eq!(settled(100), INITIAL_WINDOW);
    }

    #[test]
    fn thousands_of_channels_share_one_budget() {
        let mut granted = 0u64;
        let first = initial_window(granted);
        for _ in 0..crate::limits::MAX_CHANNELS {
            granted += u64::from(initial_window(granted));
        }
        assert_eq!((first, initial_window(granted)), (INITIAL_WINDOW, MIN_INITIAL_WINDOW));
        assert!(granted <= crate::limits::MAX_GRANTED, "{granted}");
        // And none grows beyond what is left.
        let mut window = RecvWindow::new(MIN_INITIAL_WINDOW);
        let now = Instant::now();
        for ms in 0..100 {
            let bytes = window.left as usize;
            window.on_data(bytes).unwrap();
            window.on_consumed(bytes, now + Duration::from_millis(ms), Some(Duration::from_secs(1)), 1000);
        }
        assert!(window.size < MIN_INITIAL_WINDOW + 100_001);
    }

    #[test]
    fn a_small_window_is_filled_by_two_packets_and_a_tiny_one_by_one() {
        assert_eq!(packet_limit(24_000, 32_768), 12_000);
        assert_eq!(packet_limit(2 << 20, 32_768), 32_768);
        assert_eq!(packet_limit(2 << 20, u32::MAX), MAX_CHANNEL_PACKET);
        assert_eq!(packet_limit(100, 32_768), MIN_SPLIT_PACKET);
    }

    proptest! {
        /// Whatever is sent and consumed, what is under way never exceeds the window, and the peer is never starved.
        #[test]
        fn credit_is_conserved(steps in proptest::collection::vec((0u32..400_000, 0u64..500), 1..200)) {
            let (mut window, mut now) = (RecvWindow::new(INITIAL_WINDOW), Instant::now());
            let mut credit = INITIAL_WINDOW;
            for (bytes, ms) in steps {
                let bytes = bytes.min(credit);
                window.on_data(bytes as usize).unwrap();
                credit -= bytes;
                now += Duration::from_millis(ms);
                credit += window.on_consumed(bytes as usize, now, Some(Duration::from_millis(50)), u64::MAX).unwrap_or(0);
                prop_assert_eq!(credit, window.left);
                prop_assert!(credit >= window.size / 2);
                prop_assert!(window.clone().on_data(credit as usize + 1).is_err());
            }
        }
    }
}
