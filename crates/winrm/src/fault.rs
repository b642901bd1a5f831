//! Refusals: SOAP faults (SOAP 1.2 §5.4) with the details of MS-WSMV 2.2.4.

use std::fmt;

use crate::fault_code::{FaultKind, explain};
use crate::namespace::{SOAP, WSMAN_FAULT};
use crate::xml::{Element, XmlError, escaped};

/// Why a machine did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Fault {
    /// Whose fault it finds it to be: `Sender`, `Receiver` or others of SOAP, without prefix.
    pub code: String,
    /// More about that, without prefix: `TimedOut`, `AccessDenied`, `InvalidSelectors` …
    pub subcode: String,
    /// The number, where there is one.
    pub number: Option<u32>,
    /// What the machine says, in its language: text from outside.
    pub message: String,
}

impl std::error::Error for Fault {}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (explain(self.number.unwrap_or_default()).1, self.message.is_empty()) {
            (Some(words), _) => f.write_str(words)?,
            (None, false) => f.write_str(&self.message)?,
            (None, true) if !self.subcode.is_empty() => write!(f, "it says {}", self.subcode)?,
            (None, true) => f.write_str("it does not say why")?,
        }
        match self.number {
            Some(number) if number > 0xffff => write!(f, " (fault 0x{number:08X})"),
            Some(number) => write!(f, " (fault {number})"),
            None => Ok(()),
        }
    }
}

impl Fault {
    /// One of these kinds, as a service says it.
    pub fn new(number: u32, subcode: &str, message: &str) -> Self {
        Self {
            code: "Receiver".into(),
            subcode: subcode.into(),
            number: Some(number),
            message: message.into(),
        }
    }

    /// What it is about.
    pub fn kind(&self) -> FaultKind {
        let kind = match self.number {
            Some(number) => explain(number).0,
            None => FaultKind::Other,
        };
        // Other stacks give no numbers (DSP0226 §14.6).
        match (kind, self.subcode.as_str()) {
            (FaultKind::Other, "TimedOut") => FaultKind::TimedOut,
            (FaultKind::Other, "AccessDenied") => FaultKind::AccessDenied,
            (FaultKind::Other, "QuotaLimit") => FaultKind::Quota("a quota"),
            (FaultKind::Other, "EncodingLimit") => FaultKind::TooLarge,
            (FaultKind::Other, "InvalidSelectors") => FaultKind::ShellGone,
            (FaultKind::Other, "DestinationUnreachable") => FaultKind::NoSuchResource,
            (kind, _) => kind,
        }
    }

    /// What the machine says beside our words for it, where that is more than its number.
    pub fn machine_says(&self) -> Option<&str> {
        let known = explain(self.number.unwrap_or_default()).1.is_some();
        Some(self.message.as_str()).filter(|message| known && !message.is_empty())
    }

    /// Reads the fault in a body, where there is one.
    pub(crate) fn of(body: &Element) -> Option<Self> {
        let fault = body.child(SOAP, "Fault")?;
        let code = fault.child(SOAP, "Code");
        let value = |element: Option<&Element>| {
            let value = element.and_then(|element| element.child(SOAP, "Value"));
            let text = value.map_or("", Element::trimmed);
            // The part behind the prefix names it, whatever the prefix is.
            text.rsplit(':').next().unwrap_or_default().to_owned()
        };
        let detail = fault.find(WSMAN_FAULT, "WSManFault");
        let number = detail.and_then(|detail| detail.attribute("Code")).and_then(number);
        let spoken = detail.and_then(|detail| detail.child(WSMAN_FAULT, "Message")).map(joined);
        let reason = fault.child(SOAP, "Reason").and_then(|reason| reason.child(SOAP, "Text")).map(joined);
        Some(Self {
            code: value(code),
            subcode: value(code.and_then(|code| code.child(SOAP, "Subcode"))),
            number,
            message: spoken.filter(|text| !text.is_empty()).or(reason).unwrap_or_default(),
        })
    }

    /// The body that says it.
    pub(crate) fn encode(&self) -> Result<String, XmlError> {
        let number = self.number.map_or(String::new(), |number| format!(" Code=\"{number}\""));
        Ok(format!(
            "<s:Fault><s:Code><s:Value>s:{code}</s:Value><s:Subcode><s:Value>w:{subcode}</s:Value></s:Subcode></s:Code>\
             <s:Reason><s:Text xml:lang=\"en-US\">{message}</s:Text></s:Reason><s:Detail>\
             <f:WSManFault xmlns:f=\"{WSMAN_FAULT}\"{number} Machine=\"127.0.0.1\"><f:Message>{message}</f:Message></f:WSManFault>\
             </s:Detail></s:Fault>",
            code = escaped("a code", &self.code)?,
            subcode = escaped("a subcode", &self.subcode)?,
            message = escaped("a message", &self.message)?,
        ))
    }
}

/// Decimal, as the service writes it, or signed, as some of its parts do.
fn number(text: &str) -> Option<u32> {
    let text = text.trim();
    text.parse().ok().or_else(|| text.parse::<i32>().ok().map(i32::cast_unsigned))
}

/// All the text in an element, in its order as far as it can be told, on one line: providers put their words into elements of their own.
fn joined(element: &Element) -> String {
    fn gather<'e>(element: &'e Element, words: &mut Vec<&'e str>) {
        words.extend(element.text.split_whitespace());
        element.children.iter().for_each(|child| gather(child, words));
    }
    let mut words = Vec::new();
    gather(element, &mut words);
    words.join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::namespace::WSMAN;
    use crate::xml::parse;

    #[test]
    fn a_fault_says_code_number_and_the_words_of_its_provider() {
        let body = format!(
            "<e:Body xmlns:e='{SOAP}' xmlns:w='{WSMAN}'><e:Fault><e:Code><e:Value>e:Receiver</e:Value><e:Subcode><e:Value>w:InternalError</e:Value>\
             </e:Subcode></e:Code><e:Reason><e:Text xml:lang='de'>Zugriff\n verweigert</e:Text></e:Reason><e:Detail>\
             <p:WSManFault xmlns:p='{WSMAN_FAULT}' Code='5' Machine='chart-room'><p:Message><p:ProviderFault provider='Shell' path='x.dll'>\
             Access is denied.</p:ProviderFault></p:Message></p:WSManFault></e:Detail></e:Fault></e:Body>"
        );
        let fault = Fault::of(&parse(body.as_bytes()).unwrap()).unwrap();
        assert_eq!(
            (fault.code.as_str(), fault.subcode.as_str(), fault.number),
            ("Receiver", "InternalError", Some(5))
        );
        assert_eq!(fault.message, "Access is denied.");
        assert_eq!(fault.kind(), FaultKind::AccessDenied);
        assert_eq!(fault.to_string(), "the user may not do this (fault 5)");
        assert_eq!(fault.machine_says(), Some("Access is denied."));
    }

    #[test]
    fn a_stack_without_numbers_is_understood_by_its_subcode() {
        let body = format!(
            "<s:Body xmlns:s='{SOAP}'><s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>q:TimedOut</s:Value></s:Subcode></s:Code>\
             <s:Reason><s:Text>late</s:Text></s:Reason></s:Fault></s:Body>"
        );
        let fault = Fault::of(&parse(body.as_bytes()).unwrap()).unwrap();
        assert_eq!(
            (fault.kind(), fault.to_string().as_str(), fault.machine_says()),
            (FaultKind::TimedOut, "late", None)
        );
        assert_eq!(number("-2144108387"), Some(0x8033_809d));
    }

    #[test]
    fn a_fault_comes_back_as_it_was_written() {
        let fault = Fault::new(2_150_859_173, "QuotaLimit", "no <more> shells & so on");
        let body = format!("<s:Body xmlns:s='{SOAP}' xmlns:w='{WSMAN}'>{}</s:Body>", fault.encode().unwrap());
        assert_eq!(Fault::of(&parse(body.as_bytes()).unwrap()), Some(fault));
    }
}
