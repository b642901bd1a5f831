//! Keys: making them against the library's own generation, opening one against its key derivation alone, and the audit of
//! ten thousand files against reading them.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

use std::fs;
use std::hint::black_box;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair};
use lantern_keys::container::{PrivateContainer, Protect, Sealed, openssh_key_v1, write_private};
use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, RsaBits, SecretString, SystemRandom};

const FILES: usize = 10_000;
const SECRET: &str = "twelve green lamps";

#[path = "support/mod.rs"]
mod support;
use support::median;

fn main() {
    generation();
    opening();
    audit();
}

/// Milliseconds for one of `count` calls; the median of many such.
fn time(rounds: usize, count: usize, mut call: impl FnMut()) -> f64 {
    let mut once = || {
        let start = Instant::now();
        (0..count).for_each(|_| call());
        start.elapsed().as_secs_f64() * 1e3 / count as f64
    };
    median((0..rounds).map(|_| once()).collect())
}

fn generation() {
    let make = |kind| move || drop(black_box(PrivateKey::generate(kind, "keeper@bench").unwrap()));
    let tell = |name: &str, ours: f64, floor: f64| {
        println!(
            "key new {name}: {ours:.3} ms, {:.2} times the library's own {floor:.3} ms (goal 1.1)",
            ours / floor
        );
    };
    let floor = time(41, 200, || drop(black_box(Ed25519KeyPair::generate().unwrap())));
    tell("ed25519", time(41, 200, make(KeyAlgorithm::Ed25519)), floor);
    let floor = time(41, 200, || {
        drop(black_box(EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).unwrap()));
    });
    tell("ecdsa-p256", time(41, 200, make(KeyAlgorithm::Ecdsa(Curve::P256))), floor);
    // The time to find primes is a lottery: many draws, in turn, so that both meet the same load of the computer.
    let (mut ours, mut floor) = (Vec::new(), Vec::new());
    for _ in 0..401 {
        ours.push(time(1, 1, make(KeyAlgorithm::Rsa(RsaBits::B2048))));
        floor.push(time(1, 1, || {
            drop(black_box(aws_lc_rs::rsa::KeyPair::generate(KeySize::Rsa2048).unwrap()))
        }));
    }
    tell("rsa-2048", median(ours), median(floor));
}

fn opening() {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@bench").unwrap();
    let passphrase = SecretString::new(SECRET.into());
    let protect = Protect::with(Some(&passphrase));
    let file = write_private(&key, PrivateContainer::OpensshKeyV1, protect, &mut SystemRandom).unwrap();
    let ours = time(9, 1, || {
        drop(black_box(Sealed::parse(&file).unwrap().open(Some(&passphrase)).unwrap()));
    });
    let floor = time(9, 1, || {
        let mut derived = [0; 48];
        bcrypt_pbkdf::bcrypt_pbkdf(SECRET, &[7; 16], openssh_key_v1::DEFAULT_ROUNDS, &mut derived).unwrap();
        black_box(derived);
    });
    println!("opening a key: {ours:.1} ms, {:.3} times bcrypt alone ({floor:.1} ms)", ours / floor);
}

fn audit() {
    let folder = tempfile::tempdir().unwrap();
    let files = folder.path().join("files");
    fs::create_dir(&files).unwrap();
    write_files(&files);
    let read = || {
        let start = Instant::now();
        let read: usize =
            fs::read_dir(&files).unwrap().map(|entry| fs::read(entry.unwrap().path()).unwrap().len()).sum();
        black_box(read);
        start.elapsed().as_secs_f64()
    };
    let floor = median((0..9).map(|_| read()).collect());
    let look = || {
        let start = Instant::now();
        let status = Command::new(env!("CARGO_BIN_EXE_lantern"))
            .args(["key", "audit", "--json", "--home"])
            .arg(folder.path().join("home"))
            .arg("--path")
            .arg(&files)
            .stdout(Stdio::null())
            .status()
            .unwrap();
        assert_eq!(status.code(), Some(1));
        start.elapsed().as_secs_f64()
    };
    let ours = median((0..9).map(|_| look()).collect());
    println!(
        "key audit over {FILES} files: {:.0} files a second, {:.1} times as long as reading them ({:.0} a second)",
        FILES as f64 / ours,
        ours / floor,
        FILES as f64 / floor,
    );
}

/// What a folder of downloads and backups may hold: half of it no keys, the rest of every kind.
fn write_files(folder: &Path) {
    let passphrase = SecretString::new(SECRET.into());
    let kinds = [
        (KeyAlgorithm::Ed25519, PrivateContainer::OpensshKeyV1, true),
        (KeyAlgorithm::Ed25519, PrivateContainer::OpensshKeyV1, false),
        (KeyAlgorithm::Ecdsa(Curve::P256), PrivateContainer::Pkcs8Pem, false),
        (KeyAlgorithm::Rsa(RsaBits::B3072), PrivateContainer::Pkcs1Pem, false),
    ];
    let made: Vec<_> = (0..40)
        .map(|number| {
            let (kind, container, sealed) = kinds[number % kinds.len()];
            let key = PrivateKey::generate(kind, "keeper@bench").unwrap();
            let mut protect = Protect::with(sealed.then_some(&passphrase));
            protect.openssh.rounds = 1;
            write_private(&key, container, protect, &mut SystemRandom).unwrap()
        })
        .collect();
    for number in 0..FILES {
        let path = folder.join(format!("file-{number:05}"));
        match number % 2 {
            0 => fs::write(path, "03:10 lamp lit, 06:20 lamp out\n".repeat(40)).unwrap(),
            _ => fs::write(path, &made[(number / 2) % made.len()]).unwrap(),
        }
    }
}
