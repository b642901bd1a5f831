//! One password for many machines: the first refusal of a user and a password ends further tries of that pair, since accounts lock.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_keys::SecretString;
use lantern_link::{Answer, Answering, Ask, Question};
use tokio::sync::Notify;

/// What became of users and passwords on many machines.
#[derive(Debug, Default)]
pub(crate) struct Tries {
    pairs: Mutex<Vec<Pair>>,
    changed: Notify,
}

#[derive(Debug)]
struct Pair {
    user: String,
    password: SecretString,
    state: State,
}

#[derive(Debug, Clone)]
enum State {
    /// Nobody knows, and nobody finds out.
    Unknown,
    /// One machine is asked, and the others wait for what it says.
    UnderWay,
    /// A machine took them.
    Taken,
    /// This machine did not.
    Refused(String),
}

/// A user and a password that may be tried at one machine.
#[derive(Debug)]
pub(crate) struct Try {
    tries: Arc<Tries>,
    machine: String,
    pair: usize,
    is_first: bool,
}

impl Tries {
    fn pairs(&self) -> MutexGuard<'_, Vec<Pair>> {
        self.pairs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn set(&self, pair: usize, state: State) {
        if let Some(pair) = self.pairs().get_mut(pair) {
            pair.state = state;
        }
        self.changed.notify_waiters();
    }

    /// Waits until it is known what they are worth, or nobody else finds out.
    ///
    /// # Errors
    /// The machine that refused them.
    pub(crate) async fn begin(
        self: &Arc<Self>,
        machine: &str,
        user: &str,
        password: &SecretString,
    ) -> Result<Try, String> {
        // Windows tells users apart by letters, not by their size.
        let user = user.to_lowercase();
        loop {
            let changed = self.changed.notified();
            tokio::pin!(changed);
            // What changes from here on is heard.
            changed.as_mut().enable();
            if let Some(may) = self.look(machine, &user, password) {
                return may;
            }
            changed.await;
        }
    }

    /// What is known of a pair; nothing while another machine is asked.
    fn look(
        self: &Arc<Self>,
        machine: &str,
        user: &str,
        password: &SecretString,
    ) -> Option<Result<Try, String>> {
        let mut pairs = self.pairs();
        let is_it =
            |pair: &Pair| pair.user == user && pair.password.expose_secret() == password.expose_secret();
        let index = pairs.iter().position(is_it).unwrap_or_else(|| {
            pairs.push(Pair { user: user.to_owned(), password: password.clone(), state: State::Unknown });
            pairs.len() - 1
        });
        let state = &mut pairs.get_mut(index)?.state;
        let may = |is_first| Try { tries: self.clone(), machine: machine.to_owned(), pair: index, is_first };
        match state {
            State::Unknown => {
                *state = State::UnderWay;
                Some(Ok(may(true)))
            }
            State::UnderWay => None,
            State::Taken => Some(Ok(may(false))),
            State::Refused(at) => Some(Err(at.clone())),
        }
    }
}

impl Try {
    /// The machine took them.
    pub(crate) fn taken(mut self) {
        if std::mem::take(&mut self.is_first) {
            self.tries.set(self.pair, State::Taken);
        }
    }

    /// The machine did not take them.
    pub(crate) fn refused(mut self) {
        self.is_first = false;
        self.tries.set(self.pair, State::Refused(std::mem::take(&mut self.machine)));
    }
}

/// A user and a password that were not tried at a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NotTried {
    /// The user.
    pub(crate) user: String,
    /// The machine that refused them.
    pub(crate) refused_at: String,
}

/// What becomes of the user and the password at a machine.
#[derive(Debug, Default)]
enum Trying {
    /// Nothing yet.
    #[default]
    Not,
    /// They are tried.
    Here(Try),
    /// Another machine refused them before.
    Elsewhere(NotTried),
}

/// The password of one machine among many: handed over only if no other machine has refused it.
#[derive(Debug)]
pub(crate) struct OnePassword {
    tries: Arc<Tries>,
    trying: Arc<Mutex<Trying>>,
}

impl OnePassword {
    pub(crate) fn new(tries: Arc<Tries>) -> Self {
        Self { tries, trying: Arc::default() }
    }

    /// Asks for a password as ever, and hands it over only if no other machine has refused it.
    pub(crate) fn ask(&self, ask: &dyn Ask, user: String, machine: String, question: Question) -> Answering {
        let (tries, trying) = (self.tries.clone(), self.trying.clone());
        let answering = ask.ask(question);
        Box::pin(async move {
            let answer = answering.await;
            let Answer::Secret(password) = &answer else { return answer };
            let (now, answer) = match tries.begin(&machine, &user, password).await {
                Ok(here) => (Trying::Here(here), answer),
                Err(refused_at) => (Trying::Elsewhere(NotTried { user, refused_at }), Answer::NoOne),
            };
            *trying.lock().unwrap_or_else(PoisonError::into_inner) = now;
            answer
        })
    }

    fn take(&self) -> Trying {
        std::mem::take(&mut *self.trying.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The machine took it.
    pub(crate) fn taken(&self) {
        if let Trying::Here(here) = self.take() {
            here.taken();
        }
    }

    /// Says what came of it, so that others may try it or not; where it was not tried here, that.
    pub(crate) fn settle(&self, is_refused: bool) -> Option<NotTried> {
        match self.take() {
            Trying::Here(here) if is_refused => here.refused(),
            // It never came to that.
            Trying::Here(_) | Trying::Not => {}
            Trying::Elsewhere(not_tried) => return Some(not_tried),
        }
        None
    }
}

impl Drop for Try {
    fn drop(&mut self) {
        // It never came to that, so the next one finds out.
        if self.is_first {
            self.tries.set(self.pair, State::Unknown);
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use std::time::Duration;
    use tokio::time::timeout;

    const SOON: Duration = Duration::from_millis(20);

    fn secret(text: &str) -> SecretString {
        SecretString::new(text.into())
    }

    #[tokio::test]
    async fn one_finds_out_for_all() {
        let tries = Arc::new(Tries::default());
        let first = tries.begin("chart-room", "Keeper", &secret("high water")).await.unwrap();
        let waits = tokio::spawn({
            let tries = tries.clone();
            async move { tries.begin("log-room", "keeper", &secret("high water")).await.map(|_| ()) }
        });
        // Another's, and another password, are other pairs.
        drop(tries.begin("log-room", "warden", &secret("high water")).await.unwrap());
        drop(tries.begin("log-room", "keeper", &secret("low water")).await.unwrap());
        tokio::time::sleep(SOON).await;
        assert!(!waits.is_finished());
        first.refused();
        assert_eq!(waits.await.unwrap(), Err("chart-room".to_owned()));
        assert_eq!(
            tries.begin("fog-bell", "keeper", &secret("high water")).await.map(|_| ()).unwrap_err(),
            "chart-room"
        );
    }

    #[tokio::test]
    async fn one_that_never_came_to_it_leaves_it_to_the_next() {
        let tries = Arc::new(Tries::default());
        let first = tries.begin("chart-room", "keeper", &secret("high water")).await.unwrap();
        let begin = |machine: &'static str| {
            let tries = tries.clone();
            async move { tries.begin(machine, "keeper", &secret("high water")).await }
        };
        assert!(timeout(SOON, begin("log-room")).await.is_err());
        drop(first);
        let second = begin("log-room").await.unwrap();
        assert!(timeout(SOON, begin("fog-bell")).await.is_err());
        second.taken();
        // Any number at once from now on, until one refuses.
        let (third, fourth) = (begin("fog-bell").await.unwrap(), begin("tide-gauge").await.unwrap());
        fourth.refused();
        third.taken();
        assert_eq!(begin("lamp-01").await.map(|_| ()).unwrap_err(), "tide-gauge");
    }
}
