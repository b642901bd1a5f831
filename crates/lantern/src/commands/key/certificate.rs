//! A certificate as `lantern key show` describes it.

use jiff::Timestamp;
use lantern_keys::certificate::FOREVER;
use lantern_keys::{Certificate, CertificateKind, CertificateSignature};
use serde_json::{Value, json};

use crate::screen::fit::{Fit, fit};

/// Name and value of everything that it says.
pub(super) fn fields(certificate: &Certificate, comment: &str, now: Timestamp) -> Vec<(&'static str, Fit)> {
    let Certificate { serial, id, principals, critical_options, extensions, .. } = certificate;
    let who = match principals.as_slice() {
        [] => match certificate.kind {
            CertificateKind::Host => "any name".into(),
            _ => "anyone".into(),
        },
        names => Fit::stacked(names),
    };
    let names = if certificate.kind == CertificateKind::Host { "names" } else { "users" };
    vec![
        ("certificate", fit!("{}, {}", kind(certificate), certificate.key_type)),
        ("comment", comment.into()),
        ("id", id.into()),
        ("serial", serial.to_string().into()),
        ("key", fit!("{} {}", certificate.describe_key(), certificate.key_fingerprint)),
        (names, who),
        ("valid", validity(certificate, now).into()),
        ("must know", options(critical_options)),
        ("allows", options(extensions)),
        ("signed by", signer(certificate).into()),
        ("signature", signature(certificate).into()),
    ]
}

fn kind(certificate: &Certificate) -> String {
    match certificate.kind {
        CertificateKind::User => "of a user".into(),
        CertificateKind::Host => "of a host".into(),
        CertificateKind::Unknown(number) => format!("of an unknown kind ({number})"),
    }
}

fn moment(seconds: u64) -> Option<Timestamp> {
    i64::try_from(seconds).ok().and_then(|seconds| Timestamp::from_second(seconds).ok())
}

fn validity(certificate: &Certificate, now: Timestamp) -> String {
    let in_words = |seconds: u64| match moment(seconds) {
        Some(at) => at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
        None => format!("{seconds} seconds after 1970"),
    };
    let (after, before) = (certificate.valid_after, certificate.valid_before);
    let span = match (after, before) {
        (0, FOREVER) => "for ever".to_owned(),
        (after, FOREVER) => format!("from {}", in_words(after)),
        (0, before) => format!("until {}", in_words(before)),
        (after, before) => format!("from {} until {}", in_words(after), in_words(before)),
    };
    let now = u64::try_from(now.as_second()).unwrap_or_default();
    match () {
        () if after >= before => format!("{span}: never"),
        () if now < after => format!("{span}: not yet"),
        () if now >= before => format!("{span}: no more"),
        () => span,
    }
}

fn options(options: &[(String, String)]) -> Fit {
    let line = |(name, value): &(String, String)| match value.as_str() {
        "" => name.clone(),
        value => format!("{name} = {value}"),
    };
    Fit::stacked(options.iter().map(line))
}

fn signer(certificate: &Certificate) -> String {
    match &certificate.signer {
        Some(key) => format!("{} {}", key.describe(), certificate.signed_by),
        None => certificate.signed_by.to_string(),
    }
}

fn signature(certificate: &Certificate) -> &'static str {
    match certificate.signature {
        CertificateSignature::Good => "good: it is that key's. Whether to believe that key is yours to say",
        CertificateSignature::Bad => "BAD: not that key's, or not of this",
        CertificateSignature::Unchecked => "not checked: made in a way that lantern does not handle",
    }
}

/// The same for scripts.
pub(super) fn to_json(certificate: &Certificate, comment: &str) -> Value {
    let pairs = |options: &[(String, String)]| -> Value {
        options.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect()
    };
    let time = |seconds: u64| (seconds != FOREVER).then_some(seconds);
    json!({
        "kind": "certificate",
        "key_type": certificate.key_type,
        "algorithm": certificate.describe_key(),
        "fingerprint": certificate.key_fingerprint.to_string(),
        "comment": comment,
        "of": match certificate.kind {
            CertificateKind::User => json!("user"),
            CertificateKind::Host => json!("host"),
            CertificateKind::Unknown(number) => json!(number),
        },
        "id": certificate.id,
        "serial": certificate.serial,
        "principals": certificate.principals,
        "valid_after": certificate.valid_after,
        "valid_before": time(certificate.valid_before),
        "critical_options": pairs(&certificate.critical_options),
        "extensions": pairs(&certificate.extensions),
        "signed_by": certificate.signed_by.to_string(),
        "signature": match certificate.signature {
            CertificateSignature::Good => "good",
            CertificateSignature::Bad => "bad",
            CertificateSignature::Unchecked => "unchecked",
        },
    })
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use lantern_keys::Fingerprint;

    fn certificate(valid_after: u64, valid_before: u64) -> Certificate {
        Certificate {
            key_type: "ssh-ed25519-cert-v01@openssh.com".into(),
            key: None,
            key_fingerprint: Fingerprint::of_blob(b"key"),
            kind: CertificateKind::Host,
            serial: 7,
            id: "north lamp".into(),
            principals: Vec::new(),
            valid_after,
            valid_before,
            critical_options: vec![("force-command".into(), "/bin/light".into())],
            extensions: vec![("permit-pty".into(), String::new())],
            signed_by: Fingerprint::of_blob(b"signer"),
            signer: None,
            signature: CertificateSignature::Bad,
        }
    }

    #[test]
    fn how_long_a_certificate_counts_is_said_of_every_span() {
        let now = Timestamp::from_second(1_000_000).unwrap();
        for (after, before, words) in [
            (0, FOREVER, "for ever"),
            (0, 2_000_000, "until 1970-01-24 03:33:20 UTC"),
            (1_000_000, FOREVER, "from 1970-01-12 13:46:40 UTC"),
            (1_000_001, FOREVER, "from 1970-01-12 13:46:41 UTC: not yet"),
            (0, 1_000_000, "until 1970-01-12 13:46:40 UTC: no more"),
            (5, 5, "from 1970-01-01 00:00:05 UTC until 1970-01-01 00:00:05 UTC: never"),
            (0, FOREVER - 1, "until 18446744073709551614 seconds after 1970"),
        ] {
            assert_eq!(validity(&certificate(after, before), now), words);
        }
        let fields = fields(&certificate(0, FOREVER), "", now);
        let value = |name: &str| fields.iter().find(|(known, _)| *known == name).unwrap().1.clone();
        assert_eq!(
            (value("names").as_str(), value("must know").as_str()),
            ("any name", "force-command = /bin/light")
        );
        assert!(value("signature").as_str().starts_with("BAD"));
        assert_eq!(to_json(&certificate(0, FOREVER), "")["valid_before"], Value::Null);
    }
}
