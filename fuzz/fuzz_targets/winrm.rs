//! What a machine that is spoken to by WinRM says: envelopes, faults, sealed bodies, challenges, messages of NTLM, and its certificate; and what a
//! client says to a simulated one.
#![no_main]

use lantern_winrm::ntlm::{Acceptor, Initiator, TargetInfo};
use lantern_winrm::remoting::{Defragmenter, Message, Objects};
use lantern_winrm::sealed::{Sealed, SealedBy};
use lantern_winrm::{Challenges, CommandShell, Lane, NewCommand, NewShell, Request, Response, ShellConfig};

fn shell() -> CommandShell {
    let config = ShellConfig {
        url: "https://chart-room:5986/wsman".into(),
        language: "en-US".into(),
        max_envelope: 153_600,
        shell: NewShell::default(),
        command: NewCommand { line: "hostname".into(), by_interpreter: false },
    };
    CommandShell::new(config, Box::new(lantern_keys::SystemRandom))
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((which, bytes)) = bytes.split_first() else { return };
    match which % 9 {
        0 => {
            let _ = Request::decode(bytes);
            for request in [Request::Identify, Request::Receive { command: Some("A".into()) }, Request::Delete] {
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
                let written = objects.write_first();
                if !written.is_empty() {
                    let again = Objects::read(&written).map(|again| again.write_first());
                    assert_eq!(again, Ok(written));
                }
            }
        }
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
