//! How much something is, in words.

/// Words for a number of bytes: "640 B", "1.2 kB", "34 MB".
pub(crate) fn bytes(count: u64) -> String {
    const UNITS: [&str; 5] = ["kB", "MB", "GB", "TB", "PB"];
    if count < 1000 {
        return format!("{count} B");
    }
    let mut value = count as f64 / 1000.0;
    let mut unit = 0;
    // What would be shown as 1000 is one of the next.
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    let unit = UNITS.get(unit).copied().unwrap_or_default();
    if value < 9.95 { format!("{value:.1} {unit}") } else { format!("{value:.0} {unit}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_told_with_two_or_three_digits() {
        for (count, words) in [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.0 kB"),
            (9_949, "9.9 kB"),
            (9_951, "10 kB"),
            (999_499, "999 kB"),
            (999_500, "1.0 MB"),
            (34_000_000, "34 MB"),
            (u64::MAX, "18447 PB"),
        ] {
            assert_eq!(bytes(count), words);
        }
    }
}
