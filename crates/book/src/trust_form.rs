//! The form of trust records in TOML: of `trust.toml`, and of what is shared with others.

use std::collections::BTreeMap;
use std::path::Path;

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use lantern_keys::{Fingerprint, public_line};
use serde::{Deserialize, Serialize};

use crate::{BookError, KnownCertificate, KnownKey, Revoked, TrustRecord, Verified};

#[derive(Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(crate) struct TrustForm {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    revoked: Vec<RevokedForm>,
    #[serde(default)]
    machines: BTreeMap<String, RecordForm>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RevokedForm {
    fingerprint: String,
    reason: String,
    since: Timestamp,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordForm {
    #[serde(default)]
    addresses: Vec<String>,
    #[serde(default)]
    keys: Vec<KeyForm>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    certificates: Vec<CertificateForm>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct KeyForm {
    key: String,
    verified: Verified,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    by: Option<String>,
    first_seen: Timestamp,
    last_seen: Timestamp,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct CertificateForm {
    certificate: String,
    verified: Verified,
    first_seen: Timestamp,
    last_seen: Timestamp,
}

/// Records and revocations.
pub(crate) type Trust = (BTreeMap<String, TrustRecord>, Vec<Revoked>);

impl TrustForm {
    /// What the form says; errors name the line of `text`.
    pub(crate) fn read(self, path: &Path, text: &str) -> Result<Trust, BookError> {
        let at = |what: &str, message: String| BookError::syntax(path, text, text.find(what), message);
        let fingerprint = |text: &str| {
            text.parse::<Fingerprint>().map_err(|error| at(text, format!("the fingerprint {text}: {error}")))
        };
        let mut records = BTreeMap::new();
        for (name, record) in self.machines {
            let mut trust = TrustRecord { addresses: record.addresses, ..TrustRecord::default() };
            for form in record.keys {
                let (key, _) = public_line::parse(&form.key)
                    .map_err(|error| at(&form.key, format!("a key of {name}: {error}")))?;
                let by = form.by.as_deref().map(fingerprint).transpose()?;
                let KeyForm { verified, first_seen, last_seen, .. } = form;
                trust.keys.push(KnownKey { key, verified, by, first_seen, last_seen });
            }
            for form in record.certificates {
                let der = Base64::decode_vec(&form.certificate)
                    .map_err(|_| at(&form.certificate, format!("a certificate of {name} is not base64")))?;
                let CertificateForm { verified, first_seen, last_seen, .. } = form;
                trust.certificates.push(KnownCertificate { der, verified, first_seen, last_seen });
            }
            records.insert(name, trust);
        }
        let revoked = self.revoked.into_iter().map(|form| {
            let fingerprint = fingerprint(&form.fingerprint)?;
            Ok(Revoked { fingerprint, reason: form.reason, since: form.since })
        });
        Ok((records, revoked.collect::<Result<_, BookError>>()?))
    }

    /// The form of these records.
    pub(crate) fn of<'a>(
        records: impl Iterator<Item = (&'a str, &'a TrustRecord)>,
        revoked: &[Revoked],
    ) -> Self {
        let machines = records.map(|(name, record)| {
            let keys = record.keys.iter().map(|known| KeyForm {
                key: public_line::format(&known.key, ""),
                verified: known.verified,
                by: known.by.map(|by| by.to_string()),
                first_seen: known.first_seen,
                last_seen: known.last_seen,
            });
            let certificates = record.certificates.iter().map(|known| CertificateForm {
                certificate: Base64::encode_string(&known.der),
                verified: known.verified,
                first_seen: known.first_seen,
                last_seen: known.last_seen,
            });
            let form = RecordForm {
                addresses: record.addresses.clone(),
                keys: keys.collect(),
                certificates: certificates.collect(),
            };
            (name.to_owned(), form)
        });
        let revoked = revoked.iter().map(|revoked| RevokedForm {
            fingerprint: revoked.fingerprint.to_string(),
            reason: revoked.reason.clone(),
            since: revoked.since,
        });
        Self { machines: machines.collect(), revoked: revoked.collect() }
    }

    /// As text.
    pub(crate) fn to_text(&self, path: &Path) -> Result<String, BookError> {
        toml::to_string(self).map_err(|error| BookError::syntax(path, "", None, error.to_string()))
    }
}
