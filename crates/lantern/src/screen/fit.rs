//! Text that is fit to be printed. What comes from a file or a machine gets here only through [`Fit::line`] and [`Fit::lines`], so that it steers no
//! terminal, moves to no line that is not its own, and hides nothing; what is ours comes as literals, with its colors and ends of lines.

use std::borrow::Cow;
use std::fmt;

use lantern_ssh::{neutralize, neutralize_line};

/// Longest line from anywhere that is shown, in bytes: the public line of the largest RSA key takes 2,800. What is longer nobody reads on a
/// terminal, and `--json` has it whole.
const MAX_LINE_LEN: usize = 16 * 1024;

/// Longest cell of a table, in bytes: all cells of its column become as wide.
const MAX_CELL_LEN: usize = 400;

fn one_line(text: &str, max_len: usize) -> Cow<'_, str> {
    // Most text is fit as it is.
    if text.len() <= max_len && text.bytes().all(|byte| (0x20..0x7f).contains(&byte)) {
        return text.into();
    }
    let mut line = neutralize_line(text, usize::MAX);
    if line.len() > max_len {
        line.truncate(line.floor_char_boundary(max_len));
        line.push('…');
    }
    line.into()
}

/// Text that is fit to be printed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Fit(String);

impl Fit {
    /// Text from anywhere, on one line.
    pub(crate) fn line(text: &str) -> Self {
        Self(one_line(text, MAX_LINE_LEN).into_owned())
    }

    /// Text from anywhere as the cell of a table has room for it.
    pub(crate) fn cell(text: &str) -> Cow<'_, str> {
        one_line(text, MAX_CELL_LEN)
    }

    /// Text from anywhere whose ends of lines are meant: where nothing of ours stands below it that it could pass for.
    pub(crate) fn lines(text: &str) -> Self {
        Self(neutralize(text, usize::MAX).replace('\t', " "))
    }

    /// Our own words.
    pub(crate) fn literal(text: &'static str) -> Self {
        Self(text.to_owned())
    }

    /// A picture that is drawn from numbers.
    pub(crate) fn picture(text: String) -> Self {
        Self(text)
    }

    /// Texts from anywhere, each on a line of its own.
    pub(crate) fn stacked<T: AsRef<str>>(lines: impl IntoIterator<Item = T>) -> Self {
        let lines: Vec<String> = lines.into_iter().map(|line| Self::line(line.as_ref()).0).collect();
        Self(lines.join("\n"))
    }

    /// Adds to it.
    pub(crate) fn push(&mut self, more: impl Into<Fit>) {
        self.0.push_str(&more.into().0);
    }

    /// Adds an end of the line.
    pub(crate) fn end_line(&mut self) {
        self.0.push('\n');
    }

    /// The same with spaces in front of each line.
    pub(crate) fn indented(&self, by: usize) -> Self {
        let space = " ".repeat(by);
        Self(self.0.lines().map(|line| format!("{space}{line}\n")).collect())
    }

    /// The text.
    pub(crate) fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Fit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// What is not said to be more is text from anywhere.
impl<T: AsRef<str> + ?Sized> From<&T> for Fit {
    fn from(text: &T) -> Self {
        Self::line(text.as_ref())
    }
}

impl From<String> for Fit {
    fn from(text: String) -> Self {
        Self::line(&text)
    }
}

/// A value within a text of ours.
pub(crate) trait Part {
    /// It, fit to be printed.
    fn part(&self) -> Fit;
}

impl Part for Fit {
    fn part(&self) -> Fit {
        self.clone()
    }
}

impl<T: Part + ?Sized> Part for &T {
    fn part(&self) -> Fit {
        (**self).part()
    }
}

macro_rules! parts {
    ($($kind:ty),*) => {$(
        impl Part for $kind {
            fn part(&self) -> Fit {
                Fit::line(&self.to_string())
            }
        }
    )*};
}

parts!(str, String, Cow<'_, str>, usize, u32, u8, i64, std::path::Display<'_>, lantern_keys::Fingerprint);

/// A text of ours with values in it, each made fit for itself: `fit!("{} is gone.\n", name)`.
macro_rules! fit {
    ($format:literal $(, $value:expr)* $(,)?) => {
        $crate::screen::fit::Fit::picture(format!($format $(, $crate::screen::fit::Part::part(&$value))*))
    };
}
pub(crate) use fit;

#[cfg(test)]
mod tests {
    use lantern_ssh::is_invisible;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever comes in: one line, nothing that steers or hides, and only so much.
        #[test]
        fn a_line_is_a_line(text in "\\PC{0,40}|(?s).{0,60}", times in 1..3000usize) {
            for text in [text.clone(), text.repeat(times)] {
                let line = Fit::line(&text);
                prop_assert!(line.as_str().chars().all(|c| !c.is_control() && !is_invisible(c)), "{:?}", line);
                prop_assert!(line.as_str().len() <= MAX_LINE_LEN + '…'.len_utf8());
                let within = fit!("\x1b[1m{}\x1b[0m\n", text);
                prop_assert_eq!(within.as_str().matches('\x1b').count(), 2);
                prop_assert_eq!(within.as_str().matches('\n').count(), 1);
                let lines = Fit::lines(&text);
                prop_assert!(lines.as_str().chars().all(|c| c == '\n' || !c.is_control() && !is_invisible(c)));
            }
        }
    }
}
