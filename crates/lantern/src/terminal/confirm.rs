//! A yes before something is changed, and lines that are asked for.

use crate::screen::failure::{Failure, code};
use crate::terminal::prompt::{Answer, Terminal};

fn interrupted() -> Failure {
    Failure::new(code::INTERRUPTED, "interrupted; nothing was changed")
}

fn terminal(what: &str, hint: &str) -> Result<Terminal, Failure> {
    Terminal::open().ok_or_else(|| {
        Failure::new(code::USAGE, format!("{what}, and there is no terminal to ask at")).hint(hint)
    })
}

/// Most tries at an answer before it counts as no.
const MAX_TRIES: u32 = 5;

/// Asks a question that only "yes" answers with yes, and "no" with no; anything else is asked again.
///
/// # Errors
/// No terminal (with the hint what to type instead), or Ctrl-C.
pub(crate) fn ask(question: &str, hint: &str) -> Result<bool, Failure> {
    let mut terminal = terminal("this wants a yes", hint)?;
    for _ in 0..MAX_TRIES {
        match terminal.ask_line(format!("{question} Type yes or no: ")) {
            Answer::Given(answer) => match answer.trim() {
                "yes" | "y" => return Ok(true),
                "no" | "n" => return Ok(false),
                // Neither: Enter alone is often typed too early.
                _ => {}
            },
            Answer::Interrupted | Answer::Ended => return Err(interrupted()),
        }
    }
    Ok(false)
}

/// The same, where a no ends the command.
///
/// # Errors
/// No terminal, Ctrl-C, or no.
pub(crate) fn agree(question: &str, hint: &str) -> Result<(), Failure> {
    match ask(question, hint)? {
        true => Ok(()),
        false => Err(Failure::new(code::INTERRUPTED, "nothing was changed")),
    }
}

/// Asks for a line; an empty one is none.
///
/// # Errors
/// No terminal, or Ctrl-C.
pub(crate) fn line(question: &str, hint: &str) -> Result<Option<String>, Failure> {
    match terminal("something is missing", hint)?.ask_line(question) {
        Answer::Given(answer) => Ok(Some(answer.trim().to_owned()).filter(|answer| !answer.is_empty())),
        Answer::Interrupted | Answer::Ended => Err(interrupted()),
    }
}
