//! Machines that matter more than others: nobody types into the wrong one.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{LoginRule, MachineSpec, UserSpec};
use support::{Desk, Screen, light, machine};

fn raw(screen: &Screen) -> String {
    String::from_utf8_lossy(&screen.raw.lock().unwrap()).into_owned()
}

#[test]
fn the_title_says_where_one_is_and_is_put_back() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let session = |leave: &dyn Fn(&mut Screen)| {
        let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
        screen.wait_for("~ %");
        assert!(raw(&screen).contains("\x1b[22;2t\x1b]2;lamp-01\x07"), "{:?}", raw(&screen));
        leave(&mut screen);
        screen.wait_for_exit();
        let start = std::time::Instant::now();
        while !raw(&screen).contains("\x1b[23;2t") {
            assert!(start.elapsed() < support::PATIENCE, "{:?}", raw(&screen));
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
    };
    session(&|screen| screen.send("exit\r"));
    // On every way out.
    session(&|screen| screen.signal(rustix::process::Signal::TERM));
    session(&|screen| {
        screen.send("\x1c\x1c\x1c");
        screen.wait_for("e ends the session");
        screen.send("e");
    });
    // A name that would steer the terminal stays a name.
    desk.lantern(&["machine", "set", "lamp-01", "production=true"]).expect(0);
    let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
    screen.wait_for("PRODUCTION lamp-01");
    assert!(raw(&screen).contains("\x1b]2;PRODUCTION lamp-01\x07"));
    screen.wait_for("~ %");
    screen.send("exit\r");
    assert_eq!(screen.wait_for_exit(), 0);
}

#[test]
fn questions_about_a_marked_machine_bear_its_mark_and_others_do_not() {
    let desk = Desk::with_key();
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
    keeper.rule = LoginRule::AnyOf(vec!["password"]);
    let lit = light(MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() });
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", lit.address)]).expect(0);
    let questions = |marked: bool| {
        let mut screen = Screen::open(&desk, &["run", "lamp-01", "whoami"]);
        let text = screen.wait_for("or `trust`:");
        assert_eq!(text.contains("[PRODUCTION lamp-01] Fingerprint"), marked, "{text}");
        screen.send("trust\r");
        let text = screen.wait_for("Password of keeper on lamp-01:");
        assert_eq!(text.contains("[PRODUCTION lamp-01] Password"), marked, "{text}");
        screen.send("low visibility\r");
        assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
        desk.lantern(&["trust", "forget", "lamp-01", "--yes"]).expect(0);
    };
    questions(false);
    // By a profile, for all that have it.
    desk.lantern(&["profile", "add", "harbour-works", "production=true", "colour=blue"]).expect(0);
    desk.lantern(&["machine", "set", "lamp-01", "profiles+=harbour-works"]).expect(0);
    questions(true);
    let err = desk.lantern(&["machine", "set", "lamp-01", "colour=puce"]).expect(241).err;
    assert!(err.contains("red, yellow, green"), "{err}");
    // A list to pick from says it too.
    let screen = Screen::open(&desk, &["shell"]);
    screen.wait_for("PRODUCTION");
}
