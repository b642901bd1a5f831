//! Options of every command that connects.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;

use crate::cli::secret_source::SecretSource;
use lantern_book::Home;
use lantern_keys::Fingerprint;
use lantern_link::KeyChoice;
use lantern_operations::{LimitOptions, ReachOptions};

use crate::cli::settings::{agents, kerberos, local_user};

/// Under which its options stand in the help.
pub(crate) const HEADING: &str = "Connection";

/// Options of every command that connects. What they leave out, the book says.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = HEADING)]
pub(crate) struct ConnectArgs {
    /// The user to log in as, instead of the book's
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// The image it was made from: says the user when --user doesn't
    #[arg(long, value_name = "WORD", conflicts_with = "user", add = crate::cli::completing::images())]
    pub(crate) image: Option<String>,
    /// The key to offer: a name in the ring, or a file (a path with a `/`)
    #[arg(long, value_name = "NAME|FILE", add = crate::cli::completing::keys_and_files())]
    pub(crate) key: Option<String>,
    /// Offer no key
    #[arg(long, conflicts_with = "key")]
    pub(crate) no_key: bool,
    /// Use a key file that others on this computer may read, this once
    #[arg(long)]
    pub(crate) anyway: bool,
    /// Ask neither the keeper nor another agent to sign
    #[arg(long)]
    pub(crate) no_agent: bool,
    /// A machine to go through, instead of the book's; several times for several, the nearest first
    #[arg(long = "gateway", value_name = "MACHINE", add = crate::cli::completing::machines())]
    pub(crate) gateways: Vec<String>,
    /// The proxy to go through: http://user@address:port or socks5://user@address:port
    #[arg(long, value_name = "URI")]
    pub(crate) proxy: Option<String>,
    /// At first contact, trust the host key that has this fingerprint and no other
    #[arg(long, value_name = "FINGERPRINT")]
    pub(crate) expect: Option<Fingerprint>,
    /// Read the password from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) password_from: Option<SecretSource>,
    /// Read the key's passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) passphrase_from: Option<SecretSource>,
    /// Read the proxy's password from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) proxy_password_from: Option<SecretSource>,
    /// Make a connection of one's own, whatever the keeper holds
    #[arg(long)]
    pub(crate) no_share: bool,
    /// Never ask anything
    #[arg(long)]
    pub(crate) no_questions: bool,
    /// Longest wait for an address to answer, in seconds [default: the book's, else 10]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) connect_limit: Option<u64>,
    /// Longest wait for each answer until keys are agreed, in seconds [default: the book's, else 30]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) handshake_limit: Option<u64>,
    /// Longest wait for each answer while logging in, in seconds [default: the book's, else 60]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) login_limit: Option<u64>,
    /// Seconds without any answer until the link counts as dead; 0: never [default: the book's, else 60]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(0..=86_400))]
    pub(crate) dead_after: Option<u64>,
}

impl ConnectArgs {
    /// What the options say, with who we are here and which agents there are.
    pub(crate) fn reach(&self, home: &Home) -> ReachOptions {
        let seconds = |option: Option<u64>| option.map(Duration::from_secs);
        ReachOptions {
            user: self.user.clone(),
            image: self.image.clone(),
            keys: match &self.key {
                _ if self.no_key => Some(KeyChoice::Nothing),
                Some(path) if path.contains('/') => Some(KeyChoice::File(PathBuf::from(path))),
                Some(name) => Some(KeyChoice::Named(vec![name.clone()])),
                None => None,
            },
            addresses: Vec::new(),
            ring: None,
            even_exposed: self.anyway,
            gateways: self.gateways.clone(),
            proxy: self.proxy.clone(),
            expect: self.expect,
            limits: LimitOptions {
                connect: seconds(self.connect_limit),
                handshake: seconds(self.handshake_limit),
                login: seconds(self.login_limit),
                dead_after: seconds(self.dead_after),
            },
            agents: if self.no_agent { Vec::new() } else { agents(home) },
            forwards_agent: false,
            opens: lantern_link::Opens::Nothing,
            shares: None,
            local_user: local_user(),
            kerberos: kerberos(),
        }
    }

    /// The same for many machines, which share the key ring.
    pub(crate) fn reach_many(&self, home: &Home) -> ReachOptions {
        ReachOptions { ring: Some(std::sync::Arc::default()), ..self.reach(home) }
    }
}
