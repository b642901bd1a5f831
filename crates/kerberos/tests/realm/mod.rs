//! A realm with a real key distribution centre, for the length of a test.

#![allow(dead_code, unreachable_pub, clippy::unwrap_used, clippy::print_stderr, clippy::disallowed_methods)] // Each test uses a part of it, and says by panicking that it cannot go on.

use std::io::Write;
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// A realm; its centre ends with it.
pub struct Realm {
    name: String,
    folder: tempfile::TempDir,
    centre: Child,
    pub port: u16,
}

impl Drop for Realm {
    fn drop(&mut self) {
        let _ = self.centre.kill();
        let _ = self.centre.wait();
    }
}

/// Whether a realm can be made here: said where not, unless tests must be whole.
pub fn is_possible() -> bool {
    let needed = ["/usr/sbin/krb5kdc", "/usr/sbin/kadmin.local", "/usr/bin/kinit"];
    let is_there = needed.iter().all(|program| Path::new(program).exists());
    if !is_there {
        assert!(std::env::var_os("CI").is_none(), "the key distribution centre is not installed");
        eprintln!("skipped: no key distribution centre here");
    }
    is_there
}

fn free_port() -> u16 {
    TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap().local_addr().unwrap().port()
}

impl Realm {
    /// A realm with nobody in it. `more` goes to the system's configuration.
    pub fn new(name: &str, more: &str) -> Self {
        Self::at(name, free_port(), more)
    }

    /// The same, where the port must be known before.
    pub fn at(name: &str, port: u16, more: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().display();
        std::fs::write(
            folder.path().join("krb5.conf"),
            format!(
                "[libdefaults]\ndefault_realm = {name}\ndns_lookup_kdc = no\nrdns = no\ndns_canonicalize_hostname = false\nforwardable = true\n\
                 [realms]\n{name} = {{\nkdc = 127.0.0.1:{port}\n}}\n{more}"
            ),
        )
        .unwrap();
        std::fs::write(
            folder.path().join("kdc.conf"),
            format!(
                "[kdcdefaults]\nkdc_listen = \"\"\nkdc_tcp_listen = 127.0.0.1:{port}\n[realms]\n{name} = {{\ndatabase_name = {at}/principal\n\
                 key_stash_file = {at}/stash\nacl_file = {at}/acl\nmax_renewable_life = 7d\ndefault_principal_flags = +forwardable\n}}\n\
                 [logging]\nkdc = FILE:{at}/log\n"
            ),
        )
        .unwrap();
        let command = |program: &str| configured(program, folder.path());
        done(command("/usr/sbin/kdb5_util").args(["create", "-s", "-P", "lamp oil", "-r", name]));
        let centre = command("/usr/sbin/krb5kdc").arg("-n").stdout(Stdio::null()).spawn().unwrap();
        let since = Instant::now();
        while TcpStream::connect((Ipv4Addr::LOCALHOST, port)).is_err() {
            assert!(since.elapsed() < Duration::from_secs(20), "the key distribution centre does not start");
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { name: name.into(), folder, centre, port }
    }

    pub fn free_port() -> u16 {
        free_port()
    }

    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// The file that `KRB5_CONFIG` names.
    pub fn configuration(&self) -> PathBuf {
        self.folder.path().join("krb5.conf")
    }

    /// A program of the system that works in this realm.
    pub fn command(&self, program: &str) -> Command {
        configured(program, self.folder.path())
    }

    /// Asks the administration of the realm.
    pub fn admin(&self, query: &str) -> String {
        let output = done(self.command("/usr/sbin/kadmin.local").args(["-q", query]));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// A user with a password; `options` as the administration takes them.
    pub fn user(&self, name: &str, password: &str, options: &str) {
        self.admin(&format!("addprinc {options} -pw \"{password}\" {name}"));
    }

    /// A service with the key of a password; the file with its keys.
    pub fn service(&self, name: &str, password: &str, options: &str) -> PathBuf {
        self.user(name, password, options);
        let file = self.folder.path().join(format!("keys-{}", name.replace('/', "-")));
        self.admin(&format!("ktadd -norandkey -k {} {name}", file.display()));
        file
    }

    /// Tickets of a user in this cache.
    pub fn tickets(&self, user: &str, password: &str, cache: &str, options: &[&str]) {
        let mut command = self.command("/usr/bin/kinit");
        command.args(options).args(["-c", cache, user]).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.stderr(Stdio::piped()).spawn().unwrap();
        writeln!(child.stdin.take().unwrap(), "{password}").unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{output:?}");
    }

    /// What the centre wrote down.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    pub fn name(&self) -> &str {
        &self.name
    }
}

fn configured(program: &str, folder: &Path) -> Command {
    let mut command = Command::new(program);
    command
        .env("KRB5_CONFIG", folder.join("krb5.conf"))
        .env("KRB5_KDC_PROFILE", folder.join("kdc.conf"))
        .env("KRB5RCACHENAME", "none:")
        .env("LC_ALL", "C");
    command
}

fn done(command: &mut Command) -> Output {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {output:?}");
    output
}
