//! What `lantern check` shows: the steps, what they mean, and many machines at once.

pub(crate) mod advice;
pub(crate) mod live;
mod mends;
pub(crate) mod report;
