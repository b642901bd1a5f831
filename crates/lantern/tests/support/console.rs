//! The console of a machine in a root of its own that is thrown away: this system's files, whose changes stay in memory, and a network with one cable
//! to here. Scripts run there as root for real, and nothing of it is left.

use std::fs;
use std::path::Path;
use std::process::Command;

use super::{Desk, Outcome};

/// `here` is 10.81.0.1 (and 10.81.0.3, for somebody else), the machine 10.81.0.2. `on_machine COMMAND` runs on it.
const SCENE: &str = "
set -eu
mount -t tmpfs none /run; mkdir -p /run/netns
mount -t tmpfs none /mnt; mkdir /mnt/upper /mnt/work /mnt/root
mount -t overlay overlay -o lowerdir=/,upperdir=/mnt/upper,workdir=/mnt/work /mnt/root
R=/mnt/root
mount -t proc proc $R/proc; mount --rbind /dev $R/dev; mount -t tmpfs none $R/run; mount -t tmpfs none $R/tmp
ip link set lo up
ip netns add machine; ip -n machine link set lo up
ip link add name to-machine type veth peer name port0; ip link set port0 netns machine
ip addr add 10.81.0.1/24 dev to-machine; ip addr add 10.81.0.3/24 dev to-machine; ip link set to-machine up
ip -n machine addr add 10.81.0.2/24 dev port0; ip -n machine link set port0 up
on_machine() { ip netns exec machine chroot $R \"$@\"; }
no_ssh_there() { on_machine dpkg --purge --force-depends openssh-server openssh-sftp-server nftables > /dev/null 2>&1; rm -rf $R/etc/ssh/ssh_host_*; }
# As if its packages could be fetched: they lie where they are put when they were.
packages_there() { rm -f $R/etc/apt/apt.conf.d/docker-clean; mkdir -p $R/var/cache/apt/archives; cp $1/*.deb $R/var/cache/apt/archives/; }
as_another() { ip route add 10.81.0.2/32 dev to-machine src 10.81.0.3; \"$@\"; status=$?; ip route del 10.81.0.2/32 dev to-machine; return $status; }
";

/// Runs a text of `sh` in the scene; `lantern` is the program on the desk's home, `OUT` the desk's folder.
pub fn play(desk: &Desk, text: &str) -> Outcome {
    let folder = desk.folder.path().display();
    let lantern = format!(
        "lantern() {{ {} --home {} \"$@\"; }}\nOUT={folder}\n",
        super::binary(),
        desk.home().display()
    );
    let file = format!("{folder}/scene");
    fs::write(&file, format!("{SCENE}{lantern}{text}")).unwrap();
    Command::new("unshare")
        .args(["--net", "--mount", "--pid", "--fork", "--mount-proc", "sh", &file])
        .output()
        .unwrap()
        .into()
}

/// What a scene left in the desk's folder.
pub fn left(desk: &Desk, name: &str) -> String {
    fs::read_to_string(desk.folder.path().join(name)).unwrap_or_default()
}

/// The package files of these packages and of what they want besides, in this folder.
pub fn fetch_packages(folder: &Path, packages: &[&str]) {
    fs::create_dir_all(folder.join("partial")).unwrap();
    let archives = format!("Dir::Cache::archives={}", folder.display());
    let fetch = || {
        Command::new("apt-get")
            .args([
                "install",
                "--reinstall",
                "--download-only",
                "--no-install-recommends",
                "-y",
                "-qq",
                "-o",
                &archives,
                // Nothing of this system is changed, and tests that fetch at once keep each other waiting for nothing.
                "-o",
                "Debug::NoLocking=1",
            ])
            .args(packages)
            .output()
            .unwrap()
    };
    let mut fetched = fetch();
    for _ in 0..3 {
        if fetched.status.success() {
            return;
        }
        // Lists that are out of date, or a network that hiccups.
        let _ = Command::new("apt-get").args(["update", "-qq"]).output();
        std::thread::sleep(std::time::Duration::from_secs(2));
        fetched = fetch();
    }
    assert!(fetched.status.success(), "{}", String::from_utf8_lossy(&fetched.stderr));
}

/// Programs of other systems, played: each writes what it was called with to `/played/log`, and then does what is in `/played/NAME`.
pub const PLAYED: &str = "
mkdir $R/played; : > $R/played/log
played() { # name, what it does
  printf '%s\\n' \"$2\" > $R/played/$1
  printf '%s\\n' '#!/bin/sh' \"{ printf %s $1; for word; do printf ' [%s]' \\\"\\$word\\\"; done; echo; } >> /played/log\" \". /played/$1\" > $R/usr/local/sbin/$1
  chmod 755 $R/usr/local/sbin/$1
}
# A system whose services are switched by the program of that name; the server is the real one.
with_services() {
  mkdir -p $R/run/systemd/system $R/run/sshd
  played systemctl 'case \"$*\" in
    is-enabled*socket) exit 1 ;;
    is-enabled*) test -e /played/enabled ;;
    is-active*) test -e /played/active ;;
    enable*sshd|enable*ssh) touch /played/enabled ;;
    disable*sshd|disable*ssh) rm -f /played/enabled ;;
    start*) touch /played/active; /usr/sbin/sshd ;;
    stop*) rm -f /played/active; pkill -x sshd ;;
  esac'
}
system_is() { printf 'ID=\"%s\"\\nID_LIKE=\"%s\"\\n' \"$1\" \"$2\" > $R/etc/os-release.new; rm -f $R/etc/os-release; mv $R/etc/os-release.new $R/etc/os-release; }
# A package is installed by putting the server back.
hide_server() { mv $R/usr/sbin/sshd $R/usr/sbin/sshd.away; }
show_server='mv /usr/sbin/sshd.away /usr/sbin/sshd'
# The trial of an address takes two minutes, which tests do not have.
shorten() { sed -i \"s/^TRIED_FOR=.*/TRIED_FOR='$1'/\" \"$2\"; grep -q \"^TRIED_FOR='$1'\" \"$2\"; }
";
