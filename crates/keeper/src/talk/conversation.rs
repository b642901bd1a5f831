//! Both sides of a conversation, on one socket: whatever is asked is answered once, and nothing is left open.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

use std::io::ErrorKind;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use lantern_book::Verified;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SecretString};
use lantern_link::{Answer, Answering, Ask, FirstContact, Note, Question};
use lantern_ssh::{Prompt, Prompts};
use serde_json::json;
use tokio::net::UnixStream;
use tokio::time::timeout;

use super::forms::{AnswerForm, QuestionForm, Reply, Said};
use super::{Gone, Talk, attend, converse};

/// Whoever accepts a socket reads the request; here the conversation begins with one that answers nothing.
const REQUEST: Reply = Reply::Heard;

/// Takes note of all it hears, and answers what it was given to answer; after that it is asked in vain.
#[derive(Default)]
struct Person {
    heard: Mutex<Vec<String>>,
    answers: Mutex<Vec<Answer>>,
    /// Questions that wait for an answer.
    waiting: Arc<AtomicUsize>,
}

struct Waits(Arc<AtomicUsize>);

impl Drop for Waits {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Person {
    fn with(mut answers: Vec<Answer>) -> Self {
        answers.reverse();
        Self { answers: Mutex::new(answers), ..Self::default() }
    }

    fn heard(&self) -> Vec<String> {
        self.heard.lock().unwrap().clone()
    }

    async fn until_waiting(&self, count: usize) {
        let reached = async {
            while self.waiting.load(Ordering::SeqCst) != count {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        };
        timeout(Duration::from_secs(10), reached).await.unwrap();
    }
}

impl Ask for Person {
    fn ask(&self, question: Question) -> Answering {
        self.heard.lock().unwrap().push(format!("{question:?}"));
        if let Some(answer) = self.answers.lock().unwrap().pop() {
            return Box::pin(std::future::ready(answer));
        }
        self.waiting.fetch_add(1, Ordering::SeqCst);
        let waits = Waits(self.waiting.clone());
        Box::pin(async move {
            let _waits = waits;
            std::future::pending().await
        })
    }

    fn note(&self, note: &Note<'_>) {
        self.heard.lock().unwrap().push(format!("{note:?}"));
    }
}

fn pair() -> (Talk, Talk) {
    let (program, keeper) = UnixStream::pair().unwrap();
    (Talk::new(program), Talk::new(keeper))
}

fn key() -> PublicKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone()
}

fn all_questions() -> Vec<Question> {
    let words = |text: &str| text.to_owned();
    let contact = FirstContact {
        machine: words("lamp-01"),
        reached_at: words("192.0.2.7:22"),
        presented: key().into(),
        faults: Vec::new(),
        same_key: vec![words("lamp-02")],
        same_address: vec![words("foghorn"), words("\u{1b}[2Jlamp")],
    };
    let prompts = Prompts {
        name: words("code"),
        instruction: words("from the list"),
        prompts: vec![
            Prompt { text: words("code: "), echo: true },
            Prompt { text: words("pin: "), echo: false },
        ],
    };
    let (user, machine) = (words("keeper"), words("tide-gauge"));
    vec![
        Question::FirstContact(contact),
        Question::Passphrase { key: words("harbour"), again: false },
        Question::Password { user: user.clone(), machine: machine.clone(), again: true },
        Question::ProxyPassword { user, proxy: words("192.0.2.9:1080"), again: false },
        Question::Privilege {
            user: words("keeper"),
            machine: machine.clone(),
            other: words("root"),
            again: false,
        },
        Question::NewPassword { machine: machine.clone(), demand: words("too old"), again: true },
        Question::Prompts { machine: machine.clone(), prompts },
        Question::Signature { machine, what: words("harbour, for a login") },
    ]
}

fn all_answers() -> Vec<Answer> {
    let secret = |text: &str| SecretString::new(text.to_owned());
    vec![
        Answer::Trust(Verified::Pasted),
        Answer::Secret(secret("twelve green lamps")),
        Answer::NoOne,
        Answer::No,
        Answer::Secret(secret("calm sea")),
        Answer::Secret(secret("")),
        Answer::Secrets(vec![secret("2718"), secret("ebb")]),
        Answer::Yes,
    ]
}

/// Secrets say nothing of themselves in a debug form.
fn told(answer: Answer) -> String {
    match answer {
        Answer::Secret(secret) => format!("secret {}", secret.expose_secret()),
        Answer::Secrets(all) => {
            all.iter().map(|secret| format!("secrets {} ", secret.expose_secret())).collect()
        }
        other => format!("{other:?}"),
    }
}

#[tokio::test]
async fn every_question_and_note_arrives_as_it_was_and_every_answer_comes_back() {
    let (mut program, mut keeper) = pair();
    let person = Person::with(all_answers());
    let (questions, machine) = (all_questions(), "lamp-01");
    let asked: Vec<String> = questions.iter().map(|question| format!("{question:?}")).collect();
    let known = key();
    let names = ["harbour".to_owned()];
    let keeping = async {
        let outcome = converse(&mut keeper, None, |ask| async move {
            let mut answers = Vec::new();
            for question in questions {
                answers.push(told(ask.ask(question).await));
            }
            ask.note(&Note::Moved { machine, from: &names, to: "192.0.2.8:22" });
            ask.note(&Note::Banner("mind the step"));
            ask.note(&Note::FirstUse { machine, presented: &known.into(), same_key: &names });
            ask.note(&Note::KeysRefused { machine, refused: &names, not_offered: &[] });
            ask.note(&Note::DnsUnproven { machine, why: "it says nothing" });
            ask.note(&Note::DnsUnprotected { machine, resolver: ([192, 0, 2, 53], 53).into() });
            ask.note(&Note::NotRemembered("no room"));
            answers
        });
        let answers = outcome.await.unwrap();
        keeper.conclude(json!("done")).await.unwrap();
        answers
    };
    let (answers, outcome) = tokio::join!(keeping, attend(&mut program, &REQUEST, &person));
    assert_eq!(outcome.unwrap(), json!("done"));
    assert_eq!(answers, all_answers().into_iter().map(told).collect::<Vec<_>>());
    let heard = person.heard();
    assert_eq!(&heard[..asked.len()], &asked[..]);
    for (note, part) in heard[asked.len()..].iter().zip([
        "192.0.2.8:22",
        "mind the step",
        "FirstUse",
        "harbour",
        "it says nothing",
        "192.0.2.53",
        "no room",
    ]) {
        assert!(note.contains(part), "{note}");
    }
    assert_eq!(heard.len(), asked.len() + 7);
}

#[tokio::test]
async fn what_nobody_needs_any_more_is_withdrawn_at_the_terminal() {
    let (mut program, mut keeper) = pair();
    let person = Person::default();
    let (drop_one, one) = tokio::sync::oneshot::channel::<()>();
    let (drop_all, all) = tokio::sync::oneshot::channel::<()>();
    let keeping = async {
        let asking = |ask: Arc<dyn Ask>| async move {
            let mut questions = all_questions().into_iter();
            let first = ask.ask(questions.next().unwrap());
            let _kept = ask.ask(questions.next().unwrap());
            one.await.unwrap();
            drop(first);
            // The other one is dropped with the whole operation.
            all.await.unwrap();
        };
        converse(&mut keeper, None, asking).await.unwrap();
        keeper.conclude(json!(1)).await.unwrap();
    };
    let watching = async {
        person.until_waiting(2).await;
        drop_one.send(()).unwrap();
        person.until_waiting(1).await;
        drop_all.send(()).unwrap();
        person.until_waiting(0).await;
    };
    let (_, outcome, _) = tokio::join!(keeping, attend(&mut program, &REQUEST, &person), watching);
    assert_eq!(outcome.unwrap(), json!(1));
}

#[tokio::test]
async fn a_program_that_goes_away_ends_what_was_done_for_it() {
    let (program, mut keeper) = pair();
    let (person, dropped) = (Person::default(), Arc::new(()));
    let operation = |held: Arc<()>| {
        move |ask: Arc<dyn Ask>| async move {
            let _held = held;
            ask.ask(all_questions().pop().unwrap()).await
        }
    };
    let leaving = async {
        let mut program = program;
        let attending = attend(&mut program, &REQUEST, &person);
        tokio::select! {
            _ = attending => panic!("there was an outcome"),
            () = person.until_waiting(1) => {}
        }
    };
    let keeping = converse(&mut keeper, None, operation(dropped.clone()));
    let ((), outcome) = tokio::join!(leaving, keeping);
    assert_eq!(outcome.unwrap_err(), Gone);
    assert_eq!((Arc::strong_count(&dropped), person.waiting.load(Ordering::SeqCst)), (1, 0));
}

/// What answers a question that is not open, twice, or with something else, answers nothing.
#[tokio::test]
async fn answers_that_nobody_waits_for_are_passed_over() {
    let (mut program, mut keeper) = pair();
    let keeping = async {
        let asking = |ask: Arc<dyn Ask>| async move {
            let mut all = all_questions().into_iter();
            let (first, second) = (ask.ask(all.next().unwrap()), ask.ask(all.next().unwrap()));
            let second = told(second.await);
            (told(first.await), second)
        };
        let answers = converse(&mut keeper, None, asking).await.unwrap();
        keeper.conclude(json!(null)).await.unwrap();
        answers
    };
    let odd = async {
        let secret = [SecretString::new("ebb".to_owned())];
        for number in [7, u32::MAX] {
            program.write(&Reply::Answer(number, AnswerForm::Yes), &[]).await.unwrap();
        }
        for number in 0..2 {
            let said = program.read::<Said>().await.unwrap().unwrap().message;
            assert!(matches!(said, Said::Question(met, _) if met == number));
        }
        // A secret that is not there is no secret.
        program.write(&Reply::Answer(0, AnswerForm::Secret), &[]).await.unwrap();
        program.write(&Reply::Answer(0, AnswerForm::Secret), &secret).await.unwrap();
        program.write(&Reply::Answer(1, AnswerForm::Secret), &secret).await.unwrap();
        program.write(&Reply::Answer(1, AnswerForm::Yes), &[]).await.unwrap();
        let mut last = program.read::<Said>().await.unwrap().unwrap().message;
        while !matches!(last, Said::Outcome(_)) {
            last = program.read::<Said>().await.unwrap().unwrap().message;
        }
        // One that crossed the outcome on its way.
        program.write(&Reply::Answer(1, AnswerForm::No), &[]).await.unwrap();
        program.write(&Reply::Heard, &[]).await.unwrap();
    };
    let (answers, ()) = tokio::join!(keeping, odd);
    assert_eq!(answers, ("No".to_owned(), "secret ebb".to_owned()));
}

#[tokio::test]
async fn a_keeper_that_ends_in_the_middle_leaves_no_question_behind() {
    let (mut program, mut keeper) = pair();
    let person = Person::default();
    let ending = async {
        assert!(keeper.read::<Reply>().await.unwrap().is_some());
        let form = QuestionForm::from(all_questions().remove(1));
        keeper.write(&Said::Question(0, form), &[]).await.unwrap();
        person.until_waiting(1).await;
        drop(keeper);
    };
    let (outcome, ()) = tokio::join!(attend(&mut program, &REQUEST, &person), ending);
    assert_eq!(outcome.unwrap_err().kind(), ErrorKind::UnexpectedEof);
    person.until_waiting(0).await;
}
