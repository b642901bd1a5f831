//! Tunnels through the real SSH server: every kind, with curl as the program that uses them; limits of the server; a thousand callers; a cable that is
//! pulled and put back.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use support::sshd::{self, Sshd, USER};
use support::{Desk, Outcome, PATIENCE};

/// A machine `lamp-01` that is known and lets the key in.
fn scene(config: &str) -> Option<(Desk, Sshd)> {
    let desk = sshd::desk(&[("host", "ed25519")])?;
    let server = Sshd::start(&desk, "host", config);
    desk.lantern(&["machine", "add", "lamp-01", &server.address, "key=harbour"]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    Some((desk, server))
}

/// A page, over HTTP and over TLS, and the same on a unix socket: what a machine has on its loopback.
const PAGES: &str = r#"
import http.server, os, socket, socketserver, ssl, sys, threading
folder = sys.argv[1]
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        body = b"the lamp is lit\n"
        self.send_response(200); self.send_header("Content-Length", str(len(body))); self.end_headers()
        self.wfile.write(body)
    do_HEAD = do_GET
    def log_message(self, *words): pass
    def address_string(self): return "x"
class Server(socketserver.ThreadingTCPServer):
    handle_error = lambda *words: None
    request_queue_size = 2048; daemon_threads = True; allow_reuse_address = True
class UnixServer(socketserver.ThreadingUnixStreamServer):
    handle_error = lambda *words: None
    request_queue_size = 64; daemon_threads = True
http_server = Server(("127.0.0.1", 0), Page)
tls_server = Server(("127.0.0.1", 0), Page)
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(folder + "/cert.pem", folder + "/key.pem")
tls_server.socket = context.wrap_socket(tls_server.socket, server_side=True)
unix_server = UnixServer(folder + "/page there.sock", Page)
os.chmod(folder + "/page there.sock", 0o777)
for server in (http_server, tls_server, unix_server):
    threading.Thread(target=server.serve_forever, daemon=True).start()
print(http_server.server_address[1], tls_server.server_address[1], flush=True)
threading.Event().wait()
"#;

struct Pages {
    child: Child,
    http: u16,
    tls: u16,
    socket: String,
}

impl Drop for Pages {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Pages {
    fn start(desk: &Desk) -> Self {
        let folder = desk.folder.path().display().to_string();
        let made = Command::new("openssl")
            .args([
                "req",
                "-x509",
                "-newkey",
                "ec",
                "-pkeyopt",
                "ec_paramgen_curve:P-256",
                "-nodes",
                "-days",
                "30",
            ])
            .args([
                "-subj",
                "/CN=lamp-01.lights.example",
                "-addext",
                "subjectAltName=DNS:lamp-01.lights.example",
            ])
            .args(["-keyout", &format!("{folder}/key.pem"), "-out", &format!("{folder}/cert.pem")])
            .stderr(Stdio::null())
            .status()
            .unwrap();
        assert!(made.success());
        let mut child = Command::new("/usr/bin/python3")
            .args(["-c", PAGES, &folder])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.take().unwrap()), &mut line)
            .unwrap();
        let ports: Vec<u16> = line.split_whitespace().map(|port| port.parse().unwrap()).collect();
        Self { child, http: ports[0], tls: ports[1], socket: format!("{folder}/page there.sock") }
    }
}

fn curl(words: &[&str]) -> Outcome {
    Command::new("curl")
        .args(["--silent", "--show-error", "--max-time", "30"])
        .args(words)
        .output()
        .unwrap()
        .into()
}

/// `tunnel open` of everything that the book has, with what listens where.
struct Open {
    child: Child,
}

impl Drop for Open {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Open {
    fn start(desk: &Desk, more: &[&str]) -> Self {
        let words = [&["tunnel", "open", "lamp-01"], more].concat();
        let child = desk.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        Self { child }
    }
}

fn listed(desk: &Desk) -> Value {
    serde_json::from_str(desk.lantern(&["tunnel", "list", "--open", "--json"]).expect(0).text()).unwrap()
}

/// The tunnel of this name, once it is as wanted.
fn until(desk: &Desk, name: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    let deadline = Instant::now() + PATIENCE;
    loop {
        let listed = listed(desk);
        let tunnels = listed["open"][0]["tunnels"].as_array().cloned().unwrap_or_default();
        if let Some(found) = tunnels.iter().find(|tunnel| tunnel["name"] == name && wanted(tunnel)) {
            return found.clone();
        }
        assert!(Instant::now() < deadline, "{listed:#}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn carries(desk: &Desk, name: &str) -> String {
    let tunnel = until(desk, name, |tunnel| tunnel["state"] == "carries");
    tunnel["listens_at"].as_str().unwrap().to_owned()
}

#[test]
fn every_kind_leads_where_it_should_and_curl_gets_the_page() {
    let Some((desk, _server)) = scene("") else { return };
    let pages = Pages::start(&desk);
    let near = desk.folder.path().join("page here.sock").display().to_string();
    // The server makes the socket as the user that logged in.
    let shared = desk.folder.path().join("shared");
    fs::create_dir(&shared).unwrap();
    fs::set_permissions(&shared, std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    let far = shared.join("far end.sock").display().to_string();
    let add = |name: &str, words: &[&str]| {
        desk.lantern(&[&["tunnel", "add", "lamp-01", name], words].concat()).expect(0);
    };
    let (http, tls) = (format!("127.0.0.1:{}", pages.http), format!("localhost:{}", pages.tls));
    let (near_form, far_form, page_form) =
        (format!("unix:{near}"), format!("unix:{far}"), format!("unix:{}", pages.socket));
    add("page", &["--local", "0", "--to", &http]);
    add("six", &["--local", "[::1]:0", "--to", &http]);
    add("tls", &["--local", "0", "--to", &tls]);
    add("socks", &["--dynamic", "0"]);
    add("back", &["--remote", "0", "--to", &http]);
    add("near", &["--local", &near_form, "--to", &page_form]);
    add("far", &["--remote", &far_form, "--to", &page_form]);
    add("mixed", &["--local", "0", "--to", &page_form]);
    let _open = Open::start(&desk, &[]);
    let lit = |words: &[&str]| assert_eq!(curl(words).expect(0).text(), "the lamp is lit\n", "{words:?}");
    for name in ["page", "six", "back", "mixed"] {
        lit(&[&format!("http://{}/", carries(&desk, name))]);
    }
    lit(&["--insecure", &format!("https://{}/", carries(&desk, "tls"))]);
    lit(&["--unix-socket", &near, "http://x/"]);
    carries(&desk, "far");
    let as_user = |words: &[&str]| -> Outcome {
        Command::new("runuser")
            .args(["-u", USER, "--", "curl", "--silent"])
            .args(words)
            .output()
            .unwrap()
            .into()
    };
    assert_eq!(as_user(&["--unix-socket", &far, "http://x/"]).expect(0).text(), "the lamp is lit\n");
    let at = carries(&desk, "socks");
    let page = format!("http://localhost:{}/", pages.http);
    for scheme in ["socks5h", "socks4a", "socks5", "socks4"] {
        // With 4 and 5 curl looks the name up by itself: the address of IPv4 is what is listened on.
        lit(&["--ipv4", "--proxy", &format!("{scheme}://{at}"), &page]);
    }
    lit(&["--proxy", &format!("http://{at}"), "--proxytunnel", &page]);
    lit(&["--proxy", &format!("socks5h://{at}"), "--insecure", &format!("https://localhost:{}/", pages.tls)]);
    // What is behind was found out, through a server that is not ours.
    let tls = until(&desk, "tls", |tunnel| !tunnel["behind"].is_null());
    assert_eq!(tls["behind"]["kind"], "https");
    assert_eq!(tls["behind"]["certificate"]["name"], "lamp-01.lights.example");
    assert!(tls["behind"]["certificate"]["days_left"].as_i64().is_some_and(|days| (28..=30).contains(&days)));
    assert_eq!(until(&desk, "near", |tunnel| !tunnel["behind"].is_null())["behind"]["kind"], "http");
    assert_eq!(until(&desk, "far", |tunnel| !tunnel["behind"].is_null())["behind"]["kind"], "http");
    // Closed, the socket here is gone.
    desk.lantern(&["tunnel", "close", "lamp-01", "near"]).expect(0);
    assert!(!Path::new(&near).exists());
}

#[test]
fn what_the_server_forbids_is_said_in_its_words_and_with_the_settings_that_rule_it() {
    let Some((desk, server)) =
        scene("PermitOpen 127.0.0.1:9\nPermitListen 127.0.0.1:4711\nGatewayPorts no\n")
    else {
        return;
    };
    let to = format!("127.0.0.1:{}", server.port);
    desk.lantern(&["tunnel", "add", "lamp-01", "own", "--local", "0", "--to", &to]).expect(0);
    let probed = desk.lantern(&["tunnel", "probe", "lamp-01"]).expect(1);
    assert!(probed.text().contains("the server does not allow it: open failed"), "{}", probed.text());
    let refused = desk.lantern(&["tunnel", "open", "lamp-01", "--remote", "4712", "--to", "h:1"]).expect(250);
    assert!(
        refused.err.contains("PermitListen") && refused.err.contains("127.0.0.1:4712"),
        "{}",
        refused.err
    );
    // An own SSH service is known by what it says.
    let Some((desk, server)) = scene("GatewayPorts clientspecified\n") else { return };
    let to = format!("127.0.0.1:{}", server.port);
    let words = ["tunnel", "add", "lamp-01", "own", "--remote", "0.0.0.0:0", "--to", &to, "--wide"];
    desk.lantern(&words).expect(0);
    let _open = Open::start(&desk, &[]);
    let at = carries(&desk, "own");
    assert!(at.starts_with("0.0.0.0:") && at != "0.0.0.0:0", "{at}");
    let own = until(&desk, "own", |tunnel| !tunnel["behind"].is_null());
    assert_eq!((&own["behind"]["kind"], &own["wide"]), (&"ssh".into(), &true.into()));
    let shown = desk.lantern(&["tunnel", "list"]).expect(0);
    assert!(shown.text().contains("(WIDE)"), "{}", shown.text());
}

#[test]
fn a_thousand_callers_at_once_are_all_answered() {
    let Some((desk, _server)) = scene("") else { return };
    let pages = Pages::start(&desk);
    desk.lantern(&[
        "tunnel",
        "add",
        "lamp-01",
        "page",
        "--local",
        "0",
        "--to",
        &format!("127.0.0.1:{}", pages.http),
    ])
    .expect(0);
    let _open = Open::start(&desk, &["--no-probe"]);
    let at: std::net::SocketAddr = carries(&desk, "page").parse().unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        // All of them are there before the first says anything.
        let gate = std::sync::Arc::new(tokio::sync::Barrier::new(1000));
        let mut callers = tokio::task::JoinSet::new();
        for _ in 0..1000 {
            let gate = gate.clone();
            callers.spawn(async move {
                let mut stream = tokio::net::TcpStream::connect(at).await.unwrap();
                gate.wait().await;
                stream.write_all(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").await.unwrap();
                let mut text = String::new();
                stream.read_to_string(&mut text).await.unwrap();
                assert!(text.ends_with("the lamp is lit\n"), "{text}");
            });
        }
        while let Some(done) = callers.join_next().await {
            done.unwrap();
        }
    });
    let page = until(&desk, "page", |tunnel| tunnel["open"] == 0);
    assert_eq!((&page["total"], &page["last_error"]), (&1000.into(), &Value::Null));
}

/// In a network of its own: the cable is pulled, the machine gets another address, and the cable is put back.
#[test]
fn a_cable_that_is_pulled_and_put_back_is_noticed_at_once() {
    if !sshd::available() {
        return;
    }
    sshd::make_user();
    let desk = Desk::with_key();
    let folder = desk.folder.path().display().to_string();
    desk.lantern(&["key", "new", "host", "--plain"]).expect(0);
    fs::write(
        format!("{folder}/authorized"),
        desk.lantern(&["key", "show", "harbour", "--line"]).expect(0).out,
    )
    .unwrap();
    let config = format!(
        "Port 22\nHostKey {}\nAuthorizedKeysFile {folder}/authorized\nStrictModes no\nUsePAM no\nPidFile none\nPrintMotd no\n",
        desk.home().join("keys/host.key").display()
    );
    fs::write(format!("{folder}/sshd.conf"), config).unwrap();
    let target = format!("{USER}@10.81.0.2:22");
    desk.lantern(&["machine", "add", "lamp-01", &target, "key=harbour", "address=10.81.0.2,10.81.0.3"])
        .expect(0);
    desk.lantern(&["tunnel", "add", "lamp-01", "own", "--local", "4711", "--to", "127.0.0.1:22"]).expect(0);
    let lantern = format!("{} --home {}", support::binary(), desk.home().display());
    let fingerprint = desk.public_key("host").fingerprint();
    // Greeted within three seconds, or not at all: what the SSH service says behind the tunnel.
    let script = format!(
        "set -e
mount -t tmpfs none /run; mkdir -p /run/sshd /run/netns; ip link set lo up
ip netns add there; ip -n there link set lo up
ip link add cable type veth peer name end netns there
ip addr add 10.81.0.1/24 dev cable; ip link set cable up
ip -n there addr add 10.81.0.2/24 dev end; ip -n there link set end up
ip netns exec there /usr/sbin/sshd -D -e -f {folder}/sshd.conf > {folder}/log 2>&1 & server=$!
n=0; until ip netns exec there ss -tln | grep -q :22; do n=$((n+1)); [ $n -lt 200 ]; sleep 0.1; done
{lantern} trust accept lamp-01 --expect {fingerprint}
{lantern} tunnel open lamp-01 --no-probe > {folder}/said 2>&1 & tunnel=$!
greets() {{ timeout $1 /usr/bin/python3 -c \"import socket; s = socket.create_connection(('127.0.0.1', 4711)); d = s.recv(99); print(d.decode()); assert d.startswith(b'SSH-')\" >> {folder}/greeted 2>&1; }}
n=0; until greets 3; do n=$((n+1)); [ $n -lt 30 ]; sleep 0.2; done
ip link set cable down
n=0; until {lantern} tunnel list --open --json | grep -q '\"state\": \"holds\"'; do n=$((n+1)); [ $n -lt 200 ]; sleep 0.1; done
ip -n there addr del 10.81.0.2/24 dev end; ip -n there addr add 10.81.0.3/24 dev end
greets 40 & held=$!
sleep 1
date +%s%N > {folder}/up; ip link set cable up
wait $held; date +%s%N > {folder}/back
{lantern} tunnel list --open --json > {folder}/list
kill -INT $tunnel; wait $tunnel; kill $server
"
    );
    fs::write(format!("{folder}/script"), script).unwrap();
    let file = format!("{folder}/script");
    let ran: Outcome =
        Command::new("unshare").args(["--net", "--mount", "sh", &file]).output().unwrap().into();
    let read = |name: &str| fs::read_to_string(format!("{folder}/{name}")).unwrap_or_default();
    assert_eq!(ran.status, 0, "{}\n{}\n{}\n{}", ran.err, read("said"), read("log"), read("greeted"));
    let moment = |name: &str| read(name).trim().parse::<u64>().unwrap();
    let waited = Duration::from_nanos(moment("back") - moment("up"));
    // By the network's own word, and not by a pause that had grown to many seconds.
    assert!(waited < Duration::from_secs(8), "{waited:?}: {}", read("said"));
    let listed: Value = serde_json::from_str(&read("list")).unwrap();
    assert_eq!(listed["open"][0]["link"]["losses"], 1, "{listed:#}");
}
