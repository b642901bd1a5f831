//! Arguments of `lantern machine add`.

use clap::Args;

/// Arguments of `machine add`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine add lamp-01 192.0.2.7 --user keeper --key harbour --tag coast
  lantern machine add foghorn keeper@foghorn.example:2222 gateway=harbour-gate
  lantern machine add tide-gauge ssh://keeper@[2001:db8::7]:2222
  lantern machine add lamp-07 --paste 'ssh -i lamp.pem -p 2222 keeper@192.0.2.17'
  lantern machine add lamp-08 --paste - < from-the-console.txt
  lantern machine add lamp-08 --paste -                the line of `machine prepare`, pasted: trusted too
  lantern machine add lamp-09                          asks for what is missing

FIELD=VALUE sets any field that `lantern machine set --fields` lists.")]
pub(crate) struct AddArgs {
    /// Its name in the book
    pub(crate) name: String,
    /// Where it is: an address, `user@address:port` or `ssh://user@address:port`
    pub(crate) address: Option<String>,
    /// More settings
    #[arg(value_name = "FIELD=VALUE", add = crate::cli::completing::changes())]
    pub(crate) settings: Vec<String>,
    /// Understand this text (a URI, a connect line, a console's page, a prepared machine's line); - reads
    /// standard input
    #[arg(long, value_name = "TEXT", conflicts_with = "address")]
    pub(crate) paste: Option<String>,
    /// The port
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
    /// The user to log in as
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// The image it was made from: says the user when nothing else does
    #[arg(long, value_name = "WORD", add = crate::cli::completing::images())]
    pub(crate) image: Option<String>,
    /// The key of the ring to offer
    #[arg(long, value_name = "NAME", add = crate::cli::completing::keys())]
    pub(crate) key: Option<String>,
    /// The machine to go through; several times for several, the nearest first
    #[arg(long = "gateway", value_name = "MACHINE", add = crate::cli::completing::machines())]
    pub(crate) gateways: Vec<String>,
    /// A profile to take over; may be given several times
    #[arg(long = "profile", value_name = "NAME", add = crate::cli::completing::profiles())]
    pub(crate) profiles: Vec<String>,
    /// Let it ask the agent for signatures during a session; each one wants your yes
    #[arg(long)]
    pub(crate) forward_agent: bool,
    /// A word to select it by; may be given several times
    #[arg(long = "tag", value_name = "WORD", add = crate::cli::completing::tags())]
    pub(crate) tags: Vec<String>,
    /// Free words
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
    /// Save what was understood of a pasted text without asking
    #[arg(long, requires = "paste")]
    pub(crate) yes: bool,
}
