//! What is printed: words, tables, JSON, flags, progress, live views. Nothing here asks or connects.

pub(crate) mod advice;
pub(crate) mod ago;
pub(crate) mod certificate;
pub(crate) mod check;
pub(crate) mod copy;
pub(crate) mod display;
pub(crate) mod explain;
pub(crate) mod failure;
pub(crate) mod file_list;
pub(crate) mod files;
pub(crate) mod fit;
pub(crate) mod flags_view;
pub(crate) mod kerberos;
pub(crate) mod key_audit;
mod live_lines;
pub(crate) mod login_advice;
pub(crate) mod machine_lines;
pub(crate) mod many;
pub(crate) mod mark;
pub(crate) mod output;
pub(crate) mod plan;
pub(crate) mod progress;
pub(crate) mod qr;
pub(crate) mod search;
pub(crate) mod size;
pub(crate) mod table;
pub(crate) mod task;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests;
pub(crate) mod tunnel;
pub(crate) mod winrm;
pub(crate) mod wrap;
