//! Whether what was typed is a whole, or goes on in the next line: brackets, quotes, here-strings, remarks, and line ends that are meant to be none.

/// Whether a text can be run as it is; what is wrong in it in any other way, the machine says.
pub fn is_whole(text: &str) -> bool {
    let chars: Vec<char> = text.chars().collect();
    let at = |place: usize| chars.get(place).copied();
    let (mut place, mut depth) = (0, 0_usize);
    while let Some(c) = at(place) {
        place = match c {
            '`' => place + 2,
            '@' if matches!(at(place + 1), Some('\'' | '"')) && ends_line(&chars, place + 2) => {
                match here_string(&chars, place + 2, at(place + 1).unwrap_or_default()) {
                    Some(end) => end,
                    None => return false,
                }
            }
            '\'' | '"' => match quoted(&chars, place) {
                Some(end) => end,
                None => return false,
            },
            '<' if at(place + 1) == Some('#') => match remark(&chars, place + 2) {
                Some(end) => end,
                None => return false,
            },
            // A `#` within a word is a part of it.
            '#' if place == 0 || at(place - 1).is_some_and(|c| c.is_whitespace() || "({;|".contains(c)) => {
                let rest = chars.iter().skip(place).position(|c| *c == '\n');
                rest.map_or(chars.len(), |rest| place + rest)
            }
            '(' | '{' | '[' => {
                depth += 1;
                place + 1
            }
            ')' | '}' | ']' => {
                depth = depth.saturating_sub(1);
                place + 1
            }
            _ => place + 1,
        };
    }
    let last = text.trim_end_matches([' ', '\t']);
    // The last line end is escaped where an odd number of marks stand before it.
    let escapes = text.chars().rev().take_while(|c| *c == '`').count();
    depth == 0 && !last.ends_with('|') && escapes % 2 == 0
}

fn ends_line(chars: &[char], from: usize) -> bool {
    let rest = chars.iter().skip(from).take_while(|c| **c != '\n');
    rest.into_iter().all(|c| c.is_whitespace())
}

/// Behind the end of a here-string: its mark and `@` at the beginning of a line.
fn here_string(chars: &[char], from: usize, mark: char) -> Option<usize> {
    let starts = |place: &usize| {
        let is_end = chars.get(place + 1) == Some(&mark) && chars.get(place + 2) == Some(&'@');
        chars.get(*place) == Some(&'\n') && is_end
    };
    (from..chars.len()).find(starts).map(|place| place + 3)
}

/// Behind the end of a quoted text, in which its mark stands doubled.
fn quoted(chars: &[char], from: usize) -> Option<usize> {
    let mark = chars.get(from)?;
    let mut place = from + 1;
    loop {
        let c = chars.get(place)?;
        match c {
            '`' if *mark == '"' => place += 2,
            c if c == mark && chars.get(place + 1) == Some(mark) => place += 2,
            c if c == mark => return Some(place + 1),
            _ => place += 1,
        }
    }
}

fn remark(chars: &[char], from: usize) -> Option<usize> {
    (from..chars.len())
        .find(|place| chars.get(*place) == Some(&'#') && chars.get(place + 1) == Some(&'>'))
        .map(|place| place + 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_goes_on_is_told_from_what_is_whole() {
        for (text, whole) in [
            ("Get-Lamp", true),
            ("Get-Lamp |", false),
            ("Get-Lamp |\nSort-Object", true),
            ("if ($a) {", false),
            ("if ($a) {\n  whoami\n}", true),
            ("'it''s", false),
            ("'it''s'", true),
            ("\"a `\" b", false),
            ("\"a `\" b\"", true),
            ("Get-Lamp `", false),
            ("Get-Lamp `\n -Name x", true),
            ("@'\nfree { text\n", false),
            ("@'\nfree { text\n'@", true),
            ("<# open", false),
            ("<# { #> whoami", true),
            ("whoami # { not a block", true),
            ("Get-Item C#{", false),
            ("$a[0", false),
            ("}", true),
            ("", true),
        ] {
            assert_eq!(is_whole(text), whole, "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn nothing_makes_it_panic(text in "[`'\"@#<>(){}|\\[\\] \na]{0,40}|\\PC{0,20}") {
            let _ = is_whole(&text);
        }
    }
}
