//! Arguments of `lantern certificate`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use lantern_keys::KeyAlgorithm;

use crate::cli::connect::ConnectArgs;
use crate::cli::open::OpenArgs;
use crate::cli::secret_source::SecretSource;

/// Certificates of TLS.
#[derive(Debug, Subcommand)]
pub(crate) enum CertificateCommand {
    /// Show what certificates say and what is wrong with them: of a file, of the store, or of a live service
    Show(ShowArgs),
    /// Make an authority for your own machines
    NewAuthority(NewAuthorityArgs),
    /// Make a certificate for a machine, or for a user who logs in with it
    Issue(IssueArgs),
    /// Make a certificate anew, for the same and with the same key
    Renew(RenewArgs),
    /// Write a certificate for other programs: PKCS#12, PEM or DER
    Export(ExportArgs),
    /// All that this computer made or trusts, soonest to end first
    Audit(AuditArgs),
}

/// Arguments of `certificate show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate show tide-gauge               what was made here, or what the machine presents
  lantern certificate show ./from-the-console.pem
  lantern certificate show gauge.p12 --passphrase-from fd:3 3< FILE
  lantern certificate show 192.0.2.9:443            any service that speaks TLS")]
pub(crate) struct ShowArgs {
    /// A certificate made here, a file, a machine, or `address:port`
    #[arg(value_name = "NAME|FILE|MACHINE", add = crate::cli::completing::certificates_and_files())]
    pub(crate) what: String,
    /// Whom it is to be for: a name or an address
    #[arg(long, value_name = "NAME")]
    pub(crate) for_name: Option<String>,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// How a key is made or found.
#[derive(Debug, Args)]
pub(crate) struct KeyArgs {
    /// A key of the ring, instead of a new one
    #[arg(long, value_name = "NAME", add = crate::cli::completing::keys())]
    pub(crate) key: Option<String>,
    /// Algorithm of a new key; ecdsa-p256 and rsa-3072 are taken everywhere
    #[arg(long, value_name = "ALGORITHM", default_value = "ecdsa-p256", value_parser = crate::cli::key::new::algorithm, add = crate::cli::completing::algorithms())]
    pub(crate) algorithm: KeyAlgorithm,
    /// Make a new key without a passphrase: whoever reads the file can use it
    #[arg(long, conflicts_with = "new_passphrase_from")]
    pub(crate) plain: bool,
    /// Read the passphrase of a new key from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) new_passphrase_from: Option<SecretSource>,
}

/// Arguments of `certificate new-authority`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate new-authority house --for @windows
  lantern certificate new-authority house --for tide-gauge,chart-room --constrain

It is believed about the machines of --for, and about each that it signs for. Nothing goes
into this system's store. Its key stays in the ring, under a passphrase.")]
pub(crate) struct NewAuthorityArgs {
    /// Its name
    pub(crate) name: String,
    /// Machines about which it is believed: names, globs, @tags, comma-separated
    #[arg(long = "for", value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) machines: Vec<String>,
    /// Let it vouch for the names and addresses that these machines have now, and for no others
    #[arg(long, requires = "machines")]
    pub(crate) constrain: bool,
    /// How many days it lasts
    #[arg(long, value_name = "NUMBER", default_value_t = 1826, value_parser = clap::value_parser!(u32).range(1..=7305))]
    pub(crate) days: u32,
    #[command(flatten)]
    pub(crate) key: KeyArgs,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// Arguments of `certificate issue`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate issue tide-gauge                      names from the book, its key in the ring
  lantern certificate issue tide-gauge --request gauge.csr  its key never leaves the machine
  lantern certificate issue --for-user warden               to log in with, instead of a password
  lantern certificate issue chart-room --authority house --also charts.example")]
pub(crate) struct IssueArgs {
    /// The machine
    #[arg(required_unless_present = "for_user", add = crate::cli::completing::machines())]
    pub(crate) machine: Option<String>,
    /// The user: a name, or `user@realm`
    #[arg(long, value_name = "NAME", conflicts_with = "machine")]
    pub(crate) for_user: Option<String>,
    /// What to call the certificate [default: as the machine or the user]
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Who signs it [default: the only authority]
    #[arg(long, value_name = "NAME", add = crate::cli::completing::certificates())]
    pub(crate) authority: Option<String>,
    /// A request that the machine made (PKCS#10, in PEM or DER): names in it count for nothing
    #[arg(long, value_name = "FILE", conflicts_with_all = ["key", "plain", "new_passphrase_from"])]
    pub(crate) request: Option<PathBuf>,
    /// One more name or address that it is for; may be given several times
    #[arg(long, value_name = "NAME", conflicts_with = "for_user")]
    pub(crate) also: Vec<String>,
    /// How many days it lasts
    #[arg(long, value_name = "NUMBER", default_value_t = 365, value_parser = clap::value_parser!(u32).range(1..=825))]
    pub(crate) days: u32,
    #[command(flatten)]
    pub(crate) key: KeyArgs,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// Arguments of `certificate renew`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate renew tide-gauge
  lantern certificate renew chart-room --request charts.csr")]
pub(crate) struct RenewArgs {
    /// The certificate
    #[arg(add = crate::cli::completing::certificates())]
    pub(crate) name: String,
    /// A new request of the machine, where its key is not here
    #[arg(long, value_name = "FILE")]
    pub(crate) request: Option<PathBuf>,
    /// How many days it lasts
    #[arg(long, value_name = "NUMBER", default_value_t = 365, value_parser = clap::value_parser!(u32).range(1..=825))]
    pub(crate) days: u32,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// Arguments of `certificate export`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate export tide-gauge --to pkcs12 --out gauge.p12
  lantern certificate export house --to pem                 the authority, for other programs
  lantern certificate export tide-gauge --to pkcs12 --out old.p12 --old-ciphers

PKCS#12 has the key in it, sealed by a new passphrase; the others have certificates alone.")]
pub(crate) struct ExportArgs {
    /// The certificate
    #[arg(add = crate::cli::completing::certificates())]
    pub(crate) name: String,
    /// The form
    #[arg(long, value_enum)]
    pub(crate) to: ExportForm,
    /// Where to write it; - for standard output [default for pem: -]
    #[arg(long, value_name = "PATH")]
    pub(crate) out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long)]
    pub(crate) replace: bool,
    /// Seal PKCS#12 with what Windows Server 2016 and older can open: triple DES and SHA-1, which are weak
    #[arg(long)]
    pub(crate) old_ciphers: bool,
    /// Read the passphrase of the new file from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) new_passphrase_from: Option<SecretSource>,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// The form of an export.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportForm {
    /// The key and the certificates in one file, as Windows takes them
    Pkcs12,
    /// The certificates in armour
    Pem,
    /// The certificate alone
    Der,
}

/// Arguments of `certificate audit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern certificate audit
  lantern certificate audit --json

Its exit code is 1 when one ends within 30 days, has ended, is weak or was revoked.")]
pub(crate) struct AuditArgs {}
