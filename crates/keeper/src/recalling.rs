//! Passwords that the keeper holds, for whoever asks a person otherwise.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_book::Home;
use lantern_link::{Answer, Answering, Ask, Note, Question, Step};

use crate::client::{disown, recall};

/// Answers questions for passwords from what the keeper holds, and has somebody else answer the rest. Clones share what they have given.
#[derive(Clone)]
pub struct Recalling<A> {
    home: Home,
    ask: A,
    asks_keeper: bool,
    has_given: Arc<AtomicBool>,
}

impl<A: Ask + Clone + 'static> Recalling<A> {
    /// Before `ask` is asked, the keeper of this home is.
    pub fn new(home: &Home, ask: A) -> Self {
        Self { home: home.clone(), ask, asks_keeper: true, has_given: Arc::default() }
    }

    /// The same, where the keeper is not to be asked after all.
    pub fn without_keeper(self, without: bool) -> Self {
        Self { asks_keeper: !without, ..self }
    }

    /// After a machine refused a login: has the keeper forget what it gave for that, since a wrong password that is tried again and again locks the account.
    /// Whether it had given any.
    pub async fn was_refused(&self, machine: &str) -> bool {
        self.has_given.load(Ordering::Relaxed) && disown(&self.home, machine).await.unwrap_or(false)
    }
}

impl<A: Ask + Clone + 'static> Ask for Recalling<A> {
    fn ask(&self, question: Question) -> Answering {
        let (user, machine) = match &question {
            Question::Password { user, machine, again: false } => (user, machine),
            Question::Password { machine, again: true, .. } if self.has_given.load(Ordering::Relaxed) => {
                // What it gave was wrong: it must not be tried at every visit.
                let (recalling, machine, ask) = (self.clone(), machine.clone(), self.ask.clone());
                return Box::pin(async move {
                    recalling.was_refused(&machine).await;
                    ask.ask(question).await
                });
            }
            _ => return self.ask.ask(question),
        };
        // What was handed over for this one time goes before.
        if !self.asks_keeper || self.ask.password_at_hand(machine) {
            return self.ask.ask(question);
        }
        let (home, ask, has_given) = (self.home.clone(), self.ask.clone(), self.has_given.clone());
        let (user, machine) = (user.clone(), machine.clone());
        Box::pin(async move {
            // A keeper that does not answer is no reason not to ask.
            if let Ok(Some(password)) = recall(&home, &machine, &user).await {
                has_given.store(true, Ordering::Relaxed);
                return Answer::Secret(password);
            }
            ask.ask(question).await
        })
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
        self.ask.step(step);
    }
}
