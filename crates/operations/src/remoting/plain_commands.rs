//! A text that is no more than commands with plain values, read here: where an endpoint takes no scripts, they go there as what they are.

use lantern_winrm::remoting::{Argument, Command, Parameter, Primitive};

/// Why a text is more than that.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} at column {column}")]
pub struct NotPlain {
    /// What is met.
    pub what: &'static str,
    /// Where, counted in characters from 1.
    pub column: usize,
}

/// Characters that mean something to the language when they stand in no quotes.
const MEANINGFUL: [(char, &str); 15] = [
    ('$', "a variable"),
    ('(', "a bracket"),
    (')', "a bracket"),
    ('{', "a block"),
    ('}', "a block"),
    ('@', "an array or a table"),
    (';', "a second statement"),
    ('&', "a call"),
    ('>', "a redirection"),
    ('<', "a redirection"),
    ('#', "a remark"),
    ('`', "an escape"),
    ('\n', "a second line"),
    ('\r', "a second line"),
    ('=', "an assignment"),
];

/// The commands of a text, of which each takes what the one before it puts out.
///
/// A name with a dash before it gets the value that follows it, if one does; `-Name:value` says so in one word, and `-Name:$true` sets what takes no value where one
/// follows. Words in quotes are text; numbers, `$true`, `$false` and `$null` are what they are; what stands between commas is a list.
///
/// # Errors
/// Anything that only the language gives a meaning.
pub fn plain_commands(text: &str) -> Result<Vec<Command>, NotPlain> {
    let mut reading = Reading { rest: text.trim_end().chars().collect(), at: 0 };
    let mut commands = Vec::new();
    loop {
        commands.push(reading.command()?);
        reading.skip_spaces();
        match reading.next() {
            None => return Ok(commands),
            Some('|') => reading.at += 1,
            Some(_) => return Err(reading.refused("something unexpected")),
        }
    }
}

struct Reading {
    rest: Vec<char>,
    at: usize,
}

/// A word, and whether it stood in quotes.
struct Word {
    text: String,
    is_quoted: bool,
    at: usize,
}

impl Reading {
    fn next(&self) -> Option<char> {
        self.rest.get(self.at).copied()
    }

    fn refused(&self, what: &'static str) -> NotPlain {
        NotPlain { what, column: self.at + 1 }
    }

    fn skip_spaces(&mut self) {
        while self.next().is_some_and(|c| c == ' ' || c == '\t') {
            self.at += 1;
        }
    }

    fn command(&mut self) -> Result<Command, NotPlain> {
        self.skip_spaces();
        let at = self.at;
        let name = self.word()?;
        let is_name = !name.is_quoted && name.text.starts_with(|c: char| c.is_alphabetic());
        if !is_name {
            return Err(NotPlain { what: "no name of a command", column: at + 1 });
        }
        let mut command = Command::named(name.text);
        loop {
            self.skip_spaces();
            if matches!(self.next(), None | Some('|')) {
                return Ok(command);
            }
            let parameter = self.parameter()?;
            command.parameters.push(parameter);
        }
    }

    fn parameter(&mut self) -> Result<Parameter, NotPlain> {
        let at = self.at;
        let is_named = self.next() == Some('-')
            && self.rest.get(self.at + 1).is_some_and(|c| c.is_alphabetic() || *c == '_');
        if !is_named {
            return Ok(Parameter { name: None, value: self.value()? });
        }
        self.at += 1;
        let mut name = String::new();
        while let Some(c) = self.next().filter(|c| c.is_alphanumeric() || *c == '_' || *c == '-') {
            name.push(c);
            self.at += 1;
        }
        let name = Some(name);
        if self.next() == Some(':') {
            self.at += 1;
            self.skip_spaces();
            return Ok(Parameter { name, value: self.value()? });
        }
        if self.next().is_some_and(|c| !c.is_whitespace() && c != '|') {
            return Err(NotPlain { what: "no name of a parameter", column: at + 1 });
        }
        self.skip_spaces();
        let is_next =
            self.next() == Some('-') && self.rest.get(self.at + 1).is_some_and(|c| c.is_alphabetic());
        let value = match self.next() {
            None | Some('|') => Argument::One(Primitive::Bool(true)),
            Some(_) if is_next => Argument::One(Primitive::Bool(true)),
            Some(_) => self.value()?,
        };
        Ok(Parameter { name, value })
    }

    /// A value, or several between commas.
    fn value(&mut self) -> Result<Argument, NotPlain> {
        let first = self.word()?;
        let first = meant(&first)?;
        let mut all = Vec::new();
        let mut after = self.at;
        loop {
            self.skip_spaces();
            if self.next() != Some(',') {
                break;
            }
            self.at += 1;
            self.skip_spaces();
            let word = self.word()?;
            all.push(meant(&word)?.ok_or(NotPlain { what: "nothing in a list", column: word.at + 1 })?);
            after = self.at;
        }
        self.at = after;
        Ok(match (first, all.is_empty()) {
            (None, _) => Argument::Nothing,
            (Some(one), true) => Argument::One(one),
            (Some(first), false) => {
                all.insert(0, first);
                Argument::Several(all)
            }
        })
    }

    fn word(&mut self) -> Result<Word, NotPlain> {
        let at = self.at;
        if let Some(mark @ ('\'' | '"')) = self.next() {
            let text = self.quoted(mark)?;
            return match self.next() {
                None | Some(' ' | '\t' | '|' | ',') => Ok(Word { text, is_quoted: true, at }),
                Some(_) => Err(self.refused("something right behind a quoted text")),
            };
        }
        let constant = ["$true", "$false", "$null"].into_iter().find(|constant| {
            let met = self.rest.iter().skip(at).take(constant.len());
            let ends =
                self.rest.get(at + constant.len()).is_none_or(|c| c.is_whitespace() || "|,".contains(*c));
            ends && met.map(char::to_ascii_lowercase).eq(constant.chars())
        });
        if let Some(constant) = constant {
            self.at += constant.len();
            return Ok(Word { text: constant.to_owned(), is_quoted: false, at });
        }
        let mut text = String::new();
        while let Some(c) = self.next().filter(|c| !c.is_whitespace() && *c != '|' && *c != ',') {
            if let Some((_, what)) = MEANINGFUL.iter().find(|(known, _)| *known == c) {
                return Err(self.refused(what));
            }
            if c == '\'' || c == '"' {
                return Err(self.refused("a quote within a word"));
            }
            text.push(c);
            self.at += 1;
        }
        match text.is_empty() {
            true if self.next().is_some_and(|c| c == '\n' || c == '\r') => Err(self.refused("a second line")),
            true => Err(self.refused("nothing where a word should be")),
            false => Ok(Word { text, is_quoted: false, at }),
        }
    }

    /// Text in quotes: its mark stands in it doubled.
    fn quoted(&mut self, mark: char) -> Result<String, NotPlain> {
        let begun = self.at;
        self.at += 1;
        let mut text = String::new();
        loop {
            match self.next() {
                None => return Err(NotPlain { what: "a quote that nothing closes", column: begun + 1 }),
                Some(c) if c == mark => {
                    self.at += 1;
                    if self.next() != Some(mark) {
                        return Ok(text);
                    }
                    text.push(mark);
                }
                Some(c @ ('$' | '`')) if mark == '"' => {
                    let what = if c == '$' { "a variable in double quotes" } else { "an escape" };
                    return Err(self.refused(what));
                }
                Some(c) => text.push(c),
            }
            self.at += 1;
        }
    }
}

/// What a word means; nothing: `$null`.
fn meant(word: &Word) -> Result<Option<Primitive>, NotPlain> {
    let text = || Primitive::String(word.text.clone());
    if word.is_quoted {
        return Ok(Some(text()));
    }
    Ok(Some(match word.text.as_str() {
        "$true" => Primitive::Bool(true),
        "$false" => Primitive::Bool(false),
        "$null" => return Ok(None),
        number if number.starts_with(|c: char| c.is_ascii_digit() || c == '-') => {
            // What the language counts in other ways (`1..3`, `4kb`, `0x10`) is its own.
            match (number.parse::<i32>(), number.parse::<i64>()) {
                (Ok(number), _) => Primitive::I32(number),
                (_, Ok(number)) => Primitive::I64(number),
                _ if number.contains("..") => {
                    return Err(NotPlain { what: "a range", column: word.at + 1 });
                }
                _ => text(),
            }
        }
        _ => text(),
    }))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn string(text: &str) -> Primitive {
        Primitive::String(text.into())
    }

    #[test]
    fn commands_with_plain_values_are_read() {
        let read = plain_commands(
            "Get-Lamp -Name 'lamp-01', foghorn -Force | Select-Object -First 2 -Last:-1 \"a b\"",
        )
        .unwrap();
        assert_eq!(
            (read.len(), read[0].text.as_str(), read[1].text.as_str()),
            (2, "Get-Lamp", "Select-Object")
        );
        let parameter = |name: Option<&str>, value| Parameter { name: name.map(str::to_owned), value };
        assert_eq!(
            read[0].parameters,
            [
                parameter(Some("Name"), Argument::Several(vec![string("lamp-01"), string("foghorn")])),
                parameter(Some("Force"), Argument::One(Primitive::Bool(true))),
            ]
        );
        assert_eq!(
            read[1].parameters,
            [
                parameter(Some("First"), Argument::One(Primitive::I32(2))),
                parameter(Some("Last"), Argument::One(Primitive::I32(-1))),
                parameter(None, Argument::One(string("a b"))),
            ]
        );
        let read =
            plain_commands("Set-Lamp 'it''s' -On:$false -Note $null -At 5000000000 C:\\logs\\*.txt").unwrap();
        let values: Vec<_> = read[0].parameters.iter().map(|parameter| parameter.value.clone()).collect();
        assert_eq!(
            values,
            [
                Argument::One(string("it's")),
                Argument::One(Primitive::Bool(false)),
                Argument::Nothing,
                Argument::One(Primitive::I64(5_000_000_000)),
                Argument::One(string("C:\\logs\\*.txt")),
            ]
        );
    }

    #[test]
    fn what_only_the_language_understands_is_named_with_its_place() {
        for (text, what, column) in [
            ("$x = 1", "a variable", 1),
            ("Get-Lamp $name", "a variable", 10),
            ("Get-Lamp \"it is $name\"", "a variable in double quotes", 17),
            ("Get-Lamp; whoami", "a second statement", 9),
            ("Get-Lamp (whoami)", "a bracket", 10),
            ("Where-Object { $_.Lit }", "a block", 14),
            ("Get-Lamp > C:\\x", "a redirection", 10),
            ("Get-Lamp\nwhoami", "a second line", 9),
            ("Get-Lamp 'open", "a quote that nothing closes", 10),
            ("Get-Lamp |", "nothing where a word should be", 11),
            ("", "nothing where a word should be", 1),
            ("Get-Tide 1..3", "a range", 10),
            ("'Get-Lamp'", "no name of a command", 1),
            ("Get-Lamp 'a'b", "something right behind a quoted text", 13),
        ] {
            let refused = plain_commands(text).unwrap_err();
            assert_eq!((refused.what, refused.column), (what, column), "{text}");
        }
    }

    proptest! {
        /// Whatever stands in single quotes arrives as it is, and nothing makes it panic.
        #[test]
        fn a_quoted_text_arrives_as_it_is(value in "\\PC{0,20}", any in "\\PC{0,40}") {
            let text = format!("Set-Lamp -Name '{}'", value.replace('\'', "''"));
            let read = plain_commands(&text).unwrap();
            prop_assert_eq!(&read[0].parameters[0].value, &Argument::One(Primitive::String(value)));
            let _ = plain_commands(&any);
        }
    }
}
