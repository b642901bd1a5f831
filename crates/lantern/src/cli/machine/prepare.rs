//! Arguments of `lantern machine prepare`.

use std::net::Ipv4Addr;

use clap::{Args, ValueEnum};
use lantern_operations::prepare::{Source, System};

use crate::cli::connect::ConnectArgs;
use crate::cli::secret_source::SecretSource;

/// Arguments of `machine prepare`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine prepare lamp-01 --system debian > lamp-01.sh
  lantern machine prepare lamp-07 --system redhat --user keeper --key harbour --from 192.0.2.0/24
  lantern machine prepare tide-gauge --system windows --copy
  lantern machine prepare tide-gauge --system windows --certificate tide-gauge
  lantern machine prepare lamp-01 --system debian --address 192.0.2.7/24 --router 192.0.2.1
  lantern machine prepare lamp-01 --system debian --passwords-off
  lantern machine prepare lamp-01 --system debian --undo

The script goes to standard output, to be read and then pasted on the machine's own console as
administrator. It ends with one line, which `lantern trust accept` and `lantern machine add` take
behind `--paste`: then the machine is known without a fingerprint compared by eye.")]
pub(crate) struct PrepareArgs {
    /// The machine: in the book, or one that is to be
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) name: String,
    /// What it runs
    #[arg(long, value_enum)]
    pub(crate) system: SystemArg,
    /// By what Windows is to be reached [default: the book's, else winrm]
    #[arg(long, value_enum)]
    pub(crate) over: Option<OverArg>,
    /// Have it present this certificate, which was made here, instead of one that it makes: lantern certificate issue
    #[arg(long, value_name = "NAME", add = crate::cli::completing::certificates(), conflicts_with_all = ["passwords_off", "undo"])]
    pub(crate) certificate: Option<String>,
    /// Seal that certificate's key with what Windows Server 2016 can open: triple DES and SHA-1, which are weak
    #[arg(long, requires = "certificate")]
    pub(crate) old_ciphers: bool,
    /// Read the passphrase that seals it from here, which the console then asks for: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE", requires = "certificate")]
    pub(crate) new_passphrase_from: Option<SecretSource>,
    /// Who may reach it: addresses and networks, comma-separated [default: the address by which it sees this
    /// computer]
    #[arg(long, value_name = "ADDRESS", value_delimiter = ',', value_parser = source)]
    pub(crate) from: Vec<Source>,
    /// An address that it keeps from then on, with the length of its network: 192.0.2.7/24
    #[arg(long, value_name = "ADDRESS/LENGTH", value_parser = fixed)]
    pub(crate) address: Option<(Ipv4Addr, u8)>,
    /// Its way out of that network [default: the one it has]
    #[arg(long, value_name = "ADDRESS", requires = "address")]
    pub(crate) router: Option<Ipv4Addr>,
    /// Whom it asks for names; may be given several times [default: as now]
    #[arg(long = "resolver", value_name = "ADDRESS", requires = "address")]
    pub(crate) resolvers: Vec<Ipv4Addr>,
    /// Print the second script: no login by password any more. Logs in by key first, and leaves its proof there
    #[arg(long, conflicts_with_all = ["address", "undo"])]
    pub(crate) passwords_off: bool,
    /// Print the script that takes back what was done
    #[arg(long, conflicts_with = "address")]
    pub(crate) undo: bool,
    /// Put the script into the terminal's clipboard (where the terminal takes that: OSC 52)
    #[arg(long, conflicts_with = "json")]
    pub(crate) copy: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// What it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SystemArg {
    /// Windows 10, Windows Server 2016 and later
    Windows,
    /// Debian, Ubuntu and their kin
    Debian,
    /// Red Hat, Fedora and their kin
    Redhat,
    /// SUSE
    Suse,
}

impl From<SystemArg> for System {
    fn from(system: SystemArg) -> Self {
        match system {
            SystemArg::Windows => Self::Windows,
            SystemArg::Debian => Self::Debian,
            SystemArg::Redhat => Self::RedHat,
            SystemArg::Suse => Self::Suse,
        }
    }
}

/// By what it is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum OverArg {
    /// SSH
    Ssh,
    /// WinRM over TLS
    Winrm,
}

fn source(text: &str) -> Result<Source, String> {
    text.parse::<Source>().map_err(|error| error.to_string())
}

fn fixed(text: &str) -> Result<(Ipv4Addr, u8), String> {
    let rule = "must be an IPv4 address with the length of its network, like 192.0.2.7/24";
    let (address, length) = text.split_once('/').ok_or(rule)?;
    let address: Ipv4Addr = address.parse().map_err(|_| rule)?;
    let length: u8 = length.parse().ok().filter(|length| (1..=31).contains(length)).ok_or(rule)?;
    match address.is_unspecified() || address.is_loopback() || address.is_multicast() {
        true => Err("is no address that a machine can have".into()),
        false => Ok((address, length)),
    }
}
