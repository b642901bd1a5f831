//! The real SSH server of Debian's openssh-server, on loopback, with host keys that lantern made.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};
use std::{env, thread};

use super::{Desk, PATIENCE};

const SERVER: &str = "/usr/sbin/sshd";
/// A throw-away user with a password, made once.
pub const USER: &str = "lampkeeper";
pub const PASSWORD: &str = "brass and glass";

/// A running server; ends when dropped.
pub struct Sshd {
    child: Child,
    pub port: u16,
    /// One-off destination.
    pub address: String,
}

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether the real server can be used here. Without root, or without the package, tests that need it are skipped
/// loudly; in CI that is a failure.
pub fn available() -> bool {
    let root = rustix::process::geteuid().is_root();
    if Path::new(SERVER).exists() && root {
        return true;
    }
    let why = if root { "/usr/sbin/sshd is not installed" } else { "not root" };
    assert!(env::var_os("CI").is_none(), "the real SSH server is needed in CI: {why}");
    eprintln!("\n*** SKIPPED: a test against the real SSH server ({why}); run ./test.sh as root ***\n");
    false
}

/// Makes the throw-away user, once for all tests of a process; other processes may do the same.
pub fn make_user() {
    make_user_named(USER);
}

/// The same under another name, for a test that changes the user's files.
pub fn make_user_named(name: &str) {
    let known = Command::new("id").arg(name).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    if !known.success() {
        let _ = Command::new("useradd")
            .args(["--create-home", "--shell", "/bin/bash", name])
            .stderr(Stdio::null())
            .status();
    }
    let mut child = Command::new("chpasswd").stdin(Stdio::piped()).spawn().unwrap();
    use std::io::Write;
    child.stdin.take().unwrap().write_all(format!("{name}:{PASSWORD}\n").as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    // Whoever logs in gets a shell at once, without a message of the day.
    let _ = fs::write(format!("/home/{name}/.hushlogin"), "");
    let _ = fs::write(format!("/home/{name}/.bashrc"), "PS1='ready> '\n");
}

/// A port that nothing listens on, below those that the system hands out to connections: one of those could be taken
/// again before the server has it.
fn free_port() -> u16 {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = 20_000 + (std::process::id() % 100) as u16 * 100;
    loop {
        let port = first + NEXT.fetch_add(1, Ordering::Relaxed);
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A desk with a user's key and these host keys, by name and algorithm; none where there is no server to test against.
pub fn desk(host_keys: &[(&str, &str)]) -> Option<Desk> {
    if !available() {
        return None;
    }
    make_user();
    let desk = Desk::with_key();
    for (name, algorithm) in host_keys {
        desk.lantern(&["key", "new", name, "--algorithm", algorithm, "--plain"]).expect(0);
    }
    Some(desk)
}

/// A machine `lamp-01` that is trusted and reached by a key that the keeper holds; `config` has lines for the server, `more` words for the book.
pub fn with_keeper(config: &str, more: &[&str]) -> Option<(Desk, Sshd, String)> {
    if !available() {
        return None;
    }
    make_user();
    let desk = Desk::new();
    let secret = "twelve green lamps";
    desk.with_secrets(&["key", "new", "harbour", "--passphrase-from", "fd:3"], secret, "").expect(0);
    desk.lantern(&["key", "new", "host", "--plain"]).expect(0);
    let server = Sshd::start(&desk, "host", config);
    desk.lantern(&[&["machine", "add", "lamp-01", &server.address], more].concat()).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    desk.with_secrets(&["keeper", "add", "harbour", "--passphrase-from", "fd:3"], secret, "").expect(0);
    Some((desk, server, fingerprint))
}

impl Sshd {
    /// Starts a server whose only host key is `host_key` of the desk's ring and which lets in the desk's key
    /// `harbour`; `config` has further lines.
    pub fn start(desk: &Desk, host_key: &str, config: &str) -> Self {
        Self::start_with_keys(desk, &[host_key], config)
    }

    /// The same with several host keys, in this order, as real servers have them.
    pub fn start_with_keys(desk: &Desk, host_keys: &[&str], config: &str) -> Self {
        let _ = fs::create_dir_all("/run/sshd");
        let port = free_port();
        let folder = desk.folder.path().join(format!("sshd-{port}"));
        fs::create_dir(&folder).unwrap();
        let keys = folder.join("authorized");
        fs::write(&keys, desk.lantern(&["key", "show", "harbour", "--line"]).expect(0).out).unwrap();
        let file = folder.join("config");
        let host_keys: String = host_keys
            .iter()
            .map(|name| format!("HostKey {}\n", desk.home().join(format!("keys/{name}.key")).display()))
            .collect();
        // The first value of a keyword counts, so the test's own come first; of this one the last.
        let startups = if config.contains("MaxStartups") { "" } else { "MaxStartups 100" };
        let text = format!(
            "{config}\nPort {port}\nListenAddress 127.0.0.1\n{host_keys}AuthorizedKeysFile {}\nStrictModes no\nUsePAM yes\nPidFile none\nPrintMotd no\nPermitRootLogin yes\n{startups}\nAcceptEnv LANG\nLogLevel ERROR\n",
            keys.display(),
        );
        fs::write(&file, text).unwrap();
        let log = fs::File::create(folder.join("log")).unwrap();
        let child = Command::new(SERVER)
            .args(["-D", "-e", "-f"])
            .arg(&file)
            .stdin(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap();
        let mut server = Self { child, port, address: format!("{USER}@127.0.0.1:{port}") };
        let start = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
            let ended = server.child.try_wait().unwrap();
            assert!(ended.is_none() && start.elapsed() < PATIENCE, "the server does not start: {log}");
            thread::sleep(Duration::from_millis(20));
        }
        server
    }

    /// Names that the server offers for a setting, by its own account.
    pub fn offers(desk: &Desk, setting: &str) -> Vec<String> {
        let _ = fs::create_dir_all("/run/sshd");
        let host_key = desk.home().join("keys/host.key");
        let file = desk.folder.path().join("probe");
        fs::write(&file, format!("HostKey {}\n", host_key.display())).unwrap();
        let output = Command::new(SERVER).args(["-T", "-f"]).arg(file).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let line = text.lines().find_map(|line| line.strip_prefix(&format!("{setting} "))).unwrap();
        line.split(',').map(str::to_owned).collect()
    }
}

impl Sshd {
    /// Ends all connections, as a network does that breaks.
    pub fn drop_connections(&self) {
        let parent = self.child.id().to_string();
        let listed = Command::new("pgrep").args(["-P", &parent]).output().unwrap();
        for pid in String::from_utf8_lossy(&listed.stdout).lines() {
            let _ = Command::new("pkill").args(["-KILL", "-P", pid]).status();
            let _ = Command::new("kill").args(["-KILL", pid]).status();
        }
    }
}
