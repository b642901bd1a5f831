//! What the tests of the program share: a home of their own, the built binary, a pseudo-terminal, simulated machines.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

pub mod certificates;
pub mod coast;
pub mod console;
pub mod display;
pub mod fit;
pub mod fleet;
pub mod keeping;
pub mod line;
mod noise;
pub mod place;
#[path = "../../../kerberos/tests/realm/mod.rs"]
pub mod realm;
pub mod sshd;
pub mod windows;

use std::io::{Read, Write};
use std::net::SocketAddr;
use std::num::NonZero;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

#[allow(unused_imports)] // As above.
pub use noise::noise;

use lantern_harbour::{Harbour, MachineSpec, UserSpec};
use lantern_keys::{PublicKey, public_line};

/// Longest wait for anything in a test: a loaded machine is slow, not broken.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// A folder with a home in it, and the binary that works on it.
pub struct Desk {
    pub folder: tempfile::TempDir,
}

/// What a finished command left behind.
#[derive(Debug)]
pub struct Outcome {
    pub status: i32,
    pub out: Vec<u8>,
    pub err: String,
}

impl Outcome {
    pub fn text(&self) -> &str {
        std::str::from_utf8(&self.out).unwrap()
    }

    #[track_caller]
    pub fn expect(self, status: i32) -> Self {
        assert_eq!(self.status, status, "out: {}\nerr: {}", String::from_utf8_lossy(&self.out), self.err);
        self
    }
}

impl From<Output> for Outcome {
    fn from(output: Output) -> Self {
        use std::os::unix::process::ExitStatusExt;
        let status = output.status.code().unwrap_or_else(|| -output.status.signal().unwrap_or(0));
        Self { status, out: output.stdout, err: String::from_utf8_lossy(&output.stderr).into_owned() }
    }
}

/// Copies the program, by another process: a descriptor of ours that it is written by would be open in whatever another test starts meanwhile, and what is
/// open for writing cannot be run.
pub fn copy_program(to: &std::path::Path) {
    assert!(Command::new("cp").arg(binary()).arg(to).status().unwrap().success());
}

pub fn binary() -> &'static str {
    env!("CARGO_BIN_EXE_lantern")
}

impl Desk {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        // The real server reads authorized keys as the user that logs in.
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        Self { folder }
    }

    /// A desk whose ring has the key `harbour`.
    pub fn with_key() -> Self {
        let desk = Self::new();
        desk.lantern(&["key", "new", "harbour", "--plain"]).expect(0);
        desk
    }

    pub fn home(&self) -> PathBuf {
        self.folder.path().join("home")
    }

    pub fn public_key(&self, name: &str) -> PublicKey {
        let line = self.lantern(&["key", "show", name, "--line"]).expect(0);
        public_line::parse(line.text()).unwrap().0
    }

    /// The binary with a clean environment, this home, and no terminal.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(binary());
        command
            .args(words)
            .env_clear()
            .env("LANTERN_HOME", self.home())
            .env("USER", "keeper")
            // Whatever realm this computer is in.
            .env("KRB5_CONFIG", "/nonexistent/krb5.conf")
            .env("LANG", "C.UTF-8");
        command
            .current_dir(self.folder.path())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        command
    }

    /// The same in a session without a terminal, even when a person runs the tests at one.
    pub fn without_terminal(&self, words: &[&str]) -> Outcome {
        self.behind(Command::new("setsid").arg("--wait").arg(binary()).args(words))
    }

    /// The same behind a shell that has set a limit before.
    pub fn limited(&self, limit: &str, words: &[&str]) -> Outcome {
        let script = format!("{limit}; exec \"$0\" \"$@\"");
        self.behind(Command::new("sh").args(["-c", &script]).arg(binary()).args(words))
    }

    fn behind(&self, command: &mut Command) -> Outcome {
        command.env_clear().current_dir(self.folder.path()).stdin(Stdio::null());
        let plain = self.command(&[]);
        command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.output().unwrap().into()
    }

    pub fn lantern(&self, words: &[&str]) -> Outcome {
        self.command(words).output().unwrap().into()
    }

    /// With bytes for standard input; output is collected meanwhile.
    pub fn lantern_with_input(&self, words: &[&str], input: Vec<u8>) -> Outcome {
        let mut child = self.command(words).stdin(Stdio::piped()).spawn().unwrap();
        let mut stdin = child.stdin.take().unwrap();
        let writer = thread::spawn(move || {
            let _ = stdin.write_all(&input);
        });
        let output = child.wait_with_output().unwrap();
        writer.join().unwrap();
        output.into()
    }

    /// The same words with the first secret on file descriptor 3 and the second on 4.
    pub fn with_secrets(&self, words: &[&str], first: &str, second: &str) -> Outcome {
        std::fs::write(self.folder.path().join("first"), first).unwrap();
        std::fs::write(self.folder.path().join("second"), second).unwrap();
        let words: Vec<String> = words.iter().map(|word| format!("'{word}'")).collect();
        let script = format!("exec {} {} 3<first 4<second", binary(), words.join(" "));
        let plain = self.command(&[]);
        let mut command = Command::new("sh");
        command.arg("-c").arg(script).env_clear().current_dir(self.folder.path());
        command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.stdin(Stdio::null()).output().unwrap().into()
    }

    /// Adds a machine and trusts its key.
    pub fn add(&self, lit: &Lit) {
        let address = format!("keeper@{}", lit.address);
        self.lantern(&["machine", "add", &lit.name, &address]).expect(0);
        self.lantern(&["trust", "accept", &lit.name, "--expect", &lit.fingerprint]).expect(0);
    }
}

/// One simulated machine; it is lit as long as anything of its harbour is held.
pub struct Lit {
    pub name: String,
    pub address: SocketAddr,
    pub fingerprint: String,
    pub lit: lantern_harbour::LitMachine,
    _light: Arc<Light>,
}

/// A thread with a runtime, until it is dropped.
pub struct Light {
    stop: Option<tokio::sync::oneshot::Sender<()>>,
}

impl Drop for Light {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
    }
}

/// Starts something in a thread of its own, and keeps it until the light is dropped; what `tell` says of it.
pub fn kindle<T, U, F>(make: impl FnOnce() -> F + Send + 'static, tell: fn(&T) -> U) -> (U, Light)
where
    F: Future<Output = std::io::Result<T>>,
    T: 'static,
    U: Send + 'static,
{
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let (sender, receiver) = mpsc::channel();
    thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let made = make().await.unwrap();
            sender.send(tell(&made)).unwrap();
            let _ = stopped.await;
        });
    });
    (receiver.recv_timeout(PATIENCE).unwrap(), Light { stop: Some(stop) })
}

/// Lights a machine.
pub fn light(spec: MachineSpec) -> Lit {
    light_all(vec![spec]).pop().unwrap()
}

/// Lights machines that know each other.
pub fn light_all(specs: Vec<MachineSpec>) -> Vec<Lit> {
    let (machines, light) =
        kindle(move || Harbour::light(specs), |harbour: &Harbour| harbour.machines().to_vec());
    let light = Arc::new(light);
    let lit = |machine: lantern_harbour::LitMachine| Lit {
        name: machine.spec.name.clone(),
        address: machine.address,
        fingerprint: machine.spec.host_keys[0].public().fingerprint().to_string(),
        lit: machine,
        _light: light.clone(),
    };
    machines.into_iter().map(lit).collect()
}

/// A machine that lets the keeper in with this key, or with the password "low visibility".
pub fn machine(name: &str, key: &PublicKey) -> MachineSpec {
    let keeper = UserSpec::new("keeper", Some("low visibility"), vec![key.clone()]);
    MachineSpec { users: vec![keeper], ..MachineSpec::new(name, 1).unwrap() }
}

/// The binary under a pseudo-terminal, with the screen that a person would see.
pub struct Screen {
    pub child: Child,
    pty: Arc<pty_process::blocking::Pty>,
    parser: Arc<Mutex<vt100::Parser>>,
    pub raw: Arc<Mutex<Vec<u8>>>,
    reading: thread::JoinHandle<()>,
}

impl Screen {
    pub fn open(desk: &Desk, words: &[&str]) -> Self {
        Self::open_program(desk, binary(), words)
    }

    pub fn open_program(desk: &Desk, program: &str, words: &[&str]) -> Self {
        // Whatever realm this computer is in.
        Self::open_with(desk, program, words, &[("KRB5_CONFIG", "/nonexistent/krb5.conf")])
    }

    pub fn open_with(desk: &Desk, program: &str, words: &[&str], variables: &[(&str, &str)]) -> Self {
        let (pty, pts) = pty_process::blocking::open().unwrap();
        pty.resize(pty_process::Size::new(24, 100)).unwrap();
        let child = pty_process::blocking::Command::new(program)
            .args(words)
            .env_clear()
            .env("LANTERN_HOME", desk.home())
            .env("USER", "keeper")
            .env("TERM", "xterm-256color")
            .env("LANG", "C.UTF-8")
            .env("PATH", "/usr/bin:/bin")
            .env("NO_COLOR", "1")
            .envs(variables.iter().copied())
            .current_dir(desk.folder.path())
            .spawn(pts)
            .unwrap();
        let pty = Arc::new(pty);
        let parser = Arc::new(Mutex::new(vt100::Parser::new(side(24), side(100), 0)));
        let raw = Arc::new(Mutex::new(Vec::new()));
        let (reader, screen, copy) = (pty.clone(), parser.clone(), raw.clone());
        let reading = thread::spawn(move || {
            let mut buffer = [0; 65536];
            while let Ok(len) = (&*reader).read(&mut buffer) {
                // The copy first: whoever waits for the screen looks at it next.
                copy.lock().unwrap().extend_from_slice(&buffer[..len]);
                screen.lock().unwrap().process(&buffer[..len]);
                if len == 0 {
                    break;
                }
            }
        });
        Self { child, pty, parser, raw, reading }
    }

    pub fn text(&self) -> String {
        self.parser.lock().unwrap().screen().contents()
    }

    #[track_caller]
    pub fn wait_for(&self, wanted: &str) -> String {
        self.wait_until(wanted, |text| text.contains(wanted))
    }

    #[track_caller]
    pub fn wait_until(&self, what: &str, found: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            let text = self.text();
            if found(&text) {
                return text;
            }
            assert!(start.elapsed() < PATIENCE, "waited in vain for {what:?}; the screen shows:\n{text}");
            thread::sleep(Duration::from_millis(20));
        }
    }

    pub fn send(&self, text: &str) {
        (&*self.pty).write_all(text.as_bytes()).unwrap();
    }

    pub fn resize(&self, rows: u16, columns: u16) {
        self.parser.lock().unwrap().screen_mut().set_size(side(rows), side(columns));
        self.pty.resize(pty_process::Size::new(rows, columns)).unwrap();
    }

    /// Waits until nothing more comes: all of it was read, or what still holds the terminal says nothing.
    fn settle(&self) {
        let len = || self.raw.lock().unwrap().len();
        let (mut before, mut since) = (len(), Instant::now());
        while !self.reading.is_finished() && since.elapsed() < Duration::from_millis(300) {
            thread::sleep(Duration::from_millis(5));
            if len() != before {
                (before, since) = (len(), Instant::now());
            }
        }
    }

    /// Whether a program has the whole screen to itself, or hides the cursor.
    pub fn is_taken(&self) -> bool {
        let parser = self.parser.lock().unwrap();
        parser.screen().alternate_screen() || parser.screen().hide_cursor()
    }

    /// The exit status, once it has ended.
    pub fn exit(&mut self) -> Option<i32> {
        self.child.try_wait().unwrap().map(|status| status.code().unwrap_or(-1))
    }

    /// Whether the terminal echoes and edits lines: not in raw mode.
    pub fn is_cooked(&self) -> bool {
        use rustix::termios::{LocalModes, tcgetattr};
        tcgetattr(&*self.pty).unwrap().local_modes.contains(LocalModes::ICANON | LocalModes::ECHO)
    }

    /// The exit status, once it has ended and all that it wrote is on the screen.
    #[track_caller]
    pub fn wait_for_exit(&mut self) -> i32 {
        use std::os::unix::process::ExitStatusExt;
        let start = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                self.settle();
                return status.code().unwrap_or_else(|| -status.signal().unwrap_or(0));
            }
            assert!(start.elapsed() < PATIENCE, "it does not end; the screen shows:\n{}", self.text());
            thread::sleep(Duration::from_millis(20));
        }
    }

    pub fn signal(&self, signal: rustix::process::Signal) {
        let pid = rustix::process::Pid::from_child(&self.child);
        rustix::process::kill_process(pid, signal).unwrap();
    }
}

fn side(cells: u16) -> NonZero<u16> {
    NonZero::new(cells).unwrap()
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
