//! What would change, told before it does: what is new, changed or gone, in columns.

/// One thing that would change.
pub(crate) struct Planned {
    /// "new", "changed", "gone" or what else becomes of it.
    pub(crate) what: &'static str,
    /// The machine, key or profile.
    pub(crate) name: String,
    /// What about it: a field, say.
    pub(crate) about: String,
    /// From what to what.
    pub(crate) detail: String,
}

impl Planned {
    /// Something new.
    pub(crate) fn new(name: &str, detail: impl Into<String>) -> Self {
        Self { what: "new", name: name.to_owned(), about: String::new(), detail: detail.into() }
    }

    /// Something that goes.
    pub(crate) fn gone(name: &str, detail: impl Into<String>) -> Self {
        Self { what: "gone", name: name.to_owned(), about: String::new(), detail: detail.into() }
    }

    /// Something that changes.
    pub(crate) fn changed(name: &str, about: &str, detail: impl Into<String>) -> Self {
        Self { what: "changed", name: name.to_owned(), about: about.to_owned(), detail: detail.into() }
    }
}
