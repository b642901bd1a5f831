//! The order of names as people count: 2 comes before 10.

use std::cmp::Ordering;

/// Compares two names: runs of digits by their number, everything else by its characters.
pub fn natural(one: &str, other: &str) -> Ordering {
    let (mut one_rest, mut other_rest) = (one, other);
    loop {
        let (a, b) = (next(&mut one_rest), next(&mut other_rest));
        let order = match (a, b) {
            (None, None) => return one.cmp(other),
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(Run::Digits(a)), Some(Run::Digits(b))) => a.len().cmp(&b.len()).then_with(|| a.cmp(b)),
            (Some(a), Some(b)) => a.text().cmp(b.text()),
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

enum Run<'t> {
    /// Without the zeros in front.
    Digits(&'t str),
    Other(&'t str),
}

impl<'t> Run<'t> {
    fn text(&self) -> &'t str {
        match self {
            Self::Digits(text) | Self::Other(text) => text,
        }
    }
}

fn next<'t>(rest: &mut &'t str) -> Option<Run<'t>> {
    let text: &'t str = rest;
    let first = text.chars().next()?;
    if !first.is_ascii_digit() {
        let (run, after) = text.split_at(first.len_utf8());
        *rest = after;
        return Some(Run::Other(run));
    }
    let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let (run, after) = text.split_at(end);
    *rest = after;
    Some(Run::Digits(run.trim_start_matches('0')))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_count() {
        let mut names = [
            "lamp-10",
            "lamp-2",
            "lamp-02",
            "lamp",
            "gate",
            "lamp-1b",
            "lamp-1",
            "10.0.0.9",
            "10.0.0.10",
            "é2",
        ];
        names.sort_by(|one, other| natural(one, other));
        let expected = [
            "10.0.0.9",
            "10.0.0.10",
            "gate",
            "lamp",
            "lamp-1",
            "lamp-1b",
            "lamp-02",
            "lamp-2",
            "lamp-10",
            "é2",
        ];
        assert_eq!(names, expected);
    }

    proptest! {
        #[test]
        fn it_is_an_order(mut names in proptest::collection::vec("[a0-2é-]{0,5}", 3)) {
            names.sort_by(|one, other| natural(one, other));
            for (at, one) in names.iter().enumerate() {
                for (other_at, other) in names.iter().enumerate() {
                    prop_assert_eq!(natural(one, other), natural(other, one).reverse());
                    prop_assert!(at > other_at || natural(one, other) != Ordering::Greater);
                }
            }
        }
    }
}
