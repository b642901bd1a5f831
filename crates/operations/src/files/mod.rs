//! Files, here and on machines, by one set of questions.
//!
//! A [`Side`] is this computer or a machine. Paths and names are bytes, as the side has them; what is known of a file has one form for both.

mod entry;
mod fault;
mod glob;
mod here;
mod location;
mod owner;
mod paths;
mod side;
mod sink;
mod source;
mod tree;

pub use entry::Entry;
pub use fault::FileFault;
pub use glob::{expand, is_pattern};
pub use location::{Location, LocationError, as_served};
pub use owner::{Owner, OwnerError, OwnerNumbers};
pub use paths::{join, name_of, parent_of};
pub use side::{Machine, Side};
pub use sink::Sink;
pub use source::Source;
pub use tree::{MOST_ITEMS, TreeError, TreeItem, walk};
