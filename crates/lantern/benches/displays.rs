//! A burst of small requests to a display through the forwarding, against the same burst to the display's own socket. The restricted cookie, the session's
//! cookie and the looks at the display come before it.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use lantern_book::Home;
use lantern_keys::SystemRandom;
use lantern_link::{AuthorityFile, CommandWords, Program, Remote, Runs};
use lantern_operations::display::{
    DisplayForward, DisplayPlace, DisplaySurroundings, DisplayTrust, free_display, look,
};
use lantern_ssh::{DisplayRequest, Stream};
use support::{Scene, median, on_this_thread};

const REQUESTS: usize = 10_000;

/// A display server of our own.
struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

async fn start(folder: PathBuf) -> Option<(Server, DisplayPlace)> {
    let name = free_display().await.unwrap();
    let authority = folder.join("authority");
    AuthorityFile::new(authority.clone()).ensure(&name, &mut SystemRandom).unwrap();
    let server = Command::new("Xvfb")
        .args([&name.to_string(), "-nolisten", "tcp", "+extension", "SECURITY", "-auth"])
        .arg(&authority)
        .stderr(Stdio::null())
        .spawn()
        .ok()?;
    let server = Server(server);
    let around = DisplaySurroundings { name: Some(name.to_string()), authority };
    let place = DisplayPlace::new(&Home::new(folder), &around, None);
    let begun = Instant::now();
    while look(&place).await.is_err() {
        assert!(begun.elapsed() < Duration::from_secs(20), "the display does not answer");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Some((server, place))
}

fn main() {
    let scene = Scene::with(None, |spec| spec.displays = true);
    on_this_thread(async {
        let Some((_server, place)) = start(scene.folder.path().to_owned()).await else {
            println!("no Xvfb is here: nothing is measured");
            return;
        };
        let mut ratios = Vec::new();
        for _ in 0..5 {
            let (ours, floor) = (forwarded(&scene, &place).await, direct(&place).await);
            let ratio = ours.as_secs_f64() / floor.as_secs_f64();
            println!(
                "{REQUESTS} small requests to a display: {:.1} ms through the forwarding, {:.1} ms to its socket, ratio {ratio:.2}",
                ours.as_secs_f64() * 1e3,
                floor.as_secs_f64() * 1e3
            );
            ratios.push(ratio);
        }
        println!("burst to a display: median ratio {:.2}", median(ratios));
    });
}

async fn forwarded(scene: &Scene, place: &DisplayPlace) -> Duration {
    let remote = Remote::from(scene.connect().await);
    let forward = DisplayForward::prepare(place, DisplayTrust::Restricted, |_, _| {}).await.unwrap();
    let display = Some(forward.serve(remote.trunk().unwrap(), &mut SystemRandom));
    let runs = Runs::Command(CommandWords::line(format!("draw-burst {REQUESTS}")));
    let program = Program { runs, environment: Vec::new(), terminal: None, agent: false, display };
    let (process, _start) = remote.start(program).await.unwrap();
    let said = process.next(Stream::Main).await.unwrap();
    let said = String::from_utf8(said.to_vec()).unwrap();
    let micros = said.split(' ').rev().nth(1).unwrap().parse().unwrap();
    Duration::from_micros(micros)
}

async fn direct(place: &DisplayPlace) -> Duration {
    let name = lantern_link::DisplayName::parse(place.name.as_ref().unwrap()).unwrap();
    let cookie = AuthorityFile::new(place.authority.clone()).find(&name).unwrap().unwrap();
    let cookie = cookie.data.iter().map(|byte| format!("{byte:02x}")).collect();
    let protocol = "MIT-MAGIC-COOKIE-1".to_owned();
    let request = DisplayRequest { single: false, protocol, cookie, screen: 0 };
    let socket = format!("/tmp/.X11-unix/X{}", name.number());
    let line = tokio::net::UnixStream::connect(socket).await.unwrap();
    lantern_harbour::system::burst(line, &request, REQUESTS).await.unwrap()
}
