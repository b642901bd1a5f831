//! The real SSH server in networks of its own: a gateway, and two inner machines that only it reaches.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::process::Command;

use serde_json::Value;
use support::sshd::{self, USER};
use support::{Desk, Outcome};

/// A server of this network namespace: the machine's name, the namespace, the address it listens on.
const MACHINES: [(&str, &str, &str); 3] =
    [("gate", "gate", "10.78.0.2"), ("lamp-01", "one", "10.79.0.2"), ("lamp-02", "two", "10.80.0.2")];

/// Cables between the namespaces. Nothing forwards packets: who is not a neighbor is not reached.
const NETWORK: &str = "
set -e
mount -t tmpfs none /run
mkdir -p /run/sshd /run/netns
ip link set lo up
for n in gate one two; do ip netns add $n; ip -n $n link set lo up; done
cable() { # namespace address namespace address
  ip link add end0 type veth peer name end1
  if [ $1 != here ]; then ip link set end0 netns $1; IN=\"-n $1\"; else IN=; fi
  ip $IN link set end0 name to-$3; ip $IN addr add $2/24 dev to-$3; ip $IN link set to-$3 up
  ip link set end1 netns $3; ip -n $3 link set end1 name to-$1; ip -n $3 addr add $4/24 dev to-$1; ip -n $3 link set to-$1 up
}
cable here 10.78.0.1 gate 10.78.0.2
cable gate 10.79.0.1 one 10.79.0.2
cable gate 10.80.0.1 two 10.80.0.2
";

#[test]
fn inner_machines_are_reached_through_the_gateway_only() {
    if !sshd::available() {
        return;
    }
    sshd::make_user();
    let desk = Desk::with_key();
    let folder = desk.folder.path().display().to_string();
    let authorized = format!("{folder}/authorized");
    fs::write(&authorized, desk.lantern(&["key", "show", "harbour", "--line"]).expect(0).out).unwrap();
    let mut script = String::from(NETWORK);
    for (name, namespace, address) in MACHINES {
        desk.lantern(&["key", "new", &format!("host-{name}"), "--plain"]).expect(0);
        let host_key = desk.home().join(format!("keys/host-{name}.key"));
        let config = format!(
            "Port 22\nListenAddress {address}\nHostKey {}\nAuthorizedKeysFile {authorized}\nStrictModes no\nUsePAM no\nPidFile none\nPrintMotd no\nSubsystem sftp internal-sftp\n",
            host_key.display()
        );
        fs::write(format!("{folder}/{name}.conf"), config).unwrap();
        script.push_str(&format!(
            "ip netns exec {namespace} /usr/sbin/sshd -D -e -f {folder}/{name}.conf > {folder}/{name}.log 2>&1 &\nservers=\"$servers $!\"\n"
        ));
        let target = format!("{USER}@{address}:22");
        let mut words = vec!["machine", "add", name, &target, "key=harbour"];
        if name != "gate" {
            words.push("gateway=gate");
        }
        desk.lantern(&words).expect(0);
        fs::write(
            format!("{folder}/{name}.print"),
            desk.public_key(&format!("host-{name}")).fingerprint().to_string(),
        )
        .unwrap();
    }
    let lantern = format!("{} --home {}", support::binary(), desk.home().display());
    // Listed addresses are there when the servers are.
    for (name, namespace, address) in MACHINES {
        script.push_str(&format!(
            "n=0; until ip netns exec {namespace} ss -tln | grep -q {address}:22; do n=$((n+1)); [ $n -lt 200 ] || {{ cat {folder}/{name}.log >&2; exit 90; }}; sleep 0.1; done\n"
        ));
    }
    script.push_str(&format!(
        "set +e
{lantern} run {USER}@10.79.0.2:22 --connect-limit 2 --no-questions -- true 2> {folder}/direct.err; echo $? > {folder}/direct
for m in gate lamp-01 lamp-02; do {lantern} trust accept $m --expect $(cat {folder}/$m.print) || exit 91; done
{lantern} run lamp-01 -- 'echo $SSH_CONNECTION' > {folder}/connection || exit 92
{lantern} check gate,lamp-01,lamp-02 --json > {folder}/check.json || exit 93
head -c 20000000 /dev/zero | {lantern} run lamp-02 -- wc -c > {folder}/count || exit 94
ip -n gate link set to-two down
{lantern} check lamp-02 --connect-limit 5 --login-limit 20 --json > {folder}/down.json; echo $? > {folder}/down
kill $servers
exit 0
"
    ));
    let file = format!("{folder}/script");
    fs::write(&file, script).unwrap();
    let outcome: Outcome =
        Command::new("unshare").args(["--net", "--mount", "sh", &file]).output().unwrap().into();
    outcome.expect(0);
    let read = |name: &str| fs::read_to_string(format!("{folder}/{name}")).unwrap();
    let direct = read("direct").trim().parse::<u8>().unwrap();
    assert!(matches!(direct, 243 | 245), "{direct}: {}", read("direct.err"));
    // The inner machine sees the gateway, on the cable between them.
    assert!(read("connection").starts_with("10.79.0.1 "), "{}", read("connection"));
    assert_eq!(read("count").trim(), "20000000");
    let checks: Value = serde_json::from_str(&read("check.json")).unwrap();
    for account in checks.as_array().unwrap() {
        assert_eq!(account["state"], "ok", "{account:#}");
        let steps = account["steps"].as_array().unwrap();
        let saw = |step: &str| {
            steps.iter().rfind(|s| s["step"] == step).map(|s| s["saw"].as_str().unwrap().to_owned()).unwrap()
        };
        assert!(saw("shell").starts_with(USER) && saw("files").contains("starts"), "{account:#}");
        assert!(saw("forwarding").contains("tunnels: yes, remote tunnels: yes, agent: yes"), "{account:#}");
        assert_eq!(account["machine"] == "gate", steps.iter().all(|s| s["gateway"].is_null()));
    }
    let down: Value = serde_json::from_str(&read("down.json")).unwrap();
    assert_eq!((down[0]["failed_step"].as_str(), read("down").trim()), (Some("port"), "243"), "{down:#}");
    assert!(down.to_string().contains("the gateway gate did not connect us with 10.80.0.2:22"), "{down:#}");
}
