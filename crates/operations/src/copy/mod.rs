//! Files from one side to another: this computer and a machine, or two machines, whose bytes stream through here and touch no disk on the way.
//!
//! [`plan`] looks at both sides and says what is to be done; [`carry_out`] does it. Nothing appears under its own name before all of it is there: each
//! file is written beside its place, brought to disk, and renamed.

mod by_shell;
mod carry;
mod digest;
mod moved;
mod news;
mod one;
mod options;
mod part;
mod plan;
mod report;
mod roots;
mod stream;
mod zeros;

pub use by_shell::{fetch_by_shell, send_by_shell};
pub use carry::carry_out;
pub use digest::{Digest, digest};
pub use moved::{CopyFault, Moved};
pub use news::{CopyWatch, Left, News, Stop};
pub use options::{CopyOptions, Same};
pub(crate) use part::new_part as part_name;
pub use plan::{FileDeed, FolderDeed, LinkDeed, Plan, PlanError, Removal, plan};
pub use report::Report;
pub use roots::{Destination, Root, Roots, RootsError, roots};
pub use stream::{copy_in, copy_out};
