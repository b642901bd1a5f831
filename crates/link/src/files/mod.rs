//! Files of a machine: asked for by name, read and written with as much under way as the line holds.
//!
//! A [`Files`] is a conversation with the machine's file service. A task moves its bytes; whoever asks something gets a future, which may be dropped at any
//! time: what it would have opened is closed again.

mod carrier;
mod driver;
mod error;
mod in_pieces;
mod listing;
mod open_file;
mod random_access;
mod reader;
mod shared;
mod writer;

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_ssh::SessionRequest;
use lantern_ssh::sftp::{
    Answer, Attributes, Extension, FileHandle, OpenFlags, SUBSYSTEM, SftpRequest, Space,
};
use lantern_winrm::file_helper;

use crate::Trunk;
use crate::program::{CommandWords, Program, Runs};
use crate::remote::Process;
use crate::winrm::{SessionOptions, WinrmRemote};

pub use error::FilesError;
pub use random_access::RandomAccess;
pub use reader::FileReader;
pub use writer::FileWriter;

use carrier::Carrier;
use in_pieces::InPieces;
use shared::{Owner, Shared, put};

/// Finds the file server of a machine, where its SSH server would run it, and becomes that.
pub const FILE_SERVER: &str = "for p in /usr/lib/openssh /usr/libexec/openssh /usr/libexec /usr/lib/ssh /usr/lib \
/usr/lib/misc /usr/local/libexec; do if [ -x $p/sftp-server ]; then exec $p/sftp-server; fi; done; \
echo there is no file server in the usual places >&2; exit 94";

/// Most bytes of a path that we send: what systems take is 4096.
const MAX_PATH: usize = 64 * 1024;

/// A conversation with a machine's file service. Clones are the same one; the last one that goes ends it.
#[derive(Debug, Clone)]
pub struct Files {
    owner: Arc<Owner>,
}

impl Files {
    /// Begins one, on a channel of its own.
    ///
    /// # Errors
    /// The machine has no such service, says something else, or nothing in time; no session.
    pub async fn begin(trunk: &Trunk) -> Result<Self, FilesError> {
        let channel = trunk.open_session().await?;
        // What it is asked first leaves with the request for it.
        let granted = channel.ask(&SessionRequest::Subsystem(SUBSYSTEM.to_owned()));
        let process = Process::of_channel(channel, trunk.machine());
        let files =
            Self::over(Carrier::Process(process), Bytes::new(), trunk.machine(), trunk.answer_limit());
        if !tokio::time::timeout(trunk.answer_limit(), granted)
            .await
            .map_err(|_| files.shared().unanswered("the start of the file service"))??
        {
            return Err(FilesError::NoService { machine: trunk.machine().to_owned() });
        }
        files.begun().await?;
        Ok(files)
    }

    /// Begins one with a process that is a file server.
    ///
    /// # Errors
    /// It says something else, or nothing in time.
    pub(crate) async fn of_process(process: Process, trunk: &Trunk) -> Result<Self, FilesError> {
        let files =
            Self::over(Carrier::Process(process), Bytes::new(), trunk.machine(), trunk.answer_limit());
        files.begun().await?;
        Ok(files)
    }

    /// Begins one with a machine of Windows, which gets the file service that we bring along: as a command, and where the machine lets nobody run commands,
    /// in a session of PowerShell.
    ///
    /// # Errors
    /// The machine takes neither; it cannot compile it; nothing in time.
    pub(crate) async fn of_windows(remote: &WinrmRemote) -> Result<Self, FilesError> {
        let refused = match Self::as_command(remote).await {
            Err(error) if error.is_no_command() => error,
            begun => return begun,
        };
        match Self::in_session(remote).await {
            // What the machine says of commands is what its administrator set.
            Err(_) => Err(refused),
            begun => begun,
        }
    }

    async fn as_command(remote: &WinrmRemote) -> Result<Self, FilesError> {
        let words = file_helper::command().into_iter().map(Bytes::from).collect();
        let words = CommandWords { words, each_as_is: true, by_interpreter: false };
        let command = remote.start(&Program::alone(Runs::Command(words))).await?;
        let process = Process::of_command(command);
        // It reads what it is to be first.
        let text = Bytes::from(file_helper::text());
        let files = Self::over(Carrier::Command(process), text, remote.machine(), remote.answer_limit());
        files.begun().await?;
        Ok(files)
    }

    async fn in_session(remote: &WinrmRemote) -> Result<Self, FilesError> {
        let session = remote.session(SessionOptions::default()).await?;
        let carrier = Carrier::Session(InPieces::begin(session).await?);
        let files = Self::over(carrier, Bytes::new(), remote.machine(), remote.answer_limit());
        files.begun().await?;
        Ok(files)
    }

    /// A conversation that something carries, which says this first.
    fn over(carrier: Carrier, first: Bytes, machine: &str, patience: Duration) -> Self {
        let shared = Arc::new(Shared::new(machine, patience));
        tokio::spawn(driver::drive(shared.clone(), carrier, first));
        Self { owner: Arc::new(Owner(shared)) }
    }

    /// Waits until the service has said what it is.
    async fn begun(&self) -> Result<(), FilesError> {
        self.shared().begun().await?;
        if self.has(Extension::Limits) {
            // It is known by the time that it counts.
            self.shared().ask_limits();
        }
        Ok(())
    }

    fn shared(&self) -> &Arc<Shared> {
        &self.owner.0
    }

    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        &self.shared().machine
    }

    /// Whether its service can do this.
    pub fn has(&self, extension: Extension) -> bool {
        self.shared().lock().client.extensions().is_some_and(|extensions| extensions.has(extension))
    }

    /// Whether nothing can be asked any more.
    pub fn is_over(&self) -> bool {
        self.shared().lock().ended.is_some()
    }

    /// How many files may be open at once; 0 where the machine does not say.
    pub fn most_open(&self) -> u64 {
        self.shared().lock().limits.handles
    }

    /// Asks, and waits for the answer.
    async fn ask(&self, what: &'static str, path: &[u8], request: SftpRequest) -> Result<Answer, FilesError> {
        if path.len() > MAX_PATH {
            return Err(FilesError::PathTooLong { machine: self.machine().to_owned() });
        }
        if let Some(extension) = request.extension()
            && !self.has(extension)
        {
            return Err(FilesError::CannotDo { machine: self.machine().to_owned(), what });
        }
        put(self.shared(), &request).await?.map_err(|refusal| self.refused(what, path, refusal))
    }

    fn refused(&self, what: &'static str, path: &[u8], refusal: lantern_ssh::sftp::Refusal) -> FilesError {
        FilesError::Refused { machine: self.machine().to_owned(), what, path: path.to_vec(), refusal }
    }

    /// An answer that does not fit its question never comes from the protocol machine.
    fn misfit(&self) -> FilesError {
        FilesError::Ended { machine: self.machine().to_owned(), said: String::new() }
    }

    async fn attributes(&self, path: &[u8], request: SftpRequest) -> Result<Attributes, FilesError> {
        match self.ask("look at", path, request).await? {
            Answer::Attributes(attributes) => Ok(attributes),
            _ => Err(self.misfit()),
        }
    }

    /// What is known of a file, behind links.
    ///
    /// # Errors
    /// It is not there; it may not be looked at; no answer.
    pub async fn look(&self, path: &[u8]) -> Result<Attributes, FilesError> {
        self.attributes(path, SftpRequest::Stat(path.to_vec())).await
    }

    /// What is known of a file, or of a link itself.
    ///
    /// # Errors
    /// As [`Self::look`].
    pub async fn look_at_link(&self, path: &[u8]) -> Result<Attributes, FilesError> {
        self.attributes(path, SftpRequest::LinkStat(path.to_vec())).await
    }

    async fn one_name(
        &self,
        what: &'static str,
        path: &[u8],
        request: SftpRequest,
    ) -> Result<Vec<u8>, FilesError> {
        match self.ask(what, path, request).await? {
            Answer::Names(mut names) if names.len() == 1 => Ok(names.swap_remove(0).name),
            _ => Err(FilesError::Names { machine: self.machine().to_owned(), path: path.to_vec() }),
        }
    }

    /// The absolute name of a path; one that is relative begins in the user's home, and so does one with `~/` in front.
    ///
    /// # Errors
    /// The machine does not say.
    pub async fn real_path(&self, path: &[u8]) -> Result<Vec<u8>, FilesError> {
        let (path, request) = match path {
            [b'~', rest @ ..] if self.has(Extension::ExpandPath) => {
                let _ = rest;
                (path, SftpRequest::ExpandPath(path.to_vec()))
            }
            b"~" => (&b"."[..], SftpRequest::RealPath(b".".to_vec())),
            [b'~', b'/', rest @ ..] => (rest, SftpRequest::RealPath(rest.to_vec())),
            _ => (path, SftpRequest::RealPath(path.to_vec())),
        };
        self.one_name("resolve", path, request).await
    }

    /// Where a link leads.
    ///
    /// # Errors
    /// It is none, or not there.
    pub async fn read_link(&self, path: &[u8]) -> Result<Vec<u8>, FilesError> {
        self.one_name("read the link", path, SftpRequest::ReadLink(path.to_vec())).await
    }

    async fn done(&self, what: &'static str, path: &[u8], request: SftpRequest) -> Result<(), FilesError> {
        self.ask(what, path, request).await.map(drop)
    }

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn make_link(&self, link: &[u8], target: &[u8]) -> Result<(), FilesError> {
        let request = SftpRequest::MakeLink { link: link.to_vec(), target: target.to_vec() };
        self.done("make the link", link, request).await
    }

    /// Makes a folder.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn make_folder(&self, path: &[u8], permissions: Option<u32>) -> Result<(), FilesError> {
        let attributes = Attributes { mode: permissions, ..Attributes::default() };
        self.done("make the folder", path, SftpRequest::MakeFolder(path.to_vec(), attributes)).await
    }

    /// Removes a file or a link.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn remove(&self, path: &[u8]) -> Result<(), FilesError> {
        self.done("remove", path, SftpRequest::Remove(path.to_vec())).await
    }

    /// Removes an empty folder.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn remove_folder(&self, path: &[u8]) -> Result<(), FilesError> {
        self.done("remove the folder", path, SftpRequest::RemoveFolder(path.to_vec())).await
    }

    /// Gives a file another name, which must be free.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn rename(&self, old: &[u8], new: &[u8]) -> Result<(), FilesError> {
        let request = SftpRequest::Rename { old: old.to_vec(), new: new.to_vec() };
        self.done("rename", old, request).await
    }

    /// Gives a file another name, in the place of what has it now, in one step.
    ///
    /// # Errors
    /// The machine's refusal; [`FilesError::CannotDo`] where the service has no such step.
    pub async fn rename_over(&self, old: &[u8], new: &[u8]) -> Result<(), FilesError> {
        let request = SftpRequest::RenameOver { old: old.to_vec(), new: new.to_vec() };
        self.done("rename", old, request).await
    }

    /// Changes what is known of a file; of a link itself with `link`.
    ///
    /// # Errors
    /// The machine's refusal; [`FilesError::CannotDo`] for links where the service has no such step.
    pub async fn change(&self, path: &[u8], attributes: Attributes, link: bool) -> Result<(), FilesError> {
        let request = match link {
            true => SftpRequest::LinkSetStat(path.to_vec(), attributes),
            false => SftpRequest::SetStat(path.to_vec(), attributes),
        };
        self.done("change", path, request).await
    }

    /// How much room there is where a file is.
    ///
    /// # Errors
    /// The machine's refusal; [`FilesError::CannotDo`].
    pub async fn space(&self, path: &[u8]) -> Result<Space, FilesError> {
        match self.ask("measure the space at", path, SftpRequest::Space(path.to_vec())).await? {
            Answer::Space(space) => Ok(space),
            _ => Err(self.misfit()),
        }
    }

    /// What a file holds, or so many of its first bytes, by SHA-256 that the machine computes.
    ///
    /// # Errors
    /// The machine's refusal; [`FilesError::CannotDo`].
    pub async fn digest(&self, path: &[u8], len: u64) -> Result<[u8; 32], FilesError> {
        let request = SftpRequest::Digest { path: path.to_vec(), offset: 0, len };
        match self.ask("compute a digest of", path, request).await? {
            Answer::Digest(digest) => Ok(digest),
            _ => Err(self.misfit()),
        }
    }

    async fn open(
        &self,
        what: &'static str,
        path: &[u8],
        flags: OpenFlags,
        attributes: Attributes,
    ) -> Result<FileHandle, FilesError> {
        let request = SftpRequest::Open { path: path.to_vec(), flags, attributes };
        match self.ask(what, path, request).await? {
            Answer::Opened(handle) => Ok(handle),
            _ => Err(self.misfit()),
        }
    }

    /// Gives a file a second name.
    ///
    /// # Errors
    /// The machine's refusal; [`FilesError::CannotDo`].
    pub async fn hard_link(&self, old: &[u8], new: &[u8]) -> Result<(), FilesError> {
        let request = SftpRequest::HardLink { old: old.to_vec(), new: new.to_vec() };
        self.done("give a second name to", old, request).await
    }

    /// How long the machine may take for an answer.
    pub fn answer_limit(&self) -> Duration {
        self.shared().patience
    }
}
