//! What machines present now and what that means, what is questionable about what is trusted, and what a team has verified.

mod accept;
mod audit;
mod look;
mod share;

pub use accept::{AcceptError, Wanted, accept};
pub use audit::{Finding, FindingKind, audit};
pub use look::{Looked, Standing, look, standing};
pub use share::{Belief, Offer, ShareError, Shared, Taken, share};
