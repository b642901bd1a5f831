//! What the demo shows: real commands of the program in the throw-away home, and a sentence about each.

use super::{BARE, DemoMachine, KEY, SET_UP_ANEW};

/// How a command of the story ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// Well.
    Well,
    /// With the remote command's status.
    Status(u8),
    /// With something found.
    Found,
    /// With a host key that is not trusted.
    NotTrusted,
}

/// A command of the story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Run {
    /// The words behind the program's name.
    pub words: Vec<String>,
    /// What it reads.
    pub input: &'static str,
    /// How it has to end.
    pub ending: Ending,
}

/// A beat of the story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beat {
    /// A sentence.
    Say(&'static str),
    /// A command.
    Run(Run),
    /// A tunnel of a machine that is opened, and the page behind it that is fetched through it.
    Fetch {
        /// The machine.
        machine: &'static str,
        /// Its tunnel.
        tunnel: &'static str,
    },
    /// A script that is printed and pasted on the console of a machine, and its line that is carried back.
    Paste {
        /// The machine.
        machine: &'static str,
        /// What prints the script.
        prepare: Vec<String>,
        /// What takes the line.
        carry: Vec<String>,
    },
    /// A command whose program draws a window on a display here.
    Window(Run),
}

fn run(words: &[&str], ending: Ending) -> Beat {
    let words = words.iter().map(|word| (*word).to_owned()).collect();
    Beat::Run(Run { words, input: "", ending })
}

fn show(words: &[&str]) -> Beat {
    run(words, Ending::Well)
}

fn set_scene(words: &[&str]) -> Beat {
    let words = words.iter().chain(&["--quiet"]).map(|word| (*word).to_owned()).collect();
    Beat::Run(Run { words, input: "", ending: Ending::Well })
}

const NEW_KEY: [&str; 6] = ["key", "new", KEY, "--plain", "--comment", "keeper@chart-room"];

/// The beginning: a key; without a walk it is made without the talk.
pub fn opening(is_told: bool) -> Vec<Beat> {
    if !is_told {
        return vec![set_scene(&NEW_KEY)];
    }
    vec![
        Beat::Say(
            "This is a walk through the job on ten simulated machines. Every line behind % is a real command.",
        ),
        Beat::Say(
            "1. Get a key. A key of your own would have a passphrase; this one is thrown away in a minute.",
        ),
        show(&NEW_KEY),
    ]
}

/// The line with which a console would hand out lamp-01.
pub fn connect_line(machines: &[DemoMachine]) -> String {
    let lamp = machines.iter().find(|machine| machine.name == "lamp-01");
    lamp.map(|lamp| format!("ssh -p {} keeper@{}", lamp.address.port(), lamp.address.ip()))
        .unwrap_or_default()
}

/// The middle: machines, first contact, commands.
pub fn walk(machines: &[DemoMachine]) -> Vec<Beat> {
    let fingerprint = |name: &str| {
        let machine = machines.iter().find(|machine| machine.name == name);
        machine.map(|machine| machine.fingerprint.to_string()).unwrap_or_default()
    };
    let mut beats = vec![
        Beat::Say(
            "2. The book. These machines are simulated, on loopback addresses, and know the key's public half.",
        ),
        show(&["machine", "list"]),
        Beat::Say(
            "3. Meet a machine for the first time. Without anyone to compare its key, the answer is no:",
        ),
        run(&["run", "lamp-01", "--no-questions", "--", "whoami"], Ending::NotTrusted),
        Beat::Say("With the fingerprint from the machine's console it is yes, once and for all:"),
        show(&["run", "lamp-01", "--expect", &fingerprint("lamp-01"), "--", "whoami"]),
        Beat::Say("4. Run commands: output, errors and exit status are the remote ones."),
        show(&["run", "lamp-01", "--", "cat", "notice.txt"]),
        run(&["run", "lamp-01", "--", "fail", "3"], Ending::Status(3)),
        Beat::Say(
            "5. A machine that wants a password on top of the key; here it comes from standard input (descriptor 0).",
        ),
    ];
    let foghorn = fingerprint("foghorn");
    let words =
        ["run", "foghorn", "--expect", &foghorn, "--password-from", "fd:0", "--no-input", "--", "uptime"];
    beats.push(Beat::Run(Run {
        words: words.map(str::to_owned).to_vec(),
        input: "low visibility\n",
        ending: Ending::Well,
    }));
    beats.extend([
        Beat::Say("6. What a machine presents can be looked at without logging in, and trusted beforehand."),
        show(&["trust", "accept", "lamp-02", "--expect", &fingerprint("lamp-02")]),
        run(&["trust", "look", "lamp-01", "lamp-02", "signal-hut"], Ending::NotTrusted),
        Beat::Say(
            "7. Look after keys: put another one on a machine, with a login as proof, and see what is wrong with the ring.",
        ),
        set_scene(&["key", "new", "spare", "--plain", "--comment", "the spare one"]),
        show(&["key", "install", "spare", "lamp-01"]),
        run(&["key", "audit"], Ending::Found),
        Beat::Say(
            "8. Describe machines once: what a console hands out is understood, and profiles are shared.",
        ),
        show(&["machine", "add", "lamp-again", "--paste", &connect_line(machines), "--yes"]),
        show(&["profile", "add", "careful", "trust=known-only", "connect-limit=3"]),
        show(&["machine", "set", "@coast,lamp-again", "profiles+=careful", "--yes"]),
        show(&["machine", "show", "lamp-again"]),
        set_scene(&["machine", "remove", "lamp-again", "--yes"]),
        Beat::Say(
            "9. Two machines have no address of their own here: one goes through the gateway, which is trusted first.",
        ),
        set_scene(&["trust", "accept", "harbour-gate", "--expect", &fingerprint("harbour-gate")]),
        set_scene(&["trust", "accept", "pier-lamp", "--expect", &fingerprint("pier-lamp")]),
        show(&["run", "pier-lamp", "--", "hostname"]),
        Beat::Say(
            "10. When something does not work: every step, what it saw, and what to do. One that works, one that does not:",
        ),
        show(&["check", "pier-lamp"]),
        run(&["check", "fog-bell"], Ending::NotTrusted),
        Beat::Say(
            "11. A page that listens on a lamp's loopback alone is one command away; here it is fetched through the tunnel.",
        ),
        Beat::Fetch { machine: "lamp-01", tunnel: "page" },
        Beat::Say(
            "12. A graphical program of the machine draws a window here, and sees nothing of the other windows.",
        ),
        Beat::Window(Run {
            words: ["run", "lamp-01", "--display", "--", "lamp-view", "3"].map(str::to_owned).to_vec(),
            input: "",
            ending: Ending::Well,
        }),
        Beat::Say(
            "13. A machine of Windows, over WinRM: its certificate is compared as a host key is, and the password is proven, not sent.",
        ),
        show(&["trust", "accept", "chart-room", "--expect", &fingerprint("chart-room")]),
    ]);
    let by_password =
        ["run", "chart-room", "--password-from", "fd:0", "--no-input", "--", "ipconfig", "/all"];
    beats.push(Beat::Run(Run {
        words: by_password.map(str::to_owned).to_vec(),
        input: "high water\n",
        ending: Ending::Well,
    }));
    let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
    let prepare = [
        "machine",
        "prepare",
        BARE,
        "--system",
        "debian",
        "--user",
        "keeper",
        "--key",
        KEY,
        "--from",
        "127.0.0.1",
    ];
    beats.extend([
        Beat::Say(
            "14. A bare machine, which nobody can log in to: a script of ours is pasted on its console, and one line comes back.",
        ),
        Beat::Paste {
            machine: BARE,
            prepare: words(&prepare),
            carry: words(&["machine", "add", BARE, "--paste", "-"]),
        },
        show(&["run", BARE, "--", "whoami"]),
        Beat::Say("15. The same on several machines at once, and what failed once more."),
        show(&["run", "lamp-*,pier-lamp", "--", "uptime"]),
        run(&["run", "lamp-01,pier-lamp", "--first", "1", "--yes", "--", "fail", "3"], Ending::Found),
        run(&["run", "--again", "failed"], Ending::Found),
        show(&["run", "--history"]),
        Beat::Say("16. Files go to machines, from them, and from one to another; never half of one under its own name."),
        show(&["copy", "lamp-01:*.txt", "pier-lamp:/srv/notes/", "--verify"]),
        show(&["files", "list", "pier-lamp:/srv", "--tree"]),
        show(&["copy", "pier-lamp:/srv/notes/log.txt", "-"]),
    ]);
    beats
}

/// The end: a machine whose key has changed, since it was set up anew at this place.
pub fn changed_key(place: &str) -> Vec<Beat> {
    let address = format!("keeper@{place}");
    vec![
        Beat::Say("17. lamp-02 is set up anew behind our back, with another host key. Everything stops:"),
        set_scene(&["machine", "remove", SET_UP_ANEW, "--yes"]),
        set_scene(&["machine", "add", SET_UP_ANEW, &address, "--key", KEY]),
        run(&["run", SET_UP_ANEW, "--", "whoami"], Ending::NotTrusted),
        Beat::Say("That was the walk."),
    ]
}
