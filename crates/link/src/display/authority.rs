//! The authority file: what has to be shown to which display (the format of the X project's libXau: entries of a family, and four strings with their
//! lengths in two bytes).

use std::fs::{self, OpenOptions};
use std::io::{self, ErrorKind, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use lantern_keys::RandomSource;
use lantern_ssh::{COOKIE_PROTOCOL, Cookie};
use zeroize::Zeroizing;

use super::DisplayName;

/// Largest file that is read, in bytes: a thousand displays take a tenth of it.
const MAX_FILE: u64 = 1024 * 1024;
/// How long the lock of another program is waited for.
const LOCK_TIME: Duration = Duration::from_secs(5);
/// A lock older than this was left by a program that has gone (libXau's own rule).
const STALE_LOCK: Duration = Duration::from_secs(60);
/// Families of addresses (X.h, Xauth.h).
const INTERNET: u16 = 0;
const INTERNET6: u16 = 6;
const LOCAL: u16 = 256;
const WILD: u16 = 65_535;

/// What a display wants to be shown.
#[derive(Clone, PartialEq, Eq)]
pub struct DisplayAuthorization {
    /// The name of the protocol.
    pub protocol: Vec<u8>,
    /// What is shown.
    pub data: Zeroizing<Vec<u8>>,
}

impl std::fmt::Debug for DisplayAuthorization {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let protocol = String::from_utf8_lossy(&self.protocol);
        f.debug_struct("DisplayAuthorization").field("protocol", &protocol).finish_non_exhaustive()
    }
}

impl DisplayAuthorization {
    /// A cookie.
    pub fn cookie(cookie: &Cookie) -> Self {
        Self { protocol: COOKIE_PROTOCOL.into(), data: Zeroizing::new(cookie.expose().to_vec()) }
    }
}

/// Why the file is not read or written.
#[derive(Debug, thiserror::Error)]
pub enum AuthorityError {
    /// The system.
    #[error("the authority file {}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What it says.
        source: io::Error,
    },
    /// Another program holds it.
    #[error("the authority file {} is locked by another program", path.display())]
    Locked {
        /// The file.
        path: PathBuf,
    },
}

#[derive(Clone, PartialEq, Eq)]
struct Entry {
    family: u16,
    address: Vec<u8>,
    number: Vec<u8>,
    authorization: DisplayAuthorization,
}

/// The entries; what is cut off at the end is left out, as other readers do.
fn entries(bytes: &[u8]) -> Vec<Entry> {
    fn take<'a>(rest: &mut &'a [u8], len: usize) -> Option<&'a [u8]> {
        let (taken, after) = rest.split_at_checked(len)?;
        *rest = after;
        Some(taken)
    }
    fn number(rest: &mut &[u8]) -> Option<u16> {
        Some(u16::from_be_bytes(*take(rest, 2)?.first_chunk()?))
    }
    let mut rest = bytes;
    let mut all = Vec::new();
    loop {
        let entry = (|| {
            let family = number(&mut rest)?;
            let mut part = || {
                let len = number(&mut rest)?;
                take(&mut rest, usize::from(len)).map(<[u8]>::to_vec)
            };
            let (address, number, protocol) = (part()?, part()?, part()?);
            let data = Zeroizing::new(part()?);
            Some(Entry { family, address, number, authorization: DisplayAuthorization { protocol, data } })
        })();
        match entry {
            Some(entry) => all.push(entry),
            None => return all,
        }
    }
}

fn encode(entry: &Entry, out: &mut Vec<u8>) {
    out.extend(entry.family.to_be_bytes());
    let parts = [&entry.address, &entry.number, &entry.authorization.protocol, &*entry.authorization.data];
    for part in parts {
        out.extend(u16::try_from(part.len()).unwrap_or(u16::MAX).to_be_bytes());
        out.extend_from_slice(part);
    }
}

/// Entries from any bytes, and back.
#[cfg(fuzzing)]
pub fn fuzz_entries(bytes: &[u8]) {
    let all = entries(bytes);
    let mut out = Vec::new();
    all.iter().for_each(|entry| encode(entry, &mut out));
    assert!(out.len() <= bytes.len() && entries(&out) == all);
}

/// An authority file.
#[derive(Debug, Clone)]
pub struct AuthorityFile {
    path: PathBuf,
    /// The name of this computer, as entries have it.
    host: Vec<u8>,
}

impl AuthorityFile {
    /// This one.
    pub fn new(path: PathBuf) -> Self {
        let host = rustix::system::uname().nodename().to_bytes().to_vec();
        Self { path, host }
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn io(&self) -> impl Fn(io::Error) -> AuthorityError + '_ {
        |source| AuthorityError::Io { path: self.path.clone(), source }
    }

    fn read(&self) -> Result<Vec<Entry>, AuthorityError> {
        let mut bytes = Zeroizing::new(Vec::new());
        match fs::File::open(&self.path) {
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(self.io()(error)),
            Ok(file) => file.take(MAX_FILE).read_to_end(&mut bytes).map_err(self.io())?,
        };
        Ok(entries(&bytes))
    }

    /// What this display wants to be shown: the first entry that fits, as other programs take it.
    ///
    /// # Errors
    /// A file that cannot be read; one that is not there has nothing in it.
    pub fn find(&self, display: &DisplayName) -> Result<Option<DisplayAuthorization>, AuthorityError> {
        let number = display.number().to_string().into_bytes();
        let fits = |entry: &Entry| {
            let is_here = match (entry.family, display.host()) {
                (WILD, _) => true,
                (LOCAL, None) => entry.address == self.host,
                (LOCAL, Some((host, _))) => {
                    let loopback =
                        host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback());
                    host.as_bytes() == entry.address
                        || (loopback || host == "localhost") && entry.address == self.host
                }
                (INTERNET | INTERNET6, Some((host, _))) => match host.parse() {
                    Ok(std::net::IpAddr::V4(address)) => entry.address == address.octets(),
                    Ok(std::net::IpAddr::V6(address)) => entry.address == address.octets(),
                    Err(_) => false,
                },
                _ => false,
            };
            is_here && (entry.number.is_empty() || entry.number == number)
        };
        let found = self.read()?.into_iter().filter(fits);
        // Of several protocols the one that we know how to speak.
        let is_cookie =
            |authorization: &DisplayAuthorization| authorization.protocol == COOKIE_PROTOCOL.as_bytes();
        Ok(found.map(|entry| entry.authorization).find(is_cookie))
    }

    /// Puts a new cookie in for a display of this computer, unless there is one for it.
    ///
    /// # Errors
    /// [`AuthorityError`].
    pub fn ensure(&self, display: &DisplayName, random: &mut dyn RandomSource) -> Result<(), AuthorityError> {
        let _lock = self.lock()?;
        if self.find(display)?.is_some() {
            return Ok(());
        }
        let number = display.number().to_string().into_bytes();
        let mut all = self.read()?;
        let authorization = DisplayAuthorization::cookie(&Cookie::random(random));
        all.push(Entry { family: LOCAL, address: self.host.clone(), number, authorization });
        let mut bytes = Zeroizing::new(Vec::new());
        all.iter().for_each(|entry| encode(entry, &mut bytes));
        // Whole or not at all: a new file, which takes the old one's place (as libXau's tools do it, with `-n`).
        let new = self.beside("-n");
        let written = (|| {
            let mut file =
                OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
            file.write_all(&bytes)?;
            file.sync_all()?;
            fs::rename(&new, &self.path)
        })();
        written.map_err(|error| {
            let _ = fs::remove_file(&new);
            self.io()(error)
        })
    }

    fn beside(&self, ending: &str) -> PathBuf {
        let mut name = self.path.as_os_str().to_owned();
        name.push(ending);
        PathBuf::from(name)
    }

    /// The lock that all programs keep which write such a file: `FILE-c` is made anew, and `FILE-l` is a link to it, which only one can make.
    fn lock(&self) -> Result<FileLock, AuthorityError> {
        let (made, linked) = (self.beside("-c"), self.beside("-l"));
        let until = Instant::now() + LOCK_TIME;
        loop {
            let is_stale = fs::metadata(&made)
                .and_then(|file| file.modified())
                .is_ok_and(|at| at.elapsed().is_ok_and(|age| age > STALE_LOCK));
            if is_stale {
                let _ = (fs::remove_file(&made), fs::remove_file(&linked));
            }
            match OpenOptions::new().write(true).create_new(true).mode(0o600).open(&made) {
                Ok(_) => match fs::hard_link(&made, &linked) {
                    Ok(()) => return Ok(FileLock { made, linked }),
                    Err(error) if error.kind() != ErrorKind::AlreadyExists => {
                        let _ = fs::remove_file(&made);
                        return Err(self.io()(error));
                    }
                    Err(_) => {}
                },
                Err(error) if error.kind() != ErrorKind::AlreadyExists => return Err(self.io()(error)),
                Err(_) => {}
            }
            if Instant::now() > until {
                return Err(AuthorityError::Locked { path: self.path.clone() });
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

struct FileLock {
    made: PathBuf,
    linked: PathBuf,
}

impl Drop for FileLock {
    fn drop(&mut self) {
        let _ = (fs::remove_file(&self.made), fs::remove_file(&self.linked));
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use lantern_keys::SystemRandom;
    use proptest::prelude::*;

    use super::*;

    fn entry(family: u16, address: &[u8], number: &str, byte: u8) -> Entry {
        let authorization = DisplayAuthorization::cookie(&Cookie::new([byte; 16]));
        Entry { family, address: address.to_vec(), number: number.into(), authorization }
    }

    #[test]
    fn the_entry_that_fits_is_found_and_a_new_one_leaves_the_others() {
        let folder = tempfile::tempdir().unwrap();
        let file = AuthorityFile::new(folder.path().join("authority"));
        let name = |text: &str| DisplayName::parse(text).unwrap();
        assert!(file.find(&name(":0")).unwrap().is_none(), "there is no file");
        let mut bytes = Vec::new();
        let mut other = entry(LOCAL, &file.host, "1", 9);
        other.authorization.protocol = b"SOME-OTHER-1".to_vec();
        for one in [
            entry(LOCAL, b"another-computer", "0", 1),
            entry(LOCAL, &file.host, "0", 2),
            other,
            entry(LOCAL, &file.host, "1", 3),
            entry(INTERNET, &[192, 0, 2, 7], "0", 4),
            entry(INTERNET6, &"2001:db8::7".parse::<std::net::Ipv6Addr>().unwrap().octets(), "", 5),
        ] {
            encode(&one, &mut bytes);
        }
        bytes.extend(b"\x01\x00\x00");
        fs::write(&file.path, &bytes).unwrap();
        let found = |text: &str| file.find(&name(text)).unwrap().map(|found| found.data[0]);
        for (text, byte) in [
            (":0", Some(2)),
            ("localhost:0.1", Some(2)),
            ("127.0.0.1:1", Some(3)),
            ("another-computer:0", Some(1)),
            ("192.0.2.7:0", Some(4)),
            ("192.0.2.7:1", None),
            ("[2001:db8::7]:9", Some(5)),
            (":2", None),
        ] {
            assert_eq!(found(text), byte, "{text}");
        }
        file.ensure(&name(":0"), &mut SystemRandom).unwrap();
        assert_eq!(found(":0"), Some(2), "it stays as it is");
        file.ensure(&name(":2"), &mut SystemRandom).unwrap();
        assert!(found(":2").is_some() && found(":1") == Some(3) && found("another-computer:0") == Some(1));
        assert_eq!(fs::metadata(&file.path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "no lock is left");
        // Locked by somebody who writes; and by one who has gone.
        fs::write(folder.path().join("authority-c"), "").unwrap();
        assert!(matches!(file.ensure(&name(":5"), &mut SystemRandom), Err(AuthorityError::Locked { .. })));
        let old = std::time::SystemTime::now() - 2 * STALE_LOCK;
        fs::File::options()
            .write(true)
            .open(folder.path().join("authority-c"))
            .unwrap()
            .set_modified(old)
            .unwrap();
        file.ensure(&name(":5"), &mut SystemRandom).unwrap();
    }

    proptest! {
        #[test]
        fn any_file_is_survived_and_what_is_written_is_read(bytes: Vec<u8>, families in proptest::collection::vec(any::<u16>(), 0..5)) {
            let _ = entries(&bytes);
            let all: Vec<Entry> = families.iter().map(|family| entry(*family, &bytes[..bytes.len().min(300)], "7", 1)).collect();
            let mut out = Vec::new();
            all.iter().for_each(|entry| encode(entry, &mut out));
            prop_assert!(entries(&out) == all);
            prop_assert!(entries(&out[..out.len().saturating_sub(1)]).len() + 1 >= all.len());
        }
    }
}
