//! `machine prepare` on other systems: their files and the real SSH server in a root that is thrown away, with their own programs played and recorded.
//! Debian's firewall and its network are the real ones.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;

use support::console::{PLAYED, fetch_packages, left, play};
use support::{Desk, sshd};

/// A desk with a key, a machine, and scripts for it; `more` words for the first.
fn desk(system: &str, more: &[&str]) -> Option<Desk> {
    if !sshd::available() {
        return None;
    }
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "10.81.0.2", "user=lamplighter", "key=harbour"]).expect(0);
    let words = ["machine", "prepare", "lamp-01", "--system", system];
    let from = ["--from", "10.81.0.1,2001:db8:81::/64"];
    for (file, more) in [("prepare.sh", [&from[..], more].concat()), ("undo.sh", vec!["--undo"])] {
        let script = desk.lantern(&[&words[..], &more].concat()).expect(0).out;
        fs::write(desk.folder.path().join(file), script).unwrap();
    }
    Some(desk)
}

/// What was called, without questions that change nothing.
fn called(desk: &Desk, name: &str) -> Vec<String> {
    let asks = [
        "is-enabled",
        "is-active",
        "[status]",
        "--query",
        "--state",
        "--get-",
        "[show]",
        "general",
        "daemon-reload",
    ];
    let log = left(desk, name);
    let changes = log.lines().filter(|line| !asks.iter().any(|word| line.contains(word)));
    changes.map(|line| line.replace(" [--quiet]", "")).collect()
}

const STORY: &str = "
on_machine sh < $OUT/prepare.sh > $OUT/first 2>&1
cp $R/played/log $OUT/log-first; : > $R/played/log
on_machine sh < $OUT/prepare.sh > $OUT/second 2>&1
cp $R/played/log $OUT/log-second; : > $R/played/log
lantern trust accept lamp-01 --paste - < $OUT/first > $OUT/accepted 2>&1
lantern run lamp-01 -- whoami > $OUT/inside
on_machine sh < $OUT/undo.sh > $OUT/undone 2>&1
cp $R/played/log $OUT/log-undone
test ! -e $R/var/lib/lantern-prepare
";

#[test]
fn red_hats_tools_are_called_as_they_want_it_and_back() {
    let Some(desk) = desk("redhat", &[]) else { return };
    let scene = format!(
        "{PLAYED}
system_is rhel fedora
with_services
hide_server
played dnf \"$show_server\"
played restorecon true
played firewall-cmd 'case \"$*\" in
  --get-default-zone) echo public ;;
  --get-zone-of-interface=*) echo coast ;;
  *--query-service=ssh) test ! -e /played/narrow ;;
  *--remove-service=ssh) touch /played/narrow ;;
  *--query-port*) exit 1 ;;
esac'
{STORY}"
    );
    play(&desk, &scene).expect(0);
    let rule = |verb: &str, family: &str, from: &str| {
        format!(
            "firewall-cmd [--permanent] [--zone=coast] [--{verb}-rich-rule=rule family={family} source address={from} port port=22 protocol=tcp accept]"
        )
    };
    let first = [
        "dnf [install] [-y] [-q] [openssh-server]".to_owned(),
        "systemctl [enable] [sshd]".into(),
        "systemctl [start] [sshd]".into(),
        rule("add", "ipv4", "10.81.0.1"),
        rule("add", "ipv6", "2001:db8:81::/64"),
        "firewall-cmd [--permanent] [--zone=coast] [--remove-service=ssh]".into(),
        "firewall-cmd [--reload]".into(),
        "restorecon [-R] [/home/lamplighter/.ssh]".into(),
    ];
    assert_eq!(called(&desk, "log-first"), first);
    // Adding what is there says so and changes nothing.
    let second: Vec<String> =
        first.iter().filter(|line| !line.contains("remove-service")).skip(3).cloned().collect();
    assert_eq!(called(&desk, "log-second"), second);
    assert_eq!(left(&desk, "inside"), "lamplighter\n", "{}", left(&desk, "accepted"));
    let undone = [
        rule("remove", "ipv4", "10.81.0.1"),
        rule("remove", "ipv6", "2001:db8:81::/64"),
        "firewall-cmd [--permanent] [--zone=coast] [--add-service=ssh]".into(),
        "firewall-cmd [--reload]".into(),
        "systemctl [stop] [sshd]".into(),
        "systemctl [disable] [sshd]".into(),
    ];
    assert_eq!(called(&desk, "log-undone"), undone, "{}", left(&desk, "undone"));
}

#[test]
fn suse_gets_its_package_its_filter_and_a_fixed_address() {
    let address = ["--address", "10.81.0.2/24", "--router", "10.81.0.1", "--resolver", "10.81.0.53"];
    let Some(desk) = desk("suse", &address) else { return };
    let scene = format!(
        "{PLAYED}
system_is opensuse-leap 'suse opensuse'
with_services
hide_server
played zypper \"$show_server\"
played wicked true
shorten 60 $OUT/prepare.sh
mkdir -p $R/etc/sysconfig/network; echo \"BOOTPROTO='dhcp'\" > $R/etc/sysconfig/network/ifcfg-port0
printf '%s\\n' 'A=\"1\"' 'NETCONFIG_DNS_STATIC_SERVERS=\"\"' > $R/etc/sysconfig/network/config; played netconfig true
( until test -e $R/etc/sysconfig/network/ifroute-port0; do sleep 0.1; done; sleep 1; touch $R/var/lib/lantern-prepare/address-kept ) &
{STORY}
grep -qx 'NETCONFIG_DNS_STATIC_SERVERS=\"\"' $R/etc/sysconfig/network/config
cat $R/etc/sysconfig/network/ifcfg-port0 > $OUT/network-after
ls $R/etc/sysconfig/network $R/etc/systemd/system > $OUT/files-after
"
    )
    // Looked at before it is taken back.
    .replace("on_machine sh < $OUT/undo.sh", "cat $R/etc/sysconfig/network/if*-port0 $R/etc/sysconfig/network/config $R/etc/systemd/system/lantern* > $OUT/files\non_machine sh < $OUT/undo.sh");
    play(&desk, &scene).expect(0);
    let first = left(&desk, "first");
    assert!(
        first.contains("On port0, by wicked; the way out is 10.81.0.1; names are asked of 10.81.0.53."),
        "{first}"
    );
    assert!(first.contains("   It stays."), "{first}");
    let log = called(&desk, "log-first");
    for line in [
        "zypper [--non-interactive] [install] [openssh-server]",
        "systemctl [enable] [lantern-ssh-filter.service]",
        "wicked [ifreload] [port0]",
    ] {
        assert!(log.iter().any(|met| met == line), "{line} {log:#?}");
    }
    let files = left(&desk, "files");
    for line in
        ["BOOTPROTO='static'", "IPADDR='10.81.0.2/24'", "default 10.81.0.1 - port0", "After=nftables.service"]
    {
        assert!(files.contains(line), "{files}");
    }
    assert!(left(&desk, "second").contains("It was fixed by this before"), "{}", left(&desk, "second"));
    assert_eq!(left(&desk, "inside"), "lamplighter\n");
    assert_eq!(left(&desk, "network-after"), "BOOTPROTO='dhcp'\n");
    let after = left(&desk, "files-after");
    assert!(!after.contains("ifroute-port0") && !after.contains("lantern"), "{after}");
}

#[test]
fn an_address_that_nobody_confirms_is_taken_back() {
    let Some(desk) = desk("debian", &["--address", "10.81.0.9/24"]) else { return };
    let packages = desk.folder.path().join("packages");
    fetch_packages(&packages, &["ifupdown"]);
    let scene = format!(
        "{PLAYED}
packages_there $OUT/packages; on_machine sh -c 'dpkg -i /var/cache/apt/archives/ifupdown_*.deb' > /dev/null 2>&1
printf '%s\\n' 'auto lo port0' 'iface lo inet loopback' 'iface port0 inet static' '  address 10.81.0.2/24' '# of the coast' 'iface port0 inet6 manual' > $R/etc/network/interfaces
cp $R/etc/network/interfaces $OUT/before
ip -n machine addr flush dev port0; on_machine ifup port0
shorten 3 $OUT/prepare.sh
on_machine sh < $OUT/prepare.sh > $OUT/first 2>&1 || echo $? > $OUT/status
cmp $R/etc/network/interfaces $OUT/before
ip -n machine -o -4 addr show dev port0 > $OUT/addresses
shorten 60 $OUT/prepare.sh
( until ip -n machine -o addr show dev port0 | grep -q 10.81.0.9; do sleep 0.2; done; on_machine touch /var/lib/lantern-prepare/address-kept ) &
on_machine sh < $OUT/prepare.sh > $OUT/second 2>&1
cp $R/etc/network/interfaces $OUT/after
lantern trust forget lamp-01 --yes > /dev/null 2>&1; lantern machine remove lamp-01 --yes > /dev/null 2>&1
lantern machine add lamp-01 --paste - < $OUT/second > $OUT/added 2>&1
lantern run lamp-01 -- whoami > $OUT/inside
on_machine sh < $OUT/undo.sh > $OUT/undone 2>&1
cmp $R/etc/network/interfaces $OUT/before
ip -n machine -o -4 addr show dev port0 >> $OUT/addresses
"
    );
    play(&desk, &scene).expect(0);
    let first = left(&desk, "first");
    assert!(first.contains("nobody said that the address works: it is as it was"), "{first}");
    assert_eq!(left(&desk, "status").trim(), "1");
    let after = left(&desk, "after");
    assert!(after.contains("# of the coast\n") || after.contains("iface port0 inet6 manual\n"), "{after}");
    assert!(after.contains("iface port0 inet static\n  address 10.81.0.9/24\n"), "{after}");
    assert!(!after.contains("10.81.0.2"), "{after}");
    assert!(left(&desk, "second").contains(";address=10.81.0.9;"), "{}", left(&desk, "second"));
    assert_eq!(left(&desk, "inside"), "lamplighter\n", "{}", left(&desk, "added"));
    let addresses = left(&desk, "addresses");
    assert_eq!(addresses.matches("10.81.0.2/24").count(), 2, "{addresses}");
    assert!(!addresses.contains("10.81.0.9"), "{addresses}");
}

#[test]
fn debians_own_firewall_is_narrowed_and_opened_again() {
    let Some(desk) = desk("debian", &[]) else { return };
    let packages = desk.folder.path().join("packages");
    fetch_packages(&packages, &["ufw"]);
    // Printed again for another place to come from, as after a move.
    let words = ["machine", "prepare", "lamp-01", "--system", "debian", "--from", "10.81.0.3"];
    let moved = desk.lantern(&words).expect(0).out;
    fs::write(desk.folder.path().join("moved.sh"), moved).unwrap();
    let scene = format!(
        "{PLAYED}
packages_there $OUT/packages; on_machine sh -c 'dpkg -i /var/cache/apt/archives/*.deb' > $OUT/dpkg 2>&1
on_machine ufw allow OpenSSH > /dev/null; on_machine ufw allow 22/tcp comment 'for all' > /dev/null; on_machine ufw allow from 10.81.0.77 to any port 22 proto tcp > /dev/null; on_machine ufw allow 8080/tcp > /dev/null; on_machine ufw --force enable > $OUT/enabled 2>&1
on_machine ufw show added > $OUT/before
{STORY}
on_machine ufw show added > $OUT/after
"
    )
    .replace("lantern trust accept", "on_machine ufw show added > $OUT/between\nas_another lantern run lamp-01 --connect-limit 2 -- true 2> $OUT/another || echo $? > $OUT/status\nlantern trust accept");
    let scene = scene.replace(
        "on_machine sh < $OUT/undo.sh",
        "on_machine sh < $OUT/moved.sh > $OUT/moved 2>&1\non_machine ufw show added > $OUT/after-move\non_machine sh < $OUT/undo.sh",
    );
    play(&desk, &scene).expect(0);
    let moved = left(&desk, "after-move");
    assert!(moved.contains("from 10.81.0.3 to any port 22") && !moved.contains("10.81.0.1 "), "{moved}");
    assert!(!moved.contains("2001:db8"), "{moved}");
    let between = left(&desk, "between");
    assert!(between.contains("from 10.81.0.1 to any port 22 proto tcp"), "{between}");
    assert!(between.contains("from 2001:db8:81::/64 to any port 22 proto tcp"), "{between}");
    assert!(between.contains("ufw allow 8080/tcp") && !between.contains("OpenSSH"), "{between}");
    assert!(!between.contains("22/tcp") && between.contains("10.81.0.77"), "{between}");
    let first = left(&desk, "first");
    assert!(first.contains("left as they are:\n   ufw allow from 10.81.0.77"), "{first}");
    assert_eq!(left(&desk, "status").trim(), "245", "{}", left(&desk, "another"));
    assert_eq!(left(&desk, "inside"), "lamplighter\n", "{}", left(&desk, "accepted"));
    let sorted = |name: &str| {
        // What somebody called a rule is lost on the way.
        let plain = |line: &str| line.split(" comment ").next().unwrap_or_default().to_owned();
        let mut lines: Vec<String> = left(&desk, name).lines().map(plain).collect();
        lines.sort();
        lines
    };
    assert_eq!(sorted("after"), sorted("before"));
}

#[test]
fn each_keeper_of_addresses_is_told_in_its_own_words() {
    let address = ["--address", "10.81.0.2/24", "--router", "10.81.0.1", "--resolver", "10.81.0.53"];
    let ways = [
        (
            "debian",
            "mkdir -p $R/etc/netplan; echo 'network: {ethernets: {port0: {dhcp4: true}}}' > $R/etc/netplan/50-cloud.yaml; played netplan true",
            "$R/etc/netplan/90-lantern.yaml",
            vec!["netplan [apply]"],
            vec!["netplan [apply]"],
            "addresses: [10.81.0.2/24]\n      routes:\n        - {to: default, via: 10.81.0.1}\n      nameservers: {addresses: [10.81.0.53]}",
        ),
        (
            "redhat",
            "played nmcli 'case \"$*\" in *RUNNING*) echo running ;; *GENERAL.CONNECTION*) echo Wired 1 ;; esac'",
            "$R/var/lib/lantern-prepare/kept/connection",
            vec![
                "nmcli [-t] [-g] [GENERAL.CONNECTION] [device] [show] [port0]",
                "nmcli [connection] [clone] [Wired 1] [lantern]",
                "nmcli [connection] [modify] [lantern] [connection.interface-name] [port0] [connection.autoconnect] [yes] [ipv4.method] [manual] [ipv4.addresses] [10.81.0.2/24] [ipv4.gateway] [10.81.0.1] [ipv4.dns] [10.81.0.53]",
                "nmcli [connection] [modify] [Wired 1] [connection.autoconnect] [no]",
                "nmcli [connection] [up] [lantern]",
            ],
            vec![
                "nmcli [connection] [modify] [Wired 1] [connection.autoconnect] [yes]",
                "nmcli [connection] [up] [Wired 1]",
                "nmcli [connection] [delete] [lantern]",
            ],
            "Wired 1",
        ),
        (
            "redhat",
            "mkdir -p $R/etc/sysconfig/network-scripts; echo BOOTPROTO=dhcp > $R/etc/sysconfig/network-scripts/ifcfg-port0; played ifup true; played ifdown true",
            "$R/etc/sysconfig/network-scripts/ifcfg-port0",
            vec!["ifdown [port0]", "ifup [port0]"],
            vec!["ifdown [port0]", "ifup [port0]"],
            "IPADDR=10.81.0.2\nPREFIX=24\nGATEWAY=10.81.0.1\nDNS1=10.81.0.53\n",
        ),
    ];
    for (system, set_up, file, first, undone, written) in ways {
        let Some(desk) = desk(system, &address) else { return };
        let kin = if system == "redhat" { "rhel fedora" } else { "debian ''" };
        let scene = format!(
            "{PLAYED}
system_is {kin}
with_services
played restorecon true
{set_up}
shorten 60 $OUT/prepare.sh
( until test -s {file} && sleep 1; do sleep 0.1; done; touch $R/var/lib/lantern-prepare/address-kept ) &
on_machine sh < $OUT/prepare.sh > $OUT/first 2>&1
cp {file} $OUT/file
cp $R/played/log $OUT/log-first; : > $R/played/log
on_machine sh < $OUT/undo.sh > $OUT/undone 2>&1
cp $R/played/log $OUT/log-undone
test ! -e $R/etc/netplan || ls $R/etc/netplan > $OUT/netplan
"
        );
        play(&desk, &scene).expect(0);
        let only = |lines: Vec<String>| -> Vec<String> {
            lines
                .into_iter()
                .filter(|line| !line.starts_with("systemctl") && !line.starts_with("restorecon"))
                .collect()
        };
        let told = left(&desk, "first");
        assert!(told.contains("   It stays."), "{told}");
        // Whose question it was, is among what is asked.
        let log: Vec<String> = left(&desk, "log-first")
            .lines()
            .filter(|line| !line.contains("RUNNING"))
            .map(str::to_owned)
            .collect();
        assert_eq!(only(log), first, "{told}");
        assert!(left(&desk, "file").contains(written), "{}", left(&desk, "file"));
        let log: Vec<String> = left(&desk, "log-undone").lines().map(str::to_owned).collect();
        assert_eq!(only(log), undone, "{}", left(&desk, "undone"));
        assert!(
            matches!(left(&desk, "netplan").as_str(), "" | "50-cloud.yaml\n"),
            "{}",
            left(&desk, "netplan")
        );
    }
}

#[test]
fn an_address_that_cannot_be_set_is_put_back_at_once_and_what_is_set_elsewhere_is_left() {
    let Some(desk) = desk("redhat", &["--address", "10.81.0.9/24"]) else { return };
    let debian = [
        "machine",
        "prepare",
        "lamp-01",
        "--system",
        "debian",
        "--from",
        "10.81.0.1",
        "--address",
        "10.81.0.9/24",
    ];
    fs::write(desk.folder.path().join("debian.sh"), desk.lantern(&debian).expect(0).out).unwrap();
    let scene = format!(
        "{PLAYED}
system_is rhel fedora
with_services
played restorecon true
mkdir -p $R/etc/sysconfig/network-scripts; echo BOOTPROTO=dhcp > $R/etc/sysconfig/network-scripts/ifcfg-port0
played ifdown true; played ifup 'grep -q BOOTPROTO=dhcp /etc/sysconfig/network-scripts/ifcfg-port0'
on_machine sh < $OUT/prepare.sh > $OUT/failed 2>&1 || echo $? > $OUT/failed-status
n=0; until test -e $R/var/lib/lantern-prepare/address-back; do n=$((n+1)); test $n -lt 100; sleep 0.1; done
cat $R/etc/sysconfig/network-scripts/ifcfg-port0 > $OUT/file
system_is debian ''
rm -rf $R/etc/sysconfig; mkdir -p $R/etc/network/interfaces.d; echo > $R/etc/network/interfaces
echo 'iface port0 inet dhcp' > $R/etc/network/interfaces.d/50-cloud; cp -r $R/etc/network $OUT/network-before
on_machine sh < $OUT/debian.sh > $OUT/elsewhere 2>&1 || echo $? > $OUT/elsewhere-status
diff -r $R/etc/network $OUT/network-before
"
    );
    play(&desk, &scene).expect(0);
    let failed = left(&desk, "failed");
    assert!(failed.contains("Stopped at: The address 10.81.0.9/24 is fixed"), "{failed}");
    assert!(failed.contains("The address is put back as it was."), "{failed}");
    assert_eq!((left(&desk, "failed-status").trim(), left(&desk, "file").trim()), ("1", "BOOTPROTO=dhcp"));
    let elsewhere = left(&desk, "elsewhere");
    assert!(elsewhere.contains("interfaces.d speaks of port0: that is set by hand"), "{elsewhere}");
    assert!(!elsewhere.contains("put back"), "{elsewhere}");
}
