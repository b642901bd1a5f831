//! What a client asks of a service: encoded by us, decoded where we play the machine.

mod read;

use std::fmt::Write;
use std::time::Duration;

use base64ct::{Base64, Encoding};
use bytes::Bytes;

use crate::envelope::RequestHeaders;
use crate::ids::duration;
use crate::namespace::{CREATION, IDENTITY, REMOTING_STOP, SHELL, SIGNAL, SOAP, TRANSFER};
use crate::xml::{XmlError, escaped};

/// How a shell is made (MS-WSMV 2.2.4.36).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NewShell {
    /// Where its commands begin.
    pub working_directory: Option<String>,
    /// Variables of its commands.
    pub environment: Vec<(String, String)>,
    /// Whether the user's profile is left out.
    pub no_profile: bool,
    /// The code page of what its commands write and read; none: the machine's own.
    pub code_page: Option<u32>,
    /// How long it lives when nobody asks anything.
    pub idle_time: Option<Duration>,
    /// The session of PowerShell that it carries; none: it is a command shell.
    pub session: Option<NewSession>,
}

/// A session of PowerShell in a shell (MS-PSRP 3.1.5.3.1).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NewSession {
    /// Its name.
    pub id: String,
    /// The fragments that make it.
    pub creation: Bytes,
}

/// How a command is run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NewCommand {
    /// What is run: a whole command line.
    pub line: String,
    /// Whether the command interpreter runs it; else it is a program.
    pub by_interpreter: bool,
}

/// What is told a command (MS-WSMV 2.2.4.38).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signal {
    /// As Ctrl-C at its console.
    Interrupt,
    /// Its end; also of what is kept of it.
    Terminate,
    /// To a pipeline: stop (MS-PSRP 3.1.5.3.13).
    Stop,
}

impl Signal {
    fn uri(self) -> String {
        match self {
            Self::Interrupt => format!("{SIGNAL}ctrl_c"),
            Self::Terminate => format!("{SIGNAL}terminate"),
            Self::Stop => REMOTING_STOP.to_owned(),
        }
    }

    fn parse(uri: &str) -> Option<Self> {
        let all = [Self::Interrupt, Self::Terminate, Self::Stop];
        all.into_iter().find(|signal| signal.uri().eq_ignore_ascii_case(uri))
    }
}

/// What is handed to a shell or to a command of it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Sent {
    /// The command; none: the shell itself, which sessions have.
    pub command: Option<String>,
    /// Whether it is an answer to what was asked, which goes before input (MS-PSRP 3.1.5.3.5).
    pub is_answer: bool,
    /// The data.
    pub pieces: Vec<Bytes>,
    /// Whether that is all.
    pub end: bool,
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request {
    /// What service are you (DSP0226 §11)?
    Identify,
    /// Makes a shell.
    Create(NewShell),
    /// Runs a command in it.
    Command(NewCommand),
    /// Runs a pipeline in a session, whose name we have chosen.
    Pipeline {
        /// Its name.
        id: String,
        /// The fragments that begin it.
        fragments: Bytes,
    },
    /// Standard input of a command, or what a session is told.
    Send(Sent),
    /// What a command has written, and how it ended, or what a session says; waits for either.
    Receive {
        /// The command; none: the session itself.
        command: Option<String>,
    },
    /// Tells the command something.
    Signal {
        /// The command.
        command: String,
        /// What.
        signal: Signal,
    },
    /// Ends the shell with all in it.
    Delete,
    /// Leaves the shell for this long, to be taken up again.
    Disconnect {
        /// How long it is kept.
        idle_time: Duration,
    },
    /// Takes a shell up again that one has left.
    Reconnect,
    /// Takes a session up that another program of the same user has left, with the fragments that say so.
    Connect(Bytes),
}

impl Request {
    /// The action that asks for it.
    pub fn action(&self) -> String {
        match self {
            Self::Identify => String::new(),
            Self::Create(_) => format!("{TRANSFER}/Create"),
            Self::Delete => format!("{TRANSFER}/Delete"),
            Self::Command(_) | Self::Pipeline { .. } => format!("{SHELL}/Command"),
            Self::Send(_) => format!("{SHELL}/Send"),
            Self::Receive { .. } => format!("{SHELL}/Receive"),
            Self::Signal { .. } => format!("{SHELL}/Signal"),
            Self::Disconnect { .. } => format!("{SHELL}/Disconnect"),
            Self::Reconnect => format!("{SHELL}/Reconnect"),
            Self::Connect(_) => format!("{SHELL}/Connect"),
        }
    }

    /// What it asks for, in a word, for messages.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Identify => "its identity",
            Self::Create(_) => "a shell",
            Self::Command(_) => "the start of a program",
            Self::Pipeline { .. } => "the start of a pipeline",
            Self::Send(_) => "taking input",
            Self::Receive { .. } => "output",
            Self::Signal { .. } => "a signal",
            Self::Delete => "the end of the shell",
            Self::Disconnect { .. } => "leaving the shell",
            Self::Reconnect | Self::Connect(_) => "the shell again",
        }
    }

    /// The envelope: `headers` are completed with what this request needs of them.
    ///
    /// # Errors
    /// A text that XML cannot hold.
    pub fn encode(&self, mut headers: RequestHeaders) -> Result<String, XmlError> {
        if *self == Self::Identify {
            return Ok(format!(
                "<s:Envelope xmlns:s=\"{SOAP}\" xmlns:i=\"{IDENTITY}\"><s:Header/><s:Body><i:Identify/></s:Body></s:Envelope>"
            ));
        }
        headers.action = self.action();
        let option =
            |name: &str, value: bool| (name.to_owned(), if value { "TRUE" } else { "FALSE" }.to_owned());
        headers.options = match self {
            Self::Create(NewShell { session: Some(_), .. }) | Self::Connect(_) => {
                vec![(PROTOCOL_OPTION.to_owned(), crate::remoting::PROTOCOL_VERSION.to_owned())]
            }
            Self::Create(shell) => {
                let mut options = vec![option("WINRS_NOPROFILE", shell.no_profile)];
                options.extend(shell.code_page.map(|page| ("WINRS_CODEPAGE".to_owned(), page.to_string())));
                options
            }
            Self::Command(command) => vec![
                // A pipe and no console: what is sent arrives as it is, and its end is an end.
                option("WINRS_CONSOLEMODE_STDIN", false),
                option("WINRS_SKIP_CMD_SHELL", !command.by_interpreter),
            ],
            // Where nothing comes for long, the service says so in time and keeps the command.
            Self::Receive { .. } => vec![option("WSMAN_CMDSHELL_OPTION_KEEPALIVE", true)],
            _ => Vec::new(),
        };
        headers.wrap(&self.body(headers.is_session())?)
    }

    fn body(&self, is_session: bool) -> Result<String, XmlError> {
        let mut out = String::new();
        match self {
            Self::Identify | Self::Delete | Self::Reconnect => {}
            Self::Create(shell) => {
                match &shell.session {
                    None => out.push_str("<rsp:Shell>"),
                    Some(session) => {
                        let _ = write!(out, "<rsp:Shell ShellId=\"{}\">", session.id);
                    }
                }
                if let Some(folder) = &shell.working_directory {
                    let _ = write!(
                        out,
                        "<rsp:WorkingDirectory>{}</rsp:WorkingDirectory>",
                        escaped("the folder", folder)?
                    );
                }
                if !shell.environment.is_empty() {
                    out.push_str("<rsp:Environment>");
                    for (name, value) in &shell.environment {
                        let (name, value) = (escaped("a variable", name)?, escaped("a variable", value)?);
                        let _ = write!(out, "<rsp:Variable Name=\"{name}\">{value}</rsp:Variable>");
                    }
                    out.push_str("</rsp:Environment>");
                }
                if let Some(time) = shell.idle_time {
                    let _ = write!(out, "<rsp:IdleTimeOut>{}</rsp:IdleTimeOut>", duration(time));
                }
                let input = if shell.session.is_some() { "stdin pr" } else { "stdin" };
                let _ = write!(
                    out,
                    "<rsp:InputStreams>{input}</rsp:InputStreams><rsp:OutputStreams>{}</rsp:OutputStreams>",
                    outputs(shell.session.is_some())
                );
                if let Some(session) = &shell.session {
                    let fragments = Base64::encode_string(&session.creation);
                    let _ = write!(out, "<creationXml xmlns=\"{CREATION}\">{fragments}</creationXml>");
                }
                out.push_str("</rsp:Shell>");
            }
            Self::Pipeline { id, fragments } => {
                let fragments = Base64::encode_string(fragments);
                let _ = write!(
                    out,
                    "<rsp:CommandLine CommandId=\"{id}\"><rsp:Command/><rsp:Arguments>{fragments}</rsp:Arguments></rsp:CommandLine>"
                );
            }
            Self::Command(command) => {
                let line = escaped("the command", &command.line)?;
                let _ = write!(out, "<rsp:CommandLine><rsp:Command>{line}</rsp:Command></rsp:CommandLine>");
            }
            Self::Send(sent) => {
                let name = if sent.is_answer { "pr" } else { "stdin" };
                let of = of_command(sent.command.as_deref());
                out.push_str("<rsp:Send>");
                let last = sent.pieces.len().checked_sub(1);
                for (index, piece) in sent.pieces.iter().enumerate() {
                    let is_end = sent.end && Some(index) == last;
                    let attribute = if is_end { " End=\"true\"" } else { "" };
                    let data = Base64::encode_string(piece);
                    let _ = write!(out, "<rsp:Stream Name=\"{name}\"{of}{attribute}>{data}</rsp:Stream>");
                }
                if sent.end && last.is_none() {
                    let _ = write!(out, "<rsp:Stream Name=\"{name}\"{of} End=\"true\"/>");
                }
                out.push_str("</rsp:Send>");
            }
            Self::Receive { command } => {
                let (of, streams) = (of_command(command.as_deref()), outputs(is_session));
                let _ = write!(
                    out,
                    "<rsp:Receive><rsp:DesiredStream{of}>{streams}</rsp:DesiredStream></rsp:Receive>"
                );
            }
            Self::Signal { command, signal } => {
                let _ = write!(
                    out,
                    "<rsp:Signal CommandId=\"{command}\"><rsp:Code>{}</rsp:Code></rsp:Signal>",
                    signal.uri()
                );
            }
            Self::Disconnect { idle_time } => {
                let _ = write!(
                    out,
                    "<rsp:Disconnect><rsp:IdleTimeOut>{}</rsp:IdleTimeOut></rsp:Disconnect>",
                    duration(*idle_time)
                );
            }
            Self::Connect(fragments) => {
                let fragments = Base64::encode_string(fragments);
                let _ = write!(
                    out,
                    "<rsp:Connect><connectXml xmlns=\"{CREATION}\">{fragments}</connectXml></rsp:Connect>"
                );
            }
        }
        Ok(out)
    }
}

/// The option that says which protocol a session speaks.
const PROTOCOL_OPTION: &str = "protocolversion";

/// Streams that come back.
fn outputs(is_session: bool) -> &'static str {
    if is_session { "stdout" } else { "stdout stderr" }
}

pub(crate) fn of_command(command: Option<&str>) -> String {
    command.map(|command| format!(" CommandId=\"{command}\"")).unwrap_or_default()
}
