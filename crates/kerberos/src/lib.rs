//! Kerberos 5 (RFC 4120) as far as a login takes it, without input or output and without a clock.
//!
//! - [`Cache`] reads a file of tickets that another program got; [`PasswordLogin`] gets the first one by a password, and [`TicketRequest`] those for a service,
//!   from a key distribution centre: each says what to send and takes what came back.
//! - [`Initiator`] logs in with a ticket by GSS-API (RFC 4121), [`Acceptor`] is the machine's side, and [`Wraps`] seals what is said after that.
//! - [`spnego`] is the negotiation around it (RFC 4178).
//! - [`Configuration`] reads what the system says of realms and their centres.
//!
//! Of the encryption types only those with AES are spoken.

mod acceptor;
mod asn1;
mod cache;
mod configuration;
mod credential;
mod delegation;
mod encryption;
mod encryption_type;
mod error;
mod error_message;
mod gss;
mod initiator;
pub mod manager;
mod messages;
mod moment;
mod password_login;
mod principal;
mod refusal;
pub mod spnego;
mod ticket_request;
mod wrap;

pub use acceptor::{Accepted, Acceptor, Unaccepted};
pub use cache::{Cache, CacheName};
pub use configuration::{Configuration, Include};
pub use credential::Credential;
pub use delegation::forwarded;
pub use encryption::Key;
pub use encryption_type::{EncryptionType, type_name};
pub use error::KerberosError;
pub use gss::KERBEROS;
pub use initiator::{Initiator, Offer};
pub use moment::Moment;
pub use password_login::{LoginStep, PasswordLogin};
pub use principal::{Principal, PrincipalError};
pub use refusal::{Refusal, RefusalKind};
pub use ticket_request::{Granted, TicketRequest};
pub use wrap::{Wrapped, Wraps};
