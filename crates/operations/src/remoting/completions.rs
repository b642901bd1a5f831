//! What a machine says a word may become.

use std::time::Duration;

use lantern_link::RemoteSession;
use lantern_ssh::is_invisible;
use lantern_winrm::remoting::{Command, Objects, PipelineEnd, Primitive};
use tokio::time::sleep;

use super::quietly::quietly;

/// Most that are looked at: nobody reads more.
const MOST: usize = 1000;

/// What may stand in place of a part of a line.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Completions {
    /// Where that part begins, in bytes of the line.
    pub from: usize,
    /// What may stand there.
    pub words: Vec<String>,
}

/// The command that asks for them.
fn command(line: &str, at: usize) -> Command {
    let column = line.get(..at).unwrap_or(line).encode_utf16().count();
    let column = i32::try_from(column).unwrap_or(i32::MAX);
    Command::named("TabExpansion2")
        .with("inputScript", Primitive::String(line.to_owned()))
        .with("cursorColumn", Primitive::I32(column))
}

/// Asks the machine what the word before this place, in bytes of the line, may become, and stops asking after `patience`. An endpoint that has no such command knows none.
///
/// Nothing comes of it where another pipeline runs, or where the session is over: that is heard by whoever listens to it next.
pub async fn completions(session: &RemoteSession, line: &str, at: usize, patience: Duration) -> Completions {
    let nothing = Completions { from: at, words: Vec::new() };
    let mut found = nothing.clone();
    let mut patience = std::pin::pin!(sleep(patience));
    let mut is_stopped = false;
    let end = {
        let mut asked =
            std::pin::pin!(quietly(session, command(line, at), |objects| found = read(objects, line, at)));
        loop {
            tokio::select! {
                end = &mut asked => break end,
                () = &mut patience, if !is_stopped => {
                    is_stopped = true;
                    session.stop();
                }
            }
        }
    };
    if matches!(end, Ok(PipelineEnd::Completed)) { found } else { nothing }
}

fn read(objects: &Objects, line: &str, at: usize) -> Completions {
    let nothing = Completions { from: at, words: Vec::new() };
    let Some(answer) = objects.first() else { return nothing };
    let from = objects.number_of(answer, "ReplacementIndex").and_then(|from| usize::try_from(from).ok());
    let Some(from) = from.and_then(|units| byte_of(line, units)).filter(|from| *from <= at) else {
        return nothing;
    };
    let matches = answer.get("CompletionMatches").map(|all| objects.values(all)).unwrap_or_default();
    let word = |value| objects.of(value).and_then(|found| objects.text_of(found, "CompletionText"));
    // What would steer the terminal, or be typed as more than a word, is none.
    let is_seen = |c: char| !c.is_control() && !is_invisible(c);
    let is_plain = |word: &String| !word.is_empty() && word.chars().all(is_seen);
    let words = matches.iter().take(MOST).filter_map(word).filter(is_plain).collect();
    Completions { from, words }
}

/// Which byte a place in units of UTF-16 is.
fn byte_of(text: &str, units: usize) -> Option<usize> {
    let mut left = units;
    for (byte, c) in text.char_indices() {
        if left == 0 {
            return Some(byte);
        }
        left = left.checked_sub(c.len_utf16())?;
    }
    (left == 0).then_some(text.len())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn what_a_machine_offers_is_taken_where_it_makes_sense() {
        let answer = |from: i32, words: &[&str]| {
            let mut objects = Objects::default();
            let words = words.iter().map(|word| objects.bag([("CompletionText", (*word).into())])).collect();
            let words = objects.list(words);
            let root = objects.bag([("ReplacementIndex", from.into()), ("CompletionMatches", words)]);
            objects.roots.push(root);
            objects
        };
        let line = "Get-L \u{1f30a} l";
        let found = read(&answer(9, &["lamp-01", "la\u{1b}[2J", "", "\u{2028}x"]), line, line.len());
        assert_eq!((found.from, found.words), (11, vec!["lamp-01".to_owned()]));
        // In the middle of a character, behind the cursor, or nowhere.
        for (from, at) in [(7, line.len()), (9, 3), (99, line.len()), (-1, line.len())] {
            assert_eq!(read(&answer(from, &["lamp-01"]), line, at).words, Vec::<String>::new(), "{from}");
        }
    }
}
