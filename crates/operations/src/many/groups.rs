//! Machines that ended alike and said the same, and how the others differ from them.

use std::collections::HashMap;

use similar::{ChangeTag, TextDiff};

use super::{Ended, Ending, Kept};

/// Machines that ended alike and said the same.
#[derive(Debug)]
pub struct Group<'a> {
    /// Their places among all, in order.
    pub members: Vec<usize>,
    /// What the first of them came to, and so did the others.
    pub ended: &'a Ended,
}

/// How machines ended, as far as it makes them alike.
#[derive(Debug, PartialEq, Eq, Hash)]
struct Likeness<'a> {
    how: String,
    out: &'a Kept,
    err: &'a Kept,
}

/// The groups of those that were begun: the largest first, and of two as large the one whose first member comes first.
pub fn groups(outcomes: &[Option<Ended>]) -> Vec<Group<'_>> {
    let mut places: HashMap<Likeness<'_>, usize> = HashMap::new();
    let mut groups: Vec<Group<'_>> = Vec::new();
    for (index, ended) in outcomes.iter().enumerate() {
        let Some(ended) = ended else { continue };
        let how = match &ended.ending {
            Ending::Status(status) => format!("status {status}"),
            Ending::Signal(name) => format!("signal {name}"),
            // What each met is its own: an address, a key.
            Ending::NotReached(error) => format!("not reached {index} {error}"),
            Ending::Lost(error) => format!("lost {index} {error}"),
            Ending::Halted => "halted".to_owned(),
        };
        let likeness = Likeness { how, out: &ended.out, err: &ended.err };
        let place = *places.entry(likeness).or_insert(groups.len());
        match groups.get_mut(place) {
            Some(group) => group.members.push(index),
            None => groups.push(Group { members: vec![index], ended }),
        }
    }
    groups.sort_by_key(|group| (std::cmp::Reverse(group.members.len()), group.members.first().copied()));
    groups
}

/// How one text differs from another, a line each with ` `, `-` or `+` in front: what is the same in between is left out but for a line around.
pub fn difference(from: &str, to: &str) -> Vec<(char, String)> {
    let diff = TextDiff::from_lines(from, to);
    let mut lines = Vec::new();
    for hunk in diff.unified_diff().context_radius(1).iter_hunks() {
        for change in hunk.iter_changes() {
            let mark = match change.tag() {
                ChangeTag::Equal => ' ',
                ChangeTag::Delete => '-',
                ChangeTag::Insert => '+',
            };
            lines.push((mark, change.value().trim_end_matches(['\n', '\r']).to_owned()));
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::kept::Listening;
    use super::*;

    fn ended(status: u32, out: &str) -> Option<Ended> {
        let mut listening = Listening::new();
        listening.take(out.as_bytes());
        let (out, err) = (listening.end(), Listening::new().end());
        Some(Ended { ending: Ending::Status(status), out, err, took: Duration::ZERO })
    }

    #[test]
    fn those_that_said_the_same_are_together_and_the_many_come_first() {
        let long = "x".repeat(100_000);
        let other = format!("{long}y");
        let outcomes = [
            ended(0, "a"),
            ended(1, "a"),
            None,
            ended(0, "b"),
            ended(0, "b"),
            ended(0, &long),
            ended(0, &other),
        ];
        let members: Vec<_> = groups(&outcomes).into_iter().map(|group| group.members).collect();
        // What differs behind what is kept differs.
        assert_eq!(members, [vec![3, 4], vec![0], vec![1], vec![5], vec![6]]);
    }

    #[test]
    fn a_difference_shows_what_is_other_and_a_line_around() {
        let many = "one\ntwo\nthree\nfour\nfive\n";
        let odd = "one\ntwo\nTHREE\nfour\nfive\n";
        let lines: String =
            difference(many, odd).iter().map(|(mark, line)| format!("{mark}{line}|")).collect();
        assert_eq!(lines, " two|-three|+THREE| four|");
        assert!(difference(many, many).is_empty());
    }
}
