//! The client's side of a login with a ticket (RFC 4121 §4.1, RFC 4120 §3.2).

use der::asn1::OctetString;
use lantern_keys::RandomSource;

use crate::asn1::{Flags, Text, Time, enclose, open};
use crate::encryption::{Key, usage};
use crate::gss::{Token, deframe, enframe};
use crate::messages::{
    ApRep, ApRepPart, ApReq, Authenticator, Checksum, Name, PlainKey, VERSION, encrypted, flag, kind,
};
use crate::{Credential, KerberosError, Moment, Refusal, Wraps};

/// The kind of checksum that is none, but says what the login is for (RFC 4121 §4.1.1).
pub(crate) const GSS_CHECKSUM: i32 = 0x8003;
/// What the login is to give: proof of the machine, order, encryption and integrity.
const WANTED: u32 = 2 | 4 | 8 | 16 | 32;
/// And a ticket for the machine to go on with.
pub(crate) const DELEGATED: u32 = 1;

/// What goes with a login.
#[derive(Debug, Default)]
pub struct Offer {
    /// What binds it to the TLS connection around it: the hash of GSS-API channel bindings.
    pub binding: Option<[u8; 16]>,
    /// A forwarded ticket for the machine.
    pub forwarded: Option<Vec<u8>>,
}

/// A login that has begun.
#[derive(Debug)]
pub struct Initiator {
    key: Key,
    subkey: Key,
    sequence: u32,
    now: Moment,
}

impl Initiator {
    /// Begins a login with a ticket for the machine; the token for it.
    ///
    /// # Errors
    /// Something that is too long for the form.
    pub fn new(
        ticket: &Credential,
        offer: &Offer,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<(Self, Vec<u8>), KerberosError> {
        let subkey = Key::generate(ticket.key.kind(), random);
        let sequence = crate::password_login::nonce(random);
        let mut purpose = 16u32.to_le_bytes().to_vec();
        purpose.extend(offer.binding.unwrap_or_default());
        let delegated = if offer.forwarded.is_some() { DELEGATED } else { 0 };
        purpose.extend((WANTED | delegated).to_le_bytes());
        if let Some(forwarded) = &offer.forwarded {
            let len = u16::try_from(forwarded.len())
                .map_err(|_| KerberosError::Damaged("the forwarded ticket is too long"))?;
            purpose.extend(1u16.to_le_bytes());
            purpose.extend(len.to_le_bytes());
            purpose.extend_from_slice(forwarded);
        }
        let authenticator = Authenticator {
            version: VERSION,
            crealm: Text(ticket.client.realm.clone()),
            cname: Name::of(&ticket.client),
            cksum: Some(Checksum { kind: GSS_CHECKSUM, value: OctetString::new(purpose)? }),
            cusec: now.micros,
            ctime: Time(now.seconds),
            subkey: Some(PlainKey::of(&subkey)?),
            sequence: Some(sequence.into()),
            authorization: None,
        };
        let plain = zeroize::Zeroizing::new(enclose(kind::AUTHENTICATOR, &authenticator)?);
        let request = ApReq {
            pvno: VERSION,
            kind: 14,
            options: Flags(flag::MUTUAL_REQUIRED),
            ticket: ticket.ticket()?,
            authenticator: encrypted(&plain, &ticket.key, usage::AUTHENTICATOR, random)?,
        };
        let token = enframe(Token::Request, &enclose(kind::AP_REQ, &request)?)?;
        Ok((Self { key: ticket.key.clone(), subkey, sequence, now }, token))
    }

    /// Takes the machine's answer, by which it proves that it has the key of the ticket.
    ///
    /// # Errors
    /// It refuses, or proves nothing.
    pub fn established(self, token: &[u8]) -> Result<Wraps, KerberosError> {
        let message = match deframe(token)? {
            (Token::Reply, message) => message,
            (Token::Error, message) => {
                return Err(KerberosError::Refused(Box::new(Refusal::decode(message)?)));
            }
            (Token::Request, _) => return Err(KerberosError::Damaged("a login in answer to a login")),
        };
        let reply: ApRep = open(kind::AP_REP, message)?;
        let part: ApRepPart = open(kind::AP_REP_PART, &reply.part.decrypt(&self.key, usage::AP_REP)?)?;
        if (part.ctime, part.cusec) != (Time(self.now.seconds), self.now.micros) {
            return Err(KerberosError::NotProven("the machine: it answers another login"));
        }
        let receive = u32::try_from(part.sequence.unwrap_or(0) & i64::from(u32::MAX)).unwrap_or(0);
        let by_acceptor = part.subkey.is_some();
        let key = match part.subkey {
            Some(subkey) => subkey.key()?,
            None => self.subkey,
        };
        Ok(Wraps::new(key, false, by_acceptor, self.sequence, receive))
    }
}
