//! Private-key containers, public lines, blobs of keys and certificates, and signatures from bytes of unknown origin.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(sealed) = lantern_keys::container::Sealed::parse(bytes) {
        // Without a passphrase: what bcrypt costs is not what is looked for here.
        let _ = sealed.open(None);
    }
    let _ = lantern_keys::PublicKey::decode(bytes);
    let _ = lantern_keys::Certificate::decode(bytes);
    let _ = lantern_keys::Signature::decode(bytes);
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = lantern_keys::public_line::parse(text);
        let _ = text.parse::<lantern_keys::Fingerprint>();
    }
});
