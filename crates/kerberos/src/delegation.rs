//! A ticket of the login handed over to a machine, for it to go on from there (RFC 4120 §5.8): only where the administrator wants that.

use lantern_keys::RandomSource;

use crate::asn1::{Flags, Text, Time, enclose};
use crate::encryption::usage;
use crate::messages::{Cred, CredInfo, CredPart, Name, PlainKey, VERSION, encrypted, kind};
use crate::{Credential, KerberosError};

/// A forwarded ticket in the form that goes to a machine, which opens it with the key of the ticket for it.
///
/// # Errors
/// Names that are too long.
pub fn forwarded(
    ticket: &Credential,
    of_machine: &Credential,
    random: &mut dyn RandomSource,
) -> Result<Vec<u8>, KerberosError> {
    let info = CredInfo {
        key: PlainKey::of(&ticket.key)?,
        crealm: Some(Text(ticket.client.realm.clone())),
        cname: Some(Name::of(&ticket.client)),
        flags: Some(Flags(ticket.flags)),
        authtime: None,
        starttime: Some(Time(ticket.starts)),
        endtime: Some(Time(ticket.ends)),
        renew_till: (ticket.renew_till > 0).then_some(Time(ticket.renew_till)),
        srealm: Some(Text(ticket.server.realm.clone())),
        sname: Some(Name::of(&ticket.server)),
    };
    let part = CredPart { infos: vec![info] };
    let plain = zeroize::Zeroizing::new(enclose(kind::CRED_PART, &part)?);
    let part = encrypted(&plain, &of_machine.key, usage::CRED, random)?;
    let message = Cred { pvno: VERSION, kind: 22, tickets: vec![ticket.ticket()?], part };
    enclose(kind::CRED, &message)
}
