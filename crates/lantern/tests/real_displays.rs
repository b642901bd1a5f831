//! Windows of a machine's programs on a display here: the real SSH server, a real display server, real programs.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use std::fs;
use std::net::TcpListener;
use std::process::{Child, Command};
use std::time::{Duration, Instant};

use support::display::{self, Display};
use support::sshd::{self, Sshd};
use support::{Desk, Outcome, PATIENCE, Screen, binary};

/// A machine `lamp-01` that is known and lets the key in, and a display that can keep programs apart, or not.
fn scene(config: &str, with_security: bool) -> Option<(Desk, Sshd, Display)> {
    if !display::available() {
        return None;
    }
    let desk = sshd::desk(&[("host", "ed25519")])?;
    let server = Sshd::start(&desk, "host", &format!("X11Forwarding yes\n{config}"));
    desk.lantern(&["machine", "add", "lamp-01", &server.address, "key=harbour"]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    let display = Display::start(&desk, with_security);
    Some((desk, server, display))
}

/// Runs a command on the machine; its cookies are kept in a file of its own, as those of several logins would be.
fn run(desk: &Desk, display: &Display, kind: &str, command: &str) -> Outcome {
    started(desk, display, kind, command).wait_with_output().unwrap().into()
}

fn started(desk: &Desk, display: &Display, kind: &str, command: &str) -> Child {
    display.in_front(&mut desk.command(&["run", "lamp-01", kind, "--", command])).spawn().unwrap()
}

fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    let start = Instant::now();
    while !holds() {
        assert!(start.elapsed() < PATIENCE, "never came: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn interrupt(child: &Child) {
    assert!(Command::new("kill").args(["-s", "INT", &child.id().to_string()]).status().unwrap().success());
}

#[test]
fn programs_draw_here_and_see_nothing_of_the_rest_unless_they_are_trusted() {
    let Some((desk, _server, display)) = scene("", true) else { return };
    // There is something to be seen.
    let mut own = display.in_front(Command::new("xclock").env("PATH", "/usr/bin")).spawn().unwrap();
    wait_until("a window of our own", || display.windows() == 1);
    let look = "xdpyinfo | grep -c SECURITY; xwd -root -silent > /dev/null; echo seen $?";
    let restricted = run(&desk, &display, "--display", look).expect(0);
    assert_eq!(restricted.text(), "0\nseen 1\n", "{restricted:?}");
    for kind in ["--display=trusted", "--no-display"] {
        let said = run(&desk, &display, kind, look).expect(0);
        let expected = if kind == "--no-display" { "0\nseen 1\n" } else { "1\nseen 0\n" };
        assert_eq!(said.text(), expected, "{kind}");
    }
    // The kind may stand for itself, in front of the command.
    let words = ["run", "lamp-01", "--display", "trusted", "--", "sh", "-c", look];
    let said: Outcome = display.in_front(&mut desk.command(&words)).output().unwrap().into();
    assert_eq!(said.expect(0).text(), "1\nseen 0\n");
    // The machine never hears of the display's own cookie.
    let cookies = run(&desk, &display, "--display=trusted", "xauth nlist").expect(0);
    let own_cookie: String = b"sixteen in brass".iter().map(|byte| format!("{byte:02x}")).collect();
    assert!(cookies.text().contains("MIT-MAGIC-COOKIE-1") || cookies.text().len() > 40, "{cookies:?}");
    assert!(!cookies.text().contains(&own_cookie), "{cookies:?}");
    // Another cookie is none; and one connection is one.
    let wrong = "xauth add $DISPLAY . 00112233445566778899aabbccddeeff; xdpyinfo";
    let refused = run(&desk, &display, "--display", wrong).expect(1);
    assert!(refused.err.contains("what you present is not known here"), "{refused:?}");
    let single = run(&desk, &display, "--display=single", "xdpyinfo > /dev/null && xdpyinfo").expect(1);
    assert!(single.err.contains("unable to open display"), "{single:?}");
    let _ = own.kill();
    let _ = own.wait();
}

#[test]
fn what_cannot_be_had_is_said_before_the_login() {
    let Some((desk, _server, mut display)) = scene("", false) else { return };
    // Nothing listens where this machine would be: it is not asked.
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    desk.lantern(&["machine", "add", "lamp-02", &format!("keeper@127.0.0.1:{closed}")]).expect(0);
    let outcome = |kind: &str, name: &str, authority: &str| -> Outcome {
        let mut command = desk.command(&["run", "lamp-02", kind, "--", "true"]);
        command.env("DISPLAY", name).env("XAUTHORITY", authority).output().unwrap().into()
    };
    let authority = display.authority.display().to_string();
    let said = outcome("--display", &display.name, &authority).expect(241).err;
    assert!(said.contains("has no SECURITY extension") && said.contains("--display=trusted"), "{said}");
    let said = outcome("--display", &display.name, "/nowhere").expect(241).err;
    assert!(said.contains("refuses") && said.contains("XAUTHORITY"), "{said}");
    let said = outcome("--display", "", &authority).expect(241).err;
    assert!(said.contains("DISPLAY is not set"), "{said}");
    let said = outcome("--display", "lamp", &authority).expect(241).err;
    assert!(said.contains("names no display"), "{said}");
    let said = outcome("--display", ":59000", &authority).expect(241).err;
    assert!(said.contains("does not answer") && said.contains("--no-display"), "{said}");
    // With the kind that asks for less, it goes on to the machine, which is not there.
    outcome("--display=trusted", &display.name, &authority).expect(244);
    outcome("--no-display", ":59000", &authority).expect(244);
    // What the advice says is followed.
    desk.lantern(&["machine", "set", "lamp-01", "forward-display=trusted"]).expect(0);
    let words = ["run", "lamp-01", "--", "xdpyinfo > /dev/null"];
    let said: Outcome = display.in_front(&mut desk.command(&words)).output().unwrap().into();
    said.expect(0);
    display.kill();
    let start = "defaults";
    let command = "display-start=Xvfb {display} -auth {authority} -nolisten tcp";
    desk.lantern(&["profile", "set", start, command]).expect(0);
    // Without a name of its own, one that is free is chosen, and used again.
    let mut numbers = Vec::new();
    for _ in 0..2 {
        let mut command = desk.command(&words);
        let authority = desk.folder.path().join("another");
        let said: Outcome =
            command.env("PATH", "/usr/bin:/bin").env("XAUTHORITY", authority).output().unwrap().into();
        assert_eq!(said.err.contains("starting a display server: Xvfb :"), numbers.is_empty(), "{said:?}");
        said.expect(0);
        numbers.push(fs::read_to_string(desk.home().join("display-started")).unwrap());
    }
    assert_eq!(numbers[0], numbers[1]);
    let _ = Command::new("pkill").args(["-f", &format!("^Xvfb {} ", numbers[0].trim())]).status();
    // And one that does not come says why.
    for (command, expected) in [
        ("echo no brass left >&2; exit 3 # {display}", "it ended with exit status: 3 (no brass left)"),
        ("exit 3", "does not say which display it starts"),
    ] {
        desk.lantern(&["profile", "set", start, &format!("display-start={command}")]).expect(0);
        let said: Outcome = desk.command(&words).env("PATH", "/usr/bin:/bin").output().unwrap().into();
        let said = said.expect(241).err;
        assert!(said.contains(expected), "{said}");
    }
}

/// Fifty windows, while the same connection carries as much as it can; and the session's end waits for those that are open.
#[test]
fn fifty_windows_open_while_a_bulk_transfer_runs() {
    let Some((desk, _server, display)) = scene("MaxSessions 80", true) else { return };
    let command = "for n in $(seq 25); do xlogo & xeyes & done > /dev/null 2>&1; head -c 300000000 /dev/zero; echo >&2 sent";
    let mut child = started(&desk, &display, "--display", command);
    let mut out = child.stdout.take().unwrap();
    let reading = std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()).unwrap());
    wait_until("fifty windows", || display.windows() == 50);
    let err = std::io::BufReader::new(child.stderr.take().unwrap());
    let mut said = std::io::BufRead::lines(err).map_while(Result::ok);
    assert!(said.any(|line| line.starts_with("50 programs of lamp-01 are still at the display")));
    interrupt(&child);
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(reading.join().unwrap(), 300_000_000);
    wait_until("no window", || display.windows() == 0);
}

/// A display that goes ends its own channels and nothing else; one that reads nothing holds nobody up.
#[test]
fn a_display_that_stops_or_dies_does_not_stop_the_session() {
    let Some((desk, _server, mut display)) = scene("", true) else { return };
    // As much as fits in between, and more, from a program that does nothing but ask.
    let flood = r#"import os,socket,struct
name=os.environ["DISPLAY"]; host,number=name.rsplit(":",1)
cookie=bytes.fromhex(os.popen("xauth list "+name).read().split()[-1])
s=socket.create_connection((host,6000+int(number.split(".")[0])))
s.sendall(struct.pack("<BxHHHH2x",0x6c,11,0,18,16)+b"MIT-MAGIC-COOKIE-1\0\0"+cookie)
assert s.recv(8)[0]==1
print("drawing",flush=True); input()
while True: s.sendall(b"\x7f\0\1\0"*16384)"#;
    fs::write(desk.folder.path().join("flood.py"), flood).unwrap();
    let script = desk.folder.path().join("flood.py").display().to_string();
    let command = format!(
        "(sleep 2; while :; do echo tick; sleep 0.1; done) & python3 {script} 2>/dev/null; echo ended; kill %1 2>/dev/null; xdpyinfo; true"
    );
    fs::set_permissions(desk.folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let mut command = desk.command(&["run", "lamp-01", "--display", "--", &command]);
    let mut child = display.in_front(&mut command).stdin(std::process::Stdio::piped()).spawn().unwrap();
    let out = child.stdout.take().unwrap();
    let (tell, lines) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in std::io::BufRead::lines(std::io::BufReader::new(out)).map_while(Result::ok) {
            let _ = tell.send(line);
        }
    });
    let wait_for = |wanted: &str| {
        while lines.recv_timeout(PATIENCE).expect(wanted) != wanted {}
    };
    wait_for("drawing");
    display.signal("STOP");
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"\n").unwrap();
    for _ in 0..20 {
        wait_for("tick");
    }
    display.signal("CONT");
    display.kill();
    wait_for("ended");
    let outcome: Outcome = child.wait_with_output().unwrap().into();
    assert!(outcome.err.contains("does not answer"), "the next program hears why: {outcome:?}");
    outcome.expect(0);
}

#[test]
fn a_shell_tells_how_the_display_stands_and_waits_for_its_windows() {
    let Some((desk, _server, display)) = scene("", true) else { return };
    let (name, authority) =
        (format!("DISPLAY={}", display.name), format!("XAUTHORITY={}", display.authority.display()));
    let words = [&name, &authority, binary(), "shell", "lamp-01", "--display"];
    let mut screen = Screen::open_program(&desk, "env", &words);
    screen.wait_for("ready> ");
    screen.send("xclock &\r");
    wait_until("a window", || display.windows() == 1);
    screen.send("\x1c\x1c\x1cs");
    screen.wait_for(&format!("display {}, restricted: 1 open, 1 in all", display.name));
    screen.send("\rexit\r");
    screen.wait_for("a program of lamp-01 is still at the display");
    assert!(screen.exit().is_none());
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    wait_until("no window", || display.windows() == 0);
}

/// What the server does not allow is said, and what the program then meets is its own affair; a check says it before.
#[test]
fn a_server_that_forbids_it_is_told_as_that() {
    let Some((desk, _server, display)) = scene("XAuthLocation /nowhere/xauth", true) else { return };
    let outcome = run(&desk, &display, "--display", "echo [$DISPLAY]").expect(0);
    assert_eq!(outcome.text(), "[]\n");
    assert!(outcome.err.contains("X11Forwarding") && outcome.err.contains("xauth"), "{outcome:?}");
    desk.lantern(&["machine", "set", "lamp-01", "forward-display=true"]).expect(0);
    let checked: Outcome =
        display.in_front(&mut desk.command(&["check", "lamp-01"])).output().unwrap().into();
    let said = checked.expect(1);
    assert!(said.text().contains("display: no"), "{said:?}");
    assert!(said.text().contains("X11Forwarding"), "{said:?}");
    assert!(
        said.text().contains(&format!("the display {} answers with a cookie; it can keep", display.name)),
        "{said:?}"
    );
}

/// Two programs here share a connection; each has its own cookie, and the end of one takes nothing from the other.
#[test]
fn a_shared_connection_carries_the_windows_of_each_program_here() {
    if !display::available() {
        return;
    }
    let Some((desk, _server, _)) = sshd::with_keeper("X11Forwarding yes", &[]) else { return };
    let display = Display::start(&desk, true);
    let mut first = started(&desk, &display, "--display", "xclock");
    wait_until("a window", || display.windows() == 1);
    let second = run(&desk, &display, "--display", "xdpyinfo > /dev/null; echo $?").expect(0);
    assert_eq!(second.text(), "0\n");
    assert!(first.try_wait().unwrap().is_none() && display.windows() == 1);
    let status = desk.lantern(&["keeper", "status", "--json"]).expect(0);
    assert!(status.text().contains("lamp-01"), "it went over the keeper's connection: {status:?}");
    interrupt(&first);
    let _ = first.wait();
    wait_until("no window", || display.windows() == 0);
}
