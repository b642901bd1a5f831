//! A pasted block of a client's settings: a word and its value on each line, in whatever words several clients share.

use crate::check::{check_address, check_user};
use crate::{Destination, Pasted};

/// What a word means.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Word {
    /// The name of a machine, and its address where nothing else says one. Begins a machine.
    Host,
    Address,
    User,
    Port,
    Key,
    Gateway,
}

fn meaning(word: &str) -> Option<Word> {
    let plain: String = word.chars().filter(char::is_ascii_alphanumeric).collect();
    Some(match plain.to_ascii_lowercase().as_str() {
        "host" | "machine" | "name" => Word::Host,
        "hostname" | "address" | "ip" | "server" | "ipaddress" => Word::Address,
        "user" | "username" | "login" => Word::User,
        "port" => Word::Port,
        "identityfile" | "key" | "keyfile" | "privatekey" | "identity" => Word::Key,
        "proxyjump" | "gateway" | "jump" | "jumphost" | "bastion" => Word::Gateway,
        _ => return None,
    })
}

/// The first machine of a block of settings. None when the text is no such block: most of its lines must be a word and a value.
pub(crate) fn settings(text: &str) -> Option<Pasted> {
    let plain = |line: &&str| !line.is_empty() && !line.starts_with(['#', ';', '[']);
    let lines: Vec<&str> = text.lines().map(str::trim).filter(plain).collect();
    let mut pasted = Pasted::default();
    let mut host: Option<String> = None;
    let mut understood = 0;
    for line in &lines {
        let (word, value) = line.split_once(|c: char| c.is_whitespace() || c == '=')?;
        let value = value.trim_start_matches(['=', ' ', '\t']).trim().trim_matches(['"', '\'']);
        // A word alone with a colon is a label of prose or of a console's page.
        if word.ends_with(':') || !word.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c)) {
            return None;
        }
        let fits = |good: bool| if good { Some(value.to_owned()) } else { None };
        let met = meaning(word);
        if met == Some(Word::Host) && understood > 0 {
            let words = "only the first machine of several is taken";
            if !pasted.doubts.iter().any(|doubt| doubt == words) {
                pasted.doubts.push(words.into());
            }
            break;
        }
        let kept = match met {
            Some(Word::Host) => {
                host = fits(check_address(value).is_ok());
                host.is_some()
            }
            Some(Word::Address) => match Pasted::at(value) {
                Some(place) => {
                    pasted.addresses.extend(place.addresses);
                    pasted.port = pasted.port.or(place.port);
                    pasted.user = pasted.user.take().or(place.user);
                    true
                }
                None => false,
            },
            Some(Word::User) => {
                pasted.user = fits(check_user(value).is_ok() && !value.contains(' '));
                pasted.user.is_some()
            }
            Some(Word::Port) => {
                pasted.port = value.parse().ok().filter(|port| *port != 0);
                pasted.port.is_some()
            }
            Some(Word::Key) if pasted.key_file.is_none() => {
                pasted.key_file = fits(!value.is_empty());
                true
            }
            Some(Word::Gateway) => {
                let gateways: Vec<String> = value.split(',').map(|one| one.trim().to_owned()).collect();
                let good = gateways.iter().all(|one| Destination::parse(one).is_ok());
                if good {
                    pasted.gateways = gateways;
                }
                good
            }
            Some(Word::Key) | None => false,
        };
        match kept {
            true => understood += 1,
            false => pasted.left_over.push((*line).to_owned()),
        }
    }
    let name_is_a_pattern = host.as_ref().is_some_and(|host| host.contains(['*', '?']));
    if pasted.addresses.is_empty() && !name_is_a_pattern {
        pasted.addresses.extend(host.clone());
    }
    pasted.name = host.filter(|host| !pasted.addresses.contains(host));
    (understood >= 2 && understood >= pasted.left_over.len() && !pasted.addresses.is_empty())
        .then_some(pasted)
}
