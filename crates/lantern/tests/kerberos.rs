//! Machines of Windows that are logged in to by tickets of a real key distribution centre.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::WindowsSpec;
use support::coast::{Coast, PLAIN, SERVICE};
use support::windows::PASSWORD;
use support::{Outcome, Screen};

#[test]
fn a_ticket_lets_in_without_a_password_within_tls_and_without() {
    for settings in [&[][..], &[PLAIN]] {
        let plain = |spec: &mut WindowsSpec| {
            if !settings.is_empty() {
                spec.certificate = None;
            }
        };
        let Some(coast) = Coast::new(plain, settings) else { return };
        coast.ticket(&[]);
        let outcome = coast.run().expect(0);
        assert_eq!(outcome.text().trim().to_lowercase(), r"chart-room\keeper");
        // The machine has proven itself: nothing is said of that.
        assert_eq!(outcome.err, "");
        // Much output, in order and whole.
        let much =
            coast.lantern(&["run", "chart-room", "--no-questions", "--", "write-bytes", "300000"]).expect(0);
        assert_eq!(much.out.len(), 300_000);
        let account = coast.check(0);
        assert!(
            account.to_string().contains("Kerberos, by the ticket of keeper@COAST.EXAMPLE"),
            "{account:#}"
        );
        assert_eq!(coast.windows.seen().refused, 0);
        // In detail, where that is wanted; keys and tickets are in none of it.
        let told =
            coast.lantern(&["-vv", "run", "chart-room", "--no-questions", "--", "whoami"]).expect(0).err;
        for words in ["there is a ticket of a login", "asking a key distribution centre", SERVICE] {
            assert!(told.contains(words), "{words}: {told}");
        }
        assert!(!told.contains("Negotiate Y") && !told.contains("Ticket {"), "{told}");
    }
}

#[test]
fn a_machine_that_offers_kerberos_by_itself_is_taken_at_its_word() {
    for is_plain in [false, true] {
        let change = |spec: &mut WindowsSpec| {
            spec.offers = vec!["Kerberos"];
            if is_plain {
                spec.certificate = None;
            }
        };
        let Some(coast) = Coast::new(change, if is_plain { &[PLAIN] } else { &[] }) else { return };
        coast.ticket(&[]);
        coast.run().expect(0);
    }
}

#[test]
fn a_folder_of_caches_is_read_and_other_kinds_are_named() {
    let Some(mut coast) = Coast::new(|_| (), &[]) else { return };
    let folder = coast.desk.folder.path().join("caches");
    std::fs::create_dir(&folder).unwrap();
    std::os::unix::fs::symlink("/nonexistent", folder.join("tktold")).unwrap();
    coast.cache = format!("DIR:{}", folder.display());
    coast.ticket(&[]);
    coast.run().expect(0);
    coast.set("login-by=kerberos");
    coast.cache = "KEYRING:persistent:0".into();
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("of the kind KEYRING"), "{}", outcome.err);
    coast.set("login-by=");
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("of the kind KEYRING"), "{}", outcome.err);
}

#[test]
fn a_password_is_shown_to_the_realm_and_to_no_machine() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert_eq!(outcome.text().trim().to_lowercase(), r"chart-room\keeper");
    assert_eq!(coast.windows.seen().logins, 1);
    // As domains of Windows write it, too.
    coast.set(r"user=COAST\keeper");
    coast.by_password(PASSWORD).expect(0);
    // A wrong one is tried once, at the realm, and never at the machine.
    let outcome = coast.by_password("low water").expect(249);
    assert!(outcome.err.contains("the password is wrong"), "{}", outcome.err);
    let tries =
        coast.realm.log().matches("PREAUTH_FAILED").count() + coast.realm.log().matches("preauth").count();
    assert!(tries >= 1, "{}", coast.realm.log());
    assert_eq!(coast.windows.seen().refused, 0);
    // A name alone belongs to no realm that nobody named with it: it is the machine's to judge.
    coast.set("user=keeper");
    let before = coast.realm.log();
    coast.by_password(PASSWORD).expect(0);
    assert_eq!(coast.realm.log(), before);
    // Unless there is nothing else that will do.
    coast.set("login-by=kerberos");
    coast.by_password(PASSWORD).expect(0);
    assert_ne!(coast.realm.log(), before);
}

#[test]
fn who_says_nothing_is_the_owner_of_the_ticket() {
    let Some(coast) = Coast::new(|_| (), &[]) else { return };
    coast.set("user=");
    coast.ticket(&[]);
    let mut command = coast.desk.command(&["run", "chart-room", "--no-questions", "--", "whoami"]);
    command
        .env("KRB5_CONFIG", coast.realm.configuration())
        .env("KRB5CCNAME", &coast.cache)
        .env("USER", "nobody");
    let outcome: Outcome = command.output().unwrap().into();
    assert!(outcome.expect(0).text().to_lowercase().contains("keeper"));
    // Another than the one who was named: it is said, and a password is wanted.
    coast.set("user=warden@coast.example");
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("nobody to ask"), "{}", outcome.err);
}

#[test]
fn where_kerberos_is_not_to_be_had_ntlm_is_and_that_is_said() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    coast.set("service-name=HTTP/fog-bell.coast.example");
    // The password was proven to the realm, and is not asked for again.
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert!(outcome.err.contains("by NTLM, not by Kerberos"), "{}", outcome.err);
    assert!(outcome.err.contains("it knows no such service"), "{}", outcome.err);
    // Nobody answers for the realm.
    coast.set("user=keeper@inland.example");
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert!(outcome.err.contains("key distribution centres of INLAND.EXAMPLE"), "{}", outcome.err);
}

#[test]
fn a_ticket_to_go_on_with_is_handed_over_only_where_the_book_says_so() {
    for delegates in [false, true] {
        let setting = format!("delegate-ticket={delegates}");
        let Some(coast) = Coast::new(|_| (), &[&setting]) else { return };
        coast.ticket(&["-f"]);
        coast.run().expect(0);
        assert_eq!(coast.windows.seen().delegated, usize::from(delegates));
        // One that may not be handed on is not.
        coast.ticket(&["-F"]);
        match delegates {
            true => assert!(coast.run().err.contains("by NTLM, not by Kerberos")),
            false => drop(coast.run().expect(0)),
        }
    }
}

#[test]
fn a_password_is_typed_at_a_terminal_for_the_realm() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    let words = ["run", "chart-room", "--", "whoami"];
    let configuration = coast.realm.configuration();
    let variables = [("KRB5_CONFIG", configuration.to_str().unwrap()), ("KRB5CCNAME", &coast.cache)];
    let mut terminal = Screen::open_with(&coast.desk, support::binary(), &words, &variables);
    terminal.wait_for("Password");
    terminal.send(&format!("{PASSWORD}\r"));
    terminal.wait_for("keeper");
    assert_eq!(terminal.wait_for_exit(), 0, "{}", terminal.text());
}

#[test]
fn the_keeper_holds_no_password_that_only_a_ticket_stood_for() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    coast.ticket(&[]);
    let remember = ["keeper", "remember", "chart-room", "--password-from", "fd:3"];
    let refused = coast.with_password(&remember, "low water").expect(249);
    assert!(refused.err.contains("the password is wrong"), "{}", refused.err);
    coast.with_password(&remember, PASSWORD).expect(0);
    // With the ticket gone, that is what lets in; another one that is refused is forgotten.
    std::fs::remove_file(coast.cache.trim_start_matches("FILE:")).unwrap();
    coast.run().expect(0);
    // A realm that cannot be asked, or does not know the machine, has refused nothing.
    coast.set("login-by=kerberos");
    coast.set("service-name=HTTP/fog-bell.coast.example");
    assert!(!coast.run().expect(249).err.contains("forgotten"));
    coast.set(&format!("service-name={SERVICE}"));
    coast.run().expect(0);
    coast.realm.admin("change_password -pw other keeper");
    let refused = coast.run().expect(249);
    assert!(refused.err.contains("it has forgotten it"), "{}", refused.err);
    let refused = coast.run().expect(249);
    assert!(refused.err.contains("nobody to ask"), "{}", refused.err);
    coast.lantern(&["keeper", "stop"]).expect(0);
}

/// A program that keeps tickets, in folders of its own, and tickets in it; then whatever the words say is run.
const KEEPING: &str = "
set -e
mount -t tmpfs none /run
mount -t tmpfs none /var/lib/sss
mkdir -p /run/sssd /var/lib/sss/secrets /var/lib/sss/db /var/lib/sss/pipes
/usr/libexec/sssd/sssd_kcm --uid 0 --gid 0 --logger=stderr 2>/dev/null &
server=$!
trap 'kill $server' EXIT
tries=0
until [ -S /run/.heim_org.h5l.kcm-socket ]; do sleep 0.05; tries=$((tries + 1)); [ $tries -lt 600 ]; done
\"$@\"
echo 'high water' | kinit -c KCM: keeper >/dev/null
\"$@\"
kill -STOP $server
\"$@\"
kill -CONT $server
";

#[test]
fn tickets_that_a_program_keeps_are_read_of_it() {
    let is_there = std::path::Path::new("/usr/libexec/sssd/sssd_kcm").exists();
    if !is_there || !rustix::process::geteuid().is_root() {
        assert!(is_there || std::env::var_os("CI").is_none(), "no program that keeps tickets is installed");
        eprintln!("skipped: no program that keeps tickets here, or nobody who may start it");
        return;
    }
    let Some(mut coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    coast.cache = "KCM:".into();
    let words = ["run", "chart-room", "--no-questions", "--", "whoami"];
    let plain = coast.desk.command(&words);
    let mut command = std::process::Command::new("unshare");
    // Each time, however it ends.
    let each = "\"$@\" || echo \"ended with $?\"";
    command
        .args(["--mount", "sh", "-c", KEEPING, "sh", "sh", "-c", each, "sh", support::binary()])
        .args(words);
    command.env_clear().envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    command.env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    command.env("KRB5_CONFIG", coast.realm.configuration()).env("KRB5CCNAME", &coast.cache);
    let outcome: Outcome = command.output().unwrap().into();
    let out = outcome.text().to_lowercase().replace('\r', "");
    // None yet; one that lets in; a program that does not answer any more.
    assert_eq!(out, "ended with 249\nchart-room\\keeper\nended with 249\n", "{}", outcome.err);
    assert!(outcome.err.contains("KCM: has no ticket of a login"), "{}", outcome.err);
    assert!(outcome.err.contains("the ticket cache KCM: cannot be used"), "{}", outcome.err);
    assert_eq!(coast.windows.seen().logins, 1);
}
