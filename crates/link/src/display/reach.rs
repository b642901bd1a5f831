//! Reaching a display of this computer, or of another.

use std::io::{self, ErrorKind};
use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixStream as StdUnixStream};
use std::path::Path;
use std::time::Duration;

use lantern_ssh::{COOKIE_PROTOCOL, DisplaySetup};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};
use tokio::task::AbortHandle;
use tokio::time::timeout;

use super::hello::{self, REPLY, SetupAnswer};
use super::{DisplayAuthorization, DisplayName};
use crate::LocalStream;
use crate::line::Line;

/// How long a display may take to answer: it is here, or near.
const PATIENCE: Duration = Duration::from_secs(5);
/// How often it is tried again, and how soon, where a display hangs up.
const TRIES: usize = 4;
const PAUSE: Duration = Duration::from_millis(100);
/// The extension that tells programs apart which may see all there is from those that may not.
const SECURITY: &str = "SECURITY";
/// What is said of one that does not answer and hangs up.
const ENDS: &str = "what listens there ends the conversation";

/// Why a display is of no use.
#[derive(Debug, thiserror::Error)]
pub enum DisplayError {
    /// Nothing is there.
    #[error("the display {name} does not answer")]
    NotThere {
        /// Its name.
        name: String,
        /// What the system says.
        source: io::Error,
    },
    /// It does not take us.
    #[error("the display {name} refuses: {reason}")]
    Refused {
        /// Its name.
        name: String,
        /// Its words.
        reason: String,
        /// Whether it was shown a cookie.
        has_cookie: bool,
    },
    /// What is there is no display, or does not do what one does.
    #[error("at the display {name}, {met}")]
    Odd {
        /// Its name.
        name: String,
        /// What was met.
        met: &'static str,
    },
}

/// What a display that answers has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DisplayAnswer {
    /// Whether it tells trusted programs from others.
    pub has_security: bool,
}

/// A display, and what it wants to be shown.
#[derive(Debug, Clone)]
pub struct DisplayHere {
    /// Its name.
    pub name: DisplayName,
    /// What it is shown; none: it wants nothing, or nothing is known.
    pub authorization: Option<DisplayAuthorization>,
}

/// A socket by its path; where there is none, by the same name in the abstract (unix(7)).
async fn by_socket(path: &Path) -> io::Result<UnixStream> {
    match UnixStream::connect(path).await {
        Ok(stream) => Ok(stream),
        Err(error) => {
            let address = SocketAddr::from_abstract_name(path.as_os_str().as_bytes())?;
            let Ok(stream) = StdUnixStream::connect_addr(&address) else { return Err(error) };
            stream.set_nonblocking(true)?;
            UnixStream::from_std(stream)
        }
    }
}

impl DisplayHere {
    fn not_there(&self, source: io::Error) -> DisplayError {
        DisplayError::NotThere { name: self.name.to_string(), source }
    }

    /// Something has listened, and went away.
    fn broken_off(&self, source: io::Error) -> DisplayError {
        match source.kind() {
            ErrorKind::BrokenPipe | ErrorKind::ConnectionReset => self.odd(ENDS),
            _ => self.not_there(source),
        }
    }

    fn odd(&self, met: &'static str) -> DisplayError {
        DisplayError::Odd { name: self.name.to_string(), met }
    }

    /// A line to it, on which nothing has been said.
    ///
    /// # Errors
    /// [`DisplayError::NotThere`].
    pub async fn line(&self) -> Result<LocalStream, DisplayError> {
        let reached = async {
            match (self.name.socket(), self.name.host()) {
                (Some(path), _) => by_socket(&path).await.map(LocalStream::from),
                (None, Some((host, port))) => TcpStream::connect((host, port)).await.map(LocalStream::from),
                (None, None) => Err(ErrorKind::NotFound.into()),
            }
        };
        match timeout(PATIENCE, reached).await {
            Ok(Ok(stream)) => Ok(stream),
            Ok(Err(error)) => Err(self.not_there(error)),
            Err(_) => Err(self.not_there(ErrorKind::TimedOut.into())),
        }
    }

    /// Begins a conversation as a program does, and finds out what the display has.
    ///
    /// # Errors
    /// [`DisplayError`].
    pub async fn look(&self) -> Result<DisplayAnswer, DisplayError> {
        let looking = async {
            let mut line = self.begin().await?;
            let security = self.security(&mut line).await?;
            Ok(DisplayAnswer { has_security: security.is_some() })
        };
        self.in_time(looking).await
    }

    async fn in_time<T>(
        &self,
        doing: impl Future<Output = Result<T, DisplayError>>,
    ) -> Result<T, DisplayError> {
        timeout(PATIENCE, doing).await.unwrap_or_else(|_| Err(self.not_there(ErrorKind::TimedOut.into())))
    }

    /// A display begins anew when the last program leaves it (X Window System Protocol, "Connection Close"), and breaks off what comes in that moment.
    async fn begin(&self) -> Result<Line, DisplayError> {
        for _ in 0..TRIES {
            match self.begin_now().await {
                Err(DisplayError::Odd { met: ENDS, .. }) => tokio::time::sleep(PAUSE).await,
                met => return met,
            }
        }
        self.begin_now().await
    }

    async fn begin_now(&self) -> Result<Line, DisplayError> {
        let mut line: Line = match self.line().await? {
            LocalStream::Tcp(stream) => Box::new(stream),
            LocalStream::Unix(stream) => Box::new(stream),
        };
        let (protocol, data) = match &self.authorization {
            Some(shown) => (shown.protocol.as_slice(), shown.data.as_slice()),
            None => (&[][..], &[][..]),
        };
        let setup = DisplaySetup::ours(protocol, data).encode();
        line.write_all(&setup).await.map_err(|error| self.broken_off(error))?;
        let mut met = Vec::new();
        loop {
            match hello::answer(&met).map_err(|met| self.odd(met))? {
                Some((SetupAnswer::Welcome, _)) => return Ok(line),
                Some((SetupAnswer::Refused(reason), _)) => {
                    let reason = if reason.is_empty() { "it says no more than that".into() } else { reason };
                    let has_cookie = self.authorization.is_some();
                    return Err(DisplayError::Refused { name: self.name.to_string(), reason, has_cookie });
                }
                None => self.read_more(&mut line, &mut met).await?,
            }
        }
    }

    async fn read_more(&self, line: &mut Line, met: &mut Vec<u8>) -> Result<(), DisplayError> {
        let mut buffer = [0; 4096];
        match line.read(&mut buffer).await {
            Ok(0) => Err(self.odd(ENDS)),
            Ok(len) => {
                met.extend_from_slice(buffer.get(..len).unwrap_or_default());
                Ok(())
            }
            Err(error) => Err(self.broken_off(error)),
        }
    }

    /// The number of the extension, when there is one.
    async fn security(&self, line: &mut Line) -> Result<Option<u8>, DisplayError> {
        line.write_all(&hello::query_extension(SECURITY)).await.map_err(|error| self.broken_off(error))?;
        let mut met = Vec::new();
        while met.len() < REPLY {
            self.read_more(line, &mut met).await?;
        }
        Ok(hello::extension(&met))
    }
}

/// An authorization for programs that are not trusted, as long as this stands: with it stands a line to the display, which forgets everything when the last
/// one goes (X Window System Protocol, "Connection Close").
#[derive(Debug)]
pub struct RestrictedAuthorization {
    /// What the display is to be shown.
    pub authorization: DisplayAuthorization,
    held: AbortHandle,
}

impl Drop for RestrictedAuthorization {
    fn drop(&mut self) {
        self.held.abort();
    }
}

/// Has a display make an authorization for programs that are not trusted: they draw, and see nothing of what others do. The display forgets it when nobody
/// has used it for this time.
///
/// # Errors
/// [`DisplayError`]; nothing, when the display tells no such programs apart.
pub async fn restricted_authorization(
    display: &DisplayHere,
    unused: Duration,
) -> Result<Option<RestrictedAuthorization>, DisplayError> {
    let making = async {
        let mut line = display.begin().await?;
        let Some(extension) = display.security(&mut line).await? else { return Ok(None) };
        let seconds = u32::try_from(unused.as_secs()).unwrap_or(u32::MAX);
        let request = hello::generate_authorization(extension, COOKIE_PROTOCOL, seconds);
        line.write_all(&request).await.map_err(|error| display.broken_off(error))?;
        let mut met = Vec::new();
        let authorization = loop {
            match hello::authorization(&met, COOKIE_PROTOCOL).map_err(|met| display.odd(met))? {
                Some(made) => break made,
                None => display.read_more(&mut line, &mut met).await?,
            }
        };
        let held = tokio::spawn(hold(line)).abort_handle();
        Ok(Some(RestrictedAuthorization { authorization, held }))
    };
    display.in_time(making).await
}

/// Keeps a line open; what the display tells everybody on it is read, and of no interest.
async fn hold(mut line: Line) {
    let mut buffer = [0; 256];
    while line.read(&mut buffer).await.is_ok_and(|len| len > 0) {}
}
