//! A pasted connect line: a program's name, options, a place. Copy lines and lines within other lines are understood too.

use std::collections::VecDeque;
use std::net::IpAddr;

use crate::destination::split_port;
use crate::{Destination, Pasted};

/// Deepest that a line may be quoted within another one.
const MAX_DEPTH: u32 = 3;
/// Letters with a value of its own behind them, in the connect lines of several programs, which no machine of the book keeps.
const WITH_VALUE: &str = "bBcDEFILmOQRSWw";
/// Letters without one.
const SWITCHES: &str = "46AaCfGgKkMNnqrsTtVvXxYyz";

/// The first line of a text that is a connect line; further ones that lead elsewhere leave a doubt.
pub(crate) fn first_line(text: &str) -> Option<Pasted> {
    let mut lines = text.lines().filter_map(|line| connect_line(line.trim(), MAX_DEPTH));
    let mut first = lines.next()?;
    let elsewhere = |line: &Pasted| line.addresses != first.addresses;
    let others: Vec<String> = lines.filter(elsewhere).flat_map(|line| line.addresses).collect();
    first.doubts.extend(others.into_iter().map(|address| format!("another line leads to {address}")));
    Some(first)
}

/// Words of a shell line, with its quotes undone.
fn words(line: &str) -> VecDeque<String> {
    let mut words = VecDeque::new();
    let (mut word, mut quote, mut any) = (String::new(), None, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (None, '"' | '\'') => {
                quote = Some(c);
                any = true;
            }
            (None, '\\') => word.extend(chars.next()),
            (None, c) if c.is_whitespace() => {
                if any || !word.is_empty() {
                    words.push_back(std::mem::take(&mut word));
                }
                any = false;
            }
            (_, c) => word.push(c),
        }
    }
    if any || !word.is_empty() {
        words.push_back(word);
    }
    words
}

/// What the options of a line say, and the words that are none.
#[derive(Default)]
struct Given {
    port: Option<u16>,
    user: Option<String>,
    key_file: Option<String>,
    gateways: Vec<String>,
    address: Option<String>,
    left_over: Vec<String>,
    plain: Vec<String>,
    /// Whether there were options at all.
    any: bool,
    /// Whether one was there that may have a value or not.
    unclear: bool,
}

impl Given {
    fn read(mut rest: VecDeque<String>, depth: u32) -> Self {
        let mut given = Self::default();
        while let Some(word) = rest.pop_front() {
            match word.strip_prefix('-').filter(|option| !option.is_empty()) {
                None => given.plain.push(word),
                Some("-") => {}
                Some(option) => {
                    given.any = true;
                    match option.strip_prefix('-') {
                        Some(long) => given.long(long, &mut rest),
                        None => given.letters(option, &mut rest, depth),
                    }
                }
            }
        }
        given
    }

    fn long(&mut self, long: &str, rest: &mut VecDeque<String>) {
        let (name, attached) = match long.split_once('=') {
            Some((name, value)) => (name, Some(value.to_owned())),
            None => (long, None),
        };
        let known = [
            "port",
            "user",
            "login",
            "username",
            "key",
            "key-file",
            "private-key",
            "identity",
            "identity-file",
            "gateway",
            "jump",
            "address",
            "host",
            "hostname",
            "ip",
            "public-ip",
        ];
        if !known.contains(&name) {
            self.unclear |= attached.is_none();
            self.left_over.push(format!("--{long}"));
            return;
        }
        let Some(value) = attached.or_else(|| rest.pop_front()) else {
            self.left_over.push(format!("--{long}"));
            return;
        };
        match name {
            "port" => match value.parse() {
                Ok(port) => self.port = Some(port),
                Err(_) => self.left_over.push(format!("--{name} {value}")),
            },
            "user" | "login" | "username" => self.user = Some(value),
            "gateway" | "jump" => self.through(&value),
            "address" | "host" | "hostname" | "ip" | "public-ip" => self.address = Some(value),
            _ => self.key_file = Some(value),
        }
    }

    fn letters(&mut self, option: &str, rest: &mut VecDeque<String>, depth: u32) {
        for (at, letter) in option.char_indices() {
            if SWITCHES.contains(letter) {
                self.left_over.push(format!("-{letter}"));
                continue;
            }
            let attached = option.get(at + letter.len_utf8()..).filter(|value| !value.is_empty());
            // A copy line's `-p` keeps times and has no number behind it.
            let number = |text: Option<&str>| text.is_some_and(|text| text.parse::<u16>().is_ok());
            let is_port = matches!(letter, 'p' | 'P');
            let takes = "liJoe".contains(letter) || WITH_VALUE.contains(letter);
            if is_port && !number(attached.or(rest.front().map(String::as_str))) || !is_port && !takes {
                self.unclear |= !is_port;
                self.left_over.push(format!("-{}", option.get(at..).unwrap_or_default()));
                return;
            }
            let Some(value) = attached.map(str::to_owned).or_else(|| rest.pop_front()) else {
                self.left_over.push(format!("-{letter}"));
                return;
            };
            match letter {
                'p' | 'P' => self.port = value.parse().ok(),
                'l' => self.user = Some(value),
                'i' => self.key_file = Some(value),
                'J' => self.through(&value),
                'o' => self.pair(&value),
                'e' if depth > 0 && value.contains(' ') => self.within(&value, depth),
                _ => self.left_over.push(format!("-{letter} {value}")),
            }
            return;
        }
    }

    fn through(&mut self, gateways: &str) {
        self.gateways = gateways.split(',').map(|gateway| gateway.trim().to_owned()).collect();
    }

    /// `NAME=VALUE` or `NAME VALUE`.
    fn pair(&mut self, pair: &str) {
        let named = pair.split_once(['=', ' ']).map(|(name, value)| (name.to_lowercase(), value.trim()));
        match named.as_ref().map(|(name, value)| (name.as_str(), *value)) {
            Some(("port", value)) if value.parse::<u16>().is_ok() => self.port = value.parse().ok(),
            Some(("user", value)) => self.user = Some(value.to_owned()),
            Some(("identityfile", value)) => self.key_file = Some(value.to_owned()),
            Some(("proxyjump", value)) => self.through(value),
            Some(("hostname", value)) => self.address = Some(value.to_owned()),
            _ => self.left_over.push(format!("-o {pair}")),
        }
    }

    /// The command that a copy line reaches the machine by: a connect line without a place.
    fn within(&mut self, command: &str, depth: u32) {
        let mut words = words(command);
        words.pop_front();
        let inner = Self::read(words, depth - 1);
        self.port = self.port.or(inner.port);
        self.user = self.user.take().or(inner.user);
        self.key_file = self.key_file.take().or(inner.key_file);
        if self.gateways.is_empty() {
            self.gateways = inner.gateways;
        }
        self.left_over.extend(inner.left_over.into_iter().chain(inner.plain));
    }
}

/// A word as a place, and how much it looks like one.
fn place(word: &str) -> Option<(u8, Pasted)> {
    let place = Pasted::at(word.strip_prefix("ssh://").map_or(word, |rest| rest.trim_end_matches('/')))?;
    let address = place.addresses.first()?;
    let rank = match () {
        () if place.user.is_some() => 3,
        () if place.port.is_some() || address.parse::<IpAddr>().is_ok() => 2,
        () if address.contains('.') => 1,
        () => 0,
    };
    Some((rank, place))
}

/// `user@host:path`: one side of a copy, and the path.
fn copied(word: &str) -> Option<(Pasted, String)> {
    let (user, host) = word.rsplit_once('@').map_or(("", word), |(user, host)| (user, host));
    let (address, path) = match host.strip_prefix('[') {
        Some(rest) => rest.split_once("]:")?,
        None => host.split_once(':')?,
    };
    // Two colons are an IPv6 address, a number is a port, and one letter is a drive.
    if path.contains(':') && !host.starts_with('[') || split_port(host).is_some() || address.len() < 2 {
        return None;
    }
    let address = if address.contains(':') { format!("[{address}]") } else { address.to_owned() };
    let place = Pasted::at(&if user.is_empty() { address } else { format!("{user}@{address}") })?;
    Some((place, path.to_owned()))
}

fn connect_line(line: &str, depth: u32) -> Option<Pasted> {
    let mut words = words(line.trim_start_matches(['$', '#', '>', ' ']));
    let program = words.pop_front()?;
    // A connect line begins with a program's name, and has options or a place behind it.
    if words.is_empty() || !program.ends_with(|c: char| c.is_ascii_alphanumeric()) {
        return None;
    }
    if depth > 0
        && let Some(inner) = line_within(&program, &words, depth)
    {
        return Some(inner);
    }
    let mut given = Given::read(words, depth);
    let mut pasted = match &given.address {
        Some(address) => {
            let (_, found) = place(address)?;
            given.left_over.append(&mut given.plain);
            found
        }
        None => choose(&program, &mut given)?,
    };
    if given.gateways.iter().any(|gateway| Destination::parse(gateway).is_err()) {
        given.left_over.append(&mut given.gateways);
    }
    pasted.port = given.port.or(pasted.port);
    pasted.user = given.user.or(pasted.user);
    pasted.key_file = given.key_file;
    pasted.gateways = given.gateways;
    pasted.left_over = given.left_over;
    Some(pasted)
}

/// A connect line inside of another program's: behind its words, or quoted as one of them.
fn line_within(program: &str, words: &VecDeque<String>, depth: u32) -> Option<Pasted> {
    let quoted =
        words.iter().position(|word| word.split_whitespace().next() == Some("ssh") && word.contains(' '));
    let (inner, around): (Pasted, Vec<&String>) = match quoted {
        Some(at) if !program.ends_with("ssh") => {
            let inner = connect_line(words.get(at)?, depth - 1)?;
            (
                inner,
                words.iter().enumerate().filter_map(|(other, word)| (other != at).then_some(word)).collect(),
            )
        }
        _ => {
            let at = words.iter().position(|word| word == "ssh").filter(|_| program != "ssh")?;
            let line = words.iter().skip(at).map(|word| quote(word)).collect::<Vec<_>>().join(" ");
            (connect_line(&line, 0)?, words.iter().take(at).collect())
        }
    };
    let mut inner = inner;
    let around = std::iter::once(program.to_owned()).chain(around.into_iter().cloned());
    inner.left_over.splice(0..0, around);
    Some(inner)
}

fn quote(word: &str) -> String {
    format!("'{}'", word.replace('\'', "'\\''"))
}

/// Which of the words is the place; the others are left over.
fn choose(program: &str, given: &mut Given) -> Option<Pasted> {
    let plain = std::mem::take(&mut given.plain);
    let copies: Vec<(usize, (Pasted, String))> = match program {
        "ssh" => Vec::new(),
        // Without an option or a user it may be prose with a colon in it.
        _ => plain
            .iter()
            .enumerate()
            .filter_map(|(at, word)| Some((at, copied(word)?)))
            .filter(|(_, (place, _))| given.any || place.user.is_some())
            .collect(),
    };
    let places: Vec<(usize, (u8, Pasted))> =
        plain.iter().enumerate().filter_map(|(at, word)| Some((at, place(word)?))).collect();
    let (at, mut found) = match copies.split_first() {
        Some(((at, (found, path)), others)) => {
            let elsewhere = others.iter().filter(|(_, (other, _))| other.addresses != found.addresses);
            let mut found = found.clone();
            let doubts: Vec<String> = elsewhere
                .flat_map(|(_, (other, _))| &other.addresses)
                .map(|a| format!("it could be {a}"))
                .collect();
            found.doubts = doubts;
            if !path.is_empty() {
                given.left_over.push(path.clone());
            }
            (*at, found)
        }
        None if given.unclear => {
            let best = places.iter().map(|(_, (rank, _))| *rank).max()?;
            let mut best = places.iter().filter(|(_, (rank, _))| *rank == best);
            let (at, (_, found)) = best.next()?;
            let mut found = found.clone();
            let others = best.flat_map(|(_, (_, other))| other.addresses.iter());
            found.doubts = others.map(|address| format!("it could be {address}")).collect();
            (*at, found)
        }
        None => {
            let (at, (rank, found)) = places.first()?;
            // `see lamp.example tomorrow` is prose: without an option or a user, the place must be all that follows the program.
            if !given.any && (*at > 0 || *rank < 3 && (plain.len() > 1 || *rank == 0)) {
                return None;
            }
            (*at, found.clone())
        }
    };
    given
        .left_over
        .extend(plain.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, word)| word.clone()));
    found.left_over = Vec::new();
    Some(found)
}
