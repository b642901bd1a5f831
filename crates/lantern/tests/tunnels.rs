//! Tunnels as a person meets them: the view in the foreground, wrong ways, lists, and commands that run while they are up.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::process::Child;
use std::time::{Duration, Instant};

use lantern_harbour::{MachineSpec, Service};
use rustix::process::Signal;
use serde_json::Value;
use support::{Desk, Lit, PATIENCE, Screen, light, machine};

/// A desk with a machine that has services of its own and lets itself be used.
fn chart_room() -> (Desk, Lit) {
    let desk = Desk::with_key();
    let spec = MachineSpec {
        services: vec![(443, Service::SecurePage), (80, Service::Page), (7, Service::Echo)],
        listens: true,
        ..machine("chart-room", &desk.public_key("harbour"))
    };
    let lit = light(spec);
    desk.add(&lit);
    (desk, lit)
}

/// A port that was free a moment ago.
fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn get(port: u16) -> std::io::Result<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.write_all(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")?;
    stream.shutdown(std::net::Shutdown::Write)?;
    let mut text = String::new();
    stream.read_to_string(&mut text)?;
    Ok(text)
}

/// A `tunnel open` without a terminal, and what it says.
struct Opened {
    child: Child,
    said: std::thread::JoinHandle<String>,
}

impl Opened {
    /// Waits until it listens there.
    fn start(desk: &Desk, words: &[&str], port: u16) -> Self {
        let words = [&["tunnel", "open"], words].concat();
        let mut child = desk.command(&words).spawn().unwrap();
        let mut err = child.stderr.take().unwrap();
        let said = std::thread::spawn(move || {
            let mut text = String::new();
            let _ = err.read_to_string(&mut text);
            text
        });
        let deadline = Instant::now() + PATIENCE;
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(Instant::now() < deadline && child.try_wait().unwrap().is_none(), "it does not listen");
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { child, said }
    }

    fn end(mut self, signal: Signal) -> (Option<i32>, String) {
        let pid = rustix::process::Pid::from_child(&self.child);
        rustix::process::kill_process(pid, signal).unwrap();
        let status = self.child.wait().unwrap().code();
        (status, self.said.join().unwrap())
    }
}

fn json(desk: &Desk, words: &[&str]) -> Value {
    let words = [words, &["--json"]].concat();
    serde_json::from_str(desk.lantern(&words).expect(0).text()).unwrap()
}

#[test]
fn a_tunnel_in_the_foreground_is_shown_live_and_closed_by_ctrl_c() {
    let (desk, _lit) = chart_room();
    let port = free_port();
    let (local, page) = (port.to_string(), format!("https://127.0.0.1:{port}/"));
    desk.lantern(&["tunnel", "add", "chart-room", "console", "--local", &local, "--to", "127.0.0.1:443"])
        .expect(0);
    let mut screen = Screen::open(&desk, &["tunnel", "open", "chart-room"]);
    let seen = screen.wait_for(&page);
    assert!(seen.contains("console  carries") && seen.contains("Ctrl-C closes them"), "{seen}");
    screen.wait_for("certificate of chart-room.lights.example");
    drop(TcpStream::connect(("127.0.0.1", port)).unwrap());
    screen.wait_for("0 open, 1 in all");
    // Everybody else sees it too, and it can be closed by nobody but by name.
    let listed = json(&desk, &["tunnel", "list", "--open"]);
    let tunnel = &listed["open"][0]["tunnels"][0];
    assert_eq!(
        (&tunnel["name"], &tunnel["state"], &tunnel["url"]),
        (&"console".into(), &"carries".into(), &page.as_str().into())
    );
    assert_eq!(listed["open"][0]["kept"], false);
    desk.lantern(&["tunnel", "close", "chart-room", "consol"]).expect(241);
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("The tunnels are closed."), "{}", screen.text());
    assert!(!screen.text().contains("carries"), "what is over does not stand there as if it were not");
    assert!(TcpStream::connect(("127.0.0.1", port)).is_err());
    assert_eq!(json(&desk, &["tunnel", "list"])["open"].as_array().unwrap().len(), 0);
    assert_eq!(std::fs::read_dir(desk.home().join("open")).unwrap().count(), 0, "nothing is left behind");
}

#[test]
fn without_a_terminal_there_is_a_line_for_each_thing_that_happens() {
    let (desk, _lit) = chart_room();
    let port = free_port();
    let place = format!("{port}");
    let opened = Opened::start(&desk, &["chart-room", "--local", &place, "--to", "127.0.0.1:80"], port);
    assert!(get(port).unwrap().contains("Main lamp: lit"));
    let deadline = Instant::now() + PATIENCE;
    while json(&desk, &["tunnel", "list"])["open"][0]["tunnels"][0]["behind"].is_null() {
        assert!(Instant::now() < deadline);
        std::thread::sleep(Duration::from_millis(50));
    }
    let (status, said) = opened.end(Signal::TERM);
    assert_eq!(status, Some(128 + 15), "{said}");
    for words in [
        "chart-room: link up",
        &format!("local carries: 127.0.0.1:{port} → 127.0.0.1:80 from chart-room"),
        &format!("behind it is a web page over http (answers 200), at http://127.0.0.1:{port}/"),
    ] {
        assert!(said.contains(words), "{words} in {said}");
    }
    // As JSON, a document a line, and a port that was chosen.
    let mut child =
        desk.command(&["tunnel", "open", "chart-room", "--dynamic", "0", "--json"]).spawn().unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.take().unwrap()), &mut line)
        .unwrap();
    let value: Value = serde_json::from_str(&line).unwrap();
    let at: SocketAddr = value["tunnels"][0]["listens_at"].as_str().unwrap().parse().unwrap();
    assert!(at.port() != 0 && TcpStream::connect(at).is_ok());
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn a_port_that_is_taken_is_told_with_who_has_it_and_the_advice_works() {
    let (desk, _lit) = chart_room();
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let refused =
        desk.lantern(&["tunnel", "open", "chart-room", "--local", &port, "--to", "127.0.0.1:80"]).expect(241);
    let own = format!("(process {})", std::process::id());
    assert!(refused.err.contains("in use, by ") && refused.err.contains(&own), "{}", refused.err);
    let advice = refused.err.lines().find_map(|line| line.split_once("is free: lantern ")).unwrap().1;
    let mut words: Vec<&str> = advice.split_whitespace().collect();
    words.extend(["--", "sh", "-c", "exit 7"]);
    desk.lantern(&words).expect(7);
}

#[test]
fn a_command_runs_while_they_are_up_and_its_end_is_theirs() {
    let (desk, _lit) = chart_room();
    desk.lantern(&["tunnel", "add", "chart-room", "web-console", "--local", "0", "--to", "127.0.0.1:80"])
        .expect(0);
    let socket = desk.folder.path().join("fog horn.sock");
    let form = format!("unix:{}", socket.display());
    desk.lantern(&["tunnel", "add", "chart-room", "echo", "--local", &form, "--to", "127.0.0.1:7"]).expect(0);
    let script = "import os, socket, sys
page = os.environ['LANTERN_TUNNEL_WEB_CONSOLE'].rsplit(':', 1)
line = socket.create_connection((page[0], int(page[1])))
line.sendall(b'GET / HTTP/1.1\\r\\nHost: x\\r\\n\\r\\n')
assert b'Main lamp' in line.recv(4096)
other = socket.socket(socket.AF_UNIX)
other.connect(os.environ['LANTERN_TUNNEL_ECHO'])
other.sendall(b'who is there')
sys.stdout.write(other.recv(100).decode())
sys.exit(9)";
    let ran =
        desk.lantern(&["tunnel", "open", "chart-room", "--", "/usr/bin/python3", "-c", script]).expect(9);
    assert_eq!(ran.text(), "who is there", "{}", ran.err);
    assert!(!socket.exists());
    let ended = desk.lantern(&["tunnel", "open", "chart-room", "echo", "--", "sh", "-c", "kill -TERM $$"]);
    ended.expect(128 + 15);
    desk.lantern(&["tunnel", "open", "chart-room", "echo", "--", "./nothing-here"]).expect(241);
    // The tunnel's own command, with its places as words.
    desk.lantern(&["tunnel", "set", "chart-room", "echo", "--then", "printf '%s|' at {address} {port}"])
        .expect(0);
    let ran = desk.lantern(&["tunnel", "open", "chart-room", "echo", "--then"]).expect(0);
    assert_eq!(ran.text(), format!("at|{}||", socket.display()));
    let ran = desk.lantern(&["tunnel", "open", "chart-room", "echo", "--then=exit 5"]).expect(5);
    assert!(ran.out.is_empty());
    desk.lantern(&["tunnel", "open", "chart-room", "web-console", "--then"]).expect(240);
}

/// What one of them cannot do is told before the command runs.
#[test]
fn a_tunnel_that_does_not_carry_stops_what_needs_it() {
    let desk = Desk::with_key();
    let spec = MachineSpec { forbids_forwarding: true, ..machine("chart-room", &desk.public_key("harbour")) };
    let lit = light(spec);
    desk.add(&lit);
    let refused = desk
        .lantern(&[
            "tunnel",
            "open",
            "chart-room",
            "--remote",
            "0",
            "--to",
            "127.0.0.1:80",
            "--",
            "touch",
            "ran",
        ])
        .expect(250);
    assert!(refused.err.contains("does not listen for us at 127.0.0.1:0"), "{}", refused.err);
    assert!(refused.err.contains("AllowTcpForwarding") && !desk.folder.path().join("ran").exists());
    let probed =
        desk.lantern(&["machine", "set", "chart-room", "tunnels.page=local 0 to 127.0.0.1:80"]).expect(0);
    drop(probed);
    let probed = desk.lantern(&["tunnel", "probe", "chart-room"]).expect(1);
    assert!(
        probed.text().contains("the server does not allow it: this machine passes nothing on"),
        "{}",
        probed.text()
    );
}

#[test]
fn wrong_ways_say_what_to_type_next() {
    let (desk, lit) = chart_room();
    let open =
        |words: &[&str], status: i32| desk.lantern(&[&["tunnel", "open"], words].concat()).expect(status).err;
    let none = open(&["chart-room"], 240);
    assert!(
        none.contains("has no tunnels for chart-room") && none.contains("lantern tunnel add chart-room NAME"),
        "{none}"
    );
    desk.lantern(&["tunnel", "add", "chart-room", "console", "--local", "0", "--to", "127.0.0.1:443"])
        .expect(0);
    let unknown = open(&["chart-room", "consle"], 240);
    assert!(unknown.contains("did you mean console?"), "{unknown}");
    assert!(open(&["chart-rom", "console"], 241).contains("chart-room"));
    for (words, said) in [
        (&["chart-room", "--local", "8080"][..], "wants --to beside it"),
        (&["chart-room", "--to", "h:1"], "wants --local or --remote"),
        (&["chart-room", "--local", "high", "--to", "h:1"], "such as 8443"),
        (&["chart-room", "--local", "1", "--to", "443"], "such as 127.0.0.1:443"),
        (&["chart-room", "a", "b", "--dynamic", "0"], "has one name"),
        (&["chart-room", "--dynamic", "1", "--remote", "2"], "cannot be used with"),
    ] {
        let met = open(words, 240);
        assert!(met.contains(said), "{words:?}: {met}");
    }
    // For others than this computer only when that is said, and then aloud.
    let wide = open(&["chart-room", "--dynamic", "0.0.0.0:0"], 240);
    assert!(wide.contains("--wide") && !wide.contains("always:"), "{wide}");
    let allowed = open(&["chart-room", "--dynamic", "0.0.0.0:0", "--wide", "--", "true"], 0);
    assert!(allowed.contains("for everybody who reaches that address"), "{allowed}");
    let add = |words: &[&str], status: i32| {
        desk.lantern(&[&["tunnel", "add", "chart-room"], words].concat()).expect(status).err
    };
    assert!(add(&["web", "--local", "[::]:80", "--to", "h:1"], 240).contains("--wide"));
    assert!(add(&["console", "--dynamic", "1"], 240).contains("lantern tunnel set chart-room console"));
    assert!(add(&["web"], 240).contains("--local 8443 --to 127.0.0.1:443"));
    assert!(add(&["web", "--dynamic", "1", "--then", "a; b"], 240).contains("a script"));
    assert!(desk.lantern(&["tunnel", "close", "chart-room"]).expect(241).err.contains("tunnel list --open"));
    // A machine that is gone ends it at once, with the step that failed.
    drop(lit);
    open(&["chart-room", "console"], 244);
}

#[test]
fn tunnels_of_the_book_are_added_changed_and_taken_out() {
    let (desk, _lit) = chart_room();
    let tunnel = |words: &[&str]| desk.lantern(&[&["tunnel"], words].concat());
    tunnel(&[
        "add",
        "chart-room",
        "desk",
        "--local",
        "3389",
        "--to",
        "127.0.0.1:3389",
        "--then",
        "viewer {address}:{port}",
        "--hold",
        "5",
    ])
    .expect(0);
    tunnel(&["set", "chart-room", "desk", "--local", "127.0.0.1:3390", "--at-start"]).expect(0);
    let book = || std::fs::read_to_string(desk.home().join("machines.toml")).unwrap();
    let form = "local 127.0.0.1:3390 to 127.0.0.1:3389 at-start hold 5 then viewer {address}:{port}";
    assert!(book().contains(form), "{}", book());
    let plan = tunnel(&["set", "chart-room", "desk", "--no-then", "--no-hold", "--plan"]).expect(0);
    assert!(
        plan.text().contains("→ local 127.0.0.1:3390 to 127.0.0.1:3389 at-start") && book().contains(form)
    );
    tunnel(&["set", "chart-room", "desk", "--dynamic", "1080", "--no-at-start", "--no-then", "--no-hold"])
        .expect(0);
    assert!(book().contains("\"dynamic 127.0.0.1:1080\""), "{}", book());
    tunnel(&["set", "chart-room", "desk", "--to", "h:1"]).expect(240);
    // Of a profile: every machine that takes it over has it, and it is changed where it is.
    desk.lantern(&["profile", "add", "coast", "trust=ask"]).expect(0);
    tunnel(&["add", "coast", "socks", "--dynamic", "1081", "--profile"]).expect(0);
    desk.lantern(&["machine", "set", "chart-room", "profiles=coast"]).expect(0);
    let listed = json(&desk, &["tunnel", "list", "chart-room"]);
    let names: Vec<&str> =
        listed["not_open"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["desk", "socks"]);
    let elsewhere = tunnel(&["set", "chart-room", "socks", "--dynamic", "1082"]).expect(240);
    assert!(elsewhere.err.contains("--profile"), "{}", elsewhere.err);
    assert!(tunnel(&["remove", "chart-room", "desk"]).expect(240).err.contains("--yes"));
    tunnel(&["remove", "chart-room", "desk", "--yes"]).expect(0);
    tunnel(&["remove", "coast", "socks", "--profile", "--yes"]).expect(0);
    assert!(!book().contains("dynamic"), "{}", book());
    assert!(tunnel(&["list"]).expect(0).err.contains("lantern tunnel add"));
}

#[test]
fn a_page_is_handed_to_the_browser_that_is_named_and_told_where_there_is_none() {
    let (desk, _lit) = chart_room();
    let port = free_port();
    let local = port.to_string();
    let browser = desk.folder.path().join("browser");
    std::fs::write(&browser, "#!/bin/sh\nprintf '%s' \"$1\" > \"$0.url\"\n").unwrap();
    std::fs::set_permissions(&browser, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    for (named, words) in [(browser.to_str().unwrap(), "The page: "), ("/no/such/program", "no browser here")]
    {
        let words_typed =
            ["tunnel", "open", "chart-room", "--local", &local, "--to", "127.0.0.1:443", "--browse"];
        let mut child = desk.command(&words_typed).env("BROWSER", named).spawn().unwrap();
        let mut said = String::new();
        let mut err = std::io::BufReader::new(child.stderr.take().unwrap());
        while !said.contains("page: ") && std::io::BufRead::read_line(&mut err, &mut said).unwrap() > 0 {}
        assert!(said.contains(words) && said.contains(&format!("https://127.0.0.1:{port}/")), "{said}");
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), Signal::INT).unwrap();
        child.wait().unwrap();
    }
    let deadline = Instant::now() + PATIENCE;
    let url = browser.with_extension("url");
    while std::fs::read_to_string(&url).unwrap_or_default() != format!("https://127.0.0.1:{port}/") {
        assert!(Instant::now() < deadline);
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_link_that_is_lost_is_shown_as_that_and_comes_back() {
    let (desk, lit) = chart_room();
    let (cable, _light) = support::kindle(
        {
            let address = lit.address;
            move || async move { lantern_harbour::Cable::lay(address).await.map(std::sync::Arc::new) }
        },
        std::sync::Arc::clone,
    );
    desk.lantern(&[
        "machine",
        "set",
        "chart-room",
        "address=127.0.0.1",
        &format!("port={}", cable.address.port()),
    ])
    .expect(0);
    let port = free_port();
    let local = port.to_string();
    let words = ["tunnel", "open", "chart-room", "--local", &local, "--to", "127.0.0.1:80", "--hold", "60"];
    let mut screen = Screen::open(&desk, &words);
    screen.wait_for("carries");
    cable.cut();
    let seen = screen.wait_for("holds callers");
    assert!(seen.contains("no link for "), "{seen}");
    // A caller of that moment is answered over the next link.
    let held = std::thread::spawn(move || get(port).unwrap());
    cable.mend(lit.address);
    assert!(held.join().unwrap().contains("Main lamp: lit"));
    screen.wait_for("lost once");
    // Where it stays away for long enough, it ends by itself, with the step that failed.
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 0);
    let mut screen = Screen::open(&desk, &[&words[..], &["--give-up", "2s"]].concat());
    screen.wait_for("carries");
    cable.cut();
    let status = screen.wait_for_exit();
    assert!([246, 251].contains(&status), "{status}: {}", screen.text());
}
