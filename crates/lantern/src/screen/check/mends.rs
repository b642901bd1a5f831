//! What a failed step means, and what to do about it: on the machine, on its firewall, here.

use std::net::IpAddr;

use lantern_book::Protocol;
use lantern_keys::CertificateFault;
use lantern_link::{AuthFailure, LinkError, TrustFailure};
use lantern_operations::{LoginClues, Target};
use lantern_ssh::{OpenFailure, SshError};

use crate::screen::advice::Advice;
use crate::screen::login_advice::{Typed, advise};
use crate::screen::{certificate, winrm};
use lantern_operations::quoted;

/// Why a key or a password was refused, as far as that can be known from outside.
pub(super) fn why_refused(what: &str, outcome: &str) -> Vec<String> {
    let lines: &[&str] = match outcome {
        outcome if outcome.starts_with("refused by the server") && what.starts_with("key ") => &[
            "it is not in that user's list on the machine, or the user does not exist there, or others may write to the list, its folder or the home: then the server ignores it",
        ],
        "the server takes no signatures of this kind of key" => &[
            "the server's settings leave this kind of key out; an Ed25519 key is taken by all but the oldest",
        ],
        outcome if outcome.contains("SHA-1") => {
            &["the server is older than RFC 8332 (2018): update it, or put an Ed25519 or ECDSA key there"]
        }
        "no password was given" | "no one was there to answer" => {
            &["a check asks for no password; `lantern shell` does, and --password-from hands one over"]
        }
        "accepted, but more is needed" => &["the machine wants several proofs: this one was right"],
        outcome if outcome.starts_with("locked") => &["its passphrase is needed before it can sign"],
        outcome if outcome.starts_with("not tried") => &["nothing is wrong with it as far as is known"],
        _ => &[],
    };
    lines.iter().map(|line| (*line).to_owned()).collect()
}

/// What is known here besides the failure itself.
pub(super) struct Known<'a> {
    /// Where the machine would see us come from.
    pub(super) source: Option<IpAddr>,
    /// About a login that was refused.
    pub(super) clues: &'a LoginClues,
    /// What is wrong with the certificate that was shown.
    pub(super) faults: &'a [CertificateFault],
    /// Whether another port of the service answers.
    pub(super) other_port: Option<(u16, bool)>,
}

/// What a failure means and what to do, a line each, and the one command to type.
pub(super) fn mend(
    error: &LinkError,
    target: &Target,
    gateway: Option<&str>,
    known: &Known<'_>,
) -> (Vec<String>, String) {
    let name = gateway.unwrap_or(&target.name);
    // A one-off says its user, too.
    let typed = gateway.map_or_else(|| target.typed(), str::to_owned);
    // What is not in the book is typed anew.
    let set = |what: &str| match name.contains([':', '@']) {
        true => "lantern check USER@ADDRESS:PORT".to_owned(),
        false => format!("lantern machine set {name} {what}"),
    };
    let own = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
    match error {
        LinkError::NameNotFound { address, .. }
            if target.protocol == Protocol::Winrm && gateway.is_none() =>
        {
            (
                own(&[
                    "no resolver that this computer asks knows the name, and none need: the address goes into the book, and beside it the name that the certificate is for (by Kerberos, `service-name=HTTP/NAME` as well)",
                ]),
                set(&format!("address=ADDRESS certificate-name={address}")),
            )
        }
        LinkError::NameNotFound { address, .. } => (
            own(&[
                "no resolver that this computer asks knows the name: a slip of the pen, a private name outside its network, or a record that was never made. An IP address works without a name.",
            ]),
            set(&format!("address=ADDRESS   (now: {address})")),
        ),
        LinkError::Refused { .. } | LinkError::DialTimedOut { .. }
            if target.protocol == Protocol::Winrm && gateway.is_none() =>
        {
            let Advice { lines, command } = winrm::unreachable(error, target, known.source, known.other_port);
            (lines, command)
        }
        LinkError::Refused { .. } => (
            service_is_off(target.port),
            preparing(name)
                .unwrap_or_else(|| format!("on the machine's console: {}", "sudo systemctl status ssh sshd")),
        ),
        LinkError::DialTimedOut { .. } => (
            filtered(target.port, known.source),
            preparing(name).unwrap_or_else(|| format!("lantern check {typed} --connect-limit 60")),
        ),
        LinkError::NoRoute { .. } => (
            own(&[
                "this computer knows no way there, or a router on the way says that there is none: is the private network or VPN up, and is the address still the machine's?",
            ]),
            "ip route".to_owned(),
        ),
        LinkError::GatewayRefused { gateway, source, .. } => (
            match source.code {
                OpenFailure::PROHIBITED => own(&[
                    "the gateway's SSH service does not pass connections on, or not for this user",
                    "on the gateway: its settings must allow TCP forwarding for you",
                ]),
                _ => own(&[
                    "the gateway tried, and could not reach the machine: its address as the gateway knows it, its firewall, which must let the gateway's own address in, and its SSH service are to be looked at",
                ]),
            },
            seen_from(gateway, target.addresses.first().map_or("", String::as_str)),
        ),
        LinkError::Elsewhere(explained) => {
            (own(&[explained.headline.as_str()]), format!("lantern check {typed} --no-share"))
        }
        LinkError::ListenRefused { .. } => (
            own(&[
                "the machine's SSH service lets nothing listen for you, or not there: its settings say so, or something else listens there already",
            ]),
            format!("lantern check {typed}"),
        ),
        LinkError::Proxy { .. } => (
            own(&[
                "the proxy on the way did not connect us: is it the right one, and may it go to this port?",
            ]),
            set("proxy=URI"),
        ),
        LinkError::Handshake { source: SshError::NotSsh { .. }, .. } => (
            own(&[
                "another service answers on that port: SSH listens on another one, or the port is mapped elsewhere",
            ]),
            set("port=PORT"),
        ),
        LinkError::Handshake { source: SshError::Busy { .. }, .. } => (
            own(&[
                "the SSH service is there and takes no more connections now: too many are not logged in yet, or too many from this address have failed. Wait a little; its settings say how many it takes",
            ]),
            format!("lantern check {typed}"),
        ),
        LinkError::Unanswered { .. } => (
            own(&["the login worked; what the machine runs for that user hangs, or it is overloaded"]),
            format!("lantern run {typed} -- true"),
        ),
        LinkError::Handshake { source: SshError::NothingInCommon(_), .. } => (
            own(&[
                "the server speaks only what is retired: it is too old, or its settings are",
                "on the machine: update its SSH service; lantern does not lower its own floor",
            ]),
            format!("lantern --verbose check {typed}"),
        ),
        LinkError::Winrm(failure) => {
            let Advice { lines, command } = winrm::advise(failure, name, Some(target));
            (lines, command)
        }
        LinkError::Trust(trust) => {
            let (mut lines, command) = mend_trust(trust, name);
            if trust.is_about_certificate() {
                lines.extend(known.faults.iter().map(certificate::words));
            }
            (lines, command)
        }
        LinkError::Auth(auth) => mend_login(auth, target, &typed, known.clues),
        LinkError::ChannelRefused { .. } | LinkError::RequestRefused { .. } | LinkError::Privilege(_) => (
            own(&[
                "the login worked, and the server opens no session for this user: its settings limit what the user may do",
            ]),
            format!("on the machine's console: {}", "sudo journalctl -u ssh -u sshd -n 50"),
        ),
        LinkError::Handshake { source: SshError::TimedOut { .. }, .. } => (
            own(&[
                "something takes connections on that port and says nothing: another kind of service, an SSH service that hangs, or a machine that is overloaded or just starting",
            ]),
            format!("lantern check {typed} --handshake-limit 120"),
        ),
        LinkError::Exposed { path, .. } => (
            own(&[
                "a private key that others may read may have been copied: close it, or make a new one",
                "`--anyway` uses it as it is, this once",
            ]),
            format!("chmod 600 {}", quoted(path)),
        ),
        LinkError::Lost { .. } | LinkError::Handshake { .. } | LinkError::Dial { .. } => (
            own(&[
                "the other side ended the connection: too many connections at once, a list of allowed addresses or users, or a service that crashes. Its log knows.",
            ]),
            format!("on the machine's console: {}", "sudo journalctl -u ssh -u sshd -n 50"),
        ),
        LinkError::Book(error) => (vec![error.to_string()], "lantern machine edit".to_owned()),
        LinkError::Gateway { source, gateway } => mend(source, target, Some(gateway), known),
    }
}

/// What makes a machine of the book reachable by one paste; a one-off has no name that it could be prepared under.
fn preparing(name: &str) -> Option<String> {
    let in_book = !name.contains([':', '@']);
    in_book.then(|| {
        format!("lantern machine prepare {name} --system SYSTEM   (debian, redhat, suse or windows: one paste on its console does all of that)")
    })
}

/// The machine is there, and nothing listens.
fn service_is_off(port: u16) -> Vec<String> {
    vec![
        format!("the machine answers that nothing listens on port {port}: the SSH service is stopped, not installed, or on another port; a firewall that rejects instead of dropping looks the same. On the machine's own console:"),
        "  Debian, Ubuntu    sudo apt install openssh-server; sudo systemctl enable --now ssh; sudo ss -tln".into(),
        "  Red Hat, Fedora   sudo dnf install openssh-server; sudo systemctl enable --now sshd; sudo ss -tln".into(),
        "  Windows           Start-Service sshd; Set-Service sshd -StartupType Automatic; Get-NetTCPConnection -State Listen".into(),
    ]
}

/// How a gateway sees an address: a name is looked up there, and for an address its way is asked.
fn seen_from(gateway: &str, address: &str) -> String {
    match address.parse::<IpAddr>() {
        Ok(address) => format!("lantern run {gateway} -- ip route get {address}"),
        Err(_) => format!("lantern run {gateway} -- getent hosts {address}"),
    }
}

/// Nothing came back at all.
fn filtered(port: u16, source: Option<IpAddr>) -> Vec<String> {
    let family = if source.is_some_and(|source| source.is_ipv6()) { "ipv6" } else { "ipv4" };
    let from = source.map_or("YOUR-ADDRESS".to_owned(), |source| source.to_string());
    let whose = match source {
        Some(source) => format!("which it sees as {source}"),
        None => "which goes where YOUR-ADDRESS stands: a router gives this one another on its way out".into(),
    };
    vec![
        format!(
            "nothing came back, not even a refusal: a firewall drops the packets, the address is not the machine's (any more), or it is off. A ping proves nothing: it is often blocked. Let the port in, and only from this computer's own address, {whose}:"
        ),
        format!("  Debian, Ubuntu    sudo ufw allow proto tcp from {from} to any port {port}"),
        format!(
            "  Red Hat, Fedora   sudo firewall-cmd --permanent --add-rich-rule='rule family={family} source address={from} port port={port} protocol=tcp accept'; sudo firewall-cmd --reload"
        ),
        format!(
            "  Windows           New-NetFirewallRule -DisplayName SSH -Direction Inbound -Protocol TCP -LocalPort {port} -RemoteAddress {from} -Action Allow"
        ),
        "  a cloud           its own firewall (security group, network rules) comes before the machine's"
            .into(),
    ]
}

fn mend_trust(trust: &TrustFailure, name: &str) -> (Vec<String>, String) {
    let mut lines = trust.details();
    let accept = |presented: &lantern_book::Presented| {
        format!("lantern trust accept {name} --expect {}", presented.fingerprint())
    };
    let command = match trust {
        TrustFailure::NoOneToAsk { .. } | TrustFailure::KnownOnly { .. } | TrustFailure::Rejected { .. } => {
            lines.push(
                "it was never met: compare the fingerprint with what its own console says, then trust it"
                    .into(),
            );
            format!("lantern trust accept {name}")
        }
        TrustFailure::Changed { presented, .. } => {
            lines.push(format!(
                "it was set up anew, or something stands between you and it: its own console knows which {} is its",
                presented.noun().trim_start_matches("host "),
            ));
            format!("{}   (only if that is its own)", accept(presented))
        }
        TrustFailure::NotExpected { .. } => {
            lines.push("this may be another machine, or something between you and it".into());
            format!("lantern trust look {name}")
        }
        TrustFailure::Revoked { presented, .. } => {
            lines.push(format!("it needs a new {}: the old one must not be used any more", presented.noun()));
            "lantern trust revoked".to_owned()
        }
        TrustFailure::NotInDns { presented, .. } => {
            lines.push("the records in DNS are out of date, or something stands between you and it".into());
            format!("{}   (only if that is its key)", accept(presented))
        }
    };
    (lines, command)
}

fn mend_login(auth: &AuthFailure, target: &Target, name: &str, clues: &LoginClues) -> (Vec<String>, String) {
    let all = advise(auth, Some(target), clues, name, Typed::Check);
    let command = all.iter().map(|advice| &advice.command).find(|command| !command.is_empty());
    let command = command.cloned().unwrap_or_else(|| format!("lantern check {name}"));
    let lines = all.into_iter().enumerate().map(|(at, advice)| match (at, advice.command.as_str()) {
        // The first is told at the end.
        (0, _) | (_, "") => advice.words,
        (_, command) => format!("{}: {command}", advice.words),
    });
    (lines.collect(), command)
}
