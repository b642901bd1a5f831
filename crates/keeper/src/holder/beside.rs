//! What a holder does beside holding tunnels, where it is the keeper.

use std::future::Future;
use std::pin::Pin;

use super::messages::LinkReport;
use crate::talk::Talk;
use crate::wanted::{Keeping, Wanted};

/// Something that is done for a program, until it is done.
pub(crate) type Doing<'a> = Pin<Box<dyn Future<Output = ()> + Send + 'a>>;

/// What is done for programs.
pub(crate) trait Beside: Send + Sync {
    /// One wants to join a connection.
    fn join(&self, wanted: Wanted, talk: Talk) -> Doing<'_>;

    /// One wants tunnels kept.
    fn keep(&self, keeping: Keeping, talk: Talk) -> Doing<'_>;

    /// The connections that there are.
    fn links(&self) -> Vec<LinkReport>;
}
