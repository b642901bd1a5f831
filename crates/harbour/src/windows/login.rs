//! Logins at a simulated machine: each belongs to its connection.

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use lantern_kerberos::spnego;
use lantern_keys::{SecretString, SystemRandom};
use lantern_winrm::namespace::MUTUAL_TLS;
use lantern_winrm::ntlm::{Acceptor, TargetInfo, channel_binding};
use lantern_winrm::sealed::SealedBy;
use lantern_winrm::{LoginKeys, Scheme};

use super::kerberos::{Ticketed, take};
use super::spec::WindowsSpec;

/// What a connection has come to.
#[derive(Debug, Default)]
pub(super) enum Login {
    /// Nobody has said who they are.
    #[default]
    None,
    /// It was asked to prove it.
    Begun(Box<Acceptor>),
    /// Somebody is logged in, and what they say may be sealed.
    In {
        /// Who.
        user: String,
        /// Whether a ticket to go on with came along.
        is_delegated: bool,
        /// The keys of the login, where there is no TLS.
        keys: Option<(LoginKeys, SealedBy)>,
    },
}

/// What comes of a header.
pub(super) enum Step {
    /// They are in; this proves the machine to them, where it does.
    Proceed(Option<String>),
    /// They are to prove it by an answer to this.
    Challenge(String),
    /// They are not; this says why, where it is said.
    Refuse(Option<String>),
}

impl Login {
    /// Takes the header with which a request came.
    /// `shown` is the client's certificate.
    pub(super) fn take(&mut self, header: Option<&str>, shown: Option<&[u8]>, spec: &WindowsSpec) -> Step {
        if header == Some(MUTUAL_TLS) {
            return self.by_certificate(shown, spec);
        }
        match header.map(|header| header.split_once(' ').unwrap_or((header, ""))) {
            None if matches!(self, Self::In { .. }) => Step::Proceed(None),
            None => Step::Refuse(None),
            Some((scheme, token)) if spec.offers.contains(&scheme) => match scheme {
                "Basic" => self.basic(token, spec),
                "Kerberos" => self.negotiate(Scheme::Kerberos, token, spec),
                _ => self.negotiate(Scheme::Negotiate, token, spec),
            },
            Some(_) => Step::Refuse(None),
        }
    }

    fn by_certificate(&mut self, shown: Option<&[u8]>, spec: &WindowsSpec) -> Step {
        let known = spec.client_certificates.iter().find(|(known, _)| Some(known.as_slice()) == shown);
        match known {
            Some((_, user)) => {
                *self = Self::In { user: full_name(spec, user), is_delegated: false, keys: None };
                Step::Proceed(None)
            }
            None => Step::Refuse(None),
        }
    }

    fn basic(&mut self, token: &str, spec: &WindowsSpec) -> Step {
        let both = Base64::decode_vec(token).ok().and_then(|bytes| String::from_utf8(bytes).ok());
        let found = both.as_deref().and_then(|both| both.split_once(':')).and_then(|(user, password)| {
            let known = find(spec, user)?;
            (known.password.expose_secret() == password).then(|| full_name(spec, &known.name))
        });
        match found {
            Some(user) => {
                *self = Self::In { user, is_delegated: false, keys: None };
                Step::Proceed(None)
            }
            None => Step::Refuse(None),
        }
    }

    fn negotiate(&mut self, scheme: Scheme, token: &str, spec: &WindowsSpec) -> Step {
        let Ok(token) = Base64::decode_vec(token) else { return Step::Refuse(None) };
        if spnego::is_framed(&token) {
            return self.by_ticket(scheme, &token, spec);
        }
        let now = Timestamp::now().as_second() + spec.clock_off;
        match std::mem::take(self) {
            Self::Begun(acceptor) => {
                let password = |user: &str, domain: &str| password(spec, user, domain);
                let binding = spec.certificate.as_ref().map(|own| channel_binding(&own.endpoint_hash()));
                match acceptor.accept(&token, password, binding) {
                    Ok(accepted) => {
                        let user = full_name(spec, &accepted.user);
                        let keys = (LoginKeys::Ntlm(Box::new(accepted.seals)), SealedBy::Negotiate);
                        let keys = Some(keys).filter(|_| spec.certificate.is_none());
                        *self = Self::In { user, is_delegated: false, keys };
                        Step::Proceed(None)
                    }
                    Err(_) => Step::Refuse(None),
                }
            }
            _ => {
                let lower = |text: &str| format!("{}.lights.example", text.to_lowercase());
                let info = TargetInfo {
                    computer: spec.name.clone(),
                    domain: spec.domain.clone(),
                    dns_computer: lower(&spec.name),
                    dns_domain: String::new(),
                };
                match Acceptor::new(&token, &info, now, &mut SystemRandom) {
                    Ok(acceptor) => {
                        let challenge = Base64::encode_string(acceptor.message());
                        *self = Self::Begun(Box::new(acceptor));
                        Step::Challenge(challenge)
                    }
                    Err(_) => Step::Refuse(None),
                }
            }
        }
    }

    fn by_ticket(&mut self, scheme: Scheme, token: &[u8], spec: &WindowsSpec) -> Step {
        *self = Self::None;
        let Some(realm) = &spec.realm else { return Step::Refuse(None) };
        match take(token, scheme, spec, realm) {
            Ticketed::In { accepted, answer } => {
                let by = if scheme == Scheme::Kerberos { SealedBy::Kerberos } else { SealedBy::Negotiate };
                let (user, is_delegated) =
                    (format!("{}\\{}", spec.domain, accepted.client.name()), accepted.is_delegated);
                let keys = (LoginKeys::Kerberos(Box::new(accepted.wraps)), by);
                *self =
                    Self::In { user, is_delegated, keys: Some(keys).filter(|_| spec.certificate.is_none()) };
                Step::Proceed(Some(Base64::encode_string(&answer)))
            }
            Ticketed::Refused(said) => Step::Refuse(said.map(|said| Base64::encode_string(&said))),
        }
    }
}

fn find<'s>(spec: &'s WindowsSpec, user: &str) -> Option<&'s super::WindowsUser> {
    let bare = user.rsplit('\\').next().unwrap_or(user);
    let bare = bare.split('@').next().unwrap_or(bare);
    spec.users.iter().find(|known| known.name.eq_ignore_ascii_case(bare))
}

fn full_name(spec: &WindowsSpec, user: &str) -> String {
    let bare = user.split('@').next().unwrap_or(user);
    format!("{}\\{bare}", spec.domain)
}

/// The password of a user, where the domain is one that the machine knows.
fn password(spec: &WindowsSpec, user: &str, domain: &str) -> Option<SecretString> {
    let is_ours = domain.is_empty()
        || [&spec.name, &spec.domain].iter().any(|known| known.eq_ignore_ascii_case(domain));
    find(spec, user).filter(|_| is_ours).map(|user| user.password.clone())
}
