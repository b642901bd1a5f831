//! `run` on many simulated machines: what is told, what is kept, and what ends it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeMap;
use std::fs;
use std::net::IpAddr;
use std::os::unix::fs::PermissionsExt;

use lantern_harbour::{Fault, MachineSpec};
use serde_json::Value;
use support::windows::{Windows, chart_room, desk_that_trusts};
use support::{Desk, Lit, Screen, light_all, machine};

/// So many machines, called lamp-001 and so on, each as `change` makes it.
fn fleet(count: usize, change: impl Fn(usize, &mut MachineSpec)) -> (Desk, Vec<Lit>) {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let spec = |number: usize| {
        let address = IpAddr::from([127, 77, 9, u8::try_from(number).unwrap()]);
        let mut spec = MachineSpec { address, ..machine(&format!("lamp-{number:03}"), &key) };
        change(number, &mut spec);
        spec
    };
    let lit = light_all((1..=count).map(spec).collect());
    let csv: String = lit
        .iter()
        .map(|lit| format!("{},{},{},keeper,harbour\n", lit.name, lit.address.ip(), lit.address.port()))
        .collect();
    fs::write(desk.folder.path().join("fleet.csv"), format!("name,address,port,user,key\n{csv}")).unwrap();
    desk.lantern(&["machine", "import", "fleet.csv"]).expect(0);
    let list: String = lit.iter().map(|lit| format!("{} {}\n", lit.name, lit.fingerprint)).collect();
    fs::write(desk.folder.path().join("list"), list).unwrap();
    desk.lantern(&["trust", "accept", "*", "--expect-file", "list"]);
    (desk, lit)
}

fn events(text: &str, event: &str) -> Vec<Value> {
    let all = text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    all.filter(|value| value["event"] == event).collect()
}

#[test]
fn lines_have_their_machine_in_front_and_the_code_says_whether_all_succeeded() {
    let (desk, _lit) = fleet(4, |number, spec| {
        if number == 4 {
            spec.fault = Some(Fault::Closed);
        }
    });
    let good = desk.lantern(&["run", "lamp-001,lamp-002", "--", "hostname"]).expect(0);
    let mut lines: Vec<&str> = good.text().lines().collect();
    lines.sort_unstable();
    assert_eq!(lines, ["lamp-001: lamp-001", "lamp-002: lamp-002"]);
    assert!(good.err.contains("2 machines: 2 succeeded."), "{}", good.err);
    let some = desk.lantern(&["run", "lamp-*", "--", "hostname"]).expect(1);
    assert!(some.err.contains("4 machines: 3 succeeded, 1 not reached."), "{}", some.err);
    assert!(some.err.contains("refused the connection") && some.err.contains("lantern run --again failed"));
    // None could be reached: what kept the first from it.
    desk.lantern(&["run", "lamp-004,lamp-004", "--", "hostname"]).expect(244);
    let failed = desk.lantern(&["run", "lamp-001,lamp-002", "--", "fail", "3"]).expect(1);
    assert!(
        failed.err.contains("lamp-001: the lamp is out of oil")
            && failed.err.contains("failed: lamp-001, lamp-002")
    );
    // One machine as before: its own status.
    desk.lantern(&["run", "lamp-001", "--", "fail", "3"]).expect(3);
    // What machines wrote is in files as well, whole.
    desk.lantern(&["run", "lamp-*", "--except", "lamp-004", "--to", "all", "--", "flood", "300000"])
        .expect(0);
    assert_eq!(fs::metadata(desk.folder.path().join("all/lamp-003.out")).unwrap().len(), 300_000);
    assert!(!desk.folder.path().join("all/lamp-003.err").exists());
}

#[test]
fn what_failed_is_gone_to_again_and_runs_are_kept() {
    let (desk, lit) = fleet(3, |_, _| {});
    desk.lantern(&["run", "--again", "failed"]).expect(241);
    // There on two of three.
    lit[0].lit.put_file("keeper", "flag", b"set\n");
    lit[1].lit.put_file("keeper", "flag", b"set\n");
    desk.lantern(&["run", "lamp-*", "--", "cat", "flag"]).expect(1);
    let plan = desk.lantern(&["run", "--again", "failed", "--plan", "--json"]).expect(0);
    let plan: Value = serde_json::from_str(plan.text()).unwrap();
    assert_eq!((plan.as_array().unwrap().len(), plan[0]["machine"].as_str()), (1, Some("lamp-003")));
    assert_eq!(plan[0]["runs"], "cat flag");
    lit[2].lit.put_file("keeper", "flag", b"late\n");
    let again = desk.lantern(&["run", "--again", "failed"]).expect(0);
    assert_eq!(again.text(), "lamp-003: late\n");
    let nothing = desk.lantern(&["run", "--again", "failed"]).expect(0);
    assert!(nothing.err.contains("Nothing failed in the last run."), "{}", nothing.err);
    let all = desk.lantern(&["run", "--again", "all"]).expect(0);
    assert_eq!(all.text(), "lamp-003: late\n");
    let history = desk.lantern(&["run", "--history", "--json"]).expect(0);
    let history: Value = serde_json::from_str(history.text()).unwrap();
    assert_eq!(history.as_array().unwrap().len(), 3);
    assert_eq!(
        (history[2]["good"].as_u64(), history[2]["machines"][2]["status"].as_u64()),
        (Some(2), Some(1))
    );
    assert!(desk.lantern(&["run", "--history"]).expect(0).text().contains("1 did not succeed"));
}

#[test]
fn a_script_is_read_by_what_its_first_line_names() {
    let (desk, _lit) = fleet(2, |_, _| {});
    let script = desk.folder.path().join("tidy.sh");
    fs::write(&script, "# a remark\nhostname\nuptime\nfail 7\n").unwrap();
    let one = desk.lantern(&["run", "lamp-001", "--script", "tidy.sh"]).expect(7);
    assert!(
        one.text().starts_with("lamp-001\nup 41 days") && one.err == "the lamp is out of oil\n",
        "{one:?}"
    );
    let many = desk.lantern(&["run", "lamp-*", "--script", "tidy.sh", "--json"]).expect(1);
    let end = &events(many.text(), "end")[0];
    assert_eq!(
        (end["machines"].as_u64(), end["good"].as_u64(), end["code"].as_u64()),
        (Some(2), Some(0), Some(1))
    );
    // Nothing that it reads is left for another: standard input is not its.
    let input =
        desk.lantern_with_input(&["run", "lamp-001", "--script", "-"], b"whoami\n".to_vec()).expect(0);
    assert_eq!(input.text(), "keeper\n");
    for (text, says) in [
        ("", "is empty"),
        ("#!/usr/bin/lamp-script\n", "how that reads a script from its input is not known"),
    ] {
        fs::write(&script, text).unwrap();
        let refused = desk.lantern(&["run", "lamp-*", "--script", "tidy.sh"]).expect(240);
        assert!(refused.err.contains(says), "{}", refused.err);
    }
    desk.lantern(&["run", "lamp-*", "--script", "none.sh"]).expect(241);
    desk.lantern(&["run", "lamp-*", "--script", "tidy.sh", "--", "hostname"]).expect(240);
}

#[test]
fn the_first_ones_are_asked_about_and_failures_stop_it() {
    let (desk, _lit) = fleet(6, |_, _| {});
    desk.lantern(&["run", "lamp-*", "--first", "2", "--", "hostname"]).expect(240);
    let unattended = desk.lantern(&["run", "lamp-*", "--first", "2", "--yes", "--", "fail"]).expect(1);
    assert!(unattended.err.contains("6 machines: 2 failed, 4 not begun."), "{}", unattended.err);
    let stopped =
        desk.lantern(&["run", "lamp-*", "--stop-after", "3", "--at-once", "1", "--", "fail"]).expect(1);
    assert!(stopped.err.contains("3 failed, 3 not begun"), "{}", stopped.err);
    let mut screen = Screen::open(&desk, &["run", "lamp-*", "--first", "2", "--", "uptime"]);
    screen.wait_for("Go on with the other 4 machines?");
    assert!(screen.text().contains("2 machines, done: lamp-001, lamp-002"), "{}", screen.text());
    screen.send("no\r");
    assert_eq!(screen.wait_for_exit(), 1);
    assert!(screen.text().contains("2 succeeded, 4 not begun"), "{}", screen.text());
    let mut screen = Screen::open(&desk, &["run", "--again", "failed", "--first", "1"]);
    screen.wait_for("Go on with the other 3 machines?");
    screen.send("yes\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("4 machines: 4 succeeded."), "{}", screen.text());
}

/// A table while they run; then those that said the same together, and the odd one by how it differs.
#[test]
fn on_a_terminal_a_table_shows_how_far_each_is_and_the_odd_ones_stand_out() {
    let (desk, lit) = fleet(5, |_, _| {});
    for (at, lit) in lit.iter().enumerate() {
        let text = if at == 3 { "one\nTWO\nthree\n" } else { "one\ntwo\nthree\n" };
        lit.lit.put_file("keeper", "conf", text.as_bytes());
    }
    let mut screen = Screen::open(&desk, &["run", "lamp-*", "--", "cat", "conf"]);
    assert_eq!(screen.wait_for_exit(), 0);
    let text = screen.text();
    assert!(
        text.contains("4 machines, done: lamp-001, lamp-002, lamp-003, lamp-005\n  one\n  two\n  three"),
        "{text}"
    );
    assert!(text.contains("1 machine, done: lamp-004\n    one\n  - two\n  + TWO\n    three"), "{text}");
    // While they run: how far, and what was said last.
    let screen = Screen::open(&desk, &["run", "lamp-*", "--", "slow", "50"]);
    let text = screen.wait_until("all of them run", |text| text.matches("running  flash").count() == 5);
    assert!(text.contains("done 0 of 5"), "{text}");
    // One begins no more, two ends those that run.
    screen.signal(rustix::process::Signal::INT);
    screen.wait_for("once more ends those that run");
    screen.signal(rustix::process::Signal::INT);
    let mut screen = screen;
    assert_eq!(screen.wait_for_exit(), 252);
    assert!(screen.text().contains("5 machines: 5 halted."), "{}", screen.text());
}

/// Whatever size the terminal has, and whenever it changes, the table fits it and is there once.
#[test]
fn the_table_fits_small_terminals_and_large_ones() {
    let (desk, _lit) = fleet(70, |_, _| {});
    let screen = Screen::open(&desk, &["run", "lamp-*", "--", "slow", "100"]);
    let mut shown = Vec::new();
    for (rows, columns) in [(24, 80), (60, 200), (12, 60), (60, 200)] {
        screen.resize(rows, columns);
        let what = format!("a table of {rows} rows");
        let is_whole = |text: &str| {
            let lines = text.lines().filter(|line| line.contains("lamp-0")).count();
            let fits = lines + 2 <= rows.into() && (lines >= 70 || lines + 5 >= rows.into());
            fits && text.matches("done 0 of 70").count() == 1 && text.contains("flash")
        };
        let text = screen.wait_until(&what, is_whole);
        assert!(text.lines().all(|line| line.chars().count() <= columns.into()), "{text}");
        shown.push(text.lines().filter(|line| line.contains("lamp-0")).count());
    }
    assert!(shown[0] < shown[1] && shown[2] < shown[0] && shown[3] == shown[1], "{shown:?}");
    screen.signal(rustix::process::Signal::TERM);
    let mut screen = screen;
    screen.wait_for_exit();
}

/// Two hundred, with everything that can go wrong on some of them.
#[test]
fn two_hundred_machines_are_all_accounted_for_whatever_each_does() {
    let fault = |number: usize| match number % 20 {
        1 => Some(Fault::Closed),
        2 => Some(Fault::OtherService("220 lamp.lights.example ESMTP\r\n")),
        3 => Some(Fault::CutAfter(2600)),
        4 => Some(Fault::CorruptAt(1500)),
        5 => Some(Fault::SlowTo(20_000)),
        _ => None,
    };
    let (desk, lit) = fleet(200, |number, spec| {
        spec.fault = fault(number);
        if number % 20 == 6 {
            // Nobody has its key here.
            spec.users[0].keys.clear();
        }
    });
    for (at, lit) in lit.iter().enumerate().filter(|(at, _)| at % 20 == 7) {
        lit.lit.put_file("keeper", "log.txt", format!("its own {at}\n").as_bytes());
    }
    let went = desk.lantern(&["run", "*", "--json", "--no-questions", "--", "cat", "log.txt"]).expect(1);
    let machines = events(went.text(), "machine");
    assert_eq!(machines.len(), 200);
    let mut states: BTreeMap<&str, usize> = BTreeMap::new();
    for machine in &machines {
        *states.entry(machine["state"].as_str().unwrap()).or_default() += 1;
        let number: usize = machine["machine"].as_str().unwrap()[5..].parse().unwrap();
        let is_well = matches!(number % 20, 0 | 5 | 7..);
        assert_eq!(machine["status"] == 0, is_well, "{machine}");
        assert!(machine["status"] == 0 || machine["met"].is_string(), "{machine}");
    }
    assert_eq!(states["done"], 150, "{states:?}");
    let end = &events(went.text(), "end")[0];
    let sizes: Vec<usize> = end["groups"]
        .as_array()
        .unwrap()
        .iter()
        .map(|group| group["machines"].as_array().unwrap().len())
        .collect();
    assert!(sizes[0] == 140 && sizes[1..11].iter().all(|size| *size == 1), "{sizes:?}");
}

/// Machines of both kinds in one run: commands and scripts, each as its kind has them.
#[test]
fn machines_of_windows_are_among_them() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    desk.lantern(&["key", "new", "harbour", "--plain"]).expect(0);
    let lit = support::light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    desk.lantern(&["machine", "set", "lamp-01", "key=harbour"]).expect(0);
    let secret = desk.folder.path().join("first");
    fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
    let run = |words: &[&str]| {
        let all = [&["run", "lamp-01,chart-room", "--password-from", "file:first", "--json"], words].concat();
        desk.lantern(&all)
    };
    let plan = run(&["--plan", "--", "hostname"]).expect(0);
    let plan: Value = serde_json::from_str(plan.text()).unwrap();
    let by: Vec<&str> =
        plan.as_array().unwrap().iter().map(|row| row["protocol"].as_str().unwrap()).collect();
    assert_eq!(by, ["ssh", "winrm"]);
    let both = run(&["--", "hostname"]).expect(0);
    let said: BTreeMap<String, String> = events(both.text(), "line")
        .iter()
        .map(|line| (line["machine"].as_str().unwrap().to_owned(), line["text"].as_str().unwrap().to_owned()))
        .collect();
    assert_eq!(said["lamp-01"], "lamp-01");
    assert!(said["chart-room"].eq_ignore_ascii_case("chart-room"), "{said:?}");
    fs::write(desk.folder.path().join("both"), "whoami\n").unwrap();
    let script = run(&["--script", "both"]).expect(0);
    let lines = events(script.text(), "line");
    assert!(lines.iter().any(|line| line["machine"] == "chart-room"), "{}", script.text());
    assert!(
        lines.iter().any(|line| line["machine"] == "lamp-01" && line["text"] == "keeper"),
        "{}",
        script.text()
    );
    fs::write(desk.folder.path().join("both"), "exit 5\n").unwrap();
    let states = events(run(&["--script", "both"]).expect(1).text(), "machine");
    assert!(states.iter().all(|state| state["status"] == 5), "{states:?}");
}

/// Machines behind a gateway that is one of them: its own part ends first, and takes nobody with it; it is logged in to once for all.
#[test]
fn machines_behind_a_gateway_share_it_also_when_it_is_one_of_them() {
    let (desk, _lit) = fleet(12, |number, spec| match number {
        1 => spec.gateway = true,
        number => spec.inner_address = Some(format!("10.77.9.{number}")),
    });
    for number in 2..=12 {
        let (name, address) = (format!("lamp-{number:03}"), format!("address=10.77.9.{number}"));
        desk.lantern(&["machine", "set", &name, &address, "port=22", "gateway=lamp-001"]).expect(0);
    }
    let log = desk.folder.path().join("log");
    let words = ["run", "lamp-*", "--log", log.to_str().unwrap(), "--", "slow", "2"];
    let went = desk.lantern(&words).expect(0);
    assert!(went.err.contains("12 machines: 12 succeeded."), "{}", went.err);
    let logged_in = fs::read_to_string(log).unwrap().matches("login is complete").count();
    // Twelve machines, and the gateway once more at most: as one of them it has a connection of its own.
    assert!((12..=13).contains(&logged_in), "{logged_in}");
}

/// A wrong password for machines of Windows is shown to one of them: accounts lock.
#[test]
fn of_many_machines_one_finds_out_what_a_password_is_worth() {
    let all: Vec<Windows> = (0..4).map(|_| Windows::light(chart_room())).collect();
    let desk = Desk::new();
    for (at, windows) in all.iter().enumerate() {
        let (name, address) = (format!("gauge-{at}"), windows.address.ip().to_string());
        let port = format!("port={}", windows.address.port());
        let words = ["machine", "add", &name, &address, &port, "protocol=winrm", "user=keeper"];
        desk.lantern(&words).expect(0);
        desk.lantern(&["trust", "accept", &name, "--expect", &windows.fingerprint]).expect(0);
    }
    let secret = desk.folder.path().join("first");
    let run = |password: &str| {
        fs::write(&secret, password).unwrap();
        fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
        desk.lantern(&["run", "gauge-*", "--password-from", "file:first", "--json", "--", "hostname"])
    };
    let refused = run("ebb tide").expect(249);
    let met: Vec<String> = events(refused.text(), "machine")
        .iter()
        .map(|machine| machine["met"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(met.iter().filter(|met| met.contains("was not tried, since")).count(), 3, "{met:?}");
    let good = run(support::windows::PASSWORD).expect(0);
    assert_eq!(events(good.text(), "end")[0]["good"], 4);
}
