//! Two texts as one, with both where they differ.

use similar::{ChangeTag, TextDiff};

/// What is there and what is here in one text: what both have once, and where they differ both, between marks.
pub fn merged(there: &str, here: &str) -> String {
    let diff = TextDiff::from_lines(there, here);
    let (mut out, mut theirs, mut ours) = (String::new(), String::new(), String::new());
    let settle = |out: &mut String, theirs: &mut String, ours: &mut String| {
        if theirs.is_empty() && ours.is_empty() {
            return;
        }
        let whole = |text: &str| if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        out.push_str(&format!(
            "<<<<<<< there\n{theirs}{}=======\n{ours}{}>>>>>>> here\n",
            whole(theirs),
            whole(ours)
        ));
        theirs.clear();
        ours.clear();
    };
    for change in diff.iter_all_changes() {
        match change.tag() {
            ChangeTag::Equal => {
                settle(&mut out, &mut theirs, &mut ours);
                out.push_str(change.value());
            }
            ChangeTag::Delete => theirs.push_str(change.value()),
            ChangeTag::Insert => ours.push_str(change.value()),
        }
    }
    settle(&mut out, &mut theirs, &mut ours);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_stand_between_marks_where_they_differ() {
        assert_eq!(
            merged("a\nthere\nc\n", "a\nhere\nc\nd"),
            "a\n<<<<<<< there\nthere\n=======\nhere\n>>>>>>> here\nc\n<<<<<<< there\n=======\nd\n>>>>>>> here\n"
        );
        assert_eq!(merged("same\n", "same\n"), "same\n");
    }
}
