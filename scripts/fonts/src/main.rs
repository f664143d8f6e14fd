//! Reduces the faces of DejaVu to the letters that drawings have: `cargo run --manifest-path scripts/fonts/Cargo.toml`, in the
//! project's folder. The glyph of the first letter in `letters.txt` has the number 1 in each face, and so on. For any other
//! letter a drawing shows □ (`crates/export/src/font.rs`).

use std::path::Path;
use subsetter::GlyphRemapper;

/// Letters by their numbers: Latin with the accents of European languages, Greek, Cyrillic, punctuation, arrows, the signs of
/// lines and blocks, and those that Dozor has a meaning for.
const RANGES: [(u32, u32); 14] = [
    (0x20, 0x7e),
    (0xa0, 0x17f),
    (0x391, 0x3a1),
    (0x3a3, 0x3c9),
    (0x401, 0x401),
    (0x410, 0x44f),
    (0x451, 0x451),
    (0x2010, 0x2015),
    (0x2018, 0x201e),
    (0x2190, 0x2195),
    (0x2500, 0x2503),
    (0x2574, 0x257b),
    (0x2581, 0x258f),
    (0x2591, 0x2593),
];
const SIGNS: &str = "†•…‰′″‹›€₁₂⁰⁴⁻−∆∑√∞≈≠≤≥■□▪▲△▶▸▹▼▽▾▿◀◂◆◇○●★☆⚑✎✓✗✶␀";

/// A font without tables that neither the widths of texts nor a PDF need; the OpenType specification, table directory.
fn without(font: &[u8], left_out: [&[u8; 4]; 2]) -> Vec<u8> {
    let number = |at: usize| u32::from_be_bytes(font[at..at + 4].try_into().expect("four bytes")) as usize;
    let count = usize::from(u16::from_be_bytes([font[4], font[5]]));
    let entries = (0..count).map(|at| &font[12 + at * 16..28 + at * 16]);
    let kept: Vec<&[u8]> = entries.filter(|entry| left_out.iter().all(|tag| entry[..4] != tag[..])).collect();
    let power = (kept.len() as u16).ilog2();
    let range = 16u16 << power;
    let mut out = font[..4].to_vec();
    for half in [kept.len() as u16, range, power as u16, kept.len() as u16 * 16 - range] {
        out.extend(half.to_be_bytes());
    }
    let (mut tables, begin) = (vec![], 12 + kept.len() * 16);
    for entry in kept {
        let at = entry.as_ptr() as usize - font.as_ptr() as usize;
        let (place, length) = (number(at + 8), number(at + 12));
        out.extend(&entry[..8]);
        out.extend(((begin + tables.len()) as u32).to_be_bytes());
        out.extend(&entry[12..]);
        tables.extend(&font[place..place + length]);
        tables.resize(tables.len().next_multiple_of(4), 0);
    }
    out.extend(tables);
    out
}

fn main() {
    let faces = [
        ("sans", dejavu::sans::regular()),
        ("sans-bold", dejavu::sans::bold()),
        ("mono", dejavu::sans_mono::regular()),
        ("mono-bold", dejavu::sans_mono::bold()),
    ];
    let parsed = faces.map(|(_, bytes)| ttf_parser::Face::parse(bytes, 0).expect("a font"));
    let of_ranges = RANGES.iter().flat_map(|(from, until)| *from..=*until).filter_map(char::from_u32);
    let mut letters: Vec<char> = of_ranges.chain(SIGNS.chars()).collect();
    letters.sort_unstable();
    letters.dedup();
    // What one face does not have, no drawing has.
    letters.retain(|letter| parsed.iter().all(|face| face.glyph_index(*letter).is_some()));
    let folder = Path::new("crates/export/fonts");
    std::fs::create_dir_all(folder).expect("a folder");
    for ((name, bytes), face) in faces.iter().zip(&parsed) {
        let mut glyphs = GlyphRemapper::new();
        for (place, letter) in letters.iter().enumerate() {
            let glyph = glyphs.remap(face.glyph_index(*letter).expect("it is there").0);
            // Before the first one stands the glyph for what is missing.
            assert_eq!(usize::from(glyph), place + 1, "{letter} shares its glyph with another one");
        }
        let subset = without(&subsetter::subset(bytes, 0, &glyphs).expect("a font"), [b"name", b"post"]);
        std::fs::write(folder.join(format!("{name}.ttf")), &subset).expect("room");
        println!("{name}: {} letters, {} of {} bytes", letters.len(), subset.len(), bytes.len());
    }
    std::fs::write(folder.join("letters.txt"), letters.iter().collect::<String>()).expect("room");
}
