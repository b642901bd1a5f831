//! Start-up: the built binary as a whole process, against a process that does nothing, and what ten thousand of anything cost it. Goals: 5 ms for
//! `--version`, 50 ms for `machine list` with 10,000 machines and for `key list` with 10,000 keys.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::fmt::Write;
use std::process::{Command, Stdio};
use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing, KnownKey, TrustRecord, TrustStore, Verified};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SystemRandom};
use support::median;

const ROUNDS: usize = 40;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let home = folder.path().join("home");
    std::fs::create_dir(&home).unwrap();
    let mut book = String::new();
    for number in 0..10_000 {
        writeln!(
            book,
            "[machines.lamp-{number:05}]\naddress = \"192.0.2.{}\"\nuser = \"keeper\"\nkey = \"harbour\"\ntags = [\"coast\", \"north\"]\n",
            number % 256
        )
        .unwrap();
    }
    std::fs::write(home.join("machines.toml"), book).unwrap();
    let lantern = env!("CARGO_BIN_EXE_lantern");
    let home = home.to_str().unwrap();
    let floor = time("/bin/true", &[]);
    println!("start of a process that does nothing: {floor:.1} ms");
    let version = time(lantern, &["--version"]);
    println!("lantern --version: {version:.1} ms (goal 5), {:.1} times the floor", version / floor);
    let list = time(lantern, &["--home", home, "machine", "list"]);
    println!(
        "lantern machine list, 10,000 machines: {list:.1} ms (goal 50), {:.1} times the floor",
        list / floor
    );
    trust(lantern);
    keys(lantern);
}

/// One of ten thousand machines with three host keys each.
fn trust(lantern: &str) {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().to_owned());
    let key = |number: u32, kind: u8| {
        let mut bytes = [kind; 32];
        bytes[..4].copy_from_slice(&number.to_be_bytes());
        KnownKey::new(PublicKey::Ed25519(bytes), Verified::Pasted, Timestamp::UNIX_EPOCH)
    };
    let record = |number: u32| TrustRecord {
        keys: (0..3).map(|kind| key(number, kind)).collect(),
        addresses: vec![format!("192.0.2.1:{number}")],
        ..TrustRecord::default()
    };
    let records = (0..10_000).map(|number| (format!("lamp-{number:05}"), record(number))).collect();
    TrustStore::take_in(&home, &records, &[]).unwrap();
    let file = home.file("trust.toml");
    let floor = in_process(|| drop(std::fs::read(&file).unwrap()));
    let show = time(lantern, &["--home", home.path().to_str().unwrap(), "trust", "show", "lamp-05000"]);
    println!(
        "lantern trust show of one of 10,000 machines: {show:.1} ms; reading the file alone: {floor:.1} ms"
    );
    let contacts = 1000;
    let start = Instant::now();
    for number in 0..contacts {
        let (name, place) = (format!("new-{number}"), format!("198.51.100.1:{number}"));
        TrustStore::keep_decided(&home, &name, &place, &[], &[key(number, 9)]).unwrap();
    }
    let each = start.elapsed().as_secs_f64() * 1e3 / f64::from(contacts);
    let flushed = in_process(|| {
        std::fs::write(folder.path().join("small"), [0; 400]).unwrap();
        std::fs::File::open(folder.path().join("small")).unwrap().sync_data().unwrap();
    });
    println!(
        "a first contact beside them: {each:.2} ms, {:.1} times a small file written to disk",
        each / flushed
    );
}

/// A ring of ten thousand keys, and asking for the state of its files one after the other.
fn keys(lantern: &str) {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().join("home"));
    let ring = KeyRing::new(&home);
    std::fs::create_dir_all(ring.folder()).unwrap();
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@bench").unwrap();
    ring.add("first", &key, Protect::default(), KeyNote::default(), &mut SystemRandom).unwrap();
    for number in 0..10_000 {
        let name = format!("key-{number:05}");
        std::fs::copy(ring.private_path("first"), ring.private_path(&name)).unwrap();
        std::fs::copy(ring.public_path("first"), ring.public_path(&name)).unwrap();
    }
    let states = in_process(|| {
        let files = std::fs::read_dir(ring.folder()).unwrap();
        files.for_each(|file| assert!(std::fs::metadata(file.unwrap().path()).unwrap().is_file()));
    });
    let list = time(lantern, &["--home", home.path().to_str().unwrap(), "key", "list"]);
    println!(
        "lantern key list, 10,000 keys: {list:.1} ms (goal 50); the state of their files alone: {states:.1} ms"
    );
}

/// Milliseconds that something takes here, the median of many.
fn in_process(work: impl Fn()) -> f64 {
    let once = || {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64() * 1e3
    };
    median((0..ROUNDS).map(|_| once()).collect())
}

/// Milliseconds from start to end, the median of many.
fn time(program: &str, words: &[&str]) -> f64 {
    let once = || {
        let start = Instant::now();
        let status = Command::new(program).args(words).stdout(Stdio::null()).status().unwrap();
        assert!(status.success());
        start.elapsed().as_secs_f64() * 1e3
    };
    median((0..ROUNDS).map(|_| once()).collect())
}
