//! The consoles of simulated machines: what is pasted there. They understand one kind of text, a script that prepares a machine, by the values in front of
//! it: who is let in, by which keys, and what the line that it ends with is proven by. The made-up system has its service and no firewall, so that the rest
//! of a script has nothing to do there.

use std::fmt::Write;
use std::net::SocketAddr;

use jiff::Timestamp;
use lantern_book::{CarriedLine, Protocol, check_code};
use lantern_keys::login_list::{self, Added};
use lantern_keys::{Fingerprint, SecretString, TlsCertificate, public_line};

use crate::lit::LitMachine;
use crate::windows::LitWindows;

/// A value of a script for a POSIX shell, as it stands in front of it.
fn posix_value(script: &str, name: &str) -> Option<String> {
    let (_, behind) = script.split_once(&format!("\n{name}='"))?;
    Some(behind.split_once('\'')?.0.to_owned())
}

/// A value of a script of PowerShell.
fn power_shell_value(script: &str, name: &str) -> Option<String> {
    let (_, behind) = script.split_once(&format!("\n  ${name} = '"))?;
    Some(behind.split_once('\'')?.0.to_owned())
}

/// The line with its code, as a console prints it.
fn line(line: &CarriedLine, secret: String) -> String {
    let body = line.to_string();
    let code = check_code(&body, &SecretString::new(secret));
    let pieces: Vec<&str> =
        code.as_bytes().chunks(4).filter_map(|four| std::str::from_utf8(four).ok()).collect();
    format!("{body};check={}", pieces.join("-"))
}

fn carried(
    name: String,
    at: SocketAddr,
    user: Option<String>,
    protocol: Protocol,
    prints: Vec<Fingerprint>,
) -> CarriedLine {
    let day = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    CarriedLine { name, address: at.ip().to_string(), port: at.port(), user, protocol, prints, day }
}

impl LitMachine {
    /// What the machine's console says to a text that is pasted there as root.
    pub fn paste(&self, script: &str) -> String {
        let value = |name: &str| posix_value(script, name);
        let (Some(name), Some(user), Some(keys), Some(secret)) =
            (value("NAME"), value("LOGIN"), value("KEYS"), value("SECRET"))
        else {
            return "sh: this console knows scripts that prepare a machine, and nothing else\n".to_owned();
        };
        if !self.spec.users.iter().any(|known| known.name == user) {
            return format!("Stopped at: The user {user} is there\n  this console makes no users\n");
        }
        let mut said = String::from(
            "== The SSH service is installed\n   It was there.\n== The SSH service runs, and starts with the machine\n   It was running.\n",
        );
        let _ = writeln!(said, "== Keys let in as {user}");
        for line in keys.lines() {
            let Ok((key, comment)) = public_line::parse(line) else { continue };
            let list = self.logins(&user);
            if let Added::Changed(new) = login_list::add(&list, &key, &comment, "") {
                self.put_logins(&user, new);
            }
            let _ = writeln!(said, "   {comment}");
        }
        said.push_str("== What this machine presents\n");
        let prints: Vec<Fingerprint> =
            self.spec.host_keys.iter().map(|key| key.public().fingerprint()).collect();
        let own = carried(name.clone(), self.address, Some(user), Protocol::Ssh, prints);
        let _ = write!(
            said,
            "\n{name} is prepared. One line to carry back, whole, to the computer where lantern is:\n\n{}\n",
            line(&own, secret)
        );
        said
    }
}

impl LitWindows {
    /// What the machine's console says to a text that is pasted there as administrator.
    pub fn paste(&self, script: &str) -> String {
        let value = |name: &str| power_shell_value(script, name);
        let certificate = self.certificate().and_then(|der| TlsCertificate::read(&der).ok());
        let (Some(name), Some(user), Some(secret), Some(certificate)) =
            (value("Name"), value("Login"), value("Secret"), certificate)
        else {
            return "This console knows scripts that prepare a machine with a certificate, and nothing else.\n".to_owned();
        };
        let own =
            carried(name.clone(), self.address, Some(user), Protocol::Winrm, vec![certificate.fingerprint()]);
        format!(
            "== The service WinRM runs, and starts with the machine\n   It was running.\n== What this machine presents\n\n{name} is prepared. One line to carry back, whole, to the computer where lantern is:\n\n{}\n",
            line(&own, secret)
        )
    }
}
