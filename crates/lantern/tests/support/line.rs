//! Lines in front of machines: with latency, or counting who comes.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use lantern_harbour::{Cable, LatencyLink};

use super::{Desk, Light, kindle};

/// A line that takes its time, and counts round trips.
pub fn delayed(address: SocketAddr) -> (Arc<LatencyLink>, Light) {
    let one_way = Duration::from_millis(20);
    kindle(move || async move { LatencyLink::open(address, one_way).await.map(Arc::new) }, Arc::clone)
}

/// A line that counts who comes.
pub fn lay(address: SocketAddr) -> (Arc<Cable>, Light) {
    kindle(move || async move { Cable::lay(address).await.map(Arc::new) }, Arc::clone)
}

/// Has the book reach lamp-01 there.
pub fn lead(desk: &Desk, address: SocketAddr, fingerprint: &str) {
    let words = [&format!("address={}", address.ip()), &format!("port={}", address.port())];
    desk.lantern(&["machine", "set", "lamp-01", words[0], words[1]]).expect(0);
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", fingerprint]).expect(0);
}

/// Round trips until the first output of a command, that of TCP included, whether there is one or not.
pub fn visit(desk: &Desk, link: &LatencyLink, command: &str) -> u32 {
    // What is under way from before arrives.
    std::thread::sleep(Duration::from_millis(200));
    link.reset();
    let mut child = desk.command(&["run", "lamp-01", "--", command]).spawn().unwrap();
    let mut line = String::new();
    let mut out = std::io::BufReader::new(child.stdout.take().unwrap());
    std::io::BufRead::read_line(&mut out, &mut line).unwrap();
    let trips = link.round_trips();
    assert!(!line.is_empty() && child.wait().unwrap().success());
    trips
}
