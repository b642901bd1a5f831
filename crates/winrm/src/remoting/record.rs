//! What a pipeline says besides its output: errors, warnings, progress and the rest (MS-PSRP 2.2.2.20 to 2.2.2.26).

use super::objects::{Object, Objects, Value};

/// An error (MS-PSRP 2.2.3.15).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ErrorRecord {
    /// What went wrong.
    pub message: String,
    /// Its identifier, the same whatever the language.
    pub id: String,
    /// Its kind, by the standard's name.
    pub category: &'static str,
    /// What was being done.
    pub activity: String,
    /// The kind of exception.
    pub reason: String,
    /// What it was done to.
    pub target: String,
    /// Where in a script, or on what was typed.
    pub place: Option<Place>,
    /// What is advised.
    pub advice: Option<String>,
}

/// A place in a script.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Place {
    /// The script's file on the machine, where it has one.
    pub script: Option<String>,
    /// Its line, from 1.
    pub line: i64,
    /// Its column, from 1; 0 where it is not known.
    pub column: i64,
    /// What stands on that line.
    pub text: String,
}

/// The kinds of errors (MS-PSRP 2.2.3.9), in the order of their numbers.
const CATEGORIES: [&str; 32] = [
    "NotSpecified",
    "OpenError",
    "CloseError",
    "DeviceError",
    "DeadlockDetected",
    "InvalidArgument",
    "InvalidData",
    "InvalidOperation",
    "InvalidResult",
    "InvalidType",
    "MetadataError",
    "NotImplemented",
    "NotInstalled",
    "ObjectNotFound",
    "OperationStopped",
    "OperationTimeout",
    "SyntaxError",
    "ParserError",
    "PermissionDenied",
    "ResourceBusy",
    "ResourceExists",
    "ResourceUnavailable",
    "ReadError",
    "WriteError",
    "FromStdErr",
    "SecurityError",
    "ProtocolError",
    "ConnectionError",
    "AuthenticationError",
    "LimitsExceeded",
    "QuotaExceeded",
    "NotEnabled",
];

impl ErrorRecord {
    /// Reads one.
    pub fn read(objects: &Objects, value: &Value) -> Self {
        let Some(record) = objects.of(value) else {
            return Self { message: objects.plain_text(value), category: CATEGORIES[0], ..Self::default() };
        };
        let text = |name: &str| objects.text_of(record, name).filter(|text| !text.is_empty());
        let exception = record.get("Exception").and_then(|value| objects.of(value));
        let said = exception
            .and_then(|exception| objects.text_of(exception, "Message").or_else(|| exception.text.clone()));
        let category = objects.number_of(record, "ErrorCategory_Category");
        let category = category.and_then(|number| usize::try_from(number).ok());
        let message = text("ErrorDetails_Message").or(said).or_else(|| record.text.clone());
        Self {
            message: message.unwrap_or_default(),
            id: text("FullyQualifiedErrorId").unwrap_or_default(),
            category: category.and_then(|number| CATEGORIES.get(number)).unwrap_or(&CATEGORIES[0]),
            activity: text("ErrorCategory_Activity").unwrap_or_default(),
            reason: text("ErrorCategory_Reason").unwrap_or_default(),
            target: text("ErrorCategory_TargetName").unwrap_or_default(),
            place: Place::read(objects, record),
            advice: text("ErrorDetails_RecommendedAction"),
        }
    }

    /// The number of a kind, for whoever writes one.
    pub fn category_number(name: &str) -> i32 {
        CATEGORIES.iter().position(|known| *known == name).and_then(|at| i32::try_from(at).ok()).unwrap_or(0)
    }
}

impl Place {
    fn read(objects: &Objects, record: &Object) -> Option<Self> {
        let line = objects.number_of(record, "InvocationInfo_ScriptLineNumber").filter(|line| *line > 0)?;
        let text = |name| objects.text_of(record, name).filter(|text| !text.is_empty());
        Some(Self {
            script: text("InvocationInfo_ScriptName"),
            line,
            column: objects.number_of(record, "InvocationInfo_OffsetInLine").unwrap_or(0).max(0),
            text: text("InvocationInfo_Line").unwrap_or_default(),
        })
    }
}

/// How far something is (MS-PSRP 2.2.2.25).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Progress {
    /// Which one of several.
    pub number: i64,
    /// The one that it is a part of.
    pub parent: Option<i64>,
    /// What is done.
    pub activity: String,
    /// What of it now.
    pub status: String,
    /// What of that.
    pub operation: String,
    /// How much of it is done, where that is known.
    pub percent: Option<u8>,
    /// How long it will take, in seconds, where that is known.
    pub seconds_left: Option<u64>,
    /// Whether it is over.
    pub is_over: bool,
}

impl Progress {
    pub(super) fn read(objects: &Objects, record: &Object) -> Self {
        let text = |name| objects.text_of(record, name).unwrap_or_default();
        let number = |name| objects.number_of(record, name);
        Self {
            number: number("ActivityId").unwrap_or(0),
            parent: number("ParentActivityId").filter(|parent| *parent >= 0),
            activity: text("Activity"),
            status: text("StatusDescription"),
            operation: text("CurrentOperation"),
            percent: number("PercentComplete").and_then(|part| u8::try_from(part.min(100)).ok()),
            seconds_left: number("SecondsRemaining").and_then(|seconds| u64::try_from(seconds).ok()),
            is_over: number("Type") == Some(1),
        }
    }
}

/// What a script has to say, and not to hand on (MS-PSRP 2.2.2.26).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Information {
    /// What it says.
    pub message: String,
    /// Its marks.
    pub tags: Vec<String>,
}

/// The mark of what was shown to the terminal already.
const SHOWN: &str = "PSHOST";

impl Information {
    /// Reads one.
    pub fn read(objects: &Objects, value: &Value) -> Self {
        let Some(record) = objects.of(value) else {
            return Self { message: objects.plain_text(value), tags: Vec::new() };
        };
        let data = record.get("MessageData").unwrap_or(&Value::Nil);
        let inner = objects.of(data).and_then(|inner| objects.text_of(inner, "Message"));
        let tags = record.get("Tags").map(|tags| objects.values(tags)).unwrap_or_default();
        Self {
            message: inner.unwrap_or_else(|| objects.plain_text(data)),
            tags: tags.iter().map(|tag| objects.plain_text(tag)).collect(),
        }
    }

    /// Whether the terminal was asked to show it as well.
    pub fn is_shown(&self) -> bool {
        self.tags.iter().any(|tag| tag.eq_ignore_ascii_case(SHOWN))
    }
}

/// Anything that a pipeline says besides its output.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Record {
    /// An error, after which it goes on.
    Error(Box<ErrorRecord>),
    /// A warning.
    Warning(String),
    /// For whoever wants to know more.
    Verbose(String),
    /// For whoever looks for a fault.
    Debug(String),
    /// What a script has to say.
    Information(Information),
    /// How far it is.
    Progress(Progress),
}

/// The text of a warning, or of something that is told like one (MS-PSRP 2.2.3.16).
pub(super) fn told(objects: &Objects) -> String {
    let Some(root) = objects.roots.first() else { return String::new() };
    let Some(record) = objects.of(root) else { return objects.plain_text(root) };
    let said =
        ["InformationalRecord_Message", "Message"].iter().find_map(|name| objects.text_of(record, name));
    said.or_else(|| record.text.clone()).unwrap_or_default()
}
