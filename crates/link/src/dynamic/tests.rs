#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

use proptest::prelude::*;

use super::*;

/// What comes of a conversation that is fed in pieces of this length: what is said, and how it ends.
fn converse(login: Option<TunnelLogin>, bytes: &[u8], piece: usize) -> (Vec<u8>, Next, Vec<u8>) {
    let mut greeting = Greeting::new(login);
    let mut said = Vec::new();
    let mut pieces = bytes.chunks(piece.max(1));
    loop {
        match greeting.look() {
            Next::Say(words) => said.extend(words),
            Next::Read => match pieces.next() {
                Some(piece) => greeting.feed(piece),
                None => return (said, Next::Read, Vec::new()),
            },
            next => {
                pieces.for_each(|piece| greeting.feed(piece));
                return (said, next, greeting.rest().to_vec());
            }
        }
    }
}

fn wish(host: &str, port: u16, dialect: Dialect) -> Next {
    Next::Go(Wish { host: host.into(), port, dialect })
}

fn login() -> Option<TunnelLogin> {
    Some(TunnelLogin { user: "keeper".into(), password: SecretString::new("fog".into()) })
}

#[test]
fn every_dialect_says_its_wish_however_it_is_cut() {
    let name = b"\x05\x01\x00\x05\x01\x00\x03\x07fog.lan\x00\x50GET";
    let address = b"\x05\x02\x00\x02\x05\x01\x00\x01\x0a\x00\x00\x01\x01\xbbGET";
    let six = b"\x05\x01\x00\x05\x01\x00\x04\x20\x01\x0d\xb8\0\0\0\0\0\0\0\0\0\0\0\x01\x00\x16GET";
    // A program that insists on a login, where none is wanted.
    let insists = b"\x05\x01\x02\x01\x01a\x01b\x05\x01\x00\x03\x01f\x00\x50GET";
    let four = b"\x04\x01\x00\x50\x0a\x00\x00\x01me\x00GET";
    let four_a = b"\x04\x01\x00\x50\x00\x00\x00\x01\x00fog.lan\x00GET";
    let http = b"CONNECT fog.lan:443 HTTP/1.1\r\nHost: fog.lan:443\r\n\r\nGET";
    let http_six = b"CONNECT [2001:db8::1]:443 HTTP/1.0\r\n\r\nGET";
    for (bytes, said, expected) in [
        (&name[..], &b"\x05\x00"[..], wish("fog.lan", 80, Dialect::Socks5)),
        (address, b"\x05\x00", wish("10.0.0.1", 443, Dialect::Socks5)),
        (six, b"\x05\x00", wish("2001:db8::1", 22, Dialect::Socks5)),
        (insists, b"\x05\x02\x01\x00", wish("f", 80, Dialect::Socks5)),
        (four, b"", wish("10.0.0.1", 80, Dialect::Socks4)),
        (four_a, b"", wish("fog.lan", 80, Dialect::Socks4)),
        (http, b"", wish("fog.lan", 443, Dialect::Http)),
        (http_six, b"", wish("2001:db8::1", 443, Dialect::Http)),
    ] {
        for piece in [1, 2, 7, 4096] {
            assert_eq!(
                converse(None, bytes, piece),
                (said.to_vec(), expected.clone(), b"GET".to_vec()),
                "{:?} in pieces of {piece}",
                String::from_utf8_lossy(bytes)
            );
        }
    }
}

#[test]
fn what_is_no_wish_is_refused_in_its_own_words() {
    for (bytes, answer) in [
        // A command that is none, an address of no kind, no port, a name that is no text.
        (&b"\x05\x01\x00\x05\x02\x00\x01\x0a\x00\x00\x01\x00\x50"[..], &b"\x05\x07"[..]),
        (b"\x05\x01\x00\x05\x01\x00\x09\x0a\x00\x00\x01\x00\x50", b"\x05\x08"),
        (b"\x05\x01\x00\x05\x01\x00\x01\x0a\x00\x00\x01\x00\x00", b"\x05\x08"),
        (b"\x05\x01\x00\x05\x01\x00\x03\x02\xff\xfe\x00\x50", b"\x05\x08"),
        (b"\x05\x01\x01", b"\x05\xff"),
        (b"\x04\x02\x00\x50\x0a\x00\x00\x01\x00", b"\x00\x5b"),
        (b"\x04\x01\x00\x00\x0a\x00\x00\x01\x00", b"\x00\x5b"),
        (b"GET http://fog.lan/ HTTP/1.1\r\n\r\n", b"HTTP/1.1 405"),
        (b"CONNECT fog.lan HTTP/1.1\r\n\r\n", b"HTTP/1.1 400"),
        (b"CONNECT fog.lan:0 HTTP/1.1\r\n\r\n", b"HTTP/1.1 400"),
        (b"GARBAGE\x01\r\n\r\n", b"HTTP/1.1 400"),
        (b"\x16\x03\x01", b""),
        (b"ssh", b""),
    ] {
        let (_, next, _) = converse(None, bytes, 4096);
        let Next::Refuse(met, why) = next else { panic!("{next:?} for {bytes:?}") };
        assert!(met.starts_with(answer) && !why.is_empty(), "{met:?} for {bytes:?}");
    }
    let long = [b"\x04\x01\x00\x50\x0a\x00\x00\x01".to_vec(), vec![b'u'; 300]].concat();
    assert!(matches!(converse(None, &long, 64).1, Next::Refuse(..)));
    let endless = [b"CONNECT a:1 HTTP/1.1\r\nX: ".to_vec(), vec![b'x'; 20_000]].concat();
    assert!(matches!(converse(None, &endless, 4096).1, Next::Refuse(..)));
}

#[test]
fn a_login_that_is_wanted_lets_nobody_else_through() {
    let socks = |user: &str, password: &str| {
        let mut bytes = vec![5, 1, 2, 1, user.len() as u8];
        bytes.extend(user.as_bytes());
        bytes.push(password.len() as u8);
        bytes.extend(password.as_bytes());
        bytes.extend(b"\x05\x01\x00\x03\x01f\x00\x50");
        bytes
    };
    let http = |pair: &str| {
        let said = Base64::encode_string(pair.as_bytes());
        format!("CONNECT f:80 HTTP/1.1\r\nProxy-Authorization: basic {said}\r\n\r\n").into_bytes()
    };
    use base64ct::{Base64, Encoding};
    for (bytes, goes) in [
        (socks("keeper", "fog"), true),
        (socks("keeper", "mist"), false),
        (socks("", ""), false),
        (http("keeper:fog"), true),
        (http("keeper:"), false),
        (http("fog"), false),
        (b"CONNECT f:80 HTTP/1.1\r\n\r\n".to_vec(), false),
        (b"\x05\x01\x00\x05\x01\x00\x03\x01f\x00\x50".to_vec(), false),
        (b"\x04\x01\x00\x50\x0a\x00\x00\x01\x00".to_vec(), false),
    ] {
        let (_, next, _) = converse(login(), &bytes, 4096);
        assert_eq!(matches!(next, Next::Go(_)), goes, "{next:?}");
        assert_eq!(matches!(next, Next::Refuse(..)), !goes, "{next:?}");
    }
}

proptest! {
    #[test]
    fn any_bytes_are_survived_and_bounded(start in 0..7usize, bytes: Vec<u8>, piece in 1..40usize) {
        let starts = [&b""[..], b"\x05\x01\x00", b"\x05\x01\x00\x05\x01\x00", b"\x05\x01\x02\x01", b"\x04\x01", b"CONNECT ", b"\x05"];
        let all = [starts[start], &bytes].concat();
        for login in [None, login()] {
            let mut greeting = Greeting::new(login);
            for piece in all.chunks(piece) {
                greeting.feed(piece);
                for _ in 0..4 {
                    if let Next::Refuse(answer, _) | Next::Say(answer) = greeting.look() {
                        prop_assert!(answer.len() < 1024);
                    }
                }
                prop_assert!(greeting.rest().len() <= all.len());
            }
        }
    }
}
