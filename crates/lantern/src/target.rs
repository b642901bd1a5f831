//! From what was typed to what to connect to: name or one-off, options, book and defaults.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use lantern_book::{Destination, Home, MachineBook, TrustStore};
use lantern_keys::Fingerprint;
use lantern_link::{ConnectRequest, KeyChoice, Link, LinkError, TimeLimits, connect, our_offer};
use tokio::signal::unix::SignalKind;

use crate::ask::TerminalAsk;
use crate::commands::watch;
use crate::failure::{Failure, code};
use crate::keeper;
use crate::secret_source;
use crate::settings::local_user;

/// Options of every command that connects.
#[derive(Debug, Args)]
pub(crate) struct ConnectArgs {
    /// The user to log in as, instead of the book's
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// The key to offer: a name in the ring, or a file (a path with a `/`)
    #[arg(long, value_name = "NAME|FILE")]
    pub(crate) key: Option<String>,
    /// Offer no key
    #[arg(long, conflicts_with = "key")]
    pub(crate) no_key: bool,
    /// Ask neither the keeper nor another agent to sign
    #[arg(long)]
    pub(crate) no_agent: bool,
    /// At first contact, trust the host key that has this fingerprint and no other
    #[arg(long, value_name = "FINGERPRINT")]
    pub(crate) expect: Option<Fingerprint>,
    /// Read the password from this file descriptor
    #[arg(long, value_name = "N")]
    pub(crate) password_fd: Option<u32>,
    /// Read the key's passphrase from this file descriptor
    #[arg(long, value_name = "N")]
    pub(crate) passphrase_fd: Option<u32>,
    /// Never ask anything
    #[arg(long)]
    pub(crate) no_questions: bool,
    /// Longest wait for an address to answer, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 10, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) connect_limit: u64,
    /// Longest wait for each answer up to login, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) login_limit: u64,
}

impl ConnectArgs {
    /// Whom to ask, with the secrets that were handed over.
    ///
    /// # Errors
    /// A descriptor that cannot be read.
    pub(crate) fn ask(&self) -> Result<TerminalAsk, Failure> {
        let secret = |fd: Option<u32>| fd.map(secret_source::from_descriptor).transpose();
        Ok(TerminalAsk::new(!self.no_questions, secret(self.password_fd)?, secret(self.passphrase_fd)?))
    }

    fn limits(&self) -> TimeLimits {
        TimeLimits {
            connect: Duration::from_secs(self.connect_limit),
            handshake: Duration::from_secs(self.login_limit),
            ..TimeLimits::default()
        }
    }
}

/// A machine with every setting resolved.
#[derive(Debug)]
pub(crate) struct Target {
    /// Its name in messages and in the trust store.
    pub(crate) name: String,
    /// Where to dial.
    pub(crate) address: String,
    /// And which port.
    pub(crate) port: u16,
    /// The user, when the book or the one-off says.
    pub(crate) user: Option<String>,
    /// The key, when the book says.
    pub(crate) key: Option<String>,
    /// Whether the book says that it may ask the agent for signatures.
    pub(crate) forward_agent: bool,
}

impl Target {
    /// Looks up what was typed.
    ///
    /// # Errors
    /// A name that is not in the book, or a one-off that makes no sense.
    pub(crate) fn resolve(home: &Home, typed: &str) -> Result<Self, Failure> {
        match Destination::parse(typed)? {
            Destination::Named(name) => {
                let book = MachineBook::load(home)?;
                let machine = book.get(&name)?;
                Ok(Self {
                    address: machine.address.clone(),
                    port: machine.effective_port(),
                    user: machine.user.clone(),
                    key: machine.key.clone(),
                    forward_agent: machine.forward_agent,
                    name,
                })
            }
            Destination::OneOff(one_off) => {
                let place = one_off.place();
                // Where a machine of the trust store was met last, its record counts.
                let trust = TrustStore::load(home)?;
                let name = trust.machine_at(&place).map_or(place.clone(), str::to_owned);
                Ok(Self {
                    name,
                    address: one_off.address,
                    port: one_off.port,
                    user: one_off.user,
                    key: None,
                    forward_agent: false,
                })
            }
        }
    }

    /// `address:port`.
    pub(crate) fn place(&self) -> String {
        lantern_book::place(&self.address, self.port)
    }

    /// The user to log in as: by option, book or this computer.
    ///
    /// # Errors
    /// When nothing says.
    pub(crate) fn user(&self, args: &ConnectArgs) -> Result<String, Failure> {
        args.user.clone().or_else(|| self.user.clone()).or_else(local_user).ok_or_else(|| {
            Failure::new(code::USAGE, "no user to log in as").hint("say `--user NAME` or set it in the book")
        })
    }

    /// The keys to offer: by option or book, else all of the ring.
    pub(crate) fn keys(&self, args: &ConnectArgs) -> KeyChoice {
        match args.key.as_ref().or(self.key.as_ref()) {
            _ if args.no_key => KeyChoice::Nothing,
            Some(path) if path.contains('/') => KeyChoice::File(PathBuf::from(path)),
            Some(name) => KeyChoice::Named(name.clone()),
            None => KeyChoice::Ring,
        }
    }

    /// Connects and logs in, asking at the terminal as far as the options allow.
    ///
    /// # Errors
    /// The step that failed.
    pub(crate) async fn connect(&self, home: &Home, args: &ConnectArgs) -> Result<Link, Failure> {
        let mut ask = args.ask()?;
        let outcome = self.try_connect(home, args, &mut ask, self.keys(args), false).await;
        outcome.map_err(ConnectFailure::into_failure)
    }

    /// Connects with these keys and no others; with `keys_only` without passwords and questions of the machine.
    ///
    /// # Errors
    /// The step that failed.
    pub(crate) async fn try_connect(
        &self,
        home: &Home,
        args: &ConnectArgs,
        ask: &mut TerminalAsk,
        keys: KeyChoice,
        keys_only: bool,
    ) -> Result<Link, ConnectFailure> {
        let user = self.user(args)?;
        let request = ConnectRequest {
            home,
            machine: &self.name,
            address: &self.address,
            port: self.port,
            user: &user,
            keys,
            keys_only,
            agents: if args.no_agent { Vec::new() } else { keeper::agents(home) },
            expect: args.expect,
            limits: args.limits(),
            offer: our_offer(),
        };
        let mut interrupts = watch(SignalKind::interrupt())?;
        let outcome = tokio::select! {
            outcome = connect(request, ask) => Some(outcome),
            _ = interrupts.recv() => None,
        };
        match outcome {
            Some(outcome) if !ask.was_interrupted() => Ok(outcome?),
            _ => Err(Failure::new(code::INTERRUPTED, "interrupted").into()),
        }
    }
}

/// Why there is no connection: told by the login, or something before it.
#[derive(Debug)]
pub(crate) enum ConnectFailure {
    /// The connection or the login.
    Link(LinkError),
    /// Anything else.
    Other(Failure),
}

impl ConnectFailure {
    /// As it is told.
    pub(crate) fn into_failure(self) -> Failure {
        match self {
            Self::Link(error) => error.into(),
            Self::Other(failure) => failure,
        }
    }
}

impl From<LinkError> for ConnectFailure {
    fn from(error: LinkError) -> Self {
        Self::Link(error)
    }
}

impl From<Failure> for ConnectFailure {
    fn from(failure: Failure) -> Self {
        Self::Other(failure)
    }
}
