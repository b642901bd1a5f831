//! The agent forwarded to the real SSH server, and a person who is asked while the machine draws on the same screen.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;

use support::sshd::{self, Sshd, USER};
use support::{Desk, Screen};

/// The word that a question on the screen wants.
fn word_of(screen: &str) -> String {
    let at = screen.rfind("Type ").expect(screen);
    screen[at..].split_whitespace().nth(1).unwrap().to_owned()
}

/// A machine that is reached by a key that the keeper holds, and the command by which it goes on to itself with the agent alone.
fn scene() -> Option<(Desk, Sshd, String)> {
    let (desk, server, fingerprint) = sshd::with_keeper("AllowAgentForwarding yes", &["--forward-agent"])?;
    // The second hop is this very program, on the machine, with a home of its own and no key.
    let hop = format!(
        "LANTERN_HOME=$(mktemp -d) {} run {} --no-questions --expect {fingerprint} -- whoami",
        support::binary(),
        server.address
    );
    let copied = desk.folder.path().join("lantern");
    support::copy_program(&copied);
    let hop = hop.replace(support::binary(), copied.to_str().unwrap());
    Some((desk, server, hop))
}

/// Signed by the keeper: into the machine, and from there, with the agent forwarded and a person's yes, into another.
#[test]
fn the_agent_is_forwarded_for_a_second_hop() {
    let Some((desk, _server, hop)) = scene() else { return };
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "--", &hop]);
    let question = screen.wait_for("anything else refuses");
    assert!(question.replace('\n', "").contains(&format!("to log in somewhere as {USER}")), "{question}");
    screen.send(&format!("{}\r", word_of(&question)));
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    screen.wait_for(USER);
    // Refused, the machine has nothing to log in with.
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "--", &hop]);
    screen.wait_for("anything else refuses");
    screen.send("y\r");
    assert_eq!(screen.wait_for_exit(), 249, "{}", screen.text());
    // In a shell the question stands among the machine's lines, and its answer does not go there.
    let mut screen = Screen::open(&desk, &["shell", "lamp-01"]);
    screen.wait_for("ready> ");
    screen.send(&format!("{hop}; echo status $?\r"));
    let question = screen.wait_for("anything else refuses");
    screen.send(&format!("{}\r", word_of(&question)));
    screen.wait_for("status 0");
    screen.send("exit\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    // Off unless asked for; and without a person nothing is signed, unless that is said at length.
    let list = "test -n \"$SSH_AUTH_SOCK\"";
    desk.lantern(&["run", "lamp-01", "--no-forward-agent", "--", list]).expect(1);
    desk.without_terminal(&["run", "lamp-01", "--", &hop]).expect(249);
    let words = ["run", "lamp-01", "--forward-agent-unasked", "--", &hop];
    assert_eq!(desk.without_terminal(&words).expect(0).text(), format!("{USER}\n"));
    desk.lantern(&["keeper", "stop"]).expect(0);
}

/// While a person is asked, the machine cannot draw over the question nor answer it: what it writes comes after the answer.
#[test]
fn what_a_machine_writes_waits_while_a_person_is_asked() {
    let Some((desk, _server, hop)) = scene() else { return };
    let folder = desk.folder.path().join("shared");
    fs::create_dir(&folder).unwrap();
    fs::set_permissions(&folder, std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    let at = folder.display();
    let wait =
        format!("while ! test -e {at}/go; do sleep 0.05; done; printf 'DRAWN-OVER\\n'; touch {at}/written");
    let command = format!("({hop}; echo status $?) & {wait}; wait");
    for shell in [false, true] {
        let mut screen = match shell {
            true => Screen::open(&desk, &["shell", "lamp-01"]),
            false => Screen::open(&desk, &["run", "lamp-01", "--", &command]),
        };
        if shell {
            screen.wait_for("ready> ");
            // What is typed is echoed: the words are put together there.
            screen.send(&format!("{}\r", command.replace("DRAWN-OVER", "DRAWN-%s\\n' OVER '")));
        }
        let question = screen.wait_for("anything else refuses");
        // Whatever was typed before, or by habit, is no yes; and it goes to nobody else.
        fs::write(folder.join("go"), "").unwrap();
        while !folder.join("written").exists() {
            std::thread::yield_now();
        }
        // A whole visit later, what was written there would long have been here.
        desk.without_terminal(&["run", "lamp-01", "--no-forward-agent", "--", "true"]).expect(0);
        assert!(!screen.text().contains("DRAWN-OVER"), "{}", screen.text());
        screen.send(&format!("{}\r", word_of(&question)));
        screen.wait_for("DRAWN-OVER");
        screen.wait_for("status 0");
        if shell {
            screen.send("exit\r");
        }
        assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
        fs::remove_file(folder.join("go")).unwrap();
        fs::remove_file(folder.join("written")).unwrap();
    }
    desk.lantern(&["keeper", "stop"]).expect(0);
}
