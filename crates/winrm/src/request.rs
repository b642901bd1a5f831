//! What a client asks of a service: encoded by us, decoded where we play the machine.

use std::fmt::Write;
use std::time::Duration;

use base64ct::{Base64, Encoding};
use bytes::Bytes;

use crate::WinrmError;
use crate::envelope::{RequestHeaders, open};
use crate::ids::{duration, id, parse_duration};
use crate::namespace::{COMMAND_SHELL, IDENTITY, SHELL, SIGNAL, SOAP, TRANSFER};
use crate::xml::{Element, XmlError, escaped, parse};

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
}

impl Signal {
    fn uri(self) -> String {
        let name = match self {
            Self::Interrupt => "ctrl_c",
            Self::Terminate => "terminate",
        };
        format!("{SIGNAL}{name}")
    }

    fn parse(uri: &str) -> Option<Self> {
        [Self::Interrupt, Self::Terminate].into_iter().find(|signal| signal.uri().eq_ignore_ascii_case(uri))
    }
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
    /// Standard input of a command, in pieces, and whether it ends with that.
    Send {
        /// The command.
        command: String,
        /// Its input.
        pieces: Vec<Bytes>,
        /// Whether that is all.
        end: bool,
    },
    /// What the command has written, and how it ended; waits for either.
    Receive {
        /// The command.
        command: String,
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
    /// Takes a shell up that somebody else of the same user made.
    Connect,
}

impl Request {
    /// The action that asks for it.
    pub fn action(&self) -> String {
        match self {
            Self::Identify => String::new(),
            Self::Create(_) => format!("{TRANSFER}/Create"),
            Self::Delete => format!("{TRANSFER}/Delete"),
            Self::Command(_) => format!("{SHELL}/Command"),
            Self::Send { .. } => format!("{SHELL}/Send"),
            Self::Receive { .. } => format!("{SHELL}/Receive"),
            Self::Signal { .. } => format!("{SHELL}/Signal"),
            Self::Disconnect { .. } => format!("{SHELL}/Disconnect"),
            Self::Reconnect => format!("{SHELL}/Reconnect"),
            Self::Connect => format!("{SHELL}/Connect"),
        }
    }

    /// What it asks for, in a word, for messages.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Identify => "its identity",
            Self::Create(_) => "a shell",
            Self::Command(_) => "the start of a program",
            Self::Send { .. } => "taking input",
            Self::Receive { .. } => "output",
            Self::Signal { .. } => "a signal",
            Self::Delete => "the end of the shell",
            Self::Disconnect { .. } => "leaving the shell",
            Self::Reconnect | Self::Connect => "the shell again",
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
        headers.wrap(&self.body()?)
    }

    fn body(&self) -> Result<String, XmlError> {
        let mut out = String::new();
        match self {
            Self::Identify | Self::Delete | Self::Reconnect => {}
            Self::Create(shell) => {
                out.push_str("<rsp:Shell>");
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
                out.push_str("<rsp:InputStreams>stdin</rsp:InputStreams><rsp:OutputStreams>stdout stderr</rsp:OutputStreams></rsp:Shell>");
            }
            Self::Command(command) => {
                let line = escaped("the command", &command.line)?;
                let _ = write!(out, "<rsp:CommandLine><rsp:Command>{line}</rsp:Command></rsp:CommandLine>");
            }
            Self::Send { command, pieces, end } => {
                out.push_str("<rsp:Send>");
                let last = pieces.len().checked_sub(1);
                for (index, piece) in pieces.iter().enumerate() {
                    let is_end = *end && Some(index) == last;
                    let attribute = if is_end { " End=\"true\"" } else { "" };
                    let data = Base64::encode_string(piece);
                    let _ = write!(
                        out,
                        "<rsp:Stream Name=\"stdin\" CommandId=\"{command}\"{attribute}>{data}</rsp:Stream>"
                    );
                }
                if *end && last.is_none() {
                    let _ = write!(out, "<rsp:Stream Name=\"stdin\" CommandId=\"{command}\" End=\"true\"/>");
                }
                out.push_str("</rsp:Send>");
            }
            Self::Receive { command } => {
                let _ = write!(
                    out,
                    "<rsp:Receive><rsp:DesiredStream CommandId=\"{command}\">stdout stderr</rsp:DesiredStream></rsp:Receive>"
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
            Self::Connect => out.push_str("<rsp:Connect/>"),
        }
        Ok(out)
    }

    /// Reads a request, as a service does.
    ///
    /// # Errors
    /// What is wrong with it. `Identify` has no headers.
    pub fn decode(bytes: &[u8]) -> Result<(Option<RequestHeaders>, Self), WinrmError> {
        let root = parse(bytes)?;
        let (header, body) = open(&root)?;
        if body.child(IDENTITY, "Identify").is_some() {
            return Ok((None, Self::Identify));
        }
        let headers = RequestHeaders::read(header)?;
        let request = Self::of(&headers, body)?;
        Ok((Some(headers), request))
    }

    fn of(headers: &RequestHeaders, body: &Element) -> Result<Self, WinrmError> {
        let option = |name: &str| {
            headers
                .options
                .iter()
                .find(|(is, _)| is.eq_ignore_ascii_case(name))
                .map(|(_, value)| value.as_str())
        };
        let is_on = |name: &str| option(name).is_some_and(|value| value.eq_ignore_ascii_case("true"));
        let part = |name, missing| body.child(SHELL, name).ok_or(WinrmError::Missing(missing));
        let time = |element: Option<&Element>| element.and_then(|time| parse_duration(time.trimmed()));
        if headers.action.strip_prefix(TRANSFER) == Some("/Create") {
            let shell = part("Shell", "Shell")?;
            let variables =
                shell.child(SHELL, "Environment").into_iter().flat_map(|set| set.all(SHELL, "Variable"));
            return Ok(Self::Create(NewShell {
                working_directory: shell
                    .child(SHELL, "WorkingDirectory")
                    .map(|folder| folder.trimmed().to_owned()),
                environment: variables
                    .map(|variable| {
                        (variable.attribute("Name").unwrap_or_default().to_owned(), variable.text.clone())
                    })
                    .collect(),
                no_profile: is_on("WINRS_NOPROFILE"),
                code_page: option("WINRS_CODEPAGE").and_then(|page| page.parse().ok()),
                idle_time: time(shell.child(SHELL, "IdleTimeOut")),
            }));
        }
        if headers.action.strip_prefix(TRANSFER) == Some("/Delete") {
            return Ok(Self::Delete);
        }
        let command = |element: &Element| id(element.attribute("CommandId").unwrap_or_default(), "CommandId");
        match headers.action.strip_prefix(SHELL).unwrap_or_default() {
            "/Command" => {
                let line = part("CommandLine", "CommandLine")?;
                let mut text =
                    line.child(SHELL, "Command").ok_or(WinrmError::Missing("Command"))?.text.clone();
                for argument in line.all(SHELL, "Arguments") {
                    text.push(' ');
                    text.push_str(&argument.text);
                }
                Ok(Self::Command(NewCommand { line: text, by_interpreter: !is_on("WINRS_SKIP_CMD_SHELL") }))
            }
            "/Send" => {
                let send = part("Send", "Send")?;
                let mut pieces = Vec::new();
                let (mut of, mut end) = (String::new(), false);
                for stream in send.all(SHELL, "Stream") {
                    of = command(stream)?;
                    end |= stream.attribute("End").is_some_and(|end| end.eq_ignore_ascii_case("true"));
                    let data =
                        Base64::decode_vec(stream.trimmed()).map_err(|_| WinrmError::Wrong("Stream"))?;
                    if !data.is_empty() {
                        pieces.push(data.into());
                    }
                }
                Ok(Self::Send { command: of, pieces, end })
            }
            "/Receive" => {
                let receive = part("Receive", "Receive")?;
                let wanted =
                    receive.child(SHELL, "DesiredStream").ok_or(WinrmError::Missing("DesiredStream"))?;
                Ok(Self::Receive { command: command(wanted)? })
            }
            "/Signal" => {
                let signal = part("Signal", "Signal")?;
                let code = signal.child(SHELL, "Code").map(Element::trimmed).unwrap_or_default();
                let command = command(signal)?;
                Ok(Self::Signal { command, signal: Signal::parse(code).ok_or(WinrmError::Wrong("Code"))? })
            }
            "/Disconnect" => {
                let idle_time = time(part("Disconnect", "Disconnect")?.child(SHELL, "IdleTimeOut"));
                Ok(Self::Disconnect { idle_time: idle_time.unwrap_or_default() })
            }
            "/Reconnect" => Ok(Self::Reconnect),
            "/Connect" => Ok(Self::Connect),
            _ => Err(WinrmError::Unexpected { expected: "an action of shells", met: headers.action.clone() }),
        }
    }

    /// The endpoint of the command shell.
    pub const ENDPOINT: &str = COMMAND_SHELL;
}
