//! A display for the demo's window: the one here, or a server of our own that has no screen.

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use lantern_book::Home;
use lantern_keys::SystemRandom;
use lantern_link::AuthorityFile;
use lantern_operations::display::{DisplayPlace, DisplaySurroundings, free_display, look};
use rustix::process::{Pid, Signal, kill_process};
use tokio::time::{sleep, timeout};

use crate::cli::settings;

/// The display server that draws into memory.
const SERVER: &str = "Xvfb";
/// How long it may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// A display, as long as this stands.
pub(super) struct Desk {
    /// How programs find it.
    pub(super) around: DisplaySurroundings,
    /// Its server, where that is ours.
    pub(super) server: Option<Server>,
}

/// A display server. Dropped, it ends, and takes its socket and its lock with it: it has to be asked to.
pub(super) struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = i32::try_from(self.0.id())
            .ok()
            .and_then(Pid::from_raw)
            .map(|pid| kill_process(pid, Signal::TERM));
        let _ = self.0.wait();
    }
}

impl Desk {
    /// The display here if it keeps programs apart, else one of our own; none where there is neither.
    pub(super) async fn find(home: &Home) -> Option<Self> {
        let around = settings::display();
        match look(&DisplayPlace::new(home, &around, None)).await {
            Ok(seen) if seen.has_security => Some(Self { around, server: None }),
            _ => Self::start(home).await,
        }
    }

    async fn start(home: &Home) -> Option<Self> {
        let name = free_display().await.ok()?;
        let authority = home.file("demo-display");
        AuthorityFile::new(authority.clone()).ensure(&name, &mut SystemRandom).ok()?;
        let server = Command::new(SERVER)
            .arg(name.to_string())
            .args(["-screen", "0", "640x480x24", "-nolisten", "tcp", "+extension", "SECURITY", "-auth"])
            .arg(&authority)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let server = Server(server);
        let around = DisplaySurroundings { name: Some(name.to_string()), authority };
        let place = DisplayPlace::new(home, &around, None);
        let answers = async {
            while look(&place).await.is_err() {
                sleep(Duration::from_millis(50)).await;
            }
        };
        timeout(PATIENCE, answers).await.ok()?;
        Some(Self { around, server: Some(server) })
    }
}
