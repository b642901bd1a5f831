//! What a simulated machine keeps between visits: the keys that may log in, and files.

use crate::MachineSpec;
use crate::system::LoginLists;
use crate::tree::{FilesOfUser, Tree};

/// What a machine keeps. Clones are the same things.
#[derive(Debug, Clone, Default)]
pub(crate) struct Holdings {
    /// The keys that may log in, as its users' files list them.
    pub(crate) logins: LoginLists,
    tree: Tree,
}

impl Holdings {
    pub(crate) fn new(spec: &MachineSpec) -> Self {
        let tree = Tree::new(&names(spec), spec.files.room);
        if spec.files.read_only {
            tree.forbid_writing();
        }
        Self { logins: LoginLists::new(&spec.users), tree }
    }

    pub(crate) fn open_files(&self) -> u32 {
        self.tree.open_files()
    }

    /// Its files, as this user sees them.
    pub(crate) fn files_of(&self, spec: &MachineSpec, user: &str) -> FilesOfUser {
        self.tree.of_user(user, &names(spec))
    }
}

fn names(spec: &MachineSpec) -> Vec<&str> {
    spec.users.iter().map(|user| user.name.as_str()).collect()
}
