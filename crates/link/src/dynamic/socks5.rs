//! SOCKS 5 (RFC 1928) with and without a login (RFC 1929).

use std::net::{Ipv4Addr, Ipv6Addr};

use super::{Dialect, Look, Next, Outcome, Stage, TunnelLogin, Wish};

const VERSION: u8 = 5;
/// Methods (RFC 1928 §3).
const NO_LOGIN: u8 = 0;
const USER_AND_PASSWORD: u8 = 2;
const NONE_OF_THESE: u8 = 0xff;
/// Address types (RFC 1928 §5).
const IPV4: u8 = 1;
const NAME: u8 = 3;
const IPV6: u8 = 4;
/// Replies (RFC 1928 §6).
const COMMAND_NOT_SUPPORTED: u8 = 7;
const ADDRESS_NOT_SUPPORTED: u8 = 8;

fn reply(code: u8) -> Vec<u8> {
    // The address that is bound means nothing to a program that connects.
    vec![VERSION, code, 0, IPV4, 0, 0, 0, 0, 0, 0]
}

pub(super) fn answer(outcome: Outcome) -> Vec<u8> {
    reply(match outcome {
        Outcome::Connected => 0,
        Outcome::NotAllowed => 2,
        Outcome::Unreachable => 4,
        Outcome::Refused => 5,
    })
}

/// The methods that a program offers. One that insists on a login where none is wanted is asked for one, and let through.
pub(super) fn methods(bytes: &[u8], wants_login: bool) -> Option<Look> {
    let count = usize::from(*bytes.get(1)?);
    let offered = bytes.get(2..2 + count)?;
    let has = |method| offered.contains(&method);
    let (method, stage) = match (wants_login, has(NO_LOGIN), has(USER_AND_PASSWORD)) {
        (false, true, _) => (NO_LOGIN, Stage::Socks5Request),
        (_, _, true) => (USER_AND_PASSWORD, Stage::Socks5Login),
        _ => {
            let why = "it offers no way to log in that is known here";
            return Some(Look::Took(0, Next::Refuse(vec![VERSION, NONE_OF_THESE], why)));
        }
    };
    Some(Look::Moved(2 + count, stage, Next::Say(vec![VERSION, method])))
}

/// Name and password.
pub(super) fn login(bytes: &[u8], wanted: Option<&TunnelLogin>) -> Option<Look> {
    if bytes.first() != Some(&1) {
        return Some(Look::Took(0, Next::Refuse(vec![1, 1], "its login has a form that is not known here")));
    }
    let user_len = usize::from(*bytes.get(1)?);
    let user = bytes.get(2..2 + user_len)?;
    let password_len = usize::from(*bytes.get(2 + user_len)?);
    let end = 3 + user_len + password_len;
    let password = bytes.get(3 + user_len..end)?;
    Some(match wanted.is_none_or(|wanted| wanted.admits(user, password)) {
        true => Look::Moved(end, Stage::Socks5Request, Next::Say(vec![1, 0])),
        false => Look::Took(end, Next::Refuse(vec![1, 1], "its login is not the one that is wanted")),
    })
}

/// Version, command, and an address of one of three kinds.
pub(super) fn request(bytes: &[u8]) -> Option<Look> {
    let &[version, command, _, kind] = bytes.first_chunk::<4>()?;
    let refuse = |code, why| Some(Look::Took(0, Next::Refuse(reply(code), why)));
    if version != VERSION || command != 1 {
        return refuse(COMMAND_NOT_SUPPORTED, "it wants something else than a connection");
    }
    let (host, end) = match kind {
        IPV4 => (Ipv4Addr::from(*bytes.get(4..)?.first_chunk::<4>()?).to_string(), 8),
        IPV6 => (Ipv6Addr::from(*bytes.get(4..)?.first_chunk::<16>()?).to_string(), 20),
        NAME => {
            let end = 5 + usize::from(*bytes.get(4)?);
            match std::str::from_utf8(bytes.get(5..end)?) {
                Ok(name) if !name.is_empty() => (name.to_owned(), end),
                _ => return refuse(ADDRESS_NOT_SUPPORTED, "its host name is no text"),
            }
        }
        _ => return refuse(ADDRESS_NOT_SUPPORTED, "its address is of no kind that is known here"),
    };
    let port = u16::from_be_bytes(*bytes.get(end..)?.first_chunk::<2>()?);
    if port == 0 {
        return refuse(ADDRESS_NOT_SUPPORTED, "it names no port");
    }
    Some(Look::Took(end + 2, Next::Go(Wish { host, port, dialect: Dialect::Socks5 })))
}
