//! `run`, `shell` and the small commands, on simulated machines.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::io::{BufRead, BufReader, Read, Write};
use std::process::Child;
use std::time::{Duration, Instant};

use lantern_harbour::{Fault, MachineSpec};
use rustix::process::{Pid, Signal, kill_process};
use support::{Desk, Lit, Outcome, PATIENCE, Screen, light, machine};

/// A desk with a machine that it knows and trusts.
fn desk_and_machine() -> (Desk, Lit) {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    (desk, lit)
}

#[test]
fn run_is_binary_safe_and_passes_on_how_it_ended() {
    let (desk, _lit) = desk_and_machine();
    let data = support::noise(3_000_000);
    assert!(desk.lantern_with_input(&["run", "lamp-01", "--", "mirror"], data.clone()).expect(0).out == data);
    let flood = desk.lantern(&["run", "lamp-01", "--", "flood", "20000000"]).expect(0);
    assert!(
        flood.out.len() == 20_000_000
            && flood.out.iter().enumerate().all(|(at, byte)| *byte == (at % 251) as u8)
    );
    let failed = desk.lantern(&["run", "lamp-01", "--", "fail", "42"]).expect(42);
    assert_eq!((failed.text(), failed.err.as_str()), ("", "the lamp is out of oil\n"));
    let crashed = desk.lantern(&["run", "lamp-01", "--", "crash"]).expect(128 + 11);
    assert!(crashed.err.contains("SIGSEGV"), "{}", crashed.err);
    let wide = desk.lantern(&["run", "lamp-01", "--", "fail", "100000"]).expect(160);
    assert!(wide.err.contains("ended with 100000"), "{}", wide.err);
    desk.lantern(&["run", "lamp-01", "--", "fail", "65536"]).expect(1);
}

#[test]
fn ctrl_c_is_passed_on_and_twice_ends_it() {
    let (desk, _lit) = desk_and_machine();
    // What the program says shows that it runs, and that our signals are watched.
    let line = |child: &mut Child| {
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
        line
    };
    let mut child = desk.command(&["run", "lamp-01", "--no-input", "--", "wait"]).spawn().unwrap();
    assert_eq!(line(&mut child), "waiting for a signal\n");
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    let outcome: Outcome = child.wait_with_output().unwrap().into();
    assert_eq!(outcome.status, 128 + 2, "{}", outcome.err);
    assert!(outcome.err.contains("woken by a signal"), "{}", outcome.err);

    // A program that ignores signals, with an input that does not end.
    let mut child = desk
        .command(&["run", "lamp-01", "--", "mirror"])
        .stdin(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.as_mut().unwrap().write_all(b"mirrored\n").unwrap();
    assert_eq!(line(&mut child), "mirrored\n");
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(128 + 15));

    // A machine that says nothing any more: the first stroke goes nowhere, the second one ends it.
    let stalled = light(MachineSpec {
        fault: Some(Fault::StallAfter(2500)),
        ..machine("lamp-02", &desk.public_key("harbour"))
    });
    desk.add(&stalled);
    let log = desk.folder.path().join("log");
    let words = ["run", "lamp-02", "--no-input", "--log", log.to_str().unwrap(), "--", "flood", "100000"];
    let mut child = desk.command(&words).spawn().unwrap();
    let start = Instant::now();
    while !std::fs::read_to_string(&log).unwrap_or_default().contains("signals are passed on") {
        assert!(start.elapsed() < PATIENCE, "it never gets as far as the command");
        std::thread::sleep(Duration::from_millis(20));
    }
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    let mut told = String::new();
    BufReader::new(child.stderr.as_mut().unwrap()).read_line(&mut told).unwrap();
    assert!(told.contains("SIGINT sent to lamp-02"), "{told}");
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(252));
}

#[test]
fn a_reader_that_leaves_ends_it_quietly() {
    let (desk, _lit) = desk_and_machine();
    let mut child = desk.command(&["run", "lamp-01", "--", "flood", "900000000"]).spawn().unwrap();
    let mut some = [0; 10];
    child.stdout.as_mut().unwrap().read_exact(&mut some).unwrap();
    drop(child.stdout.take());
    let outcome: Outcome = child.wait_with_output().unwrap().into();
    assert_eq!((outcome.status, outcome.err.as_str()), (141, ""));
}

#[test]
fn a_slow_line_takes_its_time_and_loses_nothing() {
    let desk = Desk::with_key();
    let slow = Some(Fault::SlowTo(100_000));
    let lit = light(MachineSpec { fault: slow, ..machine("lamp-01", &desk.public_key("harbour")) });
    desk.add(&lit);
    let start = Instant::now();
    let outcome = desk.lantern(&["run", "lamp-01", "--", "flood", "60000"]).expect(0);
    assert!(
        outcome.out.len() == 60_000
            && outcome.out.iter().enumerate().all(|(at, byte)| *byte == (at % 251) as u8)
    );
    assert!(start.elapsed() > Duration::from_millis(400), "the switch slows the line");
}

#[test]
fn slow_output_arrives_as_it_is_written() {
    let (desk, _lit) = desk_and_machine();
    let mut child = desk.command(&["run", "lamp-01", "--no-input", "--", "slow", "8"]).spawn().unwrap();
    let mut first = [0; 8];
    child.stdout.as_mut().unwrap().read_exact(&mut first).unwrap();
    assert_eq!(&first, b"flash 1\n");
    assert!(child.try_wait().unwrap().is_none(), "the first line comes before the last is written");
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn a_shell_runs_a_full_screen_program_follows_the_size_and_ends_clean() {
    let (desk, _lit) = desk_and_machine();
    let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
    screen.wait_for("keeper@lamp-01 ~ %");
    assert!(!screen.is_cooked());
    screen.send("cat notice.txt\r");
    screen.wait_for("Låmp øil is délivered on the first of the month — keep the pier clear. 灯台");
    screen.send("panel\r");
    let text = screen.wait_for("100 columns, 24 rows");
    assert!(text.starts_with("┌ lamp room of lamp-01 ─") && text.trim_end().ends_with('┘'), "{text}");
    screen.resize(30, 80);
    screen.wait_for("80 columns, 30 rows");
    screen.send("xxq");
    screen.wait_until("the prompt again", |text| text.contains("panel") && text.trim_end().ends_with('%'));
    screen.send("slow 50\r");
    screen.wait_for("flash 2");
    screen.send("\x03");
    screen.wait_for("ended by INT");
    screen.send("exit 6\r");
    assert_eq!(screen.wait_for_exit(), 6);
    assert!(screen.is_cooked());
}

#[test]
fn three_strokes_show_the_state_suspend_and_end_a_hung_session() {
    let (desk, _lit) = desk_and_machine();
    let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
    screen.wait_for("keeper@lamp-01 ~ %");
    screen.send("\x1c\x1c\x1c");
    screen.wait_for("e ends the session");
    screen.send("s");
    let text = screen.wait_for("round trip");
    assert!(text.contains("mlkem768x25519-sha256 (quantum-safe)") && text.contains("strict"), "{text}");
    screen.send("\x1c\x1c\x1c");
    screen.send("e");
    assert_eq!(screen.wait_for_exit(), 252);
    assert!(screen.is_cooked());

    let mut screen = Screen::open(&desk, &["shell", "lamp-01", "--no-escape"]);
    screen.wait_for("keeper@lamp-01 ~ %");
    // What is echoed behind the strokes has gone to the machine, so they have too.
    screen.send("\x1c\x1c\x1cexit\r");
    screen.wait_for("exit");
    assert!(!screen.text().contains("e ends the session"), "{}", screen.text());
    screen.send("\x03exit 7\r");
    assert_eq!(screen.wait_for_exit(), 7);

    // From a shell with job control: suspended, the terminal is the shell's; continued, it is ours.
    let mut screen = Screen::open_program(&desk, "/bin/bash", &["--norc", "-i"]);
    screen.send(&format!("PS1='here> '\r{} shell lamp-01\r", support::binary()));
    screen.wait_for("keeper@lamp-01 ~ %");
    screen.send("\x1c\x1c\x1c");
    screen.wait_for("e ends the session");
    screen.send("z");
    screen.wait_for("Stopped");
    screen.send("echo cooked $((40+2))\r");
    screen.wait_for("cooked 42");
    screen.send("fg\r");
    screen.wait_for("back on lamp-01");
    screen.send("hostname\r");
    screen.wait_for("hostname\nlamp-01");
    screen.send("exit\r");
    screen.wait_until("the outer shell", |text| text.trim_end().ends_with("here>"));
    screen.send("exit\r");
    screen.wait_for_exit();
}

/// Signals that nobody waits for do what they always do, also in a process that waits for others.
#[test]
fn a_signal_that_is_not_waited_for_ends_a_command() {
    let (desk, _lit) = desk_and_machine();
    let mut child = desk.command(&["run", "lamp-01", "--", "count 100000000"]).spawn().unwrap();
    let mut first = [0; 1];
    std::io::Read::read_exact(child.stdout.as_mut().unwrap(), &mut first).unwrap();
    kill_process(Pid::from_child(&child), Signal::QUIT).unwrap();
    let status = child.wait().unwrap();
    assert_eq!(
        std::os::unix::process::ExitStatusExt::signal(&status),
        Some(Signal::QUIT.as_raw()),
        "{status}"
    );
}

#[test]
fn the_terminal_is_put_back_when_killed_and_when_the_link_dies() {
    let (desk, _lit) = desk_and_machine();
    for (signal, status) in [(Signal::TERM, 128 + 15), (Signal::HUP, 128 + 1)] {
        let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
        screen.wait_for("keeper@lamp-01 ~ %");
        screen.signal(signal);
        assert_eq!(screen.wait_for_exit(), status);
        assert!(screen.is_cooked());
    }
    let lit = light(MachineSpec {
        fault: Some(Fault::CutAfter(6000)),
        ..machine("lamp-02", &desk.public_key("harbour"))
    });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["shell", "lamp-02"]);
    screen.wait_for("keeper@lamp-02 ~ %");
    screen.send("count 1000\r");
    assert_eq!(screen.wait_for_exit(), 251);
    screen.wait_for("was lost");
    assert!(screen.is_cooked());
}

/// A full-screen program that the connection is taken away from leaves the screen, the cursor and the line as a shell has them.
#[test]
fn a_program_that_is_cut_off_leaves_nothing_on() {
    let (desk, _lit) = desk_and_machine();
    let lit = light(MachineSpec {
        fault: Some(Fault::CutAfter(20_000)),
        ..machine("lamp-02", &desk.public_key("harbour"))
    });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["shell", "lamp-02"]);
    screen.wait_for("keeper@lamp-02 ~ %");
    screen.send("panel\r");
    screen.wait_for("lamp room of lamp-02");
    assert!(screen.is_taken());
    let status = loop {
        // Each stroke has it draw anew, until the line has had enough.
        screen.send("x");
        if let Some(status) = screen.exit() {
            break status;
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    assert_eq!(status, 251);
    let text = screen.wait_for("was lost");
    // A last stroke may come when the terminal echoes again.
    assert!(text.lines().any(|line| line.trim_start_matches('x').starts_with("error:")), "{text}");
    assert!(!screen.is_taken() && screen.is_cooked(), "{text}");
    // Killed, it does the same.
    for signal in [Signal::TERM, Signal::HUP] {
        let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
        screen.wait_for("keeper@lamp-01 ~ %");
        screen.send("panel\r");
        screen.wait_for("lamp room of lamp-01");
        screen.signal(signal);
        screen.wait_for_exit();
        screen.wait_until("the screen as it was", |_| !screen.is_taken());
        assert!(screen.is_cooked());
    }
}

#[test]
fn json_has_the_documented_shape_and_listings_are_aligned() {
    let (desk, lit) = desk_and_machine();
    let json = |words: &[&str]| -> serde_json::Value {
        serde_json::from_str(desk.lantern(words).expect(0).text()).unwrap()
    };
    let keys = json(&["key", "list", "--json"]);
    assert_eq!(keys[0]["name"], "harbour");
    for field in
        ["algorithm", "fingerprint", "flags", "line", "passphrase", "container", "made", "mode", "exposed"]
    {
        assert!(!keys[0][field].is_null(), "{field}: {keys}");
    }
    let machine = json(&["machine", "show", "lamp-01", "--json"])[0].clone();
    assert_eq!(machine["host_keys"][0]["fingerprint"], lit.fingerprint.as_str());
    assert_eq!(machine["host_keys"][0]["verified"], "expected");
    assert_eq!(json(&["machine", "list", "--json"])[0]["port"], lit.address.port());
    assert_eq!(json(&["trust", "list", "--json"])[0]["machine"], "lamp-01");
    assert_eq!(json(&["trust", "look", "lamp-01", "--json"])[0]["state"], "known");
    assert_eq!(json(&["exit-codes", "--json"])[0]["code"], 240);
    let text = desk.lantern(&["machine", "list"]).expect(0);
    let lines: Vec<_> = text.text().lines().collect();
    assert_eq!(lines[0].find("ADDRESS"), lines[1].find("127.77"), "{}", text.text());
    assert!(desk.lantern(&["machine", "show", "lamp-01"]).expect(0).text().contains("fingerprint expected"));
}

#[test]
fn help_has_examples_everywhere_and_completions_and_manual_are_made() {
    let desk = Desk::new();
    for words in [
        &["--help"][..],
        &["key", "new", "--help"],
        &["key", "show", "--help"],
        &["key", "import", "--help"],
        &["key", "convert", "--help"],
        &["key", "passphrase", "--help"],
        &["key", "rename", "--help"],
        &["key", "comment", "--help"],
        &["key", "remove", "--help"],
        &["key", "install", "--help"],
        &["key", "withdraw", "--help"],
        &["key", "rotate", "--help"],
        &["key", "audit", "--help"],
        &["keeper", "start", "--help"],
        &["keeper", "add", "--help"],
        &["keeper", "forget", "--help"],
        &["keeper", "unit", "--help"],
        &["machine", "add", "--help"],
        &["machine", "list", "--help"],
        &["machine", "set", "--help"],
        &["machine", "show", "--help"],
        &["machine", "edit", "--help"],
        &["machine", "rename", "--help"],
        &["machine", "copy", "--help"],
        &["machine", "remove", "--help"],
        &["machine", "import", "--help"],
        &["machine", "export", "--help"],
        &["profile", "add", "--help"],
        &["profile", "set", "--help"],
        &["trust", "list", "--help"],
        &["trust", "export", "--help"],
        &["trust", "import", "--help"],
        &["trust", "revoke", "--help"],
        &["trust", "audit", "--help"],
        &["check", "--help"],
        &["trust", "look", "--help"],
        &["trust", "accept", "--help"],
        &["shell", "--help"],
        &["run", "--help"],
        &["demo", "--help"],
        &["completions", "--help"],
        &["manual", "--help"],
    ] {
        let help = desk.lantern(words).expect(0);
        assert!(help.text().contains("Examples:") && help.text().contains("lantern "), "{words:?}");
        assert!(help.text().lines().all(|line| line.chars().count() <= 110), "{words:?}: {}", help.text());
        // A line that was wrapped leaves a stump: whoever wrote it did not look at the help.
        let after = help.text().split("Examples:").nth(1).unwrap_or_default().to_owned();
        let stump = |line: &&str| !line.is_empty() && !line.contains(' ') && !line.ends_with(['.', ';', ':']);
        assert_eq!(after.lines().find(stump), None, "{words:?}");
    }
    for shell in ["bash", "zsh", "fish"] {
        assert!(desk.lantern(&["completions", shell]).expect(0).text().contains("lantern"));
    }
    desk.lantern(&["manual", "--to", "pages"]).expect(0);
    let page = std::fs::read_to_string(desk.folder.path().join("pages/lantern-key-new.1")).unwrap();
    assert!(page.contains(".TH lantern") && page.contains("passphrase"), "{page}");
    assert!(desk.lantern(&["manual"]).expect(0).text().contains(".TH"));
}

#[test]
fn the_demo_walks_through_and_leaves_nothing_behind() {
    let desk = Desk::new();
    let mut command = desk.command(&["demo"]);
    command.env("TMPDIR", desk.folder.path());
    let outcome: Outcome = command.output().unwrap().into();
    let outcome = outcome.expect(0);
    assert!(
        outcome.text().contains("presents another host key than it had")
            && outcome.text().contains("keeper\n"),
        "{}",
        outcome.text()
    );
    let has_display = support::display::available();
    assert!(!has_display || outcome.text().contains("lamp-view: shown on a display of 640 x 480"));
    // One text in its order, each command as it can be typed.
    assert_eq!(outcome.err, "");
    let at =
        |words: &str| outcome.text().find(words).unwrap_or_else(|| panic!("{words}: {}", outcome.text()));
    assert!(at("3. Meet a machine") < at("is not known, and there is nobody to ask"));
    assert!(at("is not known, and there is nobody to ask") < at("4. Run commands"));
    assert!(
        outcome.text().contains("% printf 'low visibility\\n' | lantern run foghorn"),
        "{}",
        outcome.text()
    );
    // Whoever has enough of it ends it, and nothing is said about that.
    let script = format!("{} demo | head -n 3", support::binary());
    let mut command = std::process::Command::new("sh");
    command.args(["-c", &script]).env_clear().env("PATH", "/usr/bin:/bin").env("TMPDIR", desk.folder.path());
    let cut: Outcome = command.output().unwrap().into();
    assert_eq!((cut.text().lines().count(), cut.err.as_str()), (3, ""), "{}", cut.text());
    let left: Vec<_> = std::fs::read_dir(desk.folder.path()).unwrap().collect();
    assert!(left.is_empty(), "{left:?}");
}
