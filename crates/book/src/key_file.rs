//! Key files outside and inside of the ring: read with a limit, written only when they are proven to hold the same key.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use lantern_keys::container::{MAX_FILE_LEN, Patience, PrivateContainer, Protect, Sealed, write_private};
use lantern_keys::{KeyError, PrivateKey, RandomSource};
use zeroize::Zeroizing;

use crate::BookError;
use crate::home::write_file;

/// The bytes of a key in a container, opened again and proven to be the same key before anything is written over.
pub(crate) fn proven_content(
    path: &Path,
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<Vec<u8>>, BookError> {
    let failed = |source| BookError::Key { path: path.to_owned(), source };
    let content = write_private(key, container, protect, random).map_err(failed)?;
    let again =
        Sealed::parse(&content).and_then(|sealed| sealed.open_all(protect.passphrase, Patience::Long));
    match again.map_err(failed)?.first() {
        Some(again) if again.public() == key.public() => Ok(content),
        _ => Err(failed(KeyError::Inconsistent("what was to be written is another key"))),
    }
}

/// Writes a private key to a file of its own, for the owner alone, after proving that what is written is the same key.
///
/// # Errors
/// [`BookError::Exists`] for a file that is there, unless `replace`; what writing runs into.
pub fn export_private(
    path: &Path,
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
    replace: bool,
    random: &mut dyn RandomSource,
) -> Result<(), BookError> {
    let content = proven_content(path, key, container, protect, random)?;
    write_new(path, &content, 0o600, replace)
}

/// Writes a file that must not be there yet, unless `replace`; a file in the way keeps permissions that are narrower.
///
/// # Errors
/// [`BookError::Exists`]; what writing runs into.
pub fn write_new(path: &Path, content: &[u8], mode: u32, replace: bool) -> Result<(), BookError> {
    let mode = match fs::symlink_metadata(path) {
        Ok(metadata) => (metadata.permissions().mode() & mode) | 0o600,
        Err(_) => mode,
    };
    write_file(path, content, mode, replace)
}

/// A private key of a file, closed, and the file's permission bits.
pub(crate) fn read_sealed(path: &Path) -> Result<(Sealed, u32), BookError> {
    let (content, mode) = read_key_file(path)?;
    let sealed =
        Sealed::parse(&content).map_err(|source| BookError::Key { path: path.to_owned(), source })?;
    Ok((sealed, mode))
}

/// The content of a file that may be a key, and its permission bits. Larger files are refused before they are read.
///
/// # Errors
/// [`BookError::Io`], [`BookError::Key`].
pub fn read_key_file(path: &Path) -> Result<(Zeroizing<Vec<u8>>, u32), BookError> {
    let metadata = fs::metadata(path).map_err(BookError::io("read", path))?;
    if metadata.len() > MAX_FILE_LEN as u64 {
        let limit = MAX_FILE_LEN as u64;
        let source = KeyError::TooCostly { what: "bytes", met: metadata.len(), limit };
        return Err(BookError::Key { path: path.to_owned(), source });
    }
    let content = Zeroizing::new(fs::read(path).map_err(BookError::io("read", path))?);
    Ok((content, metadata.permissions().mode() & 0o777))
}
