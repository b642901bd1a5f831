//! Arguments of `lantern key show`.

use clap::Args;

/// Arguments of `key show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key show harbour
  lantern key show harbour --line            the public half in one line, to paste into a console
  lantern key show harbour --copy            the same, into the terminal's clipboard
  lantern key show /etc/ssh/ssh_host_ed25519_key.pub  a host key, to compare at first contact
  lantern key show host.pub --sshfp lamp-01.example.    its record for a zone file (RFC 4255)")]
pub(crate) struct ShowArgs {
    /// A name in the ring, a file, or - for standard input
    #[arg(add = crate::cli::completing::keys_and_files())]
    pub(crate) key: String,
    /// Print the public half in one line and nothing else
    #[arg(long)]
    pub(crate) line: bool,
    /// Draw the public half's line as a QR code, for a telephone to read off the screen
    #[arg(long, conflicts_with_all = ["line", "sshfp"])]
    pub(crate) qr: bool,
    /// Put the public half's line into the terminal's clipboard (where the terminal takes that: OSC 52)
    #[arg(long, conflicts_with_all = ["qr", "sshfp"])]
    pub(crate) copy: bool,
    /// Print the SSHFP record of a machine that has it as host key, and nothing else
    #[arg(long, value_name = "MACHINE", conflicts_with = "line")]
    pub(crate) sshfp: Option<String>,
}
