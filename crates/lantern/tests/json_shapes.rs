//! The shapes in docs/guide/json.md, held against what the commands print: every name that the guide promises is there.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeSet;
use std::path::Path;

use lantern_harbour::{MachineSpec, Service};
use serde_json::Value;
use support::{Desk, light, machine};

/// Rows of the guide's table: commands, and what is said of their shape.
fn guide() -> Vec<(String, String)> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide/json.md");
    let text = std::fs::read_to_string(path).unwrap();
    let rows = text.lines().filter(|line| line.starts_with("| `"));
    rows.map(|row| {
        let (commands, shape) = row.trim_matches('|').split_once(" | ").unwrap();
        (commands.trim().to_owned(), shape.trim().to_owned())
    })
    .collect()
}

/// The shapes that a row gives, in their order: each as it stands between backticks, when it is one.
fn shapes(row: &str) -> Vec<&str> {
    row.split('`').skip(1).step_by(2).filter(|shape| shape.starts_with(['{', '['])).collect()
}

/// The names of the outer object of a shape.
fn names(shape: &str) -> BTreeSet<String> {
    let inner = shape.trim_start_matches('[').trim_start_matches('{');
    let (mut depth, mut name, mut found) = (0, String::new(), BTreeSet::new());
    let mut is_value = false;
    for c in inner.chars() {
        match c {
            '{' | '[' => depth += 1,
            '}' | ']' if depth == 0 => break,
            '}' | ']' => depth -= 1,
            ',' if depth == 0 => {
                found.insert(std::mem::take(&mut name));
                is_value = false;
            }
            ':' if depth == 0 => is_value = true,
            c if depth == 0 && !is_value && (c.is_ascii_lowercase() || c == '_' || c.is_ascii_digit()) => {
                name.push(c)
            }
            _ => {}
        }
    }
    found.insert(name);
    found.remove("");
    found
}

/// What is printed has the shape: a list where the guide has one, and every name in its first item.
#[track_caller]
fn has_shape(of: &str, printed: &str, shape: &str) {
    let value: Value =
        serde_json::from_str(printed).unwrap_or_else(|error| panic!("{of}: {error}: {printed}"));
    assert_eq!(value.is_array(), shape.starts_with('['), "{of}: {shape}: {value}");
    let item = match &value {
        Value::Array(items) => items.first().unwrap_or_else(|| panic!("{of} printed nothing to look at")),
        other => other,
    };
    let met: BTreeSet<String> = item.as_object().unwrap().keys().cloned().collect();
    let missing: Vec<_> = names(shape).into_iter().filter(|name| !met.contains(name)).collect();
    assert!(missing.is_empty(), "{of} has no {missing:?}: {item}");
}

#[test]
fn shapes_are_taken_apart() {
    let plain = |shape: &str| names(shape).into_iter().collect::<Vec<_>>().join(" ");
    assert_eq!(plain("[{name, keys: [{a, b}], last_seen}]"), "keys last_seen name");
    assert_eq!(plain("{error: {code, step}}"), "error");
}

#[test]
fn what_the_guide_promises_is_printed() {
    let desk = Desk::with_key();
    let lit = light(MachineSpec {
        services: vec![(80, Service::Page)],
        ..machine("lamp-01", &desk.public_key("harbour"))
    });
    desk.add(&lit);
    std::fs::write(desk.folder.path().join("fleet.csv"), "name,address\nlamp-09,192.0.2.9\n").unwrap();
    std::fs::write(
        desk.folder.path().join("a.pem"),
        std::fs::read(desk.home().join("keys/harbour.key")).unwrap(),
    )
    .unwrap();
    let guide = guide();
    let print = lit.fingerprint.as_str();
    // In an order in which each finds what it is about. The number says which of the row's shapes it is.
    let all: &[(&str, usize, &[&str], i32)] = &[
        ("key new", 0, &["key", "new", "spare", "--plain"], 0),
        ("key list", 0, &["key", "list"], 0),
        ("key convert", 0, &["key", "convert", "spare", "--to", "pkcs8-pem", "--out", "spare.pem"], 0),
        ("key passphrase", 1, &["key", "comment", "spare", "the spare one"], 0),
        ("key passphrase", 2, &["key", "rename", "spare", "second"], 0),
        ("key install", 0, &["key", "install", "second", "lamp-01"], 0),
        ("key install", 0, &["key", "withdraw", "second", "lamp-01", "--yes"], 0),
        ("key rotate", 1, &["key", "rotate", "second", "--plan"], 0),
        ("key audit", 0, &["key", "audit"], 1),
        ("key passphrase", 3, &["key", "remove", "second", "--yes"], 0),
        ("keeper start", 0, &["keeper", "start"], 0),
        ("keeper status", 0, &["keeper", "status"], 0),
        ("keeper add", 0, &["keeper", "add", "harbour"], 0),
        ("keeper add", 1, &["keeper", "forget", "harbour"], 0),
        ("machine list", 0, &["machine", "add", "lamp-02", "keeper@192.0.2.2"], 0),
        ("machine set", 0, &["machine", "set", "lamp-02", "port=2222"], 0),
        ("machine set", 1, &["machine", "set", "--fields"], 0),
        ("machine rename", 0, &["machine", "rename", "lamp-02", "lamp-03"], 0),
        ("machine rename", 1, &["machine", "remove", "lamp-03", "--yes"], 0),
        (
            "machine prepare",
            0,
            &[
                "machine",
                "prepare",
                "buoy",
                "--system",
                "suse",
                "--user",
                "keeper",
                "--key",
                "harbour",
                "--from",
                "192.0.2.4",
            ],
            0,
        ),
        (
            "certificate new-authority",
            0,
            &["certificate", "new-authority", "house", "--plain", "--for", "lamp-01"],
            0,
        ),
        ("certificate new-authority", 0, &["certificate", "issue", "lamp-01", "--plain"], 0),
        ("certificate new-authority", 0, &["certificate", "renew", "lamp-01"], 0),
        ("certificate show", 0, &["certificate", "show", "lamp-01"], 0),
        (
            "certificate export",
            0,
            &["certificate", "export", "lamp-01", "--to", "der", "--out", "own.der"],
            0,
        ),
        ("certificate audit", 0, &["certificate", "audit"], 0),
        ("machine import", 0, &["machine", "import", "fleet.csv", "--plan"], 0),
        ("profile list", 0, &["profile", "list"], 0),
        ("check", 0, &["check", "lamp-01"], 0),
        ("trust list", 0, &["trust", "list"], 0),
        ("trust list", 0, &["trust", "show", "lamp-01"], 0),
        ("trust look", 0, &["trust", "look", "lamp-01"], 0),
        ("trust accept", 0, &["trust", "accept", "lamp-01", "--expect", print], 0),
        ("trust export", 0, &["trust", "export", "--unsigned", "--to", "coast.trust"], 0),
        ("trust export", 1, &["trust", "import", "coast.trust", "--unsigned"], 0),
        ("trust revoke", 0, &["trust", "revoke", print, "--reason", "a test"], 0),
        ("trust revoke", 1, &["trust", "revoked"], 0),
        ("trust audit", 0, &["trust", "audit"], 1),
        ("trust revoke", 2, &["trust", "unrevoke", print], 0),
        ("tunnel add", 0, &["tunnel", "add", "lamp-01", "page", "--local", "0", "--to", "127.0.0.1:80"], 0),
        ("tunnel add", 0, &["tunnel", "set", "lamp-01", "page", "--hold", "5"], 0),
        ("tunnel probe", 0, &["tunnel", "probe", "lamp-01"], 0),
        ("tunnel open", 0, &["tunnel", "open", "lamp-01", "page", "--keep"], 0),
        ("tunnel list", 0, &["tunnel", "list"], 0),
        ("tunnel close", 0, &["tunnel", "close", "lamp-01"], 0),
        ("tunnel add", 1, &["tunnel", "remove", "lamp-01", "page", "--yes"], 0),
        ("files list", 0, &["files", "list", "lamp-01:"], 0),
        ("files make-folder", 0, &["files", "make-folder", "lamp-01:/srv/a"], 0),
        ("files make-folder", 1, &["files", "change", "lamp-01:/srv/a", "--permissions", "750"], 0),
        ("files move", 0, &["files", "move", "lamp-01:log.txt", "/srv/a/"], 0),
        ("files make-folder", 3, &["files", "remove", "lamp-01:/srv/a", "--below", "--plan"], 0),
        ("files make-folder", 2, &["files", "remove", "lamp-01:/srv/a", "--below", "--yes"], 0),
        ("copy", 4, &["copy", "a.pem", "lamp-01:", "--plan"], 0),
        ("exit-codes", 0, &["exit-codes"], 0),
    ];
    let mut seen = BTreeSet::new();
    for (row, which, words, status) in all {
        let of = words.join(" ");
        let (commands, shape) = guide
            .iter()
            .find(|(commands, _)| commands.starts_with(&format!("`{row}`")))
            .unwrap_or_else(|| panic!("the guide has no row for {row}"));
        seen.insert(commands.clone());
        let shapes = shapes(shape);
        let shape = shapes.get(*which).unwrap_or_else(|| panic!("{row} has no shape {which}: {shapes:?}"));
        let out = desk.lantern(&[*words, &["--json"]].concat()).expect(*status);
        // Added one by one, a machine is no list.
        let shape = if *words == ["machine", "add", "lamp-02", "keeper@192.0.2.2"] {
            shape.trim_matches(['[', ']'])
        } else {
            shape
        };
        has_shape(&of, out.text(), shape);
    }
    let forgotten = desk.lantern(&["trust", "forget", "lamp-01", "--yes", "--json"]).expect(0);
    let shape = guide.iter().find(|(commands, _)| commands.starts_with("`trust forget`")).unwrap();
    seen.insert(shape.0.clone());
    has_shape("trust forget", forgotten.text(), shapes(&shape.1)[0]);
    desk.lantern(&["keeper", "stop"]).expect(0);
    // These are lists also of one.
    for words in [
        &["machine", "list"][..],
        &["machine", "show", "lamp-01"],
        &["machine", "copy", "lamp-01", "lamp-05"],
    ] {
        let out = desk.lantern(&[words, &["--json"]].concat()).expect(0);
        let value: Value = serde_json::from_str(out.text()).unwrap();
        assert!(value[0]["name"].is_string() && value[0]["addresses"].is_array(), "{words:?}: {value}");
    }
    let doctor: Value = serde_json::from_str(desk.lantern(&["doctor", "--json"]).text()).unwrap();
    assert!(doctor.as_array().unwrap().len() > 6 && doctor[0]["about"] == "home", "{doctor}");
    // What is in no row here is looked at elsewhere, or has no result of its own.
    let unseen: Vec<&str> =
        guide.iter().map(|(commands, _)| commands.as_str()).filter(|row| !seen.contains(*row)).collect();
    let elsewhere = [
        "`key show`",
        "`key show` of a certificate",
        "`key import`",
        "`keeper remember`",
        "`machine show`",
        "`machine export`",
        "`doctor`",
        "`run --expression`, `run --script`",
        "`run` on many machines",
        "`edit`",
        "`run --plan`",
        "`run --history`",
        "`mount`, `unmount`",
        "`mount --list`",
    ];
    assert!(unseen.iter().all(|row| elsewhere.contains(row)), "{unseen:?}");
}

/// A copy is told a line at a time, each with the event that the guide names it by.
#[test]
fn each_line_of_a_copy_has_its_shape() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let folder = desk.folder.path().join("site");
    std::fs::create_dir(&folder).unwrap();
    std::fs::write(folder.join("chart"), "x").unwrap();
    let fifo = std::process::Command::new("mkfifo").arg(folder.join("pipe")).status().unwrap();
    assert!(fifo.success());
    lit.lit.put_file("keeper", "/srv/blocked", b"a file where a folder is to be");
    let row = guide().into_iter().find(|(commands, _)| commands == "`copy`").unwrap().1;
    let shape_of = |event: &str| match event {
        "copied" => shapes(&row)[0],
        "left" => shapes(&row)[1],
        "failed" => shapes(&row)[2],
        "end" => shapes(&row)[3],
        other => panic!("{other}"),
    };
    let went = desk.lantern(&["copy", "site", "lamp-01:/srv/", "--json"]).expect(0);
    let failed = desk.lantern(&["copy", "site/chart", "lamp-01:/etc/lamp/", "--json"]).expect(1);
    let mut events = BTreeSet::new();
    for line in went.text().lines().chain(failed.text().lines()) {
        let value: Value = serde_json::from_str(line).unwrap();
        let event = value["event"].as_str().unwrap().to_owned();
        has_shape(&event, line, shape_of(&event));
        events.insert(event);
    }
    assert_eq!(events.into_iter().collect::<Vec<_>>(), ["copied", "end", "failed", "left"]);
}

/// So is what comes of many machines, and what is kept of it.
#[test]
fn each_line_of_a_run_on_many_has_its_shape() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let row = |of: &str| guide().into_iter().find(|(commands, _)| commands.contains(of)).unwrap().1;
    let many = row("on many machines");
    let went = desk.lantern(&["run", "lamp-0*", "--json", "--", "hostname"]).expect(0);
    let mut met = BTreeSet::new();
    for line in went.text().lines() {
        let value: Value = serde_json::from_str(line).unwrap();
        let event = value["event"].as_str().unwrap().to_owned();
        let at = ["line", "machine", "end"].iter().position(|known| *known == event).unwrap();
        has_shape(&event, line, shapes(&many)[at]);
        met.insert(event);
    }
    assert_eq!(met.len(), 3, "{met:?}");
    let plan = desk.lantern(&["run", "lamp-01", "--plan", "--json", "--", "hostname"]).expect(0);
    has_shape("run --plan", plan.text(), shapes(&row("run --plan"))[0]);
    let history = desk.lantern(&["run", "--history", "--json"]).expect(0);
    has_shape("run --history", history.text(), shapes(&row("run --history"))[0]);
}

/// A failure is told as the guide says, whatever it is about.
#[test]
fn failures_are_json_too() {
    let desk = Desk::new();
    for (words, code, step) in [
        (&["machine", "show", "nowhere", "--json"][..], 241, "here"),
        (&["--json", "run", "keeper@127.77.3.3:1", "hostname"], 244, "port"),
        (&["--json", "shw"], 240, "usage"),
        (&["run", "keeper@nowhere.invalid", "--json", "x"], 242, "name"),
    ] {
        let out = desk.lantern(words).expect(code);
        assert_eq!(out.text(), "", "{words:?}");
        let value: Value =
            serde_json::from_str(&out.err).unwrap_or_else(|error| panic!("{words:?}: {error}: {}", out.err));
        let error = &value["error"];
        assert_eq!(
            (error["code"].as_i64(), error["step"].as_str()),
            (Some(code.into()), Some(step)),
            "{value}"
        );
        for field in ["attempted", "met"] {
            assert!(error[field].as_str().is_some_and(|text| !text.is_empty()), "{value}");
        }
        assert!(error["next"].as_array().is_some_and(|next| !next.is_empty()), "{value}");
    }
    let out = desk.lantern(&["--json", "run"]).expect(240);
    let value: Value = serde_json::from_str(&out.err).unwrap();
    let met = value["error"]["met"].as_str().unwrap();
    assert!(met.contains("<MACHINE>") && !met.contains('\n'), "{met}");
    // A secret that was typed by mistake is in no error.
    let out = desk
        .lantern(&["--json", "run", "--password-from", "hunter two", "keeper@127.77.3.3:1", "x"])
        .expect(240);
    assert!(!out.err.contains("hunter"), "{}", out.err);
}
