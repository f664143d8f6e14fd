//! The letters of drawings: DejaVu, a free family that the program brings along (Bitstream Vera licence), so that texts have the
//! same widths wherever a drawing is made.

use crate::scene::Face;
use std::sync::OnceLock;

/// Bytes of a face's font file.
pub fn file(face: Face) -> &'static [u8] {
    match face {
        Face::Plain => dejavu::sans::regular(),
        Face::Bold => dejavu::sans::bold(),
        Face::Mono => dejavu::sans_mono::regular(),
        Face::MonoBold => dejavu::sans_mono::bold(),
    }
}

/// A parsed face.
///
/// # Panics
/// Where the font that the program brings along cannot be read, which every test that draws would find.
pub fn face(face: Face) -> &'static ttf_parser::Face<'static> {
    static FACES: [OnceLock<ttf_parser::Face<'static>>; 4] =
        [OnceLock::new(), OnceLock::new(), OnceLock::new(), OnceLock::new()];
    FACES[face as usize].get_or_init(|| {
        ttf_parser::Face::parse(file(face), 0).unwrap_or_else(|_| unreachable!("our own font is sound"))
    })
}

/// What stands for a letter that the font does not have.
pub const MISSING: char = '□';

/// The letter that is drawn for a letter.
pub fn drawn(of: Face, letter: char) -> char {
    if face(of).glyph_index(letter).is_some() { letter } else { MISSING }
}

/// Width of a text.
pub fn width(of: Face, size: f64, text: &str) -> f64 {
    let parsed = face(of);
    let units = f64::from(parsed.units_per_em());
    let advance = |letter: char| {
        let glyph = parsed.glyph_index(drawn(of, letter));
        glyph.and_then(|glyph| parsed.glyph_hor_advance(glyph)).map_or(0.0, f64::from)
    };
    text.chars().map(advance).sum::<f64>() / units * size
}

/// A text that is at most so wide: its end gives way to an ellipsis.
pub fn cut(of: Face, size: f64, text: &str, most: f64) -> String {
    if width(of, size, text) <= most {
        return text.to_owned();
    }
    let room = most - width(of, size, "…");
    let mut used = 0.0;
    let kept: String = text
        .chars()
        .take_while(|letter| {
            used += width(of, size, letter.encode_utf8(&mut [0; 4]));
            used <= room
        })
        .collect();
    format!("{}…", kept.trim_end())
}

/// Lines of a text that are at most so wide, broken between words; a word that is too long is broken within.
pub fn wrapped(of: Face, size: f64, text: &str, most: f64) -> Vec<String> {
    let mut lines = vec![];
    let mut line = String::new();
    for word in text.split_whitespace() {
        let mut word = word.to_owned();
        loop {
            let joined = if line.is_empty() { word.clone() } else { format!("{line} {word}") };
            if width(of, size, &joined) <= most {
                line = joined;
                break;
            }
            if !line.is_empty() {
                lines.push(std::mem::take(&mut line));
                continue;
            }
            let mut head = String::new();
            for letter in word.chars() {
                let longer = format!("{head}{letter}");
                if !head.is_empty() && width(of, size, &longer) > most {
                    break;
                }
                head = longer;
            }
            word = word[head.len()..].to_owned();
            lines.push(head);
            if word.is_empty() {
                break;
            }
        }
    }
    if !line.is_empty() {
        lines.push(line);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_cut_and_broken_within_their_room() {
        let text = "nvme0n1 96 % busy, waits 41 ms. stacker[3820] writes 86 % of what all processes write.";
        for most in [40.0, 90.0, 200.0] {
            assert!(width(Face::Plain, 9.0, &cut(Face::Plain, 9.0, text, most)) <= most);
            let lines = wrapped(Face::Plain, 9.0, text, most);
            assert!(lines.iter().all(|line| width(Face::Plain, 9.0, line) <= most), "{lines:?}");
            let letters =
                |text: &str| text.chars().filter(|letter| !letter.is_whitespace()).collect::<String>();
            assert_eq!(letters(&lines.concat()), letters(text));
        }
        assert_eq!(wrapped(Face::Plain, 9.0, "", 50.0), Vec::<String>::new());
    }

    #[test]
    fn a_letter_that_no_font_has_is_a_box_with_a_width() {
        assert_eq!(drawn(Face::Plain, '星'), MISSING);
        assert!(width(Face::Plain, 10.0, "星") > 3.0);
        for sign in "·◇▲◆⚑✎≈×≥–…▁█┃╵".chars() {
            assert_eq!(drawn(Face::Mono, sign), sign, "{sign}");
        }
    }
}
