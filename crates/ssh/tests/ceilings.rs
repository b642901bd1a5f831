//! What a peer can make us hold: a fixed ceiling, whatever it does.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod pair;

use bytes::Bytes;
use lantern_keys::wire::Writer;
use lantern_ssh::{ChannelEvent, ClientEvent, GlobalEvent, Machine, SshError, Stream, limits};
use pair::{data, logged_in, on_channel, payload};

#[test]
fn a_server_that_asks_without_end_and_does_not_listen_makes_us_hold_little() {
    let request = payload(80, |out| {
        out.put_string(b"lamp@lighthouse.example");
        out.put_bool(true);
    });
    let open = payload(90, |out| {
        out.put_string(b"auth-agent@openssh.com");
        [9, 1 << 20, 32_768].iter().for_each(|field| out.put_uint32(*field));
    });
    let keepalive = on_channel(98, |out| {
        out.put_string(b"keepalive@lighthouse.example");
        out.put_bool(true);
    });
    for message in [request, open, keepalive] {
        let (mut pair, _) = logged_in();
        let mut heard = 0u64;
        // The client's answers are never taken off its hands.
        for _ in 0..2_000 {
            for _ in 0..100 {
                pair.server.send_anything(&message).unwrap();
            }
            let bytes = pair.server.poll_transmit(pair.now).to_vec();
            pair.server.sent(bytes.len());
            if !pair.client.wants_input() {
                break;
            }
            heard += bytes.len() as u64;
            pair.client.receive_buffer().extend_from_slice(&bytes);
            pair.client.handle_input(pair.now).unwrap();
            while pair.client.poll_event().is_some() {}
            assert!(pair.client.held_bytes() < 8 * 1024 * 1024, "{}", pair.client.held_bytes());
        }
        assert!(!pair.client.wants_input(), "it heard {heard} bytes and goes on");
        assert!(pair.client.held_bytes() < limits::MAX_HELD);
    }
}

/// A byte of data, then a kilobyte of nothing, and again: a window's worth of such crumbs must not keep all of that alive.
#[test]
fn crumbs_between_rubbish_hold_no_more_than_they_are() {
    let (mut pair, id) = logged_in();
    pair.leave_data = true;
    let rubbish = payload(2, |out| out.put_string(&[0; 1000]));
    let mut sent = 0;
    for _ in 0..100 {
        for _ in 0..40 {
            pair.server.send_anything(&data(1)).unwrap();
            pair.server.send_anything(&rubbish).unwrap();
            sent += 1;
        }
        let bytes = pair.server.poll_transmit(pair.now).to_vec();
        pair.server.sent(bytes.len());
        pair.client.receive_buffer().extend_from_slice(&bytes);
        pair.client.handle_input(pair.now).unwrap();
        while pair.client.poll_event().is_some() {}
    }
    assert!(pair.client.held_bytes() < 1024 * 1024, "{}", pair.client.held_bytes());
    let mut pieces = Vec::new();
    while let Some(piece) = pair.client.channel_take(id, Stream::Main) {
        pieces.push(piece.len());
    }
    assert_eq!((pieces.iter().sum::<usize>(), pieces.len()), (sent, 1), "they were put together");
}

/// Every channel that can be had, each filled to its window: below the one limit that there is.
#[test]
fn thousands_of_full_channels_stay_below_the_limit() {
    let (mut pair, first) = logged_in();
    pair.leave_data = true;
    let mut ids = vec![first];
    for _ in 1..limits::MAX_CHANNELS {
        ids.push(pair.client.open_session(pair.now).unwrap());
    }
    assert!(matches!(pair.client.open_session(pair.now), Err(SshError::Misuse(_))));
    let mut opened = 1;
    while opened < ids.len() {
        assert!(pair.step(), "{:?} {:?}", pair.client_error, pair.server_error);
        opened += pair
            .client_events
            .drain(..)
            .filter(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)))
            .count();
        pair.server_events.clear();
    }
    let flood = Bytes::from(vec![3; 2 * 1024 * 1024]);
    for id in &ids {
        let mut data = flood.clone();
        let _ = pair.server.channel_send(*id, Stream::Main, &mut data);
    }
    for _ in 0..3_000 {
        pair.client_events.clear();
        pair.server_events.clear();
        if !pair.step() {
            break;
        }
    }
    let held = pair.client.held_bytes();
    assert!(held > 8 * 1024 * 1024 && held < limits::MAX_HELD, "{held}");
    assert_eq!(pair.client_error, None);
}

#[test]
fn announcements_without_end_are_heard_a_few_times() {
    let (mut pair, _) = logged_in();
    let announcement = payload(80, |out| {
        out.put_string(b"hostkeys-00@openssh.com");
        out.put_bool(false);
        for byte in 0..60u8 {
            let mut key = Vec::new();
            key.put_string(b"ssh-ed25519");
            key.put_string(&[byte; 32]);
            out.put_string(&key);
        }
    });
    let mut heard = 0;
    for _ in 0..500 {
        pair.server.send_anything(&announcement).unwrap();
        for _ in 0..4 {
            pair.step();
            for event in pair.client_events.drain(..) {
                if let ClientEvent::Global(GlobalEvent::HostKeysAnnounced(keys)) = event {
                    heard += 1;
                    if heard == 3 {
                        pair.client.prove_host_keys(keys.clone()).unwrap();
                        // One proof at a time.
                        assert!(pair.client.prove_host_keys(keys).is_err());
                    }
                }
            }
        }
    }
    assert_eq!(pair.client_error, None);
    assert!((3..=limits::MAX_ANNOUNCEMENTS as usize).contains(&heard), "{heard}");
    assert!(pair.client.held_bytes() < 4 * 1024 * 1024);
}
