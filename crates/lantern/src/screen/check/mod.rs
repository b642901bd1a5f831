//! What `lantern check` shows: the steps, what they mean, and many machines at once.

pub(crate) mod advice;
mod mends;
pub(crate) mod report;
