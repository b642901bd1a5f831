//! The beginning of a conversation with a display: read in pieces, told by its cookie, and written anew.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use lantern_keys::SystemRandom;
use lantern_ssh::{COOKIE_PROTOCOL, Cookie, DisplaySetup, SetupError};
use proptest::prelude::*;

/// As a little-endian program of our time sends it: version 11.0, and a cookie of 16 bytes.
fn usual(cookie: &[u8; 16]) -> Vec<u8> {
    let head = [b'l', 0, 11, 0, 0, 0, 18, 0, 16, 0, 0, 0];
    [&head[..], COOKIE_PROTOCOL.as_bytes(), &[0, 0], cookie].concat()
}

#[test]
fn a_program_is_known_by_its_cookie() {
    let cookie = Cookie::new([7; 16]);
    let bytes = usual(cookie.expose());
    let setup = DisplaySetup::read(&bytes).unwrap().unwrap();
    assert!(setup.presents(&cookie) && !setup.presents(&Cookie::new([8; 16])));
    assert_eq!((setup.encoded_len(), setup.encode().as_slice()), (bytes.len(), bytes.as_slice()));
    // The display is shown its own.
    let shown = setup.with_authorization(COOKIE_PROTOCOL.as_bytes(), &[9; 16]);
    assert_eq!(shown.encode().as_slice(), usual(&[9; 16]));
    let open = setup.with_authorization(b"", b"");
    assert_eq!(open.encode().as_slice(), [b'l', 0, 11, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    // Another protocol with the same bytes is no cookie, and neither is a part of one.
    assert!(!setup.with_authorization(b"XDM-AUTHORIZATION-1", cookie.expose()).presents(&cookie));
    assert!(!setup.with_authorization(COOKIE_PROTOCOL.as_bytes(), &[7; 15]).presents(&cookie));
    assert!(!open.presents(&cookie));
    assert!(!format!("{cookie:?} {setup:?}").contains('7'));
    assert_eq!(cookie.to_hex(), "07".repeat(16));
    assert_ne!(Cookie::random(&mut SystemRandom), Cookie::random(&mut SystemRandom));
}

#[test]
fn what_is_for_no_display_is_refused_before_it_is_waited_for() {
    for start in [&b"SSH-2.0-x\r\n"[..], b"GET / HTTP/1.1\r\n", &[0], &[0xff; 12]] {
        assert_eq!(DisplaySetup::read(start), Err(SetupError::NotForADisplay));
    }
    // Lengths are judged as soon as they are there.
    for (name, data) in [([1, 1], [0, 0]), ([0, 0], [0xff, 0xff]), ([0xff, 0xff], [0xff, 0xff])] {
        let head = [[b'B', 0, 0, 11, 0, 0], [name[0], name[1], data[0], data[1], 0, 0]].concat();
        assert_eq!(DisplaySetup::read(&head), Err(SetupError::TooLong), "{head:?}");
    }
}

proptest! {
    #[test]
    fn whatever_is_written_is_read_back_however_it_is_cut(
        name in prop::collection::vec(any::<u8>(), 0..=256),
        data in prop::collection::vec(any::<u8>(), 0..=256),
        behind in prop::collection::vec(any::<u8>(), 0..40),
        order in prop::bool::ANY,
    ) {
        let first = if order { [b'B', 0, 0, 11, 0, 0, 0, 0, 0, 0, 0, 0] } else { [b'l', 0, 11, 0, 0, 0, 0, 0, 0, 0, 0, 0] };
        let setup = DisplaySetup::read(&first).unwrap().unwrap().with_authorization(&name, &data);
        let bytes = setup.encode();
        for cut in 0..bytes.len() {
            prop_assert_eq!(DisplaySetup::read(&bytes[..cut]), Ok(None));
        }
        // What follows is not a part of it.
        let all = [bytes.as_slice(), &behind].concat();
        let read = DisplaySetup::read(&all).unwrap().unwrap();
        prop_assert_eq!(read.encoded_len(), bytes.len());
        prop_assert_eq!(read, setup);
    }

    #[test]
    fn any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..700)) {
        if let Ok(Some(setup)) = DisplaySetup::read(&bytes) {
            prop_assert!(setup.encoded_len() <= bytes.len());
        }
    }
}
