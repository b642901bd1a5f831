//! Tunnels in the book: one line each, or a table of their parts; both are the same tunnel.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

use std::path::Path;

use lantern_book::{BookEdit, BookError, Change, Field, Home, MachineBook, Place, Tunnel};

fn tunnel(text: &str, name: &str) -> Result<String, BookError> {
    let book = MachineBook::parse(Path::new("machines.toml"), text)?;
    let effective = book.effective("chart-room").unwrap();
    Ok(effective.map(Field::Tunnels).unwrap()[name].clone())
}

#[test]
fn a_table_of_parts_is_the_tunnel_of_the_line() {
    for (parts, line) in [
        ("{ local = 8443, to = \"127.0.0.1:443\" }", "local 8443 to 127.0.0.1:443"),
        ("{ dynamic = \"[::1]:1080\", wide = false }", "dynamic [::1]:1080"),
        (
            "{ remote = \"0.0.0.0:80\", to = \"unix:/run/fog horn.sock\", wide = true, at-start = true, hold = 5 }",
            "remote 0.0.0.0:80 to \"unix:/run/fog horn.sock\" wide at-start hold 5",
        ),
        (
            "{ local = \"3389\", to = \"127.0.0.1:3389\", then = \"viewer {address}:{port}\" }",
            "local 3389 to 127.0.0.1:3389 then viewer {address}:{port}",
        ),
    ] {
        let inline = format!("[machines.chart-room.tunnels]\nx = {parts}\n");
        let read = tunnel(&inline, "x").unwrap();
        assert_eq!(Tunnel::parse(&read), Tunnel::parse(line), "{parts}");
        let spread = parts.trim_matches(['{', '}', ' ']).replace(", ", "\n");
        let table = format!("[machines.chart-room.tunnels.x]\n{spread}\n");
        assert_eq!(tunnel(&table, "x").unwrap(), read, "{table}");
    }
}

#[test]
fn a_part_that_is_none_is_told_with_its_name() {
    for (parts, word) in [
        ("{ local = 8443 }", "local LISTEN to PLACE"),
        ("{ to = \"h:1\" }", "as local, remote or dynamic"),
        ("{ local = 1, remote = 2, to = \"h:1\" }", "one of them"),
        ("{ dynamic = 1080, loud = true }", "loud"),
        ("{ dynamic = 1080, wide = \"yes\" }", "true or false"),
        ("{ dynamic = 1080, hold = -1 }", "0 to 3600"),
        ("{ dynamic = 1080, then = \"a; b\" }", "a script"),
        ("{ dynamic = [1080] }", "a string or a number"),
        ("{ dynamic = \"1080 wide\" }", "LISTEN"),
    ] {
        let text = format!("[machines.chart-room]\nuser = \"keeper\"\ntunnels.x = {parts}\n");
        let error = tunnel(&text, "x").unwrap_err();
        let BookError::Syntax { line, ref message, .. } = error else { panic!("{error}") };
        assert_eq!(line, 3, "{message}");
        assert!(message.contains(word), "{parts}: {message}");
    }
}

#[test]
fn a_change_of_one_tunnel_leaves_the_others_and_their_comments() {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().to_owned());
    let file = folder.path().join("machines.toml");
    let before = "[machines.chart-room.tunnels.desk]\nlocal = 3389 # the usual\nto = \"127.0.0.1:3389\"\n\n[machines.chart-room.tunnels.web]\nlocal = 8080\nto = \"127.0.0.1:80\"\n";
    std::fs::write(&file, before).unwrap();
    let change = |text: &str| {
        let changes = [Change::parse(text).unwrap()];
        MachineBook::edit(&home, |edit: &mut BookEdit| edit.change(Place::Machine("chart-room"), &changes))
    };
    change("tunnels.web=local 8081 to 127.0.0.1:80").unwrap();
    let after = std::fs::read_to_string(&file).unwrap();
    assert!(after.contains("local = 3389 # the usual"), "{after}");
    assert_eq!(tunnel(&after, "web").unwrap(), "local 8081 to 127.0.0.1:80");
    change("tunnels.desk=").unwrap();
    let after = std::fs::read_to_string(&file).unwrap();
    assert!(!after.contains("3389"), "{after}");
    assert_eq!(tunnel(&after, "web").unwrap(), "local 8081 to 127.0.0.1:80");
}
