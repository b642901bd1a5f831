//! From a password to keys (MS-NLMP 3.3.2, 3.4.5).

use hmac::{Hmac, KeyInit, Mac};
use md4::{Digest, Md4};
use md5::Md5;
use rc4::{Rc4, StreamCipher};
use zeroize::Zeroizing;

use super::message::{utf16, utf16_secret};

pub(super) type Key = Zeroizing<[u8; 16]>;

pub(super) fn hmac_md5(key: &[u8], parts: &[&[u8]]) -> [u8; 16] {
    // A key of any length is one.
    let mut mac = Hmac::<Md5>::new_from_slice(key).unwrap_or_else(|_| Hmac::<Md5>::new(&Default::default()));
    parts.iter().for_each(|part| mac.update(part));
    mac.finalize().into_bytes().into()
}

/// `NTOWFv2`: what stands for a user and a password.
pub(super) fn response_key(user: &str, domain: &str, password: &str) -> Key {
    let password: Key = Zeroizing::new(Md4::digest(&*utf16_secret(password)).into());
    Zeroizing::new(hmac_md5(&*password, &[&utf16(&user.to_uppercase()), &utf16(domain)]))
}

/// What is proven, around the machine's challenge, and what goes with the proof.
pub(super) struct Response {
    pub(super) proof: [u8; 16],
    pub(super) session_base: Key,
}

/// The response to a challenge, over what stands beside it.
pub(super) fn response(response_key: &Key, server_challenge: [u8; 8], beside: &[u8]) -> Response {
    let proof = hmac_md5(&**response_key, &[&server_challenge, beside]);
    Response { proof, session_base: Zeroizing::new(hmac_md5(&**response_key, &[&proof])) }
}

/// What stands beside the proof: time, the client's own challenge, and what the machine said of itself.
pub(super) fn beside(time: u64, client_challenge: [u8; 8], target_info: &[u8]) -> Vec<u8> {
    [&[1, 1, 0, 0, 0, 0, 0, 0][..], &time.to_le_bytes(), &client_challenge, &[0; 4], target_info, &[0; 4]]
        .concat()
}

/// The exchanged key, hidden or shown: the cipher is its own inverse.
pub(super) fn hide(session_base: &Key, mut key: [u8; 16]) -> [u8; 16] {
    rc4(session_base).apply_keystream(&mut key);
    key
}

pub(super) fn rc4(key: &Key) -> Rc4 {
    Rc4::new_from_slice(&**key).unwrap_or_else(|_| Rc4::new(&Default::default()))
}

/// A key for one direction and purpose.
pub(super) fn derived(exported: &Key, purpose: &str) -> Key {
    let hash = Md5::new().chain_update(**exported).chain_update(purpose).chain_update([0]);
    Zeroizing::new(hash.finalize().into())
}
