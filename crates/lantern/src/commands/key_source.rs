//! Where a key comes from: a name in the ring, a file, or standard input.

use std::io::Read;
use std::path::{Path, PathBuf};

use lantern_book::{BookError, FileIdentity, KeyRing, RingEntry, read_key_file};
use lantern_keys::container::{Contents, Found, MAX_FILE_LEN, Sealed, contents};
use lantern_keys::{Fingerprint, KeyError};
use zeroize::Zeroizing;

use crate::screen::failure::{Failure, code};

/// A text file of at most `limit` bytes, or standard input for `-`.
///
/// # Errors
/// What the system says; a file that is too large, or no text.
pub(crate) fn read_text(path: &Path, limit: u64) -> Result<String, Failure> {
    String::from_utf8(read_bytes(path, limit)?)
        .map_err(|_| Failure::new(code::LOCAL, format!("{} is no text in UTF-8", path.display())))
}

/// A file of at most `limit` bytes, a whole number of MiB, or standard input for `-`.
///
/// # Errors
/// What the system says; a file that is too large.
pub(crate) fn read_bytes(path: &Path, limit: u64) -> Result<Vec<u8>, Failure> {
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot read {}: {error}", path.display()));
    let reader: Box<dyn Read> = match path.as_os_str() == "-" {
        true => Box::new(std::io::stdin()),
        false => Box::new(std::fs::File::open(path).map_err(failed)?),
    };
    let mut bytes = Vec::new();
    reader.take(limit + 1).read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() as u64 > limit {
        let megabytes = limit / (1024 * 1024);
        return Err(Failure::new(code::LOCAL, format!("{} is larger than {megabytes} MiB", path.display())));
    }
    Ok(bytes)
}

/// What was typed as a key.
pub(crate) enum KeySource {
    /// A key of the ring.
    Ring(Box<RingEntry>),
    /// A file, or standard input.
    File(KeyFile),
}

/// A file and what is in it.
pub(crate) struct KeyFile {
    /// Its path; none for standard input.
    pub(crate) path: Option<PathBuf>,
    /// Its permission bits.
    pub(crate) mode: Option<u32>,
    /// Which file it is, when it is one that could be removed: no pipe, no device, no standard input.
    pub(crate) identity: Option<FileIdentity>,
    /// Whether nothing but one private key is in it.
    pub(crate) is_one_private_key: bool,
    /// How many lines beside what was found say anything else.
    pub(crate) lines_beside: usize,
    /// Everything in it; at least one.
    pub(crate) found: Vec<Result<Found, KeyError>>,
}

impl KeySource {
    /// A name of the ring comes first; a path is told by its `/`, or by being there.
    ///
    /// # Errors
    /// Neither a key nor a file; a file that cannot be read.
    pub(crate) fn resolve(typed: &str, ring: &KeyRing) -> Result<Self, Failure> {
        let is_path = typed == "-" || typed.contains('/');
        if !is_path {
            match ring.get(typed) {
                Ok(entry) => return Ok(Self::Ring(Box::new(entry))),
                Err(BookError::Unknown { .. } | BookError::BadValue { .. }) if Path::new(typed).exists() => {}
                Err(error) => return Err(error.into()),
            }
        }
        KeyFile::read(typed).map(Self::File)
    }
}

impl KeyFile {
    /// Reads a file, or standard input for `-`.
    ///
    /// # Errors
    /// What the system says; what is wrong with the content as a whole.
    pub(crate) fn read(typed: &str) -> Result<Self, Failure> {
        if typed == "-" {
            // As much as there may be at once: growing would leave copies behind.
            let mut content = Zeroizing::new(Vec::with_capacity(MAX_FILE_LEN + 1));
            let read_all = std::io::stdin().lock().take(MAX_FILE_LEN as u64 + 1).read_to_end(&mut content);
            read_all
                .map_err(|error| Failure::new(code::LOCAL, format!("cannot read standard input: {error}")))?;
            let contents = contents(&content)
                .map_err(|error| Failure::new(code::LOCAL, format!("standard input: {error}")))?;
            return Ok(Self::of(None, None, None, contents));
        }
        let path = PathBuf::from(typed);
        let file = read_key_file(&path)?;
        let contents =
            contents(&file.bytes).map_err(|source| BookError::Key { path: path.clone(), source })?;
        let identity = file.is_file.then_some(file.identity);
        Ok(Self::of(Some(path), file.is_file.then_some(file.mode), identity, contents))
    }

    fn of(
        path: Option<PathBuf>,
        mode: Option<u32>,
        identity: Option<FileIdentity>,
        contents: Contents,
    ) -> Self {
        let is_one_private_key = contents.is_one_private_key();
        let Contents { found, lines_beside, .. } = contents;
        Self { path, mode, identity, is_one_private_key, lines_beside, found }
    }

    /// How it is called in messages.
    pub(crate) fn name(&self) -> String {
        self.path.as_ref().map_or("standard input".into(), |path| path.display().to_string())
    }

    /// The fingerprint of the first key in it whose public half shows.
    pub(crate) fn public_fingerprint(&self) -> Option<Fingerprint> {
        self.found.iter().flatten().find_map(|found| match found {
            Found::Public(public) => Some(public.key.fingerprint()),
            Found::Private(sealed) => sealed.public().map(|key| key.fingerprint()),
            Found::Certificate { .. } | Found::Other(_) => None,
        })
    }

    /// The one private key in it, or the one that `pick` counts to.
    ///
    /// # Errors
    /// None, or several and no choice.
    pub(crate) fn private(&self, pick: Option<usize>) -> Result<&Sealed, Failure> {
        let privates: Vec<&Sealed> = self
            .found
            .iter()
            .filter_map(|found| match found {
                Ok(Found::Private(sealed)) => Some(sealed),
                _ => None,
            })
            .collect();
        match (privates.as_slice(), pick) {
            ([only], None) => Ok(only),
            ([], _) => Err(self.without_private()),
            (several, Some(pick)) => several.get(pick.wrapping_sub(1)).copied().ok_or_else(|| {
                Failure::new(code::USAGE, format!("{} has {} private keys", self.name(), several.len()))
            }),
            (several, None) => {
                let failure = Failure::new(
                    code::USAGE,
                    format!("{} has {} private keys, and one is wanted", self.name(), several.len()),
                );
                let lines = several.iter().enumerate().map(|(at, sealed)| {
                    let key = sealed.public().map_or("a closed key".into(), |key| {
                        format!("{} {}", key.describe(), key.fingerprint())
                    });
                    format!("{}: {key} ({})", at + 1, sealed.describe())
                });
                let failure = lines.fold(failure, Failure::detail);
                Err(failure.hint("`--pick NUMBER` chooses"))
            }
        }
    }

    /// Why there is no private key: what the first thing in the file is instead.
    fn without_private(&self) -> Failure {
        let why = match self.found.first() {
            Some(Ok(Found::Public(_))) => "it is a public half; the private one is another file".to_owned(),
            Some(Ok(Found::Certificate { .. })) => {
                "it is a certificate of a public key; the private one is another file".into()
            }
            Some(Ok(Found::Other(other))) => other.to_error().to_string(),
            Some(Err(error)) => error.to_string(),
            _ => "there is no private key in it".into(),
        };
        Failure::new(code::LOCAL, format!("{}: {why}", self.name()))
    }
}

/// One key of a container of several, or its only one.
///
/// # Errors
/// Several and no choice.
pub(crate) fn pick_opened<T>(mut keys: Vec<T>, pick: Option<usize>, name: &str) -> Result<T, Failure> {
    let count = keys.len();
    match pick {
        Some(pick) if (1..=count).contains(&pick) => Ok(keys.swap_remove(pick - 1)),
        None if count == 1 => Ok(keys.swap_remove(0)),
        _ => Err(Failure::new(
            code::USAGE,
            format!("the container in {name} holds {count} keys, and one is wanted"),
        )
        .hint("`--pick NUMBER` chooses")),
    }
}
