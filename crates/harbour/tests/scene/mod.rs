//! A machine of Windows and whoever visits it, joined in memory.

#![allow(clippy::unwrap_used, dead_code)] // A test that cannot go on says so by panicking; not every test needs all of it.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use lantern_book::Home;
use lantern_harbour::{WindowsMachine, WindowsSpec};
use lantern_keys::{SecretString, TlsCertificate};
use lantern_link::{
    Answer, Answering, Ask, ConnectRequest, Line, Lines, LinkError, LoginWay, Question, Remote,
    RemoteRequest, WinrmRequest,
};
use tokio::io::duplex;
use tokio::runtime::Builder;
use tokio::time::Instant;

/// A machine, and the lines to it: of how many bytes at once, and whether there are any.
#[derive(Debug)]
pub(crate) struct Cable {
    pub(crate) machine: WindowsMachine,
    width: usize,
    pub(crate) is_down: AtomicBool,
    pub(crate) opened: AtomicUsize,
    pub(crate) tried: Mutex<Vec<Instant>>,
}

impl Lines for Cable {
    fn open(&self, _host: &str, _port: u16) -> std::io::Result<Line> {
        self.tried.lock().unwrap().push(Instant::now());
        if self.is_down.load(Ordering::Relaxed) {
            return Err(std::io::ErrorKind::ConnectionRefused.into());
        }
        self.opened.fetch_add(1, Ordering::Relaxed);
        let (near, far) = duplex(self.width);
        self.machine.visit(far);
        Ok(Box::new(near))
    }
}

struct Keeper;

impl Ask for Keeper {
    fn ask(&self, question: Question) -> Answering {
        let answer = match question {
            Question::Password { .. } => Answer::Secret(SecretString::new("high water".into())),
            _ => Answer::NoOne,
        };
        Box::pin(std::future::ready(answer))
    }
}

/// A machine that is logged in to, or will be.
pub(crate) struct Scene {
    pub(crate) cable: Arc<Cable>,
    pub(crate) remote: Remote,
    _folder: tempfile::TempDir,
}

impl Scene {
    pub(crate) async fn new(width: usize, change: impl FnOnce(&mut WindowsSpec)) -> Result<Self, LinkError> {
        let mut spec = WindowsSpec::new("chart-room", 15, "keeper", "high water").unwrap();
        change(&mut spec);
        let tls = spec.certificate.is_some();
        let machine = WindowsMachine::new(spec).unwrap();
        let expect = machine.certificate().map(|der| TlsCertificate::read(&der).unwrap().fingerprint());
        let cable = Arc::new(Cable {
            machine,
            width,
            is_down: AtomicBool::new(false),
            opened: AtomicUsize::new(0),
            tried: Mutex::default(),
        });
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().to_path_buf());
        let mut way = ConnectRequest::new(&home, "chart-room", "192.0.2.15", 5986, "keeper");
        way.expect = expect;
        way.lines = Some(cable.clone());
        let request = RemoteRequest::Winrm(Box::new(WinrmRequest {
            tls,
            certificate_names: vec!["chart-room".into()],
            login: LoginWay::Ntlm,
            ..WinrmRequest::new(way)
        }));
        let remote = Remote::connect(&request, &Keeper).await?;
        Ok(Self { cable, remote, _folder: folder })
    }

    /// Ends, and the machine has nothing left of it.
    pub(crate) async fn end(self) {
        let cable = self.cable.clone();
        self.remote.close().await;
        assert_eq!(cable.machine.seen().shells, 0);
    }
}

/// Runs in virtual time.
pub(crate) fn in_no_time<T>(story: impl Future<Output = T>) -> T {
    Builder::new_current_thread().enable_all().start_paused(true).build().unwrap().block_on(story)
}

/// Runs in the time that it takes: where bytes travel one by one, tasks give way so often that virtual time would run ahead of them.
pub(crate) fn in_its_time<T>(story: impl Future<Output = T>) -> T {
    Builder::new_current_thread().enable_all().build().unwrap().block_on(story)
}

pub(crate) fn no_tls(spec: &mut WindowsSpec) {
    spec.certificate = None;
}
