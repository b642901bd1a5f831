//! Key files of every kind as users meet them: nothing private is shown, nothing is removed or replaced but what was meant, nothing is left behind.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

#[path = "../../keys/tests/corpus_files/mod.rs"]
mod corpus_files;
#[path = "../../keys/tests/support/mod.rs"]
mod judges;
mod support;

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Barrier, Mutex};
use std::thread;

use corpus_files::{gives_away, secrets_of, write_corpus};
use lantern_keys::container::{PrivateContainer, Protect, Sealed, write_private};
use lantern_keys::{KeyAlgorithm, PrivateKey, RsaBits, SystemRandom, public_line};
use serde_json::Value;
use support::{Desk, Outcome, Screen};

fn put_key(desk: &Desk, name: &str, algorithm: KeyAlgorithm) -> PrivateKey {
    let key = PrivateKey::generate(algorithm, "").unwrap();
    put(desk, name, &pem(&key));
    key
}

fn pem(key: &PrivateKey) -> Vec<u8> {
    write_private(key, PrivateContainer::Pkcs8Pem, Protect::default(), &mut SystemRandom).unwrap().to_vec()
}

fn put(desk: &Desk, name: &str, content: &[u8]) {
    let path = desk.folder.path().join(name);
    fs::write(&path, content).unwrap();
    fs::set_permissions(path, fs::Permissions::from_mode(0o600)).unwrap();
}

fn exists(desk: &Desk, name: &str) -> bool {
    desk.folder.path().join(name).exists()
}

/// Each file of the corpus through `show`, plain and as JSON, and what is no sound key through `import` as well: an exit code that is
/// documented, one error, and nothing of a secret.
#[test]
fn no_file_of_the_corpus_gives_its_secret_away() {
    if !judges::judges_are_here() {
        return;
    }
    let desk = Desk::new();
    let folder = desk.folder.path().join("corpus");
    let manifest = write_corpus(&folder);
    let (next, wrong) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
    let check = |entry: &Value| {
        let (file, kind) = (entry["file"].as_str().unwrap(), entry["kind"].as_str().unwrap());
        let path = format!("corpus/{file}");
        let secrets = secrets_of(entry);
        let mut runs =
            vec![desk.lantern(&["key", "show", &path]), desk.lantern(&["key", "show", &path, "--json"])];
        let shows = !["damaged", "refused", "costly", "nothing"].contains(&kind);
        let well = runs
            .iter()
            .all(|run| if shows { run.status == 0 } else { run.status == 241 || kind == "costly" });
        if !["sound", "closed", "several"].contains(&kind) {
            runs.push(desk.without_terminal(&["key", "import", &path, "--name", "taken", "--plain"]));
        }
        let refused = runs.get(2).is_none_or(|run| run.status == 241 && run.err.starts_with("error: "));
        let mut faults = wrong.lock().unwrap();
        if !well || !refused {
            let told: Vec<String> = runs.iter().map(|run| format!("{} {}", run.status, run.err)).collect();
            faults.push(format!("{file} ({kind}): {told:?}"));
        }
        let said = |run: &Outcome| format!("{}\n{}", String::from_utf8_lossy(&run.out), run.err);
        if runs.iter().any(|run| gives_away(&said(run), &secrets)) {
            faults.push(format!("{file}: gives its secret away"));
        }
        // Nothing steers the terminal either.
        let steers = |c: char| c.is_control() && c != '\n' || "\u{202e}\u{2028}".contains(c);
        if runs.iter().any(|run| said(run).contains(steers)) {
            faults.push(format!("{file}: steers the terminal"));
        }
    };
    thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                while let Some(entry) = manifest.get(next.fetch_add(1, Ordering::Relaxed)) {
                    check(entry);
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), manifest.len(), wrong.join("\n"));
    let all: Vec<Vec<u8>> = manifest.iter().flat_map(secrets_of).collect();
    for words in [&["key", "audit", "--path", "corpus"][..], &["key", "audit", "--path", "corpus", "--json"]]
    {
        let audit = desk.lantern(words).expect(1);
        assert!(!gives_away(&format!("{}\n{}", audit.text(), audit.err), &all));
    }
    assert_eq!(desk.lantern(&["key", "list", "--json"]).expect(0).text(), "[]\n");
}

#[test]
fn only_a_file_that_is_a_key_and_nothing_else_is_moved() {
    let desk = Desk::new();
    let key = put_key(&desk, "mail.txt", KeyAlgorithm::Ed25519);
    put(&desk, "mail.txt", &[b"Dear keeper, the door code is 4711.\n".as_slice(), &pem(&key)].concat());
    let import =
        |file: &str, name: &str| desk.lantern(&["key", "import", file, "--name", name, "--plain", "--move"]);
    let err = import("mail.txt", "mail").expect(0).err;
    assert!(err.contains("mail.txt was not removed: besides the key it holds 1 line of other text"), "{err}");
    assert!(exists(&desk, "mail.txt") && !err.contains("4711"), "{err}");
    let key = put_key(&desk, "with-line", KeyAlgorithm::Ed25519);
    let line = public_line::format(key.public(), "somebody");
    put(&desk, "with-line", &[&pem(&key), line.as_bytes()].concat());
    let err = import("with-line", "with-line").expect(0).err;
    assert!(
        err.contains("besides the key it holds 1 public key or certificate") && exists(&desk, "with-line"),
        "{err}"
    );

    // What is no file is refused before anything is done.
    put_key(&desk, "real.pem", KeyAlgorithm::Ed25519);
    symlink("real.pem", desk.folder.path().join("link.pem")).unwrap();
    let err = import("link.pem", "link").expect(240).err;
    assert!(err.contains("link.pem is a link") && err.contains("real.pem"), "{err}");
    let bytes = fs::read(desk.folder.path().join("real.pem")).unwrap();
    let words = ["key", "import", "-", "--name", "in", "--plain", "--move"];
    let err = desk.lantern_with_input(&words, bytes).expect(240).err;
    assert!(err.contains("standard input is no file that could be moved"), "{err}");
    let script = format!(
        "mkfifo pipe; cat real.pem >pipe & exec {} key import pipe --name in --plain --move",
        support::binary()
    );
    let mut command = Command::new("sh");
    command.arg("-c").arg(script).current_dir(desk.folder.path()).env("LANTERN_HOME", desk.home());
    let outcome = Outcome::from(command.output().unwrap()).expect(240);
    assert!(outcome.err.contains("pipe is a pipe, and only a file can be moved"), "{}", outcome.err);
    assert!(exists(&desk, "pipe") && exists(&desk, "real.pem"));
    assert!(!desk.home().join("keys/in.key").exists() && !desk.home().join("keys/link.key").exists());

    // Another name of it is told of.
    fs::hard_link(desk.folder.path().join("real.pem"), desk.folder.path().join("other-name")).unwrap();
    let err = import("real.pem", "real").expect(0).err;
    assert!(err.contains("1 more names (hard links)") && err.contains("real.pem is gone"), "{err}");
    assert!(!exists(&desk, "real.pem") && exists(&desk, "other-name"));
}

/// What the audit advises for a file whose key the ring has: it goes once the ring's copy has proven itself.
#[test]
fn a_file_of_a_key_in_the_ring_is_removed_when_the_rings_copy_opens() {
    let desk = Desk::new();
    put_key(&desk, "lamp.pem", KeyAlgorithm::Ed25519);
    let copy =
        || fs::copy(desk.folder.path().join("lamp.pem"), desk.folder.path().join("again.pem")).unwrap();
    let take = ["key", "import", "lamp.pem", "--name", "lamp", "--new-passphrase-from", "fd:3"];
    desk.with_secrets(&take, "twelve green lamps", "").expect(0);
    copy();
    let audit = desk.lantern(&["key", "audit", "--path", "again.pem"]).expect(1);
    assert!(audit.text().contains("→ lantern key import again.pem --move"), "{}", audit.text());
    let err = desk.lantern(&["key", "import", "again.pem"]).expect(241).err;
    assert!(err.contains("this key is in the ring already, as lamp"), "{err}");
    // Nobody to ask: it stays.
    let err = desk.without_terminal(&["key", "import", "again.pem", "--move"]).expect(241).err;
    assert!(err.contains("the file stays") && exists(&desk, "again.pem"), "{err}");
    let mut screen = Screen::open(&desk, &["key", "import", "again.pem", "--move"]);
    screen.wait_for("Passphrase of the ring's lamp:");
    screen.send("twelve green lamps\r");
    assert_eq!(screen.wait_for_exit(), 0);
    screen.wait_for("again.pem is gone");
    assert!(!exists(&desk, "again.pem"));
    // The ring's copy is damaged: it is no copy, and the file comes in.
    copy();
    let path = desk.home().join("keys/lamp.key");
    let damaged = fs::read(&path).unwrap();
    fs::write(&path, &damaged[..damaged.len() - 60]).unwrap();
    let words = ["key", "import", "again.pem", "--move", "--name", "good", "--plain"];
    let err = desk.lantern(&words).expect(0).err;
    assert!(err.contains("good is in the ring"), "{err}");
    assert!(Sealed::parse(&fs::read(desk.home().join("keys/good.key")).unwrap()).is_ok());
}

#[test]
fn only_files_are_replaced_and_errors_name_what_was_asked_for() {
    let desk = Desk::with_key();
    let convert = |out: &str, more: &[&str]| {
        let words = ["key", "convert", "harbour", "--to", "pkcs8-pem", "--plain", "--out", out];
        desk.lantern(&[&words[..], more].concat())
    };
    put(&desk, "old.pem", b"something");
    fs::create_dir(desk.folder.path().join("deep")).unwrap();
    symlink("old.pem", desk.folder.path().join("link.pem")).unwrap();
    symlink("nowhere/at/all", desk.folder.path().join("dead.pem")).unwrap();
    let made = Command::new("mkfifo").arg(desk.folder.path().join("pipe")).status().unwrap();
    assert!(made.success());
    for (out, more, code, told) in [
        ("old.pem", &[][..], 241, "a file called `old.pem` exists already"),
        ("link.pem", &[], 241, "a file called `link.pem` exists already"),
        ("deep", &["--replace"], 241, "deep is a folder, not a file"),
        ("deep", &[], 241, "deep is a folder, not a file"),
        ("pipe", &["--replace"], 241, "pipe is a pipe, not a file"),
        ("/dev/null", &["--replace"], 241, "/dev/null is a device, not a file"),
        ("dead.pem", &["--replace"], 241, "cannot follow the link dead.pem"),
        ("no/such/x.pem", &[], 241, "cannot write no/such/x.pem"),
    ] {
        let outcome = convert(out, more).expect(code);
        assert!(outcome.err.contains(told), "{out}: {}", outcome.err);
        // Nothing is told of a file that was not written.
        assert!(!outcome.err.contains("note:"), "{out}: {}", outcome.err);
    }
    assert_eq!(fs::read(desk.folder.path().join("old.pem")).unwrap(), b"something");
    convert("link.pem", &["--replace"]).expect(0);
    assert!(fs::symlink_metadata(desk.folder.path().join("link.pem")).unwrap().is_symlink());
    let written = fs::read(desk.folder.path().join("old.pem")).unwrap();
    assert_eq!(Sealed::parse(&written).unwrap().public(), Some(&desk.public_key("harbour")));
    for out in ["-", "/dev/stdout", "/dev/fd/1"] {
        let outcome = convert(out, &[]).expect(0);
        assert_eq!(outcome.out, written, "{out}");
        assert!(outcome.err.contains("note: what was written has no passphrase"), "{}", outcome.err);
    }
    let screen_words = ["key", "convert", "harbour", "--to", "pkcs8-der", "--plain", "--out", "-"];
    let mut screen = Screen::open(&desk, &screen_words);
    assert_eq!(screen.wait_for_exit(), 240);
    screen.wait_for("DER is no text");
    assert!(desk.lantern(&screen_words).expect(0).out.starts_with(&[0x30]));
}

#[test]
fn what_has_no_end_is_read_up_to_the_limit() {
    let desk = Desk::with_key();
    for words in [["key", "show", "/dev/zero"], ["key", "import", "/dev/zero"]] {
        let outcome = desk.without_terminal(&words).expect(241);
        assert!(outcome.err.contains("more than the limit of 1048576"), "{}", outcome.err);
    }
    // The same for files of ours.
    fs::remove_file(desk.home().join("keys/harbour.pub")).unwrap();
    symlink("/dev/zero", desk.home().join("keys/harbour.pub")).unwrap();
    let outcome = desk.lantern(&["key", "show", "harbour"]).expect(241);
    assert!(outcome.err.contains("larger than 64 MiB"), "{}", outcome.err);
    assert!(desk.lantern(&["key", "show", "."]).expect(241).err.contains("is a folder"));
}

#[test]
fn a_key_taken_in_twice_at_once_has_one_name() {
    let desk = Desk::new();
    put_key(&desk, "lamp.pem", KeyAlgorithm::Ed25519);
    for round in 0..5 {
        let start = Barrier::new(4);
        let outcomes: Vec<Outcome> = thread::scope(|scope| {
            let names = ["a", "b", "c", "d"].map(|name| format!("{name}{round}"));
            let running = names.map(|name| {
                let (desk, start) = (&desk, &start);
                scope.spawn(move || {
                    start.wait();
                    desk.lantern(&["key", "import", "lamp.pem", "--name", &name, "--plain"])
                })
            });
            running.into_iter().map(|run| run.join().unwrap()).collect()
        });
        let mut codes: Vec<i32> = outcomes.iter().map(|outcome| outcome.status).collect();
        codes.sort_unstable();
        assert_eq!(codes, [0, 241, 241, 241]);
        assert!(outcomes.iter().any(|outcome| outcome.err.contains("in the ring already, as ")));
        let list: Value =
            serde_json::from_str(desk.lantern(&["key", "list", "--json"]).expect(0).text()).unwrap();
        let [only] = list.as_array().unwrap().as_slice() else { panic!("{list}") };
        desk.lantern(&["key", "remove", only["name"].as_str().unwrap(), "--yes"]).expect(0);
    }
}

/// A disk that is full at any write: the ring is as it was before.
#[test]
fn an_import_that_fails_leaves_nothing_behind() {
    let desk = Desk::with_key();
    put_key(&desk, "lamp.pem", KeyAlgorithm::Rsa(RsaBits::B2048));
    let before = desk.lantern(&["key", "list", "--json"]).expect(0).out;
    let listed = || {
        let entries = fs::read_dir(desk.home().join("keys")).unwrap();
        let mut names: Vec<_> = entries.map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        names
    };
    let (names, notes) = (listed(), fs::read(desk.home().join("keys/ring.toml")).unwrap());
    // Blocks of 512 bytes: the note and the public file fit into one, the private file of RSA does not.
    for blocks in [0, 1] {
        let binary = support::binary();
        let script = format!(
            "trap '' XFSZ; ulimit -f {blocks}; exec {binary} key import lamp.pem --name lamp --plain 2>/dev/full || exit"
        );
        let mut command = Command::new("sh");
        command.arg("-c").arg(script).current_dir(desk.folder.path()).env("LANTERN_HOME", desk.home());
        Outcome::from(command.output().unwrap()).expect(241);
        assert_eq!(listed(), names, "{blocks} blocks");
        assert_eq!(fs::read(desk.home().join("keys/ring.toml")).unwrap(), notes, "{blocks} blocks");
    }
    assert_eq!(desk.lantern(&["key", "list", "--json"]).expect(0).out, before);
}

#[test]
fn the_comment_of_the_public_file_beside_it_comes_along() {
    let desk = Desk::new();
    for (file, beside) in [("one.pem", "one.pub"), ("two", "two.pub"), ("three.pem", "three.pem.pub")] {
        let key = put_key(&desk, file, KeyAlgorithm::Ed25519);
        put(&desk, beside, public_line::format(key.public(), "keeper of the north lamp").as_bytes());
        let name = &file[..3];
        desk.lantern(&["key", "import", file, "--name", name, "--plain"]).expect(0);
        let line = desk.lantern(&["key", "show", name, "--line"]).expect(0);
        assert!(line.text().ends_with(" keeper of the north lamp\n"), "{file}: {}", line.text());
    }
    // That of another key stays where it is.
    put_key(&desk, "four.pem", KeyAlgorithm::Ed25519);
    let other = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    put(&desk, "four.pub", public_line::format(other.public(), "somebody else").as_bytes());
    desk.lantern(&["key", "import", "four.pem", "--name", "four", "--plain"]).expect(0);
    assert!(!desk.lantern(&["key", "show", "four", "--line"]).expect(0).text().contains("somebody"));
}

#[test]
fn a_comment_in_the_open_is_shown_wherever_the_key_is() {
    let desk = Desk::new();
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper of the north lamp").unwrap();
    let bytes =
        write_private(&key, PrivateContainer::OpensshKeyV1, Protect::default(), &mut SystemRandom).unwrap();
    put(&desk, "lamp", &bytes);
    for words in [
        &["key", "show", "lamp"][..],
        &["key", "show", "lamp", "--json"],
        &["key", "show", "lamp", "--line"],
        &["key", "convert", "lamp", "--public"],
    ] {
        let outcome = desk.lantern(words).expect(0);
        assert!(outcome.text().contains("keeper of the north lamp"), "{words:?}: {}", outcome.text());
    }
}

/// A ring that is large enough for its listing to be kept: whatever happens to files and cache, the listing is that of the files.
#[test]
fn a_kept_listing_is_never_older_than_the_keys() {
    let desk = Desk::with_key();
    let keys = desk.home().join("keys");
    let text = fs::read(keys.join("harbour.key")).unwrap();
    let line = fs::read(keys.join("harbour.pub")).unwrap();
    for number in 0..60 {
        fs::write(keys.join(format!("lamp-{number:02}.key")), &text).unwrap();
        fs::write(keys.join(format!("lamp-{number:02}.pub")), &line).unwrap();
    }
    let list = || -> Value {
        serde_json::from_str(desk.lantern(&["key", "list", "--json"]).expect(0).text()).unwrap()
    };
    let first = list();
    let overview = desk.home().join("key-overview");
    assert!(overview.exists());
    assert_eq!(fs::metadata(&overview).unwrap().permissions().mode() & 0o777, 0o600);
    let kept = fs::read_to_string(&overview).unwrap();
    assert_eq!(list(), first);
    let of = |list: &Value, name: &str| {
        list.as_array().unwrap().iter().find(|key| key["name"] == name).unwrap().clone()
    };
    // Exchanged, commented, opened to others, broken, gone.
    let other = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    let bytes =
        write_private(&other, PrivateContainer::OpensshKeyV1, Protect::default(), &mut SystemRandom).unwrap();
    fs::write(keys.join("lamp-01.key"), &bytes).unwrap();
    desk.lantern(&["key", "comment", "lamp-02", "second\tfloor \\n"]).expect(0);
    fs::set_permissions(keys.join("lamp-03.key"), fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(keys.join("lamp-04.key"), "no key").unwrap();
    fs::remove_file(keys.join("lamp-05.key")).unwrap();
    for _ in 0..2 {
        let now = list();
        assert_eq!(of(&now, "lamp-01")["fingerprint"], other.public().fingerprint().to_string());
        assert_eq!(of(&now, "lamp-02")["comment"], "second\tfloor \\n");
        assert_eq!(of(&now, "lamp-03")["exposed"], true);
        assert!(of(&now, "lamp-04")["error"].as_str().unwrap().contains("no public key line"));
        assert_eq!(now.as_array().unwrap().len(), first.as_array().unwrap().len() - 1);
        // One broken key is told, and hides nothing.
        let outcome = desk.lantern(&["key", "list"]).expect(0);
        assert!(outcome.err.contains("lamp-04") && outcome.text().contains("lamp-59"), "{}", outcome.err);
        // What was kept long ago, or is nonsense, changes nothing.
        fs::write(&overview, &kept).unwrap();
    }
    let now = list();
    for nonsense in [
        "",
        "brass-lantern key-overview 1 0000000000000000\nlamp-01\tx\n\t\t\t\t\t\t\t\t\n",
        "brass-lantern key-overview 2\n",
        "\u{fffd}",
    ] {
        fs::write(&overview, nonsense).unwrap();
        assert_eq!(list(), now, "{nonsense:?}");
    }
}
