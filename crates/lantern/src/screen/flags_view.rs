//! The signal flags of a fingerprint, drawn for a terminal: in color, or with letters for colors.

use lantern_keys::Fingerprint;
use lantern_keys::flags::{Color, FLAG_SIZE, Flag, of_fingerprint};

use crate::screen::fit::Fit;
use crate::screen::wrap;

/// Flags in a row, and with what is indented before them, on a terminal of eighty columns.
const ALL: usize = 8;
/// Between two flags.
const GAP: &str = "  ";

/// Three lines of flags, one of letters, one of words; in several rows where the terminal that a question is put to is narrow.
pub(crate) fn draw(fingerprint: &Fingerprint, color: bool) -> Fit {
    let room = wrap::width(&std::io::stderr()).or_else(|| wrap::width(&std::io::stdout()));
    draw_within(fingerprint, color, room.unwrap_or(usize::MAX))
}

fn draw_within(fingerprint: &Fingerprint, color: bool, room: usize) -> Fit {
    let flags = of_fingerprint(fingerprint);
    // What is before them takes four cells.
    let fitting = room.saturating_sub(4 + FLAG_SIZE) / (FLAG_SIZE + GAP.len()) + 1;
    // Rows of the same length: all, half, a quarter.
    let in_a_row = [ALL, ALL / 2, ALL / 4].into_iter().find(|count| *count <= fitting).unwrap_or(1);
    let mut out = String::new();
    for flags in flags.chunks(in_a_row) {
        for row in (0..FLAG_SIZE).step_by(2) {
            let line: Vec<String> = flags.iter().map(|flag| flag_row(*flag, row, color)).collect();
            out.push_str(line.join(GAP).trim_end());
            out.push('\n');
        }
        let letters: Vec<String> =
            flags.iter().map(|flag| format!("{:^FLAG_SIZE$}", flag.letter())).collect();
        out.push_str(letters.join(GAP).trim_end());
        out.push('\n');
    }
    out.push_str(&words(fingerprint));
    Fit::picture(out)
}

/// The words of the flags, for reading aloud.
pub(crate) fn words(fingerprint: &Fingerprint) -> String {
    of_fingerprint(fingerprint).map(Flag::word).join(" ")
}

/// Two rows of pixels in one line of text. In color, half blocks; without, one sign a color of the upper row.
fn flag_row(flag: Flag, row: usize, color: bool) -> String {
    let mut out = String::new();
    for column in 0..FLAG_SIZE {
        let (upper, lower) = (flag.color(row, column), flag.color(row + 1, column));
        if color {
            let ((r, g, b), (r2, g2, b2)) = (rgb(upper), rgb(lower));
            // Fonts draw half blocks with a seam; where both halves agree none is needed.
            let block = if upper == lower { ' ' } else { '▀' };
            out.push_str(&format!("\x1b[38;2;{r};{g};{b};48;2;{r2};{g2};{b2}m{block}"));
        } else {
            out.push(sign(upper));
        }
    }
    if color {
        out.push_str("\x1b[0m");
    }
    out
}

fn rgb(color: Color) -> (u8, u8, u8) {
    match color {
        Color::White => (238, 238, 230),
        Color::Red => (200, 32, 44),
        Color::Blue => (0, 70, 160),
        Color::Yellow => (250, 205, 25),
        Color::Black => (20, 20, 20),
    }
}

fn sign(color: Color) -> char {
    match color {
        Color::White => '.',
        Color::Red => 'r',
        Color::Blue => 'b',
        Color::Yellow => 'y',
        Color::Black => 'k',
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn flags_stand_in_rows_that_fit() {
        let fingerprint = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".parse().unwrap();
        for (room, rows) in [(usize::MAX, 1), (80, 1), (66, 1), (65, 2), (40, 2), (33, 4)] {
            let text = draw_within(&fingerprint, false, room).to_string();
            assert_eq!(text.lines().count(), rows * 4 + 1, "{room}: {text}");
            let picture = text.lines().take(rows * 4);
            assert!(picture.into_iter().all(|line| line.len() + 4 <= room), "{room}: {text}");
        }
    }
}
