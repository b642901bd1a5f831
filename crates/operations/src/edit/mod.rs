//! A file of a machine that is edited here: fetched, watched while an editor has it, and put back at each save, whole or not at all.

mod merge;
mod remote_file;
mod watch;

pub use merge::merged;
pub use remote_file::{EditFault, RemoteFile, Saved};
pub use watch::{DraftWatch, QUIET};
