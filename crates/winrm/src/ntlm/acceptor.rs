//! The machine's side of a login: for simulated machines and for tests.

use lantern_keys::{RandomSource, SecretString};
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

use super::av_pair::{Pairs, file_time};
use super::flags::{NEEDED, TARGET_INFO, TARGET_TYPE_SERVER, WANTED};
use super::keys::{Key, hide, hmac_md5, response, response_key};
use super::message::{MIC_AT, Reader, Writer, utf16};
use super::{NtlmError, Seals, TargetInfo};

/// Why a login was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// A message makes no sense.
    #[error(transparent)]
    Message(#[from] NtlmError),
    /// No such user, or another password.
    #[error("the user or the password is wrong")]
    Wrong,
    /// The login was made for another TLS channel, or a message was changed on the way.
    #[error("the login is bound to another channel")]
    Channel,
}

/// A login that was taken.
#[derive(Debug)]
pub struct Accepted {
    /// The user.
    pub user: String,
    /// The domain that was named.
    pub domain: String,
    /// The keys.
    pub seals: Seals,
}

/// A login that has begun.
#[derive(Debug)]
pub struct Acceptor {
    first: Vec<u8>,
    second: Vec<u8>,
    challenge: [u8; 8],
}

impl Acceptor {
    /// Answers the first message of a client with a challenge. `now` is in seconds since 1970.
    ///
    /// # Errors
    /// The message is damaged.
    pub fn new(
        first: &[u8],
        machine: &TargetInfo,
        now: i64,
        random: &mut dyn RandomSource,
    ) -> Result<Self, NtlmError> {
        let flags = Reader::new(first, 1)?.number(12)?;
        if let Some((_, what)) = NEEDED.iter().find(|(flag, _)| flags & flag == 0) {
            return Err(NtlmError::TooWeak(what));
        }
        let mut challenge = [0; 8];
        random.fill(&mut challenge);
        let mut second = Writer::new(2, 56);
        second
            .field(&utf16(&machine.domain))?
            .number(flags & WANTED | TARGET_TYPE_SERVER | TARGET_INFO)
            .put(&challenge)
            .put(&[0; 8])
            .field(&Pairs::of_machine(machine, file_time(now)).encode())?
            .version();
        Ok(Self { first: first.to_vec(), second: second.finish(), challenge })
    }

    /// The challenge.
    pub fn message(&self) -> &[u8] {
        &self.second
    }

    /// Takes the client's answer. `password` is asked for the password of a user of a domain; `binding` is what the login must be bound to, where it is
    /// within TLS.
    ///
    /// # Errors
    /// It proves nothing.
    pub fn accept(
        self,
        third: &[u8],
        password: impl FnOnce(&str, &str) -> Option<SecretString>,
        binding: Option<[u8; 16]>,
    ) -> Result<Accepted, Refusal> {
        let reader = Reader::new(third, 3)?;
        let (domain, user) = (reader.text(28)?, reader.text(36)?);
        let (proof, beside) =
            reader.field(20)?.split_first_chunk::<16>().ok_or(NtlmError::Damaged("it has no response"))?;
        let password = password(&user, &domain).ok_or(Refusal::Wrong)?;
        let key = response_key(&user, &domain, password.expose_secret());
        let proven = response(&key, self.challenge, beside);
        if !bool::from(proven.proof.ct_eq(proof)) {
            return Err(Refusal::Wrong);
        }
        let pairs = Pairs::read(beside.get(28..).unwrap_or_default())?;
        let hidden: [u8; 16] =
            reader.field(52)?.try_into().map_err(|_| NtlmError::Damaged("it has no key"))?;
        let exported = Zeroizing::new(hide(&proven.session_base, hidden));
        let is_bound = binding.is_none_or(|binding| pairs.binding() == Some(&binding[..]));
        // What the pairs say is proven by the response: nobody on the way can take the code away.
        if !is_bound || pairs.has_mic() && !self.has_right_code(third, &exported)? {
            return Err(Refusal::Channel);
        }
        Ok(Accepted { user, domain, seals: Seals::of_server(&exported) })
    }

    /// Whether the integrity code over all three messages is right.
    fn has_right_code(&self, third: &[u8], exported: &Key) -> Result<bool, NtlmError> {
        let mut unsigned = third.to_vec();
        let place = unsigned.get_mut(MIC_AT).ok_or(NtlmError::Damaged("it ends early"))?;
        let code = place.to_vec();
        place.fill(0);
        let mic = hmac_md5(&**exported, &[&self.first, &self.second, &unsigned]);
        Ok(mic.ct_eq(&code).into())
    }
}
