//! How fast something goes, by what came in the last seconds: what stands still is not told to be fast.

use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// What counts.
const SPAN: Duration = Duration::from_secs(5);
/// Samples are no closer than this.
const STEP: Duration = Duration::from_millis(100);

/// How fast something goes.
#[derive(Debug, Default)]
pub(crate) struct Rate {
    /// Times, with the bytes that had come by then.
    samples: VecDeque<(Instant, u64)>,
}

impl Rate {
    /// So many bytes have come by now.
    pub(crate) fn note(&mut self, bytes: u64, now: Instant) {
        if self.samples.back().is_none_or(|(at, _)| now.saturating_duration_since(*at) >= STEP) {
            self.samples.push_back((now, bytes));
        }
        while self.samples.len() > 2
            && self.samples.front().is_some_and(|(at, _)| now.saturating_duration_since(*at) > SPAN)
        {
            self.samples.pop_front();
        }
    }

    /// Bytes a second; none where too little is known.
    pub(crate) fn a_second(&self) -> Option<f64> {
        let ((first, before), (last, after)) = (self.samples.front()?, self.samples.back()?);
        let time = last.saturating_duration_since(*first).as_secs_f64();
        (time >= 0.5).then(|| after.saturating_sub(*before) as f64 / time)
    }
}

/// A time in words: "48 s", "3 min", "2 h 5 min".
pub(crate) fn time_words(seconds: f64) -> String {
    let seconds = seconds.ceil().min(1e9) as u64;
    match seconds {
        0..=89 => format!("{seconds} s"),
        90..=5399 => format!("{} min", seconds.div_ceil(60)),
        _ => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_still_slows_down_and_what_is_short_is_not_guessed_at() {
        let (mut rate, start) = (Rate::default(), Instant::now());
        rate.note(0, start);
        assert_eq!(rate.a_second(), None);
        for tenth in 1..=50_u32 {
            rate.note(u64::from(tenth) * 100_000, start + tenth * STEP);
        }
        assert!(rate.a_second().is_some_and(|rate| (rate - 1e6).abs() < 1e5), "{rate:?}");
        for tenth in 51..=110 {
            rate.note(5_000_000, start + tenth * STEP);
        }
        assert_eq!(rate.a_second(), Some(0.0));
        let words = [0.2, 89.0, 90.0, 3600.0, 7500.0].map(time_words);
        assert_eq!(words, ["1 s", "89 s", "2 min", "60 min", "2 h 5 min"]);
    }
}
