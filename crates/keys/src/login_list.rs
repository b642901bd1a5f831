//! A machine's list of the keys that may log in: one public line each, with options before it. Edited as bytes, so that
//! everything that is not ours stays as it was, to the last white space.

use crate::{PublicKey, public_line};

/// What a line allows less than everything. The names are those that sshd(8) reads before a key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LineLimits {
    /// Addresses that may log in: patterns and networks, comma-separated.
    pub from: Option<String>,
    /// The one command that runs, whatever is asked for.
    pub command: Option<String>,
    /// No tunnels, no display, no agent.
    pub no_forwarding: bool,
    /// The last moment at which it works, as `YYYYMMDD` or `YYYYMMDDHHMM` followed by `Z`.
    pub expires: Option<String>,
}

impl LineLimits {
    /// The options as they stand before the key; empty without limits.
    ///
    /// # Errors
    /// [`BadLimit`]: a value that would end its quotes or its line, and what follows it would be read as something else.
    pub fn options(&self) -> Result<String, BadLimit> {
        for value in [&self.from, &self.command, &self.expires].into_iter().flatten() {
            check_value(value)?;
        }
        let quoted = |name: &str, value: &str| format!("{name}=\"{}\"", value.replace('"', "\\\""));
        let mut options = Vec::new();
        options.extend(self.from.as_ref().map(|value| quoted("from", value)));
        options.extend(self.command.as_ref().map(|value| quoted("command", value)));
        if self.no_forwarding {
            options.extend(
                ["no-agent-forwarding", "no-port-forwarding", "no-X11-forwarding"].map(str::to_owned),
            );
        }
        options.extend(self.expires.as_ref().map(|value| quoted("expiry-time", value)));
        Ok(options.join(","))
    }
}

/// A limit that would not stay within its line and its quotes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("must not be empty, have line ends, or end with a backslash")]
pub struct BadLimit;

/// Whether a value stays within its line and its quotes.
///
/// # Errors
/// [`BadLimit`].
pub fn check_value(value: &str) -> Result<(), BadLimit> {
    match value.is_empty() || value.contains(char::is_control) || value.ends_with('\\') {
        true => Err(BadLimit),
        false => Ok(()),
    }
}

/// What adding a key came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Added {
    /// The list has the key already, with these options.
    Already(String),
    /// The new content.
    Changed(Vec<u8>),
}

/// The lines of a list with the key in each, where there is one.
fn lines(list: &[u8]) -> impl Iterator<Item = (&[u8], Option<public_line::PublicLine>)> {
    list.split_inclusive(|byte| *byte == b'\n').map(|line| {
        let text = std::str::from_utf8(line).ok().map(str::trim).filter(|text| !text.starts_with('#'));
        (line, text.and_then(|text| public_line::parse_with_options(text).ok()))
    })
}

/// The keys of a list, in order.
pub fn keys(list: &[u8]) -> Vec<public_line::PublicLine> {
    lines(list).filter_map(|(_, line)| line).collect()
}

/// Adds a key. One that is there stays where it is; with `options` that differ, its line is replaced in its place.
pub fn add(list: &[u8], key: &PublicKey, comment: &str, options: &str) -> Added {
    let new = match options {
        "" => public_line::format(key, comment),
        options => format!("{options} {}", public_line::format(key, comment)),
    };
    let mut out = Vec::with_capacity(list.len() + new.len() + 2);
    let mut there = false;
    for (line, parsed) in lines(list) {
        match parsed.filter(|parsed| parsed.key == *key) {
            Some(parsed) if options.is_empty() || parsed.options == options => {
                return Added::Already(parsed.options);
            }
            Some(_) if there => {}
            Some(_) => {
                there = true;
                out.extend_from_slice(new.as_bytes());
                out.push(b'\n');
            }
            None => out.extend_from_slice(line),
        }
    }
    if !there {
        // A last line without its end would swallow ours.
        if out.last().is_some_and(|last| *last != b'\n') {
            out.push(b'\n');
        }
        out.extend_from_slice(new.as_bytes());
        out.push(b'\n');
    }
    Added::Changed(out)
}

/// Takes every line with the key out; nothing when there is none.
pub fn remove(list: &[u8], key: &PublicKey) -> Option<Vec<u8>> {
    let mut found = false;
    let mut out = Vec::with_capacity(list.len());
    for (line, parsed) in lines(list) {
        match parsed.is_some_and(|parsed| parsed.key == *key) {
            true => found = true,
            false => out.extend_from_slice(line),
        }
    }
    found.then_some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{KeyAlgorithm, PrivateKey};
    use proptest::prelude::*;
    use std::sync::LazyLock;

    static KEYS: LazyLock<Vec<PublicKey>> = LazyLock::new(|| {
        let make = |_| PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone();
        (0..4).map(make).collect()
    });

    /// Lines of a list that people edit by hand: keys, with options and indented, comments, nonsense, no end.
    fn any_list() -> impl Strategy<Value = Vec<u8>> {
        let key = (1usize..4).prop_map(|at| public_line::format(&KEYS[at], "someone"));
        let line = prop_oneof![
            key.clone(),
            key.clone().prop_map(|line| format!("  restrict,command=\"ls \\\"x\\\" #\"\t{line}")),
            key.prop_map(|line| format!("# {line}")),
            Just(String::new()),
            ".{0,40}".prop_map(|text| text.replace('\n', " ")),
        ];
        (
            prop::collection::vec(line, 0..8),
            prop_oneof![Just("\n"), Just("\r\n")],
            any::<bool>(),
            any::<bool>(),
        )
            .prop_map(|(lines, end, last_end, latin1)| {
                let mut list = lines.join(end).into_bytes();
                if latin1 {
                    list.splice(0..0, *b"# l\xe5mp\n");
                }
                if last_end && !list.is_empty() {
                    list.extend_from_slice(end.as_bytes());
                }
                list
            })
    }

    #[test]
    fn a_backslash_before_a_quote_stays_a_backslash() {
        let limits = LineLimits { command: Some("say \\\"lit\\\" now".into()), ..LineLimits::default() };
        let options = limits.options().unwrap();
        assert_eq!(options, r#"command="say \\"lit\\" now""#);
        let Added::Changed(list) = add(b"", &KEYS[0], "keeper", &options) else { panic!() };
        assert_eq!(keys(&list)[0].options, options);
    }

    proptest! {
        /// Added and taken out again, everything else is as it was; adding twice changes nothing.
        #[test]
        fn a_key_comes_and_goes_and_nothing_else_moves(list in any_list(), limited: bool) {
            let limits = LineLimits { no_forwarding: limited, ..LineLimits::default() };
            let Added::Changed(with) = add(&list, &KEYS[0], "keeper", &limits.options().unwrap()) else { panic!() };
            prop_assert!(with.starts_with(&list));
            prop_assert_eq!(keys(&with).iter().filter(|line| line.key == KEYS[0]).count(), 1);
            prop_assert_eq!(add(&with, &KEYS[0], "other", &limits.options().unwrap()), Added::Already(limits.options().unwrap()));
            let without = remove(&with, &KEYS[0]).unwrap();
            let mut expected = list.clone();
            if expected.last().is_some_and(|last| *last != b'\n') {
                expected.push(b'\n');
            }
            prop_assert_eq!(&without, &expected);
            prop_assert_eq!(remove(&without, &KEYS[0]), None);
        }

        /// New limits replace the line in its place.
        #[test]
        fn limits_are_changed_in_place(list in any_list(), command in "[a-z\" ]{1,20}") {
            let Added::Changed(with) = add(&list, &KEYS[0], "keeper", "") else { panic!() };
            let Added::Changed(with) = add(&with, &KEYS[1], "after it", "restrict") else { return Ok(()) };
            let limits = LineLimits { command: Some(command), expires: Some("20270101Z".into()), ..LineLimits::default() };
            let Added::Changed(limited) = add(&with, &KEYS[0], "keeper", &limits.options().unwrap()) else { panic!() };
            let order = |list: &[u8]| keys(list).into_iter().map(|line| line.key).collect::<Vec<_>>();
            prop_assert_eq!(order(&limited), order(&with));
            let options: Vec<_> = keys(&limited).into_iter().filter(|line| line.key == KEYS[0]).map(|line| line.options).collect();
            prop_assert_eq!(options, vec![limits.options().unwrap()]);
        }

        /// Whatever is to limit a line (a backslash before a quote, say), it stays one line with one key, and the limits are read back, or it is refused.
        #[test]
        fn no_value_leaves_its_quotes_or_its_line(
            command in prop_oneof![".{0,30}", "[\"\\\\ \n\r,a-c]{0,12}", "[\u{0}-\u{9f}]{0,8}"],
            from in prop::option::of(prop_oneof!["[0-9a-f.:*,!/]{1,20}", "[\"\\\\\n,]{0,4}"]),
        ) {
            let limits = LineLimits { command: Some(command), from, ..LineLimits::default() };
            let Ok(options) = limits.options() else { return Ok(()) };
            let Added::Changed(list) = add(b"# first\n", &KEYS[0], "keeper", &options) else { panic!() };
            prop_assert_eq!(list.iter().filter(|byte| **byte == b'\n').count(), 2);
            let found = keys(&list);
            prop_assert_eq!(found.len(), 1);
            prop_assert_eq!((&found[0].key, &found[0].options), (&KEYS[0], &options));
        }
    }
}
