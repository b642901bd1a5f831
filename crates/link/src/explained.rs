//! A failure that another process has explained already.

/// A failure as it is told: by a process that did something for another one.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Explained {
    /// The exit code.
    pub code: u8,
    /// What was attempted and met, in a line.
    pub headline: String,
    /// More about it, a line each.
    pub details: Vec<String>,
    /// What to do about it, a line each.
    pub hints: Vec<String>,
    /// Whether another try would come to the same.
    pub is_final: bool,
}
