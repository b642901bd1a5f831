//! The line that a machine's console prints when it was prepared, to be carried back to this computer: where the machine is, and what it will
//! present. It is our own form:
//!
//! ```text
//! lantern-line-1;name=lamp-01;address=192.0.2.7;port=22;user=keeper;ssh=HEX+HEX;day=2026-11-27;check=0123-4567-89ab-cdef
//! ```
//!
//! `ssh` has the SHA-256 of each host key, `tls` that of the certificate, in hexadecimal. White space counts nowhere, since terminals wrap lines
//! and mail breaks them; what the name and the user have of awkward characters stands as `%` and two digits. The check code is a hash over the
//! line under a secret which only the script and this computer know: who changes the line on its way cannot make another code for it.

use std::fmt;

use jiff::civil::Date;
use lantern_keys::{Fingerprint, SecretString};

use crate::Protocol;
use crate::check::{check_address, check_name, check_user};
use crate::machine_file::machine;

/// How a line begins; the number is that of its form.
const LINE_BEGINS: &str = "lantern-line-1;";
/// Longest text that a line is looked for in, in bytes: a line has a few hundred, and a console's page around it some thousands.
const MAX_TEXT_LEN: usize = 64 * 1024;
/// Most fingerprints of one kind in a line: servers have one for each kind of key, which are four.
const MAX_PRINTS: usize = 8;
/// Hexadecimal digits of a check code: it is tried by this computer alone, where nobody can try many.
const CHECK_DIGITS: usize = 16;

/// What is wrong with a line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LineError {
    /// There is none in the text.
    #[error("there is no line of a prepared machine in the text: it begins with `{LINE_BEGINS}`")]
    NoLine,
    /// It breaks off.
    #[error("the line breaks off: it ends with `check=` and sixteen digits")]
    BreaksOff,
    /// Something in it has not its form.
    #[error("the line was changed on its way: `{0}` is not what a machine prints")]
    Garbled(String),
    /// Its code is not for what it says.
    #[error("the line is not what the machine printed: its check code belongs to another text")]
    Altered,
}

/// What a machine says about itself, proven to come from the script that was made for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CarriedLine {
    /// The machine that the script was for.
    pub name: String,
    /// Where it is, as it sees itself.
    pub address: String,
    /// Where its service listens.
    pub port: u16,
    /// Who may log in; none where the script was told nobody.
    pub user: Option<String>,
    /// By what the service is spoken to.
    pub protocol: Protocol,
    /// The fingerprints of what it presents: of each host key, or of the certificate.
    pub prints: Vec<Fingerprint>,
    /// The day on which it was printed, by the machine's clock.
    pub day: Date,
}

/// A line as it was carried, of which nothing is proven.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnprovenLine {
    body: String,
    code: String,
    line: CarriedLine,
}

impl UnprovenLine {
    /// Whether a text looks as if such a line were in it.
    pub fn is_in(text: &str) -> bool {
        text.len() <= MAX_TEXT_LEN && without_space(text).contains(LINE_BEGINS)
    }

    /// Finds the line in a text.
    ///
    /// # Errors
    /// There is none, or it is not whole.
    pub fn find(text: &str) -> Result<Self, LineError> {
        if text.len() > MAX_TEXT_LEN {
            return Err(LineError::NoLine);
        }
        let text = without_space(text);
        // What was typed above it may be the script, in which the word stands as well: the line is the last.
        let (_, rest) = text.rsplit_once(LINE_BEGINS).ok_or(LineError::NoLine)?;
        let (fields, code) = rest.split_once(";check=").ok_or(LineError::BreaksOff)?;
        let digits = code.chars().filter(|c| *c != '-').take(CHECK_DIGITS);
        let code: String = digits.map(|c| c.to_ascii_lowercase()).collect();
        if code.len() < CHECK_DIGITS || code.bytes().any(|byte| !byte.is_ascii_hexdigit()) {
            return Err(LineError::BreaksOff);
        }
        Ok(Self { body: format!("{LINE_BEGINS}{fields}"), code, line: read(fields)? })
    }

    /// The machine that it says to be of.
    pub fn name(&self) -> &str {
        &self.line.name
    }

    /// What it says, where its code is the one that the script's secret gives.
    ///
    /// # Errors
    /// [`LineError::Altered`].
    pub fn prove(self, secret: &SecretString) -> Result<CarriedLine, LineError> {
        let right = SecretString::new(check_code(&self.body, secret));
        match right == SecretString::new(self.code) {
            true => Ok(self.line),
            false => Err(LineError::Altered),
        }
    }
}

/// The code of a line without `;check=…`, as digits alone. Hashed twice, so that nothing can be added behind what was hashed.
pub fn check_code(body: &str, secret: &SecretString) -> String {
    let secret = secret.expose_secret();
    let inner = hex(&Fingerprint::of_blob(format!("{secret}{body}").as_bytes()));
    let mut outer = hex(&Fingerprint::of_blob(format!("{secret}{inner}").as_bytes()));
    outer.truncate(CHECK_DIGITS);
    outer
}

/// A word that may stand in a line, from any text.
pub fn line_word(text: &str) -> String {
    let mut word = String::new();
    for byte in text.bytes() {
        match byte.is_ascii_alphanumeric() || b"-_.@".contains(&byte) {
            true => word.push(char::from(byte)),
            false => word.push_str(&format!("%{byte:02x}")),
        }
    }
    word
}

impl fmt::Display for CarriedLine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (name, user) = (line_word(&self.name), self.user.as_deref().map(line_word).unwrap_or_default());
        let prints: Vec<String> = self.prints.iter().map(hex).collect();
        let kind = if self.protocol == Protocol::Winrm { "tls" } else { "ssh" };
        let (address, port, day) = (&self.address, self.port, self.day);
        write!(f, "{LINE_BEGINS}name={name};address={address};port={port};user={user};")?;
        write!(f, "{kind}={};day={day}", prints.join("+"))
    }
}

fn hex(print: &Fingerprint) -> String {
    print.as_bytes().iter().map(|byte| format!("{byte:02x}")).collect()
}

fn without_space(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect()
}

/// The fields, in their order.
fn read(fields: &str) -> Result<CarriedLine, LineError> {
    let mut fields = fields.split(';');
    let mut next = |names: &[&str]| {
        let field = fields.next().ok_or(LineError::BreaksOff)?;
        let garbled = || LineError::Garbled(crate::shown(field));
        let (name, value) = field.split_once('=').ok_or_else(garbled)?;
        if !names.contains(&name) {
            return Err(garbled());
        }
        Ok((name.to_owned(), value.to_owned()))
    };
    let garbled = |value: &str| LineError::Garbled(crate::shown(value));
    let word = |value: String| machine(&value).ok_or_else(|| garbled(&value));
    let name = word(next(&["name"])?.1)?;
    check_name(&name).map_err(|_| garbled(&name))?;
    let (_, address) = next(&["address"])?;
    check_address(&address).map_err(|_| garbled(&address))?;
    let (_, port) = next(&["port"])?;
    let port = port.parse().ok().filter(|port| *port != 0).ok_or_else(|| garbled(&port))?;
    let user = Some(word(next(&["user"])?.1)?).filter(|user| !user.is_empty());
    user.iter().try_for_each(|user| check_user(user).map_err(|_| garbled(user)))?;
    let (kind, prints) = next(&["ssh", "tls"])?;
    let protocol = if kind == "tls" { Protocol::Winrm } else { Protocol::Ssh };
    let prints: Vec<Fingerprint> = prints
        .split('+')
        .map(|print| print.parse())
        .collect::<Result<_, _>>()
        .map_err(|_| garbled(&prints))?;
    if prints.len() > MAX_PRINTS {
        return Err(garbled("too many fingerprints"));
    }
    let (_, day) = next(&["day"])?;
    let day = day.parse().map_err(|_| garbled(&day))?;
    match fields.next() {
        Some(more) => Err(garbled(more)),
        None => Ok(CarriedLine { name, address, port, user, protocol, prints, day }),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn secret() -> SecretString {
        SecretString::new("0123456789abcdef0123456789abcdef".into())
    }

    fn carried(line: &CarriedLine) -> String {
        let body = line.to_string();
        let code = check_code(&body, &secret());
        format!("{body};check={}-{}-{}-{}", &code[..4], &code[4..8], &code[8..12], &code[12..])
    }

    fn a_line() -> impl Strategy<Value = CarriedLine> {
        let address = prop_oneof!["192\\.0\\.2\\.[1-9]", Just("2001:db8::7".to_owned())];
        let prints = proptest::collection::vec(any::<[u8; 8]>(), 1..=MAX_PRINTS);
        let days = 0i32..20_000;
        ("[a-z][a-z0-9.-]{0,20}", address, 1u16.., "[ -~é\\\\]{0,20}", any::<bool>(), prints, days).prop_map(
            |(name, address, port, user, over_tls, prints, days)| CarriedLine {
                name,
                address,
                port,
                user: Some(user).filter(|user| !user.is_empty()),
                protocol: if over_tls { Protocol::Winrm } else { Protocol::Ssh },
                prints: prints.iter().map(|bytes| Fingerprint::of_blob(bytes)).collect(),
                day: Date::constant(2000, 1, 1).checked_add(jiff::Span::new().days(days)).unwrap(),
            },
        )
    }

    proptest! {
        #[test]
        fn a_line_comes_back_whole_however_it_was_wrapped(line in a_line(), every in 1usize..90, before in "[a-z$# \n]{0,40}") {
            let text = carried(&line);
            let wrapped: Vec<String> =
                text.as_bytes().chunks(every).map(|piece| String::from_utf8_lossy(piece).into_owned()).collect();
            let pasted = format!("{before}\n{}\n", wrapped.join("\n  "));
            prop_assert!(UnprovenLine::is_in(&pasted));
            let found = UnprovenLine::find(&pasted).unwrap();
            prop_assert_eq!(found.name(), &line.name);
            prop_assert_eq!(found.prove(&secret()).unwrap(), line);
        }

        #[test]
        fn a_line_with_any_other_character_in_it_is_refused(line in a_line(), at in any::<prop::sample::Index>(), other in "[!-~]") {
            let text = carried(&line);
            let at = at.index(text.len());
            let mut changed = text.clone();
            changed.replace_range(at..=at, &other);
            // Where a dash stands in the code, and how its digits are written, says nothing.
            let plain = |text: &str| {
                let (body, code) = text.rsplit_once('=').unwrap();
                format!("{body}={}", code.replace('-', "").to_ascii_lowercase())
            };
            if plain(&changed) != plain(&text) {
                let proven = UnprovenLine::find(&changed).and_then(|found| found.prove(&secret()));
                prop_assert!(proven.is_err(), "{} {:?}", changed, proven);
            }
        }

        #[test]
        fn any_text_is_a_line_or_an_error(text in "(lantern-line-1;)?[ -~\n]{0,200}") {
            let _ = UnprovenLine::find(&text);
        }
    }

    #[test]
    fn the_code_is_the_one_that_scripts_make_with_the_systems_own_programs() {
        let body = "lantern-line-1;name=lamp-01";
        let script =
            "i=$(printf %s \"$S$B\" | sha256sum | cut -c1-64); printf %s \"$S$i\" | sha256sum | cut -c1-16";
        let made = std::process::Command::new("sh")
            .args(["-c", script])
            .env("S", secret().expose_secret())
            .env("B", body)
            .output()
            .unwrap();
        assert_eq!(String::from_utf8(made.stdout).unwrap().trim(), check_code(body, &secret()));
    }

    #[test]
    fn a_line_of_another_script_or_with_something_behind_it_is_refused() {
        let line = CarriedLine {
            name: "lamp-01".into(),
            address: "192.0.2.7".into(),
            port: 22,
            user: Some("keeper".into()),
            protocol: Protocol::Ssh,
            prints: vec![Fingerprint::of_blob(b"a key")],
            day: Date::constant(2026, 11, 27),
        };
        let text = carried(&line);
        let other = SecretString::new("another".into());
        assert_eq!(UnprovenLine::find(&text).unwrap().prove(&other), Err(LineError::Altered));
        let swapped = text.replace("name=lamp-01", "name=lamp-02");
        assert_eq!(UnprovenLine::find(&swapped).unwrap().prove(&secret()), Err(LineError::Altered));
        assert_eq!(UnprovenLine::find("keeper@192.0.2.7"), Err(LineError::NoLine));
        assert_eq!(UnprovenLine::find(&text[..text.len() - 3]), Err(LineError::BreaksOff));
        assert_eq!(UnprovenLine::find(&text[..60]), Err(LineError::BreaksOff));
        // What would steer a terminal gets no further.
        let steering = text.replace("name=lamp-01", "name=%1b]0;x%07");
        assert!(
            matches!(UnprovenLine::find(&steering), Err(LineError::Garbled(met)) if !met.contains('\u{1b}'))
        );
        let port = text.replace("port=22", "port=0");
        assert_eq!(UnprovenLine::find(&port), Err(LineError::Garbled("0".into())));
        // What the script itself says above its last line is not the line.
        let above = format!("printf 'lantern-line-1;name=%s'\n{text}");
        assert_eq!(UnprovenLine::find(&above).unwrap().prove(&secret()).unwrap(), line);
    }
}
