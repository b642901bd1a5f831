//! A pasted block of text: a console's page, or somebody's words.

use std::net::IpAddr;

use crate::check::check_user;
use crate::{Destination, Pasted};

/// What a label means.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Label {
    Address,
    PrivateAddress,
    User,
    Port,
    Key,
    Gateway,
    Name,
}

fn label(text: &str) -> Option<Label> {
    let text = text.to_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    // The more special words first: "user name" is no name, and "key name" no user.
    Some(match () {
        () if has(&["fingerprint", "password", "passphrase", "mac "]) => return None,
        () if has(&["key", "identity", "pem"]) => Label::Key,
        () if has(&["gateway", "jump", "bastion"]) => Label::Gateway,
        () if has(&["user", "login", "account", "log in as"]) => Label::User,
        () if has(&["port"]) => Label::Port,
        () if has(&["private", "internal"]) && has(&["ip", "address", "dns", "host"]) => {
            Label::PrivateAddress
        }
        () if has(&["address", "host", "dns", "endpoint", "server"]) => Label::Address,
        () if text
            .split(|c: char| !c.is_alphanumeric())
            .any(|word| matches!(word, "ip" | "ipv4" | "ipv6")) =>
        {
            Label::Address
        }
        () if has(&["name", "machine", "instance"]) => Label::Name,
        () => return None,
    })
}

/// A block of text: lines with labels, and failing those the first words that look like an address.
pub(crate) fn block(text: &str) -> Option<Pasted> {
    let mut pasted = Pasted::default();
    let mut private = Vec::new();
    let mut pending = None;
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        // `Label: value`, `Label = value`, a tab or wide space between them, or the value on the next line.
        let parts = line.split_once(['=', '\t']).filter(|(l, _)| label(l).is_some());
        let parts = parts.or_else(|| line.split_once(": ")).or_else(|| line.split_once("  "));
        let (meaning, value) = match parts {
            Some((left, value)) if label(left).is_some() => (label(left), value.trim()),
            _ if line.ends_with(':') || label(line).is_some() && !line.contains([' ', '.', '@']) => {
                pending = label(line.trim_end_matches(':'));
                continue;
            }
            _ => (pending, line),
        };
        pending = None;
        let value = value.trim_matches(['"', '\'', ',', ' ', '`']);
        let place = || Pasted::at(value).filter(|_| !value.contains(' '));
        match meaning {
            Some(Label::Address) => {
                if let Some(place) = place() {
                    pasted.addresses.extend(place.addresses);
                    pasted.port = pasted.port.or(place.port);
                    pasted.user = pasted.user.or(place.user);
                }
            }
            Some(Label::PrivateAddress) => {
                private.extend(place().into_iter().flat_map(|place| place.addresses))
            }
            Some(Label::User) if check_user(value).is_ok() && !value.contains(' ') => {
                pasted.user = Some(value.to_owned())
            }
            Some(Label::Port) => {
                // "22 (SSH)", "TCP/2222"
                let digits = value.split(|c: char| !c.is_ascii_digit()).find(|part| !part.is_empty());
                pasted.port = digits.and_then(|digits| digits.parse().ok()).or(pasted.port);
            }
            Some(Label::Key) => pasted.key_file = Some(value.to_owned()).filter(|value| !value.contains(' ')),
            Some(Label::Gateway) if Destination::parse(value).is_ok() => {
                pasted.gateways.push(value.to_owned())
            }
            Some(Label::Name) => pasted.name = Some(value.to_owned()),
            Some(Label::User | Label::Gateway) => pasted.left_over.push(line.to_owned()),
            None if is_labelled(line) => pasted.left_over.push(line.to_owned()),
            None => {}
        }
    }
    if pasted.addresses.len() > 1 {
        pasted.doubts.extend(pasted.addresses.iter().skip(1).map(|a| format!("it could be {a}")));
    }
    pasted.addresses.extend(private);
    if pasted.addresses.is_empty() {
        pasted.left_over.clear();
        loose_words(text, &mut pasted);
        let mut others = pasted.addresses.clone();
        others.dedup();
        pasted.doubts.extend(others.iter().skip(1).map(|address| format!("it could be {address}")));
    }
    let mut seen = std::collections::BTreeSet::new();
    pasted.addresses.retain(|address| seen.insert(address.clone()));
    Some(pasted)
}

/// `Label: value`, which says something that a machine of the book does not keep.
fn is_labelled(line: &str) -> bool {
    line.split_once(": ").is_some_and(|(label, value)| {
        !value.trim().is_empty() && label.split_whitespace().count() <= 4 && !label.contains(['.', '!', '?'])
    })
}

/// No labels: words that are an address or `user@host`, a port after "port", and a user after "user" or "as".
fn loose_words(text: &str, pasted: &mut Pasted) {
    let trim = |word: &str| word.trim_matches(|c: char| "\"'`,;.()<>".contains(c)).to_owned();
    let words: Vec<String> = text.split_whitespace().map(trim).collect();
    for (index, word) in words.iter().enumerate() {
        let before = index.checked_sub(1).and_then(|index| words.get(index)).map_or("", String::as_str);
        let place = Pasted::at(word.strip_prefix("ssh://").unwrap_or(word));
        let is_address = |place: &Pasted| place.addresses.iter().any(|a| a.parse::<IpAddr>().is_ok());
        match place {
            Some(place) if word.contains('@') || is_address(&place) => {
                pasted.addresses.extend(place.addresses);
                pasted.port = pasted.port.or(place.port);
                pasted.user = pasted.user.take().or(place.user);
            }
            _ if before.eq_ignore_ascii_case("port") => pasted.port = word.parse().ok().or(pasted.port),
            _ if matches!(before.to_lowercase().as_str(), "user" | "as" | "username" | "login")
                && check_user(word).is_ok() =>
            {
                pasted.user = Some(word.clone());
            }
            _ => {}
        }
    }
}
