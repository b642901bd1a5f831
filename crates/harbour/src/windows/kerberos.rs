//! Logins by tickets at a simulated machine that is in a realm.

use jiff::Timestamp;
use lantern_kerberos::{Accepted, Acceptor, EncryptionType, Key, Moment, Principal, Unaccepted, spnego};
use lantern_keys::SystemRandom;
use lantern_winrm::Scheme;
use lantern_winrm::ntlm::channel_binding;

use super::spec::{WindowsRealm, WindowsSpec};

/// What comes of a token.
pub(super) enum Ticketed {
    /// They are in; this proves the machine to them.
    In { accepted: Box<Accepted>, answer: Vec<u8> },
    /// They are not; this says why, where it is said.
    Refused(Option<Vec<u8>>),
}

/// Takes a token of Kerberos, by itself or in a negotiation.
pub(super) fn take(token: &[u8], scheme: Scheme, spec: &WindowsSpec, realm: &WindowsRealm) -> Ticketed {
    let is_negotiated = scheme == Scheme::Negotiate;
    let token = if is_negotiated { spnego::begun(token) } else { Ok(token.to_vec()) };
    let (Ok(token), Some(acceptor)) = (token, acceptor(realm)) else { return Ticketed::Refused(None) };
    let binding = spec.certificate.as_ref().map(|own| channel_binding(&own.endpoint_hash()));
    let now = Moment::at(Timestamp::now().as_second() + spec.clock_off);
    let around = |state, token: &[u8]| match is_negotiated {
        true => spnego::answer(state, Some(token), None).ok(),
        false => Some(token.to_vec()),
    };
    match acceptor.accept(&token, binding, now, &mut SystemRandom) {
        Ok(accepted) => match around(spnego::State::Completed, &accepted.answer) {
            Some(answer) => Ticketed::In { accepted: Box::new(accepted), answer },
            None => Ticketed::Refused(None),
        },
        Err(Unaccepted { answer, .. }) => {
            Ticketed::Refused(answer.and_then(|answer| around(spnego::State::Rejected, &answer)))
        }
    }
}

/// The service with keys of all the encryption types that its centre may use.
fn acceptor(realm: &WindowsRealm) -> Option<Acceptor> {
    let service = Principal::service(&realm.service, &realm.name).ok()?;
    let salt = service.salt();
    let key = |kind| Key::of_password(kind, &realm.password, &salt, None).ok();
    let keys = EncryptionType::ALL.into_iter().filter_map(key).collect();
    Some(Acceptor::new(service, keys))
}
