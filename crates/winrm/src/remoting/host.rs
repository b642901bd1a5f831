//! What a machine is told of our terminal (MS-PSRP 2.2.3.14): whether there is one, and how large it is.

use super::objects::{Objects, Value};

/// Our terminal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostFacts {
    /// Whether somebody is there who can be asked.
    pub can_ask: bool,
    /// Columns.
    pub width: u16,
    /// Rows.
    pub height: u16,
    /// The name by which its window goes.
    pub title: String,
}

impl Default for HostFacts {
    fn default() -> Self {
        Self { can_ask: false, width: 120, height: 50, title: String::new() }
    }
}

/// Colours of a console that has none of its own: light on dark.
const FOREGROUND: i32 = 7;
const BACKGROUND: i32 = 0;
const SIZE: &str = "System.Management.Automation.Host.Size";
const PLACE: &str = "System.Management.Automation.Host.Coordinates";

impl HostFacts {
    /// As messages have it.
    pub(super) fn value(&self, objects: &mut Objects) -> Value {
        let facts = self.facts(objects);
        let facts = objects.bag([("data", facts)]);
        let nobody = (!self.can_ask).into();
        objects.bag([
            ("_hostDefaultData", facts),
            ("_isHostNull", false.into()),
            // What is shown is shown in any case; what is asked is refused where nobody is there.
            ("_isHostUINull", false.into()),
            ("_isHostRawUINull", nobody),
            ("_useRunspaceHost", false.into()),
        ])
    }

    fn facts(&self, objects: &mut Objects) -> Value {
        let (width, height) = (i32::from(self.width), i32::from(self.height));
        let mut entries = Vec::new();
        let mut put = |objects: &mut Objects, number: i32, name: &str, value: Value| {
            let typed = objects.bag([("T", name.into()), ("V", value)]);
            entries.push((number.into(), typed));
        };
        put(objects, 0, "System.ConsoleColor", FOREGROUND.into());
        put(objects, 1, "System.ConsoleColor", BACKGROUND.into());
        for number in [2, 3] {
            let place = objects.bag([("x", 0.into()), ("y", 0.into())]);
            put(objects, number, PLACE, place);
        }
        put(objects, 4, "System.Int32", 25.into());
        for number in [5, 6, 7, 8] {
            let size = objects.bag([("width", width.into()), ("height", height.into())]);
            put(objects, number, SIZE, size);
        }
        put(objects, 9, "System.String", self.title.as_str().into());
        objects.dictionary(entries)
    }

    /// Reads the size and whether somebody can be asked, as a machine does.
    pub fn read(objects: &Objects, value: &Value) -> Option<Self> {
        let host = objects.of(value)?;
        let can_ask = host.get("_isHostRawUINull") == Some(&false.into());
        let facts = objects.of(host.get("_hostDefaultData")?)?.get("data")?;
        let super::objects::Content::Dictionary(entries) = &objects.of(facts)?.content else { return None };
        let fact = |number: i32| {
            let (_, value) = entries.iter().find(|(key, _)| *key == number.into())?;
            objects.of(value)?.get("V")
        };
        let size = objects.of(fact(6)?)?;
        let side = |name| objects.number_of(size, name).and_then(|side| u16::try_from(side).ok());
        Some(Self {
            can_ask,
            width: side("width")?,
            height: side("height")?,
            title: fact(9).map(|title| objects.plain_text(title)).unwrap_or_default(),
        })
    }
}
