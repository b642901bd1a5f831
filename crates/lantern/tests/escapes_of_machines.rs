//! Text from machines that steers terminals, forges lines or hides: before they are trusted and after, by each command that shows any of it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread;

use lantern_harbour::{LoginRule, MachineSpec, UserSpec};
use lantern_keys::wire::Writer;
use lantern_keys::{KeyAlgorithm, PrivateKey, SecretString};
use support::fit::{assert_fit, assert_fit_json, hostile};
use support::{Desk, light};

fn ed25519() -> PrivateKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap()
}

/// A packet before there are keys (RFC 4253 §6).
fn packet(payload: &[u8]) -> Vec<u8> {
    let padding = 8 - (payload.len() + 5) % 8 + 8;
    let mut out = Vec::new();
    out.put_uint32((payload.len() + 1 + padding) as u32);
    out.put_byte(padding as u8);
    out.put(payload);
    out.put(&vec![0; padding]);
    out
}

fn offer(kex: &str, host_key: &str, rest: &str) -> Vec<u8> {
    let mut out = vec![20];
    out.put(&[7; 16]);
    for list in [kex, host_key, rest, rest, "hmac-sha2-256", "hmac-sha2-256", "none", "none", "", ""] {
        out.put_string(list.as_bytes());
    }
    out.put_bool(false);
    out.put_uint32(0);
    packet(&out)
}

/// What a server does that says nothing but this.
fn scripts(text: &str) -> Vec<(&'static str, Vec<u8>)> {
    let ident = b"SSH-2.0-Lamp\r\n".to_vec();
    let after = |message: Vec<u8>| [ident.clone(), message].concat();
    let good = offer("curve25519-sha256", "ssh-ed25519", "aes256-gcm@openssh.com");
    let mut disconnect = vec![1];
    disconnect.put_uint32(11);
    disconnect.put_string(text.as_bytes());
    disconnect.put_string(b"");
    let mut debug = vec![4, 1];
    debug.put_string(text.as_bytes());
    debug.put_string(b"");
    let reply = |key: &[u8], signature: &[u8]| {
        let mut out = vec![31];
        out.put_string(key);
        // The base point of the curve (RFC 7748 §4.1).
        out.put_string(&[[9].as_slice(), &[0; 31]].concat());
        out.put_string(signature);
        packet(&out)
    };
    let typed = |name: &str| {
        let mut out = Vec::new();
        out.put_string(name.as_bytes());
        out.put_string(&[5; 32]);
        out
    };
    let good_key = ed25519().public().encode();
    vec![
        ("identification", format!("SSH-2.0-{text}\r\n").into_bytes()),
        ("old version", format!("SSH-1.5-{text}\r\n").into_bytes()),
        ("line before", format!("{text}\r\nSSH-2.0-Lamp {text}\r\n").into_bytes()),
        ("no SSH", format!("HTTP/1.1 400 {text}\r\n\r\n").into_bytes()),
        ("algorithms", after(offer(text, text, text))),
        ("disconnect", after(packet(&disconnect))),
        ("debug", after([packet(&debug), packet(&disconnect)].concat())),
        ("host key", after([good.clone(), reply(&typed(text), &typed("ssh-ed25519"))].concat())),
        ("signature", after([good, reply(&good_key, &typed(text))].concat())),
    ]
}

fn serve(listener: TcpListener, said: Vec<u8>) {
    thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream): Result<TcpStream, _> = stream else { return };
            let _ = stream.write_all(&said);
            let _ = stream.set_read_timeout(Some(std::time::Duration::from_millis(200)));
            let mut sink = [0; 4096];
            while stream.read(&mut sink).is_ok_and(|len| len > 0) {}
        }
    });
}

#[test]
fn what_a_machine_says_before_it_is_trusted() {
    thread::scope(|scope| {
        for text in hostile() {
            scope.spawn(move || {
                let desk = Desk::with_key();
                for (what, said) in scripts(&text) {
                    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
                    let port = listener.local_addr().unwrap().port();
                    serve(listener, said);
                    let place = format!("keeper@127.0.0.1:{port}");
                    for words in [
                        &["run", &place, "--", "true"][..],
                        &["run", &place, "-vv", "--", "true"],
                        &["check", &place],
                        &["trust", "look", &place],
                    ] {
                        let outcome = desk.lantern(words);
                        let of = format!("{what}: {}: {text:.40}", words.join(" "));
                        assert_ne!(outcome.status, 0, "{of}");
                        assert_fit(&of, &outcome.out);
                        assert_fit(&of, outcome.err.as_bytes());
                    }
                    for words in [&["check", &place, "--json"], &["trust", "look", &place, "--json"][..]] {
                        let outcome = desk.lantern(words);
                        assert_fit_json(what, &outcome.out);
                        assert_fit(what, outcome.err.as_bytes());
                    }
                }
            });
        }
    });
}

/// Its greeting, its name and whatever its programs print where we look at it; what a command prints is data, and goes on as it is.
#[test]
fn what_a_machine_says_after_it_is_trusted() {
    for text in hostile() {
        let desk = Desk::with_key();
        let user = |name: &str| UserSpec {
            code: Some(SecretString::new("4711".into())),
            rule: LoginRule::AnyOf(vec!["publickey", "keyboard-interactive"]),
            ..UserSpec::new(name, None, vec![desk.public_key("harbour")])
        };
        let lit = light(MachineSpec {
            banner: Some(text.clone()),
            users: vec![user("keeper"), user(&text)],
            ..MachineSpec::new(&text, 1).unwrap()
        });
        let address = format!("keeper@{}", lit.address);
        desk.lantern(&["machine", "add", "lamp-01", &address]).expect(0);
        desk.lantern(&["trust", "accept", "lamp-01", "--expect", &lit.fingerprint]).expect(0);
        for words in [
            &["check", "lamp-01"][..],
            &["key", "install", "harbour", "lamp-01"],
            &["key", "withdraw", "harbour", "lamp-01", "--yes"],
            &["run", "lamp-01", "--no-key", "--no-questions", "--", "true"],
            &["run", "lamp-01", "-vv", "--", "true"],
        ] {
            let outcome = desk.lantern(words);
            let of = words.join(" ");
            assert_fit(&of, &outcome.out);
            assert_fit(&of, outcome.err.as_bytes());
        }
        let checked = desk.lantern(&["check", "lamp-01", "--json"]);
        assert_fit_json("check", &checked.out);
        // Data is data.
        let said = desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0);
        assert_eq!(String::from_utf8_lossy(&said.out), format!("{text}\n"));
    }
}
