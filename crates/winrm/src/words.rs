//! Command lines for Windows: a program gets one string and takes it apart itself, by rules that nearly all follow (those of the C runtime's `argv`).

use crate::limits::{MAX_INTERPRETER_LINE, MAX_PROGRAM_LINE};

/// What cannot be handed over as it is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WordsError {
    /// Nothing to run.
    #[error("a command is wanted")]
    Nothing,
    /// A program's name cannot hold a quotation mark: it is read up to the next one, by rules of its own.
    #[error("the name of a program cannot hold a quotation mark")]
    QuotedProgram,
    /// A null ends the string there.
    #[error("a null character cannot be in a command line")]
    Null,
    /// The interpreter ends a command at a line break.
    #[error("a line break ends the command for the command interpreter")]
    LineBreak,
    /// Longer than it takes.
    #[error("the command line has {len} characters, and {limit} are the most that {taker} takes")]
    TooLong {
        /// Its length, in UTF-16 units.
        len: usize,
        /// What is taken.
        limit: usize,
        /// By whom.
        taker: &'static str,
    },
}

/// The command line of a program with its arguments, each of which arrives as it is.
///
/// # Errors
/// No program, or words that cannot be handed over.
pub fn program_line(words: &[impl AsRef<str>]) -> Result<String, WordsError> {
    let (program, arguments) = words.split_first().ok_or(WordsError::Nothing)?;
    let program = program.as_ref();
    if program.is_empty() {
        return Err(WordsError::Nothing);
    }
    if program.contains('"') {
        return Err(WordsError::QuotedProgram);
    }
    // The first word has no escapes: it goes to the next quotation mark, or to the next white space.
    let mut line = match program.contains([' ', '\t', '\n', '\r', '\x0b']) {
        true => format!("\"{program}\""),
        false => program.to_owned(),
    };
    for argument in arguments {
        line.push(' ');
        push_argument(&mut line, argument.as_ref());
    }
    within(line, MAX_PROGRAM_LINE, "a program")
}

/// One string for the command interpreter, as it is.
///
/// # Errors
/// A line break, a null, or more than it takes.
pub fn interpreter_line(text: &str) -> Result<String, WordsError> {
    if text.trim().is_empty() {
        return Err(WordsError::Nothing);
    }
    if text.contains(['\n', '\r']) {
        return Err(WordsError::LineBreak);
    }
    within(text.to_owned(), MAX_INTERPRETER_LINE, "the command interpreter")
}

fn within(line: String, limit: usize, taker: &'static str) -> Result<String, WordsError> {
    if line.contains('\0') {
        return Err(WordsError::Null);
    }
    match line.encode_utf16().count() {
        len if len > limit => Err(WordsError::TooLong { len, limit, taker }),
        _ => Ok(line),
    }
}

/// The rules: white space parts arguments outside of quotation marks; a backslash is one, but in front of a quotation mark, where two stand for one and an
/// odd one makes the mark a character.
fn push_argument(line: &mut String, argument: &str) {
    if !argument.is_empty() && !argument.contains([' ', '\t', '\n', '\r', '\x0b', '"']) {
        line.push_str(argument);
        return;
    }
    line.push('"');
    let mut backslashes = 0;
    for character in argument.chars() {
        match character {
            '\\' => backslashes += 1,
            '"' => {
                line.extend(std::iter::repeat_n('\\', backslashes + 1));
                backslashes = 0;
            }
            _ => backslashes = 0,
        }
        line.push(character);
    }
    // Those in front of the closing mark.
    line.extend(std::iter::repeat_n('\\', backslashes));
    line.push('"');
}

/// Takes a command line apart as a program does.
pub fn split(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = line;
    // The program's name.
    if let Some(quoted) = rest.strip_prefix('"') {
        let (name, behind) = quoted.split_once('"').unwrap_or((quoted, ""));
        words.push(name.to_owned());
        rest = behind;
    } else {
        let end = rest.find([' ', '\t']).unwrap_or(rest.len());
        words.push(rest[..end].to_owned());
        rest = &rest[end..];
    }
    let mut characters = rest.chars().peekable();
    loop {
        while characters.next_if(|c| [' ', '\t'].contains(c)).is_some() {}
        if characters.peek().is_none() {
            return words;
        }
        let (mut word, mut is_quoted) = (String::new(), false);
        loop {
            let mut backslashes = 0;
            while characters.next_if_eq(&'\\').is_some() {
                backslashes += 1;
            }
            if characters.peek() == Some(&'"') {
                word.extend(std::iter::repeat_n('\\', backslashes / 2));
                characters.next();
                match backslashes % 2 {
                    1 => word.push('"'),
                    // Within quotation marks two of them are one.
                    _ if is_quoted && characters.next_if_eq(&'"').is_some() => word.push('"'),
                    _ => is_quoted = !is_quoted,
                }
                continue;
            }
            word.extend(std::iter::repeat_n('\\', backslashes));
            match characters.peek() {
                None => break,
                Some(' ' | '\t') if !is_quoted => break,
                Some(_) => word.extend(characters.next()),
            }
        }
        words.push(word);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn words_are_quoted_where_they_need_it() {
        let line = |words: &[&str]| program_line(words).unwrap();
        assert_eq!(line(&["hostname"]), "hostname");
        assert_eq!(
            line(&["tide.exe", "high water", "a\"b", "", r"c:\", r"d e\"]),
            r#"tide.exe "high water" "a\"b" "" c:\ "d e\\""#
        );
        assert_eq!(line(&[r"C:\Program Files\lamp.exe", "%PATH%"]), r#""C:\Program Files\lamp.exe" %PATH%"#);
        assert_eq!(program_line(&["a\"b"]), Err(WordsError::QuotedProgram));
        assert_eq!(program_line(&["a", "b\0"]), Err(WordsError::Null));
        assert_eq!(program_line(&[""; 0]), Err(WordsError::Nothing));
        assert!(matches!(
            program_line(&["a".to_owned(), "b".repeat(40_000)]),
            Err(WordsError::TooLong { .. })
        ));
    }

    #[test]
    fn the_interpreter_takes_one_line() {
        assert_eq!(interpreter_line("dir C:\\ | find \"lamp\""), Ok("dir C:\\ | find \"lamp\"".into()));
        assert_eq!(interpreter_line("echo one\necho two"), Err(WordsError::LineBreak));
        assert_eq!(interpreter_line(" "), Err(WordsError::Nothing));
        assert!(interpreter_line(&"x".repeat(8191)).is_ok());
        assert!(matches!(interpreter_line(&"x".repeat(8192)), Err(WordsError::TooLong { len: 8192, .. })));
        // Units of UTF-16 are counted, not bytes.
        assert!(interpreter_line(&"\u{e9}".repeat(8000)).is_ok());
    }

    proptest! {
        #[test]
        fn a_program_reads_the_words_back(words in proptest::collection::vec("[ \\\\\"\ta%é]{0,8}", 0..6)) {
            let all: Vec<String> = ["lamp.exe".to_owned()].into_iter().chain(words).collect();
            prop_assert_eq!(split(&program_line(&all).unwrap()), all);
        }
    }
}
