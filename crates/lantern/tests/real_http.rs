//! Logins at a real web server, by tickets and by NTLM: it judges the HTTP around them. Behind the login a script says that it is WS-Management, and no more.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::net::{Ipv4Addr, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Instant;

use support::realm::{self, Realm};
use support::{Desk, Outcome, PATIENCE};

const SERVICE: &str = "HTTP/chart-room.coast.example";
const MODULES: &str = "/usr/lib/apache2/modules";

/// A web server that lets in whom GSS-API does.
struct Apache {
    child: Child,
    port: u16,
    folder: tempfile::TempDir,
}

impl Drop for Apache {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What answers behind the login: the identity of a service, whatever it is asked.
const SCRIPT: &str = r#"#!/bin/sh
cat >/dev/null
printf 'Content-Type: application/soap+xml;charset=UTF-8\r\n\r\n'
cat <<'END'
<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header/><s:Body><wsmid:IdentifyResponse xmlns:wsmid="http://schemas.dmtf.org/wbem/wsman/identity/1/wsmanidentity.xsd"><wsmid:ProtocolVersion>http://schemas.dmtf.org/wbem/wsman/1/wsman.xsd</wsmid:ProtocolVersion><wsmid:ProductVendor>A script</wsmid:ProductVendor><wsmid:ProductVersion>1</wsmid:ProductVersion></wsmid:IdentifyResponse></s:Body></s:Envelope>
END
"#;

impl Apache {
    fn is_possible() -> bool {
        let needed =
            ["mod_auth_gssapi.so", "mod_ssl.so", "mod_cgi.so"].map(|module| Path::new(MODULES).join(module));
        let is_there = needed.iter().all(|module| module.exists()) && realm::is_possible();
        if !is_there {
            assert!(std::env::var_os("CI").is_none(), "the web server is not installed");
            eprintln!("skipped: no web server with GSS-API here");
        }
        is_there
    }

    /// `gss` are its lines of configuration for the login, `variables` what its mechanisms need to know.
    fn start(gss: &str, variables: &[(&str, &Path)]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        let at = folder.path().display();
        let script = folder.path().join("wsman");
        std::fs::write(&script, SCRIPT).unwrap();
        std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
        let words = "req -x509 -nodes -newkey ec -pkeyopt ec_paramgen_curve:P-256 -keyout key.pem -out certificate.pem -days 40 -subj /CN=chart-room";
        let mut made = Command::new("openssl");
        made.args(words.split(' ')).current_dir(folder.path()).stderr(Stdio::null());
        assert!(made.status().unwrap().success());
        let port = Realm::free_port();
        let names = [
            "mpm_prefork",
            "authn_core",
            "authz_core",
            "authz_user",
            "auth_gssapi",
            "ssl",
            "cgi",
            "alias",
            "env",
            "socache_shmcb",
        ];
        let modules: String =
            names.iter().map(|name| format!("LoadModule {name}_module {MODULES}/mod_{name}.so\n")).collect();
        let configuration = format!(
            "ServerRoot {at}\nServerName chart-room\nPidFile {at}/pid\nListen 127.0.0.1:{port}\n{modules}ErrorLog {at}/errors\nLogLevel info auth_gssapi:debug\n\
             LogFormat \"%u %>s\" short\nUser nobody\nGroup nogroup\nMutex file:{at} default\nKeepAlive On\nStartServers 1\nMaxRequestWorkers 4\n\
             SSLEngine on\nSSLCertificateFile {at}/certificate.pem\nSSLCertificateKeyFile {at}/key.pem\nScriptAlias /wsman {script}\n\
             <Location /wsman>\nAuthType GSSAPI\nAuthName coast\n{gss}\nRequire valid-user\n</Location>\n",
            script = script.display(),
        );
        std::fs::write(folder.path().join("configuration"), configuration).unwrap();
        let mut command = Command::new("/usr/sbin/apache2");
        command.arg("-f").arg(folder.path().join("configuration")).arg("-DFOREGROUND");
        command.envs(variables.iter().map(|(name, value)| (name, value)));
        let child = command.stdout(Stdio::null()).spawn().unwrap();
        let since = Instant::now();
        while TcpStream::connect((Ipv4Addr::LOCALHOST, port)).is_err() {
            assert!(since.elapsed() < PATIENCE, "the web server does not start");
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        Self { child, port, folder }
    }

    fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("errors")).unwrap_or_default()
    }

    fn desk(&self, settings: &[&str]) -> Desk {
        let desk = Desk::new();
        let (port, service) = (format!("port={}", self.port), format!("service-name={SERVICE}"));
        let words = ["machine", "add", "chart-room", "127.0.0.1", &port, "protocol=winrm", &service];
        desk.lantern(&[&words[..], settings].concat()).expect(0);
        let file = self.folder.path().join("certificate.pem");
        desk.lantern(&["trust", "accept", "chart-room", "--certificate", file.to_str().unwrap()]).expect(0);
        desk
    }
}

#[test]
fn it_takes_our_tickets() {
    if !Apache::is_possible() {
        return;
    }
    let realm = Realm::new("COAST.EXAMPLE", "");
    realm.user("keeper", "high water", "+requires_preauth");
    let keys = realm.service(SERVICE, "low water", "");
    for file in [realm.folder(), &keys, &realm.configuration()] {
        std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let gss = format!("GssapiCredStore keytab:{}", keys.display());
    let variables = [("KRB5_CONFIG", &*realm.configuration()), ("KRB5RCACHENAME", Path::new("none:"))];
    let apache = Apache::start(&gss, &variables);
    let desk = apache.desk(&["user=keeper@coast.example"]);
    let cache = desk.folder.path().join("tickets");
    realm.tickets("keeper", "high water", cache.to_str().unwrap(), &[]);
    let mut command = desk.command(&["check", "--no-questions", "--json", "chart-room"]);
    let outcome: Outcome =
        command.env("KRB5_CONFIG", realm.configuration()).env("KRB5CCNAME", &cache).output().unwrap().into();
    let text = outcome.text();
    // In, and behind the login: what is there is only a script.
    assert!(
        text.contains("Kerberos, by the ticket of keeper@COAST.EXAMPLE") && text.contains("A script 1"),
        "{text} {} {}",
        outcome.err,
        apache.log()
    );
    assert!(text.contains("\"failed_step\": \"shell\""), "{text}");
}

#[test]
fn it_takes_our_ntlm() {
    if !Apache::is_possible() {
        return;
    }
    let users = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(users.path(), "COAST:keeper:high water\n").unwrap();
    std::fs::set_permissions(users.path(), std::fs::Permissions::from_mode(0o644)).unwrap();
    let gss = "GssapiAllowedMech ntlmssp\nGssapiConnectionBound On";
    let apache = Apache::start(gss, &[("NTLM_USER_FILE", users.path())]);
    let desk = apache.desk(&[r"user=COAST\keeper", "login-by=ntlm"]);
    let words = ["check", "--no-questions", "--json", "--password-from", "fd:3", "chart-room"];
    let outcome = desk.with_secrets(&words, "high water", "");
    let text = outcome.text();
    assert!(
        text.contains("NTLM, by password") && text.contains("A script 1"),
        "{text} {} {}",
        outcome.err,
        apache.log()
    );
    let refused = desk.with_secrets(&words, "low water", "");
    assert!(refused.text().contains("\"failed_step\": \"login\""), "{}", refused.text());
}
