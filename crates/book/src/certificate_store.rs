//! `certificates/`: the certificates of TLS that were made here, a file each: a few lines about it, and behind them the certificate with those above it in
//! armour (RFC 7468), which every other program reads as it is. Their keys are in the ring.

use std::fs;
use std::io::ErrorKind;
use std::path::PathBuf;

use jiff::Timestamp;
use lantern_keys::{KeyError, TlsCertificate, read_certificates, write_certificates};
use serde::{Deserialize, Serialize};

use crate::check::check_name_of;
use crate::home::{create_private_folder, read_or_empty, write_file};
use crate::natural::natural;
use crate::{BookError, Home};

const FOLDER: &str = "certificates";
const ENDING: &str = ".pem";
const HEADER: &str = "# Written by lantern.\n";
const ARMOUR: &str = "-----BEGIN ";

/// What a certificate is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateUse {
    /// It signs others.
    Authority,
    /// A machine presents it.
    Server,
    /// A user logs in with it.
    Client,
}

impl CertificateUse {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Authority => "authority",
            Self::Server => "server",
            Self::Client => "client",
        }
    }
}

/// What is noted of a certificate that the certificate cannot say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CertificateNote {
    /// What for.
    #[serde(rename = "use")]
    pub used_as: CertificateUse,
    /// The machine that presents it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// The user that logs in with it, as it names them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Its key in the ring; none where the key never was here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The authority that signed it, by its name here; none where it signed itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// When it was made.
    pub made: Timestamp,
}

/// A certificate that was made here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredCertificate {
    /// Its name.
    pub name: String,
    /// Its file.
    pub path: PathBuf,
    /// What is noted.
    pub note: CertificateNote,
    /// Itself.
    pub certificate: TlsCertificate,
    /// Those above it.
    pub above: Vec<TlsCertificate>,
}

/// Those of one home.
#[derive(Debug)]
pub struct CertificateStore {
    home: Home,
}

impl CertificateStore {
    /// Those of this home.
    pub fn new(home: &Home) -> Self {
        Self { home: home.clone() }
    }

    /// The file of a certificate.
    pub fn path(&self, name: &str) -> PathBuf {
        self.home.file(FOLDER).join(format!("{name}{ENDING}"))
    }

    /// The names of all, in their natural order.
    ///
    /// # Errors
    /// [`BookError::Io`].
    pub fn names(&self) -> Result<Vec<String>, BookError> {
        let folder = self.home.file(FOLDER);
        let files = match fs::read_dir(&folder) {
            Ok(files) => files,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(BookError::io("read", &folder)(error)),
        };
        let name = |file: fs::DirEntry| {
            let name = file.file_name().to_str()?.strip_suffix(ENDING)?.to_owned();
            check_name_of("certificate name", &name).is_ok().then_some(name)
        };
        let mut names: Vec<String> = files.flatten().filter_map(name).collect();
        names.sort_by(|one, other| natural(one, other));
        Ok(names)
    }

    /// One by its name.
    ///
    /// # Errors
    /// [`BookError::Unknown`]; a file that is not what was written.
    pub fn get(&self, name: &str) -> Result<StoredCertificate, BookError> {
        check_name_of("certificate name", name)?;
        let path = self.path(name);
        if !path.exists() {
            let names = self.names()?;
            return Err(BookError::unknown("certificate", name, names.iter().map(String::as_str)));
        }
        let text = read_or_empty(&path)?;
        let begins = text.find(ARMOUR).unwrap_or(text.len());
        let (about, armour) = text.split_at(begins);
        let note: CertificateNote = toml::from_str(about).map_err(|error| {
            BookError::syntax(&path, about, error.span().map(|span| span.start), error.message().to_owned())
        })?;
        let mut chain = read_certificates(armour.as_bytes()).map_err(|error| {
            let why = match error {
                KeyError::Malformed(why) => why.to_owned(),
                error => error.to_string(),
            };
            BookError::syntax(&path, &text, Some(begins), why)
        })?;
        let certificate = chain.remove(0);
        Ok(StoredCertificate { name: name.to_owned(), path, note, certificate, above: chain })
    }

    /// All, each with its own success or failure: one broken file must not hide the others.
    ///
    /// # Errors
    /// [`BookError::Io`] when the folder cannot be listed.
    pub fn all(&self) -> Result<Vec<Result<StoredCertificate, BookError>>, BookError> {
        Ok(self.names()?.iter().map(|name| self.get(name)).collect())
    }

    /// What was made for the machine `old` was made for `new`, pair by pair; what they are called and say stays.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn rename_machines(&self, pairs: &[(&str, &str)]) -> Result<(), BookError> {
        for stored in self.all()?.into_iter().flatten() {
            let machine = stored.note.machine.as_deref();
            let Some((_, new)) = pairs.iter().find(|(old, _)| machine == Some(old)) else { continue };
            let note = CertificateNote { machine: Some((*new).to_owned()), ..stored.note };
            let chain = [std::slice::from_ref(&stored.certificate), &stored.above].concat();
            self.put(&stored.name, &note, &chain, true)?;
        }
        Ok(())
    }

    /// Whether a name may be given.
    ///
    /// # Errors
    /// [`BookError::Exists`], a name that is none.
    pub fn check_free(&self, name: &str) -> Result<(), BookError> {
        check_name_of("certificate name", name)?;
        match self.path(name).exists() {
            true => Err(BookError::Exists { what: "certificate", name: name.to_owned() }),
            false => Ok(()),
        }
    }

    /// Keeps one, its chain's first; `replace`: in place of the one that has the name.
    ///
    /// # Errors
    /// [`BookError::Exists`]; what writing runs into.
    pub fn put(
        &self,
        name: &str,
        note: &CertificateNote,
        chain: &[TlsCertificate],
        replace: bool,
    ) -> Result<PathBuf, BookError> {
        check_name_of("certificate name", name)?;
        let path = self.path(name);
        let _lock = self.home.lock()?;
        create_private_folder(&self.home.file(FOLDER))?;
        let about =
            toml::to_string(note).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
        let text = format!("{HEADER}{about}{}", write_certificates(chain));
        match write_file(&path, text.as_bytes(), 0o644, replace) {
            Err(BookError::Exists { .. }) => {
                Err(BookError::Exists { what: "certificate", name: name.to_owned() })
            }
            written => written.map(|()| path),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use lantern_keys::issuing::{Plan, Purpose, new_authority};
    use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};

    fn made(name: &str) -> TlsCertificate {
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let purpose = Purpose::Authority { only: Vec::new() };
        let plan = Plan { common_name: name.into(), purpose, from: 1_700_000_000, until: 1_900_000_000 };
        new_authority(&plan, &key, &mut SystemRandom).unwrap()
    }

    fn note(machine: &str) -> CertificateNote {
        CertificateNote {
            used_as: CertificateUse::Server,
            machine: Some(machine.into()),
            user: None,
            key: Some("gauge-tls".into()),
            authority: Some("house".into()),
            made: "2026-11-27T00:00:00Z".parse().unwrap(),
        }
    }

    #[test]
    fn what_was_put_is_got_and_one_broken_file_hides_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let store = CertificateStore::new(&Home::new(folder.path().join("home")));
        assert_eq!(store.names().unwrap(), Vec::<String>::new());
        let chain = [made("gauge"), made("house")];
        store.put("gauge", &note("tide-gauge"), &chain, false).unwrap();
        let got = store.get("gauge").unwrap();
        assert_eq!((&got.note, &got.certificate), (&note("tide-gauge"), &chain[0]));
        assert_eq!(got.above, chain[1..]);
        assert!(matches!(store.put("gauge", &note("x"), &chain, false), Err(BookError::Exists { .. })));
        assert!(matches!(store.get("guage"), Err(BookError::Unknown { nearest: Some(_), .. })));
        store.rename_machines(&[("tide-gauge", "gauge-02")]).unwrap();
        assert_eq!(store.get("gauge").unwrap().note, note("gauge-02"));
        // Broken in its notes, in its armour, and empty.
        let text = fs::read_to_string(store.path("gauge")).unwrap();
        for (name, broken) in [
            ("one", text.replace("machine", "machina")),
            ("two", text.replace("-----END", "----END")),
            ("three", String::new()),
        ] {
            fs::write(store.path(name), broken).unwrap();
            assert!(matches!(store.get(name), Err(BookError::Syntax { .. })), "{name}");
        }
        let all = store.all().unwrap();
        assert_eq!((all.len(), all.iter().filter(|one| one.is_ok()).count()), (4, 1));
    }
}
