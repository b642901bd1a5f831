//! `preparations.toml`: the scripts that were printed to prepare machines, each with the secret by which the line that it prints is known to be its.
//! Losing it makes such lines worthless, and printing a script again is harmless.

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;

use jiff::{SignedDuration, Timestamp};
use lantern_keys::SecretString;
use serde::{Deserialize, Serialize};
use zeroize::Zeroize;

use crate::home::{read_toml, write_atomically};
use crate::{BookError, Home};

const FILE: &str = "preparations.toml";
const HEADER: &str = "# Scripts that were printed to prepare machines, and what their lines are proven by. Written by lantern.\n\n";
/// How long a line may be carried back: somebody goes to a console within days, and a machine's keys may be others after a month.
const LASTS: SignedDuration = SignedDuration::from_hours(30 * 24);

/// A script that was printed for a machine.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Preparation {
    /// What its line is proven by.
    secret: String,
    /// When it was printed first.
    pub made: Timestamp,
    /// Keys of the ring that it lets in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
}

impl fmt::Debug for Preparation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Preparation")
            .field("made", &self.made)
            .field("keys", &self.keys)
            .finish_non_exhaustive()
    }
}

impl Drop for Preparation {
    fn drop(&mut self) {
        self.secret.zeroize();
    }
}

impl Preparation {
    /// What its line is proven by.
    pub fn secret(&self) -> SecretString {
        SecretString::new(self.secret.clone())
    }

    /// Whether its line may still be carried back.
    pub fn lasts(&self, now: Timestamp) -> bool {
        now.duration_since(self.made) <= LASTS
    }
}

/// All of them, by machine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Preparations {
    #[serde(default)]
    machines: BTreeMap<String, Preparation>,
}

impl Preparations {
    /// Reads the file; without one nothing was printed.
    ///
    /// # Errors
    /// [`BookError::Io`], [`BookError::Syntax`].
    pub fn load(home: &Home) -> Result<Self, BookError> {
        read_toml(&path(home)).map(|(all, _)| all)
    }

    /// What was printed for a machine.
    pub fn get(&self, machine: &str) -> Option<&Preparation> {
        self.machines.get(machine)
    }

    /// Notes that a script is printed, and gives what its line is proven by: the secret of the script before, where that may still be on its way, or
    /// else this one. Forgets what is of no use any more.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn note(
        home: &Home,
        machine: &str,
        keys: &[String],
        secret: &SecretString,
        now: Timestamp,
    ) -> Result<SecretString, BookError> {
        let _lock = home.lock()?;
        let mut all = Self::load(home)?;
        all.machines.retain(|_, preparation| preparation.lasts(now));
        let new = || Preparation { secret: secret.expose_secret().to_owned(), made: now, keys: Vec::new() };
        let preparation = all.machines.entry(machine.to_owned()).or_insert_with(new);
        preparation.keys = keys.to_vec();
        let secret = preparation.secret();
        let path = path(home);
        let text =
            toml::to_string(&all).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
        let text = zeroize::Zeroizing::new(format!("{HEADER}{text}"));
        write_atomically(&path, text.as_bytes(), 0o600)?;
        Ok(secret)
    }
}

fn path(home: &Home) -> PathBuf {
    home.file(FILE)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_script_that_is_printed_again_keeps_its_secret_until_it_is_old() {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        let secret = |text: &str| SecretString::new(text.into());
        let start: Timestamp = "2026-11-27T00:00:00Z".parse().unwrap();
        let note = |machine: &str, made: &str, days: i64| {
            let now = start + SignedDuration::from_hours(24 * days);
            Preparations::note(&home, machine, &["harbour".into()], &secret(made), now).unwrap()
        };
        assert_eq!(note("lamp-01", "one", 0), secret("one"));
        assert_eq!(note("lamp-01", "two", 29), secret("one"));
        assert_eq!(note("lamp-02", "three", 31), secret("three"));
        let all = Preparations::load(&home).unwrap();
        assert_eq!(
            (all.get("lamp-01"), all.get("lamp-02").unwrap().keys.as_slice()),
            (None, &["harbour".to_owned()][..])
        );
        let file = std::fs::metadata(home.file(FILE)).unwrap();
        assert_eq!(file.permissions().mode() & 0o777, 0o600);
        assert!(!format!("{all:?}").contains("three"));
    }
}
