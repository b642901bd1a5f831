//! The small language of simulated machines: statements, pipelines, words, variables. It is none of anybody's, and understands what the demo and the tests say.

/// A statement.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Statement {
    /// `$name = …`
    Assign(String, Vec<Call>),
    /// `throw …`
    Throw(Word),
    /// `exit N`
    Exit(Word),
    /// `param($name, …)`
    Param(Vec<String>),
    Pipeline(Vec<Call>),
}

/// A command with its words; or, where its name is empty, one word that is a value.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Call {
    pub(super) name: String,
    pub(super) words: Vec<Word>,
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Word {
    /// `-Name`
    Named(String),
    Text(String),
    /// In double quotes: variables are put in.
    Quoted(String),
    Number(i64),
    /// `$name`, `$name.Property`
    Variable(String, Option<String>),
    Range(i64, i64),
    List(Vec<Word>),
}

/// Why a script is none: what is wrong, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Wrong {
    pub(super) why: String,
    pub(super) line: usize,
    pub(super) text: String,
}

/// The statements of a script, each with its line.
pub(super) fn parse(script: &str) -> Result<Vec<(usize, Statement)>, Wrong> {
    let mut statements = Vec::new();
    for (line, text) in pieces(script)? {
        let wrong = |why: &str| Wrong { why: why.to_owned(), line, text: text.clone() };
        let statement = statement(&text).map_err(|why| wrong(&why))?;
        statements.extend(statement.map(|statement| (line, statement)));
    }
    Ok(statements)
}

/// What stands between line ends and semicolons that are in no quotes.
fn pieces(script: &str) -> Result<Vec<(usize, String)>, Wrong> {
    let (mut all, mut text, mut quote, mut line, mut depth) = (Vec::new(), String::new(), None, 1, 0);
    let mut begun = 1;
    for c in script.chars() {
        match (quote, c) {
            (Some(mark), c) if c == mark => quote = None,
            (None, '\'' | '"') => quote = Some(c),
            (None, '(' | '{') => depth += 1,
            (None, ')' | '}') => depth -= 1,
            (None, '\n' | ';') if depth <= 0 && !text.trim_end().ends_with('|') => {
                all.push((begun, std::mem::take(&mut text)));
                line += usize::from(c == '\n');
                begun = line;
                continue;
            }
            _ => {}
        }
        line += usize::from(c == '\n');
        text.push(c);
    }
    if quote.is_some() || depth > 0 {
        let why = "A quote or a bracket is not closed.".to_owned();
        return Err(Wrong { why, line: begun, text });
    }
    all.push((begun, text));
    Ok(all)
}

fn statement(text: &str) -> Result<Option<Statement>, String> {
    let text = text.trim();
    if text.is_empty() || text.starts_with('#') {
        return Ok(None);
    }
    if let Some(names) = text.strip_prefix("param(").and_then(|rest| rest.strip_suffix(')')) {
        let name = |part: &str| part.split('$').next_back().map(|name| name.trim().to_owned());
        return Ok(Some(Statement::Param(names.split(',').filter_map(name).collect())));
    }
    if let Some((name, rest)) = text.strip_prefix('$').and_then(|rest| rest.split_once('='))
        && name.trim().chars().all(char::is_alphanumeric)
    {
        return Ok(Some(Statement::Assign(name.trim().to_owned(), pipeline(rest)?)));
    }
    let calls = pipeline(text)?;
    Ok(Some(match calls.as_slice() {
        [Call { name, words }] if name == "throw" => {
            Statement::Throw(words.first().cloned().unwrap_or(Word::Text("ScriptHalted".into())))
        }
        [Call { name, words }] if name == "exit" => {
            Statement::Exit(words.first().cloned().unwrap_or(Word::Number(0)))
        }
        _ => Statement::Pipeline(calls),
    }))
}

fn pipeline(text: &str) -> Result<Vec<Call>, String> {
    let mut calls = vec![Call::default()];
    let mut is_first = true;
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        if let Some(behind) = rest.strip_prefix('|') {
            if is_first {
                return Err("There is nothing before or behind a bar.".to_owned());
            }
            calls.push(Call::default());
            (is_first, rest) = (true, behind.trim_start());
            continue;
        }
        let (word, behind) = word(rest)?;
        if let Some(call) = calls.last_mut() {
            match (word, is_first) {
                (Word::Text(name), true) => call.name = name,
                (word, _) => call.words.push(word),
            }
        }
        (is_first, rest) = (false, behind.trim_start());
    }
    match is_first {
        true => Err("There is nothing before or behind a bar.".to_owned()),
        false => Ok(calls),
    }
}

/// A word, or several between commas.
fn word(text: &str) -> Result<(Word, &str), String> {
    let (first, mut rest) = single(text)?;
    if !rest.starts_with(',') {
        return Ok((first, rest));
    }
    let mut all = vec![first];
    while let Some(behind) = rest.strip_prefix(',') {
        let (next, behind) = single(behind.trim_start())?;
        all.push(next);
        rest = behind;
    }
    Ok((Word::List(all), rest))
}

fn single(text: &str) -> Result<(Word, &str), String> {
    for (mark, is_plain) in [('\'', true), ('"', false)] {
        if let Some(inner) = text.strip_prefix(mark) {
            let (inner, rest) = inner.split_once(mark).ok_or("A quote is not closed.")?;
            let word = if is_plain { Word::Text(inner.into()) } else { Word::Quoted(inner.into()) };
            // A name in quotes is a value all the same.
            return Ok((if is_plain { Word::List(vec![word]) } else { word }, rest));
        }
    }
    let end = text.find(|c: char| c.is_whitespace() || "|,;".contains(c)).unwrap_or(text.len());
    let (word, rest) = text.split_at(end);
    if word.is_empty() || word.contains(['(', ')', '{', '}']) {
        return Err(format!("'{word}' is not understood here."));
    }
    if let Some(name) = word.strip_prefix('$') {
        let (name, property) = match name.split_once('.') {
            Some((name, property)) => (name, Some(property.to_owned())),
            None => (name, None),
        };
        return Ok((Word::Variable(name.to_lowercase(), property), rest));
    }
    if let Some((from, to)) = word.split_once("..")
        && let (Ok(from), Ok(to)) = (from.parse(), to.parse())
    {
        return Ok((Word::Range(from, to), rest));
    }
    if let Ok(number) = word.parse() {
        return Ok((Word::Number(number), rest));
    }
    Ok((
        match word.strip_prefix('-').filter(|name| name.starts_with(char::is_alphabetic)) {
            Some(name) => Word::Named(name.to_lowercase()),
            None => Word::Text(word.to_owned()),
        },
        rest,
    ))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn scripts_are_read_statement_by_statement() {
        let script =
            "param($name, [switch]$all)\n$lamps = Get-Lamp -Name lamp-01\n'a;b' | Out-String; exit 3";
        let read = parse(script).unwrap();
        let lines: Vec<usize> = read.iter().map(|(line, _)| *line).collect();
        assert_eq!(lines, [1, 2, 3, 3]);
        assert_eq!(read[0].1, Statement::Param(vec!["name".into(), "all".into()]));
        assert!(
            matches!(&read[1].1, Statement::Assign(name, calls) if name == "lamps" && calls[0].words.len() == 2)
        );
        assert!(matches!(&read[2].1, Statement::Pipeline(calls) if calls.len() == 2));
        assert_eq!(read[3].1, Statement::Exit(Word::Number(3)));
        for wrong in ["Get-Lamp |", "| Get-Lamp", "'open", "Get-Lamp {", "$x = )"] {
            assert!(parse(wrong).is_err(), "{wrong}");
        }
    }
}
