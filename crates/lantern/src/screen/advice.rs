//! What is said to do about a failure.

/// What a failure means, a line each, and the one command to type.
pub(crate) struct Advice {
    pub(crate) lines: Vec<String>,
    pub(crate) command: String,
}

impl Advice {
    pub(crate) fn new<T: Into<String>>(
        lines: impl IntoIterator<Item = T>,
        command: impl Into<String>,
    ) -> Self {
        Self { lines: lines.into_iter().map(Into::into).collect(), command: command.into() }
    }
}
