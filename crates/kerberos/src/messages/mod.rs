//! Kerberos' messages as they stand in RFC 4120 §5, without what nobody here looks at.

mod centre;
mod login;
mod parts;

pub(crate) use centre::{ErrorMessage, EtypeInfo2Entry, KdcRep, KdcRepPart, KdcReq, KdcReqBody, Timestamp};
pub(crate) use login::{
    ApRep, ApRepPart, ApReq, Authenticator, Cred, CredInfo, CredPart, Ticket, TicketPart,
};
pub(crate) use parts::{Checksum, Name, PaData, PlainKey, der, encrypted, list};

/// The version of the protocol, in every message.
pub(crate) const VERSION: u8 = 5;

/// Application tags, which are the kinds of messages as well (§5.10).
pub(crate) mod kind {
    pub(crate) const TICKET: u32 = 1;
    pub(crate) const AUTHENTICATOR: u32 = 2;
    pub(crate) const TICKET_PART: u32 = 3;
    pub(crate) const AS_REQ: u32 = 10;
    pub(crate) const AS_REP: u32 = 11;
    pub(crate) const TGS_REQ: u32 = 12;
    pub(crate) const TGS_REP: u32 = 13;
    pub(crate) const AP_REQ: u32 = 14;
    pub(crate) const AP_REP: u32 = 15;
    pub(crate) const CRED: u32 = 22;
    pub(crate) const AS_REP_PART: u32 = 25;
    pub(crate) const TGS_REP_PART: u32 = 26;
    pub(crate) const AP_REP_PART: u32 = 27;
    pub(crate) const CRED_PART: u32 = 29;
    pub(crate) const ERROR: u32 = 30;
}

/// Options of requests, and flags of tickets (§5.3, §5.4.1).
pub(crate) mod flag {
    pub(crate) const FORWARDABLE: u32 = 1 << 30;
    pub(crate) const FORWARDED: u32 = 1 << 29;
    /// Names may come back as the centre knows them, and other realms may be referred to (RFC 6806).
    pub(crate) const CANONICALIZE: u32 = 1 << 16;
    /// The machine is to prove itself too.
    pub(crate) const MUTUAL_REQUIRED: u32 = 1 << 29;
}

/// Data before a login (§7.5.2).
pub(crate) mod pa {
    pub(crate) const TGS_REQ: i32 = 1;
    pub(crate) const ENC_TIMESTAMP: i32 = 2;
    pub(crate) const ETYPE_INFO2: i32 = 19;
}
