//! Finding machines by parts of what is known of them.

use lantern_book::{Effective, Field};
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

/// Words to find.
pub(crate) struct Search {
    /// Every word anywhere in what is known.
    parts: Pattern,
    /// Or the letters of all of them in the name, in their order.
    letters: Pattern,
    matcher: Matcher,
}

impl Search {
    /// A search for words.
    pub(crate) fn new(words: &str) -> Self {
        let pattern = |kind| Pattern::new(words, CaseMatching::Ignore, Normalization::Smart, kind);
        Self {
            parts: pattern(AtomKind::Substring),
            letters: pattern(AtomKind::Fuzzy),
            matcher: Matcher::new(Config::DEFAULT),
        }
    }

    /// How well a machine fits; none when it does not.
    pub(crate) fn score(&mut self, name: &str, text: &str) -> Option<u32> {
        let mut buffer = Vec::new();
        let parts = self.parts.score(Utf32Str::new(text, &mut buffer), &mut self.matcher);
        let mut buffer = Vec::new();
        let letters = self.letters.score(Utf32Str::new(name, &mut buffer), &mut self.matcher);
        match (parts, letters) {
            (None, None) => None,
            // A name is what people mean first.
            (parts, letters) => Some(parts.unwrap_or(0) + 2 * letters.unwrap_or(0)),
        }
    }
}

/// Everything of a machine that is searched: name, addresses, user, tags, image and note.
pub(crate) fn text_of(name: &str, effective: &Effective<'_>) -> String {
    let mut text = name.to_owned();
    let lists = [Field::Address, Field::Tags].into_iter().flat_map(|field| effective.list(field));
    let texts =
        [Field::User, Field::Image, Field::Note].into_iter().filter_map(|field| effective.text(field));
    for part in lists.map(String::as_str).chain(texts) {
        text.push(' ');
        text.push_str(part);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_found_anywhere_and_letters_in_the_name() {
        let score = |words: &str, name: &str, text: &str| Search::new(words).score(name, text);
        let lamp = ("lamp-01", "lamp-01 192.0.2.7 keeper coast north the old lantern");
        for words in ["lamp", "COAST", "north keeper", "2.7", "l01", "old coast"] {
            assert!(score(words, lamp.0, lamp.1).is_some(), "{words}");
        }
        for words in ["foghorn", "coast south", "olc"] {
            assert_eq!(score(words, lamp.0, lamp.1), None, "{words}");
        }
        assert!(score("gate", "gate-01", "gate-01") > score("gate", "lamp-01", "lamp-01 behind the gate"));
    }
}
