//! `copy` with the file service of the real SSH server.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use support::place::{Place, same};
use support::{PATIENCE, noise};

const SFTP: &str = "Subsystem sftp internal-sftp";
const PROGRAM: &str = "Subsystem sftp /usr/lib/openssh/sftp-server";

#[test]
fn folders_files_and_names_of_any_bytes_go_there_and_back() {
    let Some(place) = Place::new(PROGRAM) else { return };
    let site = place.here("site");
    fs::create_dir_all(site.join("deep/er")).unwrap();
    for number in 0..500_usize {
        fs::write(site.join(format!("deep/er/c{number}")), noise(number * 97)).unwrap();
    }
    for name in [&b"l\xe5mp"[..], b"two\nlines", b"-rf", b"it's $(here)"] {
        fs::write(site.join(OsStr::from_bytes(name)), name).unwrap();
    }
    symlink("deep/er/c1", site.join("link")).unwrap();
    symlink("nowhere", site.join("broken")).unwrap();
    fs::set_permissions(site.join("-rf"), fs::Permissions::from_mode(0o705)).unwrap();
    let went = place.desk.lantern(&["copy", "site", &place.at(""), "--verify"]).expect(0);
    assert!(
        went.err.starts_with("504 files copied (") && went.err.contains("), 3 folders made, 2 links made."),
        "{}",
        went.err
    );
    same(&site, &place.there.join("site"));
    assert_eq!(fs::metadata(place.there.join("site/-rf")).unwrap().mode() & 0o777, 0o705);
    let time = |path: &Path| fs::symlink_metadata(path).unwrap().mtime();
    assert_eq!(time(&site.join("deep/er/c7")), time(&place.there.join("site/deep/er/c7")));
    assert_eq!(time(&site.join("deep")), time(&place.there.join("site/deep")));
    let again = place.desk.lantern(&["copy", "site", &place.at("")]).expect(0);
    assert!(again.err.contains("506 files there already"), "{}", again.err);
    place.desk.lantern(&["copy", &place.at("site"), "back", "--verify"]).expect(0);
    same(&site, &place.here("back"));
    place.is_tidy();
}

#[test]
fn large_files_arrive_whole_and_holes_stay_holes() {
    let Some(place) = Place::new(SFTP) else { return };
    let big = place.here("big");
    fs::write(&big, noise(150_000_000)).unwrap();
    let went = place.desk.lantern(&["copy", "big", &place.at("big"), "--verify"]).expect(0);
    assert!(went.err.contains("1 file copied (150 MB, compared)"), "{}", went.err);
    assert!(fs::read(&big).unwrap() == fs::read(place.there.join("big")).unwrap());
    place.desk.lantern(&["copy", &place.at("big"), "back"]).expect(0);
    assert!(fs::read(&big).unwrap() == fs::read(place.here("back")).unwrap());

    let sparse = place.here("sparse");
    let file = fs::File::create(&sparse).unwrap();
    file.set_len(300_000_000).unwrap();
    file.write_all_at(b"middle", 100_000_000).unwrap();
    drop(file);
    let start = Instant::now();
    let went = place.desk.lantern(&["copy", "sparse", &place.at(""), "--verify"]).expect(0);
    assert!(went.err.contains("300 MB of it holes"), "{} {:?}", went.err, start.elapsed());
    let there = fs::metadata(place.there.join("sparse")).unwrap();
    assert!(there.len() == 300_000_000 && there.blocks() < 10_000, "{}", there.blocks());
    place.is_tidy();
}

/// What is in `/proc` has no size, and is read to its end.
#[test]
fn files_without_a_size_and_files_that_grow_are_taken_as_they_are() {
    let Some(place) = Place::new(SFTP) else { return };
    place.desk.lantern(&["copy", "lamp-01:/proc/cpuinfo", "cpuinfo"]).expect(0);
    assert!(fs::read_to_string(place.here("cpuinfo")).unwrap().contains("processor"));
    place.desk.lantern(&["copy", "/proc/filesystems", &place.at("filesystems")]).expect(0);
    assert!(fs::read_to_string(place.there.join("filesystems")).unwrap().contains("proc"));

    // A log that grows while it is read is taken up to where it ended.
    let log = place.there.join("log");
    fs::write(&log, noise(30_000_000)).unwrap();
    let mut writer = Command::new("sh")
        .args(["-c", "while :; do echo lit; done >>log"])
        .current_dir(&place.there)
        .spawn()
        .unwrap();
    let went = place.desk.lantern(&["copy", &place.at("log"), "log"]);
    writer.kill().unwrap();
    writer.wait().unwrap();
    let went = went.expect(0);
    let got = fs::read(place.here("log")).unwrap();
    assert!(got.len() >= 30_000_000 && got[..30_000_000] == noise(30_000_000), "{}", went.err);
}

#[test]
fn a_chroot_without_commands_a_read_only_service_and_none_at_all() {
    let Some(place) = Place::new("Subsystem sftp internal-sftp -R") else { return };
    fs::write(place.here("a"), "x").unwrap();
    let refused = place.desk.lantern(&["copy", "a", &place.at("")]).expect(1);
    assert!(refused.err.contains("permission denied"), "{}", refused.err);
    place.desk.lantern(&["copy", &place.at("../a"), "b"]).expect(0);

    // The folder of a chroot and all above it must be root's own: /run is.
    let root = PathBuf::from(format!("/run/lantern-chroot-{}", std::process::id()));
    fs::create_dir_all(root.join("in")).unwrap();
    fs::set_permissions(&root, fs::Permissions::from_mode(0o755)).unwrap();
    let config = format!("{SFTP}\nChrootDirectory {}\nForceCommand internal-sftp", root.display());
    let Some(place) = Place::new(&config) else { return };
    let content = noise(6_000_000);
    fs::write(place.here("a"), &content).unwrap();
    let went = place.desk.lantern(&["copy", "a", "lamp-01:/in/", "--verify"]);
    let there = fs::read(root.join("in/a"));
    fs::remove_dir_all(&root).unwrap();
    // Nothing there computes a digest: what was written is read back.
    assert!(went.expect(0).err.contains("compared") && there.unwrap() == content);
}

/// A file system that is as large as it says, and full soon.
#[test]
fn a_full_disk_leaves_the_old_file_and_nothing_of_the_new_one() {
    let Some(place) = Place::new(SFTP) else { return };
    let small = place.there.join("small");
    fs::create_dir(&small).unwrap();
    let mount = |words: &[&str]| Command::new("mount").args(words).arg(&small).status().unwrap().success();
    if !mount(&["-t", "tmpfs", "-o", "size=8m", "none"]) {
        eprintln!("\n*** SKIPPED: a full disk (nothing can be mounted here) ***\n");
        return;
    }
    fs::write(small.join("chart"), "as it was").unwrap();
    fs::write(place.here("chart"), noise(20_000_000)).unwrap();
    let asked = place.desk.lantern(&["copy", "chart", &place.at("small/")]);
    let full = place.desk.lantern(&["copy", "chart", &place.at("small/"), "--no-space-check"]);
    let (left, names) = (fs::read(small.join("chart")), fs::read_dir(&small).unwrap().count());
    assert!(Command::new("umount").arg(&small).status().unwrap().success());
    assert!(asked.expect(250).err.contains("there is room for 8."), "the room was not asked for");
    let full = full.expect(1);
    assert!(full.err.contains("cannot write") || full.err.contains("cannot close"), "{}", full.err);
    assert_eq!((left.unwrap(), names), (b"as it was".to_vec(), 1));
}

/// The shell of the user prints something at its start: the service would never be heard.
#[test]
fn what_a_shell_prints_in_the_place_of_the_service_is_shown() {
    let Some(place) = Place::new("Subsystem sftp echo Welcome to the lamp room") else { return };
    let outcome = place.desk.lantern(&["copy", &place.at("x"), "."]).expect(246);
    assert!(outcome.err.contains("something else speaks: Welcome to the lamp room"), "{}", outcome.err);
}

/// A large file that is cut off goes on where it was: by a signal, and by the end of the connection.
#[test]
fn what_was_cut_goes_on_where_it_was() {
    let Some(place) = Place::new(SFTP) else { return };
    let content = noise(120_000_000);
    fs::write(place.here("big"), &content).unwrap();
    fs::create_dir(place.there.join("from")).unwrap();
    fs::write(place.there.join("from/big"), &content).unwrap();
    let parts = |folder: &Path| {
        let names = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap());
        names
            .filter(|entry| entry.file_name().to_string_lossy().ends_with(".lantern-part"))
            .map(|entry| entry.metadata().map(|known| known.len()).unwrap_or(0))
            .max()
    };
    let to_there = ["copy".to_owned(), "big".to_owned(), place.at("big")];
    let to_here = ["copy".to_owned(), place.at("from/big"), "got".to_owned()];
    for (words, folder, signal) in [
        (&to_there, place.there.clone(), "INT"),
        (&to_there, place.there.clone(), "KILL"),
        (&to_here, place.here(""), "INT"),
        (&to_here, place.here(""), "KILL"),
    ] {
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let mut child = place.desk.command(&words).stderr(Stdio::piped()).spawn().unwrap();
        let start = Instant::now();
        let before = parts(&folder).unwrap_or(0);
        while parts(&folder).unwrap_or(0) <= before.max(8_000_000) {
            if child.try_wait().unwrap().is_some() {
                break;
            }
            assert!(start.elapsed() < PATIENCE);
            std::thread::sleep(Duration::from_millis(2));
        }
        let pid = rustix::process::Pid::from_child(&child);
        let signal =
            if signal == "INT" { rustix::process::Signal::INT } else { rustix::process::Signal::KILL };
        let _ = rustix::process::kill_process(pid, signal);
        child.wait_with_output().unwrap();
        // Under its own name there is nothing, or all of it.
        let named = folder.join(if words[2] == "got" { "got" } else { "big" });
        if let Ok(whole) = fs::read(&named) {
            assert!(words[2] == "got" || folder == place.there, "{named:?}");
            assert!(whole == content);
        }
    }
    for words in [&to_there, &to_here] {
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let went = place.desk.lantern(&words).expect(0);
        assert!(
            went.err.contains("there from before") || went.err.contains("there already"),
            "{words:?}: {}",
            went.err
        );
    }
    assert!(fs::read(place.there.join("big")).unwrap() == content);
    assert!(fs::read(place.here("got")).unwrap() == content);
}

/// A file of somebody else's, with a mode of its own, behind a link: all of that stays.
#[test]
fn an_edited_file_keeps_its_owner_its_mode_and_the_link_to_it() {
    let Some(place) = Place::new(SFTP) else { return };
    let file = place.there.join("conf");
    fs::write(&file, "one\n").unwrap();
    std::os::unix::fs::chown(&file, Some(12_345), Some(54_321)).unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o2640)).unwrap();
    symlink("conf", place.there.join("link")).unwrap();
    let editor = place.here("editor");
    fs::write(&editor, "#!/bin/sh\necho two >>\"$1\"\n").unwrap();
    fs::set_permissions(&editor, fs::Permissions::from_mode(0o755)).unwrap();
    let mut command = place.desk.command(&["edit", &place.at("link")]);
    let output = command.env("EDITOR", &editor).env("PATH", "/usr/bin:/bin").output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let known = fs::metadata(&file).unwrap();
    assert_eq!(fs::read_to_string(&file).unwrap(), "one\ntwo\n");
    assert_eq!((known.uid(), known.gid(), known.mode() & 0o7777), (12_345, 54_321, 0o2640));
    assert!(fs::symlink_metadata(place.there.join("link")).unwrap().is_symlink());
    place.is_tidy();
}

/// No file service: single files go by the shell, whatever they are called, and what needs more is refused.
#[test]
fn without_a_file_service_single_files_go_by_plain_commands() {
    let Some(place) = Place::new("") else { return };
    let name = "it's $(touch gone) \"here\" -n";
    let content = noise(5_000_000);
    fs::write(place.here(name), &content).unwrap();
    fs::set_permissions(place.here(name), fs::Permissions::from_mode(0o640)).unwrap();
    let went = place.desk.lantern(&["copy", name, &place.at("")]).expect(0);
    assert!(
        went.err.contains("goes by plain commands") && went.err.contains("1 file copied (5.0 MB)"),
        "{}",
        went.err
    );
    let there = place.there.join(name);
    assert!(fs::read(&there).unwrap() == content);
    let known = fs::metadata(&there).unwrap();
    assert_eq!(
        (known.mode() & 0o777, known.mtime()),
        (0o640, fs::metadata(place.here(name)).unwrap().mtime())
    );
    // One that was changed there later stays, unless it is said.
    fs::write(&there, "newer").unwrap();
    let later = std::time::SystemTime::now() + Duration::from_secs(60);
    fs::File::options().write(true).open(&there).unwrap().set_modified(later).unwrap();
    let newer = place.desk.lantern(&["copy", name, &place.at("")]);
    assert!(newer.status != 0 && newer.err.contains("--replace-newer"), "{}", newer.err);
    assert_eq!(fs::read(&there).unwrap(), b"newer");
    place.desk.lantern(&["copy", name, &place.at(""), "--replace-newer", "--no-times"]).expect(0);
    assert!(fs::read(&there).unwrap() == content);
    assert!(fs::metadata(&there).unwrap().modified().unwrap().elapsed().unwrap() < Duration::from_secs(30));
    place.desk.lantern(&["copy", &place.at(name), "back"]).expect(0);
    assert!(fs::read(place.here("back")).unwrap() == content);
    place.desk.lantern(&["copy", name, &place.at("other")]).expect(0);
    assert!(fs::read(place.there.join("other")).unwrap() == content);
    place.is_tidy();
    assert!(!place.there.join("gone").exists() && !place.here("gone").exists());

    // Holes, also at the end, are zeros on the way.
    let sparse = fs::File::create(place.here("sparse")).unwrap();
    sparse.write_all_at(b"tide", 30_000_000).unwrap();
    sparse.set_len(50_000_000).unwrap();
    place.desk.lantern(&["copy", "sparse", &place.at("sparse")]).expect(0);
    let there = fs::read(place.there.join("sparse")).unwrap();
    assert!(there == fs::read(place.here("sparse")).unwrap() && there.len() == 50_000_000);

    fs::create_dir(place.here("folder")).unwrap();
    fs::write(place.here("two\nlines"), "x").unwrap();
    for (words, code, says) in [
        (
            vec!["copy".to_owned(), "folder".into(), place.at("")],
            250,
            "single files go by plain commands, and this is a folder",
        ),
        (vec!["copy".into(), place.at("*"), ".".into()], 250, "patterns, plans, mirrors"),
        (vec!["copy".into(), "none".into(), place.at("")], 241, "there is no none"),
        (vec!["copy".into(), place.at("none"), ".".into()], 250, "cannot read"),
        (vec!["copy".into(), place.at(""), ".".into()], 250, "a folder"),
        (vec!["copy".into(), "back".into(), place.at("no/where")], 250, "cannot write"),
        (vec!["copy".into(), "two\nlines".into(), place.at("")], 250, "an end of a line in it"),
        // It opens, and its first byte cannot be read: the far side is told that nothing follows.
        (vec!["copy".into(), "/proc/self/mem".into(), place.at("mem")], 241, "cannot read"),
    ] {
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let outcome = place.desk.lantern(&words).expect(code);
        assert!(outcome.err.contains(says), "{words:?}: {}", outcome.err);
    }
    place.is_tidy();
}
