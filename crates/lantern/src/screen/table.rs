//! Columns, aligned. On a terminal they are as wide as it is: what matters less gives way, and no fingerprint is broken.

use std::borrow::Cow;

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::fit::Fit;
use super::wrap::cut_mark;

/// What a column keeps before others go for it, in cells; the first one, which names the row, keeps more.
const COMFORTABLE: usize = 16;
const COMFORTABLE_NAME: usize = 24;
/// Narrowest that a column is cut to, in cells.
const MIN_COLUMN: usize = 8;
/// Columns that never go; where there are fingerprints, those and the first.
const ALWAYS_SHOWN: usize = 2;
/// Between columns, in cells.
const GAP: usize = 2;

/// Where a table goes to.
pub(crate) struct Place {
    /// How wide that is, in cells; none: as wide as it gets.
    pub(crate) width: Option<usize>,
    /// Whether its heading stands out.
    pub(crate) color: bool,
}

/// Columns under a heading, when there is one; wide characters count as two. The last column is not padded.
pub(crate) fn draw<'a, R: AsRef<[Cow<'a, str>]>>(
    heading: Option<&[&'a str]>,
    rows: impl IntoIterator<Item = R>,
    place: &Place,
) -> Fit {
    let rows: Vec<R> = rows.into_iter().collect();
    let count =
        heading.map_or(0, <[_]>::len).max(rows.iter().map(|row| row.as_ref().len()).max().unwrap_or(0));
    let mut widths: Vec<usize> = (0..count)
        .map(|at| heading.and_then(|heading| heading.get(at)).map_or(0, |cell| width(cell)))
        .collect();
    let mut is_firm = vec![false; count];
    for row in &rows {
        for (at, cell) in row.as_ref().iter().enumerate() {
            let (Some(widest), Some(firm)) = (widths.get_mut(at), is_firm.get_mut(at)) else { continue };
            *widest = (*widest).max(width(&Fit::cell(cell)));
            *firm |= cell.contains("SHA256:");
        }
    }
    // What a name means is read to its end: it goes on below.
    if let Some(room) = place.width.filter(|_| count > 2) {
        fit_into(&mut widths, &is_firm, room);
    }
    let mut out = String::with_capacity((rows.len() + 1) * (widths.iter().sum::<usize>() + GAP * count + 1));
    if let Some(heading) = heading {
        let style = if place.color { ("\x1b[1m", "\x1b[0m") } else { ("", "") };
        out.push_str(style.0);
        put_row(&mut out, heading.iter().copied(), &widths);
        out.push_str(style.1);
        out.push('\n');
    }
    for row in &rows {
        let cells: Vec<Cow<'_, str>> = row.as_ref().iter().map(|cell| Fit::cell(cell)).collect();
        put_row(&mut out, cells.iter().map(Cow::as_ref), &widths);
        out.push('\n');
    }
    Fit::picture(out)
}

/// Makes columns narrower, the widest first, until all have room. Where that would leave too little of each, the last ones go, but for the first two
/// and for fingerprints; and only then what is left is cut to a stump.
fn fit_into(widths: &mut [usize], is_firm: &[bool], room: usize) {
    let soft = |at: &usize| !is_firm.get(*at).copied().unwrap_or(false);
    let over = |widths: &[usize]| {
        let shown = widths.iter().filter(|width| **width > 0).count();
        let total = widths.iter().sum::<usize>() + GAP * shown.saturating_sub(1);
        total.checked_sub(room).filter(|over| *over > 0)
    };
    for (first, others) in [(COMFORTABLE_NAME, COMFORTABLE), (MIN_COLUMN, MIN_COLUMN)] {
        let least = |at: usize| if at == 0 { first } else { others };
        while let Some(over) = over(widths) {
            // Of two as wide, the one that comes later matters less.
            let narrowable = (0..widths.len()).filter(soft).filter(|at| widths[*at] > least(*at));
            if let Some(widest) = narrowable.max_by_key(|at| (widths[*at], *at)) {
                let others = (0..widths.len()).filter(soft).map(|at| widths[at]);
                let next =
                    others.filter(|width| *width < widths[widest]).max().unwrap_or(0).max(least(widest));
                widths[widest] -= over.min((widths[widest] - next).max(1));
                continue;
            }
            let shown = if is_firm.contains(&true) { 1 } else { ALWAYS_SHOWN };
            let last = (shown..widths.len()).rev().find(|at| soft(at) && widths[*at] > 0);
            match last {
                Some(last) => widths[last] = 0,
                None => break,
            }
        }
    }
}

fn put_row<'c>(out: &mut String, cells: impl Iterator<Item = &'c str>, widths: &[usize]) {
    for (cell, widest) in cells.zip(widths).filter(|(_, widest)| **widest > 0) {
        let before = out.len();
        let taken = match width(cell) <= *widest {
            true => {
                out.push_str(cell);
                width(cell)
            }
            false => put_cut(out, cell, *widest),
        };
        debug_assert!(out.len() >= before);
        out.extend(std::iter::repeat_n(' ', widest + GAP - taken));
    }
    out.truncate(out.trim_end_matches(' ').len());
}

/// As much of a cell as there is room for, with a mark; how many cells that is.
pub(crate) fn put_cut(out: &mut String, cell: &str, room: usize) -> usize {
    let mut taken = 0;
    for c in cell.chars() {
        let wide = c.width().unwrap_or(0);
        if taken + wide + 1 > room {
            break;
        }
        out.push(c);
        taken += wide;
    }
    out.push(cut_mark());
    taken + 1
}

/// Cells on a terminal. Most text is plain and needs no tables to be measured.
pub(crate) fn width(text: &str) -> usize {
    if text.bytes().all(|byte| (0x20..0x7f).contains(&byte)) { text.len() } else { text.width() }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rows<'a>(rows: &[&[&'a str]]) -> Vec<Vec<Cow<'a, str>>> {
        rows.iter().map(|row| row.iter().map(|cell| Cow::Borrowed(*cell)).collect()).collect()
    }

    fn plain(width: Option<usize>) -> Place {
        Place { width, color: false }
    }

    #[test]
    fn columns_are_aligned_by_what_a_terminal_shows() {
        let table = |cells: &[&[&str]]| draw(Some(&["NAME", "STATE"]), rows(cells), &plain(None)).to_string();
        let text = table(&[&["lamp-01", "ok"], &["灯台", "doubt"], &["ö", ""]]);
        let starts: Vec<usize> =
            text.lines().filter_map(|line| Some(width(line.get(..line.rfind(' ')? + 1)?))).collect();
        assert_eq!(starts, [9, 9, 9], "{text}");
        assert!(text.lines().all(|line| !line.ends_with(' ')), "{text:?}");
        assert_eq!(table(&[]), "NAME  STATE\n");
    }

    #[test]
    fn what_matters_less_gives_way_and_fingerprints_stay_whole() {
        let fingerprint = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
        let cells: &[&[&str]] =
            &[&["lamp-01", fingerprint, "compared by somebody some time ago", "192.0.2.7:22"]];
        let heading = ["MACHINE", "FINGERPRINT", "VERIFIED", "ADDRESS"];
        for room in [200, 100, 80, 60] {
            let text = draw(Some(&heading), rows(cells), &plain(Some(room))).to_string();
            assert!(text.contains(fingerprint) && text.contains("lamp-01"), "{room}: {text}");
            assert!(text.lines().all(|line| width(line) <= room), "{room}: {text}");
        }
        let narrow = draw(Some(&heading), rows(cells), &plain(Some(60))).to_string();
        assert!(!narrow.contains("ADDRESS"), "{narrow}");
    }

    proptest! {
        #[test]
        fn rows_fit(cells in proptest::collection::vec("[a-z灯]{0,40}", 4), room in 20usize..160) {
            let row: Vec<Cow<'_, str>> = cells.iter().map(|cell| Cow::Borrowed(cell.as_str())).collect();
            let text = draw(None, [row], &plain(Some(room))).to_string();
            prop_assert!(text.lines().all(|line| width(line) <= room), "{:?}", text);
        }
    }
}
