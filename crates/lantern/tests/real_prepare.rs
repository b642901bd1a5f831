//! `machine prepare` on a real Debian, in a root that is thrown away: pasted, pasted again, carried back, logged in, taken back.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;

use support::console::{fetch_packages, left, play};
use support::{Desk, sshd};

/// A desk with a key and a machine that is to be prepared.
fn desk() -> Option<Desk> {
    if !sshd::available() {
        return None;
    }
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "10.81.0.2", "user=lamplighter", "key=harbour"]).expect(0);
    Some(desk)
}

fn prepare(desk: &Desk, more: &[&str], file: &str) -> String {
    let words = ["machine", "prepare", "lamp-01", "--system", "debian"];
    let script = desk.lantern(&[&words, more].concat()).expect(0).out;
    fs::write(desk.folder.path().join(file), &script).unwrap();
    String::from_utf8(script).unwrap()
}

/// The line within what a console printed.
fn line_of(printed: &str) -> &str {
    printed.lines().find(|line| line.starts_with("lantern-line-1;")).unwrap_or_else(|| panic!("{printed}"))
}

#[test]
fn a_bare_machine_is_prepared_by_one_paste_and_known_by_its_line() {
    let Some(desk) = desk() else { return };
    let packages = desk.folder.path().join("packages");
    fetch_packages(&packages, &["openssh-server", "openssh-sftp-server", "nftables"]);
    prepare(&desk, &["--from", "10.81.0.1"], "prepare.sh");
    prepare(&desk, &["--undo"], "undo.sh");
    let outcome = play(
        &desk,
        "
packages_there $OUT/packages
no_ssh_there
# Half a paste does nothing.
head -n 60 $OUT/prepare.sh | on_machine sh > $OUT/half 2>&1 || true
test ! -e $R/var/lib/lantern-prepare
on_machine sh < $OUT/prepare.sh > $OUT/first 2>&1
cp $R/var/lib/lantern-prepare/changes $OUT/changes
on_machine sh < $OUT/prepare.sh > $OUT/second 2>&1
cmp $R/var/lib/lantern-prepare/changes $OUT/changes
# Typed at a prompt with a line editor, as a paste is.
{ sleep 1; while IFS= read -r line; do printf '%s\\n' \"$line\"; sleep 0.01; done < $OUT/prepare.sh; sleep 1; echo exit; sleep 2; } |
  on_machine timeout 60 script -qec 'bash --norc -i' /dev/null > $OUT/typed 2>&1
lantern trust accept lamp-01 --paste - < $OUT/second > $OUT/accepted 2>&1
lantern run lamp-01 -- 'whoami; stat -c %a . .ssh .ssh/authorized_keys; wc -l < .ssh/authorized_keys' > $OUT/inside
as_another lantern run lamp-01 --connect-limit 2 --no-share -- true > $OUT/another 2>&1 || echo $? > $OUT/another-status
# A second way into the book: a name that it does not have.
lantern machine rename lamp-01 lamp-09 > /dev/null 2>&1
lantern machine add lamp-01 --paste - < $OUT/first > $OUT/added 2>&1
lantern machine show lamp-01 --json > $OUT/machine.json
lantern machine prepare lamp-01 --system debian --from 10.81.0.1 --passwords-off > $OUT/passwords.sh 2> $OUT/proven
on_machine stat -c '%a %U' /home/lamplighter/.lantern-key-proof > $OUT/proof
on_machine sh < $OUT/passwords.sh > $OUT/passwords 2>&1
on_machine /usr/sbin/sshd -T | grep -E '^(password|kbdinteractive|pubkey)authentication' | sort > $OUT/settings
on_machine sh < $OUT/passwords.sh > $OUT/passwords-again 2>&1
test ! -e $R/home/lamplighter/.lantern-key-proof
lantern run lamp-01 -- true
on_machine sh < $OUT/undo.sh > $OUT/undone 2>&1
on_machine /usr/sbin/sshd -T | grep '^passwordauthentication' > $OUT/settings-after
on_machine nft list ruleset > $OUT/rules-after
cat $R/home/lamplighter/.ssh/authorized_keys > $OUT/list-after
test ! -e $R/var/lib/lantern-prepare
test ! -e $R/etc/lantern
lantern run lamp-01 --connect-limit 2 --no-share -- true > /dev/null 2>&1 || echo $? > $OUT/after
on_machine sh < $OUT/undo.sh > $OUT/undone-again 2>&1
# A proof that is not there keeps passwords on.
on_machine sh < $OUT/passwords.sh > $OUT/unproven 2>&1 || echo $? > $OUT/unproven-status
",
    );
    outcome.expect(0);
    let first = left(&desk, "first");
    assert!(first.contains("The package openssh-server is installed."), "{first}");
    assert!(left(&desk, "second").contains("It was there."), "{}", left(&desk, "second"));
    assert_eq!(line_of(&first), line_of(&left(&desk, "second")));
    let typed = left(&desk, "typed").replace('\r', "");
    assert!(typed.lines().any(|line| line == line_of(&first)), "{typed}");
    let accepted = left(&desk, "accepted");
    assert_eq!(accepted.matches("is trusted with").count(), 3, "{accepted}");
    assert!(accepted.contains("(its own console's line)"), "{accepted}");
    assert_eq!(left(&desk, "inside"), "lamplighter\n755\n700\n600\n1\n");
    assert_eq!(left(&desk, "another-status").trim(), "245", "{}", left(&desk, "another"));
    let machine: serde_json::Value = serde_json::from_str(&left(&desk, "machine.json")).unwrap();
    let shown = machine.to_string();
    for word in ["10.81.0.2", "lamplighter", "harbour"] {
        assert!(shown.contains(word), "{machine:#}");
    }
    assert_eq!(left(&desk, "proof"), "600 lamplighter\n");
    let settings = "kbdinteractiveauthentication no\npasswordauthentication no\npubkeyauthentication yes\n";
    assert_eq!(left(&desk, "settings"), settings);
    assert!(left(&desk, "passwords-again").contains("were switched off before"));
    assert_eq!(left(&desk, "settings-after"), "passwordauthentication yes\n");
    assert_eq!((left(&desk, "rules-after"), left(&desk, "list-after")), (String::new(), String::new()));
    // The service of a root within a root is not always found by whoever stops it; the key is gone in any case.
    assert!(matches!(left(&desk, "after").trim(), "244" | "249"), "{}", left(&desk, "after"));
    assert!(left(&desk, "undone").contains("userdel --remove lamplighter"), "{}", left(&desk, "undone"));
    assert!(left(&desk, "undone-again").contains("Nothing was done here"));
    let unproven = left(&desk, "unproven");
    assert!(unproven.contains("no login by key has left its proof here"), "{unproven}");
    assert_eq!(left(&desk, "unproven-status").trim(), "1");
}

#[test]
fn what_was_there_before_is_left_as_it_was() {
    let Some(desk) = desk() else { return };
    prepare(&desk, &["--from", "10.81.0.1,10.81.0.0/30"], "prepare.sh");
    prepare(&desk, &["--undo"], "undo.sh");
    let outcome = play(
        &desk,
        "
on_machine useradd --create-home --shell /bin/sh lamplighter
mkdir $R/home/lamplighter/.ssh; chmod 775 $R/home/lamplighter
# A list without an end of its last line, in which the key stands already, and somebody else's.
{ echo 'ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGJhbGFuY2VkIGJ5IHRoZSBsaWdodCBvZiB0aGUgc2Vh other'; lantern key show harbour --line | tr -d '\\n'; } > $R/home/lamplighter/.ssh/authorized_keys
cp $R/home/lamplighter/.ssh/authorized_keys $OUT/list-before
on_machine chown -R lamplighter: /home/lamplighter
# A second interface's rules of somebody else, which drop.
on_machine nft 'add table ip coast; add chain ip coast in { type filter hook input priority 0; policy drop; }; add rule ip coast in ct state established accept' || touch $OUT/no-nft
on_machine sh < $OUT/prepare.sh > $OUT/first 2>&1
cp $R/var/lib/lantern-prepare/changes $OUT/changes
on_machine sh -c 'cd /; cat /home/lamplighter/.ssh/authorized_keys' > $OUT/list
on_machine sh < $OUT/undo.sh > $OUT/undone 2>&1
cat $R/home/lamplighter/.ssh/authorized_keys > $OUT/list-after
",
    );
    outcome.expect(0);
    assert!(!left(&desk, "changes").contains("key ssh-ed25519"), "{}", left(&desk, "changes"));
    assert!(!left(&desk, "changes").contains("user lamplighter"), "{}", left(&desk, "changes"));
    // Only its last line's end was put there.
    let before = format!("{}\n", left(&desk, "list-before"));
    assert_eq!((left(&desk, "list"), left(&desk, "list-after")), (before.clone(), before));
    let first = left(&desk, "first");
    // The address is within the network: a firewall refuses what overlaps.
    assert!(first.contains("from 10.81.0.0/30, and"), "{first}");
    assert!(
        first.contains("nft insert rule ip coast in ip saddr 10.81.0.0/30 tcp dport 22 accept"),
        "{first}"
    );
}

#[test]
fn it_stops_at_what_it_cannot_do_and_says_how_to_go_back() {
    let Some(desk) = desk() else { return };
    let debian = prepare(&desk, &["--from", "10.81.0.1"], "prepare.sh");
    fs::write(desk.folder.path().join("suse.sh"), debian.replace("SYSTEM='debian'", "SYSTEM='suse'"))
        .unwrap();
    let outcome = play(
        &desk,
        "
no_ssh_there
# Its packages cannot be fetched: nothing leads out of here.
rm -rf $R/var/cache/apt/archives/*.deb $R/var/lib/apt/lists/*
on_machine sh < $OUT/prepare.sh > $OUT/unfetched 2>&1 || echo $? > $OUT/unfetched-status
on_machine sh < $OUT/suse.sh > $OUT/suse 2>&1 || echo $? > $OUT/suse-status
on_machine runuser -u nobody -- sh < $OUT/prepare.sh > $OUT/nobody 2>&1 || echo $? > $OUT/nobody-status
",
    );
    outcome.expect(0);
    let unfetched = left(&desk, "unfetched");
    assert!(unfetched.contains("Stopped at: The SSH service is installed\n"), "{unfetched}");
    assert!(unfetched.contains("lantern machine prepare lamp-01 --system debian --undo"), "{unfetched}");
    let suse = left(&desk, "suse");
    assert!(suse.contains("this is for suse, and the machine says that it is debian"), "{suse}");
    let nobody = left(&desk, "nobody");
    assert!(nobody.contains("this must be run as root: sudo -i (or su -) first"), "{nobody}");
    for status in ["unfetched-status", "suse-status", "nobody-status"] {
        assert_eq!(left(&desk, status).trim(), "1", "{status}");
    }
}
