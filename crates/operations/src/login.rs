//! Logging in for an operation, and the proof of what one key is good for.

use lantern_book::Home;
use lantern_link::{Ask, KeyChoice, LinkError, Remote, Trunk, connect};

use crate::{OperationError, ReachOptions, Target};

/// Whom to reach, how, and whom to ask.
#[derive(Clone, Copy)]
pub struct Way<'a> {
    /// Where book, trust and keys are.
    pub home: &'a Home,
    /// The machine.
    pub target: &'a Target,
    /// What is said for this one time.
    pub options: &'a ReachOptions,
    /// Who answers.
    pub ask: &'a dyn Ask,
}

impl Way<'_> {
    /// Logs in with these keys and no others; `keys_only`: without passwords and questions of the machine.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn log_in(&self, keys: KeyChoice, keys_only: bool) -> Result<Trunk, OperationError> {
        let request = self.target.request(self.home, self.options, keys, keys_only)?;
        Ok(connect(&request, self.ask).await?)
    }

    /// Reaches the machine by whichever protocol it is spoken to, for what both have.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn reach(&self) -> Result<Remote, OperationError> {
        let request = self.target.remote_request(self.home, self.options)?;
        Ok(Remote::connect(&request, self.ask).await?)
    }

    /// Logs in with the keys that options or book say.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn log_in_as_usual(&self) -> Result<Trunk, OperationError> {
        self.log_in(self.target.keys(self.options), false).await
    }
}

/// What logging in with one key and nothing else came to.
#[derive(Debug)]
pub enum Proof {
    /// It let us in.
    LoggedIn(Trunk),
    /// The machine takes the key, and wants more besides, or the key stayed locked.
    Accepted,
    /// The machine does not take it.
    Refused(LinkError),
}

/// Logs in with this key of the ring alone.
///
/// # Errors
/// Failures that say nothing about the key.
pub async fn prove(way: Way<'_>, key: &str) -> Result<Proof, OperationError> {
    match way.log_in(KeyChoice::Named(vec![key.to_owned()]), true).await {
        Ok(trunk) => Ok(Proof::LoggedIn(trunk)),
        Err(OperationError::Link(LinkError::Auth(auth))) => {
            // "Locked" comes after the machine was asked about the key, and said yes.
            let taken = |outcome: &str| outcome.starts_with("accepted") || outcome.starts_with("locked");
            Ok(match auth.report.iter().any(|line| taken(line.outcome)) {
                true => Proof::Accepted,
                false => Proof::Refused(LinkError::Auth(auth)),
            })
        }
        Err(error) => Err(error),
    }
}
