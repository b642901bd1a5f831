//! The files of a simulated machine: a tree in memory, shared by all its sessions.

mod content;
mod sample;
mod store;
mod walk;

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};

use lantern_ssh::sftp::{Attributes, FileKind, FileNumber, Refusal, StatusCode, StoreResult};

pub use sample::FILES;
pub(crate) use store::FilesOfUser;

use content::Content;

/// The number of the root.
const ROOT: FileNumber = 1;
/// The user number of root.
const ROOT_USER: u32 = 0;
/// The user number of the first user.
const FIRST_USER: u32 = 1000;

/// A file, whatever its names are.
#[derive(Debug, Clone)]
struct Node {
    content: Content,
    permissions: u32,
    owner: (u32, u32),
    times: (u32, u32),
    /// Names that it has.
    names: u32,
    /// Handles that are open.
    open: u32,
}

impl Node {
    fn attributes(&self) -> Attributes {
        Attributes {
            size: Some(self.content.len()),
            owner: Some(self.owner),
            mode: Some(self.content.kind().mode_bits() | self.permissions),
            times: Some(self.times),
        }
    }

    fn kind(&self) -> FileKind {
        self.content.kind()
    }
}

/// All files of a machine.
#[derive(Debug)]
struct Nodes {
    by_number: HashMap<FileNumber, Node>,
    next: FileNumber,
    /// Bytes that files may have together.
    room: u64,
    used: u64,
    /// Whether nothing can be written.
    read_only: bool,
    /// Whether it is a machine of Windows: drives at the top, names that it does not have, and no modes.
    has_drives: bool,
}

impl Nodes {
    /// Whether a file may have that name.
    fn may_be_called(&self, name: &[u8]) -> StoreResult<()> {
        match self.has_drives && name.iter().any(|byte| *byte < 32 || b"\\:*?\"<>|".contains(byte)) {
            true => refuse(StatusCode::Failure, "Windows has no names with that character in them"),
            false => Ok(()),
        }
    }

    /// What is known of a file. Where there are no modes, they tell what kind it is.
    fn known(&self, file: FileNumber) -> StoreResult<Attributes> {
        let node = self.node(file)?;
        let known = node.attributes();
        let usual = if node.kind() == FileKind::Folder { 0o755 } else { 0o644 };
        Ok(match self.has_drives {
            true => Attributes { owner: None, mode: Some(node.kind().mode_bits() | usual), ..known },
            false => known,
        })
    }
}

/// The files of a machine. Clones are the same ones.
#[derive(Debug, Clone)]
pub(crate) struct Tree(Arc<Mutex<Nodes>>);

impl Default for Tree {
    fn default() -> Self {
        Self::new(&[], u64::MAX)
    }
}

impl Tree {
    /// The files of a machine with these users, and room for so many bytes.
    pub(crate) fn new(users: &[&str], room: u64) -> Self {
        let tree = Self::bare(room);
        tree.furnish(users);
        tree
    }

    /// The files of a machine of Windows with these users.
    pub(crate) fn with_drives(users: &[&str], room: u64) -> Self {
        let tree = Self::bare(room);
        let mut root = FilesOfUser::new(tree.clone(), ROOT_USER, b"/".to_vec());
        for folder in [&b"/C:"[..], b"/C:/Users", b"/C:/logs", b"/D:"] {
            root.put_folder(folder, 0o777);
        }
        root.put_file(b"/C:/logs/tide-01.log", sample::FILES[1].1.as_bytes(), 0o666);
        for user in users {
            let home = drive_home(user);
            root.put_folder(&home, 0o777);
            for (name, text) in sample::FILES {
                root.put_file(&[&home[..], b"/", name.as_bytes()].concat(), text.as_bytes(), 0o666);
            }
        }
        tree.lock().has_drives = true;
        tree
    }

    /// The files of such a machine as a user sees them.
    pub(crate) fn of_windows_user(&self, user: &str) -> FilesOfUser {
        FilesOfUser::new(self.clone(), ROOT_USER, drive_home(user))
    }

    fn bare(room: u64) -> Self {
        let root = Node {
            content: Content::Folder(Default::default()),
            permissions: 0o755,
            owner: (ROOT_USER, ROOT_USER),
            times: (now(), now()),
            names: 1,
            open: 0,
        };
        let nodes = Nodes {
            by_number: HashMap::from([(ROOT, root)]),
            next: ROOT + 1,
            room,
            used: 0,
            read_only: false,
            has_drives: false,
        };
        Self(Arc::new(Mutex::new(nodes)))
    }

    fn lock(&self) -> MutexGuard<'_, Nodes> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The files as a user of the machine sees them; users that it does not know are its guests.
    pub(crate) fn of_user(&self, user: &str, users: &[&str]) -> FilesOfUser {
        let number = match user {
            "root" => ROOT_USER,
            _ => users
                .iter()
                .position(|known| *known == user)
                .map_or(FIRST_USER + 1000, |at| FIRST_USER + at as u32),
        };
        FilesOfUser::new(self.clone(), number, home_of(user))
    }

    /// Handles that are open.
    pub(crate) fn open_files(&self) -> u32 {
        self.lock().by_number.values().map(|node| node.open).sum()
    }

    /// Nothing is written from now on.
    pub(crate) fn forbid_writing(&self) {
        self.lock().read_only = true;
    }

    /// What every such machine has.
    fn furnish(&self, users: &[&str]) {
        let mut root = FilesOfUser::new(self.clone(), ROOT_USER, b"/root".to_vec());
        for (folder, permissions) in [
            (&b"/root"[..], 0o700),
            (b"/home", 0o755),
            (b"/etc", 0o755),
            (b"/etc/lamp", 0o755),
            (b"/srv", 0o777),
            (b"/tmp", 0o1777),
            (b"/var", 0o755),
            (b"/var/log", 0o755),
        ] {
            root.put_folder(folder, permissions);
        }
        root.put_file(b"/etc/lamp/lamp.conf", sample::FILES[0].1.as_bytes(), 0o644);
        root.put_file(b"/etc/lamp/secret.key", b"not for everybody\n", 0o600);
        root.put_file(b"/var/log/lamp.log", sample::FILES[1].1.as_bytes(), 0o644);
        for user in users {
            let home = home_of(user);
            root.put_folder(&home, 0o755);
            root.give(&home, self.of_user(user, users).number());
            let mut files = self.of_user(user, users);
            for (name, text) in sample::FILES {
                files.put_file(&[&home[..], b"/", name.as_bytes()].concat(), text.as_bytes(), 0o644);
            }
        }
    }
}

fn drive_home(user: &str) -> Vec<u8> {
    [b"/C:/Users/", user.as_bytes()].concat()
}

fn home_of(user: &str) -> Vec<u8> {
    match user {
        "root" => b"/root".to_vec(),
        _ => [b"/home/", user.as_bytes()].concat(),
    }
}

/// Seconds since 1970.
fn now() -> u32 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u32::try_from(since.as_secs()).unwrap_or(u32::MAX)
}

fn refuse<T>(code: StatusCode, message: &str) -> Result<T, Refusal> {
    Err(Refusal { code, message: message.to_owned() })
}
