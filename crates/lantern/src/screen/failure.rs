//! Failures as the user meets them: what was attempted, what was met, what to type next, and the exit code.

pub(crate) use lantern_operations::chain;

/// Exit codes of our own failures. `run` and `shell` return the remote status otherwise, hence the high numbers.
pub(crate) mod code {
    /// The command line makes no sense.
    pub(crate) const USAGE: u8 = 240;
    /// Something on this computer: the book, a key file, the terminal, the disk.
    pub(crate) const LOCAL: u8 = 241;
    /// The machine's name was not found.
    pub(crate) const NAME: u8 = 242;
    /// No route, a proxy or gateway that did not connect us, or another failure of the network.
    pub(crate) const ROUTE: u8 = 243;
    /// Nothing listens on the port, or what listens takes no more connections now.
    pub(crate) const REFUSED: u8 = 244;
    /// No answer in time.
    pub(crate) const TIMED_OUT: u8 = 245;
    /// What answered is not SSH, or broke the protocol.
    pub(crate) const PROTOCOL: u8 = 246;
    /// No algorithm in common.
    pub(crate) const ALGORITHMS: u8 = 247;
    /// The host key was not accepted.
    pub(crate) const TRUST: u8 = 248;
    /// Login failed.
    pub(crate) const LOGIN: u8 = 249;
    /// The machine opened no session or refused the command.
    pub(crate) const SESSION: u8 = 250;
    /// The connection was lost.
    pub(crate) const LOST: u8 = 251;
    /// Interrupted by the user.
    pub(crate) const INTERRUPTED: u8 = 252;
    /// The remote command was ended by a signal without a usual number.
    pub(crate) const SIGNAL: u8 = 253;
    /// A fault in lantern itself.
    pub(crate) const INTERNAL: u8 = 254;

    /// The table, for `lantern exit-codes`.
    pub(crate) const TABLE: [(u8, &str); 15] = [
        (USAGE, "the command line makes no sense"),
        (LOCAL, "something on this computer: the book, a key file, the terminal, the disk"),
        (NAME, "the machine's name was not found"),
        (ROUTE, "no route: nothing leads there, or a proxy or gateway on the way did not connect us"),
        (REFUSED, "the connection was refused: nothing listens on the port, or the server is busy"),
        (TIMED_OUT, "no answer in time"),
        (PROTOCOL, "what answered is not SSH, or broke the protocol"),
        (ALGORITHMS, "no algorithm in common"),
        (TRUST, "the host key was not accepted"),
        (LOGIN, "login failed"),
        (SESSION, "the machine opened no session or refused the command"),
        (LOST, "the connection was lost"),
        (INTERRUPTED, "interrupted by the user"),
        (SIGNAL, "the remote command was ended by a signal without a usual number"),
        (INTERNAL, "a fault in lantern itself"),
    ];

    /// Where each of them failed, in a word that scripts go by.
    pub(crate) fn step(code: u8) -> &'static str {
        match code {
            USAGE => "usage",
            LOCAL => "here",
            NAME => "name",
            ROUTE => "route",
            REFUSED | TIMED_OUT => "port",
            PROTOCOL => "service",
            ALGORITHMS => "algorithms",
            TRUST => "host key",
            LOGIN => "login",
            SESSION => "session",
            LOST => "connection",
            INTERRUPTED => "interrupted",
            SIGNAL => "signal",
            INTERNAL => "internal",
            _ => "found",
        }
    }
}

/// A failure ready to be told.
#[derive(Debug, Clone)]
pub(crate) struct Failure {
    /// The exit code.
    pub(crate) code: u8,
    /// What failed, in one line; empty for a quiet end.
    pub(crate) headline: String,
    /// Details, a line each.
    pub(crate) details: Vec<String>,
    /// What to type or do next, a line each.
    pub(crate) hints: Vec<String>,
    /// Whether a user and a password were refused: what was given for them is not to be tried again.
    pub(crate) is_refusal: bool,
}

impl Failure {
    /// A failure without details.
    pub(crate) fn new(code: u8, headline: impl Into<String>) -> Self {
        Self { code, headline: headline.into(), details: Vec::new(), hints: Vec::new(), is_refusal: false }
    }

    /// An end without a word: the reader of our output has gone.
    pub(crate) fn quiet(code: u8) -> Self {
        Self::new(code, "")
    }

    /// Whether nothing is to be said.
    pub(crate) fn is_quiet(&self) -> bool {
        self.headline.is_empty()
    }

    /// The same with something to do about it.
    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }

    /// The same with a detail.
    pub(crate) fn detail(mut self, detail: impl Into<String>) -> Self {
        self.details.push(detail.into());
        self
    }
}
