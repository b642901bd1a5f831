//! Errors of the layers below as failures: with an exit code, and what to do about them.

use lantern_book::BookError;
use lantern_keeper::KeeperError;
use lantern_link::remote_logins::LoginsError;
use lantern_link::{Explained, LinkError, PrivilegeFailure, ProxyError, TrustFailure};
use lantern_operations::{LoginClues, OperationError, ReachError, quoted};
use lantern_ssh::{OpenFailure, PlanReport, SshError};

use super::advice;
use super::failure::{Failure, chain, code};
use super::login_advice::{Advice, Typed, advise};
use super::winrm;

impl From<KeeperError> for Failure {
    fn from(error: KeeperError) -> Self {
        let failure = Self::new(code::LOCAL, chain(&error));
        match error {
            KeeperError::NotRunning => failure.hint("lantern keeper start"),
            _ => failure,
        }
    }
}

impl From<OperationError> for Failure {
    fn from(error: OperationError) -> Self {
        match error {
            OperationError::Logins(error) => error.into(),
            error => (&error).into(),
        }
    }
}

impl From<&OperationError> for Failure {
    fn from(error: &OperationError) -> Self {
        match error {
            OperationError::Reach(error) => error.into(),
            OperationError::Link(error) => error.into(),
            OperationError::Book(error) => error.into(),
            OperationError::NotTried { refused_at, .. } => Self::new(code::LOGIN, error.to_string())
                .detail("each refusal counts towards the locking of the account")
                .hint(format!("lantern check {refused_at}")),
            OperationError::Logins(error) => Self::new(code::SESSION, chain(error)),
            OperationError::Key { .. } => Self::new(code::INTERNAL, chain(error)),
        }
    }
}

impl From<ReachError> for Failure {
    fn from(error: ReachError) -> Self {
        (&error).into()
    }
}

impl From<&ReachError> for Failure {
    fn from(error: &ReachError) -> Self {
        let words = error.to_string();
        match error {
            ReachError::Book(error) => error.into(),
            ReachError::Proxy { typed: true, .. } => Self::new(code::USAGE, words),
            ReachError::Proxy { .. } => Self::new(code::LOCAL, words).hint("lantern machine edit"),
            ReachError::NoAddress { machine } => {
                Self::new(code::LOCAL, words).hint(format!("lantern machine set {machine} address=ADDRESS"))
            }
            ReachError::NoUser => {
                Self::new(code::USAGE, words).hint("say `--user NAME` or set it in the book")
            }
            ReachError::NoTls { machine } => Self::new(code::LOCAL, words)
                .hint(format!("lantern machine set {machine} plain= port=5986")),
            ReachError::NoCertificate { machine } => Self::new(code::LOCAL, words)
                .hint(format!("lantern machine set {machine} certificate=/PATH/TO/CERTIFICATE.pem key=NAME")),
            ReachError::ClearPassword { machine } => Self::new(code::LOCAL, words)
                .hint(format!("without TLS, NTLM proves the password and seals what follows: lantern machine set {machine} login-by=ntlm")),
            ReachError::Winrm { machine } => Self::new(code::USAGE, words)
                .hint(format!("if it also speaks SSH: lantern machine set {machine} protocol=ssh")),
        }
    }
}

impl From<LoginsError> for Failure {
    fn from(error: LoginsError) -> Self {
        match error {
            LoginsError::Link(error) => error.into(),
            LoginsError::OtherCommand => Self::new(code::SESSION, error.to_string())
                .hint("`--key OTHER` logs in with another key, `--no-key` with the password"),
            LoginsError::Held => Self::new(code::SESSION, error.to_string())
                .hint("if it is no program of now but left behind: rmdir .ssh/authorized_keys.lock, there"),
            LoginsError::Changed => Self::new(code::SESSION, error.to_string()).hint("do it again"),
            error => Self::new(code::SESSION, chain(&error))
                .hint("this needs a machine with a POSIX shell; its list is ~/.ssh/authorized_keys"),
        }
    }
}

impl From<BookError> for Failure {
    fn from(error: BookError) -> Self {
        (&error).into()
    }
}

impl From<&BookError> for Failure {
    fn from(error: &BookError) -> Self {
        let failure = Self::new(code::LOCAL, chain(error));
        match error {
            BookError::Syntax { path, .. } => failure.hint(format!("mend {} and try again", path.display())),
            BookError::NotAlone { path, .. } => failure
                .hint(format!("chmod 700 {}", quoted(path)))
                .hint("whoever could write there could have exchanged what is in it: look at it, and at its keys, before you go on"),
            BookError::Unknown { what: "machine", name, .. } => {
                let more = match name.parse::<std::net::IpAddr>() {
                    Ok(_) => format!("`USER@{name}` reaches it without the book; `lantern machine add NAME {name}` adds it"),
                    Err(_) => format!("`lantern machine add {name} ADDRESS` adds it; `user@address` reaches a machine without the book"),
                };
                failure.hint("`lantern machine list` shows the book").hint(more)
            }
            BookError::Unknown { what: "key", .. } => failure.hint("`lantern key list` shows the ring"),
            BookError::Unknown { what: "profile", .. } => failure.hint("`lantern profile list` shows the profiles"),
            BookError::Unknown { what: "tag", .. } => {
                failure.hint("`lantern machine list --columns name,tags` shows the tags")
            }
            BookError::Unknown { what: "field", .. } => failure.hint("`lantern machine set --fields` lists the fields"),
            BookError::NotAFile { what: "a folder", path } => {
                failure.hint(format!("a file in it: {}", quoted(&path.join("NAME"))))
            }
            BookError::BadValue { what: "pasted text", .. } => {
                failure.hint("a URI, a connect line or USER@ADDRESS is understood; `lantern machine add NAME ADDRESS` takes the rest as options")
            }
            BookError::PrivateGone { name, .. } => failure
                .hint("a copy of it, put back there, makes the key whole again")
                .hint(format!("without one, a new key takes its place, and this: lantern key remove {name}")),
            BookError::Held { name } => failure.hint(format!("`lantern key show {name}` shows it")),
            BookError::Exists { what: "file", .. } => failure.hint("`--replace` writes over it"),
            BookError::Exists { what: "machine", name } => {
                failure.hint(format!("`lantern machine show {name}` shows it; `lantern machine remove {name}` removes it"))
            }
            BookError::Exists { what, name } => failure.hint(format!("`lantern {what} show {name}` shows it")),
            _ => failure,
        }
    }
}

impl From<Explained> for Failure {
    fn from(explained: Explained) -> Self {
        let Explained { code, headline, details, hints, is_final: _ } = explained;
        // Whoever else logged in says no more than this.
        let is_refusal = code == code::LOGIN;
        Self { code, headline, details, hints, is_refusal }
    }
}

/// A failure for a program that somebody else did something for.
pub(crate) fn explained(failure: Failure, is_final: bool) -> Explained {
    let Failure { code, headline, details, hints, is_refusal: _ } = failure;
    Explained { code, headline, details, hints, is_final }
}

impl From<LinkError> for Failure {
    fn from(error: LinkError) -> Self {
        (&error).into()
    }
}

impl From<&LinkError> for Failure {
    fn from(error: &LinkError) -> Self {
        if let LinkError::Elsewhere(explained) = error {
            return (**explained).clone().into();
        }
        let code = code_of(error);
        let is_refusal = match error {
            LinkError::Auth(_) => true,
            LinkError::Winrm(failure) => failure.is_refusal(),
            _ => false,
        };
        let failure = Self { is_refusal, ..Self::new(code, chain(error)) };
        match error {
            LinkError::NameNotFound { .. } => {
                failure.hint("check the spelling; an IP address works without a name")
            }
            LinkError::Refused { .. } => failure
                .hint("on the machine: is its service running, and on this port?")
                .hint("a hypervisor or gateway may map another port to it"),
            LinkError::DialTimedOut { .. } => failure
                .hint("a firewall that drops packets looks like this; so does a wrong address or a machine that is off"),
            LinkError::NoRoute { .. } => {
                failure.hint("is this computer on the right network, and does the machine have this address?")
            }
            LinkError::Handshake { source: SshError::NotSsh { .. }, .. } => {
                failure
                    .hint("another service answers on that port; try another with `address:port`, or set it in the book (lantern machine set NAME port=PORT)")
            }
            LinkError::Handshake { source: SshError::Busy { .. }, .. } => failure
                .hint("it has too many connections that are not logged in yet, or has seen too many failures from this address: wait a little and try again")
                .hint("on the machine: the settings of its SSH service say how many it takes"),
            LinkError::Handshake { source: SshError::Closed { during: "before it said what it is" }, .. } => failure
                .hint("a server that is busy does this, and so does one that lets only certain addresses in; the log on the machine says which")
                .hint("or another service answers on that port; try another with `address:port`"),
            LinkError::Handshake { source: SshError::Closed { during: "during the key exchange" }, .. } => failure
                .hint("the server gave up on us: its log says why; one that turns addresses away does this, and one that is broken")
                .hint("`lantern check` shows how far it came"),
            LinkError::Handshake { source: SshError::TimedOut { .. }, .. } => failure
                .hint("something takes connections on that port and says nothing: another kind of service, one that hangs, or a machine that is just starting")
                .hint("`--handshake-limit SECONDS` waits longer; `lantern check` shows how far it comes"),
            LinkError::Handshake { source: SshError::HostKeySignature(_), .. } => failure
                .hint("try again: damage on the line is rare, and comes and goes. If it stays, something between you and the machine changes what is sent"),
            LinkError::Unanswered { .. } => failure
                .hint("the login worked; what the machine runs for that user hangs, or it is overloaded")
                .hint("`--login-limit SECONDS` waits longer"),
            LinkError::Trust(trust) => with_trust(failure, trust),
            LinkError::Auth(auth) => {
                let mut failure = failure;
                if let Some(reason) = &auth.ended {
                    failure.details.push(format!("the server ended the login itself: {reason}"));
                }
                failure.details.push(match auth.methods.as_slice() {
                    [] => "the server named no method it would take".into(),
                    methods => format!("the server would take: {}", methods.join(", ")),
                });
                if auth.report.is_empty() {
                    failure.details.push("nothing was offered".into());
                }
                failure.details.extend(tried(&auth.report));
                // Where more is known, whoever knows it says more.
                let clues = LoginClues { has_keys: true, same_host: None };
                with_advice(failure, advise(auth, None, &clues, &auth.machine, Typed::Shell))
            }
            LinkError::Proxy { source: ProxyError::LoginWanted | ProxyError::LoginRefused, .. } => failure
                .hint("name the user in the proxy's URI (http://user@address:port); the password is asked for, or read with --proxy-password-from"),
            LinkError::Proxy { .. } => failure.hint("does the proxy run there, and may it connect you with that port?"),
            LinkError::GatewayRefused { gateway, source, .. } => match source.code {
                OpenFailure::PROHIBITED => {
                    failure.hint(format!("{gateway} does not let connections be passed on: its SSH service's settings allow or forbid it"))
                }
                _ => failure.hint(format!(
                    "from {gateway}, the machine must be reachable at that address and port; `lantern check` looks at every step"
                )),
            },
            LinkError::Gateway { gateway, source } => {
                let inner = Self::from(&**source);
                let mut failure = inner;
                failure.headline = format!("at the gateway {gateway}: {}", failure.headline);
                failure
            }
            LinkError::Exposed { path, .. } => failure
                .hint(format!("chmod 600 {}", quoted(path)))
                .hint("if somebody may have copied it, a new key is better: lantern key new NAME")
                .hint("`--anyway` uses it as it is, this once"),
            LinkError::Winrm(error) => {
                let machine = error.machine().unwrap_or("MACHINE");
                let advice::Advice { lines, command } = winrm::advise(error, machine, None);
                let failure = lines.into_iter().fold(failure, Failure::detail);
                failure.hint(command)
            }
            LinkError::Privilege(error) => with_privilege(failure, error),
            LinkError::Book(error) => error.into(),
            _ => failure,
        }
    }
}

/// What to do where a user cannot act as another.
fn with_privilege(failure: Failure, error: &PrivilegeFailure) -> Failure {
    match error {
        PrivilegeFailure::NoPassword { .. } => {
            failure.hint("`--as-password-from SOURCE` reads it; at a terminal it is asked for")
        }
        PrivilegeFailure::Refused { machine, other, by_password: true, .. } => failure
            .detail("what is wanted is the password of the user who is logged in")
            .hint(format!("once more: lantern run {machine} --as {other} -- true")),
        PrivilegeFailure::Refused { machine, user, .. } => failure.hint(format!(
            "its administrator decides whom {user} may act as; what it is there: lantern run {machine} -- id"
        )),
        PrivilegeFailure::NoProgram { machine, other, .. } => {
            failure.hint(format!("log in as that user: lantern run {machine} --user {other} -- COMMAND"))
        }
        PrivilegeFailure::Otherwise { machine, .. } => failure
            .detail("it was not the question for the password, so nothing was answered")
            .hint(format!("by hand, in a session: lantern shell {machine}")),
    }
}

/// Most keys that are told one by one: of a ring, their names are enough.
const MAX_KEYS_TOLD: usize = 6;

/// What was tried, a line each; keys that came to the same in one line, where there are many.
fn tried(report: &[PlanReport]) -> Vec<String> {
    let is_key = |line: &&PlanReport| line.what.starts_with("key ");
    let mut lines: Vec<String> = Vec::new();
    let mut told: Vec<&str> = Vec::new();
    for line in report {
        let same: Vec<&PlanReport> =
            report.iter().filter(is_key).filter(|other| other.outcome == line.outcome).collect();
        if !is_key(&line) || same.len() <= MAX_KEYS_TOLD {
            lines.push(format!("{}: {}", line.what, line.outcome));
        } else if !told.contains(&line.outcome) {
            told.push(line.outcome);
            let name = |line: &&PlanReport| line.what.split(' ').nth(1).unwrap_or_default().to_owned();
            let names: Vec<String> = same.iter().map(name).collect();
            lines.push(format!("{} keys: {} ({})", same.len(), line.outcome, names.join(", ")));
        }
    }
    lines
}

/// The same with what may be amiss, in place of what was said about that before.
pub(crate) fn with_advice(mut failure: Failure, advice: Vec<Advice>) -> Failure {
    let hint =
        |Advice { words, command }| if command.is_empty() { words } else { format!("{words}: {command}") };
    failure.hints = advice.into_iter().map(hint).collect();
    failure
}

/// The exit code of a failed connection: at a gateway it is that of what failed there.
pub(crate) fn code_of(error: &LinkError) -> u8 {
    match error {
        LinkError::NameNotFound { .. } => code::NAME,
        LinkError::NoRoute { .. } | LinkError::Dial { .. } => code::ROUTE,
        LinkError::Refused { .. } => code::REFUSED,
        LinkError::DialTimedOut { .. } => code::TIMED_OUT,
        LinkError::Handshake { source, .. } => match source {
            SshError::NothingInCommon(_) => code::ALGORITHMS,
            SshError::TimedOut { .. } => code::TIMED_OUT,
            SshError::HostKey(_)
            | SshError::HostKeySignature(_)
            | SshError::HostKeyChanged { .. }
            | SshError::HostKeyRejected => code::TRUST,
            SshError::Busy { .. } => code::REFUSED,
            _ => code::PROTOCOL,
        },
        LinkError::Winrm(failure) => winrm::code_of(failure),
        LinkError::Trust(_) => code::TRUST,
        LinkError::Auth(_) | LinkError::Privilege(_) => code::LOGIN,
        LinkError::ChannelRefused { .. } | LinkError::RequestRefused { .. } => code::SESSION,
        LinkError::Lost { .. } => code::LOST,
        LinkError::Unanswered { .. } => code::TIMED_OUT,
        LinkError::Book(_) | LinkError::Exposed { .. } => code::LOCAL,
        LinkError::Proxy { .. } => code::ROUTE,
        LinkError::Gateway { source, .. } => code_of(source),
        LinkError::GatewayRefused { .. } => code::ROUTE,
        LinkError::Elsewhere(explained) => explained.code,
        LinkError::ListenRefused { .. } => code::SESSION,
    }
}

fn with_trust(mut failure: Failure, trust: &TrustFailure) -> Failure {
    failure.details = trust.details();
    match trust {
        TrustFailure::Changed { machine, presented, .. } => failure
            .detail("Either the machine was set up anew, or something stands between you and it.")
            .hint(format!("ask on the machine's own console which of the two {}s it has", presented.noun().trim_start_matches("host ")))
            .hint(format!(
                "if it is the new one: lantern trust accept {machine} --expect {}",
                presented.fingerprint()
            )),
        TrustFailure::NoOneToAsk { machine, presented, .. } => {
            failure.hint("compare that with what the machine's own console says").hint(format!(
                "if it is the same: lantern trust accept {machine} --expect {}",
                presented.fingerprint()
            ))
        }
        TrustFailure::NotExpected { .. } => failure
            .hint("this may be another machine, or something between you and it; nothing was sent to it"),
        TrustFailure::KnownOnly { machine, presented, .. } => {
            failure.hint("compare that with what the machine's own console says").hint(format!(
                "if it is the same: lantern trust accept {machine} --expect {}",
                presented.fingerprint()
            ))
        }
        TrustFailure::Revoked { machine, presented, .. } => failure
            .hint(format!("give {machine} a new {} on its own console; this one must not be used any more", presented.noun()))
            .hint("`lantern trust revoked` lists what was revoked and why"),
        TrustFailure::NotInDns { machine, .. } => failure
            .detail("Either its records are out of date, or something stands between you and it.")
            .hint(format!("compare with the machine's own console; `lantern trust accept {machine} --expect …` overrides DNS")),
        TrustFailure::Rejected { .. } => failure,
    }
}
