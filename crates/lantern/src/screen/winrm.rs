//! What failures of WinRM mean, and what to do about them: on the machine's console, in the book, here.

use std::net::IpAddr;
use std::path::Path;

use lantern_book::{DEFAULT_WINRM_PORT, PLAIN_WINRM_PORT};
use lantern_link::{KerberosFailure, LinkError, LoginRefused, UserForm, WinrmFailure};
use lantern_operations::{Target, quoted};
use lantern_winrm::{FaultKind, WinrmError};

use crate::screen::advice::Advice;
use crate::screen::failure::code;
use crate::screen::kerberos;

/// Makes a listener with TLS and a certificate, on the machine's own console.
const NEW_LISTENER: &str = "New-Item WSMan:\\localhost\\Listener -Transport HTTPS -Address * -Force -CertificateThumbPrint (New-SelfSignedCertificate -DnsName $env:COMPUTERNAME -CertStoreLocation Cert:\\LocalMachine\\My).Thumbprint";
/// Shows the listeners, on the machine's own console.
const LISTENERS: &str = "winrm enumerate winrm/config/listener";

/// The exit code.
pub(crate) fn code_of(failure: &WinrmFailure) -> u8 {
    match failure {
        WinrmFailure::TlsNothingInCommon { .. } => code::ALGORITHMS,
        WinrmFailure::OwnCertificate { .. } => code::LOCAL,
        WinrmFailure::ClientCertificate { .. }
        | WinrmFailure::NotAskedForCertificate { .. }
        | WinrmFailure::NoLogin { .. }
        | WinrmFailure::Refused(_)
        | WinrmFailure::NoPassword { .. }
        | WinrmFailure::Kerberos { .. }
        | WinrmFailure::Ntlm { .. } => code::LOGIN,
        WinrmFailure::Unanswered { .. } => code::TIMED_OUT,
        WinrmFailure::Lost { .. } => code::LOST,
        WinrmFailure::Answer { .. } | WinrmFailure::SessionBroke { .. } => code::SESSION,
        WinrmFailure::Command { .. } | WinrmFailure::HasNo { .. } | WinrmFailure::NotWinrm { .. } => {
            code::USAGE
        }
        WinrmFailure::Status { .. } => code::REFUSED,
        _ => code::PROTOCOL,
    }
}

/// What to do about it. `target` is the book's entry, where that is known.
pub(crate) fn advise(failure: &WinrmFailure, name: &str, target: Option<&Target>) -> Advice {
    let set = |what: &str| format!("lantern machine set {name} {what}");
    let there = |what: &str| format!("on the machine's console: {what}");
    let port = target.map_or(0, |target| target.port);
    match failure {
        WinrmFailure::NotTls { .. } if port == PLAIN_WINRM_PORT => Advice::new(
            ["5985 is the port of plain HTTP; TLS is at 5986, where the machine has a listener for it"],
            set("port=5986"),
        ),
        WinrmFailure::NotTls { .. } => Advice::new(
            [
                "another service answers on that port, or the machine's listener there has no TLS: its listeners and their ports tell",
            ],
            there(LISTENERS),
        ),
        WinrmFailure::WantsTls { .. } => Advice::new(
            ["there is TLS at that port: without `plain` the book asks for it"],
            set("plain= port=5986"),
        ),
        WinrmFailure::NoCertificate { .. } => Advice::new(
            ["a listener for TLS that has no certificate, or one whose key is gone, hangs up like this"],
            there(NEW_LISTENER),
        ),
        WinrmFailure::TlsNothingInCommon { .. } => Advice::new(
            [
                "Windows Server 2012 R2 and older offer, with an RSA certificate, only what lantern refuses: with an ECDSA certificate they work",
                "in a network where nobody else can listen there is another way: messages that are sealed, without TLS",
            ],
            set("plain=private-network"),
        ),
        WinrmFailure::Tls { why, .. } if why.contains("too weak") => {
            let words = "it needs a certificate with another key, ECDSA or RSA of 2048 bits and more:";
            Advice::new([words], there(NEW_LISTENER))
        }
        WinrmFailure::Tls { .. } => {
            Advice::new(["the machine's log of the system (Schannel) says why"], there(LISTENERS))
        }
        WinrmFailure::ClientCertificate { .. } => Advice::new(
            [
                "the listener wants a client's certificate within TLS, and does not take the one that it got, or got none; with one of its own it may be: `login-by=certificate`, `certificate` and `key` in the book",
            ],
            there("netsh http show sslcert"),
        ),
        WinrmFailure::NotHttp { .. } => {
            Advice::new(["another service answers on that port"], there(LISTENERS))
        }
        WinrmFailure::Redirect { .. } => Advice::new(
            [
                "something between you and the machine, or a web server in its place, sends visitors elsewhere; nobody is followed there",
            ],
            there(LISTENERS),
        ),
        WinrmFailure::NotWsman { .. } => Advice::new(
            ["is it the right port? The service may also have another path there"],
            set("path=/wsman"),
        ),
        WinrmFailure::Status { .. } => Advice::new(
            ["its web listener is there, and the service behind it is stopped, starting or overloaded"],
            there("Restart-Service WinRM"),
        ),
        WinrmFailure::NoLogin { offered, .. } => no_login(offered, &set, &there),
        WinrmFailure::NotAskedForCertificate { .. } => Advice::new(
            [
                "its web listener asks for one only when the login is made, after TLS is set up, which lantern does not go along with: it can be set to ask in time",
            ],
            there(
                "netsh http update sslcert ipport=0.0.0.0:5986 clientcertnegotiation=enable certhash=THUMBPRINT appid={GUID}   (both as `netsh http show sslcert` has them)",
            ),
        ),
        WinrmFailure::OwnCertificate { .. } => Advice::new(
            [
                "`certificate` names the file, in armour or in DER, and `key` the one key of the ring that it is for",
            ],
            set("certificate=/PATH/TO/CERTIFICATE.pem key=NAME"),
        ),
        WinrmFailure::Refused(refused) if refused.by == "a certificate" => Advice::new(
            [
                "the machine does not know whom that certificate stands for, or does not take certificates: a mapping says it, and the issuer must be trusted there",
            ],
            there(
                "winrm enumerate winrm/config/service/certmapping; winrm set winrm/config/service/auth @{Certificate=\"true\"}",
            ),
        ),
        WinrmFailure::Refused(refused) if refused.by == "Kerberos" => kerberos::of_refusal(refused, name),
        WinrmFailure::Refused(refused) => refused_password(refused, &set),
        WinrmFailure::NoPassword { user, no_ticket, .. } => {
            let words = format!(
                "{user} logs in by a password: it is asked for at a terminal, or handed over with `--password-from`; or the keeper holds it:"
            );
            let mut lines = vec![words];
            // Any other reason was told when it was met.
            if let Some(failure) = no_ticket
                && matches!(**failure, KerberosFailure::NoTicket { .. })
            {
                lines.insert(0, format!("there is no ticket that could let {user} in without: {failure}"));
            }
            Advice::new(lines, format!("lantern keeper remember {name}"))
        }
        WinrmFailure::Kerberos { source, .. } => kerberos::advise(source, name, target),
        WinrmFailure::Ntlm { .. } => Advice::new(
            ["the machine's policy lowers NTLM below what is safe, or what answers is no Windows"],
            there("gpresult /h report.html   (Network security: Minimum session security for NTLM)"),
        ),
        WinrmFailure::Unsealed { .. } => Advice::new(
            [
                "over plain HTTP every message is sealed: one that is not, or was changed, may come from somebody between you and it",
            ],
            there("winrm set winrm/config/service @{AllowUnencrypted=\"false\"}"),
        ),
        WinrmFailure::WantsClear { .. } => Advice::new(
            ["its service takes no sealed messages; lantern sends none in the clear"],
            set("plain= port=5986"),
        ),
        WinrmFailure::Answer { source: WinrmError::Fault(fault), .. } => of_fault(fault, name, &there),
        WinrmFailure::Answer { .. } | WinrmFailure::TooLong { .. } => Advice::new(
            ["what answers does not keep to WS-Management: is it the machine that you mean?"],
            format!("lantern --verbose check {name}"),
        ),
        WinrmFailure::Session { .. } => Advice::new(
            [
                "what answers does not keep to the protocol of PowerShell's remoting: is it the machine that you mean?",
            ],
            format!("lantern --verbose check {name}"),
        ),
        WinrmFailure::SessionBroke { .. } => Advice::new(
            ["a policy or the configuration of its endpoint may say so, or it ran out of memory"],
            there("Get-WinEvent Microsoft-Windows-WinRM/Operational -MaxEvents 20"),
        ),
        WinrmFailure::NotWinrm { .. } => {
            Advice::new(["a command goes to it behind --"], format!("lantern run {name} -- COMMAND"))
        }
        WinrmFailure::Unanswered { .. } => {
            Advice::new(["its service hangs, or the machine is overloaded"], there("Restart-Service WinRM"))
        }
        WinrmFailure::Lost { .. } => Advice::new(
            ["a machine that restarts, a firewall that drops what is idle, or a service that ended"],
            format!("lantern check {name}"),
        ),
        WinrmFailure::Command { .. } => Advice::new(
            ["a line of Windows' own, with pipes and variables, goes as one string"],
            format!("lantern run {name} --interpreter -- 'COMMAND'"),
        ),
        WinrmFailure::HasNo { .. } => {
            Advice::new(["if the machine also speaks SSH, the book can say so"], set("protocol=ssh port=22"))
        }
        _ => Advice::new(Vec::<String>::new(), format!("lantern check {name}")),
    }
}

/// A user and a password that were not taken.
fn refused_password(refused: &LoginRefused, set: &dyn Fn(&str) -> String) -> Advice {
    let LoginRefused { user, computer, clock, offered, .. } = refused;
    let mut lines = vec!["it was tried once, since accounts lock; the user, the password, or whether that account may log in over the network is to be looked at".to_owned()];
    let mut suggested = user.clone();
    if let Some((computer, domain)) = computer {
        lines.push(format!("the machine calls itself {computer}, and its domain {domain}"));
        if let UserForm::Bare(name) = UserForm::of(user) {
            lines.push(format!("{domain}\\{name} is of that domain, .\\{name} of the machine itself, {name}@REALM as the domain knows it"));
            suggested = match computer == domain || !is_plain(domain) {
                true => format!(".\\{name}"),
                false => format!("{domain}\\{name}"),
            };
        }
    }
    if let Some(clock) = clock {
        lines.push(format!("its clock is {clock} s off ours: logins fail by that, too"));
    }
    if !offered.is_empty() {
        lines.push(format!("it offers: {}", offered.join(", ")));
    }
    Advice::new(lines, set(&quoted(Path::new(&format!("user={suggested}")))))
}

/// Nothing listens at the port, or nothing comes back from it. `source` is the address that the machine sees us come from; `other`, whether its other port
/// answers.
pub(crate) fn unreachable(
    error: &LinkError,
    target: &Target,
    source: Option<IpAddr>,
    other: Option<(u16, bool)>,
) -> Advice {
    let (port, name) = (target.port, &target.name);
    let from = source.map_or("YOUR-ADDRESS".to_owned(), |source| source.to_string());
    let rule = format!(
        "New-NetFirewallRule -DisplayName 'WinRM {port}' -Direction Inbound -Protocol TCP -LocalPort {port} -RemoteAddress {from} -Action Allow"
    );
    let there = |what: &str| format!("on the machine's console: {what}");
    // The script opens the usual port; a one-off has no name to be prepared under.
    let can_be_prepared = port == DEFAULT_WINRM_PORT && !target.is_one_off();
    let mend = |by_hand: &str| match can_be_prepared {
        true => format!(
            "lantern machine prepare {name} --system windows   (one paste on its console does that and the rest; by hand: {by_hand})"
        ),
        false => there(by_hand),
    };
    let mut advice = match error {
        LinkError::DialTimedOut { .. } => Advice::new(
            [
                "nothing came back, not even a refusal: a firewall drops the packets, the address is not the machine's (any more), or it is off. The rule lets the port in, and only from here; a cloud's own firewall comes before the machine's. On a network that Windows takes for a public one, its own rule lets in none but neighbors",
            ],
            mend(&rule),
        ),
        _ if port == PLAIN_WINRM_PORT => Advice::new(
            [
                "the machine answers that nothing listens there: the service is stopped, or has no listener for plain HTTP, which is as well",
            ],
            format!("lantern machine set {name} plain= port={DEFAULT_WINRM_PORT}"),
        ),
        _ => Advice::new(
            [
                "the machine answers that nothing listens there: the service is stopped, or has no listener with TLS. One with a certificate of its own:",
            ],
            mend(NEW_LISTENER),
        ),
    };
    match (error, other) {
        (LinkError::DialTimedOut { .. }, Some((other, true))) => {
            advice.lines.push(format!("{other} answers: the firewall lets that port in, and not {port}"));
        }
        (_, Some((other, true))) => {
            advice.lines.push(format!("{other} answers: the service runs, and this listener is missing"));
        }
        (_, Some((other, false))) => advice.lines.push(format!("{other} does not answer either")),
        (_, None) => {}
    }
    advice
}

/// Whether a name that a machine gave itself may stand in a command that somebody copies: what goes before the login is anybody's word.
fn is_plain(name: &str) -> bool {
    (1..=255).contains(&name.len())
        && !name.starts_with('-')
        && name.chars().all(|c| c.is_ascii_alphanumeric() || "-._".contains(c))
}

fn no_login(offered: &[String], set: &dyn Fn(&str) -> String, there: &dyn Fn(&str) -> String) -> Advice {
    let has = |name: &str| offered.iter().any(|offered| offered.eq_ignore_ascii_case(name));
    match (has("Basic"), has("Kerberos")) {
        (true, _) => Advice::new(
            [
                "it takes the password as it is (Basic): within TLS that can be said in the book; better is that it offers Negotiate",
            ],
            set("login-by=basic"),
        ),
        (false, true) => Advice::new(
            ["it takes Kerberos alone: that Negotiate is offered, too, is a setting of its service"],
            there("winrm set winrm/config/service/auth @{Negotiate=\"true\"}"),
        ),
        (false, false) => Advice::new(
            ["its service takes none of the ways that lantern has"],
            there("winrm get winrm/config/service/auth"),
        ),
    }
}

fn of_fault(fault: &lantern_winrm::Fault, name: &str, there: &dyn Fn(&str) -> String) -> Advice {
    let mut advice = match fault.kind() {
        FaultKind::AccessDenied => Advice::new(
            [
                "the login worked; the user must be an administrator there or in the group Remote Management Users",
                "an administrator of the machine itself, other than the built-in one, comes without those rights over the network, unless LocalAccountTokenFilterPolicy is 1",
            ],
            there("Add-LocalGroupMember -Group 'Remote Management Users' -Member USER"),
        ),
        FaultKind::Quota(quota) => Advice::new(
            [format!(
                "a quota of the service is used up: {quota}. Shells that programs left behind count until their idle time is over"
            )],
            there("winrm get winrm/config/winrs"),
        ),
        FaultKind::TooLarge => Advice::new(
            ["what was sent is more than the machine takes at once"],
            there("winrm get winrm/config   (MaxEnvelopeSizekb)"),
        ),
        FaultKind::NotFound => Advice::new(
            [
                "a program is named as a file there, with its folder where it is not in the path; built-ins such as dir and echo are of the command interpreter",
            ],
            format!("lantern run {name} --interpreter -- 'COMMAND'"),
        ),
        FaultKind::ShellsForbidden => Advice::new(
            ["a policy may say so, too"],
            there("winrm set winrm/config/winrs @{AllowRemoteShellAccess=\"true\"}"),
        ),
        FaultKind::NoSuchResource => Advice::new(
            [
                "the endpoints that it has are listed there; `configuration` in the book or --configuration names one, and without it is Microsoft.PowerShell",
            ],
            there("Get-PSSessionConfiguration | Select-Object Name, Permission"),
        ),
        FaultKind::Login => Advice::new(["the account is to be looked at there"], there("net user USER")),
        FaultKind::Busy => {
            Advice::new(["it is worth another try in a while"], format!("lantern check {name}"))
        }
        _ => Advice::new(
            Vec::<String>::new(),
            there("Get-WinEvent Microsoft-Windows-WinRM/Operational -MaxEvents 20"),
        ),
    };
    if let Some(says) = fault.machine_says() {
        advice.lines.insert(0, format!("the machine says: {says}"));
    }
    advice
}
