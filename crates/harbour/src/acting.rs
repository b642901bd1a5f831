//! Who may act as others on a simulated machine.

/// Who may act as others on a machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Acting {
    /// It has no program for that.
    #[default]
    Missing,
    /// Nobody.
    Nobody,
    /// Whoever is logged in, without a password.
    Freely,
    /// Whoever says this password.
    ByPassword(String),
    /// Whoever answers a question that is not for the password.
    ByCode,
}
