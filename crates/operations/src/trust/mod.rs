//! What machines present now and what that means, and what is questionable about what is trusted.

mod accept;
mod audit;
mod look;

pub use accept::{AcceptError, Wanted, accept};
pub use audit::{Finding, FindingKind, audit};
pub use look::{Looked, Standing, look, standing};
