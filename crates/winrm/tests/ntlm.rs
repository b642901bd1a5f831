//! NTLM between our two roles, with everything that could be wrong with it, and between each of them and the system's own mechanism as a judge.

#![allow(clippy::unwrap_used, clippy::print_stderr)] // A test that cannot go on says so by panicking.

#[path = "../../kerberos/tests/judge/mod.rs"]
mod judge;

use std::path::Path;
use std::process::{Command, Stdio};

use judge::{Judge, hex};
use lantern_keys::{SecretString, SystemRandom};
use lantern_winrm::ntlm::{
    Acceptor, Challenged, Initiator, NtlmError, NtlmUser, Refusal, SIGNATURE_LEN, Seals, TargetInfo,
    channel_binding,
};
use proptest::prelude::*;

const NOW: i64 = 1_795_703_000;

fn user() -> NtlmUser {
    NtlmUser {
        name: "keeper".into(),
        domain: "COAST".into(),
        password: SecretString::new("high water".into()),
    }
}

fn machine() -> TargetInfo {
    TargetInfo {
        computer: "CHART-ROOM".into(),
        domain: "COAST".into(),
        dns_computer: "chart-room.coast.example".into(),
        dns_domain: "coast.example".into(),
    }
}

fn password(user: &str, domain: &str) -> Option<SecretString> {
    ((user, domain) == ("keeper", "COAST")).then(|| SecretString::new("high water".into()))
}

fn begun() -> (Challenged, Acceptor) {
    let initiator = Initiator::new();
    let acceptor = Acceptor::new(initiator.message(), &machine(), NOW, &mut SystemRandom).unwrap();
    let challenged = initiator.challenged(acceptor.message()).unwrap();
    (challenged, acceptor)
}

fn answered(challenged: Challenged, user: &NtlmUser, binding: Option<[u8; 16]>) -> (Vec<u8>, Seals) {
    challenged.authenticate(user, "HTTP/chart-room", binding, NOW, &mut SystemRandom).unwrap()
}

#[test]
fn a_login_gives_keys_to_both() {
    let (challenged, acceptor) = begun();
    assert_eq!((challenged.target(), challenged.time_there()), (machine(), Some(NOW)));
    let (third, mut client) = answered(challenged, &user(), None);
    let mut accepted = acceptor.accept(&third, password, None).unwrap();
    assert_eq!((accepted.user.as_str(), accepted.domain.as_str()), ("keeper", "COAST"));
    for turn in 0..3 {
        let mut message = format!("the lamp is lit, {turn}").into_bytes();
        let plain = message.clone();
        let signature = client.seal(&mut message);
        assert_ne!(message, plain);
        accepted.seals.open(&mut message, &signature).unwrap();
        assert_eq!(message, plain);
        let signature = accepted.seals.seal(&mut message);
        client.open(&mut message, &signature).unwrap();
        assert_eq!(message, plain);
    }
    // What is repeated does not open.
    let mut message = b"once".to_vec();
    let signature = client.seal(&mut message);
    let repeated = message.clone();
    accepted.seals.open(&mut message, &signature).unwrap();
    assert_eq!(accepted.seals.open(&mut repeated.clone(), &signature), Err(NtlmError::Altered));
}

#[test]
fn another_password_user_channel_or_message_is_refused() {
    let wrong = NtlmUser { password: SecretString::new("low water".into()), ..user() };
    let stranger = NtlmUser { name: "stranger".into(), ..user() };
    for user in [wrong, stranger] {
        let (challenged, acceptor) = begun();
        let (third, _) = answered(challenged, &user, None);
        assert_eq!(acceptor.accept(&third, password, None).unwrap_err(), Refusal::Wrong);
    }
    let (ours, theirs) = (channel_binding(b"one certificate"), channel_binding(b"another certificate"));
    for (binding, expected) in
        [(Some(ours), None), (Some(theirs), Some(Refusal::Channel)), (None, Some(Refusal::Channel))]
    {
        let (challenged, acceptor) = begun();
        let (third, _) = answered(challenged, &user(), binding);
        assert_eq!(acceptor.accept(&third, password, Some(ours)).err(), expected);
    }
}

#[test]
fn a_domain_of_one_dot_is_the_machine() {
    let (challenged, acceptor) = begun();
    let (third, _) = answered(challenged, &NtlmUser { domain: ".".into(), ..user() }, None);
    let local =
        |_: &str, domain: &str| (domain == "CHART-ROOM").then(|| SecretString::new("high water".into()));
    assert!(acceptor.accept(&third, local, None).is_ok());
}

#[test]
fn a_machine_whose_ntlm_is_weak_is_refused() {
    let (_, acceptor) = begun();
    for (flag, byte) in [(0x10, 20), (0x20, 20), (0x08, 22), (0x20, 23), (0x40, 23)] {
        let mut second = acceptor.message().to_vec();
        second[byte] &= !flag;
        assert!(matches!(Initiator::new().challenged(&second), Err(NtlmError::TooWeak(_))), "{byte} {flag}");
    }
}

proptest! {
    #[test]
    fn a_changed_message_is_refused_and_nothing_panics(at: prop::sample::Index, flip in 1u8.., which in 0usize..3, bytes: Vec<u8>) {
        let change = |message: &[u8]| {
            let mut message = message.to_vec();
            let at = at.index(message.len());
            message[at] ^= flip;
            message
        };
        let _ = Acceptor::new(&bytes, &machine(), NOW, &mut SystemRandom);
        let _ = Initiator::new().challenged(&bytes);
        let _ = begun().1.accept(&bytes, password, None);
        let initiator = Initiator::new();
        let first = if which == 0 { change(initiator.message()) } else { initiator.message().to_vec() };
        let Ok(acceptor) = Acceptor::new(&first, &machine(), NOW, &mut SystemRandom) else { return Ok(()) };
        let second = if which == 1 { change(acceptor.message()) } else { acceptor.message().to_vec() };
        let Ok(challenged) = initiator.challenged(&second) else { return Ok(()) };
        let (third, _) = answered(challenged, &user(), None);
        let third = if which == 2 { change(&third) } else { third };
        // The integrity code covers all three; what a change can only do is nothing: to the offset of an empty field.
        let accepted = acceptor.accept(&third, password, None);
        prop_assert!(accepted.is_err(), "{which} {at:?} {flip}");
    }
}

/// None, where the system has no such mechanism: said, unless tests must be whole. The folder is the judge's.
fn start_judge(role: &str, binding: &[u8]) -> Option<(Judge, tempfile::TempDir)> {
    let has = Command::new("/usr/bin/python3").args(["-c", "import gssapi"]).stderr(Stdio::null()).status();
    let is_there = has.is_ok_and(|status| status.success())
        && Path::new("/usr/lib/x86_64-linux-gnu/gssntlmssp/gssntlmssp.so").exists();
    if !is_there {
        assert!(std::env::var_os("CI").is_none(), "the NTLM mechanism of GSS-API is not installed");
        eprintln!("skipped: no NTLM mechanism of GSS-API here");
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    let users = folder.path().join("users");
    std::fs::write(&users, "COAST:keeper:high water\n").unwrap();
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/ntlm_judge.py");
    let mut command = Command::new("/usr/bin/python3");
    Some((Judge::start(command.args([program, role, &hex(binding)]).env("NTLM_USER_FILE", users)), folder))
}

/// Both sides say what they have to say.
fn talk(mut judge: Judge, seals: &mut Seals) {
    for expected in ["the lamp is lit", "the lamp is out"] {
        let sealed = judge.hear();
        let (signature, message) = sealed.split_at(SIGNATURE_LEN);
        let mut message = message.to_vec();
        seals.open(&mut message, signature).unwrap();
        assert_eq!(message, expected.as_bytes());
        let mut ours = format!("heard: {expected}").into_bytes();
        let signature = seals.seal(&mut ours);
        judge.tell(&[&signature[..], &ours].concat());
        assert_eq!(judge.line(), format!("heard: {expected}"));
    }
    judge.ends_well();
}

#[test]
fn the_judge_takes_our_login() {
    for binding in [&b""[..], b"0123456789abcdef0123456789abcdef"] {
        let Some((mut judge, _folder)) = start_judge("accept", binding) else { return };
        let initiator = Initiator::new();
        judge.tell(initiator.message());
        let challenged = initiator.challenged(&judge.hear()).unwrap();
        let binding = (!binding.is_empty()).then(|| channel_binding(binding));
        let (third, mut seals) = answered(challenged, &user(), binding);
        judge.tell(&third);
        // It ends names with a null.
        assert_eq!(judge.line().trim_end_matches('\0'), r"user COAST\keeper");
        talk(judge, &mut seals);
    }
}

#[test]
fn we_take_the_judges_login() {
    for binding in [&b""[..], b"0123456789abcdef0123456789abcdef"] {
        let Some((mut judge, _folder)) = start_judge("initiate", binding) else { return };
        let acceptor = Acceptor::new(&judge.hear(), &machine(), NOW, &mut SystemRandom).unwrap();
        judge.tell(acceptor.message());
        let third = judge.hear();
        let binding = (!binding.is_empty()).then(|| channel_binding(binding));
        let mut accepted = acceptor.accept(&third, password, binding).unwrap();
        assert_eq!(accepted.user, "keeper");
        talk(judge, &mut accepted.seals);
    }
}
