//! This computer, or a machine: what can be asked about files.

use std::sync::Arc;

use lantern_link::{Ask, Files, Remote};
use lantern_ssh::sftp::{Attributes, Extension, FileKind, OpenFlags};

use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use super::{Entry, FileFault, Sink, Source, here};

/// Programs that run at once on one connection beside its files: a common server lets a connection have ten sessions.
const PROGRAMS: usize = 3;

/// A machine with its files.
#[derive(Debug, Clone)]
pub struct Machine {
    /// The connection.
    pub remote: Remote,
    /// The conversation about files.
    pub files: Files,
    /// Programs that may run there at once beside it.
    programs: Arc<Semaphore>,
    /// Whether the conversation is another user's than the connection.
    pub(crate) acts: bool,
}

impl Machine {
    /// Begins a conversation about files.
    ///
    /// # Errors
    /// The machine serves none.
    pub async fn of(remote: Remote) -> Result<Self, FileFault> {
        let files = remote.files().await?;
        Ok(Self { remote, files, programs: Arc::new(Semaphore::new(PROGRAMS)), acts: false })
    }

    /// The same as another of the machine's users.
    ///
    /// # Errors
    /// The machine serves none; it does not let this user act as the other.
    pub async fn acting_as(remote: Remote, other: &str, ask: &dyn Ask) -> Result<Self, FileFault> {
        let files = remote.files_as(other, ask).await?;
        Ok(Self { remote, files, programs: Arc::new(Semaphore::new(PROGRAMS)), acts: true })
    }

    /// Waits until a program may run there; one may as long as what this returns is held.
    pub(crate) async fn turn(&self) -> Option<OwnedSemaphorePermit> {
        self.programs.clone().acquire_owned().await.ok()
    }
}

/// This computer, or a machine.
#[derive(Debug, Clone)]
pub enum Side {
    /// This computer.
    Here,
    /// A machine.
    There(Machine),
}

impl Side {
    /// What it is called.
    pub fn name(&self) -> &str {
        match self {
            Self::Here => "this computer",
            Self::There(machine) => machine.files.machine(),
        }
    }

    /// Whether its files have modes and owners as POSIX has them, and names whose case tells them apart: Windows has lists of who may do what.
    pub fn has_modes(&self) -> bool {
        match self {
            Self::Here => true,
            Self::There(machine) => machine.remote.trunk().is_some(),
        }
    }

    /// Ends what would stand on a machine for a while after we have gone, as shells of Windows do. Nothing else may hold the conversation any more.
    pub async fn leave(self) {
        if let Self::There(Machine { remote, files, .. }) = self {
            drop(files);
            if remote.trunk().is_none() {
                remote.close().await;
            }
        }
    }

    /// What is known of a file, behind links or not; none where there is nothing by that name.
    ///
    /// # Errors
    /// That cannot be told.
    pub async fn look(&self, path: &[u8], follow: bool) -> Result<Option<Attributes>, FileFault> {
        let looked = match self {
            Self::Here => {
                here::off_thread("look at", here::path(path), move |path| {
                    let metadata =
                        if follow { std::fs::metadata(path) } else { std::fs::symlink_metadata(path) };
                    Ok(here::attributes(&metadata?))
                })
                .await
            }
            Self::There(Machine { files, .. }) => {
                let path = if path.is_empty() { &b"."[..] } else { path };
                let looked = if follow { files.look(path).await } else { files.look_at_link(path).await };
                looked.map_err(FileFault::from)
            }
        };
        match looked {
            Ok(attributes) => Ok(Some(attributes)),
            Err(fault) if fault.is_not_found() => Ok(None),
            Err(fault) => Err(fault),
        }
    }

    /// The names in a folder.
    ///
    /// # Errors
    /// It cannot be listed.
    pub async fn list(&self, path: &[u8]) -> Result<Vec<Entry>, FileFault> {
        match self {
            Self::Here => here::off_thread("list", here::path(path), here::list).await,
            Self::There(Machine { files, .. }) => {
                let mut entries = Vec::new();
                for entry in files.list(path).await? {
                    let lantern_ssh::sftp::NameEntry { name, line, attributes } = entry;
                    let mut entry = Entry { name, attributes, line };
                    if entry.kind() == FileKind::Unknown {
                        // Few servers leave out what a name stands for.
                        let path = super::paths::join(path, &entry.name);
                        entry.attributes = files.look_at_link(&path).await.unwrap_or(entry.attributes);
                    }
                    entries.push(entry);
                }
                Ok(entries)
            }
        }
    }

    /// Opens a file to read it, from this byte on.
    ///
    /// # Errors
    /// It cannot be opened.
    pub async fn read(&self, path: &[u8], from: u64) -> Result<Source, FileFault> {
        match self {
            Self::Here => Source::here(here::path(path), from).await,
            Self::There(Machine { files, .. }) => Ok(Source::There(Box::new(files.read(path, from).await?))),
        }
    }

    /// Makes a file that was not there, and that nobody else may read.
    ///
    /// # Errors
    /// It cannot be made.
    pub async fn create(&self, path: &[u8]) -> Result<Sink, FileFault> {
        match self {
            Self::Here => {
                let path = here::path(path);
                let file = here::off_thread("write", path.clone(), here::create).await?;
                Ok(Sink::here(path, file))
            }
            Self::There(Machine { files, .. }) => {
                Ok(Sink::There(Box::new(files.write(path, OpenFlags::NEW, Some(0o600)).await?)))
            }
        }
    }

    /// Opens a file that is there, to go on writing to it.
    ///
    /// # Errors
    /// It cannot be opened.
    pub async fn reopen(&self, path: &[u8]) -> Result<Sink, FileFault> {
        match self {
            Self::Here => {
                let path = here::path(path);
                let file = here::off_thread("write", path.clone(), |path| {
                    std::fs::OpenOptions::new().write(true).open(path)
                })
                .await?;
                Ok(Sink::here(path, file))
            }
            Self::There(Machine { files, .. }) => {
                Ok(Sink::There(Box::new(files.write(path, OpenFlags::WRITE, None).await?)))
            }
        }
    }

    /// Gives a file another name, in the place of what has it now. Where a machine has no such step, what was there is moved aside first, so that there
    /// is a moment without it, but none with half of it.
    ///
    /// # Errors
    /// It cannot be renamed; what was there is there as it was.
    pub async fn rename_over(&self, old: &[u8], new: &[u8]) -> Result<(), FileFault> {
        let files = match self {
            Self::Here => {
                let new = here::path(new);
                return here::off_thread("rename", here::path(old), move |old| std::fs::rename(old, new))
                    .await;
            }
            Self::There(Machine { files, .. }) => files,
        };
        if files.has(Extension::PosixRename) {
            return Ok(files.rename_over(old, new).await?);
        }
        let refused = match files.rename(old, new).await {
            Ok(()) => return Ok(()),
            Err(error) if error.is_end() => return Err(error.into()),
            Err(refused) => refused,
        };
        if !matches!(files.look_at_link(new).await, Ok(there) if there.kind() != FileKind::Folder) {
            return Err(refused.into());
        }
        let aside = [old, b"-was"].concat();
        files.rename(new, &aside).await?;
        if let Err(error) = files.rename(old, new).await {
            // What cannot be put back either is told by the same refusal.
            let _ = files.rename(&aside, new).await;
            return Err(error.into());
        }
        Ok(files.remove(&aside).await?)
    }

    /// Gives a file another name, which must be free.
    ///
    /// # Errors
    /// It cannot be renamed.
    pub async fn rename(&self, old: &[u8], new: &[u8]) -> Result<(), FileFault> {
        match self {
            Self::Here => {
                let new = here::path(new);
                here::off_thread("rename", here::path(old), move |old| {
                    if new.symlink_metadata().is_ok() {
                        return Err(std::io::ErrorKind::AlreadyExists.into());
                    }
                    std::fs::rename(old, new)
                })
                .await
            }
            Self::There(Machine { files, .. }) => Ok(files.rename(old, new).await?),
        }
    }

    /// Removes a file or a link.
    ///
    /// # Errors
    /// It cannot be removed.
    pub async fn remove(&self, path: &[u8]) -> Result<(), FileFault> {
        match self {
            Self::Here => {
                here::off_thread("remove", here::path(path), |path| std::fs::remove_file(path)).await
            }
            Self::There(Machine { files, .. }) => Ok(files.remove(path).await?),
        }
    }

    /// Removes an empty folder.
    ///
    /// # Errors
    /// It cannot be removed.
    pub async fn remove_folder(&self, path: &[u8]) -> Result<(), FileFault> {
        match self {
            Self::Here => {
                here::off_thread("remove", here::path(path), |path| std::fs::remove_dir(path)).await
            }
            Self::There(Machine { files, .. }) => Ok(files.remove_folder(path).await?),
        }
    }

    /// Makes a folder. That one is there already is no error; that something else is, or a link to a folder, is one.
    ///
    /// # Errors
    /// It cannot be made.
    pub async fn make_folder(&self, path: &[u8], permissions: Option<u32>) -> Result<(), FileFault> {
        let made = match self {
            Self::Here => {
                here::off_thread("make the folder", here::path(path), move |path| {
                    use std::os::unix::fs::DirBuilderExt;
                    std::fs::DirBuilder::new().mode(permissions.unwrap_or(0o777)).create(path)
                })
                .await
            }
            Self::There(Machine { files, .. }) => {
                files.make_folder(path, permissions).await.map_err(FileFault::from)
            }
        };
        let Err(refused) = made else { return Ok(()) };
        if refused.is_end() {
            return Err(refused);
        }
        match self.look(path, false).await? {
            Some(there) if there.kind() == FileKind::Folder => Ok(()),
            _ => Err(refused),
        }
    }

    /// Where a link leads.
    ///
    /// # Errors
    /// It is none.
    pub async fn read_link(&self, path: &[u8]) -> Result<Vec<u8>, FileFault> {
        match self {
            Self::Here => {
                here::off_thread("read the link", here::path(path), |path| {
                    use std::os::unix::ffi::OsStringExt;
                    Ok(std::fs::read_link(path)?.into_os_string().into_vec())
                })
                .await
            }
            Self::There(Machine { files, .. }) => Ok(files.read_link(path).await?),
        }
    }

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// It cannot be made.
    pub async fn make_link(&self, link: &[u8], target: &[u8]) -> Result<(), FileFault> {
        match self {
            Self::Here => {
                let target = here::path(target);
                here::off_thread("make the link", here::path(link), move |link| {
                    std::os::unix::fs::symlink(target, link)
                })
                .await
            }
            Self::There(Machine { files, .. }) => Ok(files.make_link(link, target).await?),
        }
    }

    /// Changes what is known of a file; of a link itself with `link`.
    ///
    /// # Errors
    /// It cannot be changed.
    pub async fn change(&self, path: &[u8], attributes: Attributes, link: bool) -> Result<(), FileFault> {
        match self {
            Self::Here => {
                here::off_thread("change", here::path(path), move |path| here::change(path, attributes, link))
                    .await
            }
            Self::There(Machine { files, .. }) => Ok(files.change(path, attributes, link).await?),
        }
    }

    /// The absolute name of a path, with no links in it.
    ///
    /// # Errors
    /// There is none.
    pub async fn real_path(&self, path: &[u8]) -> Result<Vec<u8>, FileFault> {
        match self {
            Self::Here => {
                here::off_thread("resolve", here::path(path), |path| {
                    use std::os::unix::ffi::OsStringExt;
                    Ok(path.canonicalize()?.into_os_string().into_vec())
                })
                .await
            }
            Self::There(Machine { files, .. }) => {
                Ok(files.real_path(if path.is_empty() { b"." } else { path }).await?)
            }
        }
    }

    /// Bytes that may still be written where this folder is; none where that cannot be told.
    ///
    /// # Errors
    /// No answer.
    pub async fn space(&self, folder: &[u8]) -> Result<Option<u64>, FileFault> {
        let folder = if folder.is_empty() { &b"."[..] } else { folder };
        let space = match self {
            Self::Here => here::off_thread("measure the space at", here::path(folder), here::space).await,
            Self::There(Machine { files, .. }) => match files.space(folder).await {
                Ok(space) => Ok(space.available_bytes()),
                Err(error) => Err(error.into()),
            },
        };
        match space {
            Ok(space) => Ok(Some(space)),
            Err(fault) if fault.is_end() => Err(fault),
            Err(_) => Ok(None),
        }
    }
}
