//! The part of a login that is about a session which is opened together with it.

use lantern_ssh::SshError;
use tokio::time::timeout;

use crate::LinkError;
use crate::early;
use crate::login::Login;
use crate::pump::PumpError;

impl Login<'_, '_> {
    /// Has the session opened with the login by this key, if it is the key for that.
    pub(crate) fn open_with(&mut self, index: usize) {
        let Some(key) = self.keys.get(index).map(|key| key.public.fingerprint()) else { return };
        if let Some(early) = self.early.take_if(|early| early.key == key) {
            self.client.open_with_login(early.session);
            self.opened_with = Some(key);
        }
    }

    /// Waits until a session that was opened with the login is open, which it is with the same flight; whoever opens it late is found out by whoever uses it.
    pub(crate) async fn await_early(&mut self) -> Result<(), LinkError> {
        let limit = self.request.limits.login;
        let opened = async {
            while self.client.early_is_awaited() {
                self.pump.turn(&mut self.client).await?;
            }
            Ok(())
        };
        match timeout(limit, opened).await {
            Ok(Err(error)) => Err(self.ended(error)),
            _ => Ok(()),
        }
    }

    /// Whether that is what the connection ended by; noted, so that it does not happen again.
    pub(crate) fn ended_by_early(&self, error: &PumpError) -> bool {
        let (PumpError::Ssh(source), Some(key)) = (error, self.opened_with) else { return false };
        let is_that = early::is_to_blame(&self.client, source);
        if is_that {
            early::note_unwelcome(self.request, &self.client, key, *source == SshError::EarlyUnwelcome);
        }
        is_that
    }

    /// A login was not enough: with this key at this server, the next visit goes one step after the other.
    pub(crate) fn note_rejected(&self) {
        if let Some(key) = self.opened_with.filter(|_| self.client.early_may_be_unwelcome()) {
            early::note_unwelcome(self.request, &self.client, key, false);
        }
    }
}
