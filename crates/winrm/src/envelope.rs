//! Envelopes: headers of WS-Addressing and WS-Management around a body (DSP0226 §5, §6).

use std::fmt::Write;
use std::time::Duration;

use crate::WinrmError;
use crate::fault::Fault;
use crate::ids::{duration, parse_duration};
use crate::namespace::{ADDRESSING, ANONYMOUS, FAULT_ACTION, SESSIONS, SHELL, SOAP, WSMAN, WSMV, XML};
use crate::xml::{Element, XmlError, escaped, parse};

/// The headers of a request.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RequestHeaders {
    /// The URL of the service.
    pub to: String,
    /// What is wanted.
    pub action: String,
    /// Of what.
    pub resource: String,
    /// The name of this message.
    pub message_id: String,
    /// The name of this login, as long as it lasts.
    pub session_id: String,
    /// The largest answer, in bytes.
    pub max_envelope: u32,
    /// How long the service may take.
    pub timeout: Duration,
    /// The language of messages.
    pub language: String,
    /// The shell, where there is one.
    pub shell: Option<String>,
    /// Options by name.
    pub options: Vec<(String, String)>,
}

impl RequestHeaders {
    /// The envelope with this body, which is XML already.
    pub(crate) fn wrap(&self, body: &str) -> Result<String, XmlError> {
        let mut out = String::with_capacity(body.len() + 2048);
        let language = escaped("the language", &self.language)?;
        let _ = write!(
            out,
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?><s:Envelope xmlns:s=\"{SOAP}\" xmlns:a=\"{ADDRESSING}\" xmlns:w=\"{WSMAN}\" xmlns:p=\"{WSMV}\" \
             xmlns:rsp=\"{SHELL}\"><s:Header><a:To>{to}</a:To><a:ReplyTo><a:Address s:mustUnderstand=\"true\">{ANONYMOUS}</a:Address></a:ReplyTo>\
             <a:Action s:mustUnderstand=\"true\">{action}</a:Action><a:MessageID>uuid:{message}</a:MessageID>\
             <w:ResourceURI s:mustUnderstand=\"true\">{resource}</w:ResourceURI>\
             <w:MaxEnvelopeSize s:mustUnderstand=\"true\">{size}</w:MaxEnvelopeSize>\
             <w:Locale xml:lang=\"{language}\" s:mustUnderstand=\"false\"/><p:DataLocale xml:lang=\"{language}\" s:mustUnderstand=\"false\"/>\
             <p:SessionId s:mustUnderstand=\"false\">uuid:{session}</p:SessionId><w:OperationTimeout>{timeout}</w:OperationTimeout>",
            to = escaped("the address", &self.to)?,
            action = self.action,
            message = self.message_id,
            resource = escaped("the endpoint", &self.resource)?,
            size = self.max_envelope,
            session = self.session_id,
            timeout = duration(self.timeout),
        );
        if let Some(shell) = &self.shell {
            let shell = escaped("the shell", shell)?;
            let _ = write!(
                out,
                "<w:SelectorSet><w:Selector Name=\"ShellId\">{shell}</w:Selector></w:SelectorSet>"
            );
        }
        if !self.options.is_empty() {
            out.push_str("<w:OptionSet>");
            for (name, value) in &self.options {
                let (name, value) = (escaped("an option", name)?, escaped("an option", value)?);
                // What kind of shell it is is nothing to be passed over.
                let must = if self.is_session() { " MustComply=\"true\"" } else { "" };
                let _ = write!(out, "<w:Option Name=\"{name}\"{must}>{value}</w:Option>");
            }
            out.push_str("</w:OptionSet>");
        }
        let _ = write!(out, "</s:Header><s:Body>{body}</s:Body></s:Envelope>");
        Ok(out)
    }

    /// Whether it is about a session of PowerShell, and not a command shell.
    pub fn is_session(&self) -> bool {
        self.resource.starts_with(SESSIONS)
    }

    /// Reads the headers of a request; what is needed must be there.
    pub(crate) fn read(header: &Element) -> Result<Self, WinrmError> {
        let text = |namespace, name, missing| {
            header
                .child(namespace, name)
                .map(|found| found.trimmed().to_owned())
                .ok_or(WinrmError::Missing(missing))
        };
        let uuid = |text: String| text.strip_prefix("uuid:").map(str::to_owned).unwrap_or(text);
        let of = |set, one| header.child(WSMAN, set).into_iter().flat_map(move |set| set.all(WSMAN, one));
        let named = |element: &Element| element.attribute("Name").unwrap_or_default().to_owned();
        let shell = of("SelectorSet", "Selector").find(|selector| named(selector) == "ShellId");
        Ok(Self {
            to: text(ADDRESSING, "To", "To")?,
            action: text(ADDRESSING, "Action", "Action")?,
            resource: text(WSMAN, "ResourceURI", "ResourceURI")?,
            message_id: uuid(text(ADDRESSING, "MessageID", "MessageID")?),
            session_id: uuid(text(WSMV, "SessionId", "SessionId").unwrap_or_default()),
            max_envelope: text(WSMAN, "MaxEnvelopeSize", "MaxEnvelopeSize")?
                .parse()
                .map_err(|_| WinrmError::Wrong("MaxEnvelopeSize"))?,
            timeout: match header.child(WSMAN, "OperationTimeout") {
                Some(time) => parse_duration(time.trimmed()).ok_or(WinrmError::Wrong("OperationTimeout"))?,
                None => crate::limits::OPERATION_TIMEOUT,
            },
            language: header
                .child(WSMAN, "Locale")
                .and_then(|locale| locale.attribute_in(XML, "lang"))
                .unwrap_or("en-US")
                .to_owned(),
            shell: shell.map(|shell| shell.trimmed().to_owned()),
            options: of("OptionSet", "Option")
                .map(|option| (named(option), option.trimmed().to_owned()))
                .collect(),
        })
    }
}

/// The header and the body of an envelope.
pub(crate) fn open(envelope: &Element) -> Result<(&Element, &Element), WinrmError> {
    if !envelope.is(SOAP, "Envelope") {
        return Err(WinrmError::Missing("SOAP 1.2 envelope"));
    }
    let body = envelope.child(SOAP, "Body").ok_or(WinrmError::Missing("body"))?;
    let header = envelope.child(SOAP, "Header").ok_or(WinrmError::Missing("header"))?;
    Ok((header, body))
}

/// An answer's envelope.
pub(crate) fn answer(action: &str, relates_to: &str, message_id: &str, body: &str) -> String {
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><s:Envelope xmlns:s=\"{SOAP}\" xmlns:a=\"{ADDRESSING}\" xmlns:w=\"{WSMAN}\" xmlns:rsp=\"{SHELL}\" \
         xml:lang=\"en-US\"><s:Header><a:Action>{action}</a:Action><a:MessageID>uuid:{message_id}</a:MessageID><a:To>{ANONYMOUS}</a:To>\
         <a:RelatesTo>uuid:{relates_to}</a:RelatesTo></s:Header><s:Body>{body}</s:Body></s:Envelope>"
    )
}

/// The envelope that answers with a fault, as a service writes it.
///
/// # Errors
/// A text that XML cannot hold.
pub fn answer_fault(fault: &Fault, relates_to: &str, message_id: &str) -> Result<String, XmlError> {
    Ok(answer(FAULT_ACTION, relates_to, message_id, &fault.encode()?))
}

/// An answer as it came: its action and its body. Whether it is to our message is looked at before anything of it is believed.
pub(crate) struct Answer {
    root: Element,
    pub(crate) action: String,
}

impl Answer {
    /// Reads it.
    pub(crate) fn read(bytes: &[u8], message_id: &str) -> Result<Self, WinrmError> {
        let root = parse(bytes)?;
        let (header, body) = open(&root)?;
        let relates = header.child(ADDRESSING, "RelatesTo").map(Element::trimmed);
        let ours =
            relates.map(|name| name.strip_prefix("uuid:").unwrap_or(name).eq_ignore_ascii_case(message_id));
        let fault = Fault::of(body);
        match (ours, fault) {
            // What could not be read has no name that could be related to: then nothing but a fault may come.
            (Some(true) | None, Some(fault)) => Err(fault.into()),
            (Some(true), None) => {
                let action =
                    header.child(ADDRESSING, "Action").map(Element::trimmed).unwrap_or_default().to_owned();
                Ok(Self { root, action })
            }
            (Some(false), _) | (None, None) => Err(WinrmError::NotOurs),
        }
    }

    /// The body.
    pub(crate) fn body(&self) -> Result<&Element, WinrmError> {
        Ok(open(&self.root)?.1)
    }
}
