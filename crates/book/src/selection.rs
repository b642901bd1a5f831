//! SELECTION as typed: a comma-separated list of names, globs (`lamp-*`) and tags (`@coast`); and another of what is left out.

use std::collections::BTreeSet;

use crate::value::items;
use crate::{BookError, Destination, Field, MachineBook, natural};

/// Finds the machines of a selection but those of another: names of the book, and one-offs (`user@address`, `address:port`) as typed, each once, in
/// the order of the words, and of names within a word. With nothing but what to leave out: all the others.
///
/// # Errors
/// A name that is not in the book, with the nearest; a glob or a tag that stands for nothing; nothing left in the end.
pub fn select(
    book: &MachineBook,
    words: &[impl AsRef<str>],
    except: &[impl AsRef<str>],
) -> Result<Vec<String>, BookError> {
    let words: Vec<&str> = words.iter().flat_map(|word| items(word.as_ref())).collect();
    let mut out = BTreeSet::new();
    for word in except.iter().flat_map(|word| items(word.as_ref())) {
        out.extend(stands_for(book, word)?);
    }
    let taking = if words.is_empty() && !except.is_empty() { vec!["*"] } else { words.clone() };
    let mut seen = BTreeSet::new();
    let mut machines = Vec::new();
    for word in taking {
        let news = stands_for(book, word)?
            .into_iter()
            .filter(|name| !out.contains(name) && seen.insert(name.clone()));
        machines.extend(news);
    }
    match machines.is_empty() {
        true => Err(BookError::bad("selection", &words.join(","), "stands for no machine")),
        false => Ok(machines),
    }
}

fn stands_for(book: &MachineBook, word: &str) -> Result<Vec<String>, BookError> {
    let nothing = || Err(BookError::bad("selection", word, "stands for no machine of the book"));
    if word.starts_with('!') {
        // Shells take it for something else.
        return Err(BookError::bad(
            "selection",
            word,
            "begins with `!`; --except SELECTION leaves machines out",
        ));
    }
    if let Some(tag) = word.strip_prefix('@') {
        let mut tagged = Vec::new();
        let mut known = BTreeSet::new();
        for (name, _) in book.iter() {
            let effective = book.effective(name)?;
            let tags = effective.list(Field::Tags);
            if tags.iter().any(|have| glob(tag, have)) {
                tagged.push(name.to_owned());
            } else {
                known.extend(tags.iter().cloned());
            }
        }
        if tagged.is_empty() && !is_glob(tag) {
            return Err(BookError::unknown("tag", tag, known.iter().map(String::as_str)));
        }
        tagged.sort_by(|one, other| natural(one, other));
        return if tagged.is_empty() { nothing() } else { Ok(tagged) };
    }
    if is_glob(word) && !word.contains(['@', ':']) {
        let mut found: Vec<String> =
            book.iter().map(|(name, _)| name).filter(|name| glob(word, name)).map(str::to_owned).collect();
        found.sort_by(|one, other| natural(one, other));
        return if found.is_empty() { nothing() } else { Ok(found) };
    }
    match Destination::parse(word)? {
        Destination::Named(name) => book.get(&name).map(|_| vec![name]),
        Destination::OneOff(_) => Ok(vec![word.to_owned()]),
    }
}

fn is_glob(word: &str) -> bool {
    word.contains(['*', '?'])
}

/// Whether `name` fits `pattern`, in which `*` stands for any characters and `?` for one.
pub fn glob(pattern: &str, name: &str) -> bool {
    let (pattern, name): (Vec<char>, Vec<char>) = (pattern.chars().collect(), name.chars().collect());
    // The last star, and how far the name had been eaten when it came: where to go on from when the rest does not fit.
    let (mut at, mut eaten, mut star) = (0, 0, None);
    while let Some(c) = name.get(eaten) {
        match pattern.get(at) {
            Some('*') => {
                star = Some((at, eaten));
                at += 1;
            }
            Some(p) if *p == '?' || p == c => {
                at += 1;
                eaten += 1;
            }
            _ => match star {
                None => return false,
                Some((back, from)) => {
                    star = Some((back, from + 1));
                    at = back + 1;
                    eaten = from + 1;
                }
            },
        }
    }
    pattern.iter().skip(at).all(|p| *p == '*')
}
