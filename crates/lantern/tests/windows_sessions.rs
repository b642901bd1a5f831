//! Live sessions of PowerShell under a pseudo-terminal: what is typed, asked and interrupted, links that are lost, and what the screen shows.

#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)] // A test that cannot go on says so by panicking.

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::thread;
use std::time::Duration;

use lantern_harbour::{Endpoint, WindowsFault, WindowsSpec};
use support::windows::{PASSWORD, Windows, chart_room, desk_for, desk_that_trusts, faulty, trust};
use support::{Desk, Screen};

const PROMPT: &str = "chart-room C:\\Users\\keeper > ";

fn open(desk: &Desk, words: &[&str]) -> Screen {
    let screen = Screen::open(desk, &[&["shell", "chart-room"], words].concat());
    screen.wait_for("Password of keeper on chart-room");
    screen.send(&format!("{PASSWORD}\r"));
    screen
}

fn started() -> (Windows, Desk, Screen) {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let screen = open(&desk, &[]);
    screen.wait_for(PROMPT);
    (windows, desk, screen)
}

fn at_prompt(text: &str) -> bool {
    let last = text.lines().rfind(|line| !line.trim().is_empty());
    last.is_some_and(|line| line.starts_with("chart-room") && line.trim_end().ends_with('>'))
}

/// Types a line, and waits for what comes of it and the next prompt. No line is typed twice.
fn say(screen: &Screen, line: &str, wanted: &str) -> String {
    screen.send(&format!("{line}\r"));
    screen.wait_until(&format!("{line:?} {wanted:?}"), |text| {
        let behind = text.rsplit_once(line).map(|(_, behind)| behind).unwrap_or_default();
        behind.contains(wanted) && at_prompt(behind)
    })
}

#[test]
fn lines_are_run_edited_completed_and_kept() {
    let (windows, desk, mut screen) = started();
    say(&screen, "Get-Lamp foghorn", "250   Dark");
    // A word is completed by the machine, the only one it may become at once.
    screen.send("Get-Serv\t");
    screen.wait_for("Get-Service");
    screen.send(" tide-log\r");
    screen.wait_for("Log of the tide gauge");
    // Several are listed.
    screen.send("Get-\t\t");
    screen.wait_for("Get-Credential");
    screen.send("\x03");
    screen.wait_until("a prompt", at_prompt);
    // What is not whole goes on in the next line, and variables stay.
    screen.send("$text = 'high\r");
    thread::sleep(Duration::from_millis(300));
    screen.send("water'\r");
    say(&screen, "\"it is $text\"", "water");
    // Up is what was typed before; editing is done here.
    screen.send("\x1b[A\x01\x0b");
    say(&screen, " Write-Output secret-42", "secret-42");
    say(&screen, "Set-Location C:\\logs", "chart-room C:\\logs >");
    screen.send("exit 3\r");
    assert_eq!(screen.wait_for_exit(), 3, "{}", screen.text());
    assert!(screen.is_cooked());
    assert_eq!(windows.seen().shells, 0);
    let file = desk.home().join("typed/chart-room");
    let kept = fs::read_to_string(&file).unwrap();
    assert!(kept.contains("Get-Lamp foghorn") && kept.contains("exit 3"), "{kept}");
    assert!(!kept.contains("secret-42") && !kept.contains(PASSWORD), "{kept}");
    assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o077, 0);
    // The next session has them.
    let mut screen = open(&desk, &[]);
    screen.wait_for(PROMPT);
    screen.send("\x1b[A\x1b[A");
    screen.wait_for("Set-Location C:\\logs");
    screen.send("\x03");
    screen.wait_until("a prompt", at_prompt);
    screen.send("\x04");
    assert_eq!(screen.wait_for_exit(), 0);
}

#[test]
fn whatever_the_machine_asks_is_asked_here_as_its_own() {
    let (_windows, desk, mut screen) = started();
    let ask = |command: &str, asked: &str, answer: &str, wanted: &str| {
        screen.wait_until("a prompt", at_prompt);
        screen.send(&format!("{command}\r"));
        screen.wait_for(asked);
        screen.send(answer);
        screen.wait_for(wanted);
    };
    ask("Read-Host", "[chart-room] >", "a line\r", "a line\n");
    ask("Read-Host 'How high?'", "[chart-room] How high?:", "four metres\r", "four metres\n");
    ask(
        "$s = Read-Host 'Code' -AsSecureString; Show-Secret $s",
        "[chart-room] Code:",
        "4711-quay\r",
        "\n4711-quay",
    );
    ask("Get-Credential ada", "[chart-room] Password:", "lantern-oil\r", "ada with 11 characters");
    ask("Confirm-Lamp", "Which, Enter is n:", "\r", "chosen 1");
    ask("Confirm-Lamp 0", "Which, Enter is y:", "what\r", "One of these is wanted: y, n, s");
    screen.send("s\r");
    screen.wait_for("chosen 2");
    ask("Select-Lamp", "with commas between", "l, foghorn\r", "chosen 0 2");
    ask("Read-Key", "Press a key:", "\u{e4}", "key 228");
    screen.wait_until("a prompt", at_prompt);
    screen.send("Read-Fields\r");
    for (asked, answer) in [
        ("[chart-room] Name:", "lamp-07\r"),
        ("[chart-room] Watts [40]:", "\r"),
        ("[chart-room] Code:", "quay-9\r"),
        ("Keepers, number 1 (Enter ends):", "ada\r"),
        ("Keepers, number 2 (Enter ends):", "\r"),
    ] {
        screen.wait_for(asked);
        screen.send(answer);
    }
    let text = screen.wait_for("Code has 6 characters");
    assert!(
        text.contains("Name=lamp-07") && text.contains("Watts=40") && text.contains("Keepers=ada"),
        "{text}"
    );
    // What was not to be seen was not, but for the machine that showed it; nor is it kept.
    assert!(!text.contains("lantern-oil") && !text.contains("quay-9"), "{text}");
    // Ctrl-C at a question stops what asked; Ctrl-D answers nothing.
    ask("Read-Host 'again'", "[chart-room] again:", "\x03", "");
    screen.wait_until("a prompt", |text| text.contains("again: ") && at_prompt(text));
    ask("Read-Host 'more'", "[chart-room] more:", "\x04", "whoever was asked gave no answer");
    screen.wait_until("a prompt", at_prompt);
    screen.send("exit\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    let kept = fs::read_to_string(desk.home().join("typed/chart-room")).unwrap();
    assert!(
        !["a line", "4711-quay", "lantern-oil", "quay-9"].iter().any(|text| kept.contains(text)),
        "{kept}"
    );
}

fn begun(windows: &Windows) -> usize {
    windows.seen().requests.iter().filter(|what| **what == "the start of a pipeline").count()
}

#[test]
fn an_interrupt_stops_what_runs_wherever_it_is_and_the_session_goes_on() {
    let (windows, _desk, mut screen) = started();
    let commands = ["Wait-Forever", "Start-Sleep 100", "Get-Tide 1000 10", "New-Bulk 100000"];
    for (number, command) in commands.iter().enumerate() {
        for wait in [0, 60, 400] {
            let before = begun(&windows);
            screen.send(&format!("{command}\r"));
            // What is pressed before that is not meant for it.
            screen.wait_until("its beginning", |_| begun(&windows) > before);
            thread::sleep(Duration::from_millis(wait));
            screen.send("\x03");
            screen.wait_until("a prompt", at_prompt);
            say(&screen, &format!("Write-Output here-{number}-{wait}"), "\nhere-");
        }
    }
    // At the prompt it gives up what was begun.
    screen.send("Get-La");
    screen.wait_for("> Get-La");
    screen.send("\x03");
    screen.wait_until("a prompt", at_prompt);
    say(&screen, "whoami", "chart-room\\keeper");
    assert_eq!(windows.seen().shells, 1);
    screen.send("\x04");
    assert_eq!(screen.wait_for_exit(), 0);
    assert_eq!(windows.seen().shells, 0);
    // A machine that never hears of it: three times ends the session.
    let deaf = faulty(WindowsFault::Deaf);
    let desk = desk_that_trusts(&deaf, &[]);
    // Its end of the first pipeline is a signal, too, which this one never answers.
    let screen = Screen::open(&desk, &["run", "chart-room", "--expression", "Wait-Forever"]);
    screen.wait_for("Password of keeper");
    screen.send(&format!("{PASSWORD}\r"));
    thread::sleep(Duration::from_millis(1500));
    screen.send("\x03");
    screen.wait_for("once more ends lantern");
}

#[test]
fn a_link_that_is_lost_is_made_again_and_variables_are_still_there() {
    let (windows, _desk, mut screen) = started();
    say(&screen, "$kept = 'kept-7'", "");
    // While somebody thinks.
    windows.machine.cut();
    thread::sleep(Duration::from_millis(300));
    say(&screen, "\"it is $kept\"", "it is kept-7");
    // While something runs.
    screen.send("Get-Tide 4 400\r");
    thread::sleep(Duration::from_millis(700));
    windows.machine.cut();
    screen.wait_for("chart-room is there again, and so is the session");
    say(&screen, "\"still $kept\"", "still kept-7");
    // And while it asks.
    screen.send("Read-Host 'tide'\r");
    screen.wait_for("[chart-room] tide:");
    windows.machine.cut();
    thread::sleep(Duration::from_millis(300));
    screen.send("high-3\r");
    screen.wait_for("high-3\n");
    screen.send("exit 5\r");
    assert_eq!(screen.wait_for_exit(), 5, "{}", screen.text());
}

#[test]
fn a_session_that_the_machine_did_not_keep_ends_with_a_reason() {
    let windows = faulty(WindowsFault::ShellVanishes);
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    let mut screen = open(&desk, &[]);
    assert_eq!(screen.wait_for_exit(), 250, "{}", screen.text());
    assert!(screen.text().contains("the shell is not there any more"), "{}", screen.text());
    assert!(screen.is_cooked());
}

#[test]
fn nobody_is_asked_who_is_not_to_be_and_a_signal_ends_a_question() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    fs::set_permissions(desk.folder.path().join("first"), fs::Permissions::from_mode(0o600)).unwrap();
    let words = [
        "run",
        "chart-room",
        "--password-from",
        "file:first",
        "--no-input",
        "--expression",
        "Read-Host 'tide'",
    ];
    let mut screen = Screen::open(&desk, &[&words[..], &["--no-questions"]].concat());
    assert_eq!(screen.wait_for_exit(), 1, "{}", screen.text());
    assert!(screen.text().contains("nobody is at a terminal who could answer"), "{}", screen.text());
    let mut screen = Screen::open(&desk, &words);
    screen.wait_for("[chart-room] tide:");
    screen.signal(rustix::process::Signal::INT);
    assert!([130, 252].contains(&screen.wait_for_exit()), "{}", screen.text());
    assert!(screen.is_cooked());
}

#[test]
fn what_nobody_typed_asks_nobody() {
    let curious = Endpoint { name: "Microsoft.PowerShell".into(), asks_where: true, ..Endpoint::default() };
    let windows = Windows::light(WindowsSpec { endpoints: vec![curious], ..chart_room() });
    let desk = desk_that_trusts(&windows, &[]);
    let mut screen = open(&desk, &[]);
    // It does not say where it stands without an answer, and gets none.
    screen.wait_until("a prompt", |text| text.trim_end().ends_with("chart-room >"));
    say(&screen, "whoami", "chart-room\\keeper");
    assert!(!screen.text().contains("[chart-room]"), "{}", screen.text());
    screen.send("\x04");
    assert_eq!(screen.wait_for_exit(), 0);
}

#[test]
fn a_session_that_never_opens_is_given_up_by_ctrl_c_twice() {
    let windows = faulty(WindowsFault::NeverOpens);
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    for words in [&["shell", "chart-room"][..], &["run", "chart-room", "--expression", "whoami"]] {
        let mut screen = Screen::open(&desk, words);
        screen.wait_for("Password of keeper on chart-room");
        screen.send(&format!("{PASSWORD}\r"));
        thread::sleep(Duration::from_millis(800));
        screen.send("\x03");
        thread::sleep(Duration::from_millis(300));
        screen.send("\x03");
        assert_eq!(screen.wait_for_exit(), 252, "{}", screen.text());
        assert!(screen.is_cooked());
    }
}

#[test]
fn what_matters_more_is_marked_and_titles_bear_the_mark() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &["production=true"]);
    let mut screen =
        Screen::open_with(&desk, support::binary(), &["shell", "chart-room"], &[("TERM", "xterm-256color")]);
    screen.wait_for("Password of keeper on chart-room");
    screen.send(&format!("{PASSWORD}\r"));
    screen.wait_for("this is chart-room");
    screen.wait_for("C:\\Users\\keeper >");
    screen.send("Set-Title 'the coast'; Write-Host painted -ForegroundColor red\r");
    screen.wait_for("painted");
    screen.send("Clear-Host\r");
    screen.wait_until("an empty screen", |text| !text.contains("painted"));
    // What a machine wants to be called steers nothing.
    screen.send("Set-Title 'a\x16\x1b[2Jb'; Write-Error 'c\x16\x1b[2Jd'\r");
    screen.wait_for("error: c");
    screen.send("exit\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
}

#[test]
fn a_narrow_terminal_and_one_that_changes_are_told() {
    let (_windows, _desk, mut screen) = started();
    say(&screen, "Get-HostSize", "told 100x24, asked 100x24");
    screen.resize(30, 60);
    thread::sleep(Duration::from_millis(300));
    say(&screen, "Get-HostSize", "told 60x30, asked 60x30");
    screen.resize(24, 20);
    thread::sleep(Duration::from_millis(300));
    screen.send("Write-Progress Counting lamps -PercentComplete 40; Start-Sleep -Milliseconds 800; Write-Progress Counting lamps -PercentComplete 60\r");
    thread::sleep(Duration::from_millis(1500));
    screen.resize(24, 100);
    thread::sleep(Duration::from_millis(300));
    screen.send("\r");
    thread::sleep(Duration::from_millis(500));
    say(&screen, "Get-HostSize", "told 100x24");
    screen.send("\x04");
    assert_eq!(screen.wait_for_exit(), 0);
}

#[test]
fn a_restricted_endpoint_is_worked_in_as_far_as_it_goes() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &["configuration=Lamp.Keepers"]);
    let mut screen = open(&desk, &[]);
    // It does not say where it stands.
    screen.wait_until("a prompt", |text| {
        text.ends_with("chart-room > ") || text.trim_end().ends_with("chart-room >")
    });
    say(&screen, "Get-Lamp foghorn", "foghorn  250");
    say(&screen, "$x = 1", "ScriptsNotAllowed");
    screen.send("\x04");
    assert_eq!(screen.wait_for_exit(), 0);
}

#[test]
fn the_plain_interpreter_reads_what_is_typed() {
    let windows = Windows::light(WindowsSpec { certificate: None, ..chart_room() });
    let desk = desk_for(&windows, &["plain=private-network"]);
    let mut screen = open(&desk, &["--plain"]);
    screen.wait_for("C:\\Users\\keeper>");
    screen.send("echo the tide\r");
    screen.wait_until("the tide", |text| text.matches("the tide").count() > 1);
    screen.send("exit 6\r");
    assert_eq!(screen.wait_for_exit(), 6, "{}", screen.text());
    for (words, part) in [
        (&["shell", "chart-room", "--plain", "--configuration", "x"][..], "cannot be used with"),
        (&["shell", "chart-room", "--forward-agent"], "forwards neither agents nor displays"),
    ] {
        let mut screen = Screen::open(&desk, words);
        assert_eq!(screen.wait_for_exit(), 240, "{}", screen.text());
        assert!(screen.text().contains(part), "{}", screen.text());
    }
}
