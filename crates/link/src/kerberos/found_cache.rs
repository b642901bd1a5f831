//! The ticket cache that is used, and what is in it.

use std::path::{Path, PathBuf};

use lantern_kerberos::{Cache, CacheName, Configuration};

use super::failure::KerberosFailure;
use super::manager;
use super::places::KerberosPlaces;
use super::system::read_limited;

/// Longest cache that is read, in bytes: tickets of users in many groups have up to 64 KiB each.
const MAX_CACHE: u64 = 8 * 1024 * 1024;
/// The file of a folder that names the one that is used.
const PRIMARY: &str = "primary";
/// That one, where the folder does not say.
const USUAL: &str = "tkt";

/// The name of the cache: as the surroundings say, else as the configuration does, else where systems have it.
pub(super) fn name(places: &KerberosPlaces, configuration: &Configuration) -> String {
    let uid = rustix::process::getuid().as_raw().to_string();
    let usual = || "FILE:/tmp/krb5cc_%{uid}".to_owned();
    let by_configuration = || configuration.cache.clone().unwrap_or_else(usual);
    match &places.cache {
        Some(name) => name.clone(),
        None => {
            by_configuration().replace("%{uid}", &uid).replace("%{euid}", &uid).replace("%{USERID}", &uid)
        }
    }
}

/// Reads it; nothing, where there is none. `is_named`: by somebody who may want another user's; else it must be ours, since the usual place is a folder in which
/// everybody can put a file.
///
/// # Errors
/// It is kept elsewhere, is somebody else's, cannot be read, or is damaged.
pub(super) fn load(
    name: &str,
    is_named: bool,
    configuration: &Configuration,
) -> Result<Option<Cache>, KerberosFailure> {
    let path = match CacheName::parse(name) {
        CacheName::Manager(inner) => {
            let socket = configuration.manager.as_deref().unwrap_or(manager::USUAL);
            let unreadable = |error: std::io::Error| KerberosFailure::Unreadable {
                path: name.to_owned(),
                why: error.to_string(),
            };
            return manager::load(Path::new(socket), &inner).map_err(unreadable);
        }
        CacheName::File(path) => PathBuf::from(path),
        CacheName::Folder(folder) => in_folder(Path::new(&folder))?,
        CacheName::Elsewhere(kind) => {
            return Err(KerberosFailure::CacheKind { cache: name.to_owned(), kind });
        }
    };
    let unreadable = |why: String| KerberosFailure::Unreadable { path: path.display().to_string(), why };
    match read_limited(&path, MAX_CACHE) {
        Ok((_, owner)) if !is_named && owner != rustix::process::geteuid().as_raw() => {
            Err(unreadable("it belongs to another user".to_owned()))
        }
        Ok((bytes, _)) => {
            // Keys of tickets are in it.
            let bytes = zeroize::Zeroizing::new(bytes);
            Cache::decode(&bytes).map(Some).map_err(|error| unreadable(error.to_string()))
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(unreadable(error.to_string())),
    }
}

/// The file that a folder says is used.
fn in_folder(folder: &Path) -> Result<PathBuf, KerberosFailure> {
    let primary = folder.join(PRIMARY);
    let named = match read_limited(&primary, 1024) {
        Ok((bytes, _)) => String::from_utf8_lossy(&bytes).trim().to_owned(),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => USUAL.to_owned(),
        Err(error) => {
            let (path, why) = (primary.display().to_string(), error.to_string());
            return Err(KerberosFailure::Unreadable { path, why });
        }
    };
    match named.starts_with(USUAL) && !named.contains('/') {
        true => Ok(folder.join(named)),
        false => {
            let why = "it names no file of tickets in its folder".to_owned();
            Err(KerberosFailure::Unreadable { path: primary.display().to_string(), why })
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn the_name_comes_from_the_surroundings_then_the_configuration_then_custom() {
        let uid = rustix::process::getuid().as_raw();
        let mut configuration = Configuration::default();
        let mut places = KerberosPlaces::default();
        assert_eq!(name(&places, &configuration), format!("FILE:/tmp/krb5cc_{uid}"));
        configuration.cache = Some("DIR:/run/user/%{uid}/tickets".into());
        assert_eq!(name(&places, &configuration), format!("DIR:/run/user/{uid}/tickets"));
        places.cache = Some("KCM:".into());
        assert_eq!(name(&places, &configuration), "KCM:");
    }

    #[test]
    fn a_folder_names_its_file_and_nothing_beyond_it() {
        let folder = tempfile::tempdir().unwrap();
        let whole = format!("DIR:{}", folder.path().display());
        assert_eq!(load(&whole, true, &Configuration::default()), Ok(None));
        let primary = folder.path().join(PRIMARY);
        for (text, is_fine) in
            [("tkt-harbour\n", true), ("../tkt", false), ("tkt/../../x", false), ("", false)]
        {
            std::fs::write(&primary, text).unwrap();
            assert_eq!(load(&whole, true, &Configuration::default()).is_ok(), is_fine, "{text}");
        }
        std::fs::write(&primary, "tkt-harbour\n").unwrap();
        std::fs::write(folder.path().join("tkt-harbour"), b"\x05\x04").unwrap();
        let damaged = load(&whole, true, &Configuration::default()).unwrap_err().to_string();
        assert!(damaged.contains("tkt-harbour") && damaged.contains("ends in the middle"), "{damaged}");
        let elsewhere =
            load("KEYRING:persistent:1000", true, &Configuration::default()).unwrap_err().to_string();
        assert!(elsewhere.contains("of the kind KEYRING"), "{elsewhere}");
    }

    #[test]
    fn what_somebody_put_in_the_usual_place_is_not_ours() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("tickets");
        std::fs::write(&file, b"\x05\x04").unwrap();
        let name = format!("FILE:{}", file.display());
        let told = |is_named| load(&name, is_named, &Configuration::default()).unwrap_err().to_string();
        assert!(told(false).contains("ends in the middle"), "{}", told(false));
        // Only an administrator can give a file away.
        if std::os::unix::fs::chown(&file, Some(12_345), None).is_ok() {
            assert!(told(false).contains("belongs to another user"), "{}", told(false));
            assert!(told(true).contains("ends in the middle"), "{}", told(true));
        }
    }
}
