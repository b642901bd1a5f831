//! Paths as bytes, taken apart and put together.

/// A path with a name behind it.
pub fn join(folder: &[u8], name: &[u8]) -> Vec<u8> {
    match folder {
        b"" => name.to_vec(),
        _ if name.is_empty() => folder.to_vec(),
        _ if folder.ends_with(b"/") => [folder, name].concat(),
        _ => [folder, b"/", name].concat(),
    }
}

/// The last name of a path; nothing for a root, and for one that ends in a step that is no name.
pub fn name_of(path: &[u8]) -> &[u8] {
    let trimmed = trimmed(path);
    let name = trimmed.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    if matches!(name, b"." | b"..") { b"" } else { name }
}

/// The folder that a path is in; nothing where it is relative and has one name.
pub fn parent_of(path: &[u8]) -> &[u8] {
    let trimmed = trimmed(path);
    match trimmed.iter().rposition(|byte| *byte == b'/') {
        Some(0) => b"/",
        Some(at) => trimmed.get(..at).unwrap_or_default(),
        None => b"",
    }
}

fn trimmed(path: &[u8]) -> &[u8] {
    let len = path.iter().rposition(|byte| *byte != b'/').map_or(0, |at| at + 1);
    path.get(..len).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_taken_apart_and_put_together() {
        for (path, parent, name) in [
            (&b"/srv/x"[..], &b"/srv"[..], &b"x"[..]),
            (b"/srv/x/", b"/srv", b"x"),
            (b"/x", b"/", b"x"),
            (b"x", b"", b"x"),
            (b"/", b"", b""),
            (b"a/..", b"a", b""),
            (b".", b"", b""),
        ] {
            assert_eq!((parent_of(path), name_of(path)), (parent, name), "{path:?}");
        }
        assert_eq!(join(b"/", b"x"), b"/x");
        assert_eq!(join(b"", b"x"), b"x");
        assert_eq!(join(b"/srv", b""), b"/srv");
    }
}
