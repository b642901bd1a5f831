//! Simulated machines of Windows, and desks whose book has one.

use std::net::SocketAddr;
use std::sync::Arc;

use lantern_harbour::{LitWindows, Seen, WindowsFault, WindowsSpec};
use lantern_keys::TlsCertificate;
use serde_json::Value;

use super::{Desk, Light, Outcome, kindle};

pub const PASSWORD: &str = "high water";

pub struct Windows {
    pub address: SocketAddr,
    pub machine: Arc<LitWindows>,
    pub fingerprint: String,
    pub thumbprint: String,
    _light: Light,
}

impl Windows {
    pub fn light(spec: WindowsSpec) -> Self {
        let certificate = spec.certificate.as_ref().map(|own| TlsCertificate::read(&own.chain[0]).unwrap());
        let fingerprint = certificate.as_ref().map(|own| own.fingerprint().to_string()).unwrap_or_default();
        let thumbprint = certificate.map(|own| own.thumbprint()).unwrap_or_default();
        let light = async || LitWindows::light(spec).await.map(Arc::new);
        let (machine, light) = kindle(light, Arc::clone);
        Self { address: machine.address, machine, fingerprint, thumbprint, _light: light }
    }

    pub fn seen(&self) -> Seen {
        self.machine.seen()
    }
}

pub fn chart_room() -> WindowsSpec {
    WindowsSpec::new("chart-room", 15, "keeper", PASSWORD).unwrap()
}

pub fn faulty(fault: WindowsFault) -> Windows {
    Windows::light(WindowsSpec { fault: Some(fault), ..chart_room() })
}

/// A desk whose book has the machine, as it is.
pub fn desk_for(windows: &Windows, settings: &[&str]) -> Desk {
    let desk = Desk::new();
    let (address, port) = (windows.address.ip().to_string(), format!("port={}", windows.address.port()));
    let words = ["machine", "add", "chart-room", &address, &port, "protocol=winrm", "user=keeper"];
    desk.lantern(&[&words[..], settings].concat()).expect(0);
    desk
}

/// The same, with the certificate trusted.
pub fn desk_that_trusts(windows: &Windows, settings: &[&str]) -> Desk {
    let desk = desk_for(windows, settings);
    let words = run_words(&["--expect", &windows.fingerprint, "--", "hostname"]);
    let outcome = desk.with_secrets(&words, PASSWORD, "");
    assert_eq!(outcome.status, 0, "{}", outcome.err);
    desk
}

pub fn run_words<'w>(words: &[&'w str]) -> Vec<&'w str> {
    [&["run", "chart-room", "--password-from", "fd:3"], words].concat()
}

pub fn run(desk: &Desk, words: &[&str]) -> Outcome {
    desk.with_secrets(&run_words(words), PASSWORD, "")
}

/// As a team shares it: what is known beforehand.
pub fn trust(desk: &Desk, windows: &Windows) {
    let Some(der) = windows.machine.certificate() else { return };
    let file = desk.folder.path().join("certificate.der");
    std::fs::write(&file, der).unwrap();
    desk.lantern(&["trust", "accept", "chart-room", "--certificate", file.to_str().unwrap()]).expect(0);
}

/// What a check of it tells, which must end so.
pub fn check(desk: &Desk, status: i32) -> Value {
    let words = [
        "check",
        "--no-questions",
        "--json",
        "--connect-limit",
        "2",
        "--handshake-limit",
        "3",
        "--login-limit",
        "3",
        "--password-from",
        "fd:3",
        "chart-room",
    ];
    let outcome = desk.with_secrets(&words, PASSWORD, "");
    let value: Value = serde_json::from_str(outcome.text()).unwrap_or_else(|_| panic!("{}", outcome.err));
    assert_eq!(outcome.status, status, "{value:#}");
    value[0].clone()
}
