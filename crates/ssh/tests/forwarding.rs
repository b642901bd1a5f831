//! Every kind of forwarded channel between our two roles, thousands at once, in any order of what happens: every byte arrives once and in its place, ends
//! pass on, credit comes back, and what either side holds stays below its limit. In memory and in virtual time.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod pair;

use std::collections::HashMap;

use bytes::Bytes;
use lantern_keys::RandomSource;
use lantern_ssh::limits::MAX_HELD;
use lantern_ssh::{
    ChannelEnded, ChannelEvent, ChannelId, ClientEvent, DirectTcpip, Forwarded, OpenFailure, PeerChannel,
    ServerEvent, Stream,
};
use pair::{Pair, Seeded, logged_in};
use proptest::prelude::*;

/// Most that is handed over at once, in bytes.
const MOST: usize = 40_000;
/// Where nothing may be reached.
const FORBIDDEN: &str = "forbidden";

/// One end of a channel.
#[derive(Debug, Default)]
struct End {
    sent: usize,
    received: usize,
    /// Taken, and not said to be used.
    owed: usize,
    has_finished: bool,
    heard_the_end: bool,
    is_closed: bool,
}

/// Channels by what they were opened for; the same at both ends.
#[derive(Default)]
struct Side {
    ends: HashMap<ChannelId, (u16, End)>,
    refused: usize,
}

/// The byte at a place of what one end of a channel sends.
fn byte(channel: u16, is_client: bool, at: usize) -> u8 {
    (channel as usize * 7 + at * 13 + usize::from(is_client)) as u8
}

fn what(number: u16) -> PeerChannel {
    let originator = ("127.0.0.1".to_owned(), number);
    let host = if number.is_multiple_of(17) { FORBIDDEN } else { "127.0.0.1" };
    match number % 4 {
        0 => PeerChannel::Direct(DirectTcpip { host: host.into(), port: 80, originator }),
        1 => PeerChannel::DirectUnix(format!("/{host}/{number}")),
        2 => PeerChannel::Forwarded(Forwarded { address: host.into(), port: 8080, originator }),
        _ => PeerChannel::ForwardedUnix(format!("/{host}/{number}")),
    }
}

/// The number that a channel was opened for, and whether it may be.
fn number(of: &PeerChannel) -> (u16, bool) {
    let (text, number) = match of {
        PeerChannel::Direct(to) => (to.host.clone(), to.originator.1),
        PeerChannel::Forwarded(from) => (from.address.clone(), from.originator.1),
        PeerChannel::DirectUnix(path) | PeerChannel::ForwardedUnix(path) => {
            (path.clone(), path.rsplit('/').next().unwrap().parse().unwrap())
        }
        other => panic!("{other:?}"),
    };
    (number, !text.contains(FORBIDDEN))
}

struct Harbour {
    pair: Pair,
    client: Side,
    server: Side,
    random: Seeded,
    numbers: HashMap<ChannelId, u16>,
    server_numbers: HashMap<ChannelId, u16>,
}

impl Harbour {
    fn number_below(&mut self, limit: usize) -> usize {
        let mut bytes = [0; 4];
        self.random.fill(&mut bytes);
        u32::from_le_bytes(bytes) as usize % limit.max(1)
    }

    fn open(&mut self, number: u16) {
        let now = self.pair.now;
        match what(number) {
            PeerChannel::Direct(to) => {
                let id = self.pair.client.open_direct(&to, now).unwrap();
                self.numbers.insert(id, number);
            }
            PeerChannel::DirectUnix(path) => {
                let id = self.pair.client.open_streamlocal(&path, now).unwrap();
                self.numbers.insert(id, number);
            }
            other => {
                let id = self.pair.server.open_channel(&other, now).unwrap();
                self.server_numbers.insert(id, number);
            }
        }
    }

    fn refusal() -> OpenFailure {
        OpenFailure { code: OpenFailure::PROHIBITED, description: "not there".into() }
    }

    fn settle_events(&mut self) {
        while let Some(event) = self.pair.client_events.pop_front() {
            let ClientEvent::Channel(id, event) = event else { continue };
            if let ChannelEvent::OpenWanted(wanted) = &event {
                let (number, may) = number(wanted);
                let answer = if may { Ok(()) } else { Err(Self::refusal()) };
                self.pair.client.answer_open(id, answer).unwrap();
                if may {
                    self.client.ends.insert(id, (number, End::default()));
                }
                continue;
            }
            hear(&mut self.client, &self.numbers, id, &event);
        }
        while let Some(event) = self.pair.server_events.pop_front() {
            let ServerEvent::Channel(id, event) = event else { continue };
            if let ChannelEvent::OpenWanted(wanted) = &event {
                let (number, may) = number(wanted);
                let answer = if may { Ok(()) } else { Err(Self::refusal()) };
                self.pair.server.answer_open(id, answer).unwrap();
                if may {
                    self.server.ends.insert(id, (number, End::default()));
                }
                continue;
            }
            hear(&mut self.server, &self.server_numbers, id, &event);
        }
    }

    fn go(&mut self, most: usize) {
        for _ in 0..most {
            self.settle_events();
            let held = [self.pair.client.held_bytes(), self.pair.server.held_bytes()];
            assert!(held.iter().all(|held| *held <= MAX_HELD), "{held:?}");
            if !self.pair.step() {
                break;
            }
        }
        self.settle_events();
        let errors = (&self.pair.client_error, &self.pair.server_error);
        assert_eq!(errors, (&None, &None));
    }

    fn ids(&self, is_client: bool) -> Vec<ChannelId> {
        let side = if is_client { &self.client } else { &self.server };
        let mut ids: Vec<ChannelId> = side.ends.keys().copied().collect();
        ids.sort_unstable();
        ids
    }

    fn end(&mut self, is_client: bool, id: ChannelId) -> &mut (u16, End) {
        let side = if is_client { &mut self.client } else { &mut self.server };
        side.ends.get_mut(&id).unwrap()
    }

    fn send(&mut self, is_client: bool, id: ChannelId, len: usize) {
        let (number, end) = self.end(is_client, id);
        if end.has_finished || end.is_closed {
            return;
        }
        let (number, sent) = (*number, end.sent);
        let mut data: Bytes = (sent..sent + len).map(|at| byte(number, is_client, at)).collect();
        let taken = match is_client {
            true => self.pair.client.channel_send(id, &mut data),
            false => self.pair.server.channel_send(id, Stream::Main, &mut data),
        };
        assert!(taken.as_ref().is_ok_and(|taken| *taken + data.len() == len) || taken == Err(ChannelEnded));
        self.end(is_client, id).1.sent += taken.unwrap_or(0);
    }

    /// Takes what is there; says that it is used, or not yet.
    fn take(&mut self, is_client: bool, id: ChannelId, says_so: bool) {
        loop {
            let piece = match is_client {
                true => self.pair.client.channel_take(id, Stream::Main),
                false => self.pair.server.channel_take(id, Stream::Main),
            };
            let Some(piece) = piece else { break };
            let (number, end) = self.end(is_client, id);
            for (at, met) in piece.iter().enumerate() {
                assert_eq!(*met, byte(*number, !is_client, end.received + at), "channel {number}");
            }
            end.received += piece.len();
            end.owed += piece.len();
        }
        if says_so {
            let owed = std::mem::take(&mut self.end(is_client, id).1.owed);
            let now = self.pair.now;
            match is_client {
                true => self.pair.client.channel_consumed(id, owed, now),
                false => self.pair.server.channel_consumed(id, owed, now),
            }
        }
    }

    fn finish(&mut self, is_client: bool, id: ChannelId) {
        self.end(is_client, id).1.has_finished = true;
        match is_client {
            true => self.pair.client.channel_eof(id),
            false => self.pair.server.channel_eof(id),
        }
    }

    /// Something happens to one of the channels.
    fn happen(&mut self, what: u8) {
        let is_client = what.is_multiple_of(2);
        let ids = self.ids(is_client);
        if ids.is_empty() {
            return;
        }
        let id = ids[self.number_below(ids.len())];
        match what / 2 {
            0..=4 => {
                let len = self.number_below(MOST);
                self.send(is_client, id, len);
            }
            5..=7 => self.take(is_client, id, true),
            // It is read, and nothing more is let in.
            8 => self.take(is_client, id, false),
            9 => self.finish(is_client, id),
            _ => self.go(3),
        }
    }

    /// Everybody reads to the end, and closes.
    fn wind_up(&mut self) {
        for is_client in [true, false] {
            for id in self.ids(is_client) {
                self.finish(is_client, id);
            }
        }
        let mut quiet = 0;
        while quiet < 3 {
            let before = self.received();
            for is_client in [true, false] {
                for id in self.ids(is_client) {
                    self.take(is_client, id, true);
                }
            }
            self.go(usize::MAX);
            quiet = if self.received() == before { quiet + 1 } else { 0 };
        }
    }

    fn received(&self) -> usize {
        [&self.client, &self.server]
            .iter()
            .flat_map(|side| side.ends.values())
            .map(|(_, end)| end.received)
            .sum()
    }

    fn close_all(&mut self) {
        for is_client in [true, false] {
            for id in self.ids(is_client) {
                match is_client {
                    true => self.pair.client.channel_close(id),
                    false => self.pair.server.channel_close(id),
                }
            }
        }
        self.go(usize::MAX);
        for id in self.ids(true) {
            assert!(self.end(true, id).1.is_closed);
            self.pair.client.channel_release(id);
        }
        for id in self.ids(false) {
            assert!(self.end(false, id).1.is_closed);
            self.pair.server.channel_release(id);
        }
        self.go(usize::MAX);
    }
}

fn hear(side: &mut Side, opened: &HashMap<ChannelId, u16>, id: ChannelId, event: &ChannelEvent) {
    match event {
        ChannelEvent::Opened => {
            side.ends.insert(id, (opened[&id], End::default()));
        }
        ChannelEvent::OpenFailed(failure) => {
            assert_eq!(failure.code, OpenFailure::PROHIBITED);
            assert_eq!(opened[&id] % 17, 0);
            side.refused += 1;
        }
        ChannelEvent::Eof => side.ends.get_mut(&id).unwrap().1.heard_the_end = true,
        ChannelEvent::Closed => side.ends.get_mut(&id).unwrap().1.is_closed = true,
        _ => {}
    }
}

fn harbour(seed: u64) -> Harbour {
    let (mut pair, session) = logged_in();
    pair.leave_data = true;
    Harbour {
        pair,
        client: Side::default(),
        server: Side::default(),
        random: Seeded(seed),
        numbers: HashMap::from([(session, 0)]),
        server_numbers: HashMap::new(),
    }
}

/// Opens channels, lets things happen, winds up, and closes them.
fn round(harbour: &mut Harbour, channels: u16, happenings: &[u8]) {
    let before = [harbour.pair.client.held_bytes(), harbour.pair.server.held_bytes()];
    for number in 1..=channels {
        harbour.open(number);
        // No more at a time than may wait for an answer.
        if number % 500 == 0 {
            harbour.go(usize::MAX);
        }
    }
    harbour.go(usize::MAX);
    let forbidden = (1..=channels).filter(|number| number % 17 == 0).count();
    assert_eq!(harbour.client.refused + harbour.server.refused, forbidden);
    assert_eq!(harbour.client.ends.len(), usize::from(channels) - forbidden);
    assert_eq!(harbour.server.ends.len(), usize::from(channels) - forbidden);
    happenings.iter().for_each(|what| harbour.happen(*what));
    harbour.wind_up();
    let sums = |side: &Side| -> HashMap<u16, (usize, usize)> {
        side.ends.values().map(|(number, end)| (*number, (end.sent, end.received))).collect()
    };
    let (ours, theirs) = (sums(&harbour.client), sums(&harbour.server));
    for (number, (sent, received)) in ours {
        assert_eq!(theirs[&number], (received, sent), "channel {number}");
    }
    let all = [&harbour.client, &harbour.server];
    assert!(all.iter().flat_map(|side| side.ends.values()).all(|(_, end)| end.heard_the_end));
    harbour.close_all();
    (harbour.client, harbour.server) = (Side::default(), Side::default());
    // Nothing is left of them but what the line's own buffers have grown to.
    let after = [harbour.pair.client.held_bytes(), harbour.pair.server.held_bytes()];
    assert!(after.iter().zip(before).all(|(after, before)| *after < before + (1 << 20)), "{after:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn every_byte_arrives_once_whatever_happens(
        seed: u64,
        channels in 1u16..60,
        happenings in proptest::collection::vec(0u8..24, 0..400),
    ) {
        round(&mut harbour(seed), channels, &happenings);
    }
}

#[test]
fn three_thousand_channels_at_once() {
    let mut random = Seeded(7);
    let mut happenings = vec![0; 6_000];
    random.fill(&mut happenings);
    happenings.iter_mut().for_each(|what| *what %= 20);
    let mut harbour = harbour(11);
    round(&mut harbour, 3000, &happenings);
    // More than there may be at once: the first have been forgotten, and their credit has come back.
    round(&mut harbour, 3000, &happenings);
}

/// One channel of many whose reader has gone to sleep: its own sender waits, and no other does.
#[test]
fn a_reader_that_sleeps_holds_up_nobody_else() {
    let mut harbour = harbour(1);
    [4, 8].iter().for_each(|number| harbour.open(*number));
    harbour.go(usize::MAX);
    let by_number = |harbour: &Harbour, is_client: bool, number: u16| {
        let side = if is_client { &harbour.client } else { &harbour.server };
        *side.ends.iter().find(|(_, (met, _))| *met == number).unwrap().0
    };
    let (asleep, awake) = (by_number(&harbour, true, 4), by_number(&harbour, true, 8));
    let (full, other) = (by_number(&harbour, false, 4), by_number(&harbour, false, 8));
    let mut passed = 0;
    for _ in 0..400 {
        harbour.send(false, full, MOST);
        harbour.send(false, other, MOST);
        harbour.go(usize::MAX);
        harbour.take(true, awake, true);
        harbour.take(true, asleep, false);
        passed = harbour.end(true, awake).1.received;
    }
    let held = harbour.end(true, asleep).1.received;
    assert!(passed > 8 * MOST && held < passed, "{passed} beside {held}");
    // It wakes, and everything is there.
    harbour.wind_up();
    let sent = harbour.end(false, full).1.sent;
    assert_eq!(harbour.end(true, asleep).1.received, sent);
}
