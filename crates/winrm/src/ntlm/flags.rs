//! What the peers agree on (MS-NLMP 2.2.2.5).

pub(super) const UNICODE: u32 = 0x0000_0001;
pub(super) const REQUEST_TARGET: u32 = 0x0000_0004;
pub(super) const SIGN: u32 = 0x0000_0010;
pub(super) const SEAL: u32 = 0x0000_0020;
pub(super) const NTLM: u32 = 0x0000_0200;
pub(super) const ALWAYS_SIGN: u32 = 0x0000_8000;
pub(super) const TARGET_TYPE_SERVER: u32 = 0x0002_0000;
pub(super) const EXTENDED_SESSION_SECURITY: u32 = 0x0008_0000;
pub(super) const TARGET_INFO: u32 = 0x0080_0000;
pub(super) const VERSION: u32 = 0x0200_0000;
pub(super) const KEYS_128: u32 = 0x2000_0000;
pub(super) const KEY_EXCHANGE: u32 = 0x4000_0000;
pub(super) const KEYS_56: u32 = 0x8000_0000;

/// What we ask for.
pub(super) const WANTED: u32 = UNICODE
    | REQUEST_TARGET
    | SIGN
    | SEAL
    | NTLM
    | ALWAYS_SIGN
    | EXTENDED_SESSION_SECURITY
    | TARGET_INFO
    | VERSION
    | KEYS_128
    | KEY_EXCHANGE
    | KEYS_56;

/// What there must be, and how it is called.
pub(super) const NEEDED: [(u32, &str); 6] = [
    (UNICODE, "Unicode"),
    (SIGN, "signing"),
    (SEAL, "sealing"),
    (EXTENDED_SESSION_SECURITY, "extended session security"),
    (KEYS_128, "keys of 128 bits"),
    (KEY_EXCHANGE, "key exchange"),
];

/// The version field (2.2.2.10) is for diagnosis: it says the revision of the protocol, and nothing about us.
pub(super) const OUR_VERSION: [u8; 8] = [0, 0, 0, 0, 0, 0, 0, 15];
