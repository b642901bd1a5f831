//! A check of PowerShell's grammar as far as our scripts use it: quoting, here-strings, comments and blocks, with what stands in them as commands, variables
//! and functions. What it does not know is an error, so that a script stays within what it checks.

#![allow(unreachable_pub)] // A test's own.

use std::collections::BTreeSet;

/// What a script is made of.
#[derive(Debug, Default)]
pub struct Script {
    /// Names at the place of a command, as they are written.
    pub commands: BTreeSet<String>,
    /// Variables that are read.
    pub read: BTreeSet<String>,
    /// Variables that are given a value: by `=`, as parameters, or by `foreach`.
    pub written: BTreeSet<String>,
    /// Functions that are defined.
    pub functions: BTreeSet<String>,
    /// Texts without what is expanded in them.
    pub texts: Vec<String>,
}

/// Where a token stands.
#[derive(Clone, Copy, PartialEq)]
enum Before {
    /// Where a command may begin.
    Start,
    /// Behind something.
    Word,
}

/// Checks a script.
///
/// # Errors
/// The line, and what is wrong there.
pub fn check(text: &str) -> Result<Script, String> {
    let mut reader = Reader { rest: text, text, script: Script::default() };
    let mut open: Vec<char> = Vec::new();
    reader.block(&mut open)?;
    match open.pop() {
        Some(bracket) => Err(format!("`{bracket}` is not closed")),
        None => Ok(reader.script),
    }
}

struct Reader<'a> {
    rest: &'a str,
    text: &'a str,
    script: Script,
}

impl<'a> Reader<'a> {
    fn fault(&self, what: &str) -> String {
        let at = self.text.len() - self.rest.len();
        format!("line {}: {what}", self.text.get(..at).unwrap_or_default().lines().count())
    }

    fn take(&mut self, len: usize) -> &'a str {
        let (taken, rest) = self.rest.split_at(len);
        self.rest = rest;
        taken
    }

    fn while_in(&mut self, fits: impl Fn(char) -> bool) -> &'a str {
        let len = self.rest.find(|c| !fits(c)).unwrap_or(self.rest.len());
        self.take(len)
    }

    /// Everything until the end, or the bracket that was open before.
    fn block(&mut self, open: &mut Vec<char>) -> Result<(), String> {
        let depth = open.len();
        let mut before = Before::Start;
        let mut word = String::new();
        while let Some(next) = self.rest.chars().next() {
            match next {
                ' ' => drop(self.take(1)),
                '\n' | ';' | '|' => {
                    self.take(1);
                    before = Before::Start;
                    word.clear();
                }
                '#' => drop(self.while_in(|c| c != '\n')),
                '\'' => {
                    self.literal()?;
                    before = Before::Word;
                }
                '"' => {
                    self.expanding()?;
                    before = Before::Word;
                }
                '@' if self.rest.starts_with("@'\n") || self.rest.starts_with("@\"\n") => {
                    let end = if self.rest.starts_with("@'") { "\n'@" } else { "\n\"@" };
                    let len = self.rest.find(end).ok_or_else(|| self.fault("a here-string has no end"))?;
                    self.take(len + end.len());
                    before = Before::Word;
                }
                '{' | '(' | '[' => {
                    self.take(1);
                    open.push(next);
                    // A type, an index, a hash table's keys: no command begins there.
                    let keys = word == "@" && next == '{';
                    self.block_within(open, if next == '[' || keys { Before::Word } else { Before::Start })?;
                    before = if next == '{' { Before::Start } else { Before::Word };
                    word.clear();
                }
                '}' | ')' | ']' => {
                    let fits =
                        matches!((open.pop(), next), (Some('{'), '}') | (Some('('), ')') | (Some('['), ']'));
                    if !fits {
                        return Err(self.fault(&format!("`{next}` closes nothing")));
                    }
                    self.take(1);
                    if open.len() < depth {
                        return Ok(());
                    }
                }
                '$' => {
                    self.variable(before)?;
                    before = Before::Word;
                }
                '&' => {
                    self.take(1);
                    before = Before::Start;
                }
                '@' | ',' | '=' | '.' | '+' | ':' | '*' | '?' | '!' => {
                    word = self.take(1).to_owned();
                    // Behind ` = ` a command gives the value; within a word it is a program's own.
                    before =
                        if next == '=' && self.rest.starts_with(' ') { Before::Start } else { Before::Word };
                }
                '\\' | '/' | '-' | '^' => {
                    self.while_in(|c| c.is_ascii_alphanumeric() || "\\/-^.:*".contains(c));
                    before = Before::Word;
                }
                c if c.is_ascii_alphanumeric() || c == '_' => {
                    word = self.while_in(|c| c.is_ascii_alphanumeric() || "_-.:\\*".contains(c)).to_owned();
                    before = self.word(&word, before)?;
                }
                other => return Err(self.fault(&format!("{other:?} is not expected"))),
            }
        }
        Ok(())
    }

    fn block_within(&mut self, open: &mut Vec<char>, before: Before) -> Result<(), String> {
        if before == Before::Word {
            // What stands within brackets of a type or an index has no commands; brackets and texts are still to fit.
            let inner = std::mem::take(&mut self.script.commands);
            let done = self.block(open);
            self.script.commands = inner;
            return done;
        }
        self.block(open)
    }

    /// A bare word; where a command may begin it is one, or a word of the language.
    fn word(&mut self, word: &str, before: Before) -> Result<Before, String> {
        if before == Before::Word {
            return Ok(Before::Word);
        }
        match word {
            "if" | "elseif" | "else" | "try" | "catch" | "return" | "throw" | "continue" => Ok(Before::Start),
            "foreach" => {
                let rest = self.rest.trim_start_matches(' ');
                let variable =
                    rest.strip_prefix("($").ok_or_else(|| self.fault("foreach without a variable"))?;
                let name: String = variable.chars().take_while(|c| c.is_ascii_alphanumeric()).collect();
                self.script.written.insert(name.to_lowercase());
                Ok(Before::Word)
            }
            "function" => {
                let name = self.rest.trim_start_matches(' ');
                let name: String =
                    name.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '-').collect();
                self.while_in(|c| c == ' ');
                self.take(name.len());
                let parameters = self.rest.strip_prefix('(').and_then(|rest| rest.split_once(')'));
                for part in parameters.map(|(inside, _)| inside.split(',')).into_iter().flatten() {
                    let name = part.rsplit('$').next().unwrap_or_default().trim();
                    self.script.written.insert(name.to_lowercase());
                }
                self.script.functions.insert(name);
                Ok(Before::Word)
            }
            number if number.starts_with(|c: char| c.is_ascii_digit()) => Ok(Before::Word),
            command => {
                self.script.commands.insert(command.to_owned());
                Ok(Before::Word)
            }
        }
    }

    /// Within single quotes nothing is expanded; two of them are one.
    fn literal(&mut self) -> Result<(), String> {
        self.take(1);
        let mut text = String::new();
        loop {
            text.push_str(self.while_in(|c| c != '\'' && c != '\n'));
            if self.rest.starts_with("''") {
                text.push_str(self.take(1));
                self.take(1);
            } else if self.rest.starts_with('\'') {
                self.take(1);
                self.script.texts.push(text);
                return Ok(());
            } else {
                return Err(self.fault("a text in single quotes does not end on its line"));
            }
        }
    }

    /// Within double quotes variables and `$(…)` are expanded.
    fn expanding(&mut self) -> Result<(), String> {
        self.take(1);
        loop {
            self.while_in(|c| !"\"$`\n".contains(c));
            match self.rest.chars().next() {
                Some('"') => {
                    self.take(1);
                    return Ok(());
                }
                Some('$') if self.rest.starts_with("$(") => {
                    self.take(2);
                    let mut open = vec!['('];
                    self.block(&mut open)?;
                }
                Some('$') => self.variable(Before::Word)?,
                Some('`') => return Err(self.fault("an escaped character, of which our scripts have none")),
                _ => return Err(self.fault("a text in double quotes does not end on its line")),
            }
        }
    }

    fn variable(&mut self, before: Before) -> Result<(), String> {
        self.take(1);
        if self.rest.starts_with('(') {
            return Ok(());
        }
        let name = self.while_in(|c| c.is_ascii_alphanumeric() || c == '_').to_lowercase();
        if name == "env" {
            self.while_in(|c| c == ':' || c.is_ascii_alphanumeric());
            return Ok(());
        }
        if name.is_empty() {
            return Err(self.fault("`$` without a name"));
        }
        let rest = self.rest.trim_start_matches(' ');
        match before == Before::Start && rest.starts_with('=') && !rest.starts_with("==") {
            true => drop(self.script.written.insert(name)),
            false => drop(self.script.read.insert(name)),
        }
        Ok(())
    }
}
