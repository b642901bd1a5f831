//! What files hold that is no key of ours, told by labels and first bytes, and what we say of it.

use super::Secrecy;

const X509: &str = "it names a key and holds none that could log in";
const REQUEST: &str = "the key that belongs to it is in another file";
const DSA: &str = "DSA was retired by RFC 9142; make a new key";
const OPENPGP: &str = "SSH does not use it";
const VENDOR: &str = "export it as openssh-key-v1 or PKCS#8 first";

/// Labels of armour, what it holds, why that is of no use here, and whether there is a private key in it.
pub(super) const OTHER_LABELS: [(&str, &str, &str, Secrecy); 17] = [
    ("CERTIFICATE", "an X.509 certificate", X509, Secrecy::None),
    ("X509 CERTIFICATE", "an X.509 certificate", X509, Secrecy::None),
    ("TRUSTED CERTIFICATE", "an X.509 certificate", X509, Secrecy::None),
    ("CERTIFICATE REQUEST", "a certificate request", REQUEST, Secrecy::None),
    ("NEW CERTIFICATE REQUEST", "a certificate request", REQUEST, Secrecy::None),
    ("X509 CRL", "a list of revoked certificates", "", Secrecy::None),
    ("PKCS7", "a bundle of certificates (PKCS#7)", "it holds no private key", Secrecy::None),
    ("CMS", "a signed or encrypted message (CMS)", "it holds no private key", Secrecy::None),
    (
        "PKCS12",
        "an encrypted archive of keys and certificates (PKCS#12)",
        "take the key out of it as PKCS#8 first",
        Secrecy::Closed,
    ),
    ("DH PARAMETERS", "Diffie-Hellman parameters", "they are no key", Secrecy::None),
    ("DSA PRIVATE KEY", "a DSA private key", DSA, Secrecy::Open),
    ("DSA PUBLIC KEY", "a DSA public key", DSA, Secrecy::None),
    ("DSA PARAMETERS", "the parameters of DSA keys", DSA, Secrecy::None),
    ("PGP PRIVATE KEY BLOCK", "an OpenPGP private key", OPENPGP, Secrecy::Closed),
    ("PGP PUBLIC KEY BLOCK", "an OpenPGP public key", OPENPGP, Secrecy::None),
    ("SSH2 ENCRYPTED PRIVATE KEY", "a private key in a vendor's container", VENDOR, Secrecy::Closed),
    ("PGP MESSAGE", "an encrypted message", "decrypt it first", Secrecy::None),
];

/// First bytes of files that are no keys.
pub(super) const MAGIC_NUMBERS: [(&[u8], &str, &str); 6] = [
    (b"PK\x03\x04", "an archive (ZIP)", "unpack it first; perhaps it asks for a password"),
    (b"7z\xbc\xaf\x27\x1c", "an archive (7z)", "unpack it first; perhaps it asks for a password"),
    (b"Rar!\x1a\x07", "an archive (RAR)", "unpack it first; perhaps it asks for a password"),
    (b"\x1f\x8b", "a compressed file (gzip)", "unpack it first"),
    (b"\x7fELF", "a program", ""),
    (b"%PDF", "a PDF document", "copy the key's text out of it"),
];
