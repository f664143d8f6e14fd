//! Reduces the faces of DejaVu to the letters that drawings have: `cargo run --manifest-path scripts/fonts/Cargo.toml`, in the
//! project's folder. A drawing shows the closest of these letters for others (`crates/export/src/font.rs`).

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
        for letter in &letters {
            glyphs.remap(face.glyph_index(*letter).expect("it is there").0);
        }
        let subset = subsetter::subset(bytes, 0, &glyphs).expect("a font");
        let reduced = ttf_parser::Face::parse(&subset, 0).expect("a font");
        // Two letters may share a picture: where each one is stands beside the fonts.
        let places: String = letters
            .iter()
            .map(|letter| {
                let old = face.glyph_index(*letter).expect("it is there");
                let new = glyphs.get(old.0).expect("it is in the new one");
                let advance = |face: &ttf_parser::Face<'_>, glyph| face.glyph_hor_advance(ttf_parser::GlyphId(glyph));
                assert_eq!(advance(face, old.0), advance(&reduced, new), "{letter}");
                format!("{letter}\t{new}\n")
            })
            .collect();
        std::fs::write(folder.join(format!("{name}.ttf")), &subset).expect("room");
        std::fs::write(folder.join(format!("{name}.tsv")), places).expect("room");
        println!("{name}: {} letters, {} of {} bytes", letters.len(), subset.len(), bytes.len());
    }
}
