//! What a machine that is spoken to by WinRM says: envelopes, faults, sealed bodies, challenges, messages of NTLM, and its certificate; and what a
//! client says to a simulated one.
#![no_main]

use lantern_winrm::ntlm::{Acceptor, Initiator, TargetInfo};
use lantern_winrm::remoting::{
    Command, Defragmenter, HostAnswer, HostFacts, Message, Objects, Pipeline, Session, SessionEvent,
};
use lantern_winrm::sealed::{Sealed, SealedBy};
use lantern_winrm::{
    Challenges, CommandShell, Lane, NewCommand, NewShell, Posts, Request, Response, ServicePlace, ShellConfig,
};

fn place() -> ServicePlace {
    ServicePlace {
        url: "https://chart-room:5986/wsman".into(),
        language: "en-US".into(),
        max_envelope: 153_600,
    }
}

/// A session that a machine says this to, by the pool and by a pipeline in turn: whatever it is, it ends in an error or goes on.
fn converse(bytes: &[u8]) {
    let mut session = Session::new(HostFacts::default(), 32_768, Box::new(lantern_keys::SystemRandom));
    let _ = session.creation();
    let (name, _) = session.begin(&Pipeline { commands: vec![Command::script("1")], ..Pipeline::default() });
    for (at, piece) in bytes.split(|byte| *byte == 0xff).enumerate() {
        let of = (at % 2 == 0).then_some(name.as_str());
        if session.handle(of, piece).is_err() {
            return;
        }
        while let Some((event, _)) = session.poll_event() {
            if let SessionEvent::Asked(call) = event {
                let _ = session.answer(&call, HostAnswer::Line("lit".into()));
            }
        }
        while session.poll_said().is_some() {}
    }
}

fn shell() -> CommandShell {
    let config = ShellConfig {
        place: place(),
        shell: NewShell::default(),
        command: NewCommand { line: "hostname".into(), by_interpreter: false },
    };
    CommandShell::new(config, Box::new(lantern_keys::SystemRandom))
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((which, bytes)) = bytes.split_first() else { return };
    match which % 10 {
        0 => {
            let _ = Request::decode(bytes);
            for request in
                [Request::Identify, Request::Receive { command: Some("A".into()) }, Request::Delete]
            {
                let _ = Response::decode(bytes, &request, "B");
            }
        }
        1 => {
            // Whatever comes, the command ends, and once.
            let mut shell = shell();
            for answer in bytes.split(|byte| *byte == 0) {
                let Ok(Some(post)) = shell.poll_post(Lane::Main) else { break };
                shell.handle_answer(post.number, answer);
            }
            while shell.poll_event().is_some() {}
        }
        2 => {
            if let Ok(sealed) = Sealed::decode(bytes, SealedBy::Negotiate, "Encrypted Boundary") {
                assert_eq!(sealed.data.len(), sealed.plain_len);
            }
            if let Ok(text) = std::str::from_utf8(bytes) {
                let _ = SealedBy::parse(text);
                let _ = Challenges::parse(text.lines());
                assert!(!lantern_winrm::split(text).is_empty());
            }
        }
        3 => {
            let _ = Initiator::new().challenged(bytes);
        }
        4 => {
            let _ = Acceptor::new(bytes, &TargetInfo::default(), 0, &mut lantern_keys::SystemRandom);
        }
        6 => {
            // Whatever is put together is a message or none, and its objects are written as they were read.
            for (_, message) in Defragmenter::default().take(bytes).unwrap_or_default() {
                let _ = Message::decode(&message);
            }
        }
        7 => {
            if let Ok(text) = std::str::from_utf8(bytes)
                && let Ok(objects) = Objects::read(text)
            {
                if let Some(root) = objects.roots.first() {
                    let _ = (objects.plain_text(root), objects.to_json(root, 8), Pipeline::read(&objects));
                }
                let written = objects.write_first();
                if !written.is_empty() {
                    let again = Objects::read(&written).map(|again| again.write_first());
                    assert_eq!(again, Ok(written));
                }
            }
        }
        9 => converse(bytes),
        5 => {
            let first = Initiator::new();
            if let Ok(acceptor) =
                Acceptor::new(first.message(), &TargetInfo::default(), 0, &mut lantern_keys::SystemRandom)
            {
                let _ = acceptor.accept(bytes, |_, _| Some(lantern_keys::SecretString::default()), None);
            }
        }
        _ => {
            if let Ok(certificate) = lantern_keys::TlsCertificate::read(bytes) {
                let _ = (
                    certificate.faults(&["chart-room", "192.0.2.7"], 0),
                    certificate.describe(),
                    certificate.holder(),
                );
            }
        }
    }
});
