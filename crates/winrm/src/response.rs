//! What a service answers: decoded by us, encoded where we play the machine.

use std::fmt::Write;

use base64ct::{Base64, Encoding};
use bytes::Bytes;

use crate::envelope::{Answer, answer, open};
use crate::ids::id;
use crate::namespace::{
    ADDRESSING, ANONYMOUS, COMMAND_SHELL, COMMAND_STATE, IDENTITY, SHELL, SOAP, TRANSFER, WSMAN,
};
use crate::request::{Request, of_command};
use crate::xml::{Element, XmlError, escaped, parse};
use crate::{Fault, WinrmError};

/// Which of a command's streams.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Output {
    /// Standard output.
    Main,
    /// Standard error.
    Error,
}

/// What a command wrote since it was last asked, and whether it has ended.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Received {
    /// In the order of writing, as far as the machine keeps it.
    pub pieces: Vec<(Output, Bytes)>,
    /// Its exit code, once it has ended. A program's own: 32 bits.
    pub exit: Option<u32>,
    /// Whether it has ended, with or without a code.
    pub is_done: bool,
}

/// What a service says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Identity {
    /// Who made it.
    pub vendor: String,
    /// Its versions: `OS: … SP: … Stack: …`.
    pub version: String,
}

impl Identity {
    /// The version of its stack, where it tells.
    pub fn stack(&self) -> Option<u32> {
        let (_, behind) = self.version.split_once("Stack:")?;
        behind.trim().split(|c: char| !c.is_ascii_digit()).next()?.parse().ok()
    }
}

/// The largest envelopes that a stack of this version is asked for, in bytes; as long as it is not known, what all of them take.
pub fn max_envelope(stack: Option<u32>) -> u32 {
    match stack {
        Some(stack) if stack >= 3 => crate::limits::LARGE_ENVELOPE,
        _ => crate::limits::SMALL_ENVELOPE,
    }
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Response {
    /// What service it is.
    Identity(Identity),
    /// A shell was made.
    Created {
        /// Its name.
        shell: String,
    },
    /// A command was started.
    Started {
        /// Its name.
        command: String,
    },
    /// Output, or the end.
    Received(Received),
    /// The rest of what was asked was done.
    Done,
}

impl Response {
    /// Reads the answer to `request`, which was message `message_id`.
    ///
    /// # Errors
    /// The machine's fault; an answer to something else; one that does not say what it should.
    pub fn decode(bytes: &[u8], request: &Request, message_id: &str) -> Result<Self, WinrmError> {
        if *request == Request::Identify {
            return Self::identity(bytes);
        }
        let answer = Answer::read(bytes, message_id)?;
        let expected = format!("{}Response", request.action());
        if answer.action != expected {
            return Err(WinrmError::Unexpected { expected: request.name(), met: answer.action });
        }
        let body = answer.body()?;
        match request {
            Request::Create(_) => Ok(Self::Created { shell: id(shell_of(body)?, "ShellId")? }),
            Request::Command(_) | Request::Pipeline { .. } => {
                let command = body.find(SHELL, "CommandId").ok_or(WinrmError::Missing("CommandId"))?;
                Ok(Self::Started { command: id(command.trimmed(), "CommandId")? })
            }
            Request::Receive { command } => received(body, command.as_deref()).map(Self::Received),
            _ => Ok(Self::Done),
        }
    }

    fn identity(bytes: &[u8]) -> Result<Self, WinrmError> {
        let root = parse(bytes)?;
        let body = open(&root)?.1;
        if let Some(fault) = Fault::of(body) {
            return Err(fault.into());
        }
        let said = body.child(IDENTITY, "IdentifyResponse").ok_or(WinrmError::Missing("IdentifyResponse"))?;
        let text = |name| said.child(IDENTITY, name).map(Element::trimmed).unwrap_or_default().to_owned();
        Ok(Self::Identity(Identity { vendor: text("ProductVendor"), version: text("ProductVersion") }))
    }

    /// The envelope that answers `request`, as a service writes it.
    ///
    /// # Errors
    /// A text that XML cannot hold.
    pub fn encode(&self, request: &Request, relates_to: &str, message_id: &str) -> Result<String, XmlError> {
        let mut body = String::new();
        match self {
            Self::Identity(identity) => {
                let (vendor, version) =
                    (escaped("a vendor", &identity.vendor)?, escaped("a version", &identity.version)?);
                return Ok(format!(
                    "<s:Envelope xmlns:s=\"{SOAP}\" xml:lang=\"en-US\"><s:Header/><s:Body><wsmid:IdentifyResponse xmlns:wsmid=\"{IDENTITY}\">\
                     <wsmid:ProtocolVersion>{WSMAN}</wsmid:ProtocolVersion><wsmid:ProductVendor>{vendor}</wsmid:ProductVendor>\
                     <wsmid:ProductVersion>{version}</wsmid:ProductVersion></wsmid:IdentifyResponse></s:Body></s:Envelope>"
                ));
            }
            Self::Created { shell } => {
                let _ = write!(
                    body,
                    "<x:ResourceCreated xmlns:x=\"{TRANSFER}\"><a:Address>{ANONYMOUS}</a:Address><a:ReferenceParameters>\
                     <w:ResourceURI>{COMMAND_SHELL}</w:ResourceURI><w:SelectorSet><w:Selector Name=\"ShellId\">{shell}</w:Selector></w:SelectorSet>\
                     </a:ReferenceParameters></x:ResourceCreated><rsp:Shell><rsp:ShellId>{shell}</rsp:ShellId></rsp:Shell>"
                );
            }
            Self::Started { command } => {
                let _ = write!(
                    body,
                    "<rsp:CommandResponse><rsp:CommandId>{command}</rsp:CommandId></rsp:CommandResponse>"
                );
            }
            Self::Received(received) => {
                let command = match request {
                    Request::Receive { command } => command.as_deref(),
                    _ => None,
                };
                encode_received(&mut body, received, command);
            }
            Self::Done => {}
        }
        Ok(answer(&format!("{}Response", request.action()), relates_to, message_id, &body))
    }
}

/// The shell that was made: of the new forms' own element, or of the reference to it (MS-WSMV 3.1.4.5).
fn shell_of(body: &Element) -> Result<&str, WinrmError> {
    if let Some(shell) = body.child(SHELL, "Shell").and_then(|shell| shell.child(SHELL, "ShellId")) {
        return Ok(shell.trimmed());
    }
    let made = body.child(TRANSFER, "ResourceCreated").ok_or(WinrmError::Missing("ShellId"))?;
    let parameters = made.child(ADDRESSING, "ReferenceParameters").ok_or(WinrmError::Missing("ShellId"))?;
    let selectors =
        parameters.child(WSMAN, "SelectorSet").into_iter().flat_map(|set| set.all(WSMAN, "Selector"));
    let shell = selectors.into_iter().find(|selector| selector.attribute("Name") == Some("ShellId"));
    Ok(shell.ok_or(WinrmError::Missing("ShellId"))?.trimmed())
}

fn received(body: &Element, command: Option<&str>) -> Result<Received, WinrmError> {
    let answer = body.child(SHELL, "ReceiveResponse").ok_or(WinrmError::Missing("ReceiveResponse"))?;
    let is_ours = |element: &Element| match (element.attribute("CommandId"), command) {
        (Some(id), Some(command)) => id.eq_ignore_ascii_case(command),
        (id, command) => id.is_none() && command.is_none(),
    };
    let mut received = Received::default();
    for stream in answer.all(SHELL, "Stream") {
        if !is_ours(stream) {
            return Err(WinrmError::OtherCommand);
        }
        let output = match stream.attribute("Name") {
            Some("stdout") => Output::Main,
            Some("stderr") => Output::Error,
            _ => return Err(WinrmError::Wrong("stream's name")),
        };
        let data = decoded(stream.trimmed())?;
        if !data.is_empty() {
            received.pieces.push((output, data.into()));
        }
    }
    if let Some(state) = answer.child(SHELL, "CommandState") {
        if !is_ours(state) {
            return Err(WinrmError::OtherCommand);
        }
        received.is_done = state.attribute("State") == Some(&format!("{COMMAND_STATE}Done"));
        if let Some(code) = state.child(SHELL, "ExitCode").filter(|_| received.is_done) {
            received.exit = Some(exit_code(code.trimmed()).ok_or(WinrmError::Wrong("ExitCode"))?);
        }
    }
    Ok(received)
}

/// A stream's data. Writers may fold it into lines.
fn decoded(text: &str) -> Result<Vec<u8>, WinrmError> {
    let wrong = |_| WinrmError::Wrong("Stream: it is not base64");
    // Few do, and to look for that costs as much as to decode.
    Base64::decode_vec(text).or_else(|_| {
        let unfolded: String = text.split_ascii_whitespace().collect();
        Base64::decode_vec(&unfolded).map_err(wrong)
    })
}

/// 32 bits, written as a signed or an unsigned number.
fn exit_code(text: &str) -> Option<u32> {
    text.parse().ok().or_else(|| text.parse::<i32>().ok().map(i32::cast_unsigned))
}

fn encode_received(body: &mut String, received: &Received, command: Option<&str>) {
    let of = of_command(command);
    body.push_str("<rsp:ReceiveResponse>");
    for (output, data) in &received.pieces {
        let name = if *output == Output::Main { "stdout" } else { "stderr" };
        let data = Base64::encode_string(data);
        let _ = write!(body, "<rsp:Stream Name=\"{name}\"{of}>{data}</rsp:Stream>");
    }
    if received.is_done {
        for name in ["stdout", "stderr"] {
            let _ = write!(body, "<rsp:Stream Name=\"{name}\"{of} End=\"true\"/>");
        }
    }
    if command.is_none() {
        // A session has no state of its own.
        body.push_str("</rsp:ReceiveResponse>");
        return;
    }
    let state = if received.is_done { "Done" } else { "Running" };
    let _ = write!(body, "<rsp:CommandState{of} State=\"{COMMAND_STATE}{state}\">");
    if let Some(code) = received.exit {
        let _ = write!(body, "<rsp:ExitCode>{code}</rsp:ExitCode>");
    }
    body.push_str("</rsp:CommandState></rsp:ReceiveResponse>");
}
