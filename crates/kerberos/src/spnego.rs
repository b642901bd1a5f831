//! The negotiation of a mechanism around its tokens (RFC 4178), with a single one to choose from: what is meant was decided before.

use der::asn1::{AnyRef, ObjectIdentifier, OctetString};
use der::{Decode, Encode, Enumerated, Sequence, Tag, TagNumber};

use crate::KerberosError;
use crate::gss::{KERBEROS, KERBEROS_OF_OLD, frame, unframe};

const SPNEGO: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.2");

/// How far a negotiation is (§4.2.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Enumerated)]
#[repr(u8)]
pub enum State {
    /// Done.
    Completed = 0,
    /// There is more to say.
    Incomplete = 1,
    /// Refused.
    Rejected = 2,
    /// An integrity code over the list of mechanisms is wanted.
    WantsMic = 3,
}

#[derive(Sequence)]
struct Init {
    #[asn1(context_specific = "0")]
    mechanisms: Vec<ObjectIdentifier>,
    #[asn1(context_specific = "1", optional = "true")]
    flags: Option<der::asn1::BitString>,
    #[asn1(context_specific = "2", optional = "true")]
    token: Option<OctetString>,
    #[asn1(context_specific = "3", optional = "true")]
    mic: Option<OctetString>,
}

#[derive(Sequence)]
struct Response {
    #[asn1(context_specific = "0", optional = "true")]
    state: Option<State>,
    #[asn1(context_specific = "1", optional = "true")]
    mechanism: Option<ObjectIdentifier>,
    #[asn1(context_specific = "2", optional = "true")]
    token: Option<OctetString>,
    #[asn1(context_specific = "3", optional = "true")]
    mic: Option<OctetString>,
}

/// What the other side answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// How far it is.
    pub state: State,
    /// The mechanism's own token.
    pub token: Option<Vec<u8>>,
    /// An integrity code over [`mechanisms`].
    pub mic: Option<Vec<u8>>,
}

const INIT: TagNumber = TagNumber(0);
const RESPONSE: TagNumber = TagNumber(1);

fn chosen(number: TagNumber, message: &impl Encode) -> Result<Vec<u8>, KerberosError> {
    let inner = message.to_der()?;
    Ok(AnyRef::new(Tag::ContextSpecific { constructed: true, number }, &inner)?.to_der()?)
}

fn unchosen<T: for<'a> Decode<'a, Error = der::Error>>(
    number: TagNumber,
    bytes: &[u8],
) -> Result<T, KerberosError> {
    let any = AnyRef::from_der(bytes)?;
    if der::Tagged::tag(&any) != (Tag::ContextSpecific { constructed: true, number }) {
        return Err(KerberosError::Damaged("a negotiation out of turn"));
    }
    Ok(T::from_der(any.value())?)
}

/// The list of mechanisms that is offered, over which integrity codes are made.
///
/// # Errors
/// None that can come up.
pub fn mechanisms() -> Result<Vec<u8>, KerberosError> {
    Ok(vec![KERBEROS].to_der()?)
}

/// Begins with a token of Kerberos.
///
/// # Errors
/// The token is too long.
pub fn begin(token: &[u8]) -> Result<Vec<u8>, KerberosError> {
    let token = Some(OctetString::new(token)?);
    let init = Init { mechanisms: vec![KERBEROS], flags: None, token, mic: None };
    frame(SPNEGO, &chosen(INIT, &init)?)
}

/// Reads the other side's answer.
///
/// # Errors
/// It is damaged, or has chosen what was not offered.
pub fn answered(bytes: &[u8]) -> Result<Answer, KerberosError> {
    let response: Response = unchosen(RESPONSE, bytes)?;
    let is_offered = response.mechanism.is_none_or(|chosen| [KERBEROS, KERBEROS_OF_OLD].contains(&chosen));
    if !is_offered && response.state != Some(State::Rejected) {
        return Err(KerberosError::NotProven(
            "one who takes what it was offered: it chose another mechanism",
        ));
    }
    let bytes = |string: Option<OctetString>| string.map(|string| string.into_bytes().to_vec());
    Ok(Answer {
        // One that says nothing has nothing to add.
        state: response.state.unwrap_or(State::Completed),
        token: bytes(response.token),
        mic: bytes(response.mic),
    })
}

/// The machine's side: the token of Kerberos in what a client begins with, where it is that.
///
/// # Errors
/// It is damaged, or meant for another mechanism.
pub fn begun(bytes: &[u8]) -> Result<Vec<u8>, KerberosError> {
    let (mechanism, inner) = unframe(bytes)?;
    if mechanism == KERBEROS {
        return Ok(bytes.to_vec());
    }
    let init: Init = unchosen(INIT, inner)?;
    let is_ours = init.mechanisms.first().is_some_and(|first| [KERBEROS, KERBEROS_OF_OLD].contains(first));
    match init.token {
        Some(token) if is_ours => Ok(token.into_bytes().to_vec()),
        _ => Err(KerberosError::Damaged("a negotiation without a token of Kerberos")),
    }
}

/// The machine's side: what it answers.
///
/// # Errors
/// The token is too long.
pub fn answer(state: State, token: Option<&[u8]>, mic: Option<&[u8]>) -> Result<Vec<u8>, KerberosError> {
    let string = |bytes: Option<&[u8]>| bytes.map(OctetString::new).transpose();
    let response =
        Response { state: Some(state), mechanism: Some(KERBEROS), token: string(token)?, mic: string(mic)? };
    chosen(RESPONSE, &response)
}

/// Whether these bytes begin as a token of GSS-API does, as those of NTLM do not.
pub fn is_framed(bytes: &[u8]) -> bool {
    bytes.first() == Some(&0x60)
}
