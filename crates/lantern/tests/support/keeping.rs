//! A machine whose connections the keeper holds.

use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_harbour::{Cable, MachineSpec};
use serde_json::Value;

use super::line::lay;
use super::{Desk, Light, Lit, PATIENCE, light, machine};

/// A desk whose keeper runs, and a machine behind a cable that counts who comes.
pub struct Scene {
    pub desk: Desk,
    pub lit: Lit,
    pub cable: Arc<Cable>,
    met: u64,
    _light: Light,
}

impl Drop for Scene {
    fn drop(&mut self) {
        self.desk.lantern(&["keeper", "stop"]);
    }
}

pub fn scene(change: impl FnOnce(&mut MachineSpec)) -> Scene {
    let desk = Desk::with_key();
    let mut spec = machine("lamp-01", &desk.public_key("harbour"));
    change(&mut spec);
    let lit = light(spec);
    desk.add(&lit);
    let (cable, light) = lay(lit.address);
    let port = format!("port={}", cable.address.port());
    desk.lantern(&["machine", "set", "lamp-01", "address=127.0.0.1", &port]).expect(0);
    // As if it had been met there.
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &lit.fingerprint]).expect(0);
    desk.lantern(&["keeper", "start"]).expect(0);
    let met = cable.connections();
    Scene { desk, lit, cable, met, _light: light }
}

impl Scene {
    /// How many have come over the cable since everything was set up.
    pub fn visits(&self) -> u64 {
        self.cable.connections() - self.met
    }
}

pub fn status(desk: &Desk) -> Value {
    serde_json::from_str(desk.lantern(&["keeper", "status", "--json"]).expect(0).text()).unwrap()
}

pub fn connections(desk: &Desk) -> usize {
    status(desk)["connections"].as_array().unwrap().len()
}

pub fn until(what: &str, found: impl Fn() -> bool) {
    let deadline = Instant::now() + PATIENCE;
    while !found() {
        assert!(Instant::now() < deadline, "waited in vain for {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}
