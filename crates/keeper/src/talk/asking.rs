//! The keeper's side: whoever does something for a program asks here, and the question goes over the socket.

use std::collections::HashMap;
use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use lantern_keys::SecretString;
use lantern_link::{Answer, Answering, Ask, Note, Question};
use tokio::sync::{mpsc, oneshot};

use super::Talk;
use super::forms::{NoteForm, Reply, Said};

/// The program at the other end has gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Gone;

enum Wanted {
    Question(u32, Box<Question>, oneshot::Sender<Answer>),
    Withdrawn(u32),
    Note(NoteForm),
}

/// Asks at the terminal of the program at the other end; once that conversation is over, nobody.
#[derive(Debug, Clone)]
struct AskOver {
    wanted: mpsc::UnboundedSender<Wanted>,
    numbers: Arc<AtomicU32>,
    /// The machine that a password was handed over for, where one was.
    has_password_for: Option<String>,
}

/// Tells the program when nobody needs an answer any more.
struct Withdraws(mpsc::UnboundedSender<Wanted>, u32);

impl Drop for Withdraws {
    fn drop(&mut self) {
        let _ = self.0.send(Wanted::Withdrawn(self.1));
    }
}

impl Ask for AskOver {
    fn ask(&self, question: Question) -> Answering {
        let number = self.numbers.fetch_add(1, Ordering::Relaxed);
        let (answer, answered) = oneshot::channel();
        let sent = self.wanted.send(Wanted::Question(number, Box::new(question), answer));
        let withdraws = Withdraws(self.wanted.clone(), number);
        Box::pin(async move {
            let _withdraws = withdraws;
            match sent {
                Ok(()) => answered.await.unwrap_or(Answer::NoOne),
                Err(_) => Answer::NoOne,
            }
        })
    }

    fn password_at_hand(&self, machine: &str) -> bool {
        self.has_password_for.as_deref() == Some(machine)
    }

    fn note(&self, note: &Note<'_>) {
        let _ = self.wanted.send(Wanted::Note(NoteForm::of(note)));
    }
}

/// Does something whose questions the program answers, and tells it the outcome; none, where the program goes away meanwhile. What `operation` makes gets
/// whom to ask, who answers as long as this lasts.
pub(crate) async fn converse<T, F: Future<Output = T>>(
    talk: &mut Talk,
    has_password_for: Option<String>,
    operation: impl FnOnce(Arc<dyn Ask>) -> F,
) -> Result<T, Gone> {
    let (sender, mut wanted) = mpsc::unbounded_channel();
    let ask = AskOver { wanted: sender, numbers: Arc::default(), has_password_for };
    let mut open: HashMap<u32, oneshot::Sender<Answer>> = HashMap::new();
    let mut operation = Box::pin(operation(Arc::new(ask)));
    let outcome = loop {
        tokio::select! {
            Some(wanted) = wanted.recv() => pass_on(talk, &mut open, wanted).await?,
            outcome = &mut operation => break outcome,
            received = talk.read::<Reply>() => match received {
                Ok(Some(received)) => {
                    if let Reply::Answer(number, form) = received.message
                        && let Some(answer) = open.remove(&number)
                    {
                        let _ = answer.send(form.answer(received.secrets));
                    }
                }
                Ok(None) | Err(_) => return Err(Gone),
            },
        }
    };
    // What was told in its last moment goes before the outcome.
    drop(operation);
    while let Ok(wanted) = wanted.try_recv() {
        pass_on(talk, &mut open, wanted).await?;
    }
    Ok(outcome)
}

async fn pass_on(
    talk: &mut Talk,
    open: &mut HashMap<u32, oneshot::Sender<Answer>>,
    wanted: Wanted,
) -> Result<(), Gone> {
    let said = match wanted {
        Wanted::Question(number, question, answer) => {
            open.insert(number, answer);
            Said::Question(number, (*question).into())
        }
        Wanted::Withdrawn(number) => match open.remove(&number) {
            Some(_) => Said::Withdrawn(number),
            None => return Ok(()),
        },
        Wanted::Note(note) => Said::Note(note),
    };
    talk.write(&said, &[]).await.map_err(|_| Gone)
}

impl Talk {
    /// Tells the outcome, and waits until it was heard: what comes then is no message of this conversation.
    pub(crate) async fn conclude(&mut self, outcome: serde_json::Value) -> Result<(), Gone> {
        let none: [SecretString; 0] = [];
        self.write(&Said::Outcome(outcome), &none).await.map_err(|_| Gone)?;
        loop {
            match self.read::<Reply>().await {
                Ok(Some(received)) if received.message == Reply::Heard => return Ok(()),
                // An answer that crossed the outcome on its way.
                Ok(Some(_)) => {}
                Ok(None) | Err(_) => return Err(Gone),
            }
        }
    }
}
