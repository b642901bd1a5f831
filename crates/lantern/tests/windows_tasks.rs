//! Texts that run in sessions of PowerShell, as scripts call lantern: output, errors, input, values, statuses.

#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)] // A test that cannot go on says so by panicking.

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use lantern_harbour::{WindowsFault, WindowsSpec};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use support::windows::{
    PASSWORD, Windows, chart_room, desk_for, desk_that_trusts, faulty, run, run_words, trust,
};
use support::{Desk, Outcome};

/// Runs a text, with this as standard input.
fn task(desk: &Desk, words: &[&str], input: &[u8]) -> Outcome {
    let words = [&["run", "chart-room", "--password-from", "file:first"], words].concat();
    let mut command = desk.command(&words);
    fs::set_permissions(desk.folder.path().join("first"), fs::Permissions::from_mode(0o600)).unwrap();
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut stdin = child.stdin.take().unwrap();
    let input = input.to_vec();
    let writer = thread::spawn(move || std::io::Write::write_all(&mut stdin, &input));
    let outcome = child.wait_with_output().unwrap();
    let _ = writer.join();
    outcome.into()
}

fn expression(desk: &Desk, text: &str) -> Outcome {
    task(desk, &["--expression", text], b"")
}

fn lines(outcome: &Outcome) -> Vec<Value> {
    outcome.text().lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn a_text_runs_and_what_comes_out_is_text_or_objects() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let outcome = expression(&desk, "Get-Lamp | Select-Object -Property Name,State").expect(0);
    assert_eq!(
        outcome.text().lines().map(str::trim_end).collect::<Vec<_>>(),
        ["", "Name    State", "----    -----", "lamp-01 Lit", "lamp-02 Lit", "foghorn Dark", ""]
    );
    let outcome = task(&desk, &["--expression", "Get-Lamp foghorn; 1..2", "--json"], b"").expect(0);
    assert_eq!(
        lines(&outcome),
        [
            serde_json::json!({"Name": "foghorn", "Watts": 250, "State": "Dark", "Since": "2026-03-01T06:00:00+00:00"}),
            1.into(),
            2.into(),
        ]
    );
    // As deep as wanted; what is within is text.
    let outcome =
        task(&desk, &["--expression", "TabExpansion2 Set-L 5", "--json", "--depth", "1"], b"").expect(0);
    assert!(lines(&outcome)[0]["CompletionMatches"].is_string(), "{}", outcome.text());
    // A secret stays one.
    let outcome = task(&desk, &["--expression", "Get-Secret", "--json"], b"").expect(0);
    assert_eq!(outcome.text(), "{\"secure\":true}\n");
    // What is shown is not what comes out.
    let outcome = task(&desk, &["--expression", "Write-Host shown; 1", "--json"], b"").expect(0);
    assert_eq!((outcome.text(), outcome.err.contains("shown")), ("1\n", true));
    assert_eq!(windows.seen().shells, 0);
}

#[test]
fn its_status_says_how_it_ended_and_errors_say_where() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for (text, status) in [
        ("exit 7", 7),
        ("exit 0", 0),
        ("whoami\n\n  throw 'the lamp is out'", 1),
        ("Write-Error 'fog'", 0),
        ("Get-Lamp nobody", 0),
        ("Get-Lamp |", 1),
        ("No-Such", 1),
    ] {
        expression(&desk, text).expect(status);
        let strict = if matches!(status, 0) && text != "exit 0" { 1 } else { status };
        task(&desk, &["--expression", text, "--strict"], b"").expect(strict);
    }
    let wide = expression(&desk, "exit 300").expect(44);
    assert!(wide.err.contains("it ended with 300"), "{}", wide.err);
    let outcome = expression(&desk, "whoami\n\n  throw 'the lamp is out'");
    assert!(outcome.err.contains("[chart-room] error: the lamp is out\n"), "{}", outcome.err);
    assert!(
        outcome.err.contains("OperationStopped; line 3, column 3: throw 'the lamp is out'"),
        "{}",
        outcome.err
    );
    let words = ["--expression", "Write-Warning fog\nGet-Lamp nobody\nthrow 'out'", "--json"];
    let outcome = task(&desk, &words, b"").expect(1);
    let records: Vec<Value> = outcome.err.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(records[0], serde_json::json!({"record": "warning", "message": "fog"}));
    assert_eq!(
        (&records[1]["category"], &records[1]["terminating"]),
        (&"ObjectNotFound".into(), &false.into())
    );
    assert_eq!((&records[2]["message"], &records[2]["position"]["line"]), (&"out".into(), &3.into()));
    assert_eq!(records[2]["terminating"], true);
    // Nothing that a machine says steers the screen, or passes for ours.
    let hostile = expression(&desk, "Write-Error 'a\u{1b}[2J\u{202e}b\nerror: c'").expect(0);
    support::fit::assert_fit("an error", hostile.err.as_bytes());
    assert!(hostile.err.lines().all(|line| line.starts_with("[chart-room]")), "{}", hostile.err);
}

#[test]
fn values_are_bound_and_never_become_text() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let text = "param($name, [switch]$all)\nShow-Words $name $all";
    for value in ["foghorn", "'; exit 9 #", "$(exit 9)", "a b", "", "`\"", "\u{1f30a}"] {
        let argument = format!("name={value}");
        let words = ["--expression", text, "--argument", &argument, "--argument", "all"];
        let outcome = task(&desk, &words, b"").expect(0);
        assert_eq!(outcome.text(), format!("[{value}]\n[True]\n"), "{value}");
    }
    for wrong in ["=x", "a b=c", "a.b=c"] {
        let words = ["--expression", text, "--argument", wrong];
        assert!(task(&desk, &words, b"").expect(240).err.contains("NAME=VALUE"));
    }
}

#[test]
fn standard_input_goes_in_where_there_is_a_use_for_it() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let sorted = task(&desk, &["--expression", "Sort-Object"], b"lamp\r\nfog\nquay").expect(0);
    assert_eq!(sorted.text(), "fog\nlamp\nquay\n");
    // A command that wants nothing of it, and gets nothing, runs all the same.
    assert_eq!(task(&desk, &["--expression", "hostname"], b"").expect(0).text(), "CHART-ROOM\n");
    // A script takes it by its name, or leaves it.
    let counted = task(&desk, &["--expression", "$input | Measure-Object; 1", "--json"], b"a\nb\n").expect(0);
    assert_eq!(lines(&counted)[0]["Count"], 2);
    assert_eq!(task(&desk, &["--expression", "1; 2"], b"a\nb\n").expect(0).text(), "1\n2\n");
    let words = ["--expression", "Measure-Object -Property Watts", "--input-json", "--json"];
    let counted = task(&desk, &words, b"[{\"Watts\": 40}, {\"Watts\": 250}] {\"Watts\": 1}").expect(0);
    assert_eq!(lines(&counted)[0]["Sum"], 291);
    let broken = task(&desk, &words, b"{\"Watts\" 40}").expect(241);
    assert!(broken.err.contains("standard input is no JSON"), "{}", broken.err);
    let latin = task(&desk, &["--expression", "Sort-Object"], b"a\n\xe4\n").expect(241);
    assert!(latin.err.contains("line 2 of standard input is not UTF-8"), "{}", latin.err);
    // Much of it, in order.
    let many: String = (0..30_000).map(|number| format!("tide {number}\n")).collect();
    let outcome = task(
        &desk,
        &["--expression", "Select-Object -Property Length | Measure-Object", "--json"],
        many.as_bytes(),
    );
    assert_eq!(lines(&outcome.expect(0))[0]["Count"], 30_000);
}

#[test]
fn a_script_comes_from_a_file_as_windows_writes_them_or_from_standard_input() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let text = "'the tide \u{e4}'";
    let units = |order: fn(u16) -> [u8; 2]| text.encode_utf16().flat_map(order).collect::<Vec<u8>>();
    for (name, bytes) in [
        ("plain.ps1", text.as_bytes().to_vec()),
        ("marked.ps1", [b"\xef\xbb\xbf", text.as_bytes()].concat()),
        ("little.ps1", [b"\xff\xfe".to_vec(), units(u16::to_le_bytes)].concat()),
        ("big.ps1", [b"\xfe\xff".to_vec(), units(u16::to_be_bytes)].concat()),
    ] {
        let file = desk.folder.path().join(name);
        fs::write(&file, bytes).unwrap();
        let outcome = task(&desk, &["--script", file.to_str().unwrap()], b"").expect(0);
        assert_eq!(outcome.text(), "the tide \u{e4}\n", "{name}");
    }
    assert_eq!(task(&desk, &["--script", "-"], b"whoami; exit 4").expect(4).text(), "chart-room\\keeper\n");
    let file = desk.folder.path().join("latin.ps1");
    fs::write(&file, b"'\xe4'").unwrap();
    let refused = task(&desk, &["--script", file.to_str().unwrap()], b"").expect(241);
    assert!(refused.err.contains("neither UTF-8 nor UTF-16"), "{}", refused.err);
    for (words, status, part) in [
        (&["--script", "/nonexistent"][..], 241, "cannot read the script /nonexistent"),
        (&["--script", "-"], 240, "is empty"),
        (&["--expression", "  "], 240, "is empty"),
        (&["--expression", "1", "--", "hostname"], 240, "takes no command beside it"),
        (&["--strict", "--", "hostname"], 240, "--strict goes with a text"),
        (&["--configuration", "PowerShell.7", "--", "hostname"], 240, "--configuration goes with a text"),
        (&["--expression", "1", "--interpreter"], 240, "takes no command beside it"),
        (&["--expression", "1", "--display"], 240, "forwards neither agents nor displays"),
        (&["--expression", "1", "--script", "-"], 240, "cannot be used with"),
        (&["--expression", "1", "--configuration", "a/b"], 240, "name of an endpoint"),
    ] {
        let refused = task(&desk, words, b"").expect(status);
        assert!(refused.err.contains(part), "{words:?}: {}", refused.err);
    }
}

#[test]
fn an_endpoint_that_takes_no_scripts_gets_commands() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let keepers = ["--configuration", "Lamp.Keepers"];
    let at = |words: &[&str]| task(&desk, &[&keepers[..], words].concat(), b"");
    // It has no formatter either: a table of ours.
    let outcome = at(&["--expression", "Get-Lamp -Name 'lamp-01' | Select-Object Name,Watts"]).expect(0);
    assert_eq!(outcome.text(), "Name     Watts\nlamp-01  40\n");
    let outcome = at(&["--expression", "Show-Words", "--argument", "name='; x"]).expect(0);
    assert_eq!(outcome.text(), "name=['; x]\n");
    let refused = at(&["--expression", "Get-Lamp; whoami"]).expect(1);
    assert!(refused.err.contains("ScriptsNotAllowed"), "{}", refused.err);
    assert!(refused.err.contains("a second statement at column 9"), "{}", refused.err);
    let hidden = at(&["--expression", "whoami"]).expect(1);
    assert!(hidden.err.contains("CommandNotFoundException"), "{}", hidden.err);
    // By the book, too; the option goes before it.
    desk.lantern(&["machine", "set", "chart-room", "configuration=Lamp.Keepers"]).expect(0);
    expression(&desk, "Get-Lamp; whoami").expect(1);
    task(&desk, &["--configuration", "PowerShell.7", "--expression", "Get-Lamp; whoami"], b"").expect(0);
    let nowhere = task(&desk, &["--configuration", "Nowhere", "--expression", "1"], b"").expect(250);
    assert!(nowhere.err.contains("there is no endpoint of that name"), "{}", nowhere.err);
    assert!(nowhere.err.contains("Get-PSSessionConfiguration"), "{}", nowhere.err);
    // No protocol but WinRM has them.
    desk.lantern(&["machine", "add", "lamp-01", "keeper@192.0.2.7"]).expect(0);
    let refused = desk.lantern(&["run", "lamp-01", "--expression", "1"]).expect(240);
    assert!(refused.err.contains("spoken to by SSH"), "{}", refused.err);
}

#[test]
fn nobody_is_asked_where_nobody_is_there() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for text in ["Read-Host", "Read-Host 'How high?'", "Get-Credential", "Confirm-Lamp", "Read-Key"] {
        let refused = expression(&desk, text).expect(1);
        assert!(refused.err.contains("nobody is at a terminal who could answer"), "{text}: {}", refused.err);
    }
    // What is known without asking is told.
    let size = expression(&desk, "Get-HostSize").expect(0);
    assert!(size.text().starts_with("told 200x"), "{}", size.text());
}

fn spawn(desk: &Desk, words: &[&str]) -> std::process::Child {
    let words = [&["run", "chart-room", "--password-from", "file:first"], words].concat();
    let mut command = desk.command(&words);
    command.stdin(Stdio::null());
    command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn wait_until(windows: &Windows, count: usize) {
    let since = Instant::now();
    while windows.seen().requests.len() < count {
        assert!(since.elapsed() < Duration::from_secs(30), "{:?}", windows.seen());
        thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn an_interrupt_stops_the_pipeline_and_a_second_one_ends_lantern() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for text in ["Wait-Forever", "Start-Sleep 100", "Get-Tide 1000 100"] {
        let before = windows.seen().requests.len();
        let child = spawn(&desk, &["--expression", text]);
        wait_until(&windows, before + 4);
        thread::sleep(Duration::from_millis(200));
        kill_process(Pid::from_child(&child), Signal::INT).unwrap();
        let outcome: Outcome = child.wait_with_output().unwrap().into();
        assert_eq!(outcome.status, 130, "{text}: {} {}", outcome.text(), outcome.err);
        assert!(
            outcome.err.contains("the pipeline on chart-room is to stop; once more ends lantern"),
            "{}",
            outcome.err
        );
        assert_eq!(windows.seen().shells, 0);
    }
    let deaf = faulty(WindowsFault::Deaf);
    let desk = desk_that_trusts(&deaf, &[]);
    let before = deaf.seen().requests.len();
    let child = spawn(&desk, &["--expression", "Wait-Forever"]);
    wait_until(&deaf, before + 4);
    thread::sleep(Duration::from_millis(200));
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    thread::sleep(Duration::from_millis(500));
    let since = Instant::now();
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    let outcome: Outcome = child.wait_with_output().unwrap().into();
    assert_eq!(outcome.status, 252, "{}", outcome.err);
    assert!(since.elapsed() < Duration::from_secs(8), "{:?}", since.elapsed());
}

#[test]
fn a_reader_that_goes_and_a_disk_that_is_full_end_it() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let mut child = spawn(&desk, &["--expression", "New-Bulk 20000", "--json"]);
    let mut out = child.stdout.take().unwrap();
    std::io::Read::read_exact(&mut out, &mut [0; 1000]).unwrap();
    drop(out);
    assert_eq!(child.wait().unwrap().code(), Some(141));
    let words = run_words(&["--expression", "New-Bulk 10"]);
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let mut command = desk.command(
        &words.iter().map(|word| if *word == "fd:3" { "file:first" } else { word }).collect::<Vec<_>>(),
    );
    let outcome: Outcome =
        command.stdin(Stdio::null()).stdout(full).stderr(Stdio::piped()).output().unwrap().into();
    assert_eq!(outcome.status, 241, "{}", outcome.err);
    assert!(outcome.err.contains("cannot write standard output"), "{}", outcome.err);
}

#[test]
fn a_link_that_is_lost_is_made_again_and_what_may_be_missing_is_a_failure() {
    for (fault, text, status, part) in [
        (WindowsFault::LeavesShells, "Get-Tide 3 100", 0, "chart-room is there again, and so is the session"),
        (WindowsFault::LeavesOut, "Get-Tide 3 300", 251, "something of what chart-room said may be missing"),
        (
            WindowsFault::Garbles,
            "1",
            246,
            "the session on chart-room cannot go on: a fragment of a message is damaged",
        ),
        (WindowsFault::NoShells, "1", 250, "AllowRemoteShellAccess"),
        (WindowsFault::ShellQuota, "1", 250, "MaxShellsPerUser"),
    ] {
        let windows = faulty(fault);
        let desk = desk_for(&windows, &[]);
        trust(&desk, &windows);
        let outcome = run(&desk, &["--no-input", "--expression", text]).expect(status);
        assert!(outcome.err.contains(part), "{fault:?}: {}", outcome.err);
    }
}

#[test]
fn over_plain_http_everything_is_sealed_and_no_log_has_a_secret() {
    let windows = Windows::light(WindowsSpec { certificate: None, ..chart_room() });
    let desk = desk_for(&windows, &["plain=private-network"]);
    let log = desk.folder.path().join("log");
    let words = ["--log", log.to_str().unwrap(), "-v", "--no-input", "--expression", "Get-Secret", "--json"];
    let outcome = run(&desk, &words).expect(0);
    assert!(outcome.text().contains("{\"secure\":true}"), "{}", outcome.text());
    let log = fs::read_to_string(&log).unwrap();
    assert!(!log.is_empty() && !log.contains(PASSWORD), "{log}");
}
