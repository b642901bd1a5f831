//! Arguments of `lantern key convert`.

use std::path::PathBuf;

use clap::Args;

use crate::cli::secret_source::SecretSource;
use lantern_keys::container::{PrivateContainer, PublicContainer};

use crate::cli::open::OpenArgs;

/// Arguments of `key convert`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key convert console.pem --to openssh-key-v1 --out lamp-01.key
  lantern key convert harbour --to pkcs8-pem --out harbour.pem    for a library that wants PKCS#8
  lantern key convert harbour --public --to rfc4716                 the public half, printed
  lantern key convert old.pem --to pkcs8-der --out new.der --new-passphrase

Private containers: openssh-key-v1, pkcs8-pem, pkcs8-der, pkcs1-pem and pkcs1-der (RSA),
sec1-pem and sec1-der (ECDSA). Public ones: line, rfc4716, spki-pem, spki-der, pkcs1-public-
pem (RSA), jwk. The passphrase stays the same unless told otherwise. No file is written over
without --replace.")]
pub(crate) struct ConvertArgs {
    /// A name in the ring, a file in any container, or - for standard input
    #[arg(add = crate::cli::completing::keys_and_files())]
    pub(crate) key: String,
    /// The container to write [default with --public: line]
    #[arg(long, value_name = "CONTAINER", value_parser = target, required_unless_present = "public", add = crate::cli::completing::containers())]
    pub(crate) to: Option<Container>,
    /// Where to write it; - for standard output [default for public halves: -]
    #[arg(long, value_name = "PATH")]
    pub(crate) out: Option<PathBuf>,
    /// Write the public half only
    #[arg(long)]
    pub(crate) public: bool,
    /// Write over a file that is there
    #[arg(long)]
    pub(crate) replace: bool,
    /// Of several keys, take this one, counted from 1
    #[arg(long, value_name = "NUMBER")]
    pub(crate) pick: Option<usize>,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
    /// Write it without a passphrase
    #[arg(long)]
    pub(crate) plain: bool,
    /// Ask for another passphrase
    #[arg(long, conflicts_with = "plain")]
    pub(crate) new_passphrase: bool,
    /// Read another passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["plain", "new_passphrase"])]
    pub(crate) new_passphrase_from: Option<SecretSource>,
    /// Cipher: for PKCS#8 aes256-cbc, aes192-cbc, aes128-cbc; for openssh-key-v1 these, -ctr, -gcm, chacha20-poly1305
    #[arg(long, value_name = "NAME")]
    pub(crate) cipher: Option<String>,
    /// Key derivation of PKCS#8: pbkdf2-sha256, pbkdf2-sha384, pbkdf2-sha512, scrypt
    #[arg(long, value_name = "NAME")]
    pub(crate) derivation: Option<String>,
    /// Cost of the derivation: rounds of bcrypt, iterations of PBKDF2, or the power of two of scrypt
    #[arg(long, value_name = "NUMBER")]
    pub(crate) cost: Option<u32>,
}

/// What `--to` names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Container {
    Private(PrivateContainer),
    Public(PublicContainer),
}

fn target(name: &str) -> Result<Container, String> {
    let private = PrivateContainer::NAMES.into_iter().find(|(known, _)| *known == name);
    let public = PublicContainer::NAMES.into_iter().find(|(known, _)| *known == name);
    private
        .map(|(_, container)| Container::Private(container))
        .or(public.map(|(_, container)| Container::Public(container)))
        .ok_or_else(|| {
            let names = PrivateContainer::NAMES.map(|(name, _)| name).into_iter();
            let names: Vec<&str> = names.chain(PublicContainer::NAMES.map(|(name, _)| name)).collect();
            format!("one of {}", names.join(", "))
        })
}
