//! The text of `trust.toml` and where in it each machine's record is, so that a visit to one of ten thousand machines parses one record, and a
//! first contact writes one. Records stand one after the other; what comes last of a machine counts.
//!
//! Only the lines as we write them are looked at this way. A file with anything else in it (a person's own way of writing TOML, the form of an
//! older version) is read by the TOML library in whole, and written anew at the next change; a test holds the two readings against each other.

use std::collections::HashMap;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use crate::trust_form::{LedgerForm, Trust};
use crate::{BookError, Revoked, TrustRecord};

/// Stands behind each record: a text that does not end with it may still be being written.
pub(crate) const RULE: &str = "# ---\n";

const MACHINE: &str = "[[machine]]";
const REVOKED: &str = "[[revoked]]";
const NAME: &str = "name = \"";
/// How the lines within records begin. Strings in them end on their line, see [`is_one_line`].
const WITHIN: [&str; 10] = [
    NAME,
    "addresses = [",
    "key = \"",
    "verified = \"",
    "by = \"",
    "first-seen = \"",
    "last-seen = \"",
    "certificate = \"",
    "fingerprint = \"",
    "reason = ",
];

/// The text in the pieces in which it was read, and the latest record of each machine. Cheap to copy.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ledger {
    pieces: Vec<Arc<String>>,
    latest: Arc<HashMap<Arc<str>, Spot>>,
    /// Records of machines in the text, also those that later ones replace.
    written: usize,
    pub(crate) revoked: Arc<Vec<Revoked>>,
    last: Memo,
}

/// The record that was asked for last: a login asks for that of its machine four times. A copy has its own, since each is for another machine.
#[derive(Debug, Default)]
struct Memo(Mutex<Option<(String, TrustRecord)>>);

impl Clone for Memo {
    fn clone(&self) -> Self {
        Self::default()
    }
}

/// Where in the text a record is.
#[derive(Debug, Clone)]
struct Spot {
    piece: usize,
    range: Range<usize>,
}

/// What a text as we write it consists of.
#[derive(Debug, PartialEq, Eq)]
enum Block {
    /// Where its name is.
    Machine(Range<usize>),
    Revoked,
}

impl Ledger {
    /// The same with more text behind it; the text again when there is anything in it that we would not write.
    ///
    /// # Errors
    /// [`BookError::Syntax`] in a revocation, with the line.
    pub(crate) fn with(mut self, path: &Path, text: String) -> Result<Result<Self, String>, BookError> {
        let Some(blocks) = split(&text) else { return Ok(Err(text)) };
        self.last = Memo::default();
        let (piece, latest) = (self.pieces.len(), Arc::make_mut(&mut self.latest));
        let mut revocations = Vec::new();
        for (block, range) in blocks {
            match block {
                Block::Machine(name) => {
                    let name = text.get(name).unwrap_or_default();
                    self.written += 1;
                    let spot = Spot { piece, range };
                    match latest.get_mut(name) {
                        Some(earlier) => *earlier = spot,
                        None => drop(latest.insert(name.into(), spot)),
                    }
                }
                Block::Revoked => revocations.push(Spot { piece, range }),
            }
        }
        self.pieces.push(Arc::new(text));
        for spot in revocations {
            let (_, revoked) = self.read(path, &spot)?;
            Arc::make_mut(&mut self.revoked).extend(revoked);
        }
        Ok(Ok(self))
    }

    /// The same for a text in any form of TOML.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub(crate) fn of_any(path: &Path, text: &str) -> Result<Self, BookError> {
        let (records, revoked) = LedgerForm::read(path, text)?;
        let mut ledger = Self { revoked: Arc::new(revoked), ..Self::default() };
        let latest = Arc::make_mut(&mut ledger.latest);
        for (name, record) in records {
            let text = LedgerForm::text_of(path, &name, &record)?;
            latest.insert(name.into(), Spot { piece: ledger.pieces.len(), range: 0..text.len() });
            ledger.pieces.push(Arc::new(text));
        }
        ledger.written = latest.len();
        Ok(ledger)
    }

    /// The record of a machine.
    pub(crate) fn get(&self, path: &Path, machine: &str) -> Result<Option<TrustRecord>, BookError> {
        let Some(spot) = self.latest.get(machine) else { return Ok(None) };
        let mut last = self.last.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, record)) = last.as_ref().filter(|(name, _)| name == machine) {
            return Ok(Some(record.clone()));
        }
        let (mut records, _) = self.read(path, spot)?;
        let record = records.remove(machine);
        *last = record.clone().map(|record| (machine.to_owned(), record));
        Ok(record)
    }

    /// Whether there is a record of a machine.
    pub(crate) fn has(&self, machine: &str) -> bool {
        self.latest.contains_key(machine)
    }

    /// All machines, by name.
    pub(crate) fn machines(&self) -> Vec<&str> {
        let mut names: Vec<&str> = self.latest.keys().map(|name| &**name).collect();
        names.sort_unstable();
        names
    }

    /// The text of a machine's record as it stands.
    pub(crate) fn text_of(&self, machine: &str) -> &str {
        self.latest.get(machine).map(|spot| self.text_at(spot)).unwrap_or_default()
    }

    /// The pieces from a number on, as they were read.
    pub(crate) fn pieces_from(&self, first: usize) -> &[Arc<String>] {
        self.pieces.get(first..).unwrap_or_default()
    }

    /// Whether more records are replaced than count, by so many that it pays to write all anew. Written anew whenever that is so, `n` changes
    /// cost the writing of a few times `n` records in all.
    pub(crate) fn is_mostly_replaced(&self) -> bool {
        self.written > 2 * self.latest.len() + 16
    }

    fn text_at(&self, spot: &Spot) -> &str {
        self.pieces.get(spot.piece).and_then(|text| text.get(spot.range.clone())).unwrap_or_default()
    }

    fn read(&self, path: &Path, spot: &Spot) -> Result<Trust, BookError> {
        LedgerForm::read(path, self.text_at(spot)).map_err(|error| match error {
            BookError::Syntax { path, line, message } => {
                BookError::Syntax { path, line: line + self.lines_before(spot), message }
            }
            other => other,
        })
    }

    fn lines_before(&self, spot: &Spot) -> usize {
        let earlier = self.pieces.iter().take(spot.piece).map(|text| text.as_str());
        let here = self.pieces.get(spot.piece).and_then(|text| text.get(..spot.range.start));
        earlier.chain(here).map(|text| text.bytes().filter(|byte| *byte == b'\n').count()).sum()
    }
}

/// The records in a text as we write it, and where they are; nothing when there is anything else in it.
fn split(text: &str) -> Option<Vec<(Block, Range<usize>)>> {
    if !(text.is_empty() || text.ends_with(RULE)) {
        return None;
    }
    let mut blocks: Vec<(Block, Range<usize>)> = Vec::new();
    let mut at = 0;
    let mut lines = text.split_inclusive('\n');
    while let Some(line) = lines.next() {
        let start = at;
        at += line.len();
        match line.as_bytes().first() {
            Some(b'[') => {
                let block = match line.strip_suffix('\n')? {
                    MACHINE => {
                        let named = lines.next()?;
                        let name = named.strip_prefix(NAME)?.strip_suffix("\"\n")?;
                        let from = at + NAME.len();
                        at += named.len();
                        // It must stand for itself.
                        if name.contains(['"', '\\']) {
                            return None;
                        }
                        Some(Block::Machine(from..from + name.len()))
                    }
                    REVOKED => Some(Block::Revoked),
                    "[[machine.keys]]" | "[[machine.certificates]]" | "[[machine.authorities]]" => None,
                    _ => return None,
                };
                match (block, blocks.last_mut()) {
                    (Some(block), _) => blocks.push((block, start..at)),
                    (None, Some((Block::Machine(_), range))) => range.end = at,
                    (None, _) => return None,
                }
            }
            Some(b'#' | b'\n') => {}
            _ if is_one_line(line) => blocks.last_mut()?.1.end = at,
            _ => return None,
        }
    }
    Some(blocks)
}

/// Whether a line is one of ours whose value ends with it: no string over several lines, no list that goes on.
fn is_one_line(line: &str) -> bool {
    let Some(rest) = WITHIN.iter().find_map(|start| line.strip_prefix(start)) else { return false };
    match line.as_bytes() {
        [b'a', ..] => rest.ends_with("]\n") && !rest.contains(['\\', '\'']) && !rest.contains("\"\"\""),
        [b'r', b'e', ..] => !rest.contains("\"\"\"") && !rest.contains("'''"),
        _ => !rest.starts_with("\"\""),
    }
}

/// What a record says that others may share, as it stands in its lines: public keys without their kind, certificates, and addresses.
pub(crate) fn shared_words(text: &str, mut each: impl FnMut(&str, Shared<'_>)) {
    let mut machine = "";
    for line in text.lines() {
        if let Some(name) = line.strip_prefix(NAME) {
            machine = name.split('"').next().unwrap_or_default();
        } else if let Some(key) = line.strip_prefix("key = \"") {
            let key = key.split('"').next().unwrap_or_default();
            let blob = key.split(' ').nth(1).unwrap_or_default();
            each(machine, Shared::Key(blob));
        } else if let Some(certificate) = line.strip_prefix("certificate = \"") {
            each(machine, Shared::Certificate(certificate.split('"').next().unwrap_or_default()));
        } else if let Some(addresses) = line.strip_prefix("addresses = [") {
            addresses
                .split('"')
                .skip(1)
                .step_by(2)
                .for_each(|address| each(machine, Shared::Address(address)));
        }
    }
}

/// See [`shared_words`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Shared<'a> {
    Key(&'a str),
    Certificate(&'a str),
    Address(&'a str),
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    const PATH: &str = "trust.toml";

    /// Lines as we write them, and others that are nearly so.
    fn line() -> impl Strategy<Value = String> {
        let lines = [
            "[[machine]]",
            "name = \"lamp-01\"",
            "name = \"lamp-02\"",
            "name = \"a\\u0062\"",
            "addresses = [\"192.0.2.1:22\"]",
            "addresses = [",
            "addresses = [\"\"\"",
            "addresses = []",
            "",
            "[[machine.keys]]",
            "[machine.keys]",
            " [[machine]]",
            "key = \"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f\"",
            "key = \"\"\"",
            "verified = \"pasted\"",
            "first-seen = \"2026-11-01T08:00:00Z\"",
            "last-seen = \"2026-11-01T08:00:00Z\"",
            "[[revoked]]",
            "fingerprint = \"SHA256:ngk7UVWQ0pJU3TuXLEYgIQJJ5G8CdBJkgLK6wFqeEgI\"",
            "reason = \"gone\"",
            "reason = '''",
            "since = \"2026-11-01T08:00:00Z\"",
            "# ---",
            "# a note",
            "]",
            "\"\"\"",
            "other = 1",
        ];
        prop::sample::select(lines.to_vec()).prop_map(str::to_owned)
    }

    /// A whole record, so that much of what comes is right.
    fn record() -> impl Strategy<Value = Vec<String>> {
        let whole = "[[machine]]\nname = \"lamp-01\"\naddresses = [\"192.0.2.1:22\"]\n\n[[machine.keys]]\nkey = \"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f\"\nverified = \"pasted\"\nfirst-seen = \"2026-11-01T08:00:00Z\"\nlast-seen = \"2026-11-01T08:00:00Z\"\n# ---";
        Just(whole.lines().map(str::to_owned).collect())
    }

    proptest! {
        /// Whatever the quick reading takes, it reads as the TOML library does, or both find fault with it.
        #[test]
        fn the_quick_reading_is_that_of_the_library(
            parts in prop::collection::vec(prop_oneof![2 => record(), 1 => prop::collection::vec(line(), 0..4)], 0..5)
        ) {
            let text = parts.concat().iter().map(|line| format!("{line}\n")).collect::<String>() + RULE;
            let path = Path::new(PATH);
            let Ok(Ok(quick)) = Ledger::default().with(path, text.clone()) else { return Ok(()) };
            let one = |name: &str| Ok::<_, BookError>((name.to_owned(), quick.get(path, name)?.unwrap()));
            let read: Result<Vec<_>, _> = quick.machines().into_iter().map(one).collect();
            match (read, LedgerForm::read(path, &text)) {
                (Ok(quick_records), Ok((records, revoked))) => {
                    prop_assert_eq!(quick_records, records.into_iter().collect::<Vec<_>>());
                    prop_assert_eq!(&*quick.revoked, &revoked);
                }
                // A record that a later one replaces is not looked at.
                (Ok(_), Err(_)) => prop_assert!(quick.written > quick.machines().len()),
                (Err(_), Err(_)) => {}
                (Err(error), Ok(_)) => prop_assert!(false, "{}: {}", error, text),
            }
        }
    }
}
