//! What the benches share: a simulated machine in a thread of its own, a home that trusts it, and CPU time.

// Each bench uses its part of this.
#![allow(dead_code, unreachable_pub)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::agreement::{self, PrivateKey as AgreementKey, UnparsedPublicKey};
use aws_lc_rs::kem::{DecapsulationKey, EncapsulationKey, ML_KEM_768};
use lantern_book::{Home, KeyNote, KeyRing, TrustStore, Verified};
use lantern_harbour::{Harbour, LatencyLink, LoginRule, MachineSpec, UserSpec};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};
use lantern_link::{ConnectRequest, Nobody, Trunk, connect};

pub const MACHINE: &str = "lamp-01";
/// Bytes of a packet of bulk data.
const PACKET: usize = 64 * 1024;

/// A home whose key a lit machine takes, and whose trust store knows the machine.
pub struct Scene {
    pub folder: tempfile::TempDir,
    pub home: Home,
    pub machine: SocketAddr,
    pub link: Option<LinkHandle>,
}

/// Round trips of the line in front of the machine.
pub type LinkHandle = mpsc::Sender<mpsc::Sender<u32>>;

impl Scene {
    /// Lights the machine; with `latency`, behind a line with that delay each way.
    pub fn new(latency: Option<Duration>) -> Self {
        Self::with(latency, |_| {})
    }

    /// Names the machine in the book, for whole processes.
    pub fn write_book(&self) {
        let (ip, port) = (self.machine.ip(), self.machine.port());
        let text = format!("[machines.{MACHINE}]\naddress = \"{ip}\"\nport = {port}\nuser = \"keeper\"\n");
        std::fs::write(self.home.path().join("machines.toml"), text).unwrap();
    }

    /// The same with a machine that was changed.
    pub fn with(latency: Option<Duration>, change: impl FnOnce(&mut MachineSpec)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@bench").unwrap();
        let now = jiff::Timestamp::now();
        KeyRing::new(&home)
            .add("bench", &key, Protect::default(), KeyNote::default(), &mut SystemRandom)
            .unwrap();
        let mut keeper = UserSpec::new("keeper", None, vec![key.public().clone()]);
        keeper.rule = LoginRule::AnyOf(vec!["publickey"]);
        let mut spec = MachineSpec { users: vec![keeper], ..MachineSpec::new(MACHINE, 1).unwrap() };
        change(&mut spec);
        let host_key = spec.host_keys[0].public().clone();
        let (sender, receiver) = mpsc::channel();
        let (handle, questions) = mpsc::channel::<mpsc::Sender<u32>>();
        thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let harbour = Harbour::light(vec![spec]).await.unwrap();
                let target = harbour.machines()[0].address;
                match latency {
                    None => {
                        sender.send(target).unwrap();
                        std::future::pending::<()>().await;
                    }
                    Some(latency) => {
                        let line = LatencyLink::open(target, latency).await.unwrap();
                        sender.send(line.address).unwrap();
                        loop {
                            // Each question is answered with the count so far, which then starts anew.
                            while let Ok(answer) = questions.try_recv() {
                                let _ = answer.send(line.round_trips());
                                line.reset();
                            }
                            tokio::time::sleep(Duration::from_millis(1)).await;
                        }
                    }
                }
            });
        });
        let machine = receiver.recv().unwrap();
        TrustStore::accept(&home, MACHINE, &machine.to_string(), &host_key, Verified::Expected, now).unwrap();
        Self { folder, home, machine, link: latency.map(|_| handle) }
    }

    /// Logs in.
    pub async fn connect(&self) -> Trunk {
        connect(&self.request(), &Nobody).await.unwrap()
    }

    /// How it is reached.
    pub fn request(&self) -> ConnectRequest {
        let address = self.machine.ip().to_string();
        ConnectRequest::new(&self.home, MACHINE, &address, self.machine.port(), "keeper")
    }

    /// Round trips on the line since the last call.
    pub fn round_trips(&self) -> u32 {
        let (sender, receiver) = mpsc::channel();
        self.link.as_ref().unwrap().send(sender).unwrap();
        receiver.recv().unwrap()
    }
}

/// CPU time of this thread.
pub fn cpu() -> Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
    Duration::new(time.tv_sec as u64, time.tv_nsec as u32)
}

/// Runs on a single-threaded runtime on this thread.
pub fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(future)
}

/// The middle one.
pub fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// What no client can do without: two key pairs, two agreements, one verification, one signature.
pub fn floor(host_key: &PrivateKey, user_key: &PrivateKey) -> Duration {
    let message = [7; 32];
    let signature = host_key.sign(&message, host_key.signature_algorithms()[0]).unwrap();
    let peer = AgreementKey::generate(&agreement::X25519).unwrap();
    let peer = peer.compute_public_key().unwrap();
    let start = cpu();
    let secret = DecapsulationKey::generate(&ML_KEM_768).unwrap();
    let public = secret.encapsulation_key().unwrap().key_bytes().unwrap().as_ref().to_vec();
    let x25519 = AgreementKey::generate(&agreement::X25519).unwrap();
    x25519.compute_public_key().unwrap();
    let mut spent = cpu() - start;
    // The server's part is not the client's.
    let (ciphertext, _) = EncapsulationKey::new(&ML_KEM_768, &public).unwrap().encapsulate().unwrap();
    let start = cpu();
    secret.decapsulate(ciphertext.as_ref().into()).unwrap();
    agreement::agree(&x25519, UnparsedPublicKey::new(&agreement::X25519, peer.as_ref()), (), |_| Ok(()))
        .unwrap();
    host_key.public().verify(&message, &signature).unwrap();
    user_key.sign(&message, user_key.signature_algorithms()[0]).unwrap();
    spent += cpu() - start;
    spent
}

/// The same with keys of its own.
pub fn floor_of_login() -> Duration {
    let key = || PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    floor(&key(), &key())
}

/// Has the home of a scene know its machine at the address that it has now.
pub fn trust(scene: &Scene) {
    let key = TrustStore::load(&scene.home).unwrap().good_keys(MACHINE).unwrap().remove(0);
    let place = scene.machine.to_string();
    TrustStore::accept(&scene.home, MACHINE, &place, &key, Verified::Expected, jiff::Timestamp::now())
        .unwrap();
}

/// CPU time of children that have ended.
pub fn children_cpu() -> Duration {
    ticks("self", 13..15)
}

/// CPU time of a process that runs.
pub fn process_cpu(pid: &str) -> Duration {
    ticks(pid, 11..13)
}

fn ticks(pid: &str, which: std::ops::Range<usize>) -> Duration {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    // proc(5): utime, stime, cutime and cstime are fields 14 to 17; the first one here is the third.
    let ticks: u64 = fields[which].iter().map(|field| field.parse::<u64>().unwrap()).sum();
    Duration::from_millis(ticks * 1000 / rustix::param::clock_ticks_per_second())
}

/// Resident bytes of this process.
pub fn resident() -> usize {
    let statm = std::fs::read_to_string("/proc/self/statm").unwrap();
    statm.split(' ').nth(1).unwrap().parse::<usize>().unwrap() * rustix::param::page_size()
}

fn key() -> LessSafeKey {
    LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap())
}

fn seal(key: &LessSafeKey, packet: &mut [u8]) {
    let nonce = Nonce::assume_unique_for_key([0; 12]);
    // Kept from the optimizer, which might otherwise drop the work.
    let _ = std::hint::black_box(key.seal_in_place_separate_tag(nonce, Aad::from([0; 4]), packet).unwrap());
}

/// Reading so many bytes from a socket and running the AEAD over them.
pub fn floor_receive(bytes: usize) -> Duration {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let writer = thread::spawn(move || {
        let mut stream = TcpStream::connect(address).unwrap();
        let chunk = vec![1; PACKET];
        for _ in 0..bytes / PACKET {
            stream.write_all(&chunk).unwrap();
        }
    });
    let (mut stream, _) = listener.accept().unwrap();
    let (key, mut buffer) = (key(), vec![0; 256 * 1024]);
    let start = cpu();
    loop {
        let len = stream.read(&mut buffer).unwrap();
        if len == 0 {
            break;
        }
        for packet in buffer[..len].chunks_mut(PACKET) {
            seal(&key, packet);
        }
    }
    let spent = cpu() - start;
    writer.join().unwrap();
    spent
}

/// The same, writing.
pub fn floor_send(bytes: usize) -> Duration {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let reader = thread::spawn(move || {
        let mut stream = TcpStream::connect(address).unwrap();
        let mut buffer = vec![0; 256 * 1024];
        while stream.read(&mut buffer).unwrap() > 0 {}
    });
    let (mut stream, _) = listener.accept().unwrap();
    let (key, mut packet) = (key(), vec![0; PACKET]);
    let start = cpu();
    for _ in 0..bytes / PACKET {
        seal(&key, &mut packet);
        stream.write_all(&packet).unwrap();
    }
    let spent = cpu() - start;
    drop(stream);
    reader.join().unwrap();
    spent
}
