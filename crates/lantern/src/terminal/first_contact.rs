//! First contact with a machine: what is shown of its key, and what an answer comes to.

use lantern_book::Presented;
use lantern_keys::{Fingerprint, PublicKey};
use lantern_link::FirstContact;

use crate::screen::certificate;
use crate::screen::fit::{Fit, fit};
use crate::screen::flags_view;
use crate::screen::output;

/// How much of the end of a fingerprint counts as compared, in characters: each stands for six bits, and whoever wants to pass for a machine would
/// have to make some hundred million million keys to find one that ends alike.
const END_LEN: usize = 8;

/// Digits of a thumbprint: SHA-1.
const THUMBPRINT_LEN: usize = 40;
/// Prints the SHA-256 fingerprints of a Windows machine's certificates.
const CERTIFICATES_THERE: &str =
    "gci Cert:\\LocalMachine\\My | % { $_.GetCertHashString('SHA256') + '  ' + $_.Subject }";

/// What an answer at first contact comes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Heard {
    /// The fingerprint, or the end of it.
    Compared,
    /// The thumbprint, which is weak.
    ComparedWeakly,
    /// The word that goes on without comparing.
    Trusted,
    /// No.
    Refused,
    /// The fingerprint of another key.
    AnotherKey,
    /// As long as the end of a fingerprint, and not that of this one.
    NotItsEnd,
    /// Nothing of that kind.
    Nothing,
}

pub(super) fn heard(answer: &str, presented: &Presented) -> Heard {
    let fingerprint = presented.fingerprint();
    let is_base64 = |c: char| c.is_ascii_alphanumeric() || "+/".contains(c);
    // As other programs write base64, with its padding.
    let answer = answer.trim_end_matches('=');
    if let Some(certificate) = presented.certificate() {
        // As Windows consoles print it, in two lengths.
        let digits: String = answer.chars().filter(|c| !": ".contains(*c)).collect();
        if digits.len() == THUMBPRINT_LEN && digits.chars().all(|c| c.is_ascii_hexdigit()) {
            return match digits.eq_ignore_ascii_case(&certificate.thumbprint()) {
                true => Heard::ComparedWeakly,
                false => Heard::AnotherKey,
            };
        }
    }
    match (answer, answer.parse::<Fingerprint>()) {
        ("trust", _) => Heard::Trusted,
        ("" | "no", _) => Heard::Refused,
        (_, Ok(pasted)) if pasted == fingerprint => Heard::Compared,
        (_, Ok(_)) => Heard::AnotherKey,
        _ if answer.len() < END_LEN || !answer.chars().all(is_base64) => Heard::Nothing,
        _ if fingerprint.to_string().ends_with(answer) => Heard::Compared,
        _ => Heard::NotItsEnd,
    }
}

/// What is shown of a key or a certificate before it is trusted.
pub(crate) fn introduce(contact: &FirstContact) -> Fit {
    let presented = &contact.presented;
    let fingerprint = presented.fingerprint();
    let picture = flags_view::draw(&fingerprint, output::colorful_stderr());
    let mut text = fit!(
        "First contact with {}, reached at {}. It proved to hold this {}:\n\n    {}  {}\n\n{}\n",
        contact.machine,
        contact.reached_at,
        Fit::literal(presented.noun()),
        presented.describe(),
        fingerprint,
        picture.indented(4),
    );
    if let Some(certificate) = presented.certificate() {
        text.push(certificate::describe(certificate, &contact.faults));
    }
    let noun = Fit::literal(if presented.host_key().is_some() { "key" } else { "certificate" });
    if !contact.same_key.is_empty() {
        text.push(fit!(
            "  This is the {} of {}: is the address right?\n",
            noun.clone(),
            contact.same_key.join(", ")
        ));
    }
    if !contact.same_address.is_empty() {
        let met = contact.same_address.join(", ");
        text.push(fit!("  At this address you have met {}, with another {}.\n", met, noun));
    }
    match presented.host_key() {
        Some(key) => {
            text.push(Fit::literal(
                "  Is that the machine's own key? Its console says: a cloud prints fingerprints in its boot log. On the machine, one of these prints it:\n\n",
            ));
            for command in [format!("lantern key show {}", file(key)), by_hand(key)] {
                text.push(fit!("    {}\n", command));
            }
            text.push(Fit::literal(
                "\n  Paste it, or type its last 8 characters: then it is compared. `trust` goes on without comparing; Enter leaves.\n",
            ));
        }
        None => {
            text.push(Fit::literal(
                "  Is that the machine's own certificate? On its own console, PowerShell prints the fingerprints of all that it has:\n\n",
            ));
            text.push(fit!("    {}\n", CERTIFICATES_THERE));
            text.push(Fit::literal(
                "\n  Paste it: then it is compared. `trust` goes on without comparing; Enter leaves.\n",
            ));
        }
    }
    text
}

/// Where a server usually has the public half of a host key of this kind.
fn file(key: &PublicKey) -> String {
    let kind = match key {
        PublicKey::Ed25519(_) => "ed25519",
        PublicKey::Ecdsa { .. } => "ecdsa",
        PublicKey::Rsa { .. } => "rsa",
    };
    format!("/etc/ssh/ssh_host_{kind}_key.pub")
}

/// The fingerprint of that file with programs that every system has.
fn by_hand(key: &PublicKey) -> String {
    format!("cut -d' ' -f2 {} | base64 -d | openssl sha256 -binary | base64", file(key))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::process::Command;

    use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, RsaBits, public_line};

    use super::*;

    /// What is said to print the fingerprint does.
    #[test]
    fn the_fingerprint_by_hand_is_ours() {
        let folder = tempfile::tempdir().unwrap();
        let kinds =
            [KeyAlgorithm::Ed25519, KeyAlgorithm::Ecdsa(Curve::P256), KeyAlgorithm::Rsa(RsaBits::B2048)];
        for kind in kinds {
            let key = PrivateKey::generate(kind, "").unwrap().public().clone();
            let path = folder.path().join("host.pub");
            std::fs::write(&path, public_line::format(&key, "root@lamp-01")).unwrap();
            let line = by_hand(&key).replace(&file(&key), &path.display().to_string());
            let printed = Command::new("sh").args(["-c", &line]).output().unwrap();
            let printed = String::from_utf8(printed.stdout).unwrap();
            assert_eq!(heard(printed.trim(), &key.into()), Heard::Compared, "{printed}");
        }
    }

    #[test]
    fn only_a_fingerprint_its_end_or_the_word_are_answers_at_first_contact() {
        let presented =
            Presented::from(PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone());
        let text = presented.fingerprint().to_string();
        let end = |len: usize| text.get(text.len() - len..).unwrap();
        // Each letter in its other size, and each other character another one: an end may have no letters.
        let other_size = |c: char| match c {
            c if c.is_ascii_uppercase() => c.to_ascii_lowercase(),
            c if c.is_ascii_lowercase() => c.to_ascii_uppercase(),
            '0' => '1',
            _ => '0',
        };
        let swapped: String = end(8).chars().map(other_size).collect();
        for (answer, expected) in [
            (text.as_str(), Heard::Compared),
            (end(8), Heard::Compared),
            (end(20), Heard::Compared),
            (end(43), Heard::Compared),
            (&format!("{}=", end(43)), Heard::Compared),
            (end(7), Heard::Nothing),
            (&text[7..20], Heard::NotItsEnd),
            (swapped.as_str(), Heard::NotItsEnd),
            (&Fingerprint::of_blob(b"horn").to_string(), Heard::AnotherKey),
            ("trust", Heard::Trusted),
            ("Trust", Heard::Nothing),
            ("t", Heard::Nothing),
            ("yes", Heard::Nothing),
            ("y", Heard::Nothing),
            ("yes please", Heard::Nothing),
            ("no", Heard::Refused),
            ("", Heard::Refused),
        ] {
            assert_eq!(heard(answer, &presented), expected, "{answer}");
        }
    }
}
