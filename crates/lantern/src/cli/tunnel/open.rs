//! Arguments of `lantern tunnel open`.

use std::ffi::OsString;

use clap::{ArgGroup, Args};

use crate::cli::connect::ConnectArgs;
use crate::cli::secret_source::SecretSource;

/// Where a tunnel listens and leads.
#[derive(Debug, Clone, Default, Args)]
#[command(group = ArgGroup::new("kind").args(["local", "remote", "dynamic"]))]
pub(crate) struct FormArgs {
    /// Listen here, connect from the machine to --to: [ADDRESS:]PORT or unix:PATH; port 0 takes a free one
    #[arg(long, value_name = "LISTEN")]
    pub(crate) local: Option<String>,
    /// Listen on the machine, connect from here to --to
    #[arg(long, value_name = "LISTEN")]
    pub(crate) remote: Option<String>,
    /// Listen here for programs that say where they want to go: SOCKS 5, SOCKS 4a or HTTP CONNECT
    #[arg(long, value_name = "LISTEN", conflicts_with = "to")]
    pub(crate) dynamic: Option<String>,
    /// Where a local or remote tunnel leads: HOST:PORT or unix:PATH
    #[arg(long, value_name = "PLACE")]
    pub(crate) to: Option<String>,
}

/// Arguments of `tunnel open`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel open signal-hut                   all tunnels that the book has for it
  lantern tunnel open signal-hut console --browse  one, and its page in the browser
  lantern tunnel open lamp-01 --local 8443 --to 127.0.0.1:443
  lantern tunnel open lamp-01 --dynamic 1080       a SOCKS and HTTP proxy through the machine
  lantern tunnel open lamp-01 --remote 8080 --to 127.0.0.1:3000
  lantern tunnel open signal-hut --keep            and go on: the keeper holds them
  lantern tunnel open signal-hut console -- curl -k https://127.0.0.1:8443/

They stay open until Ctrl-C, and a link that is lost is made again: callers are held meanwhile
and then turned away. A machine that proves to be another one, or lets nobody in, ends the
trying. Listening is for this computer (or that machine) alone unless --wide or the book says
otherwise.

With --keep they outlive this terminal: `lantern tunnel list` shows them, and `lantern tunnel
close` ends them. Questions are asked here, once; later the keeper logs in with the keys that it
holds, and stops where that is not enough.

A command behind -- runs here while the tunnels are up: LANTERN_TUNNEL_CONSOLE=127.0.0.1:PORT
is in its environment for a tunnel called console. Its exit status is passed on.")]
pub(crate) struct OpenTunnelArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) machine: String,
    /// Tunnels that the book has for it; none: all. With --local, --remote or --dynamic: what to call that one
    #[arg(value_name = "NAME", add = crate::cli::completing::tunnels())]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) form: FormArgs,
    /// Let it listen for others than this computer, or that machine
    #[arg(long)]
    pub(crate) wide: bool,
    /// How long callers wait while the link is down, in seconds [default: the book's, else 30]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(0..=lantern_book::MAX_HOLD))]
    pub(crate) hold: Option<u64>,
    /// Stop trying when the link has been away for this time: 8h, 30m, 90s [default: never]
    #[arg(long, value_name = "AFTER", value_parser = crate::cli::keeper::lifetime)]
    pub(crate) give_up: Option<u32>,
    /// Let nobody use a dynamic tunnel who does not log in as this user
    #[arg(long, value_name = "USER", requires = "login_password_from")]
    pub(crate) login: Option<String>,
    /// Read the password for --login from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE", requires = "login")]
    pub(crate) login_password_from: Option<SecretSource>,
    /// Hand them to the keeper, which keeps them up until they are closed; it is started where it does not run
    #[arg(long, conflicts_with_all = ["login", "then", "command"])]
    pub(crate) keep: bool,
    /// Hand them to the keeper, and fail when not every one of them carries
    #[arg(long, conflicts_with_all = ["login", "then", "command"])]
    pub(crate) wait: bool,
    /// Hand them to the keeper, and note in the book that it opens them whenever it starts
    #[arg(long, conflicts_with_all = ["login", "then", "command", "kind"])]
    pub(crate) at_start: bool,
    /// Don't find out what is behind them
    #[arg(long)]
    pub(crate) no_probe: bool,
    /// Open the page behind the tunnel in a browser
    #[arg(long, conflicts_with = "no_probe")]
    pub(crate) browse: bool,
    /// Run the tunnel's own command once it carries, and close with it; --then=COMMAND runs this one
    #[arg(long, value_name = "COMMAND", num_args = 0..=1, require_equals = true, default_missing_value = "", conflicts_with = "command")]
    pub(crate) then: Option<String>,
    /// A command that runs here while they are up
    #[arg(last = true, value_name = "COMMAND")]
    pub(crate) command: Vec<OsString>,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
