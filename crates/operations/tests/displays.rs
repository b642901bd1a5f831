//! The display for a machine's programs: a machine that is driven by a script, and display servers of several characters.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

#[path = "../../link/tests/scene/mod.rs"]
mod scene;

use std::sync::{Arc, Mutex};
use std::time::Duration;

use bytes::Bytes;
use lantern_keys::SystemRandom;
use lantern_link::Trunk;
use lantern_operations::display::{DisplayCause, DisplayForward, DisplayPlace, DisplayTrust, Windows, look};
use lantern_ssh::{Cookie, DisplayRequest, DisplaySetup, PeerChannel};
use scene::{Do, Machine, Scene, on_this_thread};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{UnixListener, UnixStream};

/// The cookie in the authority file.
const OWN: [u8; 16] = *b"sixteen in brass";

/// What a display server does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Character {
    /// What it should.
    Honest,
    /// It has no extension for programs that are not trusted.
    Old,
    /// It says that it has, and trusts them all the same.
    Liar,
    /// It lets in whoever it does not know as if it were one of ours, as displays do that let all programs of a user in.
    Open,
    /// It is none.
    Gibberish,
    /// It ends every conversation at once.
    Curt,
    /// It refuses, with all the words that there can be.
    Wordy,
}

#[derive(Default)]
struct Seen {
    /// Restricted cookies that it has made and not forgotten.
    made: Vec<[u8; 16]>,
    count: u8,
    /// The beginnings of programs that were not ours, each with whether it was let in as one that is trusted.
    programs: Vec<(DisplaySetup, Option<bool>)>,
    /// What programs said behind that.
    said: Vec<u8>,
}

struct Display {
    place: DisplayPlace,
    seen: Arc<Mutex<Seen>>,
    serving: tokio::task::JoinHandle<()>,
}

impl Display {
    fn start(scene: &Scene, character: Character) -> Self {
        let folder = scene.folder.path();
        let socket = folder.join("display");
        let _ = std::fs::remove_file(&socket);
        let part = |bytes: &[u8]| [&(bytes.len() as u16).to_be_bytes()[..], bytes].concat();
        let entry =
            [vec![0xff, 0xff], part(b""), part(b""), part(b"MIT-MAGIC-COOKIE-1"), part(&OWN)].concat();
        std::fs::write(folder.join("authority"), entry).unwrap();
        let place = DisplayPlace {
            name: Some(socket.display().to_string()),
            authority: folder.join("authority"),
            start: None,
            started: folder.join("started"),
            log: folder.join("log"),
        };
        let seen = Arc::new(Mutex::new(Seen::default()));
        let listener = UnixListener::bind(&socket).unwrap();
        let server_seen = seen.clone();
        let serving = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(converse(stream, character, server_seen.clone()));
            }
        });
        Self { place, seen, serving }
    }

    /// Waits until so many programs have come.
    async fn programs(&self, count: usize) -> Vec<(DisplaySetup, Option<bool>)> {
        until("programs", || self.seen.lock().unwrap().programs.len() >= count).await;
        self.seen.lock().unwrap().programs.clone()
    }
}

async fn until(what: &str, holds: impl Fn() -> bool) {
    for _ in 0..4000 {
        if holds() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    panic!("never came: {what}")
}

/// One conversation.
async fn converse(mut stream: UnixStream, character: Character, seen: Arc<Mutex<Seen>>) {
    match character {
        Character::Gibberish => {
            return drop(stream.write_all(b"220 tide-gauge.lights.example ESMTP\r\n").await);
        }
        Character::Curt => return,
        Character::Wordy => {
            // Its words have no end, and its length is none.
            let _ = stream.write_all(&[0, 255, 11, 0, 0, 0, 255, 255]).await;
            while stream.write_all(&[b'\x1b'; 4096]).await.is_ok() {}
            return;
        }
        _ => {}
    }
    let mut met = Vec::new();
    let mut buffer = [0; 4096];
    let setup = loop {
        match DisplaySetup::read(&met) {
            Ok(Some(setup)) => break setup,
            Ok(None) => {}
            Err(_) => return,
        }
        match stream.read(&mut buffer).await {
            Ok(0) | Err(_) => return,
            Ok(len) => met.extend_from_slice(&buffer[..len]),
        }
    };
    let mut rest = met.split_off(setup.encoded_len());
    let made = seen.lock().unwrap().made.clone();
    let trusted = if setup.presents(&Cookie::new(OWN)) {
        Some(true)
    } else if made.iter().any(|cookie| setup.presents(&Cookie::new(*cookie))) {
        Some(character == Character::Liar)
    } else {
        (character == Character::Open).then_some(true)
    };
    // Programs of the machine are told from ours by the version that they ask for.
    let is_program = setup.encode()[4..6].contains(&7);
    if is_program {
        let mut seen = seen.lock().unwrap();
        seen.programs.push((setup.clone(), trusted));
        seen.said.extend_from_slice(&rest);
    }
    let Some(trusted) = trusted else {
        let _ = stream.write_all(&setup.refusal("no such cookie")).await;
        return;
    };
    if stream.write_all(&[1, 0, 11, 0, 0, 0, 1, 0, 9, 9, 9, 9]).await.is_err() {
        return;
    }
    if is_program {
        let _ = stream.write_all(b"drawn").await;
    }
    loop {
        match stream.read(&mut buffer).await {
            Ok(0) | Err(_) => return,
            Ok(len) => rest.extend_from_slice(&buffer[..len]),
        }
        if is_program {
            seen.lock().unwrap().said.append(&mut rest);
            continue;
        }
        while let Some(len) = rest.get(2..4).map(|len| usize::from(u16::from_le_bytes([len[0], len[1]])) * 4)
        {
            if rest.len() < len {
                break;
            }
            let request: Vec<u8> = rest.drain(..len).collect();
            let mut reply = vec![0; 32];
            reply[0] = 1;
            match request[0] {
                98 => {
                    assert!(request.ends_with(b"SECURITY"));
                    reply[8] = u8::from(trusted && character != Character::Old);
                    reply[9] = 140;
                }
                140 if trusted => {
                    let mut seen = seen.lock().unwrap();
                    seen.count += 1;
                    let cookie = [seen.count; 16];
                    seen.made.push(cookie);
                    reply[4] = 4;
                    reply[12] = 16;
                    reply.extend(cookie);
                }
                _ => reply[0] = 0,
            }
            if stream.write_all(&reply).await.is_err() {
                return;
            }
        }
    }
}

async fn prepared(display: &Display, trust: DisplayTrust) -> Result<DisplayForward, DisplayCause> {
    let starting = |_: &str, _: &str| panic!("nothing is to be started");
    DisplayForward::prepare(&display.place, trust, starting).await.map_err(|failure| failure.cause())
}

async fn forwarded(
    scene: &Scene,
    display: &Display,
    trust: DisplayTrust,
) -> (Machine, Trunk, DisplayRequest, Arc<Windows>) {
    let (machine, trunk) = scene.connect().await;
    let forward = prepared(display, trust).await.unwrap();
    let windows = forward.windows().clone();
    let request = forward.serve(&trunk, &mut SystemRandom);
    (machine, trunk, request, windows)
}

/// A program on the machine begins, with a cookie in hexadecimal.
async fn begins(machine: &Machine, cookie: &str, then: &[u8], is_big_endian: bool) {
    let cookie = Cookie::from_hex(cookie).unwrap();
    let mut setup = DisplaySetup::ours(b"MIT-MAGIC-COOKIE-1", cookie.expose()).encode().to_vec();
    setup[4] = 7;
    if is_big_endian {
        setup[0] = b'B';
        for at in [2, 4, 6, 8] {
            setup.swap(at, at + 1);
        }
    }
    let before = machine.heard.lock().unwrap().opened.len();
    machine.tell(Do::Open(PeerChannel::Display { originator: ("127.0.0.1".into(), 4711) }));
    machine.until(|heard| (heard.opened.len() > before).then_some(())).await;
    machine.tell(Do::Send(Bytes::from([&setup, then].concat())));
}

#[test]
fn the_display_is_shown_a_cookie_that_sees_nothing_and_the_machine_another() {
    on_this_thread(async {
        for (trust, shown) in [(DisplayTrust::Restricted, [1; 16]), (DisplayTrust::Trusted, OWN)] {
            let scene = Scene::new();
            let display = Display::start(&scene, Character::Honest);
            let (machine, _trunk, request, windows) = forwarded(&scene, &display, trust).await;
            assert_eq!(
                (request.single, request.protocol.as_str(), request.screen),
                (false, "MIT-MAGIC-COOKIE-1", 0)
            );
            for (count, is_big_endian) in [(1, false), (2, true)] {
                begins(&machine, &request.cookie, b"a lamp", is_big_endian).await;
                let programs = display.programs(count).await;
                let (setup, trusted) = programs.last().unwrap();
                assert!(setup.presents(&Cookie::new(shown)), "{setup:?}");
                assert_eq!(*trusted, Some(trust == DisplayTrust::Trusted));
                assert_eq!(setup.encode()[0], if is_big_endian { b'B' } else { b'l' });
            }
            machine.tell(Do::Send(Bytes::from_static(b" and a horn")));
            let heard =
                machine.until(|heard| heard.data.ends_with(b"drawn").then(|| heard.data.clone())).await;
            assert!(heard.starts_with(&[1, 0, 11, 0]), "the display's own answer: {heard:?}");
            assert_eq!((windows.count(), windows.total()), (2, 2));
            // A program that ends leaves the other.
            machine.tell(Do::End);
            machine.until(|heard| (heard.closed == 1).then_some(())).await;
            until("one is left", || (windows.count(), windows.total()) == (1, 2)).await;
            assert_ne!(Cookie::from_hex(&request.cookie), Some(Cookie::new(OWN)));
            // The display goes: so do its windows, and nothing else.
            drop(display);
            assert!(machine.heard.lock().unwrap().end.is_none());
        }
    });
}

/// What was made once may have been forgotten: then it is made anew. To show what is unknown would be to be trusted, at a display that lets its user's
/// programs in.
#[test]
fn a_restricted_cookie_that_was_forgotten_is_not_shown_again() {
    on_this_thread(async {
        for character in [Character::Honest, Character::Open] {
            let scene = Scene::new();
            let display = Display::start(&scene, character);
            let (machine, _trunk, request, _windows) =
                forwarded(&scene, &display, DisplayTrust::Restricted).await;
            begins(&machine, &request.cookie, b"x", false).await;
            display.programs(1).await;
            display.seen.lock().unwrap().made.clear();
            begins(&machine, &request.cookie, b"x", false).await;
            let programs = display.programs(2).await;
            assert!(programs.iter().all(|(_, trusted)| *trusted == Some(false)), "{programs:?}");
            assert!(programs[1].0.presents(&Cookie::new([2; 16])));
            assert_eq!(display.seen.lock().unwrap().count, 2, "made when it is needed, and no oftener");
        }
    });
}

#[test]
fn one_connection_is_one_and_what_cannot_be_reached_is_refused_in_the_display_s_own_form() {
    on_this_thread(async {
        let scene = Scene::new();
        let display = Display::start(&scene, Character::Honest);
        let (machine, trunk, request, windows) = forwarded(&scene, &display, DisplayTrust::Single).await;
        assert!(request.single);
        begins(&machine, &request.cookie, b"x", false).await;
        display.programs(1).await;
        begins(&machine, &request.cookie, b"x", false).await;
        machine
            .until(|heard| (heard.opened.iter().filter(|opened| opened.is_err()).count() == 1).then_some(()))
            .await;
        assert_eq!((display.seen.lock().unwrap().programs.len(), windows.total()), (1, 1));
        // A display that has gone meanwhile.
        let forward = prepared(&display, DisplayTrust::Restricted).await.unwrap();
        let windows = forward.windows().clone();
        let request = forward.serve(&trunk, &mut SystemRandom);
        display.serving.abort();
        std::fs::remove_file(display.place.name.as_ref().unwrap()).unwrap();
        begins(&machine, &request.cookie, b"x", true).await;
        let heard = machine
            .until(|heard| {
                let at = heard.data.windows(15).position(|words| words == b"does not answer")?;
                Some((heard.data.clone(), at))
            })
            .await;
        let refusal = heard.0.windows(4).rposition(|head| head == [0, 11, 0, 0]);
        assert!(refusal.is_some_and(|at| at < heard.1), "in the program's order of bytes: {heard:?}");
        until("it is noted", || windows.last_failure().is_some()).await;
        assert!(windows.last_failure().unwrap().contains("does not answer"));
        assert_eq!(windows.total(), 0);
    });
}

/// What cannot be had is known before anybody logs in; nothing is trusted because it cannot be restricted.
#[test]
fn displays_of_every_character_are_told_apart() {
    on_this_thread(async {
        for (character, restricted, trusted) in [
            (Character::Honest, Ok(()), Ok(())),
            (Character::Open, Ok(()), Ok(())),
            (Character::Old, Err(DisplayCause::NoSecurity), Ok(())),
            (Character::Liar, Err(DisplayCause::NoSecurity), Ok(())),
            (Character::Gibberish, Err(DisplayCause::NotOne), Err(DisplayCause::NotOne)),
            (Character::Curt, Err(DisplayCause::NotOne), Err(DisplayCause::NotOne)),
            (Character::Wordy, Err(DisplayCause::NotOne), Err(DisplayCause::NotOne)),
        ] {
            let scene = Scene::new();
            let display = Display::start(&scene, character);
            let met = prepared(&display, DisplayTrust::Restricted).await.map(drop);
            assert_eq!(met, restricted, "{character:?}");
            assert_eq!(prepared(&display, DisplayTrust::Trusted).await.map(drop), trusted, "{character:?}");
            let seen = look(&display.place).await.map_err(|failure| failure.cause());
            assert_eq!(seen.map(|seen| seen.has_cookie), trusted.map(|()| true), "{character:?}");
        }
        let scene = Scene::new();
        let mut display = Display::start(&scene, Character::Honest);
        std::fs::remove_file(&display.place.authority).unwrap();
        let refused = DisplayCause::NotLetIn { has_cookie: false };
        assert_eq!(prepared(&display, DisplayTrust::Trusted).await.map(drop), Err(refused));
        std::fs::create_dir(&display.place.authority).unwrap();
        assert_eq!(prepared(&display, DisplayTrust::Trusted).await.map(drop), Err(DisplayCause::Authority));
        for (name, cause) in [
            (None, DisplayCause::Unnamed),
            (Some(""), DisplayCause::Unnamed),
            (Some("lamp"), DisplayCause::NotOne),
            (Some("/nowhere/display"), DisplayCause::NotThere),
        ] {
            display.place.authority = scene.folder.path().join("none");
            display.place.name = name.map(str::to_owned);
            assert_eq!(prepared(&display, DisplayTrust::Restricted).await.map(drop), Err(cause), "{name:?}");
        }
    });
}
