//! Where a program wants to go that uses a dynamic tunnel: SOCKS 5 (RFC 1928, 1929), SOCKS 4 and 4a, and HTTP CONNECT (RFC 9110 §9.3.6), told apart
//! by their first byte. Nothing here touches a socket: bytes come in, answers and a wish come out.

mod http;
mod socks4;
mod socks5;

use lantern_keys::SecretString;
use zeroize::Zeroizing;

/// Longest conversation before the wish is known, in bytes: the head of an HTTP request with every header that browsers send fits.
const MAX_GREETING: usize = 16 * 1024;

/// What a program must present to be let through.
#[derive(Clone)]
pub struct TunnelLogin {
    /// The name.
    pub user: String,
    /// The password.
    pub password: SecretString,
}

impl TunnelLogin {
    fn admits(&self, user: &[u8], password: &[u8]) -> bool {
        use subtle::ConstantTimeEq;
        let same =
            user.ct_eq(self.user.as_bytes()) & password.ct_eq(self.password.expose_secret().as_bytes());
        bool::from(same)
    }
}

impl std::fmt::Debug for TunnelLogin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TunnelLogin").field("user", &self.user).finish_non_exhaustive()
    }
}

/// The protocol in which a wish was made, and is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// SOCKS 4 or 4a.
    Socks4,
    /// SOCKS 5.
    Socks5,
    /// HTTP CONNECT.
    Http,
}

/// What became of a wish.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It is connected.
    Connected,
    /// The place refuses.
    Refused,
    /// The server does not allow it.
    NotAllowed,
    /// Nothing was reached: no link, no answer.
    Unreachable,
}

impl Dialect {
    /// The answer.
    pub fn answer(self, outcome: Outcome) -> Vec<u8> {
        match self {
            Self::Socks4 => socks4::answer(outcome),
            Self::Socks5 => socks5::answer(outcome),
            Self::Http => http::answer(outcome),
        }
    }
}

/// Where a program wants to go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wish {
    /// Host name or address, as it was said.
    pub host: String,
    /// The port.
    pub port: u16,
    /// How it was said.
    pub dialect: Dialect,
}

/// What is to be done next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// Read more.
    Read,
    /// Send this, and go on.
    Say(Vec<u8>),
    /// Take it there.
    Go(Wish),
    /// Send this and close.
    Refuse(Vec<u8>, &'static str),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    Start,
    Socks5Login,
    Socks5Request,
    Over,
}

/// A conversation with a program that says where it wants to go.
#[derive(Debug)]
pub struct Greeting {
    buffer: Zeroizing<Vec<u8>>,
    stage: Stage,
    login: Option<TunnelLogin>,
}

/// What one look at the bytes comes to: none, where there are not enough.
enum Look {
    /// So many bytes are done with, and this follows.
    Took(usize, Next),
    /// The same, and the stage changes.
    Moved(usize, Stage, Next),
}

impl Greeting {
    /// The beginning of one, with what has to be presented.
    pub fn new(login: Option<TunnelLogin>) -> Self {
        Self { buffer: Zeroizing::new(Vec::new()), stage: Stage::Start, login }
    }

    /// What has come in.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.buffer.extend_from_slice(bytes);
    }

    /// What came behind the wish: it is for the place that was wished for.
    pub fn rest(&self) -> &[u8] {
        &self.buffer
    }

    /// What is to be done next.
    pub fn look(&mut self) -> Next {
        if self.stage == Stage::Over {
            return Next::Read;
        }
        let login = self.login.as_ref();
        let look = match (self.stage, self.buffer.first()) {
            (_, None) => None,
            (Stage::Start, Some(5)) => socks5::methods(&self.buffer, login.is_some()),
            (Stage::Start, Some(4)) => socks4::request(&self.buffer, login.is_some()),
            (Stage::Start, Some(b'A'..=b'Z')) => http::request(&self.buffer, login),
            (Stage::Start, Some(_)) => {
                Some(Look::Took(0, Next::Refuse(Vec::new(), "it speaks neither SOCKS nor HTTP CONNECT")))
            }
            (Stage::Socks5Login, _) => socks5::login(&self.buffer, login),
            (Stage::Socks5Request, _) => socks5::request(&self.buffer),
            (Stage::Over, _) => None,
        };
        let next = match look {
            None if self.buffer.len() > MAX_GREETING => {
                Next::Refuse(Vec::new(), "it said more than any program has to")
            }
            None => Next::Read,
            Some(Look::Took(len, next)) => {
                self.drop_front(len);
                next
            }
            Some(Look::Moved(len, stage, next)) => {
                self.drop_front(len);
                self.stage = stage;
                next
            }
        };
        if matches!(next, Next::Go(_) | Next::Refuse(..)) {
            self.stage = Stage::Over;
        }
        next
    }

    fn drop_front(&mut self, len: usize) {
        let len = len.min(self.buffer.len());
        self.buffer.drain(..len);
    }
}

#[cfg(test)]
mod tests;
