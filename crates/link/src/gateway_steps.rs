//! What is told about a gateway while a connection to it is found or made: that all of it is about that gateway.

use std::sync::atomic::{AtomicBool, Ordering};

use crate::{Answering, Ask, Note, Question, Step};

/// Whom to ask, for whom the machine that is connected to is a gateway on the way to another.
pub(crate) struct OfGateway<'a> {
    ask: &'a dyn Ask,
    has_steps: AtomicBool,
}

impl<'a> OfGateway<'a> {
    pub(crate) fn new(ask: &'a dyn Ask) -> Self {
        Self { ask, has_steps: AtomicBool::new(false) }
    }

    /// Whether anything was done to get there.
    pub(crate) fn has_steps(&self) -> bool {
        self.has_steps.load(Ordering::Relaxed)
    }
}

impl Ask for OfGateway<'_> {
    fn ask(&self, question: Question) -> Answering {
        self.ask.ask(question)
    }

    fn password_at_hand(&self, machine: &str) -> bool {
        self.ask.password_at_hand(machine)
    }

    fn note(&self, note: &Note<'_>) {
        self.ask.note(note);
    }

    fn wants_methods(&self) -> bool {
        self.ask.wants_methods()
    }

    fn step(&self, step: &Step<'_>) {
        match step {
            Step::Machine(name) => self.ask.step(&Step::Gateway(name)),
            Step::Gateway(_) => self.ask.step(step),
            _ => {
                self.has_steps.store(true, Ordering::Relaxed);
                self.ask.step(step);
            }
        }
    }
}
