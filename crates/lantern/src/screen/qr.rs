//! A QR code (ISO/IEC 18004) in the cells of a terminal: two modules in each, dark on light whatever the terminal's own colors are.

use qrcode::{Color, EcLevel, QrCode};

use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::{output, wrap};

/// The border that readers want, in modules.
const QUIET: i32 = 4;

/// Draws a text.
///
/// # Errors
/// A text that is too long, or a picture that is wider than the terminal.
pub(crate) fn draw(text: &str) -> Result<Fit, Failure> {
    let room = wrap::width(&std::io::stdout());
    draw_within(text, room, output::colorful_stdout(), wrap::has_all_characters())
}

fn draw_within(text: &str, room: Option<usize>, color: bool, blocks: bool) -> Result<Fit, Failure> {
    let made = QrCode::with_error_correction_level(text.as_bytes(), EcLevel::L)
        .map_err(|error| Failure::new(code::LOCAL, format!("no QR code holds that much: {error}")))?;
    let side = i32::try_from(made.width()).unwrap_or_default();
    let colors = made.to_colors();
    let is_dark = |row: i32, column: i32| {
        let inside = (0..side).contains(&row) && (0..side).contains(&column);
        let at = usize::try_from(row * side + column).unwrap_or_default();
        inside && colors.get(at) == Some(&Color::Dark)
    };
    // Without block characters a module takes a line, and two cells to be as wide as it is high.
    let (rows, wide) = if blocks { (2, 1) } else { (1, 2) };
    let columns = (side + 2 * QUIET) * wide;
    if let Some(room) = room.filter(|room| i32::try_from(*room).is_ok_and(|room| room < columns)) {
        let text = format!("the picture takes {columns} columns, and the terminal has {room}");
        return Err(Failure::new(code::LOCAL, text).hint("`--line` prints it as text"));
    }
    let mut out = String::new();
    let mut row = -QUIET;
    while row < side + QUIET {
        if color {
            out.push_str("\x1b[30;107m");
        }
        for column in -QUIET..side + QUIET {
            let (upper, lower) = (is_dark(row, column), is_dark(row + 1, column));
            out.push_str(match (blocks, color, upper, lower) {
                (false, _, true, _) => "##",
                (false, _, false, _) => "  ",
                // Dark on light, by the colors; without colors the terminal is taken to be dark.
                (true, true, true, true) | (true, false, false, false) => "█",
                (true, true, true, false) | (true, false, false, true) => "▀",
                (true, true, false, true) | (true, false, true, false) => "▄",
                (true, true, false, false) | (true, false, true, true) => " ",
            });
        }
        out.push_str(if color { "\x1b[0m\n" } else { "\n" });
        row += rows;
    }
    Ok(Fit::picture(out))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    /// Modules as they are drawn, by what each character shows.
    fn modules(picture: &str, color: bool) -> Vec<Vec<bool>> {
        let mut rows = Vec::new();
        for line in picture.lines() {
            let line = line.replace("\x1b[30;107m", "").replace("\x1b[0m", "");
            let halves = |c: char| match c {
                '█' => (true, true),
                '▀' => (true, false),
                '▄' => (false, true),
                _ => (false, false),
            };
            let pairs: Vec<(bool, bool)> = line.chars().map(halves).collect();
            rows.push(pairs.iter().map(|(upper, _)| *upper == color).collect());
            rows.push(pairs.iter().map(|(_, lower)| *lower == color).collect());
        }
        rows
    }

    #[test]
    fn every_way_of_drawing_shows_the_same_modules() {
        let line = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAioU/YN6raghfYGoV79w9O+EWGOquxKcWh0paklOXg keeper@chart-room";
        let made = QrCode::with_error_correction_level(line, EcLevel::L).unwrap();
        let drawn = |color, blocks| draw_within(line, None, color, blocks).unwrap().to_string();
        let (colored, plain, ascii) =
            (modules(&drawn(true, true), true), modules(&drawn(false, true), false), drawn(false, false));
        for (row, column) in [(0, 0), (3, 3), (7, 7), (10, 20), (28, 5)] {
            let dark = made[(column, row)] == Color::Dark;
            let (at_row, at_column) = (row + QUIET as usize, column + QUIET as usize);
            assert_eq!(colored[at_row][at_column], dark, "{row} {column}");
            assert_eq!(plain[at_row][at_column], dark, "{row} {column}");
            let line: Vec<char> = ascii.lines().nth(at_row).unwrap().chars().collect();
            assert_eq!(line[2 * at_column] == '#', dark, "{row} {column}");
        }
        assert!(draw_within(line, Some(30), false, true).unwrap_err().headline.contains("columns"));
        assert!(draw_within(&"x".repeat(4000), None, false, true).is_err());
    }
}
