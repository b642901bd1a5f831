//! Making certificates, and making them anew.

use jiff::Timestamp;
use lantern_book::{
    BookError, CertificateNote, CertificateStore, CertificateUse, Home, KnownCertificate, StoredCertificate,
    TrustStore, Verified,
};
use lantern_keys::issuing::{self, Issuer, Plan, Purpose};
use lantern_keys::{CertificateName, KeyError, PrivateKey, RandomSource, TlsCertificate};

use super::principal_name;

const DAY: i64 = 24 * 3600;
/// How far back a certificate's beginning lies, in seconds: clocks differ a little.
const BACKDATED: i64 = 3600;

/// Why no certificate was made.
#[derive(Debug, thiserror::Error)]
pub enum MakeError {
    /// The store.
    #[error(transparent)]
    Book(#[from] BookError),
    /// Something that has no form in a certificate, or a key that is another one.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The authority ends first.
    #[error("the authority {authority} ends on {day}, before the certificate would")]
    AuthorityEnds {
        /// The authority.
        authority: String,
        /// Its last day.
        day: String,
        /// How many days are left of it.
        days_left: i64,
    },
    /// The authority is not for these names.
    #[error("the authority {authority} is not made for {}", names.join(", "))]
    OutsideConstraints {
        /// The authority.
        authority: String,
        /// The names.
        names: Vec<String>,
    },
    /// Its key never was here, and only a new request has it.
    #[error("the key of {name} is not here: it was made by a request")]
    KeyElsewhere {
        /// The certificate.
        name: String,
    },
}

/// An authority that is to be made.
#[derive(Debug, Clone)]
pub struct NewAuthority<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its key in the ring.
    pub key: &'a str,
    /// What it may vouch for; everything when there is nothing.
    pub only: Vec<CertificateName>,
    /// Machines about which it is believed.
    pub machines: Vec<String>,
    /// How many days it lasts.
    pub days: u32,
}

/// Makes an authority, keeps it, and believes its word about these machines.
///
/// # Errors
/// See [`MakeError`].
pub fn new_authority(
    home: &Home,
    wanted: &NewAuthority<'_>,
    key: &PrivateKey,
    random: &mut dyn RandomSource,
) -> Result<StoredCertificate, MakeError> {
    let now = Timestamp::now();
    let plan = plan(wanted.name, Purpose::Authority { only: wanted.only.clone() }, wanted.days, now);
    let certificate = issuing::new_authority(&plan, key, random)?;
    let note = CertificateNote {
        used_as: CertificateUse::Authority,
        machine: None,
        user: None,
        key: Some(wanted.key.to_owned()),
        authority: None,
        made: now,
    };
    let store = CertificateStore::new(home);
    let path = store.put(wanted.name, &note, std::slice::from_ref(&certificate), false)?;
    for machine in &wanted.machines {
        believe(home, machine, &certificate)?;
    }
    Ok(StoredCertificate { name: wanted.name.to_owned(), path, note, certificate, above: Vec::new() })
}

/// Believes an authority's word about a machine; whether that is new.
fn believe(home: &Home, machine: &str, authority: &TlsCertificate) -> Result<bool, BookError> {
    let known = KnownCertificate::new(authority, Verified::Expected, Timestamp::now());
    TrustStore::accept_authority(home, machine, known)
}

fn plan(common_name: &str, purpose: Purpose, days: u32, now: Timestamp) -> Plan {
    let from = now.as_second();
    Plan {
        common_name: common_name.to_owned(),
        purpose,
        from: from - BACKDATED,
        until: from + i64::from(days) * DAY,
    }
}

/// A certificate that is to be made.
#[derive(Debug, Clone)]
pub struct Issue<'a> {
    /// Its name in the store.
    pub name: &'a str,
    /// What for.
    pub for_whom: Holder,
    /// Its key in the ring; none where the key never was here.
    pub key: Option<&'a str>,
    /// The key in DER.
    pub key_info: &'a [u8],
    /// How many days it lasts.
    pub days: u32,
    /// Whether it takes the place of the one that has the name.
    pub replace: bool,
}

/// Whom a certificate is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holder {
    /// A machine.
    Machine {
        /// As the book calls it.
        name: String,
        /// What it is for.
        names: Vec<CertificateName>,
    },
    /// A user.
    User(String),
}

/// Has an authority sign a certificate, and keeps it. About a machine, the authority is believed from then on; whether that is new.
///
/// # Errors
/// See [`MakeError`].
pub fn issue(
    home: &Home,
    wanted: &Issue<'_>,
    authority: &StoredCertificate,
    authority_key: &PrivateKey,
    random: &mut dyn RandomSource,
) -> Result<(StoredCertificate, bool), MakeError> {
    let now = Timestamp::now();
    let (common_name, purpose) = match &wanted.for_whom {
        Holder::Machine { name, names } => {
            let first = names.first().map_or_else(|| name.clone(), ToString::to_string);
            (first, Purpose::Server(names.clone()))
        }
        Holder::User(user) => (user.clone(), Purpose::Client(principal_name(user))),
    };
    let plan = plan(&common_name, purpose, wanted.days, now);
    let (_, ends) = authority.certificate.validity();
    if plan.until > ends {
        let day = Timestamp::from_second(ends).map(|at| at.strftime("%Y-%m-%d").to_string());
        return Err(MakeError::AuthorityEnds {
            authority: authority.name.clone(),
            day: day.unwrap_or_default(),
            days_left: authority.certificate.days_left(now.as_second()),
        });
    }
    let issuer = Issuer { certificate: &authority.certificate, key: authority_key };
    let certificate = issuing::issue(&plan, wanted.key_info, issuer, random)?;
    let outside = certificate.faults_by_issuer(&authority.certificate);
    for fault in outside {
        if let lantern_keys::CertificateFault::OutsideConstraints { names, .. } = fault {
            let names = names.iter().map(ToString::to_string).collect();
            return Err(MakeError::OutsideConstraints { authority: authority.name.clone(), names });
        }
    }
    let (used_as, machine, user) = match &wanted.for_whom {
        Holder::Machine { name, .. } => (CertificateUse::Server, Some(name.clone()), None),
        Holder::User(user) => (CertificateUse::Client, None, Some(user.clone())),
    };
    let note = CertificateNote {
        used_as,
        machine,
        user,
        key: wanted.key.map(str::to_owned),
        authority: Some(authority.name.clone()),
        made: now,
    };
    let above = vec![authority.certificate.clone()];
    let chain = [std::slice::from_ref(&certificate), &above].concat();
    let path = CertificateStore::new(home).put(wanted.name, &note, &chain, wanted.replace)?;
    let is_new = match &note.machine {
        Some(machine) => believe(home, machine, &authority.certificate)?,
        None => false,
    };
    Ok((StoredCertificate { name: wanted.name.to_owned(), path, note, certificate, above }, is_new))
}

/// What the next certificate in place of this one is: for the same, with the same key, or with that of a new request.
///
/// # Errors
/// [`MakeError::KeyElsewhere`]; a certificate that is no machine's and no user's.
pub fn renew<'a>(
    old: &'a StoredCertificate,
    new_key_info: Option<&'a [u8]>,
    days: u32,
) -> Result<Issue<'a>, MakeError> {
    let for_whom = match (&old.note.machine, &old.note.user) {
        (Some(machine), _) => {
            Holder::Machine { name: machine.clone(), names: old.certificate.names().to_vec() }
        }
        (None, Some(user)) => Holder::User(user.clone()),
        (None, None) => {
            return Err(KeyError::Refused("renew a certificate that is no machine's and no user's").into());
        }
    };
    let key_info = match (new_key_info, &old.note.key) {
        (Some(new), _) => new,
        // The key of a request is the machine's: signed again, it stays in use for ever.
        (None, None) => return Err(MakeError::KeyElsewhere { name: old.name.clone() }),
        (None, Some(_)) => old.certificate.key_info(),
    };
    let key = old.note.key.as_deref().filter(|_| new_key_info.is_none());
    Ok(Issue { name: &old.name, for_whom, key, key_info, days, replace: true })
}
