//! `copy`: files to simulated machines, from them, and between them; servers that do it wrong.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use lantern_harbour::{FilesSpec, MachineSpec};
use lantern_ssh::sftp::{Extensions, Flaws};
use support::{Desk, Lit, Screen, light, light_all, machine, noise};

/// A time some days ago, in whole seconds.
const THEN: u64 = 1_760_000_000;

fn desk_and_machine(files: FilesSpec) -> (Desk, Lit) {
    let desk = Desk::with_key();
    let lit = light(MachineSpec { files, ..machine("lamp-01", &desk.public_key("harbour")) });
    desk.add(&lit);
    (desk, lit)
}

fn usual() -> (Desk, Lit) {
    desk_and_machine(FilesSpec::default())
}

/// A file of the desk with this content, changed then.
fn put(desk: &Desk, path: &str, content: impl AsRef<[u8]>) -> PathBuf {
    let path = desk.folder.path().join(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(&path, content).unwrap();
    set_time(&path, THEN);
    path
}

fn set_time(path: &std::path::Path, seconds: u64) {
    let time = SystemTime::UNIX_EPOCH + Duration::from_secs(seconds);
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

/// That no part of a file is left in a folder there.
fn is_tidy(lit: &Lit, folder: &str) {
    let names = lit.lit.names("keeper", folder);
    assert!(!names.iter().any(|name| name.contains("lantern-part")), "{names:?}");
}

#[test]
fn a_file_goes_there_and_back_with_its_time_and_permissions() {
    let (desk, lit) = usual();
    let content = noise(3_000_000);
    let file = put(&desk, "chart.svg", &content);
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    let went = desk.lantern(&["copy", "chart.svg", "lamp-01:/srv/", "--verify"]).expect(0);
    assert_eq!((went.text(), went.err.as_str()), ("", "1 file copied (3.0 MB, compared).\n"));
    let there = lit.lit.look("keeper", "/srv/chart.svg").unwrap();
    assert_eq!((there.permissions(), there.times.unwrap().1), (Some(0o640), THEN as u32));
    assert!(lit.lit.file("keeper", "/srv/chart.svg").unwrap() == content);
    is_tidy(&lit, "/srv");

    desk.lantern(&["copy", "lamp-01:/srv/chart.svg", "back.svg"]).expect(0);
    let back = desk.folder.path().join("back.svg");
    assert!(fs::read(&back).unwrap() == content);
    let known = fs::metadata(&back).unwrap();
    assert_eq!((known.mtime() as u64, known.mode() & 0o777), (THEN, 0o640));

    // One that replaces another keeps the permissions that are there; a time of now and others are given when asked.
    fs::set_permissions(&back, fs::Permissions::from_mode(0o600)).unwrap();
    desk.lantern(&["copy", "lamp-01:/srv/chart.svg", "back.svg", "--everything", "--no-times"]).expect(0);
    let known = fs::metadata(&back).unwrap();
    assert!(known.mode() & 0o777 == 0o600 && known.mtime() as u64 > THEN);
    desk.lantern(&["copy", "chart.svg", "lamp-01:", "--permissions", "604"]).expect(0);
    assert_eq!(lit.lit.look("keeper", "chart.svg").unwrap().permissions(), Some(0o604));
}

#[test]
fn a_folder_goes_with_all_below_and_once_more_costs_nothing() {
    let (desk, lit) = usual();
    for number in 0..300 {
        put(&desk, &format!("site/{}/c{number}.svg", number % 7), format!("chart {number}"));
    }
    put(&desk, "site/empty", "");
    let site = desk.folder.path().join("site");
    symlink("0/c0.svg", site.join("first")).unwrap();
    symlink("/etc/hostname", site.join("out")).unwrap();
    fs::set_permissions(site.join("3"), fs::Permissions::from_mode(0o550)).unwrap();
    let went = desk.lantern(&["copy", "site", "lamp-01:/srv"]).expect(0);
    assert!(
        went.err.starts_with("301 files copied (") && went.err.contains("), 8 folders made, 2 links made."),
        "{}",
        went.err
    );
    assert_eq!(lit.lit.look("keeper", "/srv/site/3").unwrap().permissions(), Some(0o550));
    is_tidy(&lit, "/srv/site/0");
    let again = desk.lantern(&["copy", "site", "lamp-01:/srv"]).expect(0);
    assert!(again.err.starts_with("303 files there already"), "{}", again.err);

    desk.lantern(&["copy", "lamp-01:/srv/site", "back"]).expect(0);
    let differ = std::process::Command::new("diff")
        .args(["-r", "--no-dereference", "site", "back"])
        .current_dir(desk.folder.path())
        .output()
        .unwrap();
    assert!(differ.status.success(), "{}", String::from_utf8_lossy(&differ.stdout));

    // The same command twice is the same thing; what is to be within it has a slash.
    for _ in 0..2 {
        desk.lantern(&["copy", "site", "lamp-01:/srv/twice/site"]);
        desk.lantern(&["files", "make-folder", "lamp-01:/srv/twice", "--above"]).expect(0);
    }
    assert!(!lit.lit.names("keeper", "/srv/twice/site").contains(&"site".to_owned()));
    desk.lantern(&["copy", "site/1", "lamp-01:/srv/twice/site/"]).expect(0);
    desk.lantern(&["copy", "site", "lamp-01:/srv/twice/site/"]).expect(0);
    assert!(lit.lit.names("keeper", "/srv/twice/site").contains(&"site".to_owned()));

    // What links lead to, as far as it is within; a link that leads out is told.
    let followed = desk.lantern(&["copy", "site", "lamp-01:/srv/flat", "--follow-links"]).expect(1);
    assert!(followed.err.contains("a link that leads out of what is copied: site/out"), "{}", followed.err);
    assert_eq!(lit.lit.file("keeper", "/srv/flat/first").unwrap(), b"chart 0");
    assert_eq!(lit.lit.look("keeper", "/srv/flat/out"), None);
}

#[test]
fn what_is_there_is_left_replaced_or_kept_as_is_said() {
    let (desk, lit) = usual();
    let file = put(&desk, "notes", "old words");
    // Changed there later than here.
    lit.lit.put_file("keeper", "/srv/notes", b"newer words");
    let newer = desk.lantern(&["copy", "notes", "lamp-01:/srv/"]).expect(1);
    assert!(
        newer.err.contains("what is there was changed later: --replace-newer replaces it: notes"),
        "{}",
        newer.err
    );
    assert_eq!(lit.lit.file("keeper", "/srv/notes").unwrap(), b"newer words");
    let kept = desk.lantern(&["copy", "notes", "lamp-01:/srv/", "--keep-existing"]).expect(0);
    assert!(kept.err.contains("--keep-existing keeps it"), "{}", kept.err);
    desk.lantern(&["copy", "notes", "lamp-01:/srv/", "--replace-newer"]).expect(0);
    assert_eq!(lit.lit.file("keeper", "/srv/notes").unwrap(), b"old words");

    // As long and as old, and yet another.
    fs::write(&file, "OLD WORDS").unwrap();
    set_time(&file, THEN);
    let same = desk.lantern(&["copy", "notes", "lamp-01:/srv/"]).expect(0);
    assert!(same.err.contains("1 file there already"), "{}", same.err);
    desk.lantern(&["copy", "notes", "lamp-01:/srv/", "--by-content"]).expect(0);
    assert_eq!(lit.lit.file("keeper", "/srv/notes").unwrap(), b"OLD WORDS");
    let same = desk.lantern(&["copy", "notes", "lamp-01:/srv/", "--by-content"]).expect(0);
    assert!(same.err.contains("1 file there already"), "{}", same.err);
}

#[test]
fn patterns_and_streams_mean_files_there() {
    let (desk, lit) = usual();
    let logs = desk.lantern(&["copy", "lamp-01:*.t?t", "lamp-01:/etc/lamp/lamp.conf", "got/"]).expect(0);
    assert!(
        logs.err.starts_with("3 files copied (") && logs.err.contains("), 1 folder made."),
        "{}",
        logs.err
    );
    assert!(desk.folder.path().join("got/notice.txt").exists());
    let none = desk.lantern(&["copy", "lamp-01:/srv/*.none", "got/"]).expect(250);
    assert!(none.err.contains("nothing on lamp-01 fits /srv/*.none"), "{}", none.err);

    let content = noise(700_000);
    desk.lantern_with_input(&["copy", "-", "lamp-01:/srv/dump", "--verify"], content.clone()).expect(0);
    assert!(lit.lit.file("keeper", "/srv/dump").unwrap() == content);
    assert!(desk.lantern(&["copy", "lamp-01:/srv/dump", "-"]).expect(0).out == content);
    is_tidy(&lit, "/srv");
    desk.lantern_with_input(&["copy", "-", "lamp-01:/srv/"], Vec::new()).expect(240);
    desk.lantern(&["copy", "lamp-01:/srv", "-"]).expect(250);
}

#[test]
fn between_machines_to_many_and_from_many() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let lit = light_all(vec![
        machine("lamp-01", &key),
        MachineSpec { address: [127, 77, 0, 2].into(), ..machine("lamp-02", &key) },
        MachineSpec {
            address: [127, 77, 0, 3].into(),
            files: FilesSpec { served: false, ..FilesSpec::default() },
            ..machine("lamp-03", &key)
        },
    ]);
    lit.iter().for_each(|lit| desk.add(lit));
    put(&desk, "motd", "keep clear");
    let many = desk.lantern(&["copy", "motd", "lamp-*:/srv/motd"]).expect(250);
    assert!(
        many.err.contains("lamp-01: 1 file copied (10 B)") && many.err.contains("lamp-02: 1 file copied")
    );
    assert!(many.err.contains("lamp-03 has no file service"), "{}", many.err);
    assert_eq!(lit[1].lit.file("keeper", "/srv/motd").unwrap(), b"keep clear");

    lit[0].lit.put_file("keeper", "/srv/motd", b"only here");
    let between = desk.lantern(&["copy", "lamp-01:/srv/motd", "lamp-02:/srv/", "--replace-newer"]).expect(0);
    assert!(between.err.contains("1 file copied (9 B)"), "{}", between.err);
    assert_eq!(lit[1].lit.file("keeper", "/srv/motd").unwrap(), b"only here");

    desk.lantern(&["copy", "lamp-0[12]:/srv/motd", "all"]).expect(241);
    desk.lantern(&["copy", "lamp-01,lamp-02:/srv/motd", "all"]).expect(0);
    assert_eq!(fs::read(desk.folder.path().join("all/lamp-02/motd")).unwrap(), b"only here");
    // One machine at both ends.
    desk.lantern(&["copy", "lamp-01:/srv/motd", "lamp-01:/srv/copy"]).expect(0);
    assert_eq!(lit[0].lit.file("keeper", "/srv/copy").unwrap(), b"only here");
    let itself = desk.lantern(&["copy", "lamp-01:/srv/motd", "lamp-01:/srv/../srv/motd"]).expect(240);
    assert!(itself.err.contains("would be copied over itself"), "{}", itself.err);
    let inside = desk.lantern(&["copy", "lamp-01:/srv", "lamp-01:/srv/deep/"]).expect(240);
    assert!(inside.err.contains("would be copied into itself"), "{}", inside.err);
}

#[test]
fn a_mirror_makes_it_equal_and_asks_before_anything_goes() {
    let (desk, lit) = usual();
    put(&desk, "site/index", "one");
    put(&desk, "site/img/a.svg", "two");
    lit.lit.put_file("keeper", "/srv/unrelated", b"stays");
    desk.lantern(&["copy", "site", "lamp-01:/srv/"]).expect(0);
    desk.lantern(&["copy", "site/img", "lamp-01:/srv/site/old"]).expect(0);
    lit.lit.put_file("keeper", "/srv/site/index", b"changed there later");
    let words = ["copy", "site", "lamp-01:/srv", "--mirror"];
    let plan = desk.lantern(&[&words[..], &["--plan"]].concat()).expect(0);
    assert!(
        plan.text().contains("gone     /srv/site/old/a.svg")
            && plan.text().contains("changed  /srv/site/index")
    );
    assert!(!plan.text().contains("unrelated"), "{}", plan.text());
    let json = desk.lantern(&[&words[..], &["--plan", "--json"]].concat()).expect(0);
    let plan: serde_json::Value = serde_json::from_str(json.text()).unwrap();
    assert_eq!(plan[0]["removals"], serde_json::json!(["/srv/site/old/a.svg", "/srv/site/old"]));

    let unasked = desk.without_terminal(&words);
    assert_eq!(unasked.status, 240, "{}", unasked.err);
    assert!(lit.lit.file("keeper", "/srv/site/old/a.svg").is_some());
    let mut screen = Screen::open(&desk, &words);
    screen.wait_for("Remove 2 files or folders?");
    screen.send("no\r");
    assert_eq!(screen.wait_for_exit(), 252);
    assert_eq!(lit.lit.file("keeper", "/srv/site/index").unwrap(), b"changed there later");
    desk.lantern(&[&words[..], &["--yes"]].concat()).expect(0);
    assert_eq!(lit.lit.names("keeper", "/srv/site"), ["img", "index"]);
    assert_eq!(lit.lit.file("keeper", "/srv/site/index").unwrap(), b"one");
    assert!(lit.lit.file("keeper", "/srv/unrelated").is_some());
}

/// Servers that lack what others have, or do it wrong: the files arrive all the same.
#[test]
fn servers_of_other_makes_get_and_give_the_same_files() {
    let flaws = |one_handle, empty_page, short_reads| Flaws { one_handle, empty_page, short_reads };
    for (extensions, flaws) in [
        (Extensions::default(), Flaws::default()),
        (Extensions::default(), flaws(true, true, false)),
        (Extensions::all(), flaws(false, true, true)),
        (Extensions::all(), flaws(true, false, true)),
    ] {
        let (desk, lit) = desk_and_machine(FilesSpec { extensions, flaws, ..FilesSpec::default() });
        for number in 0..40_usize {
            put(&desk, &format!("site/c{number}"), noise(number * 20_000));
        }
        let went = desk.lantern(&["copy", "site", "lamp-01:/srv/"]).expect(0);
        assert!(went.err.contains("40 files copied"), "{}", went.err);
        assert_eq!(went.err.contains("mixes up files"), flaws.one_handle, "{}", went.err);
        for number in 0..40_usize {
            let there = lit.lit.file("keeper", &format!("/srv/site/c{number}")).unwrap();
            assert!(there == noise(number * 20_000), "{number}: {flaws:?}");
        }
        is_tidy(&lit, "/srv/site");
        // Over what is there, where a rename over it may not be had.
        desk.lantern(&["copy", "site", "lamp-01:/srv/", "--everything"]).expect(0);
        is_tidy(&lit, "/srv/site");
        desk.lantern(&["copy", "lamp-01:/srv/site", "back"]).expect(0);
        assert!(fs::read(desk.folder.path().join("back/c39")).unwrap() == noise(39 * 20_000));
    }
}

#[test]
fn no_room_nothing_to_write_to_and_no_service_are_told_as_that() {
    let (desk, lit) = desk_and_machine(FilesSpec { room: 1_000_000, ..FilesSpec::default() });
    put(&desk, "big", noise(2_000_000));
    let asked = desk.lantern(&["copy", "big", "lamp-01:/srv/"]).expect(250);
    assert!(
        asked.err.contains("there is room for 999 kB, and 2.0 MB are to be copied there"),
        "{}",
        asked.err
    );
    let full = desk.lantern(&["copy", "big", "lamp-01:/srv/", "--no-space-check"]).expect(1);
    assert!(full.err.contains("no space left on device"), "{}", full.err);
    assert_eq!(lit.lit.names("keeper", "/srv"), Vec::<String>::new());

    let (desk, _lit) = desk_and_machine(FilesSpec { read_only: true, ..FilesSpec::default() });
    put(&desk, "small", "x");
    let read_only = desk.lantern(&["copy", "small", "lamp-01:"]).expect(1);
    assert!(read_only.err.contains("read-only file system"), "{}", read_only.err);
    let (desk, _lit) = desk_and_machine(FilesSpec { served: false, ..FilesSpec::default() });
    put(&desk, "small", "x");
    desk.lantern(&["copy", "small", "lamp-01:"]).expect(250);
}

#[test]
fn names_of_any_bytes_arrive_as_they_are_and_steer_no_terminal() {
    let (desk, lit) = usual();
    let names: [&[u8]; 3] = [b"l\xe5mp", b"two\nlines", b"\x1b[2Jclear"];
    for name in names {
        put(&desk, "odd/x", "x");
        let folder = desk.folder.path().join("odd");
        fs::rename(folder.join("x"), folder.join(OsStr::from_bytes(name))).unwrap();
    }
    desk.lantern(&["copy", "odd", "lamp-01:/srv/"]).expect(0);
    desk.lantern(&["copy", "lamp-01:/srv/odd", "back"]).expect(0);
    for name in names {
        assert!(desk.folder.path().join("back").join(OsStr::from_bytes(name)).exists(), "{name:?}");
    }
    assert_eq!(lit.lit.names("keeper", "/srv/odd").len(), 3);
    let plan = desk.lantern(&["copy", "odd", "lamp-01:/srv/", "--everything", "--plan"]).expect(0);
    assert!(!plan.text().contains('\x1b') && plan.text().lines().count() == 3, "{:?}", plan.text());
    let json = desk.lantern(&["copy", "odd", "lamp-01:/srv/", "--everything", "--json"]).expect(0);
    assert!(!json.text().contains('\x1b') && json.text().lines().count() == 4, "{:?}", json.text());
}

#[test]
fn the_wrong_ways_say_what_is_wrong() {
    let (desk, _lit) = usual();
    put(&desk, "a", "x");
    for (words, status, says) in [
        (&["copy", "a"][..], 240, "2 values required"),
        (&["copy", "a", "b"], 240, "both ends are on this computer"),
        (&["copy", "none", "lamp-01:"], 241, "there is no none on this computer"),
        (&["copy", "lamp-01:none", "."], 250, "there is no none on lamp-01"),
        (&["copy", "a", "lamp-01:/no/where"], 250, "there is no folder /no"),
        (&["copy", "a", "lamp-99:"], 241, "no machine is called `lamp-99`"),
        (&["copy", "a", ":x"], 240, "no machine stands in front of the colon"),
        (&["copy", "a", "lamp-01:/etc/lamp/"], 1, "permission denied"),
        (&["copy", "lamp-01:/etc/lamp/secret.key", "b"], 1, "permission denied"),
        (&["copy", "a", "lamp-01:", "--permissions", "9"], 240, "three digits from 0 to 7"),
        (&["copy", "-", "a"], 240, "a stream (-) goes to one file on a machine"),
        (&["copy", "lamp-01:*.txt", "a"], 240, "several files cannot all become a"),
    ] {
        let outcome = desk.lantern(words).expect(status);
        assert!(outcome.err.contains(says), "{words:?}: {}", outcome.err);
    }
    assert!(!desk.folder.path().join("b").exists());
    // A reader that has had enough.
    let script = format!(
        "'{}' copy lamp-01:/var/log/lamp.log - | head -c 1 >/dev/null; echo \"${{PIPESTATUS[0]}}\"",
        support::binary()
    );
    let mut shell = std::process::Command::new("bash");
    shell.args(["-c", &script]).env("LANTERN_HOME", desk.home());
    assert_eq!(shell.output().unwrap().stdout, b"0\n");
}
