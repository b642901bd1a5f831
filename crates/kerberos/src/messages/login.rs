//! What is said between a client and a machine (RFC 4120 §5.3, §5.5, §5.8).

use der::Sequence;
use der::asn1::Any;

use super::parts::{Checksum, Encrypted, Name, PlainKey};
use crate::asn1::{Flags, Text, Time};

#[derive(Sequence)]
pub(crate) struct Ticket {
    #[asn1(context_specific = "0")]
    pub(crate) version: u8,
    #[asn1(context_specific = "1")]
    pub(crate) realm: Text,
    #[asn1(context_specific = "2")]
    pub(crate) sname: Name,
    #[asn1(context_specific = "3")]
    pub(crate) part: Encrypted,
}

/// What only the machine that a ticket is for can read.
#[derive(Sequence)]
pub(crate) struct TicketPart {
    #[asn1(context_specific = "0")]
    pub(crate) flags: Flags,
    #[asn1(context_specific = "1")]
    pub(crate) key: PlainKey,
    #[asn1(context_specific = "2")]
    pub(crate) crealm: Text,
    #[asn1(context_specific = "3")]
    pub(crate) cname: Name,
    #[asn1(context_specific = "4")]
    pub(crate) transited: Any,
    #[asn1(context_specific = "5")]
    pub(crate) authtime: Time,
    #[asn1(context_specific = "6", optional = "true")]
    pub(crate) starttime: Option<Time>,
    #[asn1(context_specific = "7")]
    pub(crate) endtime: Time,
    #[asn1(context_specific = "8", optional = "true")]
    pub(crate) renew_till: Option<Time>,
    #[asn1(context_specific = "9", optional = "true")]
    pub(crate) caddr: Option<Any>,
    #[asn1(context_specific = "10", optional = "true")]
    pub(crate) authorization: Option<Any>,
}

#[derive(Sequence)]
pub(crate) struct ApReq {
    #[asn1(context_specific = "0")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "1")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "2")]
    pub(crate) options: Flags,
    #[asn1(context_specific = "3")]
    pub(crate) ticket: Any,
    #[asn1(context_specific = "4")]
    pub(crate) authenticator: Encrypted,
}

#[derive(Sequence)]
pub(crate) struct Authenticator {
    #[asn1(context_specific = "0")]
    pub(crate) version: u8,
    #[asn1(context_specific = "1")]
    pub(crate) crealm: Text,
    #[asn1(context_specific = "2")]
    pub(crate) cname: Name,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) cksum: Option<Checksum>,
    #[asn1(context_specific = "4")]
    pub(crate) cusec: u32,
    #[asn1(context_specific = "5")]
    pub(crate) ctime: Time,
    #[asn1(context_specific = "6", optional = "true")]
    pub(crate) subkey: Option<PlainKey>,
    #[asn1(context_specific = "7", optional = "true")]
    pub(crate) sequence: Option<i64>,
    #[asn1(context_specific = "8", optional = "true")]
    pub(crate) authorization: Option<Any>,
}

#[derive(Sequence)]
pub(crate) struct ApRep {
    #[asn1(context_specific = "0")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "1")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "2")]
    pub(crate) part: Encrypted,
}

#[derive(Sequence)]
pub(crate) struct ApRepPart {
    #[asn1(context_specific = "0")]
    pub(crate) ctime: Time,
    #[asn1(context_specific = "1")]
    pub(crate) cusec: u32,
    #[asn1(context_specific = "2", optional = "true")]
    pub(crate) subkey: Option<PlainKey>,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) sequence: Option<i64>,
}

#[derive(Sequence)]
pub(crate) struct Cred {
    #[asn1(context_specific = "0")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "1")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "2")]
    pub(crate) tickets: Vec<Any>,
    #[asn1(context_specific = "3")]
    pub(crate) part: Encrypted,
}

#[derive(Sequence)]
pub(crate) struct CredPart {
    #[asn1(context_specific = "0")]
    pub(crate) infos: Vec<CredInfo>,
}

#[derive(Sequence)]
pub(crate) struct CredInfo {
    #[asn1(context_specific = "0")]
    pub(crate) key: PlainKey,
    #[asn1(context_specific = "1", optional = "true")]
    pub(crate) crealm: Option<Text>,
    #[asn1(context_specific = "2", optional = "true")]
    pub(crate) cname: Option<Name>,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) flags: Option<Flags>,
    #[asn1(context_specific = "4", optional = "true")]
    pub(crate) authtime: Option<Time>,
    #[asn1(context_specific = "5", optional = "true")]
    pub(crate) starttime: Option<Time>,
    #[asn1(context_specific = "6", optional = "true")]
    pub(crate) endtime: Option<Time>,
    #[asn1(context_specific = "7", optional = "true")]
    pub(crate) renew_till: Option<Time>,
    #[asn1(context_specific = "8", optional = "true")]
    pub(crate) srealm: Option<Text>,
    #[asn1(context_specific = "9", optional = "true")]
    pub(crate) sname: Option<Name>,
}
