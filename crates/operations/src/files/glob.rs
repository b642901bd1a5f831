//! Patterns in paths of a machine: `*`, `?` and `[…]` within a name, as POSIX shells have them (XCU 2.13).

use lantern_ssh::sftp::FileKind;

use super::paths::join;
use super::{FileFault, Side};

/// Whether a path has a pattern in it.
pub fn is_pattern(path: &[u8]) -> bool {
    path.iter().any(|byte| matches!(byte, b'*' | b'?' | b'['))
}

/// The paths that a pattern means on that side, in order of their names. One that is a file by itself means that file.
///
/// # Errors
/// What kept a folder from being listed; that one is not there is no error.
pub async fn expand(side: &Side, pattern: &[u8]) -> Result<Vec<Vec<u8>>, FileFault> {
    if !is_pattern(pattern) || side.look(pattern, false).await?.is_some() {
        return Ok(vec![pattern.to_vec()]);
    }
    let mut found: Vec<Vec<u8>> = vec![if pattern.starts_with(b"/") { b"/".to_vec() } else { Vec::new() }];
    let parts: Vec<&[u8]> = pattern.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
    for (at, part) in parts.iter().enumerate() {
        let is_last = at + 1 == parts.len();
        let fold = |name: &[u8]| if side.has_modes() { name.to_vec() } else { name.to_ascii_lowercase() };
        let folded = fold(part);
        let mut next = Vec::new();
        for folder in &found {
            if !is_pattern(part) {
                let path = join(folder, part);
                if !is_last || side.look(&path, false).await?.is_some() {
                    next.push(path);
                }
                continue;
            }
            let place = if folder.is_empty() { &b"."[..] } else { folder };
            let entries = match side.list(place).await {
                Ok(entries) => entries,
                Err(fault) if fault.is_end() || is_last && found.len() == 1 && !fault.is_not_found() => {
                    return Err(fault);
                }
                // One of several folders that a pattern met is none, or may not be read.
                Err(_) => continue,
            };
            let mut names: Vec<Vec<u8>> = entries
                .into_iter()
                .filter(|entry| is_last || !matches!(entry.kind(), FileKind::Regular))
                .map(|entry| entry.name)
                .filter(|name| matches(&folded, &fold(name)))
                .collect();
            names.sort();
            next.extend(names.iter().map(|name| join(folder, name)));
        }
        found = next;
    }
    Ok(found)
}

/// Whether a name fits a pattern. A dot in front is met by a dot alone.
fn matches(pattern: &[u8], name: &[u8]) -> bool {
    if name.first() == Some(&b'.') && pattern.first() != Some(&b'.') {
        return false;
    }
    fits(pattern, name)
}

/// By going back to the last star and having it mean one byte more: linear in pattern and name but for that.
fn fits(pattern: &[u8], name: &[u8]) -> bool {
    let (mut at, mut of) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while of < name.len() {
        let here = pattern.get(at..).unwrap_or_default();
        let byte = name.get(of).copied().unwrap_or_default();
        let taken = match here.first() {
            Some(b'*') => {
                star = Some((at + 1, of));
                at += 1;
                continue;
            }
            Some(b'?') => Some(1),
            Some(b'[') => match class(here, byte) {
                Some((true, len)) => Some(len),
                Some((false, _)) => None,
                None => (byte == b'[').then_some(1),
            },
            Some(b'\\') => (here.get(1) == Some(&byte)).then_some(2),
            Some(own) => (*own == byte).then_some(1),
            None => None,
        };
        match (taken, star) {
            (Some(len), _) => {
                at += len;
                of += 1;
            }
            (None, Some((behind, from))) => {
                star = Some((behind, from + 1));
                (at, of) = (behind, from + 1);
            }
            (None, None) => return false,
        }
    }
    pattern.get(at..).unwrap_or_default().iter().all(|byte| *byte == b'*')
}

/// Whether a byte is of the class that the pattern begins with, and how long that is; none where it is no class.
fn class(pattern: &[u8], byte: u8) -> Option<(bool, usize)> {
    let (negated, start) = match pattern.get(1) {
        Some(b'!' | b'^') => (true, 2),
        _ => (false, 1),
    };
    // A bracket in front is one of the class.
    let end = pattern.iter().skip(start + 1).position(|byte| *byte == b']')? + start + 1;
    let mut set = pattern.get(start..end)?;
    let mut is_in = false;
    loop {
        set = match set {
            [from, b'-', to, rest @ ..] => {
                is_in |= (*from..=*to).contains(&byte);
                rest
            }
            [one, rest @ ..] => {
                is_in |= *one == byte;
                rest
            }
            [] => return Some((is_in != negated, end + 1)),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_mean_what_shells_mean_by_them() {
        for (pattern, names, not) in [
            ("*", &["a", "lamp.log", "ö"][..], &["", ".hidden"][..]),
            ("*.log", &["lamp.log", "a.b.log"], &["lamp.log2", ".log"]),
            ("lamp-??", &["lamp-01"], &["lamp-1", "lamp-001"]),
            ("[a-c]*[!0-9]", &["ax", "b7y"], &["d", "a7"]),
            ("[]]x", &["]x"], &["x"]),
            ("a[b", &["a[b"], &["ab"]),
            (".*", &[".hidden"], &["a"]),
            ("*a*b*c*", &["xaxbxc", "abc"], &["acb"]),
            ("a\\*", &["a*"], &["ab"]),
        ] {
            for name in names.iter().filter(|name| !name.is_empty()) {
                assert!(matches(pattern.as_bytes(), name.as_bytes()), "{pattern} {name}");
            }
            for name in not {
                assert!(!matches(pattern.as_bytes(), name.as_bytes()) || name.is_empty(), "{pattern} {name}");
            }
        }
        // No pattern makes it go on for ever.
        assert!(!fits(&b"*a".repeat(40), &[b'b'; 4000]));
    }
}
