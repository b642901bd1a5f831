//! A refusal by a key distribution centre or a machine (RFC 4120 §5.9.1, §7.5.9).

use crate::Moment;

/// What a refusal is about: one kind for each that has another remedy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum RefusalKind {
    /// The user is not known.
    NoSuchUser,
    /// The service is not known.
    NoSuchService,
    /// The account is locked, disabled or has ended.
    AccountLocked,
    /// The password has ended.
    PasswordEnded,
    /// The password is wrong.
    WrongPassword,
    /// A proof is wanted first. What the centre wants is beside it.
    WantsProof,
    /// The clocks differ by too much.
    ClocksDiffer,
    /// The ticket has ended, or has not begun.
    TicketEnded,
    /// There is no encryption type that both know.
    NoEncryptionType,
    /// Another realm is responsible.
    OtherRealm,
    /// The answer is too long for the way it was asked for.
    TooLong,
    /// The machine's key is another one than the ticket was made with.
    OtherKey,
    /// The rules of the realm forbid it.
    Policy,
    /// Something else, by its number.
    Other(i32),
}

impl RefusalKind {
    pub(crate) fn of(code: i32) -> Self {
        match code {
            6 => Self::NoSuchUser,
            7 => Self::NoSuchService,
            1 | 2 | 18 | 21 => Self::AccountLocked,
            23 => Self::PasswordEnded,
            24 | 31 => Self::WrongPassword,
            25 => Self::WantsProof,
            37 => Self::ClocksDiffer,
            32 | 33 => Self::TicketEnded,
            14 => Self::NoEncryptionType,
            68 => Self::OtherRealm,
            52 => Self::TooLong,
            41 | 44 | 45 => Self::OtherKey,
            9 | 12 | 13 => Self::Policy,
            other => Self::Other(other),
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::NoSuchUser => "it knows no such user",
            Self::NoSuchService => "it knows no such service",
            Self::AccountLocked => "the account is locked, disabled or at its end",
            Self::PasswordEnded => "the password has ended and must be changed",
            Self::WrongPassword => "the password is wrong",
            Self::WantsProof => "it wants another proof",
            Self::ClocksDiffer => "its clock and ours differ by too much",
            Self::TicketEnded => "the ticket has ended, or has not begun",
            Self::NoEncryptionType => "it and lantern have no encryption type in common for that",
            Self::OtherRealm => "another realm is responsible",
            Self::TooLong => "the answer is too long",
            Self::OtherKey => "the key is another one than the ticket was made with",
            Self::Policy => "the rules of the realm forbid it",
            Self::Other(_) => "it refused",
        }
    }
}

/// A refusal.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}{}", .kind.words(), number(.kind, *.code))]
pub struct Refusal {
    /// What it is about.
    pub kind: RefusalKind,
    /// Its number in the standard.
    pub code: i32,
    /// What the other side says of it. Text from outside.
    pub text: Option<String>,
    /// When the other side says that it is, in seconds since 1970.
    pub time_there: i64,
    pub(crate) data: Vec<u8>,
}

fn number(kind: &RefusalKind, code: i32) -> String {
    match kind {
        RefusalKind::Other(_) => format!(" (error {code} of Kerberos)"),
        _ => String::new(),
    }
}

impl Refusal {
    /// How far the other side's clock is ahead, in seconds.
    pub fn clock_off(&self, now: Moment) -> i64 {
        self.time_there.saturating_sub(now.seconds)
    }
}
