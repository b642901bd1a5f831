//! SOCKS 4, and 4a, which lets a program say a name.

use super::{Dialect, Look, Next, Outcome, Wish};

/// Longest user name and host name, in bytes.
const MAX_TEXT: usize = 255;
const GRANTED: u8 = 0x5a;
const REFUSED: u8 = 0x5b;

pub(super) fn answer(outcome: Outcome) -> Vec<u8> {
    let code = if outcome == Outcome::Connected { GRANTED } else { REFUSED };
    // Port and address mean nothing to a program that connects.
    vec![0, code, 0, 0, 0, 0, 0, 0]
}

fn refuse(why: &'static str) -> Option<Look> {
    Some(Look::Took(0, Next::Refuse(answer(Outcome::Refused), why)))
}

/// The text up to a zero, and where it ends.
fn text(bytes: &[u8], from: usize) -> Result<Option<(&[u8], usize)>, ()> {
    let rest = bytes.get(from..).unwrap_or_default();
    match rest.iter().take(MAX_TEXT + 1).position(|byte| *byte == 0) {
        Some(len) => Ok(Some((rest.get(..len).unwrap_or_default(), from + len + 1))),
        None if rest.len() > MAX_TEXT => Err(()),
        None => Ok(None),
    }
}

/// Version, command, port, address, user and, in 4a, a name.
pub(super) fn request(bytes: &[u8], wants_login: bool) -> Option<Look> {
    let &[_, command, high, low, a, b, c, d] = bytes.first_chunk::<8>()?;
    if wants_login {
        return refuse("a login is wanted, and SOCKS 4 has none");
    }
    if command != 1 {
        return refuse("it wants something else than a connection");
    }
    let Ok(user) = text(bytes, 8) else { return refuse("its user name is too long") };
    let (_, mut end) = user?;
    let mut host = format!("{a}.{b}.{c}.{d}");
    // An address that nobody has says that a name follows.
    if [a, b, c] == [0, 0, 0] && d != 0 {
        let Ok(name) = text(bytes, end) else { return refuse("its host name is too long") };
        let (name, behind) = name?;
        let Ok(name) = std::str::from_utf8(name) else { return refuse("its host name is no text") };
        (host, end) = (name.to_owned(), behind);
    }
    let port = u16::from_be_bytes([high, low]);
    if host.is_empty() || port == 0 {
        return refuse("it names no place");
    }
    Some(Look::Took(end, Next::Go(Wish { host, port, dialect: Dialect::Socks4 })))
}
