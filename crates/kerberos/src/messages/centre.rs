//! What is said between a client and a key distribution centre (RFC 4120 §5.4, §5.9).

use der::Sequence;
use der::asn1::{Any, OctetString};

use super::parts::{Encrypted, Name, PaData, PlainKey};
use crate::asn1::{Flags, Text, Time};

#[derive(Sequence)]
pub(crate) struct KdcReq {
    #[asn1(context_specific = "1")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "2")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) padata: Option<Vec<PaData>>,
    #[asn1(context_specific = "4")]
    pub(crate) body: KdcReqBody,
}

#[derive(Clone, Sequence)]
pub(crate) struct KdcReqBody {
    #[asn1(context_specific = "0")]
    pub(crate) options: Flags,
    #[asn1(context_specific = "1", optional = "true")]
    pub(crate) cname: Option<Name>,
    #[asn1(context_specific = "2")]
    pub(crate) realm: Text,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) sname: Option<Name>,
    #[asn1(context_specific = "5")]
    pub(crate) till: Time,
    #[asn1(context_specific = "7")]
    pub(crate) nonce: u32,
    #[asn1(context_specific = "8")]
    pub(crate) etypes: Vec<i32>,
}

#[derive(Sequence)]
pub(crate) struct KdcRep {
    #[asn1(context_specific = "0")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "1")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "2", optional = "true")]
    pub(crate) padata: Option<Vec<PaData>>,
    #[asn1(context_specific = "3")]
    pub(crate) crealm: Text,
    #[asn1(context_specific = "4")]
    pub(crate) cname: Name,
    #[asn1(context_specific = "5")]
    pub(crate) ticket: Any,
    #[asn1(context_specific = "6")]
    pub(crate) part: Encrypted,
}

#[derive(Sequence)]
pub(crate) struct KdcRepPart {
    #[asn1(context_specific = "0")]
    pub(crate) key: PlainKey,
    #[asn1(context_specific = "1")]
    pub(crate) last_req: Any,
    #[asn1(context_specific = "2")]
    pub(crate) nonce: i64,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) key_expiration: Option<Time>,
    #[asn1(context_specific = "4")]
    pub(crate) flags: Flags,
    #[asn1(context_specific = "5")]
    pub(crate) authtime: Time,
    #[asn1(context_specific = "6", optional = "true")]
    pub(crate) starttime: Option<Time>,
    #[asn1(context_specific = "7")]
    pub(crate) endtime: Time,
    #[asn1(context_specific = "8", optional = "true")]
    pub(crate) renew_till: Option<Time>,
    #[asn1(context_specific = "9")]
    pub(crate) srealm: Text,
    #[asn1(context_specific = "10")]
    pub(crate) sname: Name,
    #[asn1(context_specific = "11", optional = "true")]
    pub(crate) caddr: Option<Any>,
    #[asn1(context_specific = "12", optional = "true")]
    pub(crate) encrypted_pa_data: Option<Any>,
}

#[derive(Sequence)]
pub(crate) struct ErrorMessage {
    #[asn1(context_specific = "0")]
    pub(crate) pvno: u8,
    #[asn1(context_specific = "1")]
    pub(crate) kind: u8,
    #[asn1(context_specific = "2", optional = "true")]
    pub(crate) ctime: Option<Time>,
    #[asn1(context_specific = "3", optional = "true")]
    pub(crate) cusec: Option<u32>,
    #[asn1(context_specific = "4")]
    pub(crate) stime: Time,
    #[asn1(context_specific = "5")]
    pub(crate) susec: u32,
    #[asn1(context_specific = "6")]
    pub(crate) code: i32,
    #[asn1(context_specific = "7", optional = "true")]
    pub(crate) crealm: Option<Text>,
    #[asn1(context_specific = "8", optional = "true")]
    pub(crate) cname: Option<Name>,
    #[asn1(context_specific = "9")]
    pub(crate) realm: Text,
    #[asn1(context_specific = "10")]
    pub(crate) sname: Name,
    #[asn1(context_specific = "11", optional = "true")]
    pub(crate) text: Option<Text>,
    #[asn1(context_specific = "12", optional = "true")]
    pub(crate) data: Option<OctetString>,
}

#[derive(Sequence)]
pub(crate) struct EtypeInfo2Entry {
    #[asn1(context_specific = "0")]
    pub(crate) etype: i32,
    #[asn1(context_specific = "1", optional = "true")]
    pub(crate) salt: Option<Text>,
    #[asn1(context_specific = "2", optional = "true")]
    pub(crate) params: Option<OctetString>,
}

/// The time, which encrypted proves a password (§5.2.7.2).
#[derive(Sequence)]
pub(crate) struct Timestamp {
    #[asn1(context_specific = "0")]
    pub(crate) time: Time,
    #[asn1(context_specific = "1", optional = "true")]
    pub(crate) micros: Option<u32>,
}
