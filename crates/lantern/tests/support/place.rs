//! A folder of a real SSH server, for what is copied there.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use super::Desk;
use super::sshd::{self, Sshd};

/// A desk, a server whose user is root, and a folder for what is copied there.
pub struct Place {
    pub desk: Desk,
    _server: Sshd,
    pub there: PathBuf,
}

impl Place {
    pub fn new(config: &str) -> Option<Self> {
        let desk = sshd::desk(&[("host", "ed25519")])?;
        let server = Sshd::start(&desk, "host", config);
        let address = format!("root@127.0.0.1:{}", server.port);
        desk.lantern(&["machine", "add", "lamp-01", &address, "--key", "harbour"]).expect(0);
        let fingerprint = desk.public_key("host").fingerprint().to_string();
        desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
        let there = desk.folder.path().join("there");
        fs::create_dir(&there).unwrap();
        Some(Self { desk, _server: server, there })
    }

    pub fn at(&self, path: &str) -> String {
        format!("lamp-01:{}", self.there.join(path).display())
    }

    pub fn here(&self, path: &str) -> PathBuf {
        self.desk.folder.path().join(path)
    }

    #[track_caller]
    pub fn is_tidy(&self) {
        let left = Command::new("find").arg(&self.there).args(["-name", "*lantern-part*"]).output().unwrap();
        assert!(left.stdout.is_empty(), "{}", String::from_utf8_lossy(&left.stdout));
    }
}

/// Both hold the same.
pub fn same(one: &Path, other: &Path) {
    let diff = Command::new("diff").args(["-r", "--no-dereference"]).args([one, other]).output().unwrap();
    assert!(diff.status.success(), "{}", String::from_utf8_lossy(&diff.stdout));
}
