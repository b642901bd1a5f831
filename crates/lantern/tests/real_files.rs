//! Many files, and their owners, with the file service of the real SSH server.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use support::place::{Place, same};
use support::sshd;

const SFTP: &str = "Subsystem sftp internal-sftp";
const PROGRAM: &str = "Subsystem sftp /usr/lib/openssh/sftp-server";

/// A hundred thousand files in one folder: listed, compared, and brought in line by what differs alone.
#[test]
fn a_hundred_thousand_files_are_listed_and_what_differs_is_copied() {
    const ALL: usize = 100_000;
    let Some(place) = Place::new(PROGRAM) else { return };
    let at = std::time::SystemTime::UNIX_EPOCH + Duration::from_secs(1_760_000_000);
    let write = |path: &Path, content: &str| {
        fs::write(path, content).unwrap();
        fs::File::options().write(true).open(path).unwrap().set_modified(at).unwrap();
    };
    let there = place.there.join("charts");
    let here = place.here("charts");
    [&there, &here].into_iter().for_each(|folder| fs::create_dir(folder).unwrap());
    for number in 0..ALL {
        let name = format!("chart-{number}.svg");
        // Names are made sooner than files.
        let file = place.here(&format!("file-{}", number / 1000));
        if number % 1000 == 0 {
            write(&file, "");
        }
        fs::hard_link(&file, there.join(&name)).unwrap();
        // Some are missing here, some are others.
        match number % 1000 {
            7 => {}
            8 => write(&here.join(&name), "old"),
            _ => fs::hard_link(&file, here.join(&name)).unwrap(),
        }
    }
    for number in 0..50 {
        write(&here.join(format!("extra-{number}")), "");
    }
    let listed = place.desk.lantern(&["files", "list", &place.at("charts"), "--names"]).expect(0);
    assert_eq!(listed.text().lines().count(), ALL);
    assert_eq!(listed.text().lines().nth(99_999), Some("chart-99999.svg"));
    let words = ["copy", &place.at("charts"), ".", "--mirror", "--yes"];
    let went = place.desk.lantern(&words).expect(0);
    assert_eq!(went.err, "200 files copied (0 B), 50 files or folders removed, 99800 files there already.\n");
    same(&there, &here);
    let again = place.desk.lantern(&words).expect(0);
    assert_eq!(again.err, "100000 files there already.\n");
}

/// Users and groups are named as the machine names them.
#[test]
fn files_are_given_to_users_and_groups_by_their_names() {
    let Some(place) = Place::new(SFTP) else { return };
    sshd::make_user();
    let path = place.there.join("chart");
    fs::write(&path, "x").unwrap();
    let ids = |option: &str| {
        let id = Command::new("id").args([option, sshd::USER]).output().unwrap();
        String::from_utf8(id.stdout).unwrap().trim().parse::<u32>().unwrap()
    };
    let owners = || fs::metadata(&path).map(|known| (known.uid(), known.gid())).unwrap();
    let change = |owner: &str| place.desk.lantern(&["files", "change", &place.at("chart"), "--owner", owner]);
    change(sshd::USER).expect(0);
    assert_eq!(owners(), (ids("-u"), 0));
    change(&format!(":{}", sshd::USER)).expect(0);
    assert_eq!(owners(), (ids("-u"), ids("-g")));
    change("root:root").expect(0);
    assert_eq!(owners(), (0, 0));
    change("7:8").expect(0);
    assert_eq!(owners(), (7, 8));
    let unknown = change("nobody-at-all").expect(250);
    assert!(unknown.err.contains("lamp-01 knows no user called nobody-at-all"), "{}", unknown.err);
    let unknown = change(":no-such-group").expect(250);
    assert!(unknown.err.contains("knows no group called no-such-group"), "{}", unknown.err);
    change("a b").expect(240);
    assert_eq!(owners(), (7, 8));
    // Where only files are served, nobody can be asked who somebody is.
    let Some(place) = Place::new("Subsystem sftp internal-sftp\nForceCommand internal-sftp") else { return };
    fs::write(place.there.join("chart"), "x").unwrap();
    let refused =
        place.desk.lantern(&["files", "change", &place.at("chart"), "--owner", "keeper"]).expect(250);
    assert!(refused.err.contains("runs no commands") && refused.err.contains("1000:1000"), "{}", refused.err);
    place.desk.lantern(&["files", "change", &place.at("chart"), "--owner", "7:8"]).expect(0);
}
