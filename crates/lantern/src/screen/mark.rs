//! How a machine is marked on the screen, so that nobody types into the wrong one: by its name, its color, and a word where it matters more than others.

use lantern_operations::Target;

use super::fit::Fit;

/// A machine's mark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Mark {
    name: String,
    production: bool,
    /// The background, as a number of the eight colors that all terminals have.
    colour: Option<u8>,
}

impl Mark {
    /// That of a machine.
    pub(crate) fn of(target: &Target) -> Self {
        let number = |colour: &str| match colour {
            "red" => Some(1),
            "green" => Some(2),
            "yellow" => Some(3),
            "blue" => Some(4),
            "magenta" => Some(5),
            "cyan" => Some(6),
            _ => None,
        };
        let colour = target.colour.as_deref().and_then(number).or(target.production.then_some(1));
        Self { name: target.name.clone(), production: target.production, colour }
    }

    /// Whether it is marked at all.
    pub(crate) fn is_marked(&self) -> bool {
        self.production || self.colour.is_some()
    }

    /// The words of it.
    pub(crate) fn words(&self) -> String {
        let word = if self.production { "PRODUCTION " } else { "" };
        format!("{word}{}", Fit::line(&self.name))
    }

    /// In front of a question about it; nothing where it is not marked, or has nothing but a color that is not shown.
    pub(crate) fn before_question(&self, color: bool) -> Fit {
        match (self.is_marked(), color, self.production) {
            (true, true, _) => Fit::picture(format!("{} ", self.label(true))),
            (true, false, true) => Fit::picture(format!("[{}] ", self.words())),
            _ => Fit::default(),
        }
    }

    /// A label: in its color, else reversed.
    pub(crate) fn label(&self, color: bool) -> String {
        let style = match self.colour.filter(|_| color) {
            Some(colour) => format!("\x1b[1;97;4{colour}m"),
            None => "\x1b[7m".to_owned(),
        };
        let text = if self.is_marked() { self.words() } else { "lantern".into() };
        format!("{style} {text} \x1b[0m")
    }

    /// What has the window's title say the machine, with the old one kept aside.
    pub(crate) fn set_title(&self) -> String {
        format!("\x1b[22;2t\x1b]2;{}\x07", self.words())
    }
}

/// What puts back the title that was kept aside.
pub(crate) const OLD_TITLE: &str = "\x1b[23;2t";

/// Whether a terminal of this type has a title, as far as that is known.
pub(crate) fn has_title(term: &str) -> bool {
    !["", "dumb", "linux"].contains(&term) && !term.starts_with("vt")
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn a_mark_is_told_by_words_where_colors_are_not() {
        let mark = |production, colour| Mark { name: "lamp-01".into(), production, colour };
        assert_eq!(mark(false, None).before_question(true), Fit::default());
        assert_eq!(mark(false, Some(4)).before_question(false), Fit::default());
        assert_eq!(mark(true, Some(1)).before_question(false).as_str(), "[PRODUCTION lamp-01] ");
        assert_eq!(
            mark(true, Some(1)).before_question(true).as_str(),
            "\x1b[1;97;41m PRODUCTION lamp-01 \x1b[0m "
        );
        assert_eq!(mark(false, None).label(true), "\x1b[7m lantern \x1b[0m");
        let hostile = Mark { name: "a\x07b\x1b]0;c".into(), production: false, colour: None };
        assert_eq!(hostile.set_title().matches('\x07').count(), 1);
        assert!(has_title("xterm-256color") && !has_title("dumb"));
    }
}
