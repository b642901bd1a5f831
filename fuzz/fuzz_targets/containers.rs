//! Every container of keys, found by content; and each private one in its armour, with and without a passphrase.
#![no_main]

use lantern_keys::container::{Found, Patience, read};
use lantern_keys::{SecretString, login_list};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let passphrase = SecretString::new("twelve green lamps".into());
    for found in read(bytes).into_iter().flatten() {
        if let Ok(Found::Private(sealed)) = found {
            let _ = sealed.open(None);
            // What a derivation costs is not what is looked for here.
            if sealed.work().seconds() == 0 {
                let _ = sealed.open_all(Some(&passphrase), Patience::Short);
            }
        }
    }
    for line in login_list::keys(bytes) {
        let with = login_list::remove(bytes, &line.key);
        assert!(with.is_some_and(|rest| rest.len() < bytes.len()));
    }
});
