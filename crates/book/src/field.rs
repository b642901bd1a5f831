//! The fields that a machine, a profile and `[defaults]` can have: one table, from which reading, `machine set`, `machine show`,
//! imports, completions and the JSON Schema all come.

use crate::BookError;
use crate::check::{
    check_address, check_certificate_name, check_endpoint, check_file, check_image, check_name,
    check_other_user, check_path, check_resolver, check_service_name, check_terminal_type, check_text,
    check_user, check_variable,
};
use crate::check_forms::{check_gateway, check_proxy, check_tunnel};

/// A rule for one value; what is broken comes back in words that follow the value: "must be …".
pub(crate) type Rule = fn(&str) -> Result<(), &'static str>;

/// What form the value of a field has.
#[derive(Debug, Clone, Copy)]
pub enum Kind {
    /// A string.
    Text(Rule),
    /// One of these words.
    Choice(&'static [&'static str]),
    /// A number from the first to the second.
    Number(u64, u64),
    /// `true` or `false`.
    Flag,
    /// `true` or `false`, or one of these words.
    FlagOr(&'static [&'static str]),
    /// A string, or several in order of preference.
    OneOrMany(Rule),
    /// A set of words: machine, profiles and defaults add to it.
    Set(Rule),
    /// Names and strings: machine, profiles and defaults add to it.
    Map(Rule),
}

/// What is said of a field.
#[derive(Debug)]
pub struct FieldSpec {
    /// The field.
    pub field: Field,
    /// Its name in the file.
    pub name: &'static str,
    /// What form it has.
    pub kind: Kind,
    /// What it means, in a line.
    pub about: &'static str,
    /// What holds when nothing says; empty: nothing does.
    pub fallback: &'static str,
    /// What is allowed, in words.
    pub allowed: &'static str,
    /// A value that is.
    pub example: &'static str,
}

macro_rules! fields {
    ($($field:ident $name:literal $kind:expr, $about:literal, $fallback:literal, $allowed:literal, $example:literal;)*) => {
        /// A field of a machine, a profile or `[defaults]`.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Field {
            $(#[doc = $about] $field,)*
        }

        /// All fields, in the order in which they are shown.
        pub static FIELDS: &[FieldSpec] = &[
            $(FieldSpec {
                field: Field::$field,
                name: $name,
                kind: $kind,
                about: $about,
                fallback: $fallback,
                allowed: $allowed,
                example: $example,
            },)*
        ];
    };
}

/// The longest limit and interval that can be set, in seconds: a day.
const DAY: u64 = 86_400;

fields! {
    Address "address" Kind::OneOrMany(check_address),
        "where it is: a host name or an IP address, or several",
        "", "a host name or an IP address without a port, or a list of them", "192.0.2.7";
    Port "port" Kind::Number(1, 65_535),
        "the port of its service",
        "22; 5986 for winrm, 5985 where it is plain", "a number from 1 to 65535", "2222";
    Protocol "protocol" Kind::Choice(&["ssh", "winrm"]),
        "how it is spoken to",
        "ssh", "ssh or winrm", "ssh";
    User "user" Kind::Text(check_user),
        "the user to log in as",
        "the user on this computer", "1 to 255 printable characters", "keeper";
    As "as" Kind::Text(check_other_user),
        "the user that commands run as (run, edit), through the machine's own program for that",
        "the one who logs in", "a user's name, without spaces and with no `-` in front", "root";
    Key "key" Kind::OneOrMany(check_name),
        "the key of the ring to offer, or several",
        "any of the ring", "the name of a key in the ring, or a list of them", "harbour";
    Image "image" Kind::Text(check_image),
        "the image it was made from: gives the user where nothing else does",
        "", "a word of letters, digits, `-`, `_` and `.`", "debian";
    Gateway "gateway" Kind::OneOrMany(check_gateway),
        "the machine that one goes through to reach it, or several, the nearest first",
        "none", "a machine of the book or user@address:port, or a list of them", "harbour-gate";
    Proxy "proxy" Kind::Text(check_proxy),
        "the proxy on the way to it, or to its first gateway",
        "none", "http://user@address:port or socks5://user@address:port, without a password",
        "socks5://192.0.2.30:1080";
    RaceAddresses "race-addresses" Kind::Flag,
        "whether several addresses are tried with a short start each, not one after the other",
        "true", "true or false", "false";
    ConnectLimit "connect-limit" Kind::Number(1, 3600),
        "longest wait for its address to answer, in seconds",
        "10", "a number from 1 to 3600", "5";
    HandshakeLimit "handshake-limit" Kind::Number(1, 3600),
        "longest wait for each answer until keys are agreed, in seconds",
        "30", "a number from 1 to 3600", "15";
    LoginLimit "login-limit" Kind::Number(1, 3600),
        "longest wait for each answer while logging in, in seconds",
        "60", "a number from 1 to 3600", "30";
    DeadAfter "dead-after" Kind::Number(0, DAY),
        "after how many seconds without any answer the link counts as dead, asked three times meanwhile; 0: never",
        "60", "a number from 0 to 86400", "15";
    Environment "environment" Kind::Map(check_variable),
        "variables for its sessions; servers take those that they are set up to take",
        "", "names of letters, digits and `_`, each with a string", "LANG=C.UTF-8";
    TerminalType "terminal-type" Kind::Text(check_terminal_type),
        "the terminal type that it is told",
        "that of this terminal", "a word of letters, digits, `-`, `_`, `.` and `+`", "xterm-256color";
    SendLanguage "send-language" Kind::Flag,
        "whether it is told this terminal's language and character set",
        "true", "true or false", "false";
    StrokeMenu "stroke-menu" Kind::Flag,
        "whether Ctrl-\\ three times opens the line of choices in a shell",
        "true", "true or false", "false";
    FirstCommand "first-command" Kind::Text(check_text),
        "what is typed into a new shell first",
        "", "up to 4096 printable characters", "cd /srv/lamp";
    ForwardAgent "forward-agent" Kind::Flag,
        "whether it may ask the agent for signatures during a session; each one wants a yes",
        "false", "true or false", "true";
    ForwardDisplay "forward-display" Kind::FlagOr(&["single", "trusted"]),
        "whether its graphical programs may draw on the display here: kept apart from the other windows, just one of them (single), or with a view of everything (trusted)",
        "false", "true, false, single or trusted", "true";
    DisplayStart "display-start" Kind::Text(check_text),
        "what starts a display server here when none answers; `{display}` and `{authority}` stand for its name and the file with its cookie",
        "", "a command for sh, up to 4096 printable characters", "Xvfb {display} -auth {authority} +extension SECURITY";
    Tunnels "tunnels" Kind::Map(check_tunnel),
        "tunnels by name",
        "", "`local LISTEN to PLACE`, `remote LISTEN to PLACE` or `dynamic LISTEN`, each end [ADDRESS:]PORT or unix:PATH; behind it `wide`, `at-start`, `hold SECONDS`, `then COMMAND`",
        "console=local 8443 to 127.0.0.1:443";
    Keeper "keeper" Kind::Choice(&["auto", "by-hand"]),
        "whether the keeper is started at first use, and holds the connection for the next command",
        "by-hand: it is used when it runs", "auto or by-hand", "auto";
    ShareIdle "share-idle" Kind::Number(0, DAY),
        "how long the keeper holds a connection that nobody uses, in seconds; of [defaults] alone",
        "600", "a number from 0 to 86400", "3600";
    Trust "trust" Kind::Choice(&["ask", "known-only", "first-use"]),
        "what happens at first contact: a question, a refusal, or trust with a note",
        "ask", "ask, known-only or first-use", "known-only";
    TrustedResolver "trusted-resolver" Kind::Text(check_resolver),
        "a validating DNS resolver whose word on SSHFP records is believed",
        "none", "an IP address of this computer, with a port when it is not 53; or unprotected:ADDRESS", "127.0.0.1";
    CertificateName "certificate-name" Kind::Text(check_certificate_name),
        "the name that its TLS certificate must have",
        "its address", "a host name or an IP address", "foghorn.example";
    LoginBy "login-by" Kind::Choice(&["kerberos", "ntlm", "basic", "certificate"]),
        "over WinRM, the only way to log in: by a ticket of Kerberos, by a password that is proven and not sent (ntlm), by one that is sent as it is, within TLS (basic), or by a certificate",
        "kerberos where a ticket or a realm is there, else ntlm", "kerberos, ntlm, basic or certificate", "kerberos";
    Certificate "certificate" Kind::Text(check_file),
        "over WinRM, the file with the certificate that it knows you by; its key is the one of the ring that `key` names",
        "none", "a path that begins with a slash", "/home/keeper/coast.pem";
    DelegateTicket "delegate-ticket" Kind::Flag,
        "over WinRM, whether it gets a ticket of Kerberos with which it can go on to other machines as you",
        "false", "true or false", "true";
    Plain "plain" Kind::Choice(&["private-network"]),
        "over WinRM, that there is no TLS, in a network where nobody else can listen: messages are sealed, and the machine proves nothing of itself",
        "TLS", "private-network", "private-network";
    ServiceName "service-name" Kind::Text(check_service_name),
        "over WinRM, the name of its service for logins, where it is not the one that is dialed",
        "HTTP/ADDRESS", "CLASS/HOST", "HTTP/chart-room.example";
    Configuration "configuration" Kind::Text(check_endpoint),
        "over WinRM, the endpoint for sessions of PowerShell: of a newer version, or one that lets people do certain things only",
        "Microsoft.PowerShell", "a name of letters, digits, `-`, `_` and `.`", "PowerShell.7";
    Path "path" Kind::Text(check_path),
        "over WinRM, the path of its service",
        "/wsman", "a path of a URL that begins with a slash", "/wsman";
    Profiles "profiles" Kind::Set(check_name),
        "profiles whose settings it takes over where it says nothing itself",
        "", "a list of names of profiles", "coast";
    Production "production" Kind::Flag,
        "whether it matters more than others: prompts, questions and the window's title say so",
        "false", "true or false", "true";
    Colour "colour" Kind::Choice(&["red", "yellow", "green", "blue", "magenta", "cyan"]),
        "the color that marks it in prompts, questions and lines of lantern's",
        "none; red for production", "red, yellow, green, blue, magenta or cyan", "red";
    Tags "tags" Kind::Set(check_name),
        "words to select it by",
        "", "a list of words of letters, digits, `-`, `_` and `.`", "coast";
    Note "note" Kind::Text(check_text),
        "free words",
        "", "up to 4096 printable characters", "the old lamp";
}

/// Words that a book had once, and what took their place.
const REPLACED: &[(&str, &str)] = &[
    ("keep-alive", "`dead-after` says it: seconds without any answer"),
    ("keep-alive-misses", "`dead-after` says it: seconds without any answer"),
    ("imported", "imports.toml keeps it, and this can be taken out"),
];

impl Field {
    /// What is said of it.
    pub fn spec(self) -> &'static FieldSpec {
        // The table and the enumeration come from the same lines.
        &FIELDS[self as usize]
    }

    /// Its name in the file.
    pub fn name(self) -> &'static str {
        self.spec().name
    }

    /// The field with this name.
    ///
    /// # Errors
    /// [`BookError::Unknown`], with the nearest name.
    pub fn from_name(name: &str) -> Result<Self, BookError> {
        let found = FIELDS.iter().find(|spec| spec.name == name).map(|spec| spec.field);
        let replaced = || REPLACED.iter().find(|(old, _)| *old == name);
        found.ok_or_else(|| match replaced() {
            Some((_, new)) => BookError::Replaced { old: name.to_owned(), new },
            None => BookError::unknown("field", name, FIELDS.iter().map(|spec| spec.name)),
        })
    }

    /// Whether profiles and `[defaults]` can have it: not what belongs to one machine.
    pub fn is_shared(self) -> bool {
        self != Self::Note
    }
}
