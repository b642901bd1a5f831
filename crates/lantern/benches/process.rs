//! Whole processes: from start to the first byte on the wire, and the CPU of `lantern run MACHINE -- whoami` from start to end.
//! Goals: 5 ms beyond a process that does nothing, and 1.35 times a process that only opens a socket, says as much over it, and computes the
//! primitives of a login: this very bench, started anew with [`FLOOR`] in its environment.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::Instant;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::agreement;
use aws_lc_rs::kem::{DecapsulationKey, EncapsulationKey, ML_KEM_768};
use lantern_book::KeyRing;
use lantern_keys::container::Sealed;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, Signature, SignatureAlgorithm};
use support::{Scene, children_cpu, floor_of_login, median};

const ROUNDS: usize = 60;
/// The kernel counts the time of children in hundredths of a second: enough of them make that fine.
const LOGINS: usize = 150;

/// Where the peer of a process that is the floor listens.
const FLOOR: &str = "LANTERN_BENCH_FLOOR";

fn main() {
    if let Ok(address) = std::env::var(FLOOR) {
        return be_the_floor(&address);
    }
    first_byte();
    whole_login();
}

/// A machine that takes note of when it hears something, and hangs up.
fn first_byte() {
    let scene = Scene::new(None);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("keeper@{}", listener.local_addr().unwrap());
    let (sender, heard) = mpsc::channel();
    thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            if stream.read(&mut [0]).unwrap() == 1 {
                sender.send(Instant::now()).unwrap();
            }
        }
    });
    let (mut ours, mut floors) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let mut child = lantern(&scene, &address).spawn().unwrap();
        ours.push((heard.recv().unwrap() - start).as_secs_f64() * 1e3);
        child.wait().unwrap();
        let start = Instant::now();
        Command::new("/bin/true").status().unwrap();
        floors.push(start.elapsed().as_secs_f64() * 1e3);
    }
    let (ours, floor) = (median(ours), median(floors));
    println!(
        "from the start of the process to its first byte on the wire: {ours:.1} ms, {:.1} ms beyond a process that does nothing (goal 5)",
        ours - floor
    );
}

fn lantern(scene: &Scene, machine: &str) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
    command
        .args(["run", machine, "--no-input", "--no-questions", "--", "whoami"])
        .env("LANTERN_HOME", scene.home.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    command
}

fn whole_login() {
    let scene = Scene::new(None);
    scene.write_book();
    let each = |run: &dyn Fn()| {
        let before = children_cpu();
        (0..LOGINS).for_each(|_| run());
        (children_cpu() - before).as_secs_f64() * 1e3 / LOGINS as f64
    };
    let ours = each(&|| {
        assert!(lantern(&scene, support::MACHINE).status().unwrap().success());
    });
    let nothing = each(&|| {
        assert!(Command::new("/bin/true").status().unwrap().success());
    });
    let primitives = median((0..100).map(|_| floor_of_login().as_secs_f64() * 1e3).collect());
    let peer = peer_of_the_floor(&scene);
    let bench = std::env::current_exe().unwrap();
    let floor = each(&|| {
        assert!(Command::new(&bench).env(FLOOR, &peer).status().unwrap().success());
    });
    println!(
        "CPU of a whole `lantern run` with its login: {ours:.2} ms; a process with a plain socket and the primitives {floor:.2} ms, ratio {:.2} (goal 1.35); a process that does nothing {nothing:.2} ms, the primitives alone {primitives:.2} ms",
        ours / floor
    );
}

/// What a login says, without saying it: as many exchanges, of about as many bytes, with the keys that the primitives need.
const SAYS: [usize; 3] = [2200, 340, 60];
const HEARS: [usize; 3] = [2340, 90, 60];

/// Answers those who are the floor; where it listens, and what they need.
fn peer_of_the_floor(scene: &Scene) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let ring = KeyRing::new(&scene.home);
    let key = ring.private_path(&ring.names().unwrap()[0]);
    let words = format!("{} {}", listener.local_addr().unwrap(), key.display());
    thread::spawn(move || {
        let host_key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let ephemeral = agreement::PrivateKey::generate(&agreement::X25519).unwrap();
        let ephemeral = ephemeral.compute_public_key().unwrap().as_ref().to_vec();
        let signature = host_key.sign(&[7; 32], SignatureAlgorithm::Ed25519).unwrap().encode();
        let public = host_key.public().encode();
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let mut heard = vec![0; SAYS[0]];
            stream.read_exact(&mut heard).unwrap();
            let shared = EncapsulationKey::new(&ML_KEM_768, &heard[..1184]).unwrap();
            let (ciphertext, _) = shared.encapsulate().unwrap();
            let mut answer = [ciphertext.as_ref(), &ephemeral, &signature, &public].concat();
            answer.resize(HEARS[0], 0);
            stream.write_all(&answer).unwrap();
            for (says, hears) in SAYS.into_iter().zip(HEARS).skip(1) {
                stream.read_exact(&mut vec![0; says]).unwrap();
                stream.write_all(&vec![0; hears]).unwrap();
            }
        }
    });
    words
}

/// A process that opens a socket, says as much as a login, and computes what no login can do without.
fn be_the_floor(words: &str) {
    let (address, key) = words.split_once(' ').unwrap();
    let key = Sealed::parse(&std::fs::read(key).unwrap()).unwrap().open(None).unwrap();
    let mut stream = TcpStream::connect(address).unwrap();
    let secret = DecapsulationKey::generate(&ML_KEM_768).unwrap();
    let ephemeral = agreement::PrivateKey::generate(&agreement::X25519).unwrap();
    let mut message = secret.encapsulation_key().unwrap().key_bytes().unwrap().as_ref().to_vec();
    message.extend(ephemeral.compute_public_key().unwrap().as_ref());
    message.resize(SAYS[0], 0);
    stream.write_all(&message).unwrap();
    let mut answer = vec![0; HEARS[0]];
    stream.read_exact(&mut answer).unwrap();
    // A ciphertext, a share, and a signature and a key in their wire forms.
    let (ciphertext, rest) = answer.split_at(1088);
    let (share, rest) = rest.split_at(32);
    let (signature, rest) = rest.split_at(83);
    secret.decapsulate(ciphertext.into()).unwrap();
    let peer = agreement::UnparsedPublicKey::new(&agreement::X25519, share);
    agreement::agree(&ephemeral, peer, (), |_| Ok(())).unwrap();
    let host_key = PublicKey::decode(&rest[..51]).unwrap();
    host_key.verify(&[7; 32], &Signature::decode(signature).unwrap()).unwrap();
    key.sign(&[7; 32], SignatureAlgorithm::Ed25519).unwrap();
    let cipher = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap());
    for (says, hears) in SAYS.into_iter().zip(HEARS).skip(1) {
        for len in [says, hears] {
            let nonce = Nonce::assume_unique_for_key([0; 12]);
            let _ = cipher.seal_in_place_separate_tag(nonce, Aad::empty(), &mut vec![0; len]).unwrap();
        }
        stream.write_all(&vec![0; says]).unwrap();
        stream.read_exact(&mut vec![0; hears]).unwrap();
    }
}
