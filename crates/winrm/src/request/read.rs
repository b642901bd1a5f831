//! Requests, as a service reads them.

use base64ct::{Base64, Encoding};
use bytes::Bytes;

use super::{NewCommand, NewSession, NewShell, Request, Sent, Signal};
use crate::WinrmError;
use crate::envelope::{RequestHeaders, open};
use crate::ids::{id, parse_duration};
use crate::namespace::{CREATION, IDENTITY, SHELL, TRANSFER};
use crate::xml::{Element, parse};

fn data(element: &Element, what: &'static str) -> Result<Bytes, WinrmError> {
    Base64::decode_vec(element.trimmed()).map(Bytes::from).map_err(|_| WinrmError::Wrong(what))
}

impl Request {
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
                session: match shell.child(CREATION, "creationXml") {
                    None => None,
                    Some(creation) => Some(NewSession {
                        id: id(shell.attribute("ShellId").unwrap_or_default(), "ShellId")?,
                        creation: data(creation, "creationXml")?,
                    }),
                },
            }));
        }
        if headers.action.strip_prefix(TRANSFER) == Some("/Delete") {
            return Ok(Self::Delete);
        }
        let command = |element: &Element| id(element.attribute("CommandId").unwrap_or_default(), "CommandId");
        let any_command =
            |element: &Element| element.attribute("CommandId").map(|name| id(name, "CommandId")).transpose();
        match headers.action.strip_prefix(SHELL).unwrap_or_default() {
            "/Command" => {
                let line = part("CommandLine", "CommandLine")?;
                if headers.is_session() {
                    let arguments = line.child(SHELL, "Arguments").ok_or(WinrmError::Missing("Arguments"))?;
                    let fragments = data(arguments, "Arguments")?;
                    return Ok(Self::Pipeline { id: command(line)?, fragments });
                }
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
                let mut sent = Sent::default();
                for stream in send.all(SHELL, "Stream") {
                    sent.command = any_command(stream)?;
                    sent.end |= stream.attribute("End").is_some_and(|end| end.eq_ignore_ascii_case("true"));
                    sent.is_answer |= stream.attribute("Name") == Some("pr");
                    let piece = data(stream, "Stream")?;
                    if !piece.is_empty() {
                        sent.pieces.push(piece);
                    }
                }
                Ok(Self::Send(sent))
            }
            "/Receive" => {
                let receive = part("Receive", "Receive")?;
                let wanted =
                    receive.child(SHELL, "DesiredStream").ok_or(WinrmError::Missing("DesiredStream"))?;
                Ok(Self::Receive { command: any_command(wanted)? })
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
            "/Connect" => {
                let connect = part("Connect", "Connect")?;
                let fragments = connect.child(CREATION, "connectXml").map(|xml| data(xml, "connectXml"));
                Ok(Self::Connect(fragments.transpose()?.unwrap_or_default()))
            }
            _ => Err(WinrmError::Unexpected { expected: "an action of shells", met: headers.action.clone() }),
        }
    }
}
