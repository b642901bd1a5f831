//! A machine of Windows for benches, and lines to it.

#![allow(dead_code)] // Not every bench needs all of it.

use std::net::SocketAddr;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use lantern_book::Home;
use lantern_harbour::{LatencyLink, LitWindows, WindowsSpec};
use lantern_keys::{SecretString, TlsCertificate};
use lantern_link::{Answer, Answering, Ask, ConnectRequest, LoginWay, Question, RemoteRequest, WinrmRequest};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

use crate::support::{median, on_this_thread};

pub(crate) const ONE_WAY: Duration = Duration::from_millis(25);
pub(crate) const PASSWORD: &str = "high water";

pub(crate) struct Keeper;

impl Ask for Keeper {
    fn ask(&self, question: Question) -> Answering {
        let answer = match question {
            Question::Password { .. } => Answer::Secret(SecretString::new(PASSWORD.into())),
            _ => Answer::NoOne,
        };
        Box::pin(std::future::ready(answer))
    }
}

pub(crate) struct Windows {
    pub(crate) address: SocketAddr,
    pub(crate) certificate: Vec<u8>,
    pub(crate) folder: tempfile::TempDir,
}

impl Windows {
    pub(crate) fn light() -> Self {
        let (sender, receiver) = mpsc::channel();
        thread::spawn(move || {
            on_this_thread(async {
                let spec = WindowsSpec::new("chart-room", 15, "keeper", PASSWORD).unwrap();
                let lit = LitWindows::light(spec).await.unwrap();
                sender.send((lit.address, lit.certificate().unwrap())).unwrap();
                std::future::pending::<()>().await;
            });
        });
        let (address, certificate) = receiver.recv().unwrap();
        Self { address, certificate, folder: tempfile::tempdir().unwrap() }
    }

    pub(crate) fn request(&self, address: SocketAddr) -> RemoteRequest {
        let home = Home::new(self.folder.path().to_path_buf());
        // The stack that it has is known from a check.
        let _ = lantern_book::Hints::of(&home).note_stack("chart-room", 3);
        let host = address.ip().to_string();
        let mut way = ConnectRequest::new(&home, "chart-room", &host, address.port(), "keeper");
        way.expect = Some(TlsCertificate::read(&self.certificate).unwrap().fingerprint());
        RemoteRequest::Winrm(Box::new(WinrmRequest {
            certificate_names: vec!["chart-room".into()],
            login: LoginWay::Ntlm,
            ..WinrmRequest::new(way)
        }))
    }

    /// The most memory that the program itself holds while it does this, in KiB.
    pub(crate) fn peak(&self, words: &[&str]) -> u64 {
        let home = self.folder.path().join("desk");
        let lantern = |words: &[&str]| {
            let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
            command.args(words).env_clear().env("LANTERN_HOME", &home);
            command.stdin(Stdio::null()).stdout(Stdio::null());
            command
        };
        if !home.join("machines.toml").exists() {
            let (host, port) = (self.address.ip().to_string(), format!("port={}", self.address.port()));
            let add =
                ["machine", "add", "chart-room", &host, &port, "protocol=winrm", "user=keeper", "--quiet"];
            assert!(lantern(&add).status().unwrap().success());
            let file = self.folder.path().join("certificate");
            std::fs::write(&file, &self.certificate).unwrap();
            let accept =
                ["trust", "accept", "chart-room", "--certificate", file.to_str().unwrap(), "--quiet"];
            assert!(lantern(&accept).status().unwrap().success());
        }
        let mut child = lantern(words).spawn().unwrap();
        let mut peak = 0;
        while child.try_wait().unwrap().is_none() {
            let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
            let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default();
            peak =
                peak.max(line.split_whitespace().nth(1).and_then(|kib| kib.parse::<u64>().ok()).unwrap_or(0));
            thread::sleep(Duration::from_millis(5));
        }
        assert!(child.wait().unwrap().success());
        peak
    }
}

/// What a byte takes there and back over such a line, in seconds.
pub(crate) async fn round_trip() -> f64 {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let link = LatencyLink::open(listener.local_addr().unwrap(), ONE_WAY).await.unwrap();
    let mut near = TcpStream::connect(link.address).await.unwrap();
    let (mut far, _) = listener.accept().await.unwrap();
    let mut trips = Vec::new();
    for _ in 0..9 {
        let start = Instant::now();
        near.write_all(b"?").await.unwrap();
        let byte = far.read_u8().await.unwrap();
        far.write_all(&[byte]).await.unwrap();
        near.read_u8().await.unwrap();
        trips.push(start.elapsed().as_secs_f64());
    }
    median(trips)
}
