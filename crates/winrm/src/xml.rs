//! Messages as trees, read by an XML library and held to [`limits`](crate::limits).

use std::borrow::Cow;
use std::sync::Arc;

use quick_xml::NsReader;
use quick_xml::escape::escape;
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::ResolveResult;

use crate::limits::{MAX_ATTRIBUTES, MAX_DEPTH, MAX_ELEMENTS, MAX_MESSAGE};

/// Why a text is not read as a message, or cannot be written into one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum XmlError {
    /// Not XML, or more of it than we read.
    #[error("the message is not XML that can be read: {0}")]
    Xml(String),
    /// A document type or an entity: WS-Management has none (DSP0226 R13.1-4).
    #[error("the message has a document type or an entity, which SOAP forbids")]
    DocumentType,
    /// The text is neither UTF-8 nor UTF-16.
    #[error("the message is neither UTF-8 nor UTF-16")]
    Encoding,
    /// Larger than we read.
    #[error("the message has {len} bytes, and {limit} are the most that are read")]
    TooLarge {
        /// Its length, in bytes.
        len: usize,
        /// What we read, in bytes.
        limit: usize,
    },
    /// Deeper, wider or with more elements than we read.
    #[error("the message has more than {limit} {what}")]
    TooMany {
        /// Of what.
        what: &'static str,
        /// How many we read.
        limit: usize,
    },
    /// A text that XML cannot hold.
    #[error("{0} has a character that cannot be sent: control characters have no place in XML")]
    Unwritable(&'static str),
}

/// An element: its name, its attributes, what is in it. Text between child elements is joined.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Element {
    /// Its namespace, empty where it has none.
    pub namespace: Arc<str>,
    /// Its local name.
    pub name: Box<str>,
    /// Its text.
    pub text: String,
    /// Its attributes: namespace, local name, value.
    pub attributes: Vec<(Arc<str>, Box<str>, String)>,
    /// The elements in it.
    pub children: Vec<Element>,
}

impl Element {
    /// Whether it has this name.
    pub fn is(&self, namespace: &str, name: &str) -> bool {
        *self.name == *name && *self.namespace == *namespace
    }

    /// The first child with this name.
    pub fn child(&self, namespace: &str, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.is(namespace, name))
    }

    /// All children with this name.
    pub fn all<'a>(&'a self, namespace: &'a str, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.is(namespace, name))
    }

    /// Its text without the white space around it.
    pub fn trimmed(&self) -> &str {
        self.text.trim()
    }

    /// An attribute without a namespace.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attribute_in("", name)
    }

    /// An attribute of a namespace.
    pub fn attribute_in(&self, namespace: &str, name: &str) -> Option<&str> {
        let found = self.attributes.iter().find(|(of, is, _)| **is == *name && **of == *namespace);
        found.map(|(_, _, value)| value.as_str())
    }

    /// The first element of this name within it, itself included, wherever it is.
    pub fn find(&self, namespace: &str, name: &str) -> Option<&Self> {
        match self.is(namespace, name) {
            true => Some(self),
            false => self.children.iter().find_map(|child| child.find(namespace, name)),
        }
    }
}

/// The text of a message: UTF-8, or UTF-16 with a byte order mark or told by its first character, as RFC 7303 and XML 1.0 appendix F have it.
///
/// # Errors
/// Larger than [`MAX_MESSAGE`], or in another encoding.
pub fn text(bytes: &[u8]) -> Result<Cow<'_, str>, XmlError> {
    if bytes.len() > 2 * MAX_MESSAGE {
        return Err(XmlError::TooLarge { len: bytes.len(), limit: MAX_MESSAGE });
    }
    let text = match bytes {
        [0xff, 0xfe, rest @ ..] => utf16(rest, u16::from_le_bytes)?.into(),
        [0xfe, 0xff, rest @ ..] => utf16(rest, u16::from_be_bytes)?.into(),
        [b'<', 0, ..] => utf16(bytes, u16::from_le_bytes)?.into(),
        [0, b'<', ..] => utf16(bytes, u16::from_be_bytes)?.into(),
        [0xef, 0xbb, 0xbf, rest @ ..] => str::from_utf8(rest).map_err(|_| XmlError::Encoding)?.into(),
        bytes => Cow::from(str::from_utf8(bytes).map_err(|_| XmlError::Encoding)?),
    };
    match text.len() > MAX_MESSAGE {
        true => Err(XmlError::TooLarge { len: text.len(), limit: MAX_MESSAGE }),
        false => Ok(text),
    }
}

fn utf16(bytes: &[u8], unit: fn([u8; 2]) -> u16) -> Result<String, XmlError> {
    let (pairs, rest) = bytes.as_chunks::<2>();
    if !rest.is_empty() {
        return Err(XmlError::Encoding);
    }
    let units = pairs.iter().map(|pair| unit(*pair));
    char::decode_utf16(units).collect::<Result<_, _>>().map_err(|_| XmlError::Encoding)
}

/// Reads a message.
///
/// # Errors
/// Not XML; a document type or an entity; more than the limits.
pub fn parse(bytes: &[u8]) -> Result<Element, XmlError> {
    let text = text(bytes)?;
    let mut reader = NsReader::from_str(&text);
    let mut names = Names::default();
    let mut open: Vec<Element> = Vec::new();
    let mut root = None;
    let mut elements = 0;
    let malformed = |error: &dyn std::fmt::Display| XmlError::Xml(error.to_string());
    loop {
        let (namespace, event) = reader.read_resolved_event().map_err(|error| malformed(&error))?;
        let namespace = match namespace {
            ResolveResult::Bound(namespace) => names.keep(namespace.as_ref())?,
            ResolveResult::Unbound => names.keep("")?,
            ResolveResult::Unknown(_) => return Err(XmlError::Xml("a prefix stands for nothing".into())),
        };
        let is_empty = matches!(event, Event::Empty(_));
        match event {
            Event::Start(start) | Event::Empty(start) => {
                elements += 1;
                if elements > MAX_ELEMENTS {
                    return Err(XmlError::TooMany { what: "elements", limit: MAX_ELEMENTS });
                }
                if open.len() == MAX_DEPTH {
                    return Err(XmlError::TooMany { what: "elements in one another", limit: MAX_DEPTH });
                }
                if root.is_some() {
                    return Err(XmlError::Xml("something stands behind its end".into()));
                }
                let element = element(namespace, &start, &reader, &mut names)?;
                match is_empty {
                    true => close(element, &mut open, &mut root),
                    false => open.push(element),
                }
            }
            Event::End(_) => {
                if let Some(element) = open.pop() {
                    close(element, &mut open, &mut root);
                }
            }
            Event::Text(text) => put(&mut open, &text.xml10_content())?,
            Event::CData(text) => put(&mut open, &text.xml10_content())?,
            Event::GeneralRef(reference) => {
                let resolved = reference.resolve_char_ref().map_err(|error| malformed(&error))?;
                let mut buffer = [0; 4];
                let text = match (resolved, &*reference) {
                    (Some(character), _) => &*character.encode_utf8(&mut buffer),
                    (None, "lt") => "<",
                    (None, "gt") => ">",
                    (None, "amp") => "&",
                    (None, "apos") => "'",
                    (None, "quot") => "\"",
                    (None, _) => return Err(XmlError::DocumentType),
                };
                put(&mut open, text)?;
            }
            Event::DocType(_) => return Err(XmlError::DocumentType),
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
            Event::Eof => break,
        }
    }
    match open.is_empty() {
        true => root.ok_or(XmlError::Xml("there is no element".into())),
        false => Err(XmlError::Xml("it ends too early".into())),
    }
}

fn put(open: &mut [Element], text: &str) -> Result<(), XmlError> {
    match open.last_mut() {
        Some(element) => element.text.push_str(text),
        None if text.trim().is_empty() => {}
        None => return Err(XmlError::Xml("text stands outside of it".into())),
    }
    Ok(())
}

fn close(element: Element, open: &mut [Element], root: &mut Option<Element>) {
    match open.last_mut() {
        Some(parent) => parent.children.push(element),
        None => *root = Some(element),
    }
}

/// Namespaces that were met: each is held once, as an element has a few and there are thousands of elements.
#[derive(Default)]
struct Names(Vec<Arc<str>>);

impl Names {
    fn keep(&mut self, name: &str) -> Result<Arc<str>, XmlError> {
        if let Some(known) = self.0.iter().find(|known| ***known == *name) {
            return Ok(known.clone());
        }
        if self.0.len() == MAX_ATTRIBUTES {
            return Err(XmlError::TooMany { what: "namespaces", limit: MAX_ATTRIBUTES });
        }
        let name: Arc<str> = name.into();
        self.0.push(name.clone());
        Ok(name)
    }
}

fn element(
    namespace: Arc<str>,
    start: &BytesStart<'_>,
    reader: &NsReader<&[u8]>,
    names: &mut Names,
) -> Result<Element, XmlError> {
    let mut attributes = Vec::new();
    for (count, attribute) in start.attributes().enumerate() {
        if count == MAX_ATTRIBUTES {
            return Err(XmlError::TooMany { what: "attributes of one element", limit: MAX_ATTRIBUTES });
        }
        let attribute = attribute.map_err(|error| XmlError::Xml(error.to_string()))?;
        if attribute.key.as_namespace_binding().is_some() {
            continue;
        }
        let (of, name) = reader.resolver().resolve_attribute(attribute.key);
        let of = match of {
            ResolveResult::Bound(namespace) => names.keep(namespace.as_ref())?,
            ResolveResult::Unbound => names.keep("")?,
            ResolveResult::Unknown(_) => return Err(XmlError::Xml("a prefix stands for nothing".into())),
        };
        // Of entities it knows the five of XML itself.
        let value = attribute
            .normalized_value(quick_xml::XmlVersion::Explicit1_0)
            .map_err(|error| XmlError::Xml(error.to_string()))?;
        attributes.push((of, name.as_ref().into(), value.into_owned()));
    }
    let name = start.local_name().as_ref().into();
    Ok(Element { namespace, name, attributes, ..Element::default() })
}

/// A text within XML: what has a meaning there is escaped.
///
/// # Errors
/// `what` has a character that XML 1.0 cannot hold in any form (section 2.2).
pub fn escaped<'t>(what: &'static str, text: &'t str) -> Result<Cow<'t, str>, XmlError> {
    let is_written =
        |c: char| !matches!(c, '\0'..='\x08' | '\x0b' | '\x0c' | '\x0e'..='\x1f' | '\u{fffe}' | '\u{ffff}');
    if !text.chars().all(is_written) {
        return Err(XmlError::Unwritable(what));
    }
    // A reader would turn a bare carriage return into a line feed (section 2.11).
    Ok(match escape(text) {
        escaped if escaped.contains('\r') => escaped.replace('\r', "&#13;").into(),
        escaped => escaped,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> Result<Element, XmlError> {
        parse(text.as_bytes())
    }

    #[test]
    fn prefixes_are_what_they_stand_for() {
        let one = read("<a:x xmlns:a='urn:lamp'><a:y b='1' a:c='2'/></a:x>").unwrap();
        let other =
            read("<x xmlns='urn:lamp' xmlns:q='urn:lamp'>\n<q:y q:c=\"2\" b=\"1\"></q:y></x>").unwrap();
        for root in [one, other] {
            let child = root.child("urn:lamp", "y").unwrap();
            assert_eq!((child.attribute("b"), child.attribute_in("urn:lamp", "c")), (Some("1"), Some("2")));
        }
        assert!(matches!(read("<a:x/>"), Err(XmlError::Xml(_))));
    }

    #[test]
    fn utf_16_is_read_with_and_without_a_mark() {
        let text = "<lamp>Tr\u{e9}pied \u{1f6df}</lamp>";
        let little: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let big: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
        for bytes in [
            little.clone(),
            big.clone(),
            [&[0xff, 0xfe], &little[..]].concat(),
            [&[0xfe, 0xff], &big[..]].concat(),
        ] {
            assert_eq!(parse(&bytes).unwrap().text, "Tr\u{e9}pied \u{1f6df}");
        }
        assert_eq!(parse(&little[..little.len() - 1]), Err(XmlError::Encoding));
        assert_eq!(parse(&[b'<', 0, 0, 0xd8, b'>', 0]), Err(XmlError::Encoding));
    }

    #[test]
    fn document_types_and_entities_are_refused() {
        assert_eq!(read("<!DOCTYPE x [<!ENTITY a 'b'>]><x>&a;</x>"), Err(XmlError::DocumentType));
        assert_eq!(read("<x>&a;</x>"), Err(XmlError::DocumentType));
        assert!(read("<x y='&a;'/>").is_err());
        assert_eq!(read("<x>&lt;&#65;&amp;<![CDATA[<]]></x>").unwrap().text, "<A&<");
    }

    #[test]
    fn deep_wide_and_large_is_not_read() {
        let deep = "<x>".repeat(100_000);
        assert!(matches!(read(&deep), Err(XmlError::TooMany { .. })));
        let wide = format!("<x>{}</x>", "<y/>".repeat(MAX_ELEMENTS));
        assert!(matches!(read(&wide), Err(XmlError::TooMany { .. })));
        let attributes: String = (0..1000).map(|n| format!(" a{n}=''")).collect();
        assert!(matches!(read(&format!("<x{attributes}/>")), Err(XmlError::TooMany { .. })));
        let large = format!("<x>{}</x>", "a".repeat(MAX_MESSAGE));
        assert!(matches!(read(&large), Err(XmlError::TooLarge { .. })));
        let namespaces: String = (0..1000).map(|n| format!("<y xmlns='urn:{n}'/>")).collect();
        assert!(matches!(read(&format!("<x>{namespaces}</x>")), Err(XmlError::TooMany { .. })));
    }

    #[test]
    fn what_is_not_one_element_is_no_message() {
        for text in ["", "  ", "<a>", "<a/><b/>", "a<a/>", "<a/>b", "<a></b>", "</a>"] {
            assert!(read(text).is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn texts_come_back(text in "[\\PC\t\n\r]{0,40}") {
            let written = format!("<x a=\"{0}\">{0}</x>", escaped("it", &text).unwrap());
            let read = read(&written).unwrap();
            prop_assert_eq!(&read.text, &text);
        }

        #[test]
        fn nothing_makes_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200), text in "[<>/a&;!\\[\\] ='x:]{0,60}") {
            let _ = parse(&bytes);
            let _ = read(&text);
        }
    }
}
