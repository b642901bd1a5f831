//! What the first bytes say that a service or a program sends.

use lantern_ssh::neutralize_line;

use super::Behind;

/// Longest part of a greeting that is kept, in bytes.
const MAX_SHOWN: usize = 120;

/// What a program that connects has begun to speak.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::tunnel) enum Spoken {
    /// TLS.
    Tls,
    /// HTTP.
    Http,
}

impl Spoken {
    /// By its first bytes: a handshake record (RFC 8446 §5.1), or a method and a space (RFC 9110 §9.1).
    pub(in crate::tunnel) fn of(bytes: &[u8]) -> Option<Self> {
        if bytes.starts_with(&[0x16, 3]) {
            return Some(Self::Tls);
        }
        let methods = ["GET ", "HEAD ", "POST ", "PUT ", "DELETE ", "OPTIONS ", "PATCH ", "CONNECT "];
        methods.iter().any(|method| bytes.starts_with(method.as_bytes())).then_some(Self::Http)
    }
}

fn first_line(bytes: &[u8]) -> String {
    let line = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    neutralize_line(String::from_utf8_lossy(line).trim(), MAX_SHOWN)
}

/// What a service is that says this by itself.
pub(super) fn of_service(bytes: &[u8]) -> Behind {
    let line = first_line(bytes);
    if let Some(version) = mysql(bytes) {
        return Behind::Database(version);
    }
    if bytes.starts_with(b"SSH-") {
        return Behind::Ssh(line);
    }
    if let Some(status) = http_status(bytes) {
        return Behind::Http { status };
    }
    let upper = line.to_ascii_uppercase();
    // RFC 5321 §4.3.1, RFC 9051 §7.1.5, RFC 1939 §4; other services greet with 220 as well, and say what they are.
    let is_mail = bytes.starts_with(b"* OK")
        || bytes.starts_with(b"+OK")
        || bytes.starts_with(b"220") && (upper.contains("SMTP") || upper.contains("MAIL"));
    match is_mail {
        true => Behind::Mail(line),
        false => Behind::Other(line),
    }
}

/// The status of an HTTP answer (RFC 9112 §4).
pub(super) fn http_status(bytes: &[u8]) -> Option<u16> {
    let rest = bytes.strip_prefix(b"HTTP/1.")?;
    let digits = std::str::from_utf8(rest.get(2..5)?).ok()?;
    digits.parse().ok().filter(|status| (100..600).contains(status))
}

/// The version in the first packet of a MySQL or MariaDB server: three bytes of length, a number 0, protocol 10, and a text up to a zero.
fn mysql(bytes: &[u8]) -> Option<String> {
    let [_, _, 0, 0, 10, rest @ ..] = bytes else { return None };
    let end = rest.iter().take(MAX_SHOWN).position(|byte| *byte == 0)?;
    let version = std::str::from_utf8(rest.get(..end)?).ok()?;
    version
        .starts_with(|c: char| c.is_ascii_digit())
        .then(|| format!("MySQL {}", neutralize_line(version, MAX_SHOWN)))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn services_are_known_by_what_they_say_first() {
        for (bytes, expected) in [
            (&b"SSH-2.0-lamp_9\r\n"[..], Behind::Ssh("SSH-2.0-lamp_9".into())),
            (b"220 chart-room.example ESMTP\r\n", Behind::Mail("220 chart-room.example ESMTP".into())),
            (b"* OK ready\r\n", Behind::Mail("* OK ready".into())),
            (b"+OK ready\r\n", Behind::Mail("+OK ready".into())),
            (b"220 files of the pier\r\n", Behind::Other("220 files of the pier".into())),
            (b"\x4a\0\0\0\x0a11.4.2\0more", Behind::Database("MySQL 11.4.2".into())),
            (b"HTTP/1.1 400 Bad Request\r\n", Behind::Http { status: 400 }),
            (b"\x1b[2Jboo\nmore", Behind::Other("␛[2Jboo".into())),
        ] {
            assert_eq!(of_service(bytes), expected);
        }
        assert_eq!(Spoken::of(b"\x16\x03\x01\x02"), Some(Spoken::Tls));
        assert_eq!(Spoken::of(b"GET / HTTP/1.1"), Some(Spoken::Http));
        assert_eq!(Spoken::of(b"SSH-2.0"), None);
        assert_eq!(http_status(b"HTTP/1.1 2"), None);
        assert_eq!(http_status(b"HTTP/1.0 999 x"), None);
    }

    proptest! {
        #[test]
        fn any_greeting_is_survived_and_short(bytes: Vec<u8>) {
            if let Behind::Other(line) | Behind::Ssh(line) | Behind::Mail(line) | Behind::Database(line) = of_service(&bytes) {
                prop_assert!(line.len() <= 4 * MAX_SHOWN && !line.chars().any(char::is_control));
            }
            let _ = Spoken::of(&bytes);
        }
    }
}
