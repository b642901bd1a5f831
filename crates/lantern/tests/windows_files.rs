//! Files of machines of Windows: by the service that is brought along, as a command and in a session; and that service itself, compiled and run for real.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use lantern_harbour::{WindowsFault, WindowsSpec};
use support::windows::{PASSWORD, Windows, chart_room, desk_that_trusts, faulty, trust};
use support::{Desk, Outcome, light, machine, noise};

fn lantern(desk: &Desk, words: &[&str]) -> Outcome {
    desk.with_secrets(&[words, &["--password-from", "fd:3"]].concat(), PASSWORD, "")
}

fn put(desk: &Desk, path: &str, content: impl AsRef<[u8]>) -> PathBuf {
    let path = desk.folder.path().join(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(&path, content).unwrap();
    path
}

#[test]
fn a_file_goes_to_windows_and_back_and_is_compared() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let content = noise(3_000_000);
    put(&desk, "installer.msi", &content);
    let went = lantern(&desk, &["copy", "installer.msi", r"chart-room:C:\logs\", "--verify"]).expect(0);
    assert_eq!((went.text(), went.err.as_str()), ("", "1 file copied (3.0 MB, compared).\n"));
    assert!(windows.machine.file("keeper", "C:/logs/installer.msi").unwrap() == content);
    assert_eq!(windows.machine.names("keeper", "C:/logs"), ["installer.msi", "tide-01.log"]);

    lantern(&desk, &["copy", r"chart-room:C:\logs\inst*.msi", "back.msi", "--verify"]).expect(0);
    assert!(fs::read(desk.folder.path().join("back.msi")).unwrap() == content);
    // From the home of the user, where no drive is said.
    lantern(&desk, &["copy", "chart-room:tides.csv", "."]).expect(0);
    assert!(fs::read(desk.folder.path().join("tides.csv")).unwrap().starts_with(b"time,height_m\n"));
    // Nothing is left standing there.
    assert_eq!((windows.seen().shells, windows.machine.open_files()), (0, 0));
}

/// Names that mean something else there are refused one by one, and all others go.
#[test]
fn names_that_windows_does_not_have_are_told_and_the_others_go() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for name in ["good", "tide:stream", r"..\..\climbs", "what?"] {
        put(&desk, &format!("tree/{name}"), name);
    }
    let went = lantern(&desk, &["copy", "tree", "chart-room:C:/logs/"]);
    assert_ne!(went.status, 0);
    for name in ["tide:stream", "climbs", "what?"] {
        assert!(went.err.contains(name) && went.err.contains("Windows has no names"), "{}", went.err);
    }
    assert_eq!(windows.machine.names("keeper", "C:/logs/tree"), ["good"]);
    assert_eq!(windows.machine.names("keeper", "C:/"), ["Users", "logs"]);
}

#[test]
fn from_a_machine_of_unix_to_one_of_windows_nothing_is_written_here() {
    let windows = Windows::light(chart_room());
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let (address, port) = (windows.address.ip().to_string(), format!("port={}", windows.address.port()));
    let words = ["machine", "add", "chart-room", &address, &port, "protocol=winrm", "user=keeper"];
    desk.lantern(&words).expect(0);
    trust(&desk, &windows);
    lantern(&desk, &["copy", "lamp-01:tides.csv", "chart-room:D:/", "--verify"]).expect(0);
    assert_eq!(windows.machine.file("keeper", "D:/tides.csv"), lit.lit.file("keeper", "tides.csv"));
    lantern(&desk, &["copy", "chart-room:C:/logs/tide-01.log", "lamp-01:/srv/", "--verify"]).expect(0);
    assert_eq!(
        windows.machine.file("keeper", "C:/logs/tide-01.log"),
        lit.lit.file("keeper", "/srv/tide-01.log")
    );
}

/// Where nobody may run commands, pipelines carry the conversation.
#[test]
fn a_session_carries_files_where_there_are_no_commands() {
    let windows = faulty(WindowsFault::NoCommands);
    let desk = support::windows::desk_for(&windows, &[]);
    trust(&desk, &windows);
    let content = noise(2_000_000);
    put(&desk, "installer.msi", &content);
    lantern(&desk, &["copy", "installer.msi", "chart-room:C:/logs/", "--verify"]).expect(0);
    assert!(windows.machine.file("keeper", "C:/logs/installer.msi").unwrap() == content);
    lantern(&desk, &["copy", "chart-room:C:/logs/installer.msi", "back.msi", "--verify"]).expect(0);
    assert!(fs::read(desk.folder.path().join("back.msi")).unwrap() == content);
    assert_eq!((windows.seen().shells, windows.machine.open_files()), (0, 0));
}

#[test]
fn what_keeps_the_service_from_running_is_told() {
    let windows = faulty(WindowsFault::NoShells);
    let desk = support::windows::desk_for(&windows, &[]);
    trust(&desk, &windows);
    let refused = lantern(&desk, &["files", "list", "chart-room:"]);
    assert!(refused.status != 0 && refused.err.contains("shell"), "{}", refused.err);
    let gone =
        Windows::light(WindowsSpec { file_service: Some(vec!["/no/such/program".into()]), ..chart_room() });
    let desk = desk_that_trusts(&gone, &[]);
    let ended = lantern(&desk, &["files", "list", "chart-room:"]);
    assert!(ended.status != 0 && ended.err.contains("file service ended"), "{}", ended.err);
}

/// The service, compiled as the machine would do it; none where this system has no compiler.
fn compiled(folder: &Path) -> Option<PathBuf> {
    let sources = folder.join("service.cs");
    let main = "static class Program { static int Main(string[] words) { \
        if (words.Length == 0) return BrassLantern.FileService.Serve(System.Console.OpenStandardInput(), System.Console.OpenStandardOutput()); \
        foreach (string word in words) System.Console.WriteLine(BrassLantern.Names.Fault(word) == null ? \"yes\" : \"no\"); \
        BrassLantern.Names.Windows = true; \
        foreach (string word in words) { \
            try { BrassLantern.Names.Inward(word); System.Console.WriteLine(\"taken\"); } \
            catch (BrassLantern.Refusal refusal) { System.Console.WriteLine(refusal.Code); } } \
        return 0; } }";
    let text = lantern_winrm::file_helper::text();
    fs::write(&sources, format!("{text}{main}")).unwrap();
    let program = folder.join("service.exe");
    let out = format!("-out:{}", program.display());
    // The language as the oldest of these machines has it.
    let made = Command::new("mcs").args(["-langversion:5", "-warnaserror", &out]).arg(&sources).output();
    match made {
        Ok(made) => {
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
            Some(program)
        }
        Err(_) => {
            eprintln!("skipped: there is no mcs");
            None
        }
    }
}

#[test]
fn the_service_itself_does_all_that_is_asked_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let Some(program) = compiled(folder.path()) else { return };
    let words = vec!["mono".to_owned(), program.to_str().unwrap().to_owned()];
    let windows = Windows::light(WindowsSpec { file_service: Some(words), ..chart_room() });
    let desk = desk_that_trusts(&windows, &[]);
    let there = folder.path().join("there");
    fs::create_dir(&there).unwrap();
    let at = |path: &str| format!("chart-room:{}/{path}", there.display());

    // A folder with files of all sizes, there and back, compared.
    let sizes = [0, 1, 4095, 300_000, 3_000_000];
    for size in sizes {
        put(&desk, &format!("tree/deep/{size}.bin"), noise(size));
    }
    put(&desk, "tree/låmp 灯台.txt", "lit");
    lantern(&desk, &["copy", "tree", &at(""), "--verify"]).expect(0);
    for size in sizes {
        assert!(fs::read(there.join(format!("tree/deep/{size}.bin"))).unwrap() == noise(size), "{size}");
    }
    lantern(&desk, &["copy", &at("tree"), "back/", "--verify"]).expect(0);
    assert!(fs::read(desk.folder.path().join("back/tree/deep/3000000.bin")).unwrap() == noise(3_000_000));
    assert_eq!(fs::read(desk.folder.path().join("back/tree/låmp 灯台.txt")).unwrap(), b"lit");
    // Nothing to do the second time, since times went along.
    let again = lantern(&desk, &["copy", "tree", &at(""), "--plan"]).expect(0);
    assert!(again.err.contains("Nothing is to be done"), "{}{}", again.text(), again.err);

    // One that is replaced, one that is removed, one that is renamed.
    put(&desk, "tree/deep/1.bin", "changed");
    fs::remove_file(desk.folder.path().join("tree/deep/4095.bin")).unwrap();
    lantern(&desk, &["copy", "tree", &at(""), "--mirror", "--yes", "--by-content"]).expect(0);
    assert_eq!(fs::read(there.join("tree/deep/1.bin")).unwrap(), b"changed");
    assert!(!there.join("tree/deep/4095.bin").exists());
    lantern(&desk, &["files", "move", &at("tree/deep/1.bin"), &at("tree/first.bin")]).expect(0);
    assert!(there.join("tree/first.bin").exists());
    lantern(&desk, &["files", "make-folder", &at("tree/new")]).expect(0);
    assert!(there.join("tree/new").is_dir());
    let listed = lantern(&desk, &["files", "list", "--json", &at("tree")]).expect(0);
    let listed: serde_json::Value = serde_json::from_str(listed.text()).unwrap();
    let names = listed.to_string();
    assert!(names.contains("first.bin") && names.contains("灯台"), "{names}");
    lantern(&desk, &["files", "remove", "--yes", "--below", &at("tree")]).expect(0);
    assert!(!there.join("tree").exists());
    let missing = lantern(&desk, &["files", "show", &at("nothing")]);
    assert!(missing.status != 0 && missing.err.contains("nothing"), "{}", missing.err);
    // A stream, both ways, and a file in the place of a folder.
    lantern(&desk, &["copy", "tree/deep/300000.bin", &at("tree")]).expect(0);
    let out = lantern(&desk, &["copy", &at("tree"), "-"]).expect(0);
    assert!(out.out == noise(300_000));
}

#[test]
fn names_that_windows_takes_for_something_else_are_known() {
    let folder = tempfile::tempdir().unwrap();
    let Some(program) = compiled(folder.path()) else { return };
    let names = [
        ("lamp.conf", true),
        (".hidden", true),
        ("..", true),
        ("console.log", true),
        ("com10", true),
        ("tide:stream", false),
        (r"a\b", false),
        ("CON", false),
        ("nul.txt", false),
        ("aux .log", false),
        ("lpt1", false),
        ("ends.", false),
        ("ends ", false),
        ("a|b", false),
        ("what?", false),
        ("a\u{1}b", false),
    ];
    let words = names.iter().map(|(name, _)| *name);
    let said = Command::new("mono").arg(&program).args(words).output().unwrap();
    let said = String::from_utf8(said.stdout).unwrap();
    let (said, places) = said.lines().partition::<Vec<_>, _>(|line| ["yes", "no"].contains(line));
    let said: Vec<_> = said.into_iter().map(|line| line == "yes").collect();
    let taken: Vec<_> = places.into_iter().map(|line| line == "taken").collect();
    assert_eq!(taken, said);
    for ((name, expected), said) in names.iter().zip(&said) {
        assert_eq!(said, expected, "{name:?}");
    }
    assert_eq!(said.len(), names.len());
}

#[test]
fn what_windows_files_do_not_have_is_refused_and_patterns_know_no_case() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    put(&desk, "motd", "lit");
    for words in [
        &["files", "change", "chart-room:C:/logs/tide-01.log", "--permissions", "600"][..],
        &["files", "make-folder", "chart-room:C:/new", "--permissions", "700"],
        &["copy", "motd", "chart-room:C:/", "--permissions", "600"],
    ] {
        let refused = lantern(&desk, words).expect(240);
        assert!(refused.err.contains("machine of Windows"), "{}", refused.err);
    }
    assert_eq!(windows.machine.names("keeper", "C:/"), ["Users", "logs"]);
    let renamed =
        lantern(&desk, &["files", "move", "chart-room:C:/logs/tide-01.log", "C:/logs/a:b"]).expect(250);
    assert!(renamed.err.contains("Windows has no names"), "{}", renamed.err);
    let listed = lantern(&desk, &["files", "list", r"chart-room:C:\logs\TIDE-*.LOG"]).expect(0);
    assert!(listed.text().contains("tide-01.log"), "{}", listed.text());
    // Seconds since 1970, which are kept.
    lantern(&desk, &["copy", "motd", "chart-room:C:/"]).expect(0);
    let again = lantern(&desk, &["copy", "motd", "chart-room:C:/"]).expect(0);
    assert!(again.err.contains("there already"), "{}", again.err);
}
