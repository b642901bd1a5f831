//! Who a machine is, whatever it is spoken to by.

use lantern_book::Presented;

/// Who a machine is, and as whom we are there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The user logged in as.
    pub user: String,
    /// What it proved to be; nothing, where it has proven nothing.
    pub presented: Option<Presented>,
    /// What its service calls itself, as it sent it.
    pub service: String,
}
