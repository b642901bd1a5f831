//! The system's configuration of Kerberos, and its resolvers.

use std::net::{IpAddr, SocketAddr};
use std::path::Path;

use lantern_kerberos::{Configuration, Include};
use tracing::debug;

use super::places::KerberosPlaces;

/// Longest file of configuration that is read, in bytes.
const MAX_FILE: u64 = 1024 * 1024;
/// Most files of a folder.
const MAX_FILES: usize = 256;
/// Most resolvers that are asked: as many as the system itself would.
const MAX_RESOLVERS: usize = 3;

/// Reads a file that is not longer than this; its bytes, and the number of the user whose it is.
pub(super) fn read_limited(path: &Path, limit: u64) -> std::io::Result<(Vec<u8>, u32)> {
    use std::io::Read;
    use std::os::unix::fs::MetadataExt;
    let (mut bytes, file) = (Vec::new(), std::fs::File::open(path)?);
    let owner = file.metadata()?.uid();
    file.take(limit + 1).read_to_end(&mut bytes)?;
    match bytes.len() as u64 > limit {
        true => Err(std::io::Error::other(format!("it has more than {limit} bytes"))),
        false => Ok((bytes, owner)),
    }
}

fn text(path: &Path) -> Option<String> {
    match read_limited(path, MAX_FILE) {
        Ok((bytes, _)) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        Err(error) => {
            debug!(path = %path.display(), %error, "a file of Kerberos' configuration was not read");
            None
        }
    }
}

/// What the files say.
pub(super) fn configuration(places: &KerberosPlaces) -> Configuration {
    let mut all = Configuration::default();
    for path in &places.configuration {
        if let Some(text) = text(path) {
            all.read(&text, &mut |include| match include {
                Include::File(path) => text_of(path),
                Include::Folder(path) => folder(Path::new(path)),
            });
        }
    }
    all
}

fn text_of(path: &str) -> Vec<String> {
    text(Path::new(path)).into_iter().collect()
}

/// The texts of a folder's files whose names are plain, or end in `.conf`, in the order of their names.
fn folder(path: &Path) -> Vec<String> {
    let Ok(entries) = std::fs::read_dir(path) else { return Vec::new() };
    let is_plain = |name: &str| {
        let bare = name.strip_suffix(".conf").unwrap_or(name);
        !bare.starts_with('.') && bare.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c))
    };
    let names = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
    let mut names: Vec<String> = names.filter(|name| is_plain(name)).take(MAX_FILES).collect();
    names.sort();
    names.iter().filter_map(|name| text(&path.join(name))).collect()
}

/// The resolvers that a file names.
pub(super) fn resolvers(places: &KerberosPlaces) -> Vec<SocketAddr> {
    let text = places.resolvers.as_deref().and_then(text).unwrap_or_default();
    let named = text.lines().filter_map(|line| {
        let mut words = line.split_whitespace();
        let address = words.next().filter(|word| *word == "nameserver").and(words.next())?;
        // With a port only where it is not the usual one, as some systems write it.
        address.parse().ok().or_else(|| Some(SocketAddr::new(address.parse::<IpAddr>().ok()?, 53)))
    });
    named.take(MAX_RESOLVERS).collect()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn files_and_folders_are_included_and_missing_ones_are_no_failure() {
        let folder = tempfile::tempdir().unwrap();
        let more = folder.path().join("more");
        std::fs::create_dir(&more).unwrap();
        let realm = |name: &str, kdc: &str| format!("[realms]\n{name} = {{\nkdc = {kdc}\n}}\n");
        for (name, kdc) in [("10-coast", "a"), ("20-coast.conf", "b"), (".hidden", "c"), ("old~", "d")] {
            std::fs::write(more.join(name), realm("COAST.EXAMPLE", kdc)).unwrap();
        }
        let main = folder.path().join("main");
        let included = format!(
            "includedir {}\ninclude /nonexistent\n[libdefaults]\ndefault_realm = A\n",
            more.display()
        );
        std::fs::write(&main, included).unwrap();
        let configuration = configuration(&KerberosPlaces {
            configuration: vec![folder.path().join("none"), main],
            ..KerberosPlaces::default()
        });
        assert_eq!(configuration.centres("COAST.EXAMPLE"), ["a", "b"]);
        assert_eq!(configuration.default_realm.as_deref(), Some("A"));
    }

    #[test]
    fn resolvers_are_read_of_the_systems_file() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("resolv.conf");
        std::fs::write(&file, "# none\nsearch coast.example\nnameserver 192.0.2.53\nnameserver 2001:db8::53\nnameserver 127.0.0.1:5353\nnameserver x\nnameserver 192.0.2.54\n").unwrap();
        let places = KerberosPlaces { resolvers: Some(file), ..KerberosPlaces::default() };
        let found: Vec<String> = resolvers(&places).iter().map(ToString::to_string).collect();
        assert_eq!(found, ["192.0.2.53:53", "[2001:db8::53]:53", "127.0.0.1:5353"]);
        assert!(resolvers(&KerberosPlaces::default()).is_empty());
    }
}
