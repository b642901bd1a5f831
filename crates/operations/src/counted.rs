//! Words that depend on a number.

/// "1 machine", "12 machines".
pub fn counted(number: usize, one: &str) -> String {
    match number {
        1 => format!("1 {one}"),
        // "file or folder": both are several.
        number if one.contains(" or ") => format!("{number} {}s", one.replace(" or ", "s or ")),
        number => format!("{number} {one}s"),
    }
}
