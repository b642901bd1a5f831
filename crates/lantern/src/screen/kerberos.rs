//! What failures of Kerberos mean, and what to do about them: in the domain, in the book, here.

use std::path::Path;

use lantern_kerberos::{KerberosError, Refusal, RefusalKind};
use lantern_link::{KerberosFailure, LoginRefused};
use lantern_operations::{Target, quoted};

use crate::screen::advice::Advice;

/// The lines that say where a realm's centres are.
const CENTRES: &str = "in /etc/krb5.conf, under [realms]:  REALM = { kdc = HOST }";

/// What to do about it.
pub(crate) fn advise(failure: &KerberosFailure, name: &str, target: Option<&Target>) -> Advice {
    let set = |what: &str| format!("lantern machine set {name} {}", quoted(Path::new(what)));
    let host = target.and_then(|target| target.addresses.first()).map_or("HOST", String::as_str);
    let ticket = |user: &str| format!("kinit {}", quoted(Path::new(user)));
    match failure {
        KerberosFailure::Address { .. } => Advice::new(
            ["the machine's name is its address in the book, or at least its service has it in its name:"],
            set("service-name=HTTP/NAME.DOMAIN"),
        ),
        KerberosFailure::ServiceName { .. } => {
            Advice::new(["it is a class and a host:"], set(&format!("service-name=HTTP/{host}")))
        }
        KerberosFailure::OwnUser { .. } => {
            Advice::new(["the machine's own users log in by NTLM"], set("login-by=ntlm"))
        }
        KerberosFailure::NoRealm { user } => Advice::new(
            ["the realm is the name of the domain; `default_realm` in /etc/krb5.conf says it for all"],
            set(&format!("user={}@REALM", user.rsplit('\\').next().unwrap_or(user))),
        ),
        KerberosFailure::NoTicket { .. } => Advice::new(
            ["a ticket is got by the system's own program; without one, a password is asked for"],
            "kinit USER@REALM",
        ),
        KerberosFailure::Ended { owner, .. } => Advice::new(["it is got anew:"], ticket(owner)),
        KerberosFailure::OtherUser { owner, .. } => Advice::new(
            ["either the login is as the one who has the ticket, or another ticket is got"],
            set(&format!("user={owner}")),
        ),
        KerberosFailure::CacheKind { .. } => Advice::new(
            ["a ticket in a file is found by a variable, by lantern and by others:"],
            "export KRB5CCNAME=FILE:$HOME/.tickets; kinit USER@REALM",
        ),
        KerberosFailure::Unreadable { .. } => {
            Advice::new(["it is written anew with the next ticket"], "kinit USER@REALM")
        }
        KerberosFailure::NoCentre { realm } => Advice::new(
            [format!(
                "domains tell it by DNS (_kerberos._tcp.{}), where this computer asks their resolvers; else it is said here",
                realm.to_lowercase()
            )],
            CENTRES,
        ),
        KerberosFailure::Unheard { .. } => Advice::new(
            [
                "the password may have been counted as a try, so it was tried in no other way; the centre hangs, or the line to it broke",
            ],
            format!("lantern check {name}"),
        ),
        KerberosFailure::Unreached { .. } => Advice::new(
            ["they are spoken to directly, at port 88 by TCP, whichever way the machine itself is reached"],
            CENTRES,
        ),
        KerberosFailure::Refused { source, clock, realm, .. } => of_centre(source, *clock, realm, name),
        KerberosFailure::Centre { source: KerberosError::WrongPassword, .. } => wrong_password(name),
        KerberosFailure::Centre { source: KerberosError::EncryptionType(_), .. } => no_type(),
        KerberosFailure::Circle { .. } => Advice::new(
            [
                "which realm a host is in is said for all programs in /etc/krb5.conf; its whole name may say it, too",
            ],
            format!("in /etc/krb5.conf, under [domain_realm]:  {host} = REALM"),
        ),
        KerberosFailure::Machine { service, .. } => other_key(service),
        _ => Advice::new(
            ["what answers there does not keep to Kerberos: is it the realm's centre?"],
            format!("lantern --verbose check {name}"),
        ),
    }
}

fn of_centre(refusal: &Refusal, clock: Option<i64>, realm: &str, name: &str) -> Advice {
    let set = |what: &str| format!("lantern machine set {name} {}", quoted(Path::new(what)));
    let mut advice = match refusal.kind {
        RefusalKind::NoSuchService => Advice::new(
            [
                "services are registered by the names that machines have in the domain: is that the whole name? An alias is not known unless somebody registered it",
            ],
            set(&format!("service-name=HTTP/NAME.{}", realm.to_lowercase())),
        ),
        RefusalKind::NoSuchUser => Advice::new(
            [format!(
                "the user's name in the realm {realm} is what it goes by; the machine's own users are .\\NAME"
            )],
            set(&format!("user=NAME@{realm}")),
        ),
        RefusalKind::WrongPassword => wrong_password(name),
        RefusalKind::PasswordEnded => {
            Advice::new(["it is changed by the system's own program:"], "kpasswd USER@REALM")
        }
        RefusalKind::AccountLocked => {
            Advice::new(["an administrator of the domain unlocks it"], "in the domain: Unlock-ADAccount USER")
        }
        RefusalKind::ClocksDiffer => Advice::new(
            ["clocks may differ by five minutes: it is this computer's that is to be set, or theirs"],
            "timedatectl set-ntp true",
        ),
        RefusalKind::NoEncryptionType => no_type(),
        RefusalKind::Policy => Advice::new(
            ["a ticket that another machine may use is not given for every account, nor to every machine"],
            set("delegate-ticket=false"),
        ),
        RefusalKind::TicketEnded => Advice::new(["it is got anew:"], "kinit USER@REALM"),
        _ => Advice::new(Vec::<String>::new(), format!("lantern machine set {name} login-by=ntlm")),
    };
    if let Some(clock) = clock {
        advice.lines.push(format!("its clock is {clock} s ahead of ours"));
    }
    if let Some(text) = refusal.text.as_ref().filter(|text| !text.is_empty()) {
        advice.lines.push(format!("the centre says: {text}"));
    }
    advice
}

fn wrong_password(name: &str) -> Advice {
    Advice::new(
        [
            "it was shown to the realm once, since accounts lock, and to no machine: the question comes again with the next try",
        ],
        format!("lantern run {name} -- whoami"),
    )
}

fn no_type() -> Advice {
    Advice::new(
        ["the account has no key for AES: it is set so, or its password is older than that"],
        "in the domain: Set-ADUser USER -KerberosEncryptionType AES128,AES256",
    )
}

/// A machine that does not open the ticket for it.
fn other_key(service: &str) -> Advice {
    let service = service.split('@').next().unwrap_or(service);
    Advice::new(
        [
            "the name of its service is registered for another account than the one it runs as, or what answers is another machine",
        ],
        format!("in the domain: setspn -Q {}", quoted(Path::new(service))),
    )
}

/// A ticket that a machine refused.
pub(crate) fn of_refusal(refused: &LoginRefused, name: &str) -> Advice {
    let service = refused.service.as_deref().unwrap_or("HTTP/HOST");
    let mut advice = match refused.why.as_ref().map(|why| why.kind) {
        Some(RefusalKind::OtherKey) => other_key(service),
        Some(RefusalKind::ClocksDiffer) => Advice::new(
            ["clocks may differ by five minutes, and the machine's is not that of its domain"],
            "on the machine's console: w32tm /resync",
        ),
        _ => Advice::new(
            [
                "the domain gave the ticket, and the machine did not take it: may that user log in over the network there, and is it that machine?",
            ],
            format!("lantern machine set {name} login-by=ntlm"),
        ),
    };
    if let Some(why) = &refused.why {
        advice.lines.push(format!("the machine says: {why}"));
    }
    if let Some(clock) = refused.clock {
        advice.lines.push(format!("its clock is {clock} s ahead of ours"));
    }
    if !refused.offered.is_empty() {
        advice.lines.push(format!("it offers: {}", refused.offered.join(", ")));
    }
    advice
}
