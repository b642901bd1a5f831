//! Why a machine that is spoken to by WinRM could not be used: one kind for each thing that has another remedy.

use lantern_kerberos::Refusal;
use lantern_winrm::WinrmError;
use lantern_winrm::ntlm::NtlmError;
use lantern_winrm::remoting::RemotingError;

use crate::kerberos::KerberosFailure;

/// What was met.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum WinrmFailure {
    /// It was asked for TLS and answered in something else.
    #[error("what answers at {place} does not speak TLS: it is the port of plain HTTP, or another service")]
    NotTls {
        /// Where.
        place: String,
    },
    /// It was asked in plain HTTP and answered in TLS.
    #[error("{place} wants TLS, and was asked in plain HTTP")]
    WantsTls {
        /// Where.
        place: String,
    },
    /// It hung up when it was greeted.
    #[error(
        "{place} took the connection and hung up at the first word of TLS: its listener has no certificate"
    )]
    NoCertificate {
        /// Where.
        place: String,
    },
    /// There is no version or cipher that both know.
    #[error("{place} and lantern have no version or cipher of TLS in common")]
    TlsNothingInCommon {
        /// Where.
        place: String,
    },
    /// TLS failed in another way.
    #[error("cannot set up TLS with {place}: {why}")]
    Tls {
        /// Where.
        place: String,
        /// What the library says.
        why: String,
    },
    /// The machine did not take our certificate, or wants one.
    #[error("{place} ended TLS over a client's certificate: {why}")]
    ClientCertificate {
        /// Where.
        place: String,
        /// What it says.
        why: String,
    },
    /// It was to know us by a certificate, and did not ask for one.
    #[error("{place} did not ask for a certificate when TLS was set up")]
    NotAskedForCertificate {
        /// Where.
        place: String,
    },
    /// Our own certificate cannot be used.
    #[error("the certificate in {file}, for {machine}, cannot be used: {why}")]
    OwnCertificate {
        /// The machine.
        machine: String,
        /// The file.
        file: String,
        /// Why.
        why: String,
    },
    /// What answers is no web server.
    #[error("what answers at {place} does not speak HTTP")]
    NotHttp {
        /// Where.
        place: String,
    },
    /// It wants us to go elsewhere.
    #[error("{place} answered with a redirect ({status}), which is never followed")]
    Redirect {
        /// Where.
        place: String,
        /// The status.
        status: u16,
    },
    /// A web server, but not this service.
    #[error("a web server answers at {place}, but nothing of WS-Management (status {status})")]
    NotWsman {
        /// Where.
        place: String,
        /// The status.
        status: u16,
    },
    /// The service is there and does not work.
    #[error("the service at {place} answered with status {status}")]
    Status {
        /// Where.
        place: String,
        /// The status.
        status: u16,
    },
    /// None of the ways to log in that it offers may be used.
    #[error("{machine} offers no way to log in that may be used: it offers {}", list(.offered))]
    NoLogin {
        /// The machine.
        machine: String,
        /// What it offers.
        offered: Vec<String>,
    },
    /// It did not take the user and the password.
    #[error("{} did not let {} in", .0.machine, .0.user)]
    Refused(Box<LoginRefused>),
    /// A password is wanted, and nobody is there to give it.
    #[error("{machine} wants a password for {user}, and there is nobody to ask")]
    NoPassword {
        /// The machine.
        machine: String,
        /// The user.
        user: String,
        /// Why there is no ticket instead, where there could be one.
        no_ticket: Option<Box<KerberosFailure>>,
    },
    /// Its messages of NTLM make no sense, or are too weak.
    #[error("cannot log in to {machine} by NTLM")]
    Ntlm {
        /// The machine.
        machine: String,
        #[source]
        /// Why.
        source: NtlmError,
    },
    /// There is no ticket for it, or it does not take it.
    #[error("cannot log in to {machine} by Kerberos")]
    Kerberos {
        /// The machine.
        machine: String,
        /// Why.
        #[source]
        source: Box<KerberosFailure>,
    },
    /// A message that should have been sealed was not, or does not open.
    #[error("{machine} answered in the clear, or with a message that was changed on the way")]
    Unsealed {
        /// The machine.
        machine: String,
    },
    /// It does not take sealed messages.
    #[error("{machine} wants its messages in the clear")]
    WantsClear {
        /// The machine.
        machine: String,
    },
    /// The machine refused what it was asked for, or said something that makes no sense.
    #[error("{machine} was asked for {what}")]
    Answer {
        /// The machine.
        machine: String,
        /// What it was asked for.
        what: &'static str,
        /// What it answered.
        #[source]
        source: WinrmError,
    },
    /// It answered with more than we read.
    #[error("{machine} answered with more than {limit} bytes, which is more than it was asked for")]
    TooLong {
        /// The machine.
        machine: String,
        /// What we read, in bytes.
        limit: usize,
    },
    /// It did not answer in time.
    #[error("{machine} did not answer when asked for {what}, within {seconds} s")]
    Unanswered {
        /// The machine.
        machine: String,
        /// What it was asked for.
        what: &'static str,
        /// How long we waited, in seconds.
        seconds: u64,
    },
    /// The connection broke, and with it what was under way.
    #[error("the connection to {machine} was lost: {why}")]
    Lost {
        /// The machine.
        machine: String,
        /// How, in words.
        why: String,
    },
    /// A command that cannot be handed over as it is meant.
    #[error("the command cannot be sent to {machine}: {why}")]
    Command {
        /// The machine.
        machine: String,
        /// Why.
        why: String,
    },
    /// Something of SSH that this protocol does not have.
    #[error("{machine} is spoken to by WinRM, which has no {what}")]
    HasNo {
        /// The machine.
        machine: String,
        /// What.
        what: &'static str,
    },
    /// A session of PowerShell is wanted of a machine that is spoken to by SSH.
    #[error("sessions of PowerShell go over WinRM, and {machine} is spoken to by SSH")]
    NotWinrm {
        /// The machine.
        machine: String,
    },
    /// What a session says makes no sense.
    #[error("the session on {machine} cannot go on: {source}")]
    Session {
        /// The machine.
        machine: String,
        /// What is wrong.
        source: RemotingError,
    },
    /// The machine ended the session.
    #[error("{machine} ended the session{}", because(.why))]
    SessionBroke {
        /// The machine.
        machine: String,
        /// What it says; it may say nothing.
        why: String,
    },
}

/// A login that was refused.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LoginRefused {
    /// The machine.
    pub machine: String,
    /// The user, as typed.
    pub user: String,
    /// How it was tried.
    pub by: &'static str,
    /// What the machine offers.
    pub offered: Vec<String>,
    /// What it said of itself: its name and its domain.
    pub computer: Option<(String, String)>,
    /// How far its clock is from ours, in seconds, where that is much.
    pub clock: Option<i64>,
    /// The service that a ticket was for.
    pub service: Option<String>,
    /// What it says of a ticket, where it does.
    pub why: Option<Box<Refusal>>,
}

impl WinrmFailure {
    /// Whether the user and the password were refused.
    pub fn is_refusal(&self) -> bool {
        match self {
            // Neither a ticket nor a certificate is a password: they may be shown again.
            Self::Refused(refused) => matches!(refused.by, "NTLM" | "Basic"),
            Self::Kerberos { source, .. } => source.is_refusal(),
            _ => false,
        }
    }

    /// The machine that it is about, where it was known by name.
    pub fn machine(&self) -> Option<&str> {
        match self {
            Self::NoLogin { machine, .. }
            | Self::NoPassword { machine, .. }
            | Self::Ntlm { machine, .. }
            | Self::Kerberos { machine, .. }
            | Self::Unsealed { machine }
            | Self::WantsClear { machine }
            | Self::Answer { machine, .. }
            | Self::TooLong { machine, .. }
            | Self::Unanswered { machine, .. }
            | Self::Lost { machine, .. }
            | Self::Command { machine, .. }
            | Self::OwnCertificate { machine, .. }
            | Self::HasNo { machine, .. }
            | Self::NotWinrm { machine }
            | Self::Session { machine, .. }
            | Self::SessionBroke { machine, .. } => Some(machine),
            Self::Refused(refused) => Some(&refused.machine),
            _ => None,
        }
    }
}

fn because(why: &str) -> String {
    match why.trim() {
        "" => String::new(),
        why => format!(": {why}"),
    }
}

fn list(offered: &[String]) -> String {
    match offered {
        [] => "none".into(),
        some => some.join(", "),
    }
}
