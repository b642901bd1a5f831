//! Where a key file is that somebody's text names: what was downloaded is seldom where the text says.

use std::path::{Path, PathBuf};

/// A key file that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundKey {
    /// Where.
    pub path: PathBuf,
    /// Whether that is not where the text says: somebody should have a look.
    pub elsewhere: bool,
}

/// Looks for a key file where a text says, and then by its name in these folders. A name without an ending may be that of a `.pem` file. `house`
/// is what `~` stands for.
pub fn find_key_file(said: &str, house: Option<&Path>, folders: &[PathBuf]) -> Option<FoundKey> {
    let place = match (said.strip_prefix("~/"), house) {
        (Some(rest), Some(house)) => house.join(rest),
        _ => PathBuf::from(said),
    };
    if place.is_file() {
        return Some(FoundKey { path: place, elsewhere: false });
    }
    let name = place.file_name()?.to_str()?;
    let names = [name.to_owned(), format!("{name}.pem")];
    let names = names.get(..if place.extension().is_some() { 1 } else { 2 })?;
    let places = folders.iter().flat_map(|folder| names.iter().map(move |name| folder.join(name)));
    places.into_iter().find(|place| place.is_file()).map(|path| FoundKey { path, elsewhere: true })
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::fs::write;

    use super::*;

    #[test]
    fn a_key_is_looked_for_where_it_is_said_to_be_and_then_by_its_name() {
        let folder = tempfile::tempdir().unwrap();
        let (house, loads) = (folder.path().join("house"), folder.path().join("downloads"));
        for folder in [&house, &loads] {
            std::fs::create_dir(folder).unwrap();
        }
        let folders = [house.clone(), loads.clone()];
        let find = |said: &str| find_key_file(said, Some(&house), &folders);
        assert_eq!(find("~/keys/lamp.pem"), None);
        write(loads.join("lamp.pem"), "").unwrap();
        write(house.join("own.pem"), "").unwrap();
        let elsewhere = Some(FoundKey { path: loads.join("lamp.pem"), elsewhere: true });
        for said in ["~/keys/lamp.pem", "/nowhere/lamp.pem", "lamp.pem", "lamp"] {
            assert_eq!(find(said), elsewhere, "{said}");
        }
        assert_eq!(find("~/own.pem"), Some(FoundKey { path: house.join("own.pem"), elsewhere: false }));
        // A folder is no key, and a name that leads out of the folder is not followed.
        for said in ["", "/", "..", "../downloads", "lamp.key"] {
            assert_eq!(find(said), None, "{said}");
        }
    }
}
