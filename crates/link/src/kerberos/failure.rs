//! Why there is no ticket for a machine: one kind for each thing that has another remedy.

use lantern_kerberos::{KerberosError, PrincipalError, Refusal, RefusalKind};

/// What was met.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum KerberosFailure {
    /// The machine was dialed by an address.
    #[error("a bare IP address has no Kerberos: tickets are for names")]
    Address {
        /// The address.
        host: String,
    },
    /// The name of its service is none.
    #[error("`{name}` is no name of a service")]
    ServiceName {
        /// The name.
        name: String,
        /// Why.
        source: PrincipalError,
    },
    /// The user is one of the machine's own.
    #[error("{user} is a user of the machine itself, whom no realm knows")]
    OwnUser {
        /// The user.
        user: String,
    },
    /// Nobody says in which realm the user is.
    #[error("nothing here says which realm {user} is in")]
    NoRealm {
        /// The user.
        user: String,
    },
    /// There is no ticket cache, or no ticket of a login in it.
    #[error("{cache} has no ticket of a login")]
    NoTicket {
        /// The cache.
        cache: String,
    },
    /// The ticket has ended.
    #[error("the ticket of {owner} in {cache} has ended")]
    Ended {
        /// The cache.
        cache: String,
        /// Whose it is.
        owner: String,
        /// When, in seconds since 1970.
        ended: i64,
    },
    /// The ticket is another user's.
    #[error("the ticket in {cache} is one of {owner}, and the login is as {user}")]
    OtherUser {
        /// The cache.
        cache: String,
        /// Whose it is.
        owner: String,
        /// Who logs in.
        user: String,
    },
    /// Tickets are kept where they are not read.
    #[error("tickets are kept in a cache of the kind {kind} ({cache}), and only FILE, DIR and KCM are read")]
    CacheKind {
        /// The cache.
        cache: String,
        /// Its kind.
        kind: String,
    },
    /// The cache cannot be read.
    #[error("the ticket cache {path} cannot be used: {why}")]
    Unreadable {
        /// The file.
        path: String,
        /// Why, in words.
        why: String,
    },
    /// Nobody says where the realm's centres are.
    #[error("nothing says where the key distribution centres of {realm} are")]
    NoCentre {
        /// The realm.
        realm: String,
    },
    /// None of the centres answers.
    #[error("no key distribution centre of {realm} answers: {}", .tried.join("; "))]
    Unreached {
        /// The realm.
        realm: String,
        /// Where it was tried, and what came of it.
        tried: Vec<String>,
    },
    /// A centre was shown what proves the password, and nobody knows what became of that.
    #[error(
        "the key distribution centre of {realm} was shown the proof of the password, and said nothing: {why}"
    )]
    Unheard {
        /// The realm.
        realm: String,
        /// Why, in words.
        why: String,
    },
    /// A centre refused.
    #[error("the key distribution centre of {realm} refused {what}: {source}")]
    Refused {
        /// The realm.
        realm: String,
        /// What it was asked for.
        what: String,
        /// What it said.
        source: Box<Refusal>,
        /// How far its clock is ahead, in seconds, where that is much.
        clock: Option<i64>,
    },
    /// A centre, or what answers for it, does not do what it should.
    #[error("the key distribution centre of {realm} was asked for {what}: {source}")]
    Centre {
        /// The realm.
        realm: String,
        /// What it was asked for.
        what: String,
        /// Why.
        source: KerberosError,
    },
    /// Realms refer to each other without an end.
    #[error("realms refer to each other and not to one that knows {service}: {}", .passed.join(", "))]
    Circle {
        /// The service.
        service: String,
        /// The realms that were asked.
        passed: Vec<String>,
    },
    /// The machine refused the ticket.
    #[error("the machine refused the ticket for {service}: {source}")]
    Machine {
        /// The service.
        service: String,
        /// What it said.
        source: KerberosError,
    },
}

impl KerberosFailure {
    /// Whether a centre refused this password, or the user altogether: what was typed is not to be tried elsewhere.
    pub fn is_refusal(&self) -> bool {
        match self {
            Self::Refused { source, .. } => matches!(
                source.kind,
                RefusalKind::WrongPassword | RefusalKind::AccountLocked | RefusalKind::PasswordEnded
            ),
            Self::Centre { source, .. } => *source == KerberosError::WrongPassword,
            _ => false,
        }
    }

    /// Whether what was typed must not be tried in another way: it was refused, or may have been counted.
    pub fn is_last_try(&self) -> bool {
        self.is_refusal() || matches!(self, Self::Unheard { .. })
    }

    /// Whether nothing else was to be expected: where no realm is set up, and nobody has a ticket.
    pub fn is_expected(&self) -> bool {
        matches!(self, Self::OwnUser { .. } | Self::NoRealm { .. })
    }
}
