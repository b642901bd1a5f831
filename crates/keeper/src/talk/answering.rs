//! The program's side: what the keeper asks is asked here.

use std::collections::HashMap;
use std::io::{self, ErrorKind};

use lantern_link::{Answer, Ask};
use serde::Serialize;
use tokio::task::{AbortHandle, JoinSet};

use super::Talk;
use super::forms::{AnswerForm, Reply, Said};

/// Makes a request and answers what is asked until there is an outcome.
///
/// # Errors
/// What the socket says; a keeper that ends in the middle.
pub(crate) async fn attend(
    talk: &mut Talk,
    request: &impl Serialize,
    ask: &dyn Ask,
) -> io::Result<serde_json::Value> {
    talk.write(request, &[]).await?;
    let mut answers: JoinSet<(u32, Answer)> = JoinSet::new();
    let mut open: HashMap<u32, AbortHandle> = HashMap::new();
    loop {
        tokio::select! {
            Some(answered) = answers.join_next(), if !answers.is_empty() => {
                // One that was given up is not answered.
                let Ok((number, answer)) = answered else { continue };
                open.remove(&number);
                let (form, secrets) = AnswerForm::of(answer);
                talk.write(&Reply::Answer(number, form), &secrets).await?;
            }
            received = talk.read::<Said>() => {
                let Some(received) = received? else { return Err(ErrorKind::UnexpectedEof.into()) };
                match received.message {
                    Said::Question(number, form) => match form.question() {
                        Some(question) => {
                            let answering = ask.ask(question);
                            open.insert(number, answers.spawn(async move { (number, answering.await) }));
                        }
                        None => talk.write(&Reply::Answer(number, AnswerForm::NoOne), &[]).await?,
                    },
                    Said::Withdrawn(number) => drop(open.remove(&number).map(|task| task.abort())),
                    Said::Note(note) => note.tell(|note| ask.note(note)),
                    Said::Outcome(outcome) => {
                        talk.write(&Reply::Heard, &[]).await?;
                        return Ok(outcome);
                    }
                }
            }
        }
    }
}
