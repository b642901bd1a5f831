//! Why something of Kerberos came to nothing.

use crate::Refusal;
use crate::encryption_type::type_name;

/// What was met.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum KerberosError {
    /// A message is not in the form of the standard.
    #[error("a message of Kerberos is damaged: {0}")]
    Damaged(&'static str),
    /// It was changed on the way, or made with another key.
    #[error("a message of Kerberos does not open: it was changed on the way, or made with another key")]
    Altered,
    /// What answers does not know what only the right one knows.
    #[error("what answers did not prove that it is {0}")]
    NotProven(&'static str),
    /// No encryption type that both know.
    #[error("only AES is spoken, and there is {}", names(.0))]
    EncryptionType(Vec<i32>),
    /// From a password to a key, more work was asked for than anybody does.
    #[error("{0} rounds of work were asked for, from the password to a key: more than anybody asks for")]
    TooMuchWork(u32),
    /// The centre refused.
    #[error(transparent)]
    Refused(Box<Refusal>),
    /// The centre wants a way to prove oneself that is not known here.
    #[error("the key distribution centre takes no password by itself")]
    NoPassword,
    /// The password does not open what the centre encrypted with it.
    #[error("the password is not the one that the key distribution centre knows")]
    WrongPassword,
    /// A file of tickets in a form that nobody knows.
    #[error("{0}")]
    Cache(&'static str),
}

impl From<der::Error> for KerberosError {
    fn from(_: der::Error) -> Self {
        Self::Damaged("it is not in DER, or lacks what it must have")
    }
}

fn names(numbers: &[i32]) -> String {
    match numbers {
        [] => "none".to_owned(),
        some => some.iter().map(|number| type_name(*number)).collect::<Vec<_>>().join(", "),
    }
}
