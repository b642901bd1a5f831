//! Why a command does not run as another user.

/// Why a command does not run as another user.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PrivilegeFailure {
    /// The machine said no.
    #[error("{machine} does not let {user} act as {other}{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Refused {
        /// The machine.
        machine: String,
        /// Who is logged in.
        user: String,
        /// Who it was to be.
        other: String,
        /// What the machine's program says; text from outside, made harmless.
        said: String,
        /// Whether a password was among what was refused.
        by_password: bool,
    },
    /// A password is wanted, and none was given.
    #[error("{machine} wants the password of {user} before it lets anybody act as {other}")]
    NoPassword {
        /// The machine.
        machine: String,
        /// Who is logged in.
        user: String,
        /// Who it was to be.
        other: String,
    },
    /// There is no program for it.
    #[error("{machine} has no program by which {user} could act as {other}")]
    NoProgram {
        /// The machine.
        machine: String,
        /// Who is logged in.
        user: String,
        /// Who it was to be.
        other: String,
    },
    /// Neither the prompt nor the command came.
    #[error("{machine} asks for something else before anybody acts as {other}{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Otherwise {
        /// The machine.
        machine: String,
        /// Who it was to be.
        other: String,
        /// What it said; text from outside, made harmless.
        said: String,
    },
}
