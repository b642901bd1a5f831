//! The machine's side of a login with a ticket: for simulated machines and for tests. It remembers nothing, so it takes a login twice.

use lantern_keys::RandomSource;
use subtle::ConstantTimeEq;

use crate::asn1::{Text, Time, enclose, open};
use crate::encryption::{Key, usage};
use crate::gss::{Token, deframe, enframe};
use crate::initiator::{DELEGATED, GSS_CHECKSUM};
use crate::messages::{
    ApRep, ApRepPart, ApReq, Authenticator, ErrorMessage, Name, PlainKey, Ticket, TicketPart, VERSION,
    encrypted, kind,
};
use crate::{KerberosError, Moment, Principal, Wraps};

/// How far clocks may differ, in seconds (RFC 4120 §1.6).
const CLOCKS_MAY_DIFFER: i64 = 300;

/// A service that takes logins.
#[derive(Debug)]
pub struct Acceptor {
    service: Principal,
    keys: Vec<Key>,
}

/// A login that was taken.
#[derive(Debug)]
pub struct Accepted {
    /// Who.
    pub client: Principal,
    /// Whether a ticket to go on with came with it.
    pub is_delegated: bool,
    /// What is sealed from now on.
    pub wraps: Wraps,
    /// The token that proves the machine.
    pub answer: Vec<u8>,
}

/// A login that was not.
#[derive(Debug)]
pub struct Unaccepted {
    /// Why.
    pub why: KerberosError,
    /// What is said of it.
    pub answer: Option<Vec<u8>>,
}

impl From<KerberosError> for Unaccepted {
    fn from(why: KerberosError) -> Self {
        Self { why, answer: None }
    }
}

impl Acceptor {
    /// A service, with a key of each encryption type that its centre may use.
    pub fn new(service: Principal, keys: Vec<Key>) -> Self {
        Self { service, keys }
    }

    /// Takes a login. `binding` is what it must be bound to, where it is within TLS.
    ///
    /// # Errors
    /// It proves nothing.
    pub fn accept(
        &self,
        token: &[u8],
        binding: Option<[u8; 16]>,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<Accepted, Unaccepted> {
        let (Token::Request, message) = deframe(token)? else {
            return Err(KerberosError::Damaged("an answer where a login should be").into());
        };
        let request: ApReq = open(kind::AP_REQ, message)?;
        let refuse = |code| self.refuse(code, now);
        let ticket: Ticket =
            open(kind::TICKET, &der::Encode::to_der(&request.ticket).map_err(KerberosError::from)?)?;
        let key = self.keys.iter().find(|key| key.kind().number() == ticket.part.etype);
        let part =
            key.and_then(|key| ticket.part.decrypt(key, usage::TICKET).ok()).ok_or_else(|| refuse(41))?;
        let part: TicketPart = open(kind::TICKET_PART, &part)?;
        let session = part.key.key()?;
        let plain = request.authenticator.decrypt(&session, usage::AUTHENTICATOR)?;
        let proof: Authenticator = open(kind::AUTHENTICATOR, &plain)?;
        if proof.ctime.0.abs_diff(now.seconds) > CLOCKS_MAY_DIFFER.unsigned_abs() {
            return Err(refuse(37));
        }
        if part.endtime.0 < now.seconds {
            return Err(refuse(32));
        }
        let client = part.cname.at(part.crealm);
        if client.parts != proof.cname.at(proof.crealm).parts {
            return Err(refuse(36));
        }
        let purpose = proof.cksum.filter(|sum| sum.kind == GSS_CHECKSUM);
        let purpose =
            purpose.ok_or(KerberosError::Damaged("a login without its purpose"))?.value.into_bytes();
        let bound = purpose.get(4..20).unwrap_or_default();
        if binding.is_some_and(|binding| !bool::from(binding.ct_eq(bound))) {
            return Err(KerberosError::NotProven("bound to this channel").into());
        }
        let flags = purpose.get(20..24).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_le_bytes);
        let subkey = Key::generate(session.kind(), random);
        let sequence = crate::password_login::nonce(random);
        let reply = ApRepPart {
            ctime: proof.ctime,
            cusec: proof.cusec,
            subkey: Some(PlainKey::of(&subkey)?),
            sequence: Some(sequence.into()),
        };
        let part = encrypted(&enclose(kind::AP_REP_PART, &reply)?, &session, usage::AP_REP, random)?;
        let answer = enclose(kind::AP_REP, &ApRep { pvno: VERSION, kind: 15, part })?;
        let receive = u32::try_from(proof.sequence.unwrap_or(0)).unwrap_or(0);
        Ok(Accepted {
            client,
            is_delegated: flags & DELEGATED != 0,
            wraps: Wraps::new(subkey, true, true, sequence, receive),
            answer: enframe(Token::Reply, &answer)?,
        })
    }

    fn refuse(&self, code: i32, now: Moment) -> Unaccepted {
        let message = ErrorMessage {
            pvno: VERSION,
            kind: 30,
            ctime: None,
            cusec: None,
            stime: Time(now.seconds),
            susec: now.micros,
            code,
            crealm: None,
            cname: None,
            realm: Text(self.service.realm.clone()),
            sname: Name::of(&self.service),
            text: None,
            data: None,
        };
        let answer = enclose(kind::ERROR, &message).and_then(|message| enframe(Token::Error, &message));
        Unaccepted { why: KerberosError::NotProven("somebody who may log in"), answer: answer.ok() }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use crate::asn1::Flags;
    use crate::{Credential, EncryptionType, Initiator, Offer, RefusalKind, spnego};
    use der::asn1::Any;
    use der::{Decode, Encode};
    use lantern_keys::SystemRandom;
    use proptest::prelude::*;

    const NOW: Moment = Moment { seconds: 1_795_703_000, micros: 77 };

    /// A machine, and a ticket for it as a centre would make one.
    fn machine(ends: i64) -> (Acceptor, Credential) {
        let service = Principal::service("HTTP/chart-room.coast.example", "COAST.EXAMPLE").unwrap();
        let client = Principal::user("keeper", "COAST.EXAMPLE");
        let own = Key::generate(EncryptionType::Aes256Sha1, &mut SystemRandom);
        let key = Key::generate(EncryptionType::Aes128Sha1, &mut SystemRandom);
        let part = TicketPart {
            flags: Flags(0),
            key: PlainKey::of(&key).unwrap(),
            crealm: Text(client.realm.clone()),
            cname: Name::of(&client),
            transited: Any::from_der(&Vec::<i32>::new().to_der().unwrap()).unwrap(),
            authtime: Time(NOW.seconds),
            starttime: None,
            endtime: Time(ends),
            renew_till: None,
            caddr: None,
            authorization: None,
        };
        let part =
            encrypted(&enclose(kind::TICKET_PART, &part).unwrap(), &own, usage::TICKET, &mut SystemRandom);
        let (realm, sname) = (Text(service.realm.clone()), Name::of(&service));
        let ticket = Ticket { version: VERSION, realm, sname, part: part.unwrap() };
        let ticket = enclose(kind::TICKET, &ticket).unwrap();
        let (server, starts) = (service.clone(), NOW.seconds);
        let credential = Credential { client, server, key, ticket, starts, ends, flags: 0, renew_till: 0 };
        (Acceptor::new(service, vec![own]), credential)
    }

    #[test]
    fn a_login_gives_keys_to_both() {
        let (acceptor, ticket) = machine(NOW.seconds + 60);
        let binding = Some([7; 16]);
        let offer = Offer { binding, forwarded: None };
        let (initiator, token) = Initiator::new(&ticket, &offer, NOW, &mut SystemRandom).unwrap();
        let token = spnego::begun(&spnego::begin(&token).unwrap()).unwrap();
        assert!(acceptor.accept(&token, Some([8; 16]), NOW, &mut SystemRandom).is_err());
        let mut accepted = acceptor.accept(&token, binding, NOW, &mut SystemRandom).unwrap();
        assert!(!accepted.is_delegated);
        let mut wraps = initiator.established(&accepted.answer).unwrap();
        let sealed = wraps.seal(b"the lamp is lit");
        assert_eq!(*accepted.wraps.open(&sealed.signature, &sealed.data).unwrap(), b"the lamp is lit");
        let signed = accepted.wraps.sign(b"so be it");
        assert!(!wraps.is_signed(b"so be it not", &signed));
        // The machine's answer to somebody else proves nothing.
        let other = Moment { micros: 78, ..NOW };
        let (initiator, _) = Initiator::new(&ticket, &offer, other, &mut SystemRandom).unwrap();
        assert!(matches!(initiator.established(&accepted.answer), Err(KerberosError::NotProven(_))));
    }

    #[test]
    fn a_machine_says_why_it_refuses() {
        let (stranger, _) = machine(NOW.seconds);
        for (ends, later, acceptor, expected) in [
            (60, 301, None, RefusalKind::ClocksDiffer),
            (60, -301, None, RefusalKind::ClocksDiffer),
            (-1, 0, None, RefusalKind::TicketEnded),
            (60, 0, Some(stranger), RefusalKind::OtherKey),
        ] {
            let (own, ticket) = machine(NOW.seconds + ends);
            let (initiator, token) =
                Initiator::new(&ticket, &Offer::default(), NOW, &mut SystemRandom).unwrap();
            let there = Moment::at(NOW.seconds + later);
            let refused = acceptor.unwrap_or(own).accept(&token, None, there, &mut SystemRandom).unwrap_err();
            match initiator.established(&refused.answer.unwrap()).unwrap_err() {
                KerberosError::Refused(refusal) => {
                    assert_eq!(refusal.kind, expected);
                    assert_eq!(refusal.clock_off(NOW), later);
                }
                other => panic!("{other:?}"),
            }
        }
    }

    proptest! {
        #[test]
        fn a_changed_token_proves_nothing(at: prop::sample::Index, flip in 1u8.., bytes: Vec<u8>) {
            let (acceptor, ticket) = machine(NOW.seconds + 60);
            let (initiator, token) = Initiator::new(&ticket, &Offer::default(), NOW, &mut SystemRandom).unwrap();
            let accepted = acceptor.accept(&token, None, NOW, &mut SystemRandom).unwrap();
            let mut changed = accepted.answer.clone();
            changed[at.index(accepted.answer.len())] ^= flip;
            // Of what is not encrypted, the version says nothing that counts.
            if let Ok(mut wraps) = initiator.established(&changed) {
                let mut machine = accepted.wraps;
                let sealed = machine.seal(b"lit");
                prop_assert!(wraps.open(&sealed.signature, &sealed.data).is_ok());
            }
            for bytes in [&bytes, &changed] {
                let _ = (spnego::begun(bytes), spnego::answered(bytes));
                prop_assert!(acceptor.accept(bytes, None, NOW, &mut SystemRandom).is_err());
            }
        }
    }
}
