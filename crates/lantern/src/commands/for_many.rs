//! Who answers when many machines are reached at once.

use std::future::ready;
use std::sync::Arc;

use lantern_link::{Answer, Answering, Ask, Question};

use crate::terminal::ask::TerminalAsk;

/// Nobody is asked for many machines. A password that was handed over is for those that nothing else opens; where keys do, it is not at hand.
#[derive(Clone)]
pub(super) struct ForMany(Arc<TerminalAsk>);

impl ForMany {
    /// Who knows what this one was told.
    pub(super) fn of(ask: &TerminalAsk) -> Self {
        let ask = ask.unattended();
        ask.remember();
        Self(Arc::new(ask))
    }
}

impl Ask for ForMany {
    fn ask(&self, question: Question) -> Answering {
        match question {
            Question::Password { .. } | Question::Passphrase { .. } | Question::Privilege { .. } => {
                self.0.ask(question)
            }
            _ => Box::pin(ready(Answer::NoOne)),
        }
    }
}
