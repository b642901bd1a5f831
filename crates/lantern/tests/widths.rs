//! Screens at three widths, as a person sees them: nothing is wider than the terminal, no fingerprint is broken, and they look as they did.
//!
//! The pictures are in `tests/screens`; `LANTERN_DRAW_SCREENS=1` draws them anew, to be looked at.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::path::PathBuf;

use support::{Desk, Screen};

const FINGERPRINT: &str = "SHA256:";
const WIDTHS: [u16; 3] = [60, 100, 200];

/// A home in which nothing depends on the time or on chance.
fn desk() -> Desk {
    let desk = Desk::new();
    let home = desk.home();
    fs::create_dir_all(&home).unwrap();
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(&home, fs::Permissions::from_mode(0o700)).unwrap();
    fs::write(
        home.join("machines.toml"),
        r#"[defaults]
user = "keeper"

[profiles.pier]
gateway = "harbour-gate"
trust = "known-only"

[machines.harbour-gate]
address = "192.0.2.1"
tags = ["house"]
note = "the only way to the pier"

[machines.lamp-2]
address = "127.77.9.2"
port = 1
tags = ["coast", "north"]
production = true

[machines.lamp-10]
address = ["lamp-10.coast.example", "2001:db8::10"]
tags = ["coast"]
note = "a third order lens, and the longest note of them all, which no narrow terminal has room for"

[machines.pier-lamp]
address = "10.77.0.21"
profiles = ["pier"]
tunnels = { console = "local 8443 to 127.0.0.1:443" }
"#,
    )
    .unwrap();
    fs::write(
        home.join("trust.toml"),
        r#"# lantern trust, form 1
[machines.lamp-2]
addresses = ["127.77.9.2:1"]
[[machines.lamp-2.keys]]
key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAioU/YN6raghfYGoV79w9O+EWGOquxKcWh0paklOXg"
verified = "pasted"
first-seen = "2026-03-01T10:00:00Z"
last-seen = "2026-11-20T10:00:00Z"
"#,
    )
    .unwrap();
    desk
}

/// What the screen shows at the end of a command.
fn screen(desk: &Desk, words: &[&str], columns: u16) -> String {
    let line = format!(
        "exec {} {}",
        support::binary(),
        words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" ")
    );
    // Nothing is drawn before the terminal has its size.
    let script = format!("while [ \"$(stty size)\" != '60 {columns}' ]; do sleep 0.01; done; {line}");
    let mut screen = Screen::open_program(desk, "/bin/sh", &["-c", &script]);
    screen.resize(60, columns);
    screen.wait_for_exit();
    let text = screen.text();
    // Times and places are of today.
    let folder = desk.folder.path().display().to_string();
    let text = text.replace(&folder, "/desk");
    let lines = text.lines().map(|line| {
        let line = line.trim_end();
        match line.find("  (").filter(|_| line.ends_with(" ms)")) {
            Some(at) => line[..at].to_owned(),
            None => line.to_owned(),
        }
    });
    lines.collect::<Vec<_>>().join("\n").trim_end().to_owned() + "\n"
}

fn picture(name: &str, columns: u16) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join(format!("tests/screens/{name}-{columns}.txt"))
}

#[test]
fn screens_fit_their_width_and_look_as_they_did() {
    let desk = desk();
    let views: [(&str, &[&str]); 9] = [
        ("machine-list", &["machine", "list"]),
        ("machine-show", &["machine", "show", "pier-lamp"]),
        ("machine-set-plan", &["machine", "set", "@coast", "tags+=old", "user=warden", "--plan"]),
        ("trust-list", &["trust", "list"]),
        ("trust-show", &["trust", "show", "lamp-2"]),
        ("check-refused", &["check", "lamp-2"]),
        ("unknown-machine", &["run", "lamp-3", "uptime"]),
        ("exit-codes", &["exit-codes"]),
        ("run-help", &["run", "-h"]),
    ];
    let draw = std::env::var_os("LANTERN_DRAW_SCREENS").is_some();
    for (name, words) in views {
        for columns in WIDTHS {
            let shown = screen(&desk, words, columns);
            for line in shown.lines() {
                assert!(line.chars().count() <= usize::from(columns), "{name} at {columns}: {line}");
                if let Some(at) = line.find(FINGERPRINT) {
                    let print = line[at + FINGERPRINT.len()..].split_whitespace().next().unwrap_or_default();
                    assert_eq!(print.len(), 43, "{name} at {columns} breaks a fingerprint: {line}");
                }
            }
            let path = picture(name, columns);
            if draw {
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                fs::write(&path, &shown).unwrap();
            }
            let drawn = fs::read_to_string(&path).unwrap_or_default();
            assert_eq!(
                shown, drawn,
                "{name} at {columns} looks otherwise; LANTERN_DRAW_SCREENS=1 draws it anew"
            );
        }
    }
    // Into a pipe there is no width.
    let listed = desk.lantern(&["machine", "list"]).expect(0);
    assert!(listed.text().contains("which no narrow terminal has room for"), "{}", listed.text());
    // And where there is nothing but ASCII, nothing else is printed.
    let ascii: support::Outcome = desk
        .command(&["machine", "set", "lamp-2", "port=2", "--plan"])
        .env("LANG", "C")
        .output()
        .unwrap()
        .into();
    assert_eq!(ascii.expect(0).text(), "changed  lamp-2  port  1 -> 2\n");
}
