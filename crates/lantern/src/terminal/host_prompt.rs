//! What a session on a machine asks of whoever sits here: lines, secrets, fields, choices, a key. All of it is marked as the machine's.

use std::collections::HashSet;

use lantern_winrm::remoting::{Field, FieldAnswer, FieldKind, HostAnswer, HostAsks};

use crate::screen::fit::{Fit, fit};
use crate::terminal::aside::{aside, theirs};
use crate::terminal::prompt::{Answer, Dialog, Terminal, Turn};

/// Most choices that are shown; a machine that has more is asked for something else.
const MAX_CHOICES: usize = 200;
/// Most values of a field that takes several.
const MAX_VALUES: usize = 1000;

/// What came of a question.
#[derive(Debug)]
pub(crate) enum Heard {
    /// An answer, or that there is none.
    Answer(HostAnswer),
    /// Ctrl-C: whatever asks is to stop.
    Interrupted,
}

const NOBODY: &str = "nobody is at a terminal who could answer";
const ENDED: &str = "whoever was asked gave no answer";

/// Asks it. When this is dropped, the question ends.
pub(crate) async fn ask(machine: &str, asks: &HostAsks) -> Heard {
    let (machine, asks) = (machine.to_owned(), asks.clone());
    let heard = aside(move |terminal| {
        let mut asking = Asking { terminal, machine };
        match asking.answer(&asks) {
            Answer::Given(answer) => Heard::Answer(answer),
            Answer::Interrupted => Heard::Interrupted,
            Answer::Ended => Heard::Answer(HostAnswer::Refused(ENDED)),
        }
    });
    heard.await.unwrap_or_else(nobody)
}

/// Nobody is there, or nobody is to be asked.
pub(crate) fn nobody() -> Heard {
    Heard::Answer(HostAnswer::Refused(NOBODY))
}

struct Asking {
    terminal: Terminal,
    machine: String,
}

/// The value of an answer, or an end of all questions.
macro_rules! given {
    ($answer:expr) => {
        match $answer {
            Answer::Given(value) => value,
            Answer::Interrupted => return Answer::Interrupted,
            Answer::Ended => return Answer::Ended,
        }
    };
}

impl Asking {
    fn tell(&mut self, text: &str) {
        let lines = text.lines().filter(|line| !line.trim().is_empty());
        for line in lines {
            self.terminal.tell(&Fit::stacked([theirs(&self.machine, line)]));
        }
    }

    fn question(&self, text: &str) -> Fit {
        let text = text.trim_end().trim_end_matches(':');
        fit!(
            "{}{} ",
            Fit::stacked([theirs(&self.machine, text)]),
            Fit::literal(if text.is_empty() { ">" } else { ":" })
        )
    }

    fn answer(&mut self, asks: &HostAsks) -> Answer<HostAnswer> {
        match asks {
            HostAsks::Line => self.terminal.ask_line(self.question("")).map(HostAnswer::Line),
            HostAsks::SecretLine => {
                self.terminal.ask_secret(self.question("(not shown)")).map(HostAnswer::Secret)
            }
            HostAsks::Key => self.key(),
            HostAsks::Fields { caption, message, fields } => {
                self.tell(caption);
                self.tell(message);
                self.fields(fields)
            }
            HostAsks::Credential { caption, message, user } => {
                self.tell(caption);
                self.tell(message);
                let (user, password) = given!(self.credential(user));
                Answer::Given(HostAnswer::Credential(user, password))
            }
            HostAsks::Choice { caption, message, choices, defaults, several } => {
                self.tell(caption);
                self.tell(message);
                self.choice(choices, defaults, *several)
            }
            _ => Answer::Ended,
        }
    }

    fn credential(&mut self, user: &str) -> Answer<(String, lantern_keys::SecretString)> {
        let user = match user.trim() {
            "" => given!(self.terminal.ask_line(self.question("User"))),
            user => {
                self.tell(&format!("User: {user}"));
                user.to_owned()
            }
        };
        let password = given!(self.terminal.ask_secret(self.question("Password")));
        Answer::Given((user, password))
    }

    fn fields(&mut self, fields: &[Field]) -> Answer<HostAnswer> {
        let mut answers = Vec::new();
        for field in fields {
            self.tell(&field.help);
            let answer = match field.kind {
                FieldKind::Text => {
                    let default = field.default.as_ref().map(|text| format!(" [{text}]")).unwrap_or_default();
                    let text =
                        given!(self.terminal.ask_line(self.question(&format!("{}{default}", field.label))));
                    FieldAnswer::Text(match (&field.default, text.is_empty()) {
                        (Some(default), true) => default.clone(),
                        _ => text,
                    })
                }
                FieldKind::Secret => {
                    FieldAnswer::Secret(given!(self.terminal.ask_secret(self.question(&field.label))))
                }
                FieldKind::Credential => {
                    self.tell(&field.label);
                    let (user, password) = given!(self.credential(""));
                    FieldAnswer::Credential(user, password)
                }
                FieldKind::Several => {
                    let mut all = Vec::new();
                    while all.len() < MAX_VALUES {
                        let words = format!("{}, number {} (Enter ends)", field.label, all.len() + 1);
                        let value = given!(self.terminal.ask_line(self.question(&words)));
                        if value.is_empty() {
                            break;
                        }
                        all.push(value);
                    }
                    FieldAnswer::Several(all)
                }
            };
            answers.push((field.name.clone(), answer));
        }
        Answer::Given(HostAnswer::Fields(answers))
    }

    fn choice(
        &mut self,
        choices: &[(String, String)],
        defaults: &[usize],
        several: bool,
    ) -> Answer<HostAnswer> {
        let choices = choices.get(..choices.len().min(MAX_CHOICES)).unwrap_or_default();
        let keys = keys(choices);
        for (key, (label, help)) in keys.iter().zip(choices) {
            let help = if help.trim().is_empty() { String::new() } else { format!("  ({})", help.trim()) };
            self.tell(&format!("  {key}  {}{help}", label.replace('&', "")));
        }
        let usual: Vec<&str> =
            defaults.iter().filter_map(|place| keys.get(*place)).map(String::as_str).collect();
        let usual = if usual.is_empty() { String::new() } else { format!(", Enter is {}", usual.join(",")) };
        let words = match several {
            true => format!("Which, with commas between{usual}"),
            false => format!("Which{usual}"),
        };
        loop {
            let typed = given!(self.terminal.ask_line(self.question(&words)));
            let chosen = match typed.trim() {
                "" if several || !defaults.is_empty() => Some(defaults.to_vec()),
                typed if several => typed.split(',').map(|one| place(one.trim(), &keys, choices)).collect(),
                typed => place(typed, &keys, choices).map(|place| vec![place]),
            };
            match chosen {
                Some(places) if several => return Answer::Given(HostAnswer::Choices(places)),
                Some(places) => {
                    if let Some(place) = places.first() {
                        return Answer::Given(HostAnswer::Choice(*place));
                    }
                }
                None => {}
            }
            self.terminal.tell(&fit!("One of these is wanted: {}", keys.join(", ")));
        }
    }

    fn key(&mut self) -> Answer<HostAnswer> {
        let mut one = OneKey { question: self.question("Press a key"), key: Vec::new() };
        given!(self.terminal.converse(&mut one));
        let key = str::from_utf8(&one.key).ok().and_then(|text| text.chars().next());
        Answer::Given(HostAnswer::Key(key.unwrap_or(char::REPLACEMENT_CHARACTER)))
    }
}

/// What is typed for each choice: the letter that its label marks, its first one, or its number, whichever nobody before it has.
fn keys(choices: &[(String, String)]) -> Vec<String> {
    let mut taken = HashSet::new();
    let marked: Vec<Option<char>> = choices
        .iter()
        .map(|(label, _)| label.split_once('&').and_then(|(_, behind)| behind.chars().next()))
        .map(|key| key.filter(|key| key.is_alphanumeric()).map(|key| key.to_ascii_lowercase()))
        .map(|key| key.filter(|key| taken.insert(*key)))
        .collect();
    let first = |label: &str| label.chars().find(|c| c.is_alphanumeric()).map(|c| c.to_ascii_lowercase());
    let mut keys = Vec::new();
    for (at, (label, _)) in choices.iter().enumerate() {
        let marked = marked.get(at).copied().flatten();
        let key = marked.or_else(|| first(label).filter(|key| !key.is_ascii_digit() && taken.insert(*key)));
        keys.push(key.map_or_else(|| (at + 1).to_string(), String::from));
    }
    keys
}

/// Which choice a word means: by its key, its label or its number.
fn place(typed: &str, keys: &[String], choices: &[(String, String)]) -> Option<usize> {
    let by_key = keys.iter().position(|key| key.eq_ignore_ascii_case(typed));
    let is_label = |(label, _): &(String, String)| label.replace('&', "").eq_ignore_ascii_case(typed);
    let by_number = || typed.parse::<usize>().ok().and_then(|number| number.checked_sub(1));
    by_key
        .or_else(|| choices.iter().position(is_label))
        .or_else(|| by_number().filter(|place| *place < choices.len()))
}

/// A question that one key answers.
struct OneKey {
    question: Fit,
    key: Vec<u8>,
}

impl Dialog for OneKey {
    fn shown(&self) -> Vec<u8> {
        self.question.as_str().as_bytes().to_vec()
    }

    fn key(&mut self, key: u8) -> Turn {
        self.key.push(key);
        // A character may be several bytes long.
        match str::from_utf8(&self.key) {
            Err(error) if error.error_len().is_none() => Turn::Show(Vec::new()),
            _ => Turn::Over(Answer::Given(())),
        }
    }

    fn end(&self) -> Vec<u8> {
        b"\n".to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_choice_has_a_key_of_its_own() {
        let choices = |labels: &[&str]| {
            labels.iter().map(|label| ((*label).to_owned(), String::new())).collect::<Vec<_>>()
        };
        for (labels, expected) in [
            (&["&Yes", "&No", "Yes to &all"][..], &["y", "n", "a"][..]),
            (&["&Lamp", "&Lamp 2", "foghorn"], &["l", "2", "f"]),
            (&["Halt", "Hold", "", "&\u{1b}"], &["h", "2", "3", "4"]),
        ] {
            assert_eq!(keys(&choices(labels)), expected);
        }
        let all = choices(&["&Yes", "&No", "Yes to &all"]);
        let keys = keys(&all);
        for (typed, at) in [
            ("Y", Some(0)),
            ("no", Some(1)),
            ("3", Some(2)),
            ("yes to all", Some(2)),
            ("0", None),
            ("x", None),
        ] {
            assert_eq!(place(typed, &keys, &all), at, "{typed}");
        }
    }
}
