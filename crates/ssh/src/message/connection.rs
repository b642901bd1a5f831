//! Messages of the connection protocol: RFC 4254.

use lantern_keys::wire::{Reader, WireError, Writer};

use super::number;
use crate::text::neutralize;

/// SSH_MSG_CHANNEL_OPEN (90), RFC 4254 §5.1.
#[derive(Debug)]
pub(crate) struct ChannelOpen<'a> {
    pub(crate) channel_type: &'a [u8],
    pub(crate) sender: u32,
    pub(crate) window: u32,
    pub(crate) max_packet: u32,
    /// What the channel's type adds.
    pub(crate) rest: &'a [u8],
}

impl<'a> ChannelOpen<'a> {
    pub(crate) fn decode(mut reader: Reader<'a>) -> Result<Self, WireError> {
        Ok(Self {
            channel_type: reader.string("channel type")?,
            sender: reader.u32("sender channel")?,
            window: reader.u32("initial window size")?,
            max_packet: reader.u32("maximum packet size")?,
            rest: reader.rest(),
        })
    }

    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_byte(number::CHANNEL_OPEN);
        out.put_string(self.channel_type);
        out.put_uint32(self.sender);
        out.put_uint32(self.window);
        out.put_uint32(self.max_packet);
        out.put(self.rest);
    }
}

/// SSH_MSG_CHANNEL_OPEN_CONFIRMATION (91).
#[derive(Debug)]
pub(crate) struct ChannelOpenConfirmation {
    pub(crate) recipient: u32,
    pub(crate) sender: u32,
    pub(crate) window: u32,
    pub(crate) max_packet: u32,
}

impl ChannelOpenConfirmation {
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        Ok(Self {
            recipient: reader.u32("recipient channel")?,
            sender: reader.u32("sender channel")?,
            window: reader.u32("initial window size")?,
            max_packet: reader.u32("maximum packet size")?,
        })
    }

    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_byte(number::CHANNEL_OPEN_CONFIRMATION);
        for field in [self.recipient, self.sender, self.window, self.max_packet] {
            out.put_uint32(field);
        }
    }
}

/// Why a channel was not opened: SSH_MSG_CHANNEL_OPEN_FAILURE (92).
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{} (code {code}){}", self.meaning(), if .description.is_empty() { String::new() } else { format!(", saying \"{}\"", .description) })]
pub struct OpenFailure {
    /// The code of RFC 4250 §4.3.2.
    pub code: u32,
    /// The peer's words, made harmless.
    pub description: String,
}

impl OpenFailure {
    /// SSH_OPEN_ADMINISTRATIVELY_PROHIBITED
    pub const PROHIBITED: u32 = 1;
    /// SSH_OPEN_CONNECT_FAILED
    pub const CONNECT_FAILED: u32 = 2;
    /// SSH_OPEN_UNKNOWN_CHANNEL_TYPE
    pub const UNKNOWN_TYPE: u32 = 3;
    /// SSH_OPEN_RESOURCE_SHORTAGE
    pub const RESOURCE_SHORTAGE: u32 = 4;

    /// The standard's meaning of the code.
    pub fn meaning(&self) -> &'static str {
        match self.code {
            1 => "administratively prohibited",
            2 => "connect failed",
            3 => "unknown channel type",
            4 => "resource shortage",
            _ => "unknown reason",
        }
    }

    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<(u32, Self), WireError> {
        let recipient = reader.u32("recipient channel")?;
        let code = reader.u32("reason code")?;
        let description = neutralize(&String::from_utf8_lossy(reader.string("description")?), 1024);
        Ok((recipient, Self { code, description }))
    }

    pub(crate) fn encode(&self, recipient: u32, out: &mut impl Writer) {
        out.put_byte(number::CHANNEL_OPEN_FAILURE);
        out.put_uint32(recipient);
        out.put_uint32(self.code);
        out.put_string(self.description.as_bytes());
        out.put_string(b"");
    }
}

/// What a pseudo-terminal is asked to be (RFC 4254 §6.2).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PtyRequest {
    /// The terminal type, as in TERM.
    pub terminal: String,
    /// Its size.
    pub size: TerminalSize,
    /// Encoded terminal modes: see [`crate::terminal_modes`].
    pub modes: Vec<u8>,
}

/// What display forwarding is asked with (RFC 4254 §6.3).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DisplayRequest {
    /// Whether just one program may come back.
    pub single: bool,
    /// The name of the X11 authentication protocol.
    pub protocol: String,
    /// Its cookie in hexadecimal: never the display's own.
    pub cookie: String,
    /// The screen's number.
    pub screen: u32,
}

/// The size of a terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct TerminalSize {
    /// Width in characters.
    pub columns: u32,
    /// Height in characters.
    pub rows: u32,
    /// Width in pixels, 0 when unknown.
    pub width_px: u32,
    /// Height in pixels, 0 when unknown.
    pub height_px: u32,
}

impl TerminalSize {
    fn decode(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        Ok(Self {
            columns: reader.u32("columns")?,
            rows: reader.u32("rows")?,
            width_px: reader.u32("width")?,
            height_px: reader.u32("height")?,
        })
    }

    fn encode(self, out: &mut impl Writer) {
        for field in [self.columns, self.rows, self.width_px, self.height_px] {
            out.put_uint32(field);
        }
    }
}

/// A request on a session channel (RFC 4254 §6), as sent and as received.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SessionRequest {
    /// `env` (§6.4)
    Env {
        /// Name.
        name: String,
        /// Value.
        value: String,
    },
    /// `pty-req` (§6.2)
    Pty(PtyRequest),
    /// `shell` (§6.5)
    Shell,
    /// `exec` (§6.5): the command line, in whatever bytes
    Exec(Vec<u8>),
    /// `subsystem` (§6.5)
    Subsystem(String),
    /// `window-change` (§6.7)
    WindowChange(TerminalSize),
    /// `signal` (§6.9): the name without SIG
    Signal(String),
    /// `exit-status` (§6.10)
    ExitStatus(u32),
    /// `exit-signal` (§6.10)
    ExitSignal {
        /// The name without SIG.
        name: String,
        /// Whether memory was dumped.
        core_dumped: bool,
        /// The peer's words, made harmless.
        message: String,
    },
    /// `x11-req` (§6.3): graphical programs may come back to draw on our display
    Display(DisplayRequest),
    /// `auth-agent-req@openssh.com`: the server may open channels to an agent on our side
    ForwardAgent,
    /// Anything else: refused when an answer is wanted.
    Unknown(String),
}

impl SessionRequest {
    /// The request's name on the wire.
    pub fn name(&self) -> &str {
        match self {
            Self::Env { .. } => "env",
            Self::Pty(_) => "pty-req",
            Self::Shell => "shell",
            Self::Exec(_) => "exec",
            Self::Subsystem(_) => "subsystem",
            Self::WindowChange(_) => "window-change",
            Self::Signal(_) => "signal",
            Self::ExitStatus(_) => "exit-status",
            Self::ExitSignal { .. } => "exit-signal",
            Self::Display(_) => "x11-req",
            Self::ForwardAgent => crate::agent::FORWARD_REQUEST,
            Self::Unknown(name) => name,
        }
    }

    /// Writes SSH_MSG_CHANNEL_REQUEST (98) to `recipient`.
    pub(crate) fn encode(&self, recipient: u32, want_reply: bool, out: &mut impl Writer) {
        out.put_byte(number::CHANNEL_REQUEST);
        out.put_uint32(recipient);
        out.put_string(self.name().as_bytes());
        out.put_bool(want_reply);
        match self {
            Self::Env { name, value } => {
                out.put_string(name.as_bytes());
                out.put_string(value.as_bytes());
            }
            Self::Pty(pty) => {
                out.put_string(pty.terminal.as_bytes());
                pty.size.encode(out);
                out.put_string(&pty.modes);
            }
            Self::Shell | Self::ForwardAgent | Self::Unknown(_) => {}
            Self::Display(display) => {
                out.put_bool(display.single);
                out.put_string(display.protocol.as_bytes());
                out.put_string(display.cookie.as_bytes());
                out.put_uint32(display.screen);
            }
            Self::Exec(command) => out.put_string(command),
            Self::Subsystem(name) => out.put_string(name.as_bytes()),
            Self::WindowChange(size) => size.encode(out),
            Self::Signal(name) => out.put_string(name.as_bytes()),
            Self::ExitStatus(status) => out.put_uint32(*status),
            Self::ExitSignal { name, core_dumped, message } => {
                out.put_string(name.as_bytes());
                out.put_bool(*core_dumped);
                out.put_string(message.as_bytes());
                out.put_string(b"");
            }
        }
    }

    /// Reads the rest of SSH_MSG_CHANNEL_REQUEST behind the recipient: whether a reply is wanted, and the request.
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<(bool, Self), WireError> {
        let name = String::from_utf8_lossy(reader.string("request type")?).into_owned();
        let want_reply = reader.bool("want reply")?;
        let request = match name.as_str() {
            "env" => Self::Env {
                name: reader.text("variable name")?.to_owned(),
                value: reader.text("variable value")?.to_owned(),
            },
            "pty-req" => Self::Pty(PtyRequest {
                terminal: reader.text("TERM")?.to_owned(),
                size: TerminalSize::decode(&mut reader)?,
                modes: reader.string("terminal modes")?.to_vec(),
            }),
            "x11-req" => Self::Display(DisplayRequest {
                single: reader.bool("single connection")?,
                protocol: reader.text("authentication protocol")?.to_owned(),
                cookie: reader.text("authentication cookie")?.to_owned(),
                screen: reader.u32("screen number")?,
            }),
            "shell" => Self::Shell,
            crate::agent::FORWARD_REQUEST => Self::ForwardAgent,
            "exec" => Self::Exec(reader.string("command")?.to_vec()),
            "subsystem" => Self::Subsystem(reader.text("subsystem")?.to_owned()),
            "window-change" => Self::WindowChange(TerminalSize::decode(&mut reader)?),
            "signal" => Self::Signal(reader.text("signal name")?.to_owned()),
            "exit-status" => Self::ExitStatus(reader.u32("exit status")?),
            "exit-signal" => {
                let name = reader.text("signal name")?.to_owned();
                let core_dumped = reader.bool("core dumped")?;
                let message = neutralize(&String::from_utf8_lossy(reader.string("message")?), 1024);
                reader.string("language")?;
                Self::ExitSignal { name, core_dumped, message }
            }
            _ => return Ok((want_reply, Self::Unknown(name))),
        };
        reader.finish()?;
        Ok((want_reply, request))
    }
}

#[cfg(any(test, fuzzing))]
#[allow(unused_must_use)]
pub(crate) fn decode_anything(bytes: &[u8]) {
    ChannelOpen::decode(Reader::new(bytes));
    ChannelOpenConfirmation::decode(Reader::new(bytes));
    OpenFailure::decode(Reader::new(bytes));
    SessionRequest::decode(Reader::new(bytes));
}
