//! What Kerberos brings from outside: ticket caches, configurations, answers of key distribution centres, and tokens of both sides of a login.
#![no_main]

use lantern_kerberos::{
    Acceptor, Cache, Configuration, EncryptionType, Key, Moment, PasswordLogin, Principal, Refusal, manager,
    spnego,
};
use lantern_keys::{SecretString, SystemRandom};

const NOW: Moment = Moment { seconds: 1_795_703_000, micros: 77 };

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((which, bytes)) = bytes.split_first() else { return };
    match which % 5 {
        0 => {
            if let Ok(cache) = Cache::decode(bytes) {
                let _ = (cache.login(0), cache.ended(i64::MAX));
            }
            let parts: Vec<&[u8]> = bytes.split(|byte| *byte == 0xff).collect();
            let _ = Cache::of_parts(bytes, parts);
            let _ = (manager::cache_name(bytes), manager::ticket_ids(bytes));
        }
        1 => {
            let text = String::from_utf8_lossy(bytes);
            let mut read = Configuration::default();
            read.read(&text, &mut |_| vec![text.clone().into_owned()]);
            let _ = (read.realm_of(&text), read.realm_named(&text), read.centres(&text));
        }
        2 => {
            let _ = Refusal::decode(bytes);
            let client = Principal::user("keeper", "COAST.EXAMPLE");
            let mut login = PasswordLogin::new(client, &mut SystemRandom);
            if login.first(NOW).is_ok() {
                let password = SecretString::new("high water".into());
                for answer in bytes.split(|byte| *byte == 0) {
                    let _ = login.handle(answer, &password, NOW, &mut SystemRandom);
                }
            }
        }
        3 => {
            let _ = (spnego::answered(bytes), spnego::begun(bytes));
        }
        _ => {
            let Ok(service) = Principal::service("HTTP/chart-room", "COAST.EXAMPLE") else { return };
            let key = Key::generate(EncryptionType::Aes256Sha1, &mut SystemRandom);
            assert!(Acceptor::new(service, vec![key]).accept(bytes, None, NOW, &mut SystemRandom).is_err());
        }
    }
});
