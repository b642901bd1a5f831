//! Folders that are mounted: making one, seeing which there are, and taking them away.

use std::io;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;

use fuser::{BackgroundSession, Config, MountOption};
use tokio::runtime::Handle;

use super::filesystem::RemoteFilesystem;
use super::tree::RemoteTree;

/// What stands in front of the place in the system's table, so that folders of ours are known.
const MARK: &[u8] = b"lantern:";
/// What the kernel is asked through.
const DEVICE: &str = "/dev/fuse";
/// The system's program that mounts for users who may not do it themselves.
const HELPERS: [&str; 2] = ["fusermount3", "fusermount"];

/// Why a folder was not mounted, or not taken away.
#[derive(Debug, thiserror::Error)]
pub enum MountError {
    /// The system has no FUSE.
    #[error("this system has no FUSE: there is no {DEVICE}")]
    NoDevice,
    /// Only root may mount by itself, and the program that does it for others is missing.
    #[error("{} mounts for users, and is not installed", HELPERS[0])]
    NoHelper,
    /// The folder is none.
    #[error("cannot mount at {}: {source}", path.display())]
    Folder {
        /// The folder.
        path: PathBuf,
        /// What is wrong with it.
        source: io::Error,
    },
    /// Something is in it, which would not be seen.
    #[error("cannot mount at {}: something is in it, which nobody would see", .0.display())]
    NotEmpty(PathBuf),
    /// It is mounted already.
    #[error("{} is mounted already: {place}", path.display())]
    Already {
        /// The folder.
        path: PathBuf,
        /// What is there.
        place: String,
    },
    /// The system said no.
    #[error("cannot mount at {}: {source}", path.display())]
    Refused {
        /// The folder.
        path: PathBuf,
        /// What it says.
        source: io::Error,
    },
    /// It is none of ours.
    #[error("nothing of lantern's is mounted at {}", .0.display())]
    NotOurs(PathBuf),
    /// Somebody is at it.
    #[error("{} is in use: a program has a file of it open, or works in it", .0.display())]
    Busy(PathBuf),
    /// It was not taken away.
    #[error("cannot unmount {}: {said}", path.display())]
    NotTaken {
        /// The folder.
        path: PathBuf,
        /// What the system says.
        said: String,
    },
}

/// A folder that is mounted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mounted {
    /// Where.
    pub folder: PathBuf,
    /// What, as MACHINE:PATH.
    pub place: String,
    /// Whether nothing is written.
    pub read_only: bool,
}

/// Mounts a tree at a folder, under the name that the system shows. It stands until what this returns goes, or until somebody takes it away, which
/// [`BackgroundSession::join`] waits for.
///
/// # Errors
/// [`MountError`].
pub fn mount_at(
    tree: Arc<RemoteTree>,
    folder: &Path,
    place: &str,
    read_only: bool,
    runtime: Handle,
) -> Result<BackgroundSession, MountError> {
    check(folder)?;
    let owner = (rustix::process::getuid().as_raw(), rustix::process::getgid().as_raw());
    // A comma would part options.
    let shown = format!("{}{place}", String::from_utf8_lossy(MARK));
    let shown: String = shown.chars().map(|c| if c == ',' || c.is_control() { '_' } else { c }).collect();
    let mut config = Config::default();
    config.mount_options = vec![
        MountOption::FSName(shown),
        MountOption::NoDev,
        MountOption::NoSuid,
        MountOption::NoAtime,
        if read_only { MountOption::RO } else { MountOption::RW },
    ];
    let filesystem = RemoteFilesystem::new(tree, runtime, owner);
    fuser::spawn_mount(filesystem, folder, &config)
        .map_err(|source| MountError::Refused { path: folder.to_owned(), source })
}

/// What is needed is there, and the folder is an empty one.
fn check(folder: &Path) -> Result<(), MountError> {
    if !Path::new(DEVICE).exists() {
        return Err(MountError::NoDevice);
    }
    if !rustix::process::geteuid().is_root() && helper().is_none() {
        return Err(MountError::NoHelper);
    }
    let broken = |source| MountError::Folder { path: folder.to_owned(), source };
    let real = folder.canonicalize().map_err(broken)?;
    if let Some(there) = mounts().into_iter().find(|mounted| mounted.folder == real) {
        return Err(MountError::Already { path: folder.to_owned(), place: there.place });
    }
    match folder.read_dir().map_err(broken)?.next() {
        Some(_) => Err(MountError::NotEmpty(folder.to_owned())),
        None => Ok(()),
    }
}

fn helper() -> Option<&'static str> {
    HELPERS.into_iter().find(|name| {
        let folders = std::env::var_os("PATH").unwrap_or_default();
        std::env::split_paths(&folders).any(|folder| folder.join(name).is_file())
    })
}

/// Folders of ours that are mounted.
pub fn mounts() -> Vec<Mounted> {
    let table = std::fs::read("/proc/self/mounts").unwrap_or_default();
    table.split(|byte| *byte == b'\n').filter_map(read_line).collect()
}

/// A line of the system's table: what, where, what kind, and how.
fn read_line(line: &[u8]) -> Option<Mounted> {
    let mut words = line.split(|byte| *byte == b' ');
    let (what, at, kind, how) = (words.next()?, words.next()?, words.next()?, words.next()?);
    let what = unescaped(what);
    let place = what.strip_prefix(MARK).filter(|_| kind == b"fuse" || kind.starts_with(b"fuse."))?;
    Some(Mounted {
        folder: PathBuf::from(std::ffi::OsString::from_vec(unescaped(at))),
        place: String::from_utf8_lossy(place).into_owned(),
        read_only: how.split(|byte| *byte == b',').any(|word| word == b"ro"),
    })
}

/// Spaces and their like stand there as a backslash and three octal digits.
fn unescaped(word: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut rest = word;
    while let Some((byte, behind)) = rest.split_first() {
        let digits = behind.get(..3).and_then(|digits| str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()).filter(|_| *byte == b'\\') {
            Some(meant) => {
                out.push(meant);
                rest = behind.get(3..).unwrap_or_default();
            }
            None => {
                out.push(*byte);
                rest = behind;
            }
        }
    }
    out
}

/// Takes a folder away; with `lazily` also where programs are still at it, which then see nothing new.
///
/// # Errors
/// [`MountError`].
pub fn unmount(folder: &Path, lazily: bool) -> Result<Mounted, MountError> {
    // A folder whose process was killed cannot be looked at, and is in the table all the same.
    let real = folder.canonicalize().or_else(|_| std::path::absolute(folder));
    let real = real.unwrap_or_else(|_| folder.to_owned());
    let mounted = mounts().into_iter().find(|mounted| mounted.folder == real);
    let mounted = mounted.ok_or_else(|| MountError::NotOurs(folder.to_owned()))?;
    let program =
        helper().map_or(if rustix::process::geteuid().is_root() { Some("umount") } else { None }, Some);
    let Some(program) = program else { return Err(MountError::NoHelper) };
    let mut command = Command::new(program);
    if program != "umount" {
        command.arg("-u");
    }
    if lazily {
        command.arg(if program == "umount" { "-l" } else { "-z" });
    }
    let outcome = command.arg("--").arg(&real).stdin(Stdio::null()).env("LC_ALL", "C").output();
    let failed = |said: String| MountError::NotTaken { path: folder.to_owned(), said };
    let outcome = outcome.map_err(|error| failed(error.to_string()))?;
    if outcome.status.success() {
        return Ok(mounted);
    }
    let said = String::from_utf8_lossy(&outcome.stderr).trim().to_owned();
    Err(match said.contains("busy") {
        true => MountError::Busy(folder.to_owned()),
        false => failed(said),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_of_ours_are_found_in_the_table() {
        let line = br"lantern:lamp-01:/srv/two\040words /mnt/a\040b\134c fuse rw,nosuid,nodev 0 0";
        let mounted = read_line(line);
        let expected = Mounted {
            folder: PathBuf::from(r"/mnt/a b\c"),
            place: "lamp-01:/srv/two words".to_owned(),
            read_only: false,
        };
        assert_eq!(mounted, Some(expected));
        assert_eq!(read_line(b"/dev/sda1 / ext4 rw 0 0"), None);
        assert_eq!(read_line(b"lantern:x / ext4 rw 0 0"), None);
        assert_eq!(read_line(b""), None);
        assert!(read_line(b"lantern:x /y fuse.other ro,nosuid 0 0").is_some_and(|mounted| mounted.read_only));
        assert_eq!(unescaped(br"\04"), br"\04");
    }
}
