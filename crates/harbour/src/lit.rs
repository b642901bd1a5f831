//! A machine that listens, and what can be asked of it from outside.

use std::net::SocketAddr;
use std::sync::Arc;

use lantern_ssh::sftp::{Attributes, FileStore};

use crate::MachineSpec;
use crate::holdings::Holdings;

/// One machine that listens.
#[derive(Debug, Clone)]
pub struct LitMachine {
    /// What it is.
    pub spec: Arc<MachineSpec>,
    /// Where it listens.
    pub address: SocketAddr,
    pub(crate) holdings: Holdings,
}

impl LitMachine {
    /// The list of keys that may log in as this user, as it is now.
    pub fn logins(&self, user: &str) -> Vec<u8> {
        self.holdings.logins.read(user)
    }

    /// What a file of a user holds, by its path, which may be relative to the user's home.
    pub fn file(&self, user: &str, path: &str) -> Option<Vec<u8>> {
        self.holdings.files_of(&self.spec, user).whole(path.as_bytes())
    }

    /// Writes a file, as the user does it.
    pub fn put_file(&self, user: &str, path: &str, content: &[u8]) {
        self.holdings.files_of(&self.spec, user).put_file(path.as_bytes(), content, 0o644);
    }

    /// Changes what is known of a file, as far as the user may.
    pub fn change(&self, user: &str, path: &str, attributes: Attributes) {
        let _ = self.holdings.files_of(&self.spec, user).change(path.as_bytes(), true, attributes);
    }

    /// The names in a folder.
    pub fn names(&self, user: &str, path: &str) -> Vec<String> {
        self.holdings.files_of(&self.spec, user).names(path.as_bytes())
    }

    /// How many files visitors have open.
    pub fn open_files(&self) -> u32 {
        self.holdings.open_files()
    }

    /// What is known of a file, and not of what a link leads to.
    pub fn look(&self, user: &str, path: &str) -> Option<Attributes> {
        self.holdings.files_of(&self.spec, user).look(path.as_bytes(), false).ok()
    }

    /// Writes that list anew.
    pub(crate) fn put_logins(&self, user: &str, list: Vec<u8>) {
        self.holdings.logins.put(user, list);
    }
}
