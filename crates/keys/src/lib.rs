//! Key pairs, the containers they are kept in, their fingerprints and signatures.
//!
//! No input or output, no clock: bytes come in, bytes go out, and the caller decides where they are kept.
//!
//! - [`PrivateKey`] signs; [`PublicKey`] verifies, and is what travels.
//! - [`container`] holds the file forms: how a private key is written down, with or without a passphrase.
//! - [`public_line`] is the one-line form of a public key, [`login_list`] a machine's list of such lines,
//!   [`sshfp`] its record in the domain name system.
//! - [`Fingerprint`] names a key in 43 characters, [`flags`] draws it for the eye.
//! - [`TlsCertificate`] is what a certificate of TLS says, and all that is wrong with it at once.
//! - [`wire`] reads and writes the data types of RFC 4251 §5, which key blobs and the protocol share.
//!
//! ```
//! use lantern_keys::{KeyAlgorithm, PrivateKey};
//!
//! let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@foghorn")?;
//! let signature = key.sign(b"the lamp is lit", key.signature_algorithms()[0])?;
//! key.public().verify(b"the lamp is lit", &signature)?;
//! assert!(key.public().verify(b"the lamp is out", &signature).is_err());
//! # Ok::<(), lantern_keys::KeyError>(())
//! ```

mod agent_form;
pub mod algorithm;
pub mod certificate;
mod certificate_fault;
mod certificate_file;
pub mod container;
pub mod error;
pub mod fingerprint;
pub mod flags;
pub mod issuing;
mod large_rsa;
pub mod login_list;
mod parts;
pub mod pkcs12;
pub mod private;
pub mod public;
pub mod public_line;
pub mod random;
mod rsa;
mod rsa_numbers;
pub mod secret;
pub mod signature;
mod signed;
pub mod sshfp;
pub mod tls_certificate;
pub mod wire;

pub use algorithm::{Curve, KeyAlgorithm, RsaBits, SignatureAlgorithm};
pub use certificate::{Certificate, CertificateKind, CertificateSignature};
pub use certificate_fault::{CertificateFault, CertificateName};
pub use certificate_file::{read_certificates, write_certificates};
pub use error::KeyError;
pub use fingerprint::Fingerprint;
pub use private::PrivateKey;
pub use public::PublicKey;
pub use random::{RandomSource, SystemRandom};
pub use secret::{SecretBuffer, SecretBytes, SecretString};
pub use signature::Signature;
pub use tls_certificate::TlsCertificate;
