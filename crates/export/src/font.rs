//! The letters of drawings: four faces of DejaVu (Bitstream Vera licence, `fonts/LICENSE`) with the letters that `scripts/fonts`
//! has left in them, so that texts have the same widths wherever a drawing is made.

use crate::scene::Face;
use std::collections::BTreeSet;
use std::sync::OnceLock;

/// The letters of each face in their order: the glyph of the first has the number 1.
const LETTERS: &str = include_str!("../fonts/letters.txt");

/// Bytes of a face's font file.
pub fn file(face: Face) -> &'static [u8] {
    match face {
        Face::Plain => include_bytes!("../fonts/sans.ttf"),
        Face::Bold => include_bytes!("../fonts/sans-bold.ttf"),
        Face::Mono => include_bytes!("../fonts/mono.ttf"),
        Face::MonoBold => include_bytes!("../fonts/mono-bold.ttf"),
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

/// Letters with the numbers of their glyphs.
pub fn letters() -> &'static [char] {
    static ALL: OnceLock<Vec<char>> = OnceLock::new();
    ALL.get_or_init(|| LETTERS.chars().collect())
}

/// A face's font file in which only these glyphs are left: the others are nothing but zeros, which take no room once they are
/// packed; the OpenType specification, `glyf` and `loca`.
pub fn reduced(of: Face, glyphs: &BTreeSet<u16>) -> Vec<u8> {
    let whole = file(of);
    let raw = face(of).raw_face();
    let table = |tag: &[u8; 4]| raw.table(ttf_parser::Tag::from_bytes(tag)).unwrap_or_default();
    let (outlines, places) = (table(b"glyf"), table(b"loca"));
    let begin = outlines.as_ptr().addr().saturating_sub(whole.as_ptr().addr());
    let is_long = table(b"head").get(51) == Some(&1);
    let place = |glyph: usize| {
        if is_long {
            let bytes = places.get(glyph * 4..glyph * 4 + 4)?;
            Some(u32::from_be_bytes(bytes.try_into().ok()?) as usize)
        } else {
            Some(usize::from(half(places, glyph * 2)?) * 2)
        }
    };
    let of_glyph = |glyph: u16| Some(place(glyph.into())?..place(usize::from(glyph) + 1)?);
    let mut kept = BTreeSet::new();
    let mut waiting: Vec<u16> = glyphs.iter().copied().chain([0]).collect();
    while let Some(glyph) = waiting.pop() {
        if kept.insert(glyph) {
            let outline = of_glyph(glyph).and_then(|place| outlines.get(place));
            waiting.extend(outline.map(components).unwrap_or_default());
        }
    }
    let mut file = whole.to_vec();
    for glyph in (0..face(of).number_of_glyphs()).filter(|glyph| !kept.contains(glyph)) {
        let place = of_glyph(glyph).map(|place| begin + place.start..begin + place.end);
        if let Some(bytes) = place.and_then(|place| file.get_mut(place)) {
            bytes.fill(0);
        }
    }
    file
}

fn half(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

/// Pictures that one is made of, such as a letter and its accent.
fn components(outline: &[u8]) -> Vec<u16> {
    const WORDS: u16 = 1 << 0;
    const SCALE: u16 = 1 << 3;
    const MORE: u16 = 1 << 5;
    const TWO_SCALES: u16 = 1 << 6;
    const MATRIX: u16 = 1 << 7;
    let (mut all, mut at) = (vec![], 10);
    // Of its own outline it has a number of contours.
    let mut more = half(outline, 0).is_some_and(|contours| contours & 0x8000 != 0);
    while more && let Some((flags, glyph)) = half(outline, at).zip(half(outline, at + 2)) {
        all.push(glyph);
        at += if flags & WORDS != 0 { 8 } else { 6 };
        at += match flags {
            _ if flags & SCALE != 0 => 2,
            _ if flags & TWO_SCALES != 0 => 4,
            _ if flags & MATRIX != 0 => 8,
            _ => 0,
        };
        more = flags & MORE != 0;
    }
    all
}

/// What stands for a letter that the font does not have.
pub const MISSING: char = '□';

/// The number of the glyph that is drawn for a letter, in each face.
pub fn glyph(letter: char) -> u16 {
    let place = |letter: &char| letters().binary_search(letter).ok();
    place(&letter).or_else(|| place(&MISSING)).map_or(0, |place| place as u16 + 1)
}

/// The letter that is drawn for a letter.
pub fn drawn(letter: char) -> char {
    if letters().binary_search(&letter).is_ok() { letter } else { MISSING }
}

/// How far the next letter stands from one, in the units of its face.
pub fn advance(of: Face, glyph: u16) -> f64 {
    face(of).glyph_hor_advance(ttf_parser::GlyphId(glyph)).map_or(0.0, f64::from)
}

/// Width of a text.
pub fn width(of: Face, size: f64, text: &str) -> f64 {
    let units = f64::from(face(of).units_per_em());
    text.chars().map(|letter| advance(of, glyph(letter))).sum::<f64>() / units * size
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
        assert_eq!((drawn('\u{661f}'), glyph('\u{661f}')), (MISSING, glyph(MISSING)));
        assert!(width(Face::Plain, 10.0, "\u{661f}") > 3.0);
        assert!(letters().is_sorted() && glyph(MISSING) > 0);
        for of in FACES {
            // And the glyph of what is missing, and parts of glyphs.
            assert!(usize::from(face(of).number_of_glyphs()) > letters().len());
        }
    }

    const FACES: [Face; 4] = [Face::Plain, Face::Bold, Face::Mono, Face::MonoBold];

    /// Draws outlines as text.
    #[derive(Default)]
    struct Drawn(String);

    impl ttf_parser::OutlineBuilder for Drawn {
        fn move_to(&mut self, x: f32, y: f32) {
            self.0 += &format!("M{x},{y}");
        }

        fn line_to(&mut self, x: f32, y: f32) {
            self.0 += &format!("L{x},{y}");
        }

        fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
            self.0 += &format!("Q{x1},{y1},{x},{y}");
        }

        fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
            self.0 += &format!("C{x1},{y1},{x2},{y2},{x},{y}");
        }

        fn close(&mut self) {
            self.0.push('Z');
        }
    }

    #[test]
    fn a_reduced_font_draws_what_it_was_left_and_nothing_else() {
        let outline = |face: &ttf_parser::Face<'_>, letter: char| {
            let mut drawn = Drawn::default();
            face.outline_glyph(ttf_parser::GlyphId(glyph(letter)), &mut drawn);
            drawn.0
        };
        for of in FACES {
            let used: BTreeSet<u16> = "stacker é Å ň ◆".chars().map(glyph).collect();
            let bytes = reduced(of, &used);
            let less = ttf_parser::Face::parse(&bytes, 0).expect("a font");
            for letter in letters() {
                let is_left = used.contains(&glyph(*letter));
                let whole = outline(face(of), *letter);
                // Parts of glyphs are there as well.
                let is_part = "eAn".contains(*letter) || !letter.is_alphabetic();
                match outline(&less, *letter) {
                    same if same == whole => assert!(is_left || is_part || whole.is_empty(), "{letter}"),
                    none => assert!(none.is_empty() && !is_left, "{letter}"),
                }
            }
            let packed = |bytes: &[u8]| miniz_oxide::deflate::compress_to_vec_zlib(bytes, 6).len();
            assert!(packed(&bytes) * 3 < packed(file(of)), "{} of {}", packed(&bytes), packed(file(of)));
        }
    }

    /// Where this fails, the letter belongs into `scripts/fonts`.
    #[test]
    fn whatever_our_own_texts_have_can_be_drawn() {
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
        let mut folders = vec![root.join("src"), root.join("../core/src")];
        let mut files = 0;
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).expect("our sources") {
                let path = entry.expect("a file").path();
                if path.is_dir() {
                    folders.push(path);
                } else if path.extension().is_some_and(|ending| ending == "rs") {
                    files += 1;
                    let text = std::fs::read_to_string(&path).expect("text");
                    let missing = text.chars().find(|letter| *letter != '\n' && drawn(*letter) != *letter);
                    assert_eq!(missing, None, "{}", path.display());
                }
            }
        }
        assert!(files > 100);
    }
}
