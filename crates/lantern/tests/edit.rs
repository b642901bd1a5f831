//! `edit`: a file of a machine in an editor here: saved while it is open, kept as it was but for its text, and never written over what others wrote.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::time::{Duration, Instant};

use lantern_harbour::{FilesSpec, MachineSpec};
use lantern_ssh::sftp::Attributes;
use support::{Desk, Lit, PATIENCE, Screen, light, machine};

fn desk_and_machine() -> (Desk, Lit) {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    (desk, lit)
}

/// An editor that does this with the file `$1`.
fn editor(desk: &Desk, script: &str) -> String {
    let path = desk.folder.path().join("editor");
    fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    path.to_str().unwrap().to_owned()
}

fn edit(desk: &Desk, script: &str, words: &[&str]) -> Command {
    let mut command = desk.command(&[&["edit"], words].concat());
    command.env("EDITOR", editor(desk, script)).env("PATH", "/usr/bin:/bin");
    command
}

fn text(lit: &Lit, path: &str) -> String {
    String::from_utf8(lit.lit.file("keeper", path).unwrap()).unwrap()
}

/// Waits until a file there has this in it.
fn wait_for(lit: &Lit, path: &str, wanted: &str) {
    let start = Instant::now();
    while text(lit, path) != wanted {
        assert!(start.elapsed() < PATIENCE, "{path} has {:?}", text(lit, path));
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// What is left of drafts in the home.
fn drafts(desk: &Desk) -> Vec<String> {
    let entries = fs::read_dir(desk.home().join("drafts")).into_iter().flatten();
    entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect()
}

#[test]
fn a_file_is_put_back_as_it_was_but_for_its_text() {
    let (desk, lit) = desk_and_machine();
    lit.lit.put_file("keeper", "conf", b"one\n");
    desk.lantern(&["files", "change", "lamp-01:conf", "--permissions", "604"]).expect(0);
    let done: support::Outcome = edit(&desk, "echo two >>\"$1\"", &["lamp-01:conf"]).output().unwrap().into();
    assert!(done.expect(0).err.contains("Saved on lamp-01."));
    assert_eq!(text(&lit, "conf"), "one\ntwo\n");
    assert_eq!(lit.lit.look("keeper", "conf").unwrap().permissions(), Some(0o604));
    // An editor that writes another file and renames it; lines that end as on Windows go on to.
    lit.lit.put_file("keeper", "dos", b"a\r\nb\r\n");
    let script = "printf 'a\\nb\\nc\\n' >\"$1.new\"; mv \"$1.new\" \"$1\"";
    let done: support::Outcome = edit(&desk, script, &["lamp-01:dos", "--json"]).output().unwrap().into();
    assert!(done.expect(0).text().contains("\"saves\": 1"));
    assert_eq!(text(&lit, "dos"), "a\r\nb\r\nc\r\n");
    let done: support::Outcome = edit(&desk, "true", &["lamp-01:conf"]).output().unwrap().into();
    assert!(done.expect(0).err.contains("Nothing was changed."));
    // A link stays one.
    desk.lantern(&["files", "list", "lamp-01:"]).expect(0);
    let missing: support::Outcome = edit(&desk, "true", &["lamp-01:none"]).output().unwrap().into();
    assert!(missing.expect(250).err.contains("--new begins it"));
    let new: support::Outcome =
        edit(&desk, "echo begun >\"$1\"", &["lamp-01:none", "--new"]).output().unwrap().into();
    new.expect(0);
    assert_eq!(text(&lit, "none"), "begun\n");
    let folder: support::Outcome = edit(&desk, "true", &["lamp-01:/srv"]).output().unwrap().into();
    folder.expect(240);
    assert!(
        drafts(&desk).is_empty() && !lit.lit.names("keeper", "").iter().any(|name| name.contains("part"))
    );
}

#[test]
fn each_save_arrives_while_the_editor_is_open_and_none_half_written() {
    let (desk, lit) = desk_and_machine();
    lit.lit.put_file("keeper", "conf", b"one\n");
    // It empties the file, waits, and writes it: what is seen there in between is the old one.
    let script = "for n in 1 2; do : >\"$1\"; sleep 0.3; echo \"text $n\" >\"$1\"; while [ ! -e go-$n ]; do sleep 0.05; done; done";
    let mut child = edit(&desk, script, &["lamp-01:conf"]).spawn().unwrap();
    for (go, wanted) in [("go-1", "text 1\n"), ("go-2", "text 2\n")] {
        let start = Instant::now();
        loop {
            let now = text(&lit, "conf");
            assert!(!now.is_empty(), "half of it arrived");
            if now == wanted {
                break;
            }
            assert!(start.elapsed() < PATIENCE);
            std::thread::sleep(Duration::from_millis(5));
        }
        fs::write(desk.folder.path().join(go), "").unwrap();
    }
    assert!(child.wait().unwrap().success());
}

#[test]
fn what_others_wrote_meanwhile_is_not_written_over() {
    let (desk, lit) = desk_and_machine();
    let script = "echo mine >>\"$1\"; while [ ! -e go ]; do sleep 0.05; done; echo more >>\"$1\"";
    // With nobody to ask, what was written is kept here, and what to do with it is said.
    lit.lit.put_file("keeper", "conf", b"one\n");
    let mut child = edit(&desk, script, &["lamp-01:conf", "--no-questions"]).spawn().unwrap();
    wait_for(&lit, "conf", "one\nmine\n");
    lit.lit.put_file("keeper", "conf", b"one\ntheirs\n");
    fs::write(desk.folder.path().join("go"), "").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(250));
    let outcome: support::Outcome = child.wait_with_output().unwrap().into();
    assert_eq!(text(&lit, "conf"), "one\ntheirs\n");
    let kept = drafts(&desk);
    assert_eq!(kept, ["lamp-01-1-conf"]);
    assert!(
        outcome.err.contains("changed on lamp-01 meanwhile") && outcome.err.contains("drafts/lamp-01-1-conf")
    );
    let draft = fs::read_to_string(desk.home().join("drafts/lamp-01-1-conf")).unwrap();
    assert_eq!(draft, "one\nmine\nmore\n");

    for (answer, there, left) in
        [("mine", "one\nmine\nmore\n", 1), ("theirs", "one\ntheirs\n", 2), ("both", "one\nsettled\n", 2)]
    {
        fs::remove_file(desk.folder.path().join("go")).unwrap();
        lit.lit.put_file("keeper", "conf", b"one\n");
        // Opened again, it is given both, and settles it.
        let script = format!(
            "if grep -q '<<<<<<< there' \"$1\"; then grep -q theirs \"$1\" && grep -q mine \"$1\" && printf 'one\\nsettled\\n' >\"$1\"; exit; fi; {script}"
        );
        let editor = editor(&desk, &script);
        let variables = [("EDITOR", editor.as_str()), ("PATH", "/usr/bin:/bin"), ("LANG", "C.UTF-8")];
        let mut screen = Screen::open_with(&desk, support::binary(), &["edit", "lamp-01:conf"], &variables);
        wait_for(&lit, "conf", "one\nmine\n");
        lit.lit.put_file("keeper", "conf", b"one\ntheirs\n");
        fs::write(desk.folder.path().join("go"), "").unwrap();
        screen.wait_for("mine, theirs or both:");
        assert_eq!(text(&lit, "conf"), "one\ntheirs\n");
        screen.send("what\r");
        screen.wait_until("it is asked again", |text| text.matches("mine, theirs or both:").count() == 2);
        screen.send(&format!("{answer}\r"));
        assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
        assert_eq!(text(&lit, "conf"), there, "{answer}");
        assert_eq!(drafts(&desk).len(), left, "{answer}");
    }
}

/// An editor that returns at once and keeps a window: its saves count until somebody says that it is done.
#[test]
fn an_editor_that_leaves_at_once_is_waited_for() {
    let (desk, lit) = desk_and_machine();
    lit.lit.put_file("keeper", "conf", b"one\n");
    let editor = editor(&desk, "(sleep 1; echo later >>\"$1\") >/dev/null 2>&1 &");
    let variables = [("EDITOR", editor.as_str()), ("PATH", "/usr/bin:/bin"), ("LANG", "C.UTF-8")];
    let mut screen = Screen::open_with(&desk, support::binary(), &["edit", "lamp-01:conf"], &variables);
    screen.wait_for("Enter when done:");
    wait_for(&lit, "conf", "one\nlater\n");
    screen.send("\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("Saved on lamp-01."), "{}", screen.text());
}

/// Whose file it is stays so, also where a new one could not be given to them: then the old one is written over. Where that breaks off, a whole copy of the new
/// one is beside it.
#[test]
fn a_file_of_somebody_else_stays_theirs() {
    let desk = Desk::with_key();
    let files = FilesSpec { room: 60_000, ..FilesSpec::default() };
    let lit = light(MachineSpec { files, ..machine("lamp-01", &desk.public_key("harbour")) });
    desk.add(&lit);
    lit.lit.put_file("root", "/home/keeper/conf", b"one\n");
    lit.lit.change("root", "/home/keeper/conf", Attributes::with_mode(0o666));
    let before = lit.lit.look("keeper", "conf").unwrap();
    let done: support::Outcome = edit(&desk, "echo two >>\"$1\"", &["lamp-01:conf"]).output().unwrap().into();
    assert!(done.expect(0).err.contains("Saved on lamp-01."));
    let after = lit.lit.look("keeper", "conf").unwrap();
    assert_eq!((after.owner, after.permissions()), (before.owner, Some(0o666)));
    assert_eq!(text(&lit, "conf"), "one\ntwo\n");
    let is_part = |name: &String| name.ends_with(".lantern-part");
    assert!(!lit.lit.names("keeper", ".").iter().any(is_part));

    // There is room for the copy, and not for the same twice.
    let long = "x".repeat(40_000);
    let script = format!("printf {long} >\"$1\"");
    let full: support::Outcome = edit(&desk, &script, &["lamp-01:conf"]).output().unwrap().into();
    assert!(full.expect(250).err.contains("what you wrote is in"), "it was not kept here");
    let names = lit.lit.names("keeper", ".");
    let copies: Vec<_> = names.iter().filter(|name| is_part(name)).collect();
    assert!(!copies.is_empty() && copies.iter().all(|name| text(&lit, name) == long), "{names:?}");
    assert!(drafts(&desk).iter().any(|name| name.starts_with("lamp-01-")));
}
