//! Who answers for one machine of many: of machines that a password alone lets in, one finds out what it is worth.

use std::sync::Arc;

use lantern_link::{Answering, Ask, Note, Question, Step};

use crate::OperationError;
use crate::tries::{NotTried, OnePassword, Tries};

/// Answers for one machine as somebody does for all of them.
pub(super) struct Careful {
    ask: Arc<dyn Ask>,
    machine: String,
    password: OnePassword,
    /// Whether a password is all that can log in there, with an account that many machines share.
    is_shared: bool,
}

impl Careful {
    pub(super) fn new(ask: Arc<dyn Ask>, machine: &str, is_shared: bool, tries: Arc<Tries>) -> Self {
        Self { ask, machine: machine.to_owned(), password: OnePassword::new(tries), is_shared }
    }

    /// For the password that lets a user act as another.
    pub(super) fn for_privilege(ask: Arc<dyn Ask>, machine: &str, tries: Arc<Tries>) -> Self {
        Self::new(ask, machine, true, tries)
    }

    /// It was let in.
    pub(super) fn taken(&self) {
        self.password.taken();
    }

    /// What came of it where it was not; the reason, where the password was not tried here.
    pub(super) fn settle(&self, is_refused: bool) -> Option<OperationError> {
        let NotTried { user, refused_at } = self.password.settle(is_refused)?;
        Some(OperationError::NotTried { user, refused_at })
    }
}

impl Ask for Careful {
    fn ask(&self, question: Question) -> Answering {
        match &question {
            Question::Password { machine, user, .. } | Question::Privilege { machine, user, .. }
                if self.is_shared && *machine == self.machine =>
            {
                let (user, machine) = (user.clone(), machine.clone());
                self.password.ask(&*self.ask, user, machine, question)
            }
            _ => self.ask.ask(question),
        }
    }

    fn password_at_hand(&self, machine: &str) -> bool {
        self.ask.password_at_hand(machine)
    }

    fn wants_methods(&self) -> bool {
        self.ask.wants_methods()
    }

    fn note(&self, note: &Note<'_>) {
        self.ask.note(note);
    }

    fn step(&self, step: &Step<'_>) {
        self.ask.step(step);
    }
}
