//! Logins at a real key distribution centre, and with the system's own GSS-API on the other side.

// A test that cannot go on says so by panicking; a real centre has a real clock.
#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods)]

mod judge;
mod realm;

use std::io::{Read, Write};
use std::net::{Ipv4Addr, TcpStream};
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

use judge::{Judge, hex};
use lantern_kerberos::{
    Acceptor, Cache, Credential, EncryptionType, Granted, Initiator, KerberosError, Key, LoginStep, Moment,
    Offer, PasswordLogin, Principal, RefusalKind, TicketRequest, Wraps, forwarded, spnego,
};
use lantern_keys::{SecretString, SystemRandom};
use realm::Realm;

const REALM: &str = "COAST.EXAMPLE";
const SERVICE: &str = "HTTP/chart-room.coast.example";
/// The same hash of a certificate as GSS-API makes it.
const CERTIFICATE: &[u8] = b"0123456789abcdef0123456789abcdef";

fn now() -> Moment {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
    Moment { seconds: since.as_secs().try_into().unwrap(), micros: since.subsec_micros() }
}

fn secret(text: &str) -> SecretString {
    SecretString::new(text.into())
}

/// One message and its answer (RFC 4120 §7.2.2).
fn ask(port: u16, message: &[u8]) -> Vec<u8> {
    let mut line = TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap();
    line.write_all(&u32::try_from(message.len()).unwrap().to_be_bytes()).unwrap();
    line.write_all(message).unwrap();
    let mut len = [0; 4];
    line.read_exact(&mut len).unwrap();
    let mut answer = vec![0; u32::from_be_bytes(len).try_into().unwrap()];
    line.read_exact(&mut answer).unwrap();
    answer
}

fn log_in(realm: &Realm, user: &str, password: &str, now: Moment) -> Result<Credential, KerberosError> {
    let mut login = PasswordLogin::new(Principal::user(user, realm.name()), &mut SystemRandom);
    let mut message = login.first(now)?;
    loop {
        match login.handle(&ask(realm.port, &message), &secret(password), now, &mut SystemRandom)? {
            LoginStep::Send(next) => message = next,
            LoginStep::Ticket(ticket) => return Ok(*ticket),
        }
    }
}

fn ticket(realm: &Realm, login: &Credential, service: &str) -> Result<Granted, KerberosError> {
    let service = Principal::service(service, realm.name()).unwrap();
    let request = TicketRequest::new(login.clone(), service, now(), &mut SystemRandom)?;
    let answer = ask(realm.port, request.message());
    request.handle(&answer)
}

fn for_service(realm: &Realm, login: &Credential, service: &str) -> Credential {
    match ticket(realm, login, service).unwrap() {
        Granted::Ticket(ticket) => ticket,
        Granted::Referral(referral) => panic!("a referral to {}", referral.server),
    }
}

fn start_judge(
    realm: &Realm,
    role: &str,
    name: &str,
    mechanism: &str,
    binding: &[u8],
    cache: &Path,
) -> Judge {
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judge.py");
    let mut command = realm.command("/usr/bin/python3");
    Judge::start(command.args([program, role, name, mechanism, &hex(binding)]).env("KRB5CCNAME", cache))
}

/// Both sides say what they have to say.
fn talk(mut judge: Judge, wraps: &mut Wraps) {
    for expected in ["the lamp is lit", "the lamp is out"] {
        let sealed = judge.hear();
        assert_eq!(*wraps.open(&sealed, &[]).unwrap(), expected.as_bytes());
        // What came once does not come again.
        assert_eq!(wraps.open(&sealed, &[]), Err(KerberosError::Altered));
        let ours = format!("heard: {expected}");
        let sealed = wraps.seal(ours.as_bytes());
        assert_eq!(sealed.data.len(), ours.len());
        judge.tell(&[sealed.signature, sealed.data].concat());
        assert_eq!(judge.line(), ours);
    }
    let signature = judge.hear();
    assert!(wraps.is_signed(b"so be it", &signature));
    judge.tell(&wraps.sign(b"and so it is"));
    assert_eq!(judge.line(), "verified");
    judge.ends_well();
}

/// The hash that GSS-API makes of channel bindings (RFC 4121 §4.1.1.2), by another program.
fn binding() -> [u8; 16] {
    let text = "import hashlib,sys,struct; d=b'tls-server-end-point:0123456789abcdef0123456789abcdef'; sys.stdout.buffer.write(hashlib.md5(bytes(16)+struct.pack('<I',len(d))+d).digest())";
    let output = std::process::Command::new("/usr/bin/python3").args(["-c", text]).output().unwrap();
    output.stdout.try_into().unwrap()
}

const KINDS: [&str; 4] = [
    "aes256-cts-hmac-sha384-192:normal",
    "aes128-cts-hmac-sha256-128:normal",
    "aes256-cts-hmac-sha1-96:normal",
    "aes128-cts-hmac-sha1-96:normal",
];

#[test]
fn the_judge_takes_our_login_with_every_encryption_type() {
    if !realm::is_possible() {
        return;
    }
    let realm = Realm::new(REALM, "");
    for (kind, index) in KINDS.iter().zip(0..) {
        let (user, service) = (format!("keeper{index}"), format!("HTTP/room{index}.coast.example"));
        realm.user(&user, "high water", &format!("-e {kind}"));
        let keys = realm.service(&service, "low water", &format!("-e {kind}"));
        let login = log_in(&realm, &user, "high water", now()).unwrap();
        assert!(login.is_forwardable() && login.serves(now().seconds));
        let mut offer = Offer::default();
        for (mechanism, bound, is_delegated) in
            [("kerberos", false, false), ("kerberos", true, true), ("spnego", true, false)]
        {
            let ticket = for_service(&realm, &login, &service);
            offer.binding = bound.then(binding);
            offer.forwarded = is_delegated.then(|| {
                let request = TicketRequest::to_forward(login.clone(), now(), &mut SystemRandom).unwrap();
                let answer = ask(realm.port, request.message());
                let Granted::Ticket(forward) = request.handle(&answer).unwrap() else { panic!("a referral") };
                forwarded(&forward, &ticket, &mut SystemRandom).unwrap()
            });
            let (initiator, token) = Initiator::new(&ticket, &offer, now(), &mut SystemRandom).unwrap();
            let certificate = if bound { CERTIFICATE } else { b"" };
            let keys = keys.to_str().unwrap();
            let mut judge =
                start_judge(&realm, "accept", keys, mechanism, certificate, Path::new("/nonexistent"));
            let mut wraps = if mechanism == "spnego" {
                judge.tell(&spnego::begin(&token).unwrap());
                let answer = spnego::answered(&judge.hear()).unwrap();
                assert_eq!(answer.state, spnego::State::Completed);
                initiator.established(&answer.token.unwrap()).unwrap()
            } else {
                judge.tell(&token);
                initiator.established(&judge.hear()).unwrap()
            };
            let alone = if is_delegated { "delegated" } else { "alone" };
            assert_eq!(judge.line(), format!("user {user}@{REALM} {alone}"));
            talk(judge, &mut wraps);
        }
    }
}

#[test]
fn we_take_the_judges_login_and_read_its_tickets() {
    if !realm::is_possible() {
        return;
    }
    let realm = Realm::new(REALM, "");
    realm.user("keeper", "high water", "");
    let cache = realm.folder().join("tickets");
    realm.tickets("keeper", "high water", cache.to_str().unwrap(), &[]);
    let read = Cache::decode(&std::fs::read(&cache).unwrap()).unwrap();
    assert_eq!(read.owner.to_string(), format!("keeper@{REALM}"));
    let login = read.login(now().seconds).unwrap();
    assert!(login.is_forwardable());
    for (kind, index) in KINDS.iter().zip(0..) {
        let service = format!("HTTP/room{index}.coast.example");
        realm.service(&service, "low water", &format!("-e {kind}"));
        // A ticket got with the other program's ticket.
        let ticket = for_service(&realm, login, &service);
        assert_eq!(ticket.client.to_string(), format!("keeper@{REALM}"));
        let principal = Principal::service(&service, REALM).unwrap();
        let keys = EncryptionType::ALL
            .map(|kind| Key::of_password(kind, &secret("low water"), &principal.salt(), None).unwrap());
        let acceptor = Acceptor::new(principal.clone(), keys.to_vec());
        for mechanism in ["kerberos", "spnego"] {
            let name = principal.to_string();
            let mut judge = start_judge(&realm, "initiate", &name, mechanism, CERTIFICATE, &cache);
            let token = spnego::begun(&judge.hear()).unwrap();
            let mut accepted = acceptor.accept(&token, Some(binding()), now(), &mut SystemRandom).unwrap();
            assert_eq!(accepted.client.to_string(), format!("keeper@{REALM}"));
            let answer = match mechanism {
                "spnego" => spnego::answer(spnego::State::Completed, Some(&accepted.answer), None).unwrap(),
                _ => accepted.answer,
            };
            judge.tell(&answer);
            talk(judge, &mut accepted.wraps);
        }
    }
    // With the tickets that the judge got meanwhile, and put there.
    let read = Cache::decode(&std::fs::read(&cache).unwrap()).unwrap();
    let service = Principal::service("HTTP/room2.coast.example", REALM).unwrap();
    assert!(read.ticket(&service, now().seconds).is_some());
}

#[test]
fn the_centres_refusals_are_told_apart() {
    if !realm::is_possible() {
        return;
    }
    let realm = Realm::new(REALM, "");
    realm.user("keeper", "high water", "+requires_preauth");
    realm.user("gone", "high water", "-allow_tix");
    realm.user("old", "high water", "+requires_preauth +needchange");
    realm.service(SERVICE, "low water", "");
    let refused = |result: Result<Credential, KerberosError>| match result.unwrap_err() {
        KerberosError::Refused(refusal) => refusal.kind,
        other => panic!("{other:?}"),
    };
    let login = |user: &str, password: &str, now| log_in(&realm, user, password, now);
    assert_eq!(refused(login("keeper", "low water", now())), RefusalKind::WrongPassword);
    assert_eq!(refused(login("stranger", "low water", now())), RefusalKind::NoSuchUser);
    assert_eq!(refused(login("gone", "high water", now())), RefusalKind::AccountLocked);
    assert_eq!(refused(login("old", "high water", now())), RefusalKind::PasswordEnded);
    let late = Moment::at(now().seconds + 1_000);
    assert_eq!(refused(login("keeper", "high water", late)), RefusalKind::ClocksDiffer);
    let own = login("keeper", "high water", now()).unwrap();
    for service in ["HTTP/fog-bell.coast.example", "HTTP/192.0.2.7"] {
        match ticket(&realm, &own, service).unwrap_err() {
            KerberosError::Refused(refusal) => assert_eq!(refusal.kind, RefusalKind::NoSuchService),
            other => panic!("{other:?}"),
        }
    }
    // A user whose password is not proven first opens nothing with another one.
    realm.user("early", "high water", "-requires_preauth");
    assert!(login("early", "high water", now()).is_ok());
    assert_eq!(login("early", "low water", now()).unwrap_err(), KerberosError::WrongPassword);
}

#[test]
fn another_realm_is_reached_by_referral() {
    if !realm::is_possible() {
        return;
    }
    const INLAND: &str = "INLAND.EXAMPLE";
    let more = format!("[domain_realm]\n.inland.example = {INLAND}\n");
    let (coast, inland) = (Realm::new(REALM, &more), Realm::new(INLAND, ""));
    coast.user("keeper", "high water", "");
    for realm in [&coast, &inland] {
        realm.user(&format!("krbtgt/{INLAND}@{REALM}"), "border stone", "");
    }
    let service = "HTTP/lock-house.inland.example";
    let keys = inland.service(service, "low water", "");
    let login = log_in(&coast, "keeper", "high water", now()).unwrap();
    let Granted::Referral(referral) = ticket(&coast, &login, service).unwrap() else { panic!("no referral") };
    assert_eq!(referral.server.gives_tickets_of(), Some(INLAND));
    let ticket = for_service(&inland, &referral, service);
    let (initiator, token) = Initiator::new(&ticket, &Offer::default(), now(), &mut SystemRandom).unwrap();
    let mut judge =
        start_judge(&inland, "accept", keys.to_str().unwrap(), "kerberos", b"", Path::new("/nonexistent"));
    judge.tell(&token);
    let mut wraps = initiator.established(&judge.hear()).unwrap();
    assert_eq!(judge.line(), format!("user keeper@{REALM} alone"));
    talk(judge, &mut wraps);
}
