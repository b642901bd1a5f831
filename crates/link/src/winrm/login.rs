//! Ways to log in, and the headers that carry them.

use base64ct::{Base64, Encoding};
use hyper::header::HeaderValue;
use lantern_keys::SecretString;
use lantern_winrm::Scheme;
use zeroize::Zeroizing;

use crate::kerberos::ServiceTicket;

/// How one may log in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LoginWay {
    #[default]
    /// By a ticket of Kerberos where one is to be had, else by NTLM.
    Best,
    /// By a ticket of Kerberos and nothing else.
    Kerberos,
    /// By a password that is not sent.
    Ntlm,
    /// By a password that is sent as it is, within TLS.
    Basic,
    /// By a certificate of ours, within TLS.
    Certificate,
}

/// What proves who we are: decided before anything is posted.
#[derive(Debug)]
pub(super) enum Proof {
    /// Nothing yet.
    None,
    /// A ticket for the machine.
    Ticket(Box<ServiceTicket>),
    /// A password that is not sent.
    Ntlm(SecretString),
    /// A password that is sent.
    Basic(SecretString),
    /// TLS has proven it already; whom the certificate names.
    Certificate(String),
}

impl Proof {
    /// How it is told.
    pub(super) fn words(&self) -> String {
        match self {
            Self::None => "nothing".to_owned(),
            Self::Ticket(ticket) if ticket.by_password() => {
                format!("Kerberos, {} by password", ticket.client())
            }
            Self::Ticket(ticket) => format!("Kerberos, by the ticket of {}", ticket.client()),
            Self::Ntlm(_) => "NTLM, by password".to_owned(),
            Self::Basic(_) => "Basic, by a password that is sent as it is".to_owned(),
            Self::Certificate(holder) => format!("the certificate of {holder}, within TLS"),
        }
    }

    /// The name of the mechanism.
    pub(super) fn name(&self) -> &'static str {
        match self {
            Self::None => "nothing",
            Self::Ticket(_) => "Kerberos",
            Self::Ntlm(_) => "NTLM",
            Self::Basic(_) => "Basic",
            Self::Certificate(_) => "a certificate",
        }
    }
}

/// The header with a token.
pub(super) fn token(scheme: Scheme, token: &[u8]) -> HeaderValue {
    let text = format!("{} {}", scheme.name(), Base64::encode_string(token));
    secret_header(&text)
}

/// The header of a password as it is (RFC 7617).
pub(super) fn basic(user: &str, password: &SecretString) -> HeaderValue {
    let both = Zeroizing::new(format!("{user}:{}", password.expose_secret()));
    let base64 = Zeroizing::new(Base64::encode_string(both.as_bytes()));
    let text = Zeroizing::new(format!("{} {}", Scheme::Basic.name(), *base64));
    secret_header(&text)
}

/// The header that says that TLS has proven it (MS-WSMV 2.2.1, the profile of DSP0226 C.3.1 for certificates of both sides).
pub(super) fn by_certificate() -> HeaderValue {
    HeaderValue::from_static(lantern_winrm::namespace::MUTUAL_TLS)
}

fn secret_header(text: &str) -> HeaderValue {
    // Base64 is text that a header can hold.
    let mut header = HeaderValue::from_str(text).unwrap_or(HeaderValue::from_static(""));
    header.set_sensitive(true);
    header
}
