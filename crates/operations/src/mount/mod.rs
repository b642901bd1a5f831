//! A folder of a machine as one of this computer's, through FUSE.
//!
//! [`RemoteTree`] does what is asked of files by number, with what is known of them kept for a moment; [`mount_at`] has the kernel ask.

mod changes;
mod filesystem;
mod kernel_forms;
mod known;
mod lifeline;
mod mounted;
mod nodes;
mod open_file;
mod tree;
mod trouble;

pub use lifeline::{Again, Lifeline};
pub use mounted::{MountError, Mounted, mount_at, mounts, unmount};
pub use tree::{RemoteTree, TreeOptions};
pub use trouble::Trouble;
