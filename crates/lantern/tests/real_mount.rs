//! `mount` with a real kernel and a real SSH server.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant, SystemTime};

use support::sshd::{self, Sshd};
use support::{Desk, PATIENCE, noise};

/// A folder of a real server, mounted; taken away when it goes.
struct Mount {
    desk: Desk,
    server: Sshd,
    there: PathBuf,
    here: PathBuf,
}

impl Drop for Mount {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.here).output();
    }
}

impl Mount {
    fn new(options: &[&str]) -> Option<Self> {
        if OpenOptions::new().read(true).write(true).open("/dev/fuse").is_err() {
            eprintln!("\n*** SKIPPED: this system has no FUSE ***\n");
            return None;
        }
        let desk = sshd::desk(&[("host", "ed25519")])?;
        let server = Sshd::start(&desk, "host", "Subsystem sftp internal-sftp");
        let address = format!("root@127.0.0.1:{}", server.port);
        desk.lantern(&["machine", "add", "lamp-01", &address, "--key", "harbour"]).expect(0);
        let fingerprint = desk.public_key("host").fingerprint().to_string();
        desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
        let (there, here) = (desk.folder.path().join("there"), desk.folder.path().join("here"));
        fs::create_dir(&there).unwrap();
        fs::create_dir(&here).unwrap();
        let mount = Self { desk, server, there, here };
        mount.mount(options);
        Some(mount)
    }

    fn place(&self) -> String {
        format!("lamp-01:{}", self.there.display())
    }

    fn mount(&self, options: &[&str]) {
        let (place, here) = (self.place(), self.here.display().to_string());
        let said = self.desk.lantern(&[&["mount", &place, &here][..], options].concat()).expect(0);
        assert!(said.err.contains("takes it away"), "{}", said.err);
    }

    fn unmount(&self) {
        self.desk.lantern(&["unmount", self.here.to_str().unwrap()]).expect(0);
    }

    fn both(&self, path: &str) -> [PathBuf; 2] {
        [self.there.join(path), self.here.join(path)]
    }
}

fn number(outcome: std::io::Result<impl Sized>) -> i32 {
    outcome.err().unwrap().raw_os_error().unwrap()
}

#[test]
fn files_are_made_read_changed_renamed_and_removed() {
    let Some(mount) = Mount::new(&[]) else { return };
    let Mount { here, there, desk, .. } = &mount;
    let content = noise(5_000_000);
    fs::write(here.join("chart"), &content).unwrap();
    assert!(fs::read(there.join("chart")).unwrap() == content);
    assert!(fs::read(here.join("chart")).unwrap() == content);
    // Anywhere in it, as programs do.
    let file = OpenOptions::new().read(true).write(true).open(here.join("chart")).unwrap();
    file.write_all_at(b"lamp", 3_000_000).unwrap();
    let mut four = [0; 4];
    file.read_exact_at(&mut four, 3_000_000).unwrap();
    assert_eq!(&four, b"lamp");
    file.set_len(3_000_002).unwrap();
    drop(file);
    assert_eq!(fs::metadata(there.join("chart")).unwrap().len(), 3_000_002);
    let mut log = OpenOptions::new().append(true).create(true).open(here.join("log")).unwrap();
    log.write_all(b"one\n").unwrap();
    fs::write(there.join("other"), "x").unwrap();
    log.write_all(b"two\n").unwrap();
    drop(log);
    assert_eq!(fs::read(there.join("log")).unwrap(), b"one\ntwo\n");

    fs::create_dir_all(here.join("a/b")).unwrap();
    fs::rename(here.join("log"), here.join("a/b/log")).unwrap();
    fs::rename(here.join("a"), here.join("c")).unwrap();
    assert_eq!(fs::read(here.join("c/b/log")).unwrap(), b"one\ntwo\n");
    symlink("c/b/log", here.join("link")).unwrap();
    assert_eq!(fs::read_link(there.join("link")).unwrap(), Path::new("c/b/log"));
    assert_eq!(fs::read(here.join("link")).unwrap(), b"one\ntwo\n");
    fs::hard_link(here.join("chart"), here.join("second")).unwrap();
    assert_eq!(
        fs::metadata(there.join("second")).unwrap().ino(),
        fs::metadata(there.join("chart")).unwrap().ino()
    );
    fs::set_permissions(here.join("chart"), fs::Permissions::from_mode(0o640)).unwrap();
    let time = SystemTime::UNIX_EPOCH + Duration::from_secs(1_760_000_000);
    File::options().write(true).open(here.join("chart")).unwrap().set_modified(time).unwrap();
    for path in mount.both("chart") {
        let known = fs::metadata(&path).unwrap();
        assert_eq!((known.mode() & 0o777, known.mtime(), known.len()), (0o640, 1_760_000_000, 3_000_002));
    }

    // What programs go by is the number.
    assert_eq!(number(fs::read(here.join("nothing"))), rustix::io::Errno::NOENT.raw_os_error());
    assert_eq!(number(fs::create_dir(here.join("c"))), rustix::io::Errno::EXIST.raw_os_error());
    assert_eq!(number(fs::remove_dir(here.join("c"))), rustix::io::Errno::NOTEMPTY.raw_os_error());
    assert_eq!(number(File::create_new(here.join("chart"))), rustix::io::Errno::EXIST.raw_os_error());
    fs::remove_file(here.join("link")).unwrap();
    fs::remove_dir_all(here.join("c")).unwrap();
    assert!(!there.join("c").exists() && !there.join("link").exists());
    // One that is open when it is removed is still there for whoever has it open.
    let mut open = File::open(here.join("second")).unwrap();
    fs::remove_file(here.join("second")).unwrap();
    let mut all = Vec::new();
    open.read_to_end(&mut all).unwrap();
    assert_eq!(all.len(), 3_000_002);
    drop(open);

    let listed = desk.lantern(&["mount", "--list", "--json"]).expect(0);
    let listed: serde_json::Value = serde_json::from_str(listed.text()).unwrap();
    let own = listed.as_array().unwrap().iter().find(|one| one["folder"] == here.to_str().unwrap()).unwrap();
    assert_eq!((own["place"].as_str(), own["read_only"].as_bool()), (Some(&*mount.place()), Some(false)));
    let gone = desk.lantern(&["unmount", here.to_str().unwrap(), "--json"]).expect(0);
    let gone: serde_json::Value = serde_json::from_str(gone.text()).unwrap();
    assert_eq!((gone["place"].as_str(), gone["folder"].as_str()), (Some(&*mount.place()), here.to_str()));
    let again = desk.lantern(&["mount", &mount.place(), here.to_str().unwrap(), "--json"]).expect(0);
    let again: serde_json::Value = serde_json::from_str(again.text()).unwrap();
    assert_eq!((again["place"].as_str(), again["folder"].as_str()), (Some(&*mount.place()), here.to_str()));
    mount.unmount();
    assert_eq!(fs::read_dir(here).unwrap().count(), 0);
    desk.lantern(&["unmount", here.to_str().unwrap()]).expect(241);
}

/// What changes there is seen here once what was known is too old; what has no size is read all the same.
#[test]
fn what_others_do_is_seen() {
    let Some(mount) = Mount::new(&["--cache", "1"]) else { return };
    let [there, here] = mount.both("log");
    fs::write(&there, "one").unwrap();
    assert_eq!(fs::read(&here).unwrap(), b"one");
    fs::write(&there, "one and two").unwrap();
    // A file that is opened is asked what it is.
    assert_eq!(fs::read(&here).unwrap(), b"one and two");
    fs::remove_file(&there).unwrap();
    let since = Instant::now();
    while here.exists() {
        assert!(since.elapsed() < Duration::from_secs(5));
        std::thread::sleep(Duration::from_millis(50));
    }
    symlink("/proc/self/status", mount.there.join("status")).unwrap();
    let [_, proc_here] = mount.both("proc");
    fs::create_dir(&proc_here).unwrap();
    assert!(
        Command::new("mount")
            .args(["--bind", "/proc"])
            .arg(mount.there.join("proc"))
            .status()
            .unwrap()
            .success()
    );
    let text = fs::read_to_string(proc_here.join("version"));
    let _ = Command::new("umount").arg(mount.there.join("proc")).status();
    assert_eq!(text.unwrap(), fs::read_to_string("/proc/version").unwrap());
}

/// Reads and writes at places that follow from a seed, against a file of this computer.
#[test]
fn bytes_are_what_they_would_be_here() {
    let Some(mount) = Mount::new(&[]) else { return };
    let (own, mounted) = (mount.desk.folder.path().join("own"), mount.here.join("file"));
    let open = |path: &Path| {
        OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path).unwrap()
    };
    let (mut one, mut other) = (open(&own), open(&mounted));
    let mut seed = 7_u64;
    let mut next = |most: u64| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % most
    };
    for _ in 0..400 {
        let (deed, at, len) = (next(6), next(2_000_000), next(300_000) as usize);
        match deed {
            0..3 => {
                let bytes: Vec<u8> = noise(len).iter().map(|byte| byte.wrapping_add(at as u8)).collect();
                one.write_all_at(&bytes, at).unwrap();
                other.write_all_at(&bytes, at).unwrap();
            }
            3..5 => {
                let read = |file: &mut File| {
                    let mut bytes = vec![0; len];
                    file.seek(SeekFrom::Start(at)).unwrap();
                    let mut came = 0;
                    while let Ok(more) = file.read(&mut bytes[came..])
                        && more > 0
                    {
                        came += more;
                    }
                    bytes.truncate(came);
                    bytes
                };
                assert!(read(&mut one) == read(&mut other), "at {at}, {len} bytes");
            }
            _ => {
                one.set_len(at).unwrap();
                other.set_len(at).unwrap();
                assert_eq!(other.metadata().unwrap().len(), at);
            }
        }
    }
    drop(other);
    assert!(fs::read(&own).unwrap() == fs::read(mount.there.join("file")).unwrap());
}

#[test]
fn programs_work_on_it_as_on_any_folder() {
    let Some(mount) = Mount::new(&[]) else { return };
    let git = |words: &[&str]| {
        let mut command = Command::new("git");
        command
            .current_dir(&mount.here)
            .env("HOME", mount.desk.folder.path())
            .env("GIT_CONFIG_NOSYSTEM", "1");
        let outcome = command
            .args(["-c", "user.name=keeper", "-c", "user.email=keeper@lamp.example"])
            .args(words)
            .output();
        let outcome = outcome.unwrap();
        assert!(outcome.status.success(), "{words:?}: {}", String::from_utf8_lossy(&outcome.stderr));
        String::from_utf8(outcome.stdout).unwrap()
    };
    git(&["init", "-q"]);
    for folder in 0..5 {
        fs::create_dir(mount.here.join(format!("log-{folder}"))).unwrap();
        for file in 0..40 {
            fs::write(mount.here.join(format!("log-{folder}/{file}")), format!("{folder} {file}\n")).unwrap();
        }
    }
    git(&["add", "."]);
    git(&["commit", "-qm", "Begin the log"]);
    assert_eq!(git(&["status", "--porcelain"]), "");
    fs::write(mount.there.join("log-3/7"), "changed there\n").unwrap();
    std::thread::sleep(Duration::from_millis(2100));
    assert_eq!(git(&["status", "--porcelain"]), " M log-3/7\n");
    git(&["fsck", "--strict"]);
}

#[test]
fn it_goes_on_after_the_connection_was_lost() {
    let Some(mount) = Mount::new(&[]) else { return };
    let content = noise(2_000_000);
    fs::write(mount.here.join("chart"), &content).unwrap();
    let mut open = File::open(mount.here.join("chart")).unwrap();
    let mut begin = vec![0; 1000];
    open.read_exact(&mut begin).unwrap();
    mount.server.drop_connections();
    // A handle from before, and a look at something new.
    let mut rest = Vec::new();
    open.read_to_end(&mut rest).unwrap();
    assert!([begin, rest].concat() == content);
    mount.server.drop_connections();
    assert_eq!(fs::read_dir(&mount.here).unwrap().count(), 1);
    fs::write(mount.here.join("after"), "lit").unwrap();
    assert_eq!(fs::read(mount.there.join("after")).unwrap(), b"lit");
}

#[test]
fn a_write_that_fails_is_told_to_whoever_closes_the_file() {
    let Some(mount) = Mount::new(&[]) else { return };
    let small = mount.there.join("small");
    fs::create_dir(&small).unwrap();
    let made =
        Command::new("mount").args(["-t", "tmpfs", "-o", "size=1m", "none"]).arg(&small).status().unwrap();
    assert!(made.success());
    let written = fs::write(mount.here.join("small/large"), noise(4_000_000));
    let copied =
        Command::new("cp").arg("/proc/self/exe").arg(mount.here.join("small/other")).output().unwrap();
    let _ = Command::new("umount").arg("-l").arg(&small).status();
    // A write that comes later, or the end of the file: `fs::write` does not hear of the latter, and programs do.
    let said = String::from_utf8_lossy(&copied.stderr).into_owned();
    assert!(!copied.status.success(), "{said}");
    assert!(written.is_err() || said.contains("cp:"), "{written:?} {said}");
}

#[test]
fn it_is_taken_away_whatever_became_of_it() {
    let Some(mount) = Mount::new(&["--read-only"]) else { return };
    let here = mount.here.to_str().unwrap();
    fs::write(mount.there.join("log"), "one").unwrap();
    assert_eq!(number(fs::write(mount.here.join("new"), "x")), rustix::io::Errno::ROFS.raw_os_error());
    let again = mount.desk.lantern(&["mount", &mount.place(), here]).expect(241);
    assert!(again.err.contains("is mounted already"), "{}", again.err);
    // In use.
    let open = File::open(mount.here.join("log")).unwrap();
    let busy = mount.desk.lantern(&["unmount", here]).expect(241);
    assert!(busy.err.contains("is in use") && busy.err.contains("--lazily"), "{}", busy.err);
    mount.desk.lantern(&["unmount", here, "--lazily"]).expect(0);
    drop(open);
    assert_eq!(fs::read_dir(here).unwrap().count(), 0);
    // Its process was killed.
    mount.mount(&[]);
    let pattern = format!("mount {} {here}", mount.place());
    let killed = Command::new("pkill").args(["-KILL", "-f", "--", &pattern]).status().unwrap();
    assert!(killed.success());
    let since = Instant::now();
    while fs::read_dir(here).is_ok() {
        assert!(since.elapsed() < PATIENCE);
        std::thread::sleep(Duration::from_millis(20));
    }
    mount.unmount();
    // In the foreground, until it is told to end.
    let mut child = mount.desk.command(&["mount", &mount.place(), here, "--foreground"]).spawn().unwrap();
    let since = Instant::now();
    while !mount.here.join("log").exists() {
        assert!(since.elapsed() < PATIENCE);
        std::thread::sleep(Duration::from_millis(20));
    }
    let pid = rustix::process::Pid::from_raw(i32::try_from(child.id()).unwrap()).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(fs::read_dir(here).unwrap().count(), 0);
    // What cannot be mounted says why, and nothing is left of it.
    for (place, at, told) in [
        (format!("lamp-01:{}/none", mount.there.display()), here, "there is no"),
        (format!("lamp-01:{}/log", mount.there.display()), here, "is no folder"),
        (mount.place(), "/no/such/folder", "mkdir"),
        (mount.place(), "/tmp", "something is in it"),
    ] {
        let refused = mount.desk.lantern(&["mount", &place, at]);
        assert!(refused.status != 0 && refused.err.contains(told), "{}", refused.err);
    }
}
