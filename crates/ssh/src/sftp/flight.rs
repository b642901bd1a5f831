//! How much may be asked for ahead of its answers: twice what the line holds, as measured by what it brings.

use std::time::{Duration, Instant};

/// Bytes under way at first: a tenth of a second of a 160 Mbit/s line.
const FIRST: u64 = 2 * 1024 * 1024;
/// Fewest bytes under way: a slow line is kept busy while the machine looks for the next ones.
const LEAST: u64 = 256 * 1024;
/// Most bytes under way: 1 Gbit/s over half a second, as for a channel's window.
const MOST: u64 = 64 * 1024 * 1024;
/// A rate counts for this long.
const RATE_HOLDS: Duration = Duration::from_secs(2);

/// What is under way, and how much may be.
#[derive(Debug)]
pub struct Flight {
    under_way: u64,
    /// Bytes that have been answered since the beginning.
    delivered: u64,
    /// Shortest time from a question to its answer.
    shortest: Option<Duration>,
    /// Best rates, in bytes a second: of the current span of time and of the one before.
    rates: [f64; 2],
    span_began: Option<Instant>,
    limit: u64,
}

/// A question that is under way: what had been delivered when it left, and when that was.
#[derive(Debug, Clone, Copy)]
pub struct Departure {
    bytes: u64,
    delivered: u64,
    at: Instant,
}

impl Default for Flight {
    fn default() -> Self {
        Self { under_way: 0, delivered: 0, shortest: None, rates: [0.0; 2], span_began: None, limit: FIRST }
    }
}

impl Flight {
    /// Whether so many bytes more may be asked for; one question may always.
    pub fn has_room(&self, bytes: u64) -> bool {
        self.under_way == 0 || self.under_way.saturating_add(bytes) <= self.limit
    }

    /// Bytes that may be under way.
    pub fn limit(&self) -> u64 {
        self.limit
    }

    /// A question about so many bytes leaves.
    pub fn leaves(&mut self, bytes: u64, now: Instant) -> Departure {
        self.under_way = self.under_way.saturating_add(bytes);
        Departure { bytes, delivered: self.delivered, at: now }
    }

    /// It was answered.
    pub fn arrives(&mut self, departure: Departure, now: Instant) {
        self.under_way = self.under_way.saturating_sub(departure.bytes);
        self.delivered = self.delivered.saturating_add(departure.bytes);
        let took = now.saturating_duration_since(departure.at).max(Duration::from_micros(1));
        let shortest = self.shortest.map_or(took, |shortest| shortest.min(took));
        self.shortest = Some(shortest);
        let rate = (self.delivered - departure.delivered) as f64 / took.as_secs_f64();
        let span_began = *self.span_began.get_or_insert(now);
        if now.saturating_duration_since(span_began) > RATE_HOLDS {
            self.rates = [0.0, self.rates[0]];
            self.span_began = Some(now);
        }
        self.rates[0] = self.rates[0].max(rate);
        let best = self.rates[0].max(self.rates[1]);
        // Twice: the line is full while half of the answers are on their way back, and a rate that rises is seen to rise.
        let holds = (2.0 * best * shortest.as_secs_f64()) as u64;
        self.limit = holds.clamp(LEAST, MOST).max(self.limit.min(FIRST) / 2);
    }

    /// It will not be answered, or nobody waits for it.
    pub fn forget(&mut self, departure: Departure) {
        self.under_way = self.under_way.saturating_sub(departure.bytes);
    }
}

#[cfg(test)]
mod tests {
    // Virtual time starts at some instant; it is only ever moved on by hand.
    #![allow(clippy::disallowed_methods)]

    use std::collections::VecDeque;

    use super::*;

    /// What a line of this rate and this latency brings in this time, when asked for as much as may be, in pieces of 32 KiB.
    fn brought(rate: u64, latency: Duration, time: Duration) -> (u64, u64) {
        const PIECE: u64 = 32 * 1024;
        let start = Instant::now();
        let (mut flight, mut now, mut line_free) = (Flight::default(), start, start);
        let mut under_way = VecDeque::new();
        let mut bytes = 0;
        while now < start + time {
            while flight.has_room(PIECE) {
                let departure = flight.leaves(PIECE, now);
                // The answer waits for those before it, and then for the line.
                line_free =
                    line_free.max(now + latency / 2) + Duration::from_secs_f64(PIECE as f64 / rate as f64);
                under_way.push_back((departure, line_free + latency / 2));
            }
            let Some((departure, due)) = under_way.pop_front() else { break };
            now = due;
            flight.arrives(departure, now);
            bytes += PIECE;
        }
        (bytes, flight.limit())
    }

    /// One gigabit over a tenth of a second is full after half a second, and stays so.
    #[test]
    fn a_long_fast_line_is_filled_and_a_slow_one_is_not_flooded() {
        let (rate, time) = (125_000_000, Duration::from_secs(10));
        let (bytes, limit) = brought(rate, Duration::from_millis(100), time);
        assert!(bytes as f64 > 0.95 * 1_250_000_000.0, "{bytes}");
        assert!(limit < 4 * 12_500_000, "{limit}");
        let (bytes, limit) = brought(1_000_000, Duration::from_millis(50), time);
        assert!(bytes as f64 > 0.95 * 10_000_000.0, "{bytes}");
        assert!(limit <= FIRST, "{limit}");
    }
}
