//! Messages: their numbers here, their forms in the files of this folder.

pub(crate) mod auth;
pub(crate) mod connection;
pub(crate) mod peer_channel;
pub(crate) mod transport;

/// Message numbers of RFC 4250 §4.1.2, RFC 4419 §5, RFC 5656 §7.1 and RFC 8308 §2.
pub(crate) mod number {
    pub(crate) const DISCONNECT: u8 = 1;
    pub(crate) const IGNORE: u8 = 2;
    pub(crate) const UNIMPLEMENTED: u8 = 3;
    pub(crate) const DEBUG: u8 = 4;
    pub(crate) const SERVICE_REQUEST: u8 = 5;
    pub(crate) const SERVICE_ACCEPT: u8 = 6;
    pub(crate) const EXT_INFO: u8 = 7;
    pub(crate) const KEXINIT: u8 = 20;
    pub(crate) const NEWKEYS: u8 = 21;
    pub(crate) const KEX_FIRST: u8 = 30;
    pub(crate) const KEX_LAST: u8 = 49;
    /// KEXDH_INIT, KEX_ECDH_INIT, KEX_HYBRID_INIT
    pub(crate) const KEX_INIT_SHARE: u8 = 30;
    /// KEXDH_REPLY, KEX_ECDH_REPLY, KEX_HYBRID_REPLY
    pub(crate) const KEX_REPLY: u8 = 31;
    pub(crate) const KEX_DH_GEX_GROUP: u8 = 31;
    pub(crate) const KEX_DH_GEX_INIT: u8 = 32;
    pub(crate) const KEX_DH_GEX_REPLY: u8 = 33;
    pub(crate) const KEX_DH_GEX_REQUEST: u8 = 34;
    pub(crate) const USERAUTH_REQUEST: u8 = 50;
    pub(crate) const USERAUTH_FAILURE: u8 = 51;
    pub(crate) const USERAUTH_SUCCESS: u8 = 52;
    pub(crate) const USERAUTH_BANNER: u8 = 53;
    /// USERAUTH_PK_OK, USERAUTH_PASSWD_CHANGEREQ, USERAUTH_INFO_REQUEST: told apart by the method in progress
    pub(crate) const USERAUTH_METHOD: u8 = 60;
    pub(crate) const USERAUTH_INFO_RESPONSE: u8 = 61;
    pub(crate) const GLOBAL_REQUEST: u8 = 80;
    pub(crate) const REQUEST_SUCCESS: u8 = 81;
    pub(crate) const REQUEST_FAILURE: u8 = 82;
    pub(crate) const CHANNEL_OPEN: u8 = 90;
    pub(crate) const CHANNEL_OPEN_CONFIRMATION: u8 = 91;
    pub(crate) const CHANNEL_OPEN_FAILURE: u8 = 92;
    pub(crate) const CHANNEL_WINDOW_ADJUST: u8 = 93;
    pub(crate) const CHANNEL_DATA: u8 = 94;
    pub(crate) const CHANNEL_EXTENDED_DATA: u8 = 95;
    pub(crate) const CHANNEL_EOF: u8 = 96;
    pub(crate) const CHANNEL_CLOSE: u8 = 97;
    pub(crate) const CHANNEL_REQUEST: u8 = 98;
    pub(crate) const CHANNEL_SUCCESS: u8 = 99;
    pub(crate) const CHANNEL_FAILURE: u8 = 100;
}

/// Splits a payload into its message number and a reader of the rest.
pub(crate) fn open(payload: &[u8]) -> Result<(u8, lantern_keys::wire::Reader<'_>), crate::SshError> {
    match payload.split_first() {
        Some((&number, rest)) => Ok((number, lantern_keys::wire::Reader::new(rest))),
        None => Err(crate::SshError::PeerBroke { rule: "a packet must hold a message (RFC 4253 §6)" }),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        #[test]
        fn every_decoder_survives_arbitrary_bytes(bytes: Vec<u8>, length in 0u32..40) {
            super::transport::decode_anything(&bytes);
            super::auth::decode_anything(&bytes);
            super::connection::decode_anything(&bytes);
            super::peer_channel::decode_anything(&bytes);
            // A plausible first length leads deeper than a random one.
            let mut framed = length.to_be_bytes().to_vec();
            framed.extend_from_slice(&bytes);
            super::auth::decode_anything(&framed);
            super::connection::decode_anything(&framed);
        }
    }
}
