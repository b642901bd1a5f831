//! A ticket for a service, by the ticket of the login (RFC 4120 §3.3).

use der::asn1::OctetString;
use lantern_keys::RandomSource;

use crate::asn1::{Flags, Text, Time, enclose, is_kind, open};
use crate::credential::{REPLY, granted};
use crate::encryption::usage;
use crate::messages::{
    ApReq, Authenticator, Checksum, KdcRep, KdcReq, KdcReqBody, Name, PaData, VERSION, der, encrypted, flag,
    kind, pa,
};
use crate::password_login::nonce;
use crate::{Credential, EncryptionType, KerberosError, Moment, Principal, Refusal};

/// What a centre gave.
#[derive(Debug)]
pub enum Granted {
    /// The ticket that was asked for.
    Ticket(Credential),
    /// The ticket for another realm's centre, which is to be asked (RFC 6806 §8).
    Referral(Credential),
}

/// A request under way.
#[derive(Debug)]
pub struct TicketRequest {
    login: Credential,
    service: Principal,
    nonce: u32,
    message: Vec<u8>,
}

impl TicketRequest {
    /// Asks the centre of the realm that `login` is a ticket for.
    ///
    /// # Errors
    /// Names that are too long.
    pub fn new(
        login: Credential,
        service: Principal,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<Self, KerberosError> {
        Self::with_options(login, service, flag::FORWARDABLE | flag::CANONICALIZE, now, random)
    }

    /// Asks for a ticket of the login that another machine may use.
    ///
    /// # Errors
    /// Names that are too long.
    pub fn to_forward(
        login: Credential,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<Self, KerberosError> {
        let service = login.server.clone();
        Self::with_options(login, service, flag::FORWARDABLE | flag::FORWARDED, now, random)
    }

    fn with_options(
        login: Credential,
        service: Principal,
        options: u32,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<Self, KerberosError> {
        let nonce = nonce(random);
        // The realm that is asked.
        let realm = login.server.gives_tickets_of().unwrap_or(&login.server.realm).to_owned();
        let body = KdcReqBody {
            options: Flags(options),
            cname: None,
            realm: Text(realm),
            sname: Some(Name::of(&service)),
            till: Time(login.ends),
            nonce,
            etypes: EncryptionType::ALL.map(EncryptionType::number).to_vec(),
        };
        let checksum = login.key.checksum(usage::TGS_CHECKSUM, &[&der(&body)?]);
        let authenticator = Authenticator {
            version: VERSION,
            crealm: Text(login.client.realm.clone()),
            cname: Name::of(&login.client),
            cksum: Some(Checksum { kind: login.key.kind().checksum(), value: OctetString::new(checksum)? }),
            cusec: now.micros,
            ctime: Time(now.seconds),
            subkey: None,
            sequence: None,
            authorization: None,
        };
        let plain = zeroize::Zeroizing::new(enclose(kind::AUTHENTICATOR, &authenticator)?);
        let request = ApReq {
            pvno: VERSION,
            kind: 14,
            options: Flags(0),
            ticket: login.ticket()?,
            authenticator: encrypted(&plain, &login.key, usage::TGS_AUTHENTICATOR, random)?,
        };
        let proof = OctetString::new(enclose(kind::AP_REQ, &request)?)?;
        let padata = Some(vec![PaData { kind: pa::TGS_REQ, value: proof }]);
        let message = enclose(kind::TGS_REQ, &KdcReq { pvno: VERSION, kind: 12, padata, body })?;
        Ok(Self { login, service, nonce, message })
    }

    /// What is sent.
    pub fn message(&self) -> &[u8] {
        &self.message
    }

    /// Takes the answer.
    ///
    /// # Errors
    /// It refuses, or makes no sense.
    pub fn handle(self, answer: &[u8]) -> Result<Granted, KerberosError> {
        if is_kind(kind::ERROR, answer) {
            return Err(KerberosError::Refused(Box::new(Refusal::decode(answer)?)));
        }
        let reply: KdcRep = open(kind::TGS_REP, answer)?;
        let part = reply.part.decrypt(&self.login.key, REPLY)?;
        let credential = granted(reply, &part, self.nonce)?;
        if !credential.client.is(&self.login.client) {
            return Err(KerberosError::NotProven("the centre, for this user"));
        }
        match credential.server.gives_tickets_of() {
            _ if credential.server.is_named_like(&self.service) => Ok(Granted::Ticket(credential)),
            Some(_) => Ok(Granted::Referral(credential)),
            None => Err(KerberosError::NotProven("the centre: its ticket is for another service")),
        }
    }
}
