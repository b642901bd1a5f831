//! What a login says of the keys that it had: which were refused, which were not offered, and which was taken.

use lantern_keys::{Fingerprint, PublicKey};
use lantern_ssh::Disconnect;

use crate::LinkError;
use crate::ask::Note;
use crate::error::AuthFailure;
use crate::login::Login;

impl Login<'_, '_> {
    pub(crate) fn failed(&self, ended: Option<Disconnect>) -> LinkError {
        LinkError::Auth(Box::new(AuthFailure {
            machine: self.request.machine.clone(),
            user: self.request.user.clone(),
            methods: self.plan.methods().to_vec(),
            report: self.plan.report(),
            not_offered: self.not_offered(),
            exposed: self.left_out.exposed.clone(),
            ended,
        }))
    }

    /// The keys that the server did not hear of, though it takes keys.
    fn not_offered(&self) -> Vec<String> {
        let mut names = self.plan.untried_keys();
        if self.plan.methods().iter().any(|method| method == "publickey") {
            names.extend(self.left_out.too_many.iter().cloned());
        }
        names
    }

    /// By which key the login was made, if by one.
    pub(crate) fn key_that_was_taken(&self) -> Option<Fingerprint> {
        self.plan.current_key().map(PublicKey::fingerprint)
    }

    /// Tells why a question comes now: once, before the first.
    pub(crate) fn tell_refusals(&mut self) {
        if !std::mem::replace(&mut self.refusals_told, true) {
            let (refused, not_offered) = (self.plan.refused_keys(), self.not_offered());
            self.ask.note(&Note::KeysRefused {
                machine: &self.request.machine,
                refused: &refused,
                not_offered: &not_offered,
            });
        }
    }
}
