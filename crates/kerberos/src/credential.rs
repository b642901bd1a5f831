//! A ticket with the key that belongs to it.

use der::Decode;
use der::asn1::Any;

use crate::asn1::Time;
use crate::encryption::{Key, usage};
use crate::messages::{KdcRep, KdcRepPart, flag, kind};
use crate::{KerberosError, Principal};

/// A ticket, as its holder has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Credential {
    /// Whose it is.
    pub client: Principal,
    /// What it is for.
    pub server: Principal,
    /// The key that the service finds in the ticket.
    pub key: Key,
    /// The ticket in DER, which only the service can read.
    pub ticket: Vec<u8>,
    /// Since when it serves, in seconds since 1970.
    pub starts: i64,
    /// Until when.
    pub ends: i64,
    /// Flags (RFC 4120 §5.3).
    pub(crate) flags: u32,
    /// Until when it can be renewed; 0: not at all.
    pub(crate) renew_till: i64,
}

impl Credential {
    /// Whether it serves at this moment, in seconds since 1970.
    pub fn serves(&self, now: i64) -> bool {
        now < self.ends
    }

    /// Whether tickets for another machine to use may be got with it.
    pub fn is_forwardable(&self) -> bool {
        self.flags & flag::FORWARDABLE != 0
    }

    pub(crate) fn ticket(&self) -> Result<Any, KerberosError> {
        Ok(Any::from_der(&self.ticket)?)
    }
}

/// What a centre grants, where it proves that it is the one, and answers this request.
pub(crate) fn granted(reply: KdcRep, part: &[u8], nonce: u32) -> Result<Credential, KerberosError> {
    // §5.4.2: some name the one kind in answer to both requests.
    let part: KdcRepPart = match crate::asn1::is_kind(kind::AS_REP_PART, part) {
        true => crate::asn1::open(kind::AS_REP_PART, part)?,
        false => crate::asn1::open(kind::TGS_REP_PART, part)?,
    };
    if part.nonce != i64::from(nonce) {
        return Err(KerberosError::NotProven("the answer to this request"));
    }
    Ok(Credential {
        client: reply.cname.at(reply.crealm),
        server: part.sname.at(part.srealm),
        key: part.key.key()?,
        ticket: der::Encode::to_der(&reply.ticket)?,
        starts: part.starttime.unwrap_or(part.authtime).0,
        ends: part.endtime.0,
        flags: part.flags.0,
        renew_till: part.renew_till.unwrap_or(Time(0)).0,
    })
}

/// The usage with which the reply to a request with a ticket is encrypted.
pub(crate) const REPLY: u32 = usage::TGS_REP;
