//! SSHFP records: a host key's fingerprint in the domain name system (RFC 4255, with RFC 6594 for ECDSA and SHA-256,
//! RFC 7479 for Ed25519). Only the SHA-256 form is written: SHA-1 is what RFC 6594 was made to leave behind.

use crate::PublicKey;

/// Number of the SHA-256 form (RFC 6594 §3.2.2).
pub const SHA256: u8 = 2;

/// The number of a key's algorithm (RFC 4255 §3.1.1, RFC 6594 §3.1, RFC 7479 §3).
pub fn algorithm_number(key: &PublicKey) -> u8 {
    match key {
        PublicKey::Rsa { .. } => 1,
        PublicKey::Ecdsa { .. } => 3,
        PublicKey::Ed25519(_) => 4,
    }
}

/// The record of a key in the form of a zone file.
pub fn record(host: &str, key: &PublicKey) -> String {
    let algorithm = algorithm_number(key);
    let hex: String = key.fingerprint().as_bytes().iter().map(|byte| format!("{byte:02x}")).collect();
    format!("{host} IN SSHFP {algorithm} {SHA256} {hex}")
}

#[cfg(test)]
mod tests {
    use crate::public_line;

    /// The expected hash was computed from the blob with `sha256sum`.
    #[test]
    fn a_record_is_written_for_a_zone_file() {
        let line = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAINdamAGCsQq31Uv+08lkBzoO4XLz2qYjJa8CGmj3B1Ea";
        let (key, _) = public_line::parse(line).unwrap();
        assert_eq!(
            super::record("lamp-01.example.", &key),
            "lamp-01.example. IN SSHFP 4 2 6db5e9b8a1bace1cdd9a7c6adb9e9396acc5073465d9fe8e3a0ef6d9c60d6d4f"
        );
    }
}
