//! `machine prepare` and the line that comes back, as they are typed; what the scripts do is tested on real systems (`real_prepare.rs`).

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_book::{Home, Preparations, check_code};
use lantern_harbour::{Fault, MachineSpec};
use lantern_keys::Fingerprint;
use support::windows::{PASSWORD, Windows, chart_room, desk_for};
use support::{Desk, Lit, light, machine};

/// The line that a console would print: of a lit machine, or of what is said instead.
fn line(desk: &Desk, machine: &str, lit: &Lit, prints: &[Fingerprint]) -> String {
    line_of_day(desk, machine, lit, prints, &jiff::Zoned::now().date().to_string())
}

fn line_of_day(desk: &Desk, machine: &str, lit: &Lit, prints: &[Fingerprint], day: &str) -> String {
    let (address, port) = (lit.address.ip(), lit.address.port());
    let hex =
        |print: &Fingerprint| print.as_bytes().iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let prints: Vec<String> = prints.iter().map(hex).collect();
    let body = format!(
        "lantern-line-1;name={machine};address={address};port={port};user=keeper;ssh={};day={day}",
        prints.join("+")
    );
    let home = Home::new(desk.home());
    let secret = Preparations::load(&home).unwrap().get(machine).unwrap().secret();
    let code = check_code(&body, &secret);
    format!("{body};check={code}")
}

fn lit_machine(desk: &Desk) -> (Lit, Fingerprint) {
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let print = lit.fingerprint.parse().unwrap();
    (lit, print)
}

#[test]
fn a_line_brings_a_machine_into_the_book_known_and_ready() {
    let desk = Desk::with_key();
    let (lit, print) = lit_machine(&desk);
    let words =
        ["machine", "prepare", "lamp-01", "--system", "debian", "--user", "keeper", "--from", "192.0.2.4"];
    let script = desk.lantern(&words).expect(0);
    assert!(script.text().starts_with("sh -s <<'END-OF-SCRIPT'\n"), "{}", script.text());
    for told in
        ["lets in from 192.0.2.4.", "lets harbour in as keeper", "lantern trust accept lamp-01 --paste -"]
    {
        assert!(script.err.contains(told), "{}", script.err);
    }
    // Printed again it is the same script, whose line is taken as well.
    assert_eq!(desk.lantern(&words).expect(0).text(), script.text());
    let line = line(&desk, "lamp-01", &lit, &[print]);
    // As a terminal wraps it, and with what stood around it.
    let (half, rest) = line.split_at(90);
    let pasted = format!("root@lamp-01:~# \n{half}\n{rest}\n\nThere: lantern …\n");
    let added = desk
        .lantern_with_input(
            &["machine", "add", "lamp-01", "--paste", "-", "--tag", "coast"],
            pasted.into_bytes(),
        )
        .expect(0);
    assert!(added.err.contains("its own console's line"), "{}", added.err);
    let shown = desk.lantern(&["machine", "show", "lamp-01", "--json"]).expect(0);
    for word in ["keeper", "harbour", "coast"] {
        assert!(shown.text().contains(word), "{}", shown.text());
    }
    assert_eq!(
        desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]).expect(0).text(),
        "keeper\n"
    );
    let trusted = desk.lantern(&["trust", "show", "lamp-01", "--json"]).expect(0);
    assert!(
        trusted.text().contains("\"carried\"") && trusted.text().contains("\"compared\": true"),
        "{}",
        trusted.text()
    );
}

#[test]
fn a_line_that_is_not_the_machines_own_is_refused() {
    let desk = Desk::with_key();
    let (lit, print) = lit_machine(&desk);
    desk.add(&lit);
    desk.lantern(&["trust", "forget", &lit.name, "--yes"]);
    let name = lit.name.as_str();
    desk.lantern(&["machine", "prepare", name, "--system", "suse", "--from", "192.0.2.4"]).expect(0);
    let right = line(&desk, name, &lit, &[print]);
    let other = line(&desk, name, &lit, &[Fingerprint::of_blob(b"somebody between")]);
    let accept = |text: &str| desk.lantern(&["trust", "accept", name, "--paste", text]);
    for (text, status, told) in [
        (right.replace("user=keeper", "user=warden"), 248, "its check code belongs to another text"),
        (right[..right.len() - 1].to_owned(), 248, "the line breaks off"),
        ("keeper@192.0.2.7".to_owned(), 248, "there is no line of a prepared machine"),
        (right.replace(&format!("name={name}"), "name=lamp-77"), 240, "the line is of lamp-77"),
        // What is said is whole, and another machine answers.
        (other, 248, "whoever answers there is not that machine"),
    ] {
        let refused = accept(&text).expect(status);
        assert!(refused.err.contains(told), "{text}\n{}", refused.err);
        assert!(!desk.lantern(&["trust", "list"]).text().contains("carried"));
    }
    accept(&right).expect(0);
    // Other kinds of the same mistake.
    let two = desk.lantern(&["trust", "accept", "lamp-01,lamp-02", "--paste", &right]);
    assert!(matches!(two.status, 240 | 241), "{}", two.err);
    let unprinted = desk.lantern(&[
        "machine",
        "add",
        "lamp-02",
        "--paste",
        &right.replace(&format!("name={name}"), "name=lamp-02"),
    ]);
    assert!(unprinted.err.contains("no script for lamp-02 was printed here"), "{}", unprinted.err);
    assert!(!desk.lantern(&["machine", "list"]).text().contains("lamp-02"));
}

#[test]
fn what_is_missing_for_a_script_is_asked_for_in_words() {
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "192.0.2.7", "user=keeper", "key=harbour"]).expect(0);
    desk.lantern(&["machine", "add", "tide-gauge", "192.0.2.9", "protocol=winrm", "user=warden"]).expect(0);
    desk.lantern(&["machine", "add", "near", "127.0.0.1:2222", "user=keeper"]).expect(0);
    let prepare = |words: &[&str]| desk.lantern(&[&["machine", "prepare"], words].concat());
    for (words, told) in [
        (&["lamp-01", "--system", "debian", "--from", "any"][..], "is everybody; name the network"),
        (&["lamp-01", "--system", "debian", "--from", "0.0.0.0/0"], "is everybody; name the network"),
        (&["lamp-01", "--system", "debian", "--from", "lamp.example"], "must be an IP address, or a network"),
        (&["lamp-01", "--system", "beos"], "possible values: windows, debian, redhat, suse"),
        (&["lamp-01"], "--system"),
        (&["near", "--system", "debian"], "by which address near sees this computer cannot be known"),
        (&["buoy", "--system", "debian"], "by which address buoy sees this computer cannot be known"),
        (&["lamp-01", "--system", "debian", "--over", "winrm"], "only Windows is reached by WinRM"),
        (
            &["tide-gauge", "--system", "windows", "--over", "ssh"],
            "lantern machine set tide-gauge protocol=ssh",
        ),
        (
            &["tide-gauge", "--system", "debian", "--from", "192.0.2.4"],
            "lantern machine set tide-gauge protocol=ssh",
        ),
        (
            &["tide-gauge", "--system", "windows", "--passwords-off"],
            "`--passwords-off` is for systems with a POSIX shell",
        ),
        (&["lamp-01", "--system", "debian", "--address", "192.0.2.7"], "with the length of its network"),
        (
            &["lamp-01", "--system", "debian", "--address", "127.0.0.1/8"],
            "is no address that a machine can have",
        ),
        (&["lamp-01", "--system", "debian", "--router", "192.0.2.1"], "--address"),
        (&["la mp", "--system", "debian"], "must consist of letters, digits"),
        (
            &["lamp-01", "--system", "debian", "--from", "192.0.2.4", "--key", "./harbour.pem"],
            "lantern key import ./harbour.pem",
        ),
        (
            &["lamp-01", "--system", "debian", "--from", "192.0.2.4", "--key", "anchor"],
            "no key is called `anchor`",
        ),
        (
            &["buoy", "--system", "debian", "--from", "192.0.2.4", "--passwords-off"],
            "is not in the book, so no key can be proven",
        ),
    ] {
        let refused = prepare(words);
        assert!(matches!(refused.status, 240 | 241), "{words:?} {} {}", refused.status, refused.err);
        assert!(refused.err.contains(told), "{words:?}\n{}", refused.err);
        assert!(refused.out.is_empty(), "{words:?}");
    }
    desk.lantern(&["machine", "set", "near", "key=harbour"]).expect(0);
    // Two keys, and nothing that says which.
    desk.lantern(&["key", "new", "anchor", "--plain"]).expect(0);
    let which = prepare(&["buoy", "--system", "debian", "--from", "192.0.2.4"]).expect(240);
    assert!(
        which.err.contains("nothing says which key buoy is to let in")
            && which.err.contains("anchor, harbour"),
        "{}",
        which.err
    );
    // Its way back does not lead through a login: no key logs in, so no script is printed.
    let proofless =
        prepare(&["near", "--system", "debian", "--from", "192.0.2.4", "--passwords-off", "--no-questions"]);
    assert!(proofless.status >= 243 && proofless.out.is_empty(), "{}", proofless.err);
    assert!(
        proofless.err.contains("passwords stay on until a login by key alone has worked"),
        "{}",
        proofless.err
    );
    // What is undone needs neither keys that are there nor a way back.
    let undo = prepare(&["tide-gauge", "--system", "windows", "--undo"]).expect(0);
    assert!(undo.text().contains("Undo-All"), "{}", undo.text());
    let json =
        prepare(&["lamp-01", "--system", "redhat", "--from", "192.0.2.9/24,192.0.2.4", "--json"]).expect(0);
    let value: serde_json::Value = serde_json::from_str(json.text()).unwrap();
    assert_eq!((value["system"].as_str(), value["keys"][0].as_str()), (Some("redhat"), Some("harbour")));
    assert!(value["script"].as_str().unwrap().contains("FROM='192.0.2.0/24'\n"), "{value:#}");
}

#[test]
fn a_script_for_windows_names_what_the_book_names() {
    let desk = Desk::with_key();
    let words = [
        "machine",
        "add",
        "tide-gauge",
        "192.0.2.9",
        "protocol=winrm",
        "user=TIDE\\warden",
        "certificate-name=gauge.tide.example",
    ];
    desk.lantern(&words).expect(0);
    let script = desk
        .lantern(&["machine", "prepare", "tide-gauge", "--system", "windows", "--from", "192.0.2.4"])
        .expect(0);
    assert!(
        script.text().contains("$Names = @('gauge.tide.example', '192.0.2.9', 'tide-gauge')"),
        "{}",
        script.text()
    );
    assert!(script.text().contains("$LineUser = 'TIDE%5cwarden'"), "{}", script.text());
    assert!(script.text().starts_with("& {\n") && script.text().ends_with("}\n"), "{}", script.text());
}

#[test]
fn a_machine_of_windows_is_known_by_the_line_of_its_console() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let script = desk
        .lantern(&["machine", "prepare", "chart-room", "--system", "windows", "--from", "192.0.2.4"])
        .expect(0);
    let said = windows.machine.paste(script.text());
    let accepted = desk
        .lantern_with_input(&["trust", "accept", "chart-room", "--paste", "-"], said.clone().into_bytes())
        .expect(0);
    assert!(accepted.err.contains("its own console's line"), "{}", accepted.err);
    let words = ["run", "chart-room", "--no-questions", "--password-from", "fd:3", "--", "whoami"];
    let told = desk.with_secrets(&words, PASSWORD, "").expect(0);
    assert_eq!(told.text().trim().to_lowercase(), r"chart-room\keeper");
    // The line of another service is no use here.
    desk.lantern(&["machine", "set", "chart-room", "protocol=ssh", "port="]).expect(0);
    let other =
        desk.lantern_with_input(&["trust", "accept", "chart-room", "--paste", "-"], said.into_bytes());
    assert!(other.err.contains("lantern machine set chart-room protocol=winrm"), "{}", other.err);
}

#[test]
fn a_check_names_the_paste_as_the_mend_and_the_paste_can_be_had() {
    let desk = Desk::with_key();
    let filtered = machine("lamp-01", &desk.public_key("harbour"));
    let filtered = light(MachineSpec { fault: Some(Fault::Filtered), ..filtered });
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", filtered.address), "key=harbour"])
        .expect(0);
    desk.lantern(&["machine", "add", "chart-room", "127.77.9.9", "protocol=winrm", "user=keeper"]).expect(0);
    let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    let told = desk.lantern(&["check", "lamp-01", "--connect-limit", "1"]).expect(245);
    assert!(flat(told.text()).contains("lantern machine prepare lamp-01 --system SYSTEM"), "{}", told.text());
    let told = desk.lantern(&["check", "chart-room", "--no-questions"]).expect(244);
    assert!(
        flat(told.text()).contains("lantern machine prepare chart-room --system windows"),
        "{}",
        told.text()
    );
    // Followed, it says what it lacks: these are on ports of this computer.
    for (name, system) in [("lamp-01", "debian"), ("chart-room", "windows")] {
        let words = ["machine", "prepare", name, "--system", system];
        assert!(desk.lantern(&words).expect(240).err.contains("`--from ADDRESS`"));
        desk.lantern(&[&words[..], &["--from", "192.0.2.4"]].concat()).expect(0);
    }
}

#[test]
fn a_machine_that_is_not_reached_yet_is_in_the_book_and_is_trusted_later() {
    let desk = Desk::with_key();
    let (lit, print) = lit_machine(&desk);
    let words =
        ["machine", "prepare", "lamp-01", "--system", "debian", "--user", "keeper", "--from", "192.0.2.4"];
    desk.lantern(&words).expect(0);
    // Somebody else holds the place, and then nobody.
    let text = line(&desk, "lamp-01", &lit, &[print]);
    let away = desk.lantern(&["machine", "add", "lamp-01", "--paste", &text, "--port", "1"]).expect(244);
    assert!(away.err.contains("lamp-01 is in the book"), "{}", away.err);
    assert!(away.err.contains("when it is reached: lantern trust accept lamp-01 --paste -"), "{}", away.err);
    desk.lantern(&["machine", "set", "lamp-01", &format!("port={}", lit.address.port())]).expect(0);
    desk.lantern_with_input(&["trust", "accept", "lamp-01", "--paste", "-"], text.into_bytes()).expect(0);
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0).text(), "keeper\n");
    // As JSON, what was added is told as whatever is added.
    desk.lantern(&[
        "machine",
        "prepare",
        "lamp-02",
        "--system",
        "debian",
        "--user",
        "keeper",
        "--from",
        "192.0.2.4",
    ])
    .expect(0);
    let text = line(&desk, "lamp-02", &lit, &[print]);
    let added = desk.lantern(&["machine", "add", "lamp-02", "--paste", &text, "--json"]).expect(0);
    let value: serde_json::Value = serde_json::from_str(added.text()).unwrap();
    assert_eq!(
        (value["name"].as_str(), value["user"].as_str()),
        (Some("lamp-02"), Some("keeper")),
        "{value:#}"
    );
    // A clock that is years behind is told; nothing else is wrong with the line.
    let text = line_of_day(&desk, "lamp-02", &lit, &[print], "2019-02-03");
    let told = desk.lantern(&["trust", "accept", "lamp-02", "--paste", &text]).expect(0);
    assert!(told.err.contains("the clock of lamp-02 says 2019-02-03"), "{}", told.err);
    // There is no terminal whose clipboard could be reached.
    let copied = desk.without_terminal(&[&words[..], &["--copy"]].concat());
    assert!(copied.status == 241 && copied.err.contains("without `--copy` it is printed"), "{}", copied.err);
}
