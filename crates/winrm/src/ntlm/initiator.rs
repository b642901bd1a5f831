//! The client's side of a login.

use lantern_keys::{RandomSource, SecretString};
use zeroize::Zeroizing;

use super::av_pair::{EPOCH, Pairs, file_time};
use super::flags::{NEEDED, WANTED};
use super::keys::{beside, hide, hmac_md5, response, response_key};
use super::message::{MIC_AT, Reader, Writer, utf16};
use super::{NtlmError, Seals, TargetInfo};

/// Who logs in, by what. Where the domain is a single dot, it is the machine itself.
#[derive(Debug, Clone)]
pub struct NtlmUser {
    /// The user.
    pub name: String,
    /// The domain, or the machine whose own user it is; empty: as the machine sees fit.
    pub domain: String,
    /// The password.
    pub password: SecretString,
}

/// The first step: what is said before anything is known.
#[derive(Debug)]
pub struct Initiator {
    first: Vec<u8>,
}

impl Default for Initiator {
    fn default() -> Self {
        Self::new()
    }
}

impl Initiator {
    /// A login that begins.
    pub fn new() -> Self {
        let mut first = Writer::new(1, 40);
        // No names: who we are is said to a machine that has said who it is.
        first.number(WANTED).put(&[0; 16]).version();
        Self { first: first.finish() }
    }

    /// The first message.
    pub fn message(&self) -> &[u8] {
        &self.first
    }

    /// Takes the machine's challenge.
    ///
    /// # Errors
    /// It is damaged, or the machine's NTLM is too weak.
    pub fn challenged(self, message: &[u8]) -> Result<Challenged, NtlmError> {
        let reader = Reader::new(message, 2)?;
        let flags = reader.number(20)?;
        if let Some((_, what)) = NEEDED.iter().find(|(flag, _)| flags & flag == 0) {
            return Err(NtlmError::TooWeak(what));
        }
        let pairs = Pairs::read(reader.field(40)?)?;
        Ok(Challenged {
            first: self.first,
            flags,
            server_challenge: reader.array(24)?,
            second: message.to_vec(),
            pairs,
        })
    }
}

/// The second step: the machine has said who it is.
#[derive(Debug)]
pub struct Challenged {
    first: Vec<u8>,
    second: Vec<u8>,
    flags: u32,
    server_challenge: [u8; 8],
    pairs: Pairs,
}

impl Challenged {
    /// What the machine says of itself. Text from outside.
    pub fn target(&self) -> TargetInfo {
        self.pairs.info()
    }

    /// When the machine says that it is, in seconds since 1970.
    pub fn time_there(&self) -> Option<i64> {
        let tenths = i64::try_from(self.pairs.timestamp()?).ok()?;
        Some(tenths / 10_000_000 - EPOCH)
    }

    /// The last message, and the keys. `service` is the name of the service as it was dialed, `binding` what binds the login to a TLS channel, `now` the
    /// time in seconds since 1970, for machines that do not say their own.
    ///
    /// # Errors
    /// A name that is too long.
    pub fn authenticate(
        self,
        user: &NtlmUser,
        service: &str,
        binding: Option<[u8; 16]>,
        now: i64,
        random: &mut dyn RandomSource,
    ) -> Result<(Vec<u8>, Seals), NtlmError> {
        let info = self.pairs.info();
        let domain = if user.domain == "." { info.computer.as_str() } else { user.domain.as_str() };
        let (mut client_challenge, mut exported) = ([0; 8], Zeroizing::new([0; 16]));
        random.fill(&mut client_challenge);
        random.fill(&mut *exported);
        let time = self.pairs.timestamp();
        let key = response_key(&user.name, domain, user.password.expose_secret());
        let answered = self.pairs.answered(service, binding).encode();
        let filetime = time.unwrap_or_else(|| file_time(now));
        let beside = beside(filetime, client_challenge, &answered);
        let proven = response(&key, self.server_challenge, &beside);
        // The old response is left empty where the machine has said its time (3.1.5.1.2); it proves nothing that the new one does not.
        let old = match time {
            Some(_) => vec![0; 24],
            None => {
                let hash = hmac_md5(&*key, &[&self.server_challenge, &client_challenge]);
                [&hash[..], &client_challenge].concat()
            }
        };
        let mut third = Writer::new(3, MIC_AT.end);
        third
            .field(&old)?
            .field(&[&proven.proof[..], &beside].concat())?
            .field(&utf16(domain))?
            .field(&utf16(&user.name))?
            .field(&[])?
            .field(&hide(&proven.session_base, *exported))?
            .number(self.flags & WANTED)
            .version()
            .put(&[0; 16]);
        let mut third = third.finish();
        let mic = hmac_md5(&*exported, &[&self.first, &self.second, &third]);
        if let Some(place) = third.get_mut(MIC_AT) {
            place.copy_from_slice(&mic);
        }
        Ok((third, Seals::of_client(&exported)))
    }
}
