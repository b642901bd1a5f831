//! The display that graphical programs draw on: how it is called, what it wants to know, and whether it answers (X Window System Protocol).

mod authority;
mod hello;
mod name;
mod reach;

pub use authority::{AuthorityError, AuthorityFile, DisplayAuthorization};
pub use name::DisplayName;
pub use reach::{
    DisplayAnswer, DisplayError, DisplayHere, RestrictedAuthorization, restricted_authorization,
};

#[cfg(fuzzing)]
pub use authority::fuzz_entries;
#[cfg(fuzzing)]
pub use hello::fuzz_reply;
