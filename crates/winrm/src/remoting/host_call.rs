//! What a machine asks of our terminal (MS-PSRP 2.2.2.27 and 2.2.3.17), and what we answer.

use super::objects::{Objects, Primitive, Value};
use super::record::Progress;

/// The number of a question, or that none is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CallNumber(pub(super) i64);

/// What is asked.
#[derive(Debug, Clone, PartialEq)]
pub struct HostCall {
    /// Its number.
    pub number: CallNumber,
    /// Its method, by number.
    pub(super) method: i32,
    /// What for.
    pub asks: HostAsks,
}

/// A colour of the console, by its number: 0 to 15.
pub type Colour = u8;

/// What a machine wants of our terminal.
#[derive(Debug, Clone, PartialEq)]
pub enum HostAsks {
    /// Text is to be shown.
    Write {
        /// The text.
        text: String,
        /// Whether a line ends behind it.
        ends_line: bool,
        /// The colour of the text.
        colour: Option<Colour>,
    },
    /// Text is to be shown as an error, as a warning or as words for whoever wants to know more.
    Tell(Telling, String),
    /// How far something is.
    Progress(Progress),
    /// A line.
    Line,
    /// A line that nobody sees.
    SecretLine,
    /// Values by their names.
    Fields {
        /// What it is about.
        caption: String,
        /// And what for.
        message: String,
        /// The fields.
        fields: Vec<Field>,
    },
    /// A user and a password.
    Credential {
        /// What it is about.
        caption: String,
        /// And what for.
        message: String,
        /// The user, where it is known.
        user: String,
    },
    /// One of these, or several.
    Choice {
        /// What it is about.
        caption: String,
        /// And what for.
        message: String,
        /// Each with its label, in which `&` stands before its key, and its help.
        choices: Vec<(String, String)>,
        /// Those that are taken when nobody says any, by place.
        defaults: Vec<usize>,
        /// Whether several may be taken.
        several: bool,
    },
    /// A key.
    Key,
    /// The window is called so.
    Title(String),
    /// The screen is to be cleared.
    Clear,
    /// The session's end is to be ours, with this status.
    Exit(i32),
    /// Something that needs no answer, and changes nothing here.
    Nothing,
    /// Something that we know without anybody being asked.
    Fact(Fact),
    /// Something that we have not: it is refused.
    Unknown,
}

/// What is known of a terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fact {
    /// The name of what shows it.
    Name,
    /// Its version.
    Version,
    /// Which one it is.
    Instance,
    /// The language.
    Culture,
    /// The colour of text.
    Foreground,
    /// The colour behind it.
    Background,
    /// Where the cursor stands, or the window.
    Place,
    /// How large the cursor is.
    CursorSize,
    /// How large the window is.
    Size,
    /// What it is called.
    Title,
    /// Whether a key waits, or another session is within this one: no.
    No,
}

/// How text is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Telling {
    /// As an error.
    Error,
    /// As a warning.
    Warning,
    /// For whoever wants to know more.
    Verbose,
    /// For whoever looks for a fault.
    Debug,
}

/// A field that is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// What is shown for it; its name, where there is nothing else.
    pub label: String,
    /// What is said to whoever asks.
    pub help: String,
    /// What it is.
    pub kind: FieldKind,
    /// What is taken when nobody says anything.
    pub default: Option<String>,
}

/// What a field is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldKind {
    /// Text, or what is made of it.
    Text,
    /// Text that nobody sees.
    Secret,
    /// A user and a password.
    Credential,
    /// Several texts.
    Several,
}

impl HostCall {
    /// Whether somebody has to answer, and the pipeline waits for that.
    pub fn wants_answer(&self) -> bool {
        matches!(
            self.asks,
            HostAsks::Line
                | HostAsks::SecretLine
                | HostAsks::Fields { .. }
                | HostAsks::Credential { .. }
                | HostAsks::Choice { .. }
                | HostAsks::Key
        )
    }

    /// Reads one; nothing where it is none.
    pub(super) fn read(objects: &Objects) -> Option<Self> {
        let call = objects.first()?;
        let number = CallNumber(objects.number_of(call, "ci")?);
        let method = i32::try_from(objects.number_of(call, "mi")?).ok()?;
        let arguments = Arguments { objects, all: call.get("mp").map(|all| objects.values(all))? };
        Some(Self { number, method, asks: arguments.asks(method) })
    }
}

struct Arguments<'o> {
    objects: &'o Objects,
    all: &'o [Value],
}

impl Arguments<'_> {
    fn text(&self, at: usize) -> String {
        self.all.get(at).map(|value| self.objects.plain_text(value)).unwrap_or_default()
    }

    fn number(&self, at: usize) -> Option<i64> {
        self.all.get(at).and_then(|value| self.objects.number(value))
    }

    fn colour(&self, at: usize) -> Option<Colour> {
        self.number(at).and_then(|colour| Colour::try_from(colour).ok()).filter(|colour| *colour < 16)
    }

    /// The numbers of the methods are those of MS-PSRP 2.2.3.17.
    fn asks(&self, method: i32) -> HostAsks {
        use HostAsks as Asks;
        let write = |text, ends_line, colour| Asks::Write { text, ends_line, colour };
        match method {
            1 => Asks::Fact(Fact::Name),
            2 => Asks::Fact(Fact::Version),
            3 => Asks::Fact(Fact::Instance),
            4 | 5 => Asks::Fact(Fact::Culture),
            6 => Asks::Exit(self.number(0).and_then(|code| i32::try_from(code).ok()).unwrap_or(1)),
            11 => Asks::Line,
            12 => Asks::SecretLine,
            13 => write(self.text(0), false, None),
            14 => write(self.text(2), false, self.colour(0)),
            15 => write(String::new(), true, None),
            16 => write(self.text(0), true, None),
            17 => write(self.text(2), true, self.colour(0)),
            18 => Asks::Tell(Telling::Error, self.text(0)),
            19 => Asks::Tell(Telling::Debug, self.text(0)),
            20 => match self.all.get(1).and_then(|record| self.objects.of(record)) {
                Some(record) => Asks::Progress(Progress::read(self.objects, record)),
                None => Asks::Nothing,
            },
            21 => Asks::Tell(Telling::Verbose, self.text(0)),
            22 => Asks::Tell(Telling::Warning, self.text(0)),
            23 => Asks::Fields { caption: self.text(0), message: self.text(1), fields: self.fields(2) },
            24 | 25 => Asks::Credential { caption: self.text(0), message: self.text(1), user: self.text(2) },
            26 => Asks::Choice {
                caption: self.text(0),
                message: self.text(1),
                choices: self.choices(2),
                defaults: self.number(3).and_then(|place| usize::try_from(place).ok()).into_iter().collect(),
                several: false,
            },
            56 => {
                let defaults = self.all.get(3).map(|all| self.objects.values(all)).unwrap_or_default();
                let place = |value| self.objects.number(value).and_then(|place| usize::try_from(place).ok());
                Asks::Choice {
                    caption: self.text(0),
                    message: self.text(1),
                    choices: self.choices(2),
                    defaults: defaults.iter().filter_map(place).collect(),
                    several: true,
                }
            }
            27 => Asks::Fact(Fact::Foreground),
            29 => Asks::Fact(Fact::Background),
            31 | 33 => Asks::Fact(Fact::Place),
            35 => Asks::Fact(Fact::CursorSize),
            37 | 39 | 43 | 44 => Asks::Fact(Fact::Size),
            41 => Asks::Fact(Fact::Title),
            42 => Asks::Title(self.text(0)),
            45 | 54 => Asks::Fact(Fact::No),
            46 => Asks::Key,
            // A rectangle without bounds, filled with one cell, is the whole screen.
            48 if self.is_whole_screen() => Asks::Clear,
            // The ends of other programs, colours, places and sizes: they are ours.
            9 | 10 | 28 | 30 | 32 | 34 | 36 | 38 | 40 | 47 | 48 | 49 | 51 => Asks::Nothing,
            // Sessions within sessions, and what stands on the screen.
            _ => Asks::Unknown,
        }
    }

    fn is_whole_screen(&self) -> bool {
        let rectangle = self.all.first().and_then(|value| self.objects.of(value));
        let inner = rectangle.and_then(|object| object.get("V")).and_then(|value| self.objects.of(value));
        let Some(rectangle) = inner.or(rectangle) else { return false };
        ["left", "top", "right", "bottom"]
            .iter()
            .all(|side| self.objects.number_of(rectangle, side) == Some(-1))
    }

    fn choices(&self, at: usize) -> Vec<(String, String)> {
        let choice = |value: &Value| {
            let object = self.objects.of(value)?;
            let text = |name| self.objects.text_of(object, name).unwrap_or_default();
            Some((text("label"), text("helpMessage")))
        };
        self.all
            .get(at)
            .map(|all| self.objects.values(all))
            .unwrap_or_default()
            .iter()
            .filter_map(choice)
            .collect()
    }

    fn fields(&self, at: usize) -> Vec<Field> {
        let field = |value: &Value| {
            let object = self.objects.of(value)?;
            let text = |name| self.objects.text_of(object, name).unwrap_or_default();
            let name = text("name");
            let label = Some(text("label").replace('&', "")).filter(|label| !label.is_empty());
            let kind = [text("parameterTypeFullName"), text("parameterTypeName")].concat();
            let kind = match kind {
                kind if kind.contains("PSCredential") => FieldKind::Credential,
                kind if kind.contains("SecureString") => FieldKind::Secret,
                kind if kind.contains("[]") => FieldKind::Several,
                _ => FieldKind::Text,
            };
            let default = self.objects.text_of(object, "defaultValue").filter(|text| !text.is_empty());
            let (label, help) = (label.unwrap_or_else(|| name.clone()), text("helpMessage"));
            Some(Field { name, label, help, kind, default })
        };
        self.all
            .get(at)
            .map(|all| self.objects.values(all))
            .unwrap_or_default()
            .iter()
            .filter_map(field)
            .collect()
    }
}

/// A secret that only the session's key opens, as it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct SealedText(pub(super) String);

impl From<SealedText> for Value {
    fn from(sealed: SealedText) -> Self {
        Self::Primitive(Primitive::Secure(sealed.0))
    }
}
