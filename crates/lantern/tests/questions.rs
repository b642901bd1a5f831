//! Signals at every question: whatever ends or stops the process leaves a terminal that shows what is typed, and a home as it was.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use lantern_harbour::{LoginRule, MachineSpec, UserSpec};
use lantern_keys::SecretString;
use rustix::process::{Pid, Signal, kill_process};
use support::{Desk, Lit, PATIENCE, Screen, light, machine};

/// What is asked, what is typed before, and the question.
struct Question {
    words: Vec<String>,
    typed: &'static str,
    question: &'static str,
}

fn question(words: &[&str], typed: &'static str, question: &'static str) -> Question {
    Question { words: words.iter().map(|word| (*word).to_owned()).collect(), typed, question }
}

/// Everything that asks at a terminal, on a desk where it has something to ask about.
fn questions() -> (Desk, Vec<Lit>, Vec<Question>) {
    let desk = Desk::with_key();
    let folder = desk.folder.path();
    for words in [
        &["key", "new", "pier", "--passphrase-from", "fd:3"][..],
        &["key", "new", "jetty", "--passphrase-from", "fd:3"],
    ] {
        desk.with_secrets(words, "fog over the pier 41", "").expect(0);
    }
    fs::copy(desk.home().join("keys/jetty.key"), folder.join("jetty.pem")).unwrap();
    desk.lantern(&["key", "remove", "jetty", "--yes"]).expect(0);
    for name in ["buoy-1", "buoy-2"] {
        desk.lantern(&["machine", "add", name, "keeper@192.0.2.9"]).expect(0);
    }
    let shared = Desk::with_key();
    fs::create_dir_all(shared.home()).unwrap();
    let other = light(machine("lamp-09", &shared.public_key("harbour")));
    shared.add(&other);
    let shared_file = folder.join("coast.trust");
    let to = shared_file.to_str().unwrap();
    shared.lantern(&["trust", "export", "--key", "harbour", "--to", to]).expect(0);

    let strange = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", strange.address)]).expect(0);
    let by_password = UserSpec::new("keeper", Some("low visibility"), Vec::new());
    let by_password =
        light(MachineSpec { users: vec![by_password], ..MachineSpec::new("lamp-02", 2).unwrap() });
    let mut by_code = UserSpec::new("keeper", Some("low visibility"), Vec::new());
    (by_code.code, by_code.rule) =
        (Some(SecretString::new("4711".into())), LoginRule::AnyOf(vec!["keyboard-interactive"]));
    let by_code = light(MachineSpec { users: vec![by_code], ..MachineSpec::new("lamp-03", 3).unwrap() });
    let by_key = light(machine("lamp-04", &desk.public_key("pier")));
    for lit in [&by_password, &by_code, &by_key] {
        desk.add(lit);
    }
    let questions = vec![
        question(&["key", "new", "mole"], "", "New passphrase"),
        question(&["shell"], "", "arrows move"),
        question(&["key", "new", "mole"], "fog over the pier 41\r", "The same again"),
        question(&["key", "passphrase", "pier"], "", "Passphrase of"),
        question(&["key", "passphrase", "harbour"], "", "New passphrase"),
        question(&["key", "comment", "pier", "x"], "", "Passphrase of"),
        question(&["key", "convert", "pier", "--to", "pkcs8-pem", "--out", "pier.p8"], "", "Passphrase of"),
        question(&["key", "import", "jetty.pem", "--name", "jetty"], "", "Passphrase of"),
        question(&["key", "import", "jetty.pem"], "fog over the pier 41\r", "Name in the ring"),
        question(&["key", "remove", "pier"], "", "Type pier to remove it"),
        question(&["machine", "add", "lamp-07"], "", "Address"),
        question(&["machine", "add", "lamp-07", "--paste", "ssh keeper@192.0.2.7"], "", "Type yes or no"),
        question(&["machine", "set", "buoy-*", "port=2222"], "", "Type yes or no"),
        question(&["machine", "remove", "buoy-*"], "", "Type yes or no"),
        question(&["trust", "accept", "lamp-01"], "", "Fingerprint, its last 8 characters"),
        question(&["trust", "import", "coast.trust"], "", "Type yes or no"),
        question(&["trust", "export", "--key", "pier", "--to", "mine.trust"], "", "Passphrase of"),
        question(&["run", "lamp-01", "--", "true"], "", "Fingerprint, its last 8 characters"),
        question(&["run", "lamp-02", "--", "true"], "", "Password"),
        question(&["run", "lamp-03", "--", "true"], "", "[lamp-03] Password:"),
        question(&["run", "lamp-04", "--", "true"], "", "Passphrase of"),
    ];
    (desk, vec![strange, by_password, by_code, by_key, other], questions)
}

/// All files of a home but those that every visit writes.
fn state(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()) {
            let name = entry.display().to_string();
            if entry.is_dir() {
                folders.push(entry);
            } else if !name.ends_with(".lock") && !name.contains("/hints/") {
                files.insert(name, fs::read(&entry).unwrap());
            }
        }
    }
    files
}

fn open_at(desk: &Desk, asked: &Question) -> Screen {
    let words: Vec<&str> = asked.words.iter().map(String::as_str).collect();
    let screen = Screen::open(desk, &words);
    type_until_asked(&screen, asked);
    screen
}

fn type_until_asked(screen: &Screen, asked: &Question) {
    if !asked.typed.is_empty() {
        screen.wait_for("assphrase");
        screen.wait_until("the first question's modes", |_| !screen.is_cooked());
        screen.send(asked.typed);
    }
    screen.wait_for(asked.question);
    screen.wait_until("the question's own modes", |_| !screen.is_cooked());
}

#[test]
fn what_ends_the_process_leaves_terminal_and_home_as_they_were() {
    let (desk, _lit, questions) = questions();
    let before = state(&desk.home());
    for asked in &questions {
        for signal in [Signal::TERM, Signal::HUP, Signal::INT, Signal::QUIT] {
            let mut screen = open_at(&desk, asked);
            screen.signal(signal);
            let status = screen.wait_for_exit();
            // As the signal does it, or told as one.
            let raw = signal.as_raw();
            assert!([-raw, 128 + raw, 252].contains(&status), "{:?} after {signal:?}: {status}", asked.words);
            assert!(screen.is_cooked(), "{:?} after {signal:?}", asked.words);
        }
        // By its key, the same.
        let mut screen = open_at(&desk, asked);
        screen.send("\x03");
        let status = screen.wait_for_exit();
        assert!([252, 248, 249].contains(&status), "{:?}: {status}", asked.words);
        assert!(screen.is_cooked());
        assert_eq!(state(&desk.home()), before, "{:?}", asked.words);
    }
}

/// The process in the foreground of a shell.
fn job_of(shell: &Screen) -> Pid {
    let start = Instant::now();
    let pid = shell.child.id();
    loop {
        let children = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap();
        if let Some(child) = children.split_whitespace().next().and_then(|word| word.parse().ok()) {
            return Pid::from_raw(child).unwrap();
        }
        assert!(start.elapsed() < PATIENCE);
        thread::sleep(Duration::from_millis(5));
    }
}

fn is_stopped(pid: Pid) -> bool {
    let stat = fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).unwrap_or_default();
    stat.rsplit(')').next().is_some_and(|rest| rest.trim_start().starts_with('T'))
}

/// Stopped by its key or by a signal from a shell that does not look after the terminal itself; continued, it asks again.
#[test]
fn what_stops_the_process_gives_the_terminal_back_meanwhile() {
    let (desk, _lit, questions) = questions();
    let before = state(&desk.home());
    for (turn, asked) in questions.iter().enumerate() {
        let mut shell = Screen::open_program(&desk, "/bin/sh", &["-i"]);
        let words: Vec<String> = asked.words.iter().map(|word| format!("'{word}'")).collect();
        shell.send(&format!("PS1='here> '; {} {}\r", support::binary(), words.join(" ")));
        type_until_asked(&shell, asked);
        let job = job_of(&shell);
        match turn % 2 {
            0 => shell.send("\x1a"),
            _ => kill_process(job, Signal::TSTP).unwrap(),
        }
        // The shell's prompt comes after all that was drawn or wiped before the stop.
        shell.wait_until("a stop", |text| {
            is_stopped(job) && shell.is_cooked() && text.trim_end().ends_with("here>")
        });
        let asked_once = shell.text().matches(asked.question).count();
        shell.send("fg\r");
        shell.wait_until("the question again", |text| text.matches(asked.question).count() > asked_once);
        shell.wait_until("its modes again", |_| !shell.is_cooked());
        shell.send("\x03");
        shell.wait_until("the shell's terminal", |text| {
            shell.is_cooked() && text.trim_end().ends_with("here>")
        });
        shell.send("echo \"ended $?\"\r");
        shell.wait_until("the end", |text| text.contains("\nended 252") || text.contains("\nended 24"));
        shell.send("exit\r");
        shell.wait_for_exit();
        assert_eq!(state(&desk.home()), before, "{:?}", asked.words);
    }
}

/// Without a shell that could continue it, it is not stopped, by signal or key, and goes on asking.
#[test]
fn where_nobody_could_continue_it_nothing_stops_it() {
    let (desk, _lit, questions) = questions();
    let asked = &questions[0];
    let mut screen = open_at(&desk, asked);
    screen.send("\x1a");
    screen.signal(Signal::TSTP);
    screen.send("fog over the pier 41\r");
    screen.wait_for("The same again");
    screen.send("fog over the pier 41\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.is_cooked());
}
