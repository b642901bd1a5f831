//! One warm connection for each machine: what the keeper holds is used by the next command, just as if it were its own, and by no other.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use lantern_harbour::{LoginRule, MachineSpec, Service, UserSpec};
use lantern_keys::SecretString;
use serde_json::Value;
use support::keeping::{connections, scene, status, until};
use support::line::lay;
use support::{Desk, Screen, light_all, machine};

#[test]
fn the_second_command_costs_no_login_and_is_the_same_in_every_way() {
    let scene = scene(|_| {});
    let desk = &scene.desk;
    let big = support::noise(3_000_000);
    for words in [
        &["whoami"][..],
        &["cat", "notice.txt"],
        &["fail", "3"],
        &["crash"],
        &["panel"],
        &["no-such-program"],
    ] {
        let run = |more: &[&str]| desk.lantern(&[&["run", "lamp-01"], more, &["--"], words].concat());
        let (own, shared) = (run(&["--no-share"]), run(&[]));
        assert_eq!((own.status, own.out, own.err), (shared.status, shared.out, shared.err), "{words:?}");
    }
    let echoed = desk.lantern_with_input(&["run", "lamp-01", "--", "cat"], big.clone()).expect(0);
    assert!(echoed.out == big, "{} of {} bytes", echoed.out.len(), big.len());
    // Six of its own, and one that the others shared.
    assert_eq!((scene.visits(), connections(desk)), (7, 1));
    // A shell, with a size and a signal.
    let mut screen = Screen::open(desk, &["shell", "lamp-01"]);
    screen.wait_for("lamp-01");
    screen.send("hostname\n");
    screen.wait_until("the name", |text| text.matches("lamp-01").count() > 1);
    assert_eq!(status(desk)["connections"][0]["idle_seconds"], Value::Null, "somebody uses it");
    screen.send("\x1c\x1c\x1c");
    screen.wait_for("e ends the session");
    screen.send("s");
    // What it could measure is the way to the keeper.
    let text = screen.wait_for("lantern keeper status");
    assert!(text.contains("mlkem768x25519-sha256") && !text.contains("silent for"), "{text}");
    screen.send("exit 5\n");
    assert_eq!(screen.wait_for_exit(), 5);
    assert_eq!(scene.visits(), 7);
    // Many at once, none in the way of another.
    let all: Vec<_> = (0..20)
        .map(|number| {
            let words = ["run", "lamp-01", "--", "fail", &number.to_string()].map(str::to_owned);
            desk.command(&words.each_ref().map(String::as_str)).spawn().unwrap()
        })
        .collect();
    for (number, child) in all.into_iter().enumerate() {
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(number as i32), "{}", String::from_utf8_lossy(&output.stderr));
    }
    assert_eq!((scene.visits(), connections(desk)), (7, 1));
    until("nobody to use it", || !status(desk)["connections"][0]["idle_seconds"].is_null());
}

#[test]
fn a_share_is_not_used_by_those_whose_connection_is_another() {
    let scene = scene(|spec| {
        let mut other = spec.users[0].clone();
        other.name = "watch".into();
        spec.users.push(other);
    });
    let desk = &scene.desk;
    let run =
        |more: &[&str]| desk.lantern(&[&["run", "lamp-01"], more, &["--", "whoami"]].concat()).expect(0);
    assert_eq!(run(&[]).text(), "keeper\n");
    assert_eq!(run(&["--user", "watch"]).text(), "watch\n");
    run(&["--dead-after", "15"]);
    assert_eq!((connections(desk), scene.visits()), (3, 3));
    run(&["--user", "watch"]);
    desk.lantern(&["machine", "set", "lamp-01", "dead-after=20"]).expect(0);
    run(&[]);
    // The book says something else of the machine: the others go.
    assert_eq!((connections(desk), scene.visits()), (1, 4));
}

#[test]
fn what_is_not_trusted_or_locked_or_stopped_is_not_shared_any_more() {
    let scene = scene(|_| {});
    let desk = &scene.desk;
    let run = || desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]);
    run().expect(0);
    // A shell under way ends when its machine is not trusted any more.
    let mut screen = Screen::open(desk, &["shell", "lamp-01"]);
    screen.wait_for("lamp-01");
    desk.lantern(&["trust", "forget", "lamp-01", "--yes"]).expect(0);
    assert_eq!(screen.wait_for_exit(), 251, "{}", screen.text());
    assert!(screen.text().contains("was lost: the machine is not trusted any more"), "{}", screen.text());
    run().expect(248);
    assert_eq!(connections(desk), 0);
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &scene.lit.fingerprint]).expect(0);
    run().expect(0);
    assert_eq!(connections(desk), 1);
    let mut screen = Screen::open(desk, &["shell", "lamp-01"]);
    screen.wait_for("lamp-01");
    desk.with_secrets(&["keeper", "lock", "--passphrase-from", "fd:3"], "low tide", "").expect(0);
    assert_eq!(screen.wait_for_exit(), 251, "{}", screen.text());
    assert!(screen.text().contains("was lost: the keeper was locked"), "{}", screen.text());
    assert_eq!(connections(desk), 0);
    let before = scene.visits();
    run().expect(0);
    assert_eq!((connections(desk), scene.visits()), (0, before + 1), "it goes its own way");
    desk.with_secrets(&["keeper", "unlock", "--passphrase-from", "fd:3"], "low tide", "").expect(0);
    run().expect(0);
    assert_eq!(connections(desk), 1);
    // The keeper goes: those that it carries end with a word, and the next command does without.
    let mut screen = Screen::open(desk, &["shell", "lamp-01"]);
    screen.wait_for("lamp-01");
    let pid = status(desk)["pid"].as_i64().unwrap();
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(pid as i32).unwrap(),
        rustix::process::Signal::KILL,
    )
    .unwrap();
    assert_eq!(screen.wait_for_exit(), 251);
    let text = screen.text();
    assert!(
        text.contains("the connection to lamp-01 was lost: the process that held it has ended"),
        "{text}"
    );
    run().expect(0);
}

#[test]
fn a_connection_goes_when_what_made_it_is_not_so_any_more() {
    let scene = scene(|_| {});
    let desk = &scene.desk;
    let set = |setting: &str| drop(desk.lantern(&["machine", "set", "lamp-01", setting]).expect(0));
    let run = || assert_eq!(desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0).text(), "keeper\n");
    set("key=harbour");
    run();
    // What has nothing to do with it changes nothing, and neither do other machines and keys.
    set("note=the first of them");
    desk.lantern(&["machine", "add", "foghorn", "192.0.2.7"]).expect(0);
    desk.lantern(&["key", "new", "other", "--plain"]).expect(0);
    run();
    assert_eq!((scene.visits(), connections(desk)), (1, 1));
    set("login-limit=59");
    until("it to go", || connections(desk) == 0);
    // One that is used ends with its last user, and whoever comes gets another.
    let mut screen = Screen::open(desk, &["shell", "lamp-01"]);
    screen.wait_for("lamp-01");
    set("login-limit=58");
    run();
    assert_eq!((scene.visits(), connections(desk)), (3, 2));
    set("login-limit=57");
    until("the unused one to go", || connections(desk) == 1);
    screen.send("hostname\n");
    screen.wait_until("the name", |text| text.matches("lamp-01").count() > 1);
    screen.send("exit\n");
    assert_eq!(screen.wait_for_exit(), 0);
    until("the other to go", || connections(desk) == 0);
    // Another key under the same name.
    run();
    desk.lantern(&["key", "rename", "harbour", "old"]).expect(0);
    desk.lantern(&["key", "rename", "other", "harbour"]).expect(0);
    set("key=harbour");
    until("it to go", || connections(desk) == 0);
    desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]).expect(249);
}

#[test]
fn questions_come_to_the_terminal_of_whoever_asked_and_once() {
    let scene = scene(|spec| {
        spec.users = vec![UserSpec {
            rule: LoginRule::AnyOf(vec!["keyboard-interactive"]),
            password: Some(SecretString::new("spring tide".into())),
            code: Some(SecretString::new("2718".into())),
            ..UserSpec::new("keeper", None, vec![])
        }];
    });
    let desk = &scene.desk;
    desk.lantern(&["trust", "forget", "lamp-01", "--yes"]).expect(0);
    let mut screen = Screen::open(desk, &["run", "lamp-01", "--no-key", "--", "whoami"]);
    screen.wait_for("Fingerprint, its last 8 characters, or `trust`:");
    screen.send("trust\n");
    screen.wait_for("[lamp-01]");
    screen.send("spring tide\n");
    screen.wait_until("the code", |text| text.to_lowercase().contains("code"));
    screen.send("2718\n");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    // Nobody is asked again, with a terminal or without.
    assert_eq!(desk.lantern(&["run", "lamp-01", "--no-key", "--", "whoami"]).expect(0).text(), "keeper\n");
    assert_eq!((connections(desk), scene.visits()), (1, 1));
    // A login that is refused is told as if it were one's own: with its code, and what to do.
    let refused =
        desk.lantern(&["run", "lamp-01", "--no-key", "--user", "admin", "--no-questions", "--", "true"]);
    let refused = refused.expect(249);
    assert!(refused.err.contains("did not let admin in") && refused.err.contains('→'), "{}", refused.err);
    // Ctrl-C at a question ends both.
    let mut screen =
        Screen::open(desk, &["run", "lamp-01", "--no-key", "--connect-limit", "9", "--", "whoami"]);
    screen.wait_for("[lamp-01]");
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 252, "{}", screen.text());
    assert!(screen.is_cooked());
}

#[test]
fn tunnels_are_kept_by_the_keeper_until_they_are_closed() {
    let scene = scene(|spec| spec.services = vec![(80, Service::Page), (7, Service::Echo)]);
    let desk = &scene.desk;
    desk.lantern(&["tunnel", "add", "lamp-01", "page", "--local", "0", "--to", "127.0.0.1:80"]).expect(0);
    desk.lantern(&["tunnel", "add", "lamp-01", "back", "--remote", "0", "--to", "127.0.0.1:80"]).expect(0);
    let kept: Value = serde_json::from_str(
        desk.lantern(&["tunnel", "open", "lamp-01", "page", "--keep", "--json"]).expect(0).text(),
    )
    .unwrap();
    let at = kept["tunnels"][0]["listens_at"].as_str().unwrap().to_owned();
    assert_eq!((&kept["kept"], &kept["tunnels"][0]["state"]), (&true.into(), &"carries".into()));
    let get = || -> std::io::Result<String> {
        use std::io::{Read, Write};
        let mut stream = std::net::TcpStream::connect(&at)?;
        stream.write_all(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")?;
        stream.shutdown(std::net::Shutdown::Write)?;
        let mut text = String::new();
        stream.read_to_string(&mut text)?;
        Ok(text)
    };
    assert!(get().unwrap().contains("Main lamp: lit"));
    // The same connection as the commands'.
    desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    assert_eq!(scene.visits(), 1);
    let again = desk.lantern(&["tunnel", "open", "lamp-01", "page", "--keep"]).expect(241);
    assert!(
        again.err.contains("open already") && again.err.contains("lantern tunnel close lamp-01 page"),
        "{}",
        again.err
    );
    // One that the machine does not allow: handed over, it says so, and --wait fails with it.
    let some = desk.lantern(&["tunnel", "open", "lamp-01", "back", "--wait"]).expect(241);
    assert!(
        some.err.contains("no tunnel carries") && some.err.contains("does not listen for us"),
        "{}",
        some.err
    );
    // The link comes back by itself.
    scene.cable.cut();
    scene.cable.mend(scene.lit.address);
    until("the page again", || get().is_ok_and(|text| text.contains("Main lamp: lit")));
    let shown = desk.lantern(&["tunnel", "list"]).expect(0);
    assert!(shown.text().contains("keeper") && shown.text().contains("page"), "{}", shown.text());
    desk.lantern(&["tunnel", "close", "lamp-01", "page"]).expect(0);
    assert!(get().is_err());
    // From the start, when the book says so.
    desk.lantern(&["tunnel", "set", "lamp-01", "page", "--local", &at]).expect(0);
    desk.lantern(&["tunnel", "open", "lamp-01", "page", "--at-start"]).expect(0);
    desk.lantern(&["keeper", "stop"]).expect(0);
    desk.lantern(&["keeper", "start"]).expect(0);
    until("the page from the start", || get().is_ok_and(|text| text.contains("Main lamp: lit")));
}

#[test]
fn a_keeper_is_started_where_the_book_says_so_and_a_gateway_is_passed_once() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let gate = MachineSpec { gateway: true, ..machine("gate", &key) };
    let inner = |number: u8| MachineSpec {
        inner_address: Some(format!("10.77.0.{number}")),
        ..machine(&format!("lamp-{number}"), &key)
    };
    let all = light_all(vec![gate, inner(21), inner(22), inner(23), inner(24)]);
    let (cable, _light) = lay(all[0].address);
    let gate = format!("keeper@127.0.0.1:{}", cable.address.port());
    desk.lantern(&["machine", "add", "gate", &gate]).expect(0);
    desk.lantern(&["trust", "accept", "gate", "--expect", &all[0].fingerprint]).expect(0);
    for lit in &all[1..] {
        let number = lit.name.trim_start_matches("lamp-");
        let at = format!("keeper@10.77.0.{number}:22");
        desk.lantern(&["machine", "add", &lit.name, &at, "gateway=gate"]).expect(0);
        desk.lantern(&["trust", "accept", &lit.name, "--expect", &lit.fingerprint]).expect(0);
    }
    // Without a keeper, one check of many logs in to the gateway once.
    let before = cable.connections();
    let checked = desk.lantern(&["check", "lamp-*", "--json"]);
    let checked: Value = serde_json::from_str(checked.text()).unwrap();
    assert_eq!(cable.connections() - before, 1);
    // What was done at the gateway is told as that, of the machine that came first; the others found it done.
    let mut at_the_gate: Vec<usize> = checked
        .as_array()
        .unwrap()
        .iter()
        .map(|machine| {
            let steps = machine["steps"].as_array().unwrap();
            let of = |gateway: Value| steps.iter().filter(move |step| step["gateway"] == gateway);
            assert_eq!(of(Value::Null).filter(|step| step["step"] == "port").count(), 1, "{machine:#}");
            of("gate".into()).count()
        })
        .collect();
    at_the_gate.sort_unstable();
    assert!(at_the_gate[..3] == [1; 3] && at_the_gate[3] > 4, "{at_the_gate:?}");
    desk.lantern(&["profile", "set", "defaults", "keeper=auto"]).expect(0);
    let run = |name: &str| desk.lantern(&["run", name, "--", "hostname"]).expect(0);
    let first = run("lamp-21");
    assert!(first.err.contains("The keeper is started"), "{}", first.err);
    assert_eq!(run("lamp-22").text(), "lamp-22\n");
    assert!(run("lamp-21").err.is_empty());
    assert_eq!((cable.connections() - before, connections(&desk)), (2, 3));
    desk.lantern(&["check", "lamp-*", "--json"]);
    assert_eq!(cable.connections() - before, 2, "a check passes the gateway that the keeper holds");
    desk.lantern(&["keeper", "stop"]).expect(0);
}
