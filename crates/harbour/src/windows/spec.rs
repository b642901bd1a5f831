//! What a simulated machine of Windows is, and what goes wrong on it.

use std::net::{IpAddr, Ipv4Addr};

use lantern_keys::SecretString;

use super::certificate::ServerCertificate;

/// What a user may do there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rights {
    /// Anything.
    Administrator,
    /// Log in, and nothing else: neither an administrator, nor in the group of remote users.
    None,
}

/// A user of a simulated machine.
#[derive(Debug, Clone)]
pub struct WindowsUser {
    /// The name.
    pub name: String,
    /// The password.
    pub password: SecretString,
    /// What it may do.
    pub rights: Rights,
}

/// The realm of a simulated machine, and the account that its service runs as.
#[derive(Debug, Clone)]
pub struct WindowsRealm {
    /// The realm.
    pub name: String,
    /// The name of the service, like `HTTP/chart-room.coast.example`.
    pub service: String,
    /// The password of its account.
    pub password: SecretString,
}

/// An endpoint for sessions.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Endpoint {
    /// Its name.
    pub name: String,
    /// Whether it takes commands with parameters, and no scripts.
    pub commands_only: bool,
    /// The commands that it shows; none: all.
    pub visible: Vec<&'static str>,
    /// Whether it asks before it says where a session stands.
    pub asks_where: bool,
}

impl Endpoint {
    /// What every machine has, and two more: of a newer version, and one for those who keep the lamps, which takes no scripts.
    pub fn usual() -> Vec<Self> {
        let open = |name: &str| Self { name: name.to_owned(), ..Self::default() };
        let keepers = Self {
            name: "Lamp.Keepers".to_owned(),
            commands_only: true,
            visible: vec![
                "Get-Command",
                "Get-Lamp",
                "Set-Lamp",
                "Get-Tide",
                "Select-Object",
                "Measure-Object",
                "Show-Words",
                "Wait-Forever",
            ],
            asks_where: false,
        };
        vec![open("Microsoft.PowerShell"), open("PowerShell.7"), keepers]
    }
}

/// What goes wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WindowsFault {
    /// It hangs up at the first word of TLS: its listener has no certificate.
    NoCertificate,
    /// It sends visitors elsewhere.
    Redirect,
    /// It has no such service.
    NotFound,
    /// Its service is stopped.
    Stopped,
    /// Answers come in UTF-16.
    Utf16,
    /// Answers come in chunks, a few bytes each.
    Chunked,
    /// Output comes a byte at a time.
    Crumbs,
    /// The connection is cut in the middle of the answer with output.
    CutAnswer,
    /// The connection is cut while output is waited for, once.
    CutWaiting,
    /// The same, and the account is locked from then on.
    LockedOut,
    /// It forgets the login after the shell was made, once.
    ForgetLogin,
    /// The shell vanishes when output is asked for.
    ShellVanishes,
    /// The user has too many shells.
    ShellQuota,
    /// It takes no shells.
    NoShells,
    /// It takes sessions of PowerShell, and lets nobody run commands.
    NoCommands,
    /// It does not have the code page of UTF-8.
    NoUtf8,
    /// It answers in the clear, where messages should be sealed.
    Clear,
    /// It says the last sealed answer again.
    Repeat,
    /// It wants messages in the clear.
    WantsClear,
    /// It never answers.
    Silent,
    /// It takes a ticket, and proves nothing of itself in return.
    NoProof,
    /// It takes a ticket, and answers with another's proof.
    ForgedProof,
    /// It asks for a certificate too late: not when TLS is set up.
    AsksLate,
    /// It never answers an interrupt.
    Deaf,
    /// The connection is cut while a pipeline's output is waited for, once, and its shells must be taken up again after that.
    LeavesShells,
    /// A session's pipeline says something that is no message.
    Garbles,
    /// Its sessions never say that they are open.
    NeverOpens,
    /// It leaves out a fragment of what a pipeline says.
    LeavesOut,
}

/// A simulated machine.
#[derive(Debug, Clone)]
pub struct WindowsSpec {
    /// Its own name, as `hostname` prints it.
    pub name: String,
    /// Its domain; its own name, where it is in none.
    pub domain: String,
    /// The loopback address it listens on.
    pub address: IpAddr,
    /// The port; 0 takes a free one.
    pub port: u16,
    /// Its certificate; none: it speaks plain HTTP.
    pub certificate: Option<ServerCertificate>,
    /// Its users.
    pub users: Vec<WindowsUser>,
    /// The ways to log in that it offers.
    pub offers: Vec<&'static str>,
    /// Certificates in DER by which it knows its users, and their names; where there are any, it asks for one when TLS is set up.
    pub client_certificates: Vec<(Vec<u8>, String)>,
    /// The realm that it is in.
    pub realm: Option<WindowsRealm>,
    /// The endpoints that it has for sessions.
    pub endpoints: Vec<Endpoint>,
    /// Bytes that there is room for on its drives.
    pub room: u64,
    /// A program of this system, with its arguments, that is its file service; none: the harbour's own.
    pub file_service: Option<Vec<String>>,
    /// How far its clock is ahead, in seconds.
    pub clock_off: i64,
    /// What goes wrong.
    pub fault: Option<WindowsFault>,
}

impl WindowsSpec {
    /// A machine at 127.77.1.`number` with a certificate that it signed itself and one user, who may do anything.
    ///
    /// # Errors
    /// When no certificate can be made.
    pub fn new(name: &str, number: u8, user: &str, password: &str) -> std::io::Result<Self> {
        let address = IpAddr::V4(Ipv4Addr::new(127, 77, 1, number));
        let user = WindowsUser {
            name: user.to_owned(),
            password: SecretString::new(password.to_owned()),
            rights: Rights::Administrator,
        };
        Ok(Self {
            name: name.to_uppercase(),
            domain: name.to_uppercase(),
            address,
            port: 0,
            certificate: Some(ServerCertificate::self_signed(&[name])?),
            users: vec![user],
            offers: vec!["Negotiate"],
            client_certificates: Vec::new(),
            realm: None,
            endpoints: Endpoint::usual(),
            room: 64 << 30,
            file_service: None,
            clock_off: 0,
            fault: None,
        })
    }
}
