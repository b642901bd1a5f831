//! `files`: looking at what is on simulated machines, and moving, removing and changing it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use support::{Desk, Lit, Screen, light, machine};

fn desk_and_machine() -> (Desk, Lit) {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    (desk, lit)
}

#[test]
fn a_listing_says_what_there_is_in_the_order_that_is_asked_for() {
    let (desk, lit) = desk_and_machine();
    lit.lit.put_file("keeper", "/srv/large", &[b'x'; 5000]);
    lit.lit.put_file("keeper", "/srv/a b", b"x");
    lit.lit.put_file("keeper", "/srv/\u{1b}[2Jodd", b"");
    desk.lantern(&["files", "make-folder", "lamp-01:/srv/deep/er", "--above"]).expect(0);
    lit.lit.put_file("keeper", "/srv/deep/er/chart", b"chart");
    let names = |words: &[&str]| {
        let all = [&["files", "list", "lamp-01:/srv", "--names"], words].concat();
        desk.lantern(&all).expect(0).text().lines().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(names(&[]), ["\u{1b}[2Jodd", "a b", "deep", "large"]);
    assert_eq!(names(&["--sort", "size"])[..2], ["large", "deep"]);
    assert_eq!(names(&["--reverse"])[0], "large");
    let table = desk.lantern(&["files", "list", "lamp-01:/srv"]).expect(0);
    assert!(
        table.text().contains("large") && table.text().contains("5.0 kB") && table.text().contains("deep/")
    );
    assert!(!table.text().contains('\u{1b}') && table.text().lines().count() == 5, "{}", table.text());
    let tree = desk.lantern(&["files", "list", "lamp-01:/srv", "--tree"]).expect(0);
    assert!(tree.text().contains("deep/\n  er/\n    chart  5 B\n"), "{}", tree.text());
    // What is named itself, a pattern, and nothing.
    let one = desk.lantern(&["files", "list", "lamp-01:/srv/l*", "--json"]).expect(0);
    let value: serde_json::Value = serde_json::from_str(one.text()).unwrap();
    assert_eq!((value[0]["path"].as_str(), value[0]["bytes"].as_u64()), (Some("/srv/large"), Some(5000)));
    let none = desk.lantern(&["files", "list", "lamp-01:/srv/none*"]).expect(250);
    assert!(none.err.contains("nothing on lamp-01 fits /srv/none*"), "{}", none.err);
    desk.lantern(&["files", "list", "lamp-01:/root"]).expect(250);
}

#[test]
fn numbers_in_names_are_counted() {
    let (desk, lit) = desk_and_machine();
    for name in ["log.10", "log.9", "log.1", "sub/x10", "sub/x9"] {
        desk.lantern(&["files", "make-folder", "--above", &format!("lamp-01:/srv/logs/{name}")]).expect(0);
    }
    let listed = desk.lantern(&["files", "list", "--names", "lamp-01:/srv/logs"]).expect(0);
    assert_eq!(listed.text(), "log.1\nlog.9\nlog.10\nsub\n");
    let tree = desk.lantern(&["files", "list", "--tree", "lamp-01:/srv/logs"]).expect(0);
    assert_eq!(tree.text(), "log.1/\nlog.9/\nlog.10/\nsub/\n  x9/\n  x10/\n");
    drop(lit);
}

#[test]
fn a_text_is_shown_and_what_is_none_says_what_it_is() {
    let (desk, lit) = desk_and_machine();
    lit.lit.put_file(
        "keeper",
        "/srv/chart.png",
        &[&b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR"[..], &[0; 5000]].concat(),
    );
    lit.lit.put_file("keeper", "/srv/odd", b"one\n\x1b[2Jtwo\x07\n");
    let raw = desk.lantern(&["files", "show", "lamp-01:/srv/odd"]).expect(0);
    assert_eq!(raw.out, b"one\n\x1b[2Jtwo\x07\n");
    let mut screen = Screen::open(&desk, &["files", "show", "lamp-01:/srv/odd", "--no-pager"]);
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("\u{241b}[2Jtwo\u{2407}"), "{}", screen.text());
    let mut screen = Screen::open(&desk, &["files", "show", "lamp-01:/srv/chart.png"]);
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("is no text but image/png, 5.0 kB"), "{}", screen.text());
    // In a pager, where there is more than fits.
    let long: String = (0..500).map(|number| format!("line {number}\n")).collect();
    lit.lit.put_file("keeper", "/srv/long", long.as_bytes());
    let pager = [("PAGER", "head -n 3; echo through the pager"), ("LANG", "C.UTF-8")];
    let mut screen =
        Screen::open_with(&desk, support::binary(), &["files", "show", "lamp-01:/srv/long"], &pager);
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(
        screen.text().contains("line 2\n") && screen.text().contains("through the pager"),
        "{}",
        screen.text()
    );
    desk.lantern(&["files", "show", "lamp-01:/srv"]).expect(240);
    desk.lantern(&["files", "show", "lamp-01:/srv/none"]).expect(250);
}

#[test]
fn files_are_moved_changed_and_removed_after_a_yes() {
    let (desk, lit) = desk_and_machine();
    let names = || lit.lit.names("keeper", "/srv");
    desk.lantern(&["files", "make-folder", "lamp-01:/srv/old", "--permissions", "750"]).expect(0);
    desk.lantern(&["files", "make-folder", "lamp-01:/srv/old"]).expect(250);
    assert_eq!(lit.lit.look("keeper", "/srv/old").unwrap().permissions(), Some(0o750));
    desk.lantern(&["files", "move", "lamp-01:log.txt", "lamp-01:/srv/old/"]).expect(0);
    desk.lantern(&["files", "move", "lamp-01:/srv/old/log.txt", "/srv/log"]).expect(0);
    desk.lantern(&["files", "move", "lamp-01:notice.txt", "/srv/log"]).expect(250);
    let log = lit.lit.file("keeper", "notice.txt").unwrap();
    desk.lantern(&["files", "move", "lamp-01:notice.txt", "/srv/log", "--replace"]).expect(0);
    assert_eq!(lit.lit.file("keeper", "/srv/log").unwrap(), log);
    desk.lantern(&["files", "move", "lamp-01:/srv/log", "lamp-02:/srv/"]).expect(240);

    desk.lantern(&["files", "move", "lamp-01:tides.csv", "/srv/old/"]).expect(0);
    let words = [
        "files",
        "change",
        "lamp-01:/srv/old",
        "--permissions",
        "640",
        "--below",
        "--time",
        "2020-01-02T03:04:05Z",
    ];
    desk.lantern(&words).expect(0);
    let known = |path: &str| {
        let known = lit.lit.look("keeper", path).unwrap();
        (known.permissions().unwrap(), known.times.unwrap().1)
    };
    // Whoever may read a folder may go into it.
    assert_eq!(
        (known("/srv/old"), known("/srv/old/tides.csv")),
        ((0o750, 1_577_934_245), (0o640, 1_577_934_245))
    );
    desk.lantern(&["files", "change", "lamp-01:/srv/old", "--owner", "0:0"]).expect(250);
    desk.lantern(&["files", "change", "lamp-01:/srv/old"]).expect(240);

    let full = desk.lantern(&["files", "remove", "lamp-01:/srv/old"]).expect(240);
    assert!(full.err.contains("--below removes it with everything in it"), "{}", full.err);
    let plan = desk.lantern(&["files", "remove", "lamp-01:/srv/old", "--below", "--plan"]).expect(0);
    assert_eq!(plan.text().lines().count(), 2, "{}", plan.text());
    assert_eq!(desk.without_terminal(&["files", "remove", "lamp-01:/srv/log"]).status, 240);
    let mut screen = Screen::open(&desk, &["files", "remove", "lamp-01:/srv/log"]);
    screen.wait_for("Remove 1 file or folder on lamp-01?");
    screen.send("no\r");
    assert_eq!(screen.wait_for_exit(), 252);
    assert_eq!(names(), ["log", "old"]);
    let mut screen = Screen::open(&desk, &["files", "remove", "lamp-01:/srv/*", "--below"]);
    screen.wait_for("Remove 3 files or folders on lamp-01?");
    screen.send("yes\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert_eq!(names(), Vec::<String>::new());
}
