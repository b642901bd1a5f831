//! The first ticket, by a password (RFC 4120 §3.1): the time is proven to be encrypted with it, and it is not sent.

use der::asn1::OctetString;
use lantern_keys::{RandomSource, SecretString};

use crate::asn1::{Flags, Text, Time, enclose, is_kind, open};
use crate::credential::granted;
use crate::encryption::{Key, usage};
use crate::messages::{
    EtypeInfo2Entry, KdcRep, KdcReq, KdcReqBody, Name, PaData, Timestamp, VERSION, der, encrypted, flag,
    kind, list, pa,
};
use crate::{Credential, EncryptionType, KerberosError, Moment, Principal, Refusal, RefusalKind};

/// How long a ticket is asked for, in seconds: a working day. The centre gives less where its rules say so.
const WANTED_FOR: i64 = 10 * 3600;
/// Answers to one login: what it wants, and the ticket.
const MOST_TURNS: u8 = 3;

/// What to do with an answer.
#[derive(Debug)]
pub enum LoginStep {
    /// Send this.
    Send(Vec<u8>),
    /// Here it is.
    Ticket(Box<Credential>),
}

/// A login at a key distribution centre.
#[derive(Debug)]
pub struct PasswordLogin {
    client: Principal,
    nonce: u32,
    turns: u8,
    /// Whether the password was proven: each proof counts as a try.
    is_tried: bool,
}

impl PasswordLogin {
    /// A login that begins.
    pub fn new(client: Principal, random: &mut dyn RandomSource) -> Self {
        Self { client, nonce: nonce(random), turns: 0, is_tried: false }
    }

    /// What is sent first.
    ///
    /// # Errors
    /// A name that is too long.
    pub fn first(&self, now: Moment) -> Result<Vec<u8>, KerberosError> {
        self.request(None, now)
    }

    fn request(&self, padata: Option<Vec<PaData>>, now: Moment) -> Result<Vec<u8>, KerberosError> {
        let realm = &self.client.realm;
        let body = KdcReqBody {
            options: Flags(flag::FORWARDABLE),
            cname: Some(Name::of(&self.client)),
            realm: Text(realm.clone()),
            sname: Some(Name::of(&Principal::tickets(realm, realm))),
            till: Time(now.seconds.saturating_add(WANTED_FOR)),
            nonce: self.nonce,
            etypes: EncryptionType::ALL.map(EncryptionType::number).to_vec(),
        };
        enclose(kind::AS_REQ, &KdcReq { pvno: VERSION, kind: 10, padata, body })
    }

    /// Takes an answer.
    ///
    /// # Errors
    /// It refuses, or makes no sense; the password is wrong.
    pub fn handle(
        &mut self,
        answer: &[u8],
        password: &SecretString,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<LoginStep, KerberosError> {
        self.turns += 1;
        if self.turns > MOST_TURNS {
            return Err(KerberosError::Damaged("the key distribution centre asks without an end"));
        }
        if is_kind(kind::ERROR, answer) {
            let refusal = Refusal::decode(answer)?;
            return match refusal.kind {
                RefusalKind::WantsProof if !self.is_tried => {
                    let padata = self.proof(&refusal.wanted()?, password, now, random)?;
                    self.is_tried = true;
                    Ok(LoginStep::Send(self.request(Some(padata), now)?))
                }
                _ => Err(KerberosError::Refused(Box::new(refusal))),
            };
        }
        let reply: KdcRep = open(kind::AS_REP, answer)?;
        let number = reply.part.etype;
        let entries = infos(reply.padata.as_deref().unwrap_or_default())?;
        let entry = entries.iter().find(|entry| entry.etype == number);
        let key = self.key(number, entry, password)?;
        let part = reply.part.decrypt(&key, usage::AS_REP).map_err(|error| match error {
            KerberosError::Altered => KerberosError::WrongPassword,
            other => other,
        })?;
        let credential = granted(reply, &part, self.nonce)?;
        let wanted = Principal::tickets(&self.client.realm, &self.client.realm);
        if !credential.client.is(&self.client) || !credential.server.is(&wanted) {
            return Err(KerberosError::NotProven("the centre of this realm, for this user"));
        }
        Ok(LoginStep::Ticket(Box::new(credential)))
    }

    /// The time, encrypted with the password's key.
    fn proof(
        &self,
        wanted: &[PaData],
        password: &SecretString,
        now: Moment,
        random: &mut dyn RandomSource,
    ) -> Result<Vec<PaData>, KerberosError> {
        if !wanted.iter().any(|data| data.kind == pa::ENC_TIMESTAMP) {
            return Err(KerberosError::NoPassword);
        }
        let entries = infos(wanted)?;
        let spoken = |entry: &&EtypeInfo2Entry| EncryptionType::from_number(entry.etype).is_some();
        let Some(entry) = entries.iter().find(spoken) else {
            return Err(KerberosError::EncryptionType(entries.iter().map(|entry| entry.etype).collect()));
        };
        let key = self.key(entry.etype, Some(entry), password)?;
        let time = der(&Timestamp { time: Time(now.seconds), micros: Some(now.micros) })?;
        let proof = der(&encrypted(&time, &key, usage::TIMESTAMP, random)?)?;
        Ok(vec![PaData { kind: pa::ENC_TIMESTAMP, value: OctetString::new(proof.to_vec())? }])
    }

    fn key(
        &self,
        number: i32,
        entry: Option<&EtypeInfo2Entry>,
        password: &SecretString,
    ) -> Result<Key, KerberosError> {
        let kind = EncryptionType::from_number(number);
        let kind = kind.ok_or_else(|| KerberosError::EncryptionType(vec![number]))?;
        let salt = entry.and_then(|entry| entry.salt.as_ref()).map(|salt| salt.0.clone());
        let params = entry.and_then(|entry| entry.params.as_ref()).map(OctetString::as_bytes);
        Key::of_password(kind, password, &salt.unwrap_or_else(|| self.client.salt()), params)
    }
}

fn infos(padata: &[PaData]) -> Result<Vec<EtypeInfo2Entry>, KerberosError> {
    match padata.iter().find(|data| data.kind == pa::ETYPE_INFO2) {
        Some(data) => list(data.value.as_bytes()),
        None => Ok(Vec::new()),
    }
}

/// A number that an answer must repeat, of 31 bits: some take more for a negative one.
pub(crate) fn nonce(random: &mut dyn RandomSource) -> u32 {
    let mut bytes = [0; 4];
    random.fill(&mut bytes);
    u32::from_be_bytes(bytes) >> 1
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use crate::asn1::Text;
    use crate::messages::ErrorMessage;
    use lantern_keys::SystemRandom;
    use proptest::prelude::*;

    const NOW: Moment = Moment { seconds: 1_795_703_000, micros: 77 };

    fn begun() -> PasswordLogin {
        let login = PasswordLogin::new(Principal::user("keeper", "COAST.EXAMPLE"), &mut SystemRandom);
        login.first(NOW).unwrap();
        login
    }

    fn handle(login: &mut PasswordLogin, answer: &[u8]) -> Result<LoginStep, KerberosError> {
        login.handle(answer, &SecretString::new("high water".into()), NOW, &mut SystemRandom)
    }

    /// A refusal that wants a proof with these kinds of keys.
    fn wants(kinds: &[i32], takes_password: bool) -> Vec<u8> {
        let entries: Vec<EtypeInfo2Entry> =
            kinds.iter().map(|etype| EtypeInfo2Entry { etype: *etype, salt: None, params: None }).collect();
        let infos = OctetString::new(der(&entries).unwrap().to_vec()).unwrap();
        let mut padata = vec![PaData { kind: pa::ETYPE_INFO2, value: infos }];
        if takes_password {
            padata.push(PaData { kind: pa::ENC_TIMESTAMP, value: OctetString::new([]).unwrap() });
        }
        let realm = "COAST.EXAMPLE";
        let message = ErrorMessage {
            pvno: VERSION,
            kind: 30,
            ctime: None,
            cusec: None,
            stime: Time(NOW.seconds),
            susec: 0,
            code: 25,
            crealm: None,
            cname: None,
            realm: Text(realm.into()),
            sname: Name::of(&Principal::tickets(realm, realm)),
            text: None,
            data: Some(OctetString::new(der(&padata).unwrap().to_vec()).unwrap()),
        };
        enclose(kind::ERROR, &message).unwrap()
    }

    #[test]
    fn a_centre_that_asks_again_and_again_gets_one_proof() {
        let mut login = begun();
        assert!(matches!(handle(&mut login, &wants(&[18], true)), Ok(LoginStep::Send(_))));
        for _ in 0..5 {
            assert!(handle(&mut login, &wants(&[18], true)).is_err());
        }
    }

    #[test]
    fn a_centre_gets_no_proof_with_weak_keys_nor_where_it_wants_another() {
        assert_eq!(
            handle(&mut begun(), &wants(&[23, 3], true)).unwrap_err(),
            KerberosError::EncryptionType(vec![23, 3])
        );
        assert_eq!(handle(&mut begun(), &wants(&[18], false)).unwrap_err(), KerberosError::NoPassword);
    }

    proptest! {
        // Each case takes a password's work.
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn nothing_that_a_centre_says_makes_it_panic(bytes: Vec<u8>, at: prop::sample::Index, byte: u8) {
            prop_assert!(handle(&mut begun(), &bytes).is_err());
            let mut changed = wants(&[18], true);
            let at = at.index(changed.len());
            changed[at] = byte;
            let _ = handle(&mut begun(), &changed);
            let _ = handle(&mut begun(), &changed[..at]);
        }
    }
}
