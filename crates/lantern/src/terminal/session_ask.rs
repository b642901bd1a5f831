//! Questions that come up in a session, and are answered by what is typed into it.
//!
//! The machine draws on the same screen, and would like to have the answer. So its output is held back while we ask (see [`super::pipes`]), what was
//! typed before counts for nothing, and the answer is a word that nobody could know before it was shown.

use std::future::pending;
use std::sync::Arc;

use lantern_keeper::unforeseen;
use lantern_link::{Answer, Answering, Ask, Question};
use tokio::sync::{mpsc, oneshot};

/// Puts the terminal's letters back to what can be read, whatever the machine has made of them.
pub(crate) const READABLE: &str = "\x1b[0m\x0f\x1b(B";

const CTRL_C: u8 = 3;
const ESCAPE: u8 = 27;

/// What came of something typed.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Heard {
    /// It goes on; this is to be shown.
    More(String),
    /// The answer.
    Said(bool),
}

/// A question that is answered where the session is.
pub(crate) struct Asked {
    /// The question itself, for whoever answers otherwise.
    pub(crate) question: Question,
    text: String,
    word: String,
    typed: Vec<u8>,
    answer: oneshot::Sender<bool>,
}

impl Asked {
    fn new(question: Question, text: String, answer: oneshot::Sender<bool>) -> Self {
        Self { question, text, word: unforeseen(), typed: Vec::new(), answer }
    }

    /// What to show.
    pub(crate) fn words(&self) -> String {
        let one_line = self.text.replace(['\n', '\r', '\t'], " ");
        format!("{one_line}\nType {} and Enter to allow it this once; anything else refuses.", self.word)
    }

    /// Ends when whoever asked does not wait any more.
    async fn is_given_up(&mut self) {
        self.answer.closed().await;
    }

    /// Takes strokes.
    pub(crate) fn feed(&mut self, strokes: &[u8]) -> Heard {
        let mut shown = String::new();
        for stroke in strokes {
            match *stroke {
                b'\r' | b'\n' => return Heard::Said(self.typed == self.word.as_bytes()),
                8 | 127 if self.typed.pop().is_some() => shown.push_str("\x08 \x08"),
                CTRL_C | ESCAPE => return Heard::Said(false),
                b' '..=b'~' if self.typed.len() < 2 * self.word.len() => {
                    self.typed.push(*stroke);
                    shown.push(char::from(*stroke));
                }
                _ => {}
            }
        }
        Heard::More(shown)
    }

    /// Answers it.
    pub(crate) fn answer(self, yes: bool) {
        let _ = self.answer.send(yes);
    }
}

/// Ends when nobody waits for the answer any more; never, where nothing is asked.
pub(crate) async fn given_up(asked: &mut Option<Asked>) {
    match asked {
        Some(asked) => asked.is_given_up().await,
        None => pending().await,
    }
}

/// Puts questions about signatures to the session that they come from.
pub(crate) struct AskInSession(mpsc::Sender<Asked>);

impl AskInSession {
    /// With the other end, for the session's loop. Questions come one at a time.
    pub(crate) fn new() -> (Arc<Self>, mpsc::Receiver<Asked>) {
        let (sender, questions) = mpsc::channel(1);
        (Arc::new(Self(sender)), questions)
    }
}

impl Ask for AskInSession {
    fn ask(&self, question: Question) -> Answering {
        let sender = self.0.clone();
        Box::pin(async move {
            let Question::Signature { machine, what } = &question else { return Answer::No };
            let (answer, answered) = oneshot::channel();
            let text = format!("{machine} asks for {what}.");
            match sender.send(Asked::new(question, text, answer)).await {
                Ok(()) if answered.await == Ok(true) => Answer::Yes,
                _ => Answer::No,
            }
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    fn asked() -> (Asked, oneshot::Receiver<bool>) {
        let (answer, answered) = oneshot::channel();
        let question = Question::Signature { machine: "lamp-01".into(), what: "a signature".into() };
        (Asked::new(question, "lamp-01 asks for a signature\nType yes.".into(), answer), answered)
    }

    #[test]
    fn only_the_word_that_is_shown_is_a_yes() {
        let (mut question, _) = asked();
        let word = question.word.clone();
        assert_eq!(question.words().lines().count(), 2, "the machine's words are one line");
        assert!(question.words().contains(&word));
        assert_eq!(question.feed(word.as_bytes()), Heard::More(word.clone()));
        assert_eq!(question.feed(b"\r"), Heard::Said(true));
        for typed in
            ["y\r", "yes\r", "\r", "Y\n", &format!("{word}x\r"), &format!("x{word}\r"), "\x03", "\x1b"]
        {
            let (mut question, _) = asked();
            question.word.clone_from(&word);
            assert_eq!(question.feed(typed.as_bytes()), Heard::Said(false), "{typed:?}");
        }
        // Slips can be mended, and what is held down takes no room.
        let (mut question, _) = asked();
        question.feed(b"zz\x7f\x7f\x7f");
        question.feed(&[b'q'; 10_000]);
        assert!(question.typed.len() <= 8);
        question.feed(&[127; 20]);
        let word = question.word.clone();
        question.feed(word.as_bytes());
        assert_eq!(question.feed(b"\n"), Heard::Said(true));
    }
}
