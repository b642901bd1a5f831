//! The picture of a fingerprint: eight signal flags with their letters.
//!
//! The International Code of Signals gives every letter a flag that can be told apart at sea and a word that can be
//! told apart on a bad line. Eight letters drawn from the fingerprint carry 37 bits: enough for two people,
//! or one person and a console, to notice that keys differ; not enough to replace comparing the fingerprint itself.

use crate::Fingerprint;

/// Flags in a picture.
pub const FLAGS: usize = 8;
/// Width and height of a flag, in square pixels.
pub const FLAG_SIZE: usize = 6;

/// A color of the International Code of Signals.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Color {
    /// White
    White,
    /// Red
    Red,
    /// Blue
    Blue,
    /// Yellow
    Yellow,
    /// Black
    Black,
}

/// One letter's flag.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Flag {
    letter: u8,
}

/// The flags of a fingerprint, in order. Every one depends on every bit of the hash's first half.
pub fn of_fingerprint(fingerprint: &Fingerprint) -> [Flag; FLAGS] {
    let [head @ .., _, _, _, _, _, _, _, _, _, _, _, _, _, _, _, _] = *fingerprint.as_bytes();
    let mut number = u128::from_be_bytes(head);
    std::array::from_fn(|_| {
        let letter = (number % 26) as u8;
        number /= 26;
        Flag { letter }
    })
}

impl Flag {
    /// The letter, A to Z.
    pub fn letter(self) -> char {
        char::from(b'A' + self.letter)
    }

    /// The word for the letter in the phonetic alphabet of the code.
    pub fn word(self) -> &'static str {
        FLAG_TABLE[usize::from(self.letter)].0
    }

    /// The color at a pixel; both below [`FLAG_SIZE`].
    pub fn color(self, row: usize, column: usize) -> Color {
        let rows = FLAG_TABLE[usize::from(self.letter)].1;
        match rows.as_bytes().get(row * (FLAG_SIZE + 1) + column) {
            Some(b'r') => Color::Red,
            Some(b'b') => Color::Blue,
            Some(b'y') => Color::Yellow,
            Some(b'k') => Color::Black,
            _ => Color::White,
        }
    }
}

/// Words and flags, A to Z: six rows of six pixels, w r b y k for the colors of the code.
const FLAG_TABLE: [(&str, &str); 26] = [
    ("Alfa", "wwwbbb wwwbbb wwwbbw wwwbbw wwwbbb wwwbbb"),
    ("Bravo", "rrrrrr rrrrrr rrrrrw rrrrrw rrrrrr rrrrrr"),
    ("Charlie", "bbbbbb wwwwww rrrrrr rrrrrr wwwwww bbbbbb"),
    ("Delta", "yyyyyy yyyyyy bbbbbb bbbbbb yyyyyy yyyyyy"),
    ("Echo", "bbbbbb bbbbbb bbbbbb rrrrrr rrrrrr rrrrrr"),
    ("Foxtrot", "wwrrww wrrrrw rrrrrr rrrrrr wrrrrw wwrrww"),
    ("Golf", "ybybyb ybybyb ybybyb ybybyb ybybyb ybybyb"),
    ("Hotel", "wwwrrr wwwrrr wwwrrr wwwrrr wwwrrr wwwrrr"),
    ("India", "yyyyyy yykkyy ykkkky ykkkky yykkyy yyyyyy"),
    ("Juliett", "bbbbbb bbbbbb wwwwww wwwwww bbbbbb bbbbbb"),
    ("Kilo", "yyybbb yyybbb yyybbb yyybbb yyybbb yyybbb"),
    ("Lima", "yyykkk yyykkk yyykkk kkkyyy kkkyyy kkkyyy"),
    ("Mike", "wbbbbw bwbbwb bbwwbb bbwwbb bwbbwb wbbbbw"),
    ("November", "bbwwbb bbwwbb wwbbww wwbbww bbwwbb bbwwbb"),
    ("Oscar", "yrrrrr yyrrrr yyyrrr yyyyrr yyyyyr yyyyyy"),
    ("Papa", "bbbbbb bbbbbb bbwwbb bbwwbb bbbbbb bbbbbb"),
    ("Quebec", "yyyyyy yyyyyy yyyyyy yyyyyy yyyyyy yyyyyy"),
    ("Romeo", "rryyrr rryyrr yyyyyy yyyyyy rryyrr rryyrr"),
    ("Sierra", "wwwwww wwwwww wwbbww wwbbww wwwwww wwwwww"),
    ("Tango", "rrwwbb rrwwbb rrwwbb rrwwbb rrwwbb rrwwbb"),
    ("Uniform", "rrrwww rrrwww rrrwww wwwrrr wwwrrr wwwrrr"),
    ("Victor", "rwwwwr wrwwrw wwrrww wwrrww wrwwrw rwwwwr"),
    ("Whiskey", "bbbbbb bwwwwb bwrrwb bwrrwb bwwwwb bbbbbb"),
    ("Xray", "wwbbww wwbbww bbbbbb bbbbbb wwbbww wwbbww"),
    ("Yankee", "yyryyr yryyry ryyryy yyryyr yryyry ryyryy"),
    ("Zulu", "kyyyyb kkyybb kkkbbb kkkbbb kkrrbb krrrrb"),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_letter_has_its_own_flag_and_word() {
        for (index, (word, rows)) in FLAG_TABLE.iter().enumerate() {
            assert_eq!(word.as_bytes()[0], b'A' + index as u8);
            assert!(
                rows.split(' ').count() == FLAG_SIZE && rows.split(' ').all(|row| row.len() == FLAG_SIZE)
            );
            assert!(rows.bytes().all(|byte| b"wrbyk ".contains(&byte)), "{word}");
            assert!(FLAG_TABLE[..index].iter().all(|(_, other)| other != rows), "{word} looks like another");
        }
    }

    #[test]
    fn neighbouring_fingerprints_look_nothing_alike() {
        let flags = |blob: &[u8]| of_fingerprint(&Fingerprint::of_blob(blob));
        let (one, two) = (flags(b"lamp-01"), flags(b"lamp-02"));
        let same = one.iter().zip(&two).filter(|(a, b)| a == b).count();
        assert!(same <= 2, "{same} of {FLAGS} flags are the same");
    }
}
