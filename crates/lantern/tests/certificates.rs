//! `lantern certificate`: from an authority to a machine that is believed by its word, and a user who logs in with what it signed; judged by the `openssl`
//! command.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};

use lantern_harbour::{ServerCertificate, WindowsSpec};
use lantern_keys::read_certificates;
use support::certificates::{agrees, house, value};
use support::windows::{PASSWORD, Windows, chart_room};
use support::{Desk, Screen, light, machine};

/// Certificate, chain and key as another program wants them: `own.pem`, `own.key`.
fn hand_over(desk: &Desk, name: &str, key: &str) {
    desk.lantern(&["certificate", "export", name, "--to", "pem", "--out", "own.pem", "--replace"]).expect(0);
    desk.lantern(&["key", "convert", key, "--to", "pkcs8-pem", "--plain", "--out", "own.key", "--replace"])
        .expect(0);
}

struct Peer(Child, u16);

impl Drop for Peer {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Another implementation's service with `own.pem` and `own.key`.
fn serve(desk: &Desk) -> Peer {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let accept = format!("127.0.0.1:{port}");
    let child = Command::new("openssl")
        .args([
            "s_server",
            "-accept",
            &accept,
            "-cert",
            "own.pem",
            "-cert_chain",
            "own.pem",
            "-key",
            "own.key",
            "-quiet",
        ])
        .current_dir(desk.folder.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    support::keeping::until("the peer listens", || TcpStream::connect(("127.0.0.1", port)).is_ok());
    Peer(child, port)
}

#[test]
fn another_implementation_believes_what_the_authority_signed_and_so_do_we() {
    let desk = house("192.0.2.9", 5986);
    hand_over(&desk, "chart-room", "chart-room-tls");
    desk.lantern(&["certificate", "export", "house", "--to", "pem", "--out", "house.pem"]).expect(0);
    let verify = ["verify", "-x509_strict", "-CAfile", "house.pem"];
    assert!(agrees(
        &desk,
        &[&verify[..], &["-purpose", "sslserver", "-verify_hostname", "chart-room.example", "own.pem"]]
            .concat()
    ));
    assert!(agrees(&desk, &[&verify[..], &["-verify_ip", "192.0.2.9", "own.pem"]].concat()));
    assert!(!agrees(&desk, &[&verify[..], &["-verify_hostname", "foghorn.example", "own.pem"]].concat()));
    let peer = serve(&desk);
    let place = format!("127.0.0.1:{}", peer.1);
    let client = |name: &str| {
        let words = [
            "s_client",
            "-connect",
            &place,
            "-CAfile",
            "house.pem",
            "-verify_return_error",
            "-verify_hostname",
            name,
        ];
        let mut child = Command::new("openssl")
            .args(words)
            .current_dir(desk.folder.path())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.wait().unwrap().success()
    };
    assert!(client("chart-room.example"));
    assert!(!client("foghorn.example"));
    // A live service: its chain, and nothing that is wrong with it.
    desk.lantern(&["machine", "set", "chart-room", "address=127.0.0.1", &format!("port={}", peer.1)])
        .expect(0);
    let shown = desk
        .lantern(&["certificate", "show", &place, "--for-name", "chart-room.example", "--json"])
        .expect(0);
    let shown = value(&shown);
    assert_eq!(shown["chain"][0]["names"][0], "chart-room.example", "{shown:#}");
    // It is believed about the machine that it was made for, and not about whoever is only reached by an address.
    assert_eq!(shown["chain"][0]["faults"], serde_json::json!(["unknown-authority"]), "{shown:#}");
    let looked = value(&desk.lantern(&["trust", "look", "chart-room", "--json"]).expect(248));
    assert_eq!(looked[0]["faults"], serde_json::json!([]), "{looked:#}");
}

#[test]
fn a_machine_is_believed_by_the_authoritys_word_and_a_user_logs_in_with_what_it_signed() {
    let desk = house("127.77.1.15", 5986);
    desk.lantern(&["certificate", "issue", "--for-user", "keeper", "--plain"]).expect(0);
    let read = |name: &str| {
        let file = fs::read(desk.home().join(format!("certificates/{name}.pem"))).unwrap();
        read_certificates(&file).unwrap()
    };
    desk.lantern(&["key", "convert", "chart-room-tls", "--to", "pkcs8-der", "--plain", "--out", "own.der"])
        .expect(0);
    let key = fs::read(desk.folder.path().join("own.der")).unwrap();
    let chain = read("chart-room").iter().map(|one| one.der().to_vec()).collect();
    let own = ServerCertificate { chain, key };
    let user = read("keeper")[0].der().to_vec();
    let windows = Windows::light(WindowsSpec {
        certificate: Some(own),
        client_certificates: vec![(user, "keeper".into())],
        ..chart_room()
    });
    let port = format!("port={}", windows.address.port());
    let address = format!("address={}", windows.address.ip());
    desk.lantern(&["machine", "set", "chart-room", &address, &port]).expect(0);
    // Nothing was trusted, and nothing is asked: the authority speaks for it.
    let words = ["run", "chart-room", "--no-questions", "--password-from", "fd:3", "--", "whoami"];
    let told = desk.with_secrets(&words, PASSWORD, "").expect(0);
    assert_eq!(told.text().trim().to_lowercase(), r"chart-room\keeper");
    let certificate = format!("certificate={}", desk.home().join("certificates/keeper.pem").display());
    desk.lantern(&["machine", "set", "chart-room", "login-by=certificate", "key=keeper-tls", &certificate])
        .expect(0);
    let told = desk.lantern(&["run", "chart-room", "--no-questions", "--", "whoami"]).expect(0);
    assert_eq!(told.text().trim().to_lowercase(), r"chart-room\keeper");
    // Called something else and back, it is still its own.
    desk.lantern(&["machine", "rename", "chart-room", "map-room"]).expect(0);
    let stored = fs::read_to_string(desk.home().join("certificates/chart-room.pem")).unwrap();
    assert!(stored.contains("machine = \"map-room\""), "{stored}");
    desk.lantern(&["machine", "rename", "map-room", "chart-room"]).expect(0);
    // Made anew, it is another certificate with the same key, and nobody is asked about it.
    let before = read("chart-room");
    let renewed = desk.lantern(&["certificate", "renew", "chart-room", "--days", "20"]).expect(0);
    assert!(renewed.err.contains("The one before ended on"), "{}", renewed.err);
    let after = read("chart-room");
    assert_ne!(before[0].der(), after[0].der());
    assert_eq!((before[0].key_info(), before[0].names()), (after[0].key_info(), after[0].names()));
    let audited = desk.lantern(&["certificate", "audit", "--json"]).expect(1);
    let audited = value(&audited);
    assert_eq!(audited[0]["made_as"], "chart-room", "{audited:#}");
    assert!(audited[0]["days_left"].as_i64().unwrap() < 30, "{audited:#}");
    let words = desk.lantern(&["certificate", "audit"]).expect(1);
    assert!(words.text().contains("lantern certificate renew chart-room"), "{}", words.text());
    assert!(words.text().contains("believed about chart-room"), "{}", words.text());
}

#[test]
fn a_constrained_authority_signs_for_its_own_and_for_nobody_else() {
    let desk = Desk::new();
    for (name, address) in [("chart-room", "192.0.2.9"), ("tide-gauge", "192.0.2.10")] {
        desk.lantern(&["machine", "add", name, address, "protocol=winrm", "user=keeper", "tags=house"])
            .expect(0);
    }
    let made = desk
        .lantern(&[
            "certificate",
            "new-authority",
            "house",
            "--for",
            "chart-room",
            "--constrain",
            "--plain",
            "--json",
        ])
        .expect(0);
    assert_eq!(value(&made)["only"], serde_json::json!(["192.0.2.9", "chart-room"]));
    desk.lantern(&["certificate", "issue", "chart-room", "--plain"]).expect(0);
    let refused = desk.lantern(&["certificate", "issue", "tide-gauge", "--plain"]).expect(240);
    assert!(
        refused.err.contains("the authority house is not made for 192.0.2.10, tide-gauge"),
        "{}",
        refused.err
    );
    let also = desk
        .lantern(&[
            "certificate",
            "issue",
            "chart-room",
            "--name",
            "other",
            "--also",
            "bank.example",
            "--key",
            "chart-room-tls",
        ])
        .expect(240);
    assert!(also.err.contains("bank.example"), "{}", also.err);
    // Believed about the one, not about the other.
    let believed =
        |machine: &str| desk.lantern(&["trust", "show", machine, "--json"]).text().contains("CN=house");
    assert!(believed("chart-room") && !believed("tide-gauge"));
    // What would end after its authority is not made.
    desk.lantern(&["certificate", "new-authority", "brief", "--days", "20", "--plain"]).expect(0);
    let long = desk
        .lantern(&["certificate", "issue", "tide-gauge", "--authority", "brief", "--key", "chart-room-tls"])
        .expect(240);
    assert!(long.err.contains("`--days 19`") || long.err.contains("`--days 20`"), "{}", long.err);
    desk.lantern(&[
        "certificate",
        "issue",
        "tide-gauge",
        "--authority",
        "brief",
        "--days",
        "19",
        "--key",
        "chart-room-tls",
    ])
    .expect(0);
    let which = desk
        .lantern(&["certificate", "issue", "tide-gauge", "--name", "again", "--key", "chart-room-tls"])
        .expect(240);
    assert!(which.err.contains("which authority is to sign it: brief, house?"), "{}", which.err);
}

#[test]
fn passphrases_are_asked_for_and_a_wrong_one_makes_nothing() {
    let desk = Desk::new();
    desk.lantern(&["machine", "add", "chart-room", "192.0.2.9", "protocol=winrm", "user=keeper"]).expect(0);
    let mut screen = Screen::open(&desk, &["certificate", "new-authority", "house"]);
    screen.wait_for("New passphrase for the key house");
    screen.send("twelve green lamps\r");
    screen.wait_for("gain: ");
    screen.send("twelve green lamps\r");
    screen.wait_for("Next: lantern certificate issue MACHINE");
    screen.wait_for_exit();
    let wrong = ["certificate", "issue", "chart-room", "--plain", "--passphrase-from", "fd:3"];
    let refused = desk.with_secrets(&wrong, "eleven", "").expect(241);
    assert!(refused.err.contains("the passphrase does not open this key"), "{}", refused.err);
    // Nothing is left of the try: neither a certificate nor a key.
    assert!(!desk.lantern(&["key", "list"]).text().contains("chart-room-tls"));
    assert!(desk.with_secrets(&["certificate", "show", "chart-room"], "", "").status != 0);
    let mut screen = Screen::open(&desk, &["certificate", "issue", "chart-room", "--plain"]);
    screen.wait_for("Passphrase of house");
    screen.send("twelve green lamps\r");
    screen.wait_for("signed by");
    screen.wait_for_exit();
    // The name is taken now, and what to type instead is told.
    let taken = desk.lantern(&["certificate", "issue", "chart-room", "--plain"]).expect(241);
    assert!(taken.err.contains("lantern certificate renew chart-room"), "{}", taken.err);
    let mut screen = Screen::open(&desk, &["certificate", "renew", "chart-room"]);
    screen.wait_for("Passphrase of house");
    screen.send("\x03");
    screen.wait_for("interrupted");
    screen.wait_for_exit();
}

#[test]
fn keys_of_certificates_are_offered_to_no_server() {
    let desk = Desk::with_key();
    desk.lantern(&["certificate", "new-authority", "house", "--plain"]).expect(0);
    let lit = light(machine("lamp-01", &desk.public_key("house")));
    desk.add(&lit);
    // It would let that key in, and never hears of it.
    let refused = desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]).expect(249);
    assert!(refused.err.contains("key harbour") && !refused.err.contains("key house"), "{}", refused.err);
    assert_eq!(
        desk.lantern(&["run", "lamp-01", "--key", "house", "--", "whoami"]).expect(0).text(),
        "keeper\n"
    );
    // One that logged in before it had a certificate goes on doing so.
    desk.lantern(&["certificate", "issue", "--for-user", "warden", "--key", "harbour"]).expect(0);
    let own = light(machine("lamp-02", &desk.public_key("harbour")));
    desk.add(&own);
    desk.lantern(&["run", "lamp-02", "--no-questions", "--", "whoami"]).expect(0);
    // A key that has the name already is told, and can be used.
    desk.lantern(&["key", "new", "spare-tls", "--plain", "--algorithm", "ecdsa-p256"]).expect(0);
    let issue = ["certificate", "issue", "lamp-02", "--name", "spare", "--plain"];
    let taken = desk.lantern(&issue).expect(241);
    assert!(taken.err.contains("`--key spare-tls` uses it"), "{}", taken.err);
    desk.lantern(&["certificate", "issue", "lamp-02", "--name", "spare", "--key", "spare-tls"]).expect(0);
    desk.lantern(&["key", "remove", "spare-tls", "--yes"]).expect(0);
    // And no script lets it in by itself.
    let words = [
        "machine",
        "prepare",
        "lamp-09",
        "--system",
        "debian",
        "--user",
        "keeper",
        "--from",
        "192.0.2.4",
        "--json",
    ];
    assert_eq!(value(&desk.lantern(&words).expect(0))["keys"], serde_json::json!(["harbour"]));
}
