//! Encryption types: AES and nothing older (RFC 3962, RFC 8009).

/// An encryption type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum EncryptionType {
    /// aes256-cts-hmac-sha384-192 (RFC 8009)
    Aes256Sha384,
    /// aes128-cts-hmac-sha256-128 (RFC 8009)
    Aes128Sha256,
    /// aes256-cts-hmac-sha1-96 (RFC 3962)
    Aes256Sha1,
    /// aes128-cts-hmac-sha1-96 (RFC 3962)
    Aes128Sha1,
}

impl EncryptionType {
    /// Those that are spoken, the best first.
    pub const ALL: [Self; 4] = [Self::Aes256Sha384, Self::Aes128Sha256, Self::Aes256Sha1, Self::Aes128Sha1];

    /// Its number in the registry of encryption types.
    pub fn number(self) -> i32 {
        match self {
            Self::Aes256Sha384 => 20,
            Self::Aes128Sha256 => 19,
            Self::Aes256Sha1 => 18,
            Self::Aes128Sha1 => 17,
        }
    }

    /// By its number.
    pub fn from_number(number: i32) -> Option<Self> {
        Self::ALL.into_iter().find(|known| known.number() == number)
    }

    /// Its name in the registry.
    pub fn name(self) -> &'static str {
        match self {
            Self::Aes256Sha384 => "aes256-cts-hmac-sha384-192",
            Self::Aes128Sha256 => "aes128-cts-hmac-sha256-128",
            Self::Aes256Sha1 => "aes256-cts-hmac-sha1-96",
            Self::Aes128Sha1 => "aes128-cts-hmac-sha1-96",
        }
    }

    /// The number of the checksum that belongs to it.
    pub(crate) fn checksum(self) -> i32 {
        match self {
            Self::Aes256Sha384 => 20,
            Self::Aes128Sha256 => 19,
            Self::Aes256Sha1 => 16,
            Self::Aes128Sha1 => 15,
        }
    }

    /// The length of a key, in bytes.
    pub(crate) fn key_len(self) -> usize {
        match self {
            Self::Aes256Sha384 | Self::Aes256Sha1 => 32,
            Self::Aes128Sha256 | Self::Aes128Sha1 => 16,
        }
    }

    /// The length of an integrity code, in bytes: 192, 128 or 96 bits.
    pub(crate) fn mac_len(self) -> usize {
        match self {
            Self::Aes256Sha384 => 24,
            Self::Aes128Sha256 => 16,
            Self::Aes256Sha1 | Self::Aes128Sha1 => 12,
        }
    }
}

/// The name of any type by its number, for messages.
pub fn type_name(number: i32) -> String {
    match (EncryptionType::from_number(number), number) {
        (Some(known), _) => known.name().to_owned(),
        (None, 23 | 24) => "RC4".to_owned(),
        (None, 1..=3) => "DES".to_owned(),
        (None, 16) => "triple DES".to_owned(),
        (None, other) => format!("type {other}"),
    }
}
