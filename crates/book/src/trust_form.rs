//! The forms of trust records in TOML: of `trust.toml`, and of what is shared with others.

use std::collections::BTreeMap;
use std::path::Path;

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use lantern_keys::{Fingerprint, public_line};
use serde::{Deserialize, Serialize};

use crate::{BookError, KnownCertificate, KnownKey, Revoked, TrustRecord, Verified, shown};

/// What is shared: each machine once, by its name.
#[derive(Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(crate) struct TrustForm {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    revoked: Vec<RevokedForm>,
    #[serde(default)]
    machines: BTreeMap<String, RecordForm>,
}

/// `trust.toml`: one record after the other, so that more can be written behind them. What comes last of a machine counts.
#[derive(Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(crate) struct LedgerForm {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    machine: Vec<NamedForm>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    revoked: Vec<RevokedForm>,
    /// How the file was before, when each change wrote it anew.
    #[serde(default, skip_serializing)]
    machines: BTreeMap<String, RecordForm>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct NamedForm {
    name: String,
    #[serde(default)]
    addresses: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    keys: Vec<KeyForm>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    certificates: Vec<CertificateForm>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    authorities: Vec<CertificateForm>,
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
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    authorities: Vec<CertificateForm>,
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

/// Reads forms from a text, for errors that name the line.
struct Reader<'a> {
    path: &'a Path,
    text: &'a str,
}

impl Reader<'_> {
    fn fault(&self, what: &str, message: String) -> BookError {
        BookError::syntax(self.path, self.text, self.text.find(what), message)
    }

    fn fingerprint(&self, text: &str) -> Result<Fingerprint, BookError> {
        text.parse().map_err(|error| self.fault(text, format!("the fingerprint {}: {error}", shown(text))))
    }

    fn record(&self, name: &str, form: RecordForm) -> Result<TrustRecord, BookError> {
        let mut trust = TrustRecord { addresses: form.addresses, ..TrustRecord::default() };
        for form in form.keys {
            let (key, _) = public_line::parse(&form.key)
                .map_err(|error| self.fault(&form.key, format!("a key of {}: {error}", shown(name))))?;
            let by = form.by.as_deref().map(|by| self.fingerprint(by)).transpose()?;
            let KeyForm { verified, first_seen, last_seen, .. } = form;
            trust.keys.push(KnownKey { key, verified, by, first_seen, last_seen });
        }
        let certificate = |form: CertificateForm| {
            let der = Base64::decode_vec(&form.certificate).map_err(|_| {
                self.fault(&form.certificate, format!("a certificate of {} is not base64", shown(name)))
            })?;
            let CertificateForm { verified, first_seen, last_seen, .. } = form;
            Ok(KnownCertificate { der, verified, first_seen, last_seen })
        };
        trust.certificates =
            form.certificates.into_iter().map(certificate).collect::<Result<_, BookError>>()?;
        trust.authorities =
            form.authorities.into_iter().map(certificate).collect::<Result<_, BookError>>()?;
        Ok(trust)
    }

    fn revoked(&self, form: RevokedForm) -> Result<Revoked, BookError> {
        let fingerprint = self.fingerprint(&form.fingerprint)?;
        Ok(Revoked { fingerprint, reason: form.reason, since: form.since })
    }
}

impl From<&TrustRecord> for RecordForm {
    fn from(record: &TrustRecord) -> Self {
        let keys = record.keys.iter().map(|known| KeyForm {
            key: public_line::format(&known.key, ""),
            verified: known.verified,
            by: known.by.map(|by| by.to_string()),
            first_seen: known.first_seen,
            last_seen: known.last_seen,
        });
        let certificates = |all: &[KnownCertificate]| {
            let form = |known: &KnownCertificate| CertificateForm {
                certificate: Base64::encode_string(&known.der),
                verified: known.verified,
                first_seen: known.first_seen,
                last_seen: known.last_seen,
            };
            all.iter().map(form).collect()
        };
        Self {
            addresses: record.addresses.clone(),
            keys: keys.collect(),
            certificates: certificates(&record.certificates),
            authorities: certificates(&record.authorities),
        }
    }
}

impl From<&Revoked> for RevokedForm {
    fn from(revoked: &Revoked) -> Self {
        Self {
            fingerprint: revoked.fingerprint.to_string(),
            reason: revoked.reason.clone(),
            since: revoked.since,
        }
    }
}

impl TrustForm {
    /// What the form says; errors name the line of `text`.
    pub(crate) fn read(self, path: &Path, text: &str) -> Result<Trust, BookError> {
        let reader = Reader { path, text };
        let record = |(name, form)| Ok((String::clone(&name), reader.record(&name, form)?));
        let records = self.machines.into_iter().map(record).collect::<Result<_, BookError>>()?;
        let revoked = self.revoked.into_iter().map(|form| reader.revoked(form));
        Ok((records, revoked.collect::<Result<_, BookError>>()?))
    }

    /// The form of these records.
    pub(crate) fn of<'a>(
        records: impl Iterator<Item = (&'a str, &'a TrustRecord)>,
        revoked: &[Revoked],
    ) -> Self {
        // Whose word is believed is for each to decide.
        let own = |(name, record): (&str, &TrustRecord)| {
            (name.to_owned(), RecordForm { authorities: Vec::new(), ..record.into() })
        };
        Self {
            machines: records.map(own).collect(),
            revoked: revoked.iter().map(RevokedForm::from).collect(),
        }
    }

    /// As text.
    pub(crate) fn to_text(&self, path: &Path) -> Result<String, BookError> {
        toml::to_string(self).map_err(|error| BookError::syntax(path, "", None, error.to_string()))
    }
}

impl LedgerForm {
    /// What a text in this form says; errors name its lines.
    pub(crate) fn read(path: &Path, text: &str) -> Result<Trust, BookError> {
        let form: Self = toml::from_str(text).map_err(|error| {
            BookError::syntax(path, text, error.span().map(|span| span.start), error.message().to_owned())
        })?;
        let reader = Reader { path, text };
        let named =
            form.machine.into_iter().map(|NamedForm { name, addresses, keys, certificates, authorities }| {
                (name, RecordForm { addresses, keys, certificates, authorities })
            });
        let mut records = BTreeMap::new();
        for (name, form) in form.machines.into_iter().chain(named) {
            records.insert(name.clone(), reader.record(&name, form)?);
        }
        let revoked = form.revoked.into_iter().map(|form| reader.revoked(form));
        Ok((records, revoked.collect::<Result<_, BookError>>()?))
    }

    /// The text of one record.
    pub(crate) fn text_of(path: &Path, name: &str, record: &TrustRecord) -> Result<String, BookError> {
        let RecordForm { addresses, keys, certificates, authorities } = record.into();
        let form = NamedForm { name: name.to_owned(), addresses, keys, certificates, authorities };
        Self { machine: vec![form], ..Self::default() }.to_text(path)
    }

    /// The text of one revocation.
    pub(crate) fn text_of_revoked(path: &Path, revoked: &Revoked) -> Result<String, BookError> {
        Self { revoked: vec![revoked.into()], ..Self::default() }.to_text(path)
    }

    fn to_text(&self, path: &Path) -> Result<String, BookError> {
        toml::to_string(self).map_err(|error| BookError::syntax(path, "", None, error.to_string()))
    }
}
