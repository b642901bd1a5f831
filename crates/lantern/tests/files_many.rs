//! Files of many machines at once, on simulated machines: in their order, with one that hangs, with questions, and interrupted.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{Fault, MachineSpec};
use serde_json::Value;
use support::fleet::light_fleet;
use support::keeping::until;
use support::{Desk, Lit, Screen};

/// A fleet whose machines have a chart that says which they are.
fn fleet(count: usize, change: impl Fn(usize, &mut MachineSpec)) -> (Desk, Vec<Lit>) {
    let (desk, lit) = light_fleet("harbour", count, change);
    lit.iter().for_each(|lit| lit.lit.put_file("keeper", "/srv/chart", lit.name.as_bytes()));
    (desk, lit)
}

fn hangs(number: usize) -> impl Fn(usize, &mut MachineSpec) {
    move |at, spec| {
        if at == number {
            spec.fault = Some(Fault::StallAfter(0));
        }
    }
}

#[test]
fn all_are_listed_in_their_order_but_for_one_that_hangs() {
    let (desk, lit) = fleet(20, hangs(2));
    let words = ["files", "list", "lamp-*:/srv/chart", "--json", "--handshake-limit", "2"];
    let went = desk.lantern(&words).expect(245);
    let listed: Vec<Value> = serde_json::from_str(went.text()).unwrap();
    let names: Vec<String> = listed.iter().map(|file| file["machine"].as_str().unwrap().to_owned()).collect();
    let expected: Vec<String> =
        (1..=20).filter(|number| *number != 2).map(|number| format!("lamp-{number}")).collect();
    assert_eq!(names, expected);
    assert!(went.err.contains("lamp-2"), "{}", went.err);

    // What is done is done on all others as well, and told in the same order.
    let words = ["files", "make-folder", "lamp-*:/srv/old", "--handshake-limit", "2", "--at-once", "5"];
    let went = desk.lantern(&words).expect(245);
    let told: Vec<&str> =
        went.err.lines().filter_map(|line| line.strip_suffix(": 1 file or folder made.")).collect();
    assert_eq!(told, expected);
    assert!(lit.iter().all(|lit| lit.lit.look("keeper", "/srv/old").is_some() == (lit.name != "lamp-2")));

    // And shown: one file after the other, nothing between them.
    let went = desk.lantern(&["files", "show", "lamp-*:/srv/chart", "--except", "lamp-2"]).expect(0);
    assert_eq!(went.text(), expected.concat());
}

#[test]
fn each_machine_is_asked_about_in_its_turn() {
    let (desk, lit) = fleet(3, |number, spec| {
        if number == 2 {
            spec.users[0].keys.clear();
        }
    });
    let mut screen = Screen::open(&desk, &["files", "remove", "lamp-*:/srv/chart"]);
    screen.wait_for("Remove 1 file or folder on lamp-1?");
    screen.send("yes\r");
    // The one that wants a password was tried without one, and is asked for it now.
    screen.wait_for("[lamp-2] Password:");
    screen.send("low visibility\r");
    screen.wait_for("Remove 1 file or folder on lamp-2?");
    screen.send("no\r");
    screen.wait_for("Remove 1 file or folder on lamp-3?");
    screen.send("yes\r");
    assert_eq!(screen.wait_for_exit(), 252, "{}", screen.text());
    assert!(screen.text().contains("lamp-2: nothing was removed."), "{}", screen.text());
    let left: Vec<bool> = lit.iter().map(|lit| lit.lit.look("keeper", "/srv/chart").is_some()).collect();
    assert_eq!(left, [false, true, false]);
}

/// What was done on machines whose turn to be told had not come is told at the end.
#[test]
fn interrupted_it_says_what_was_done_and_what_was_not() {
    let (desk, lit) = fleet(4, |number, spec| {
        if number == 2 || number == 4 {
            spec.fault = Some(Fault::StallAfter(0));
        }
    });
    let mut screen = Screen::open(&desk, &["files", "make-folder", "lamp-*:/srv/old"]);
    screen.wait_for("lamp-1: 1 file or folder made.");
    until("it is there", || lit[2].lit.look("keeper", "/srv/old").is_some());
    std::thread::sleep(std::time::Duration::from_millis(300));
    screen.send("\u{3}");
    assert_eq!(screen.wait_for_exit(), 252, "{}", screen.text());
    let text = screen.text();
    assert!(text.contains("lamp-2: interrupted"), "{text}");
    assert!(text.contains("lamp-3: 1 file or folder made."), "{text}");
    assert!(text.contains("broken off at lamp-4"), "{text}");
}

/// A password that was handed over is known to each of them, however many ask at the same moment.
#[test]
fn a_file_goes_to_many_machines_by_one_password() {
    let (desk, lit) = fleet(12, |_, spec| spec.users[0].keys.clear());
    std::fs::write(desk.folder.path().join("tides"), "high water 06:12\n").unwrap();
    let words = ["copy", "tides", "lamp-*:/srv/", "--no-key", "--password-from", "fd:3"];
    let went = desk.with_secrets(&words, "low visibility", "").expect(0);
    assert_eq!(went.err.matches(": 1 file copied (17 B).").count(), 12, "{}", went.err);
    assert!(lit.iter().all(|lit| lit.lit.file("keeper", "/srv/tides").is_some()));
    // Also from one that wants it to all the others.
    let words = ["copy", "lamp-1:/srv/tides", "lamp-2,lamp-3:/tmp/", "--no-key", "--password-from", "fd:3"];
    desk.with_secrets(&words, "low visibility", "").expect(0);
    assert!(lit[1..3].iter().all(|lit| lit.lit.file("keeper", "/tmp/tides").is_some()));
    // Back from all of them, each into a folder of its own.
    let words = ["copy", "lamp-*:/srv/tides", "back", "--no-key", "--password-from", "fd:3"];
    desk.with_secrets(&words, "low visibility", "").expect(0);
    let back = desk.folder.path().join("back");
    assert!((1..=12).all(|number| back.join(format!("lamp-{number}/tides")).exists()));
}

/// Where the system lets a program open few files, fewer are under way at once, and all arrive.
#[test]
fn few_open_files_are_enough_for_many() {
    let (desk, lit) = fleet(4, |_, _| {});
    let folder = desk.folder.path().join("charts");
    std::fs::create_dir(&folder).unwrap();
    for number in 0..600 {
        std::fs::write(folder.join(format!("chart-{number}")), number.to_string()).unwrap();
    }
    let words = ["copy", "charts", "lamp-*:/srv/"];
    let went = desk.limited("ulimit -n 160", &words).expect(0);
    assert_eq!(went.err.matches(": 600 files copied").count(), 4, "{}", went.err);
    assert!(lit.iter().all(|lit| lit.lit.names("keeper", "/srv/charts").len() == 600));
    let went = desk.limited("ulimit -n 160", &["copy", "lamp-*:/srv/charts", "back"]).expect(0);
    assert_eq!(went.err.matches(": 600 files copied").count(), 4, "{}", went.err);
    // And few that are asked for are made many, as far as the system goes.
    let went = desk.limited("ulimit -Sn 100", &["run", "lamp-*", "--at-once", "4", "--", "whoami"]).expect(0);
    assert!(went.err.contains("4 machines: 4 succeeded."), "{}", went.err);
}
