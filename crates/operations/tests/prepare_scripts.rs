//! The scripts that prepare machines: what they are made of, whatever their values are. That they do what they say is tested with the program.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

mod power_shell;

use std::io::Write;
use std::process::{Command, Stdio};

use jiff::civil::Date;
use lantern_keys::SecretString;
use lantern_operations::prepare::{Bundle, Deed, FixedAddress, Script, Service, System};
use proptest::prelude::*;

const GUIDE: &str = include_str!("../../../docs/guide/prepare.md");

fn script(system: System, service: Service, deed: Deed) -> Script {
    Script {
        name: "lamp-01".into(),
        system,
        service,
        user: "keeper".into(),
        keys: vec!["ssh-ed25519 AAAA keeper@chart-room".into()],
        from: vec!["192.0.2.4".parse().unwrap(), "2001:db8::/64".parse().unwrap()],
        secret: SecretString::new("0123456789abcdef0123456789abcdef".into()),
        day: Date::constant(2026, 11, 27),
        deed,
    }
}

fn fixed() -> FixedAddress {
    let [address, router, resolver] =
        ["192.0.2.7", "192.0.2.1", "192.0.2.53"].map(|text| text.parse().unwrap());
    FixedAddress { address, length: 24, router: Some(router), resolvers: vec![resolver] }
}

fn winrm(names: &[&str], brought: bool) -> Service {
    let bundle =
        Bundle { base64: "QUJD".repeat(500), thumbprint: "00112233445566778899AABBCCDDEEFF00112233".into() };
    Service::Winrm {
        names: names.iter().map(|name| (*name).to_owned()).collect(),
        bundle: brought.then_some(bundle),
    }
}

fn unix_deeds() -> Vec<Deed> {
    let proof = "00".repeat(32);
    vec![
        Deed::Prepare { address: None },
        Deed::Prepare { address: Some(fixed()) },
        Deed::PasswordsOff { proof },
        Deed::Undo,
    ]
}

fn windows_scripts() -> Vec<Script> {
    let prepare = || Deed::Prepare { address: None };
    vec![
        script(System::Windows, winrm(&["tide-gauge.example", "192.0.2.9"], false), prepare()),
        script(System::Windows, winrm(&["tide-gauge.example"], true), prepare()),
        script(System::Windows, Service::Ssh, prepare()),
        script(System::Windows, winrm(&[], false), Deed::Undo),
        script(System::Windows, Service::Ssh, Deed::Undo),
    ]
}

fn text(script: &Script) -> String {
    script.text().expose_secret().to_owned()
}

/// What a shell says to a script that it only reads.
fn read_by(shell: &str, text: &str) -> String {
    let mut child =
        Command::new(shell).arg("-n").stdin(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    String::from_utf8(child.wait_with_output().unwrap().stderr).unwrap()
}

/// The inner script, which a shell gets on its standard input.
fn inner(text: &str) -> &str {
    let inner = text.strip_prefix("sh -s <<'END-OF-SCRIPT'\n").unwrap();
    inner.strip_suffix("END-OF-SCRIPT\n").unwrap()
}

/// Nothing that a line editor, a shell's memory of commands or a narrow line of a console makes something else of.
fn can_be_pasted(text: &str) {
    for (at, line) in text.lines().enumerate() {
        let plain = line.bytes().all(|byte| (b' '..=b'~').contains(&byte));
        assert!(plain, "line {}: {line:?}", at + 1);
        assert!(line.len() < 1000, "line {} has {} characters", at + 1, line.len());
        assert!(!line.contains('!'), "line {}: {line:?}", at + 1);
    }
}

#[test]
fn shells_read_every_script_and_a_prompt_makes_nothing_else_of_it() {
    for system in [System::Debian, System::RedHat, System::Suse] {
        for deed in unix_deeds() {
            let text = text(&script(system, Service::Ssh, deed));
            can_be_pasted(&text);
            for shell in ["sh", "bash"] {
                assert_eq!(read_by(shell, inner(&text)), "", "{text}");
            }
            // Nothing is done before the last line is there: what stands before it only says what is done, and with what.
            let (before, last) = inner(&text).rsplit_once("in_order </dev/null\n").unwrap();
            assert_eq!(last, "");
            let run = Command::new("sh").args(["-c", &format!("PATH=/nowhere\n{before}")]).output().unwrap();
            assert_eq!((run.status.code(), run.stdout.len(), run.stderr.len()), (Some(0), 0, 0), "{before}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn a_shell_gets_any_value_as_it_is(user in "[ -~é灯!'\"`$\\\\]{0,20}[ -~]", comment in "[ -~é!'\"$`]{0,20}", name in "[a-z][a-z0-9.-]{0,20}") {
        let key = format!("ssh-ed25519 AAAA {comment}.");
        let script = Script { name: name.clone(), user: user.clone(), keys: vec![key.clone(), "second".into()], ..script(System::Debian, Service::Ssh, Deed::Prepare { address: None }) };
        let text = text(&script);
        can_be_pasted(&text);
        let (values, _) = inner(&text).split_once("STATE=").unwrap();
        let told = format!("{values}printf '%s\\n' \"$NAME\" \"$LOGIN\" \"$KEYS\"");
        let said = Command::new("sh").args(["-c", &told]).output().unwrap();
        prop_assert_eq!(String::from_utf8(said.stdout).unwrap(), format!("{name}\n{user}\n{key}\nsecond\n"));
    }

    #[test]
    fn power_shell_gets_any_value_as_it_is(user in "[ -~é灯’“`$']{0,20}", names in proptest::collection::vec("[ -~é’‘]{1,20}", 1..4)) {
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let script = Script { user: user.clone(), ..script(System::Windows, winrm(&names, false), Deed::Prepare { address: None }) };
        let text = text(&script);
        let read = power_shell::check(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let value = |name: &str| {
            let line = text.lines().find_map(|line| line.strip_prefix(&format!("  ${name} = "))).unwrap().to_owned();
            // A text in single quotes, or its characters by number.
            match line.strip_prefix("(-join @(").and_then(|rest| rest.strip_suffix("))")) {
                Some(numbers) => {
                    let units = numbers.split(", ").map(|number| number.strip_prefix("[char]").unwrap().parse().unwrap());
                    String::from_utf16(&units.collect::<Vec<u16>>()).unwrap()
                }
                None => line.strip_prefix('\'').unwrap().strip_suffix('\'').unwrap().to_owned(),
            }
        };
        prop_assert_eq!(value("Login"), user);
        for name in names.iter().filter(|name| name.is_ascii() && !name.contains('\'')) {
            prop_assert!(read.texts.iter().any(|text| text == name), "{} {}", name, text);
        }
        prop_assert!(text.is_ascii());
    }
}

#[test]
fn scripts_for_windows_keep_to_the_grammar_and_the_guide_has_each_of_their_commands() {
    let automatic = ["_", "true", "false", "null", "lastexitcode"];
    for script in windows_scripts() {
        let text = text(&script);
        can_be_pasted(&text);
        let read = power_shell::check(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        for variable in &read.read {
            let known = read.written.contains(variable) || automatic.contains(&variable.as_str());
            assert!(known, "${variable} is never set\n{text}");
        }
        for command in read.commands.difference(&read.functions) {
            assert!(GUIDE.contains(&format!("| `{command}` |")), "{command} is not in the guide");
        }
        for function in &read.functions {
            assert!(read.commands.contains(function), "{function} is never called\n{text}");
        }
        // An empty line ends what is typed at some prompts.
        assert!(text.lines().all(|line| !line.trim().is_empty()), "{text}");
    }
}

#[test]
fn what_is_no_power_shell_is_told_with_its_line() {
    for (text, what) in [
        ("& {\n  'a\n}", "line 2: a text in single quotes does not end"),
        ("& {\n  \"$(Get-Date\"\n}", "does not end"),
        ("& {\n  (1]\n}", "line 2: `]` closes nothing"),
        ("& {\n  @'\nx\n", "a here-string has no end"),
        ("& {", "`{` is not closed"),
    ] {
        let error = power_shell::check(text).unwrap_err();
        assert!(error.contains(what), "{text:?}: {error}");
    }
    let read =
        power_shell::check("& {\n  $a = 'it''s'\n  Get-Item $a | Where-Object { $_.Name -eq \"$b\" }\n}")
            .unwrap();
    let own =
        |list: &[&str]| list.iter().map(|item| (*item).to_owned()).collect::<std::collections::BTreeSet<_>>();
    assert_eq!(read.commands, own(&["Get-Item", "Where-Object"]));
    assert_eq!(
        (read.written, read.read, read.texts),
        (own(&["a"]), own(&["_", "a", "b"]), vec!["it's".to_owned()])
    );
}
