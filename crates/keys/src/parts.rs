//! The numbers of a private key, between the containers that write them down and the libraries that use them.

use zeroize::Zeroizing;

use crate::Curve;
use crate::rsa_numbers::RsaComponents;

/// What a container holds of a private key. Public numbers that a container leaves out are computed.
pub(crate) enum PrivateParts {
    Ed25519 {
        seed: Zeroizing<Vec<u8>>,
        public: Option<Vec<u8>>,
    },
    Ecdsa {
        curve: Curve,
        scalar: Zeroizing<Vec<u8>>,
        /// Uncompressed or compressed (SEC 1 §2.3.3).
        point: Option<Vec<u8>>,
    },
    Rsa(RsaComponents),
}
