//! What is shown of a copy: how far it is, what it would do, and what came of it.

pub(crate) mod board;
pub(crate) mod plan;
pub(crate) mod rate;
pub(crate) mod report;

use std::borrow::Cow;

/// A path as it is shown.
pub(crate) fn shown(path: &[u8]) -> Cow<'_, str> {
    String::from_utf8_lossy(path)
}
