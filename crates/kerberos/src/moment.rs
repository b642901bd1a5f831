//! Moments come in from the caller: there is no clock here.

/// A moment, as this protocol sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Moment {
    /// Seconds since 1970.
    pub seconds: i64,
    /// Millionths of a second, below a million.
    pub micros: u32,
}

impl Moment {
    /// A whole second.
    pub fn at(seconds: i64) -> Self {
        Self { seconds, micros: 0 }
    }
}
