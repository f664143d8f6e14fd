//! Drawings as a PDF 1.7 file: a page each, texts as texts with embedded subsets of their fonts, a title, an author, and
//! bookmarks for headings (ISO 32000-1).

use crate::font::{self, drawn, glyph};
use crate::scene::{Anchor, Face, Paint, Scene, Shape, Stroke, Words};
use pdf_writer::types::{
    CidFontType, FontFlags, LineCapStyle, LineJoinStyle, OutlineItemFlags, SystemInfo, UnicodeCmap,
};
use pdf_writer::{Content, Filter, Finish as _, Name, Pdf, Rect, Ref, Str, TextStr};
use std::collections::{BTreeMap, BTreeSet};

/// What a file says of itself.
#[derive(Clone, Debug, Default)]
pub struct About {
    /// Its title.
    pub title: String,
    /// Who made it.
    pub author: String,
    /// What it is about.
    pub subject: String,
}

const CMAP: Name<'_> = Name(b"Adobe-Identity-UCS");
const IDENTITY: SystemInfo<'_> =
    SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };

/// Numbers of the objects of a file.
struct Refs(i32);

impl Refs {
    fn next(&mut self) -> Ref {
        self.0 += 1;
        Ref::new(self.0)
    }
}

/// Drawings as the pages of a file.
pub fn write(pages: &[Scene], about: &About) -> Vec<u8> {
    let mut refs = Refs(0);
    let mut pdf = Pdf::new();
    let (catalog, tree, info) = (refs.next(), refs.next(), refs.next());
    let mut used: BTreeMap<Face, BTreeSet<u16>> = BTreeMap::new();
    let mut covers: BTreeSet<u8> = BTreeSet::new();
    let contents: Vec<Vec<u8>> = pages
        .iter()
        .map(|scene| {
            let mut page =
                Page { content: Content::new(), height: scene.height, used: &mut used, covers: &mut covers };
            page.all(scene);
            page.content.finish().into_vec()
        })
        .collect();
    let fonts: Vec<(Face, Ref)> = used.keys().map(|face| (*face, refs.next())).collect();
    let states: Vec<(u8, Ref)> = covers.iter().map(|cover| (*cover, refs.next())).collect();
    let page_refs: Vec<Ref> = pages.iter().map(|_| refs.next()).collect();
    for ((scene, content), page_ref) in pages.iter().zip(&contents).zip(&page_refs) {
        let content_ref = refs.next();
        let mut page = pdf.page(*page_ref);
        page.media_box(Rect::new(0.0, 0.0, scene.width as f32, scene.height as f32));
        page.parent(tree).contents(content_ref);
        let mut resources = page.resources();
        let mut dictionary = resources.fonts();
        for (face, font) in &fonts {
            dictionary.pair(Name(name_of(*face).as_bytes()), *font);
        }
        dictionary.finish();
        let mut dictionary = resources.ext_g_states();
        for (cover, state) in &states {
            dictionary.pair(Name(format!("T{cover}").as_bytes()), *state);
        }
        dictionary.finish();
        resources.finish();
        page.finish();
        let packed = miniz_oxide::deflate::compress_to_vec_zlib(content, 6);
        pdf.stream(content_ref, &packed).filter(Filter::FlateDecode);
    }
    for (cover, state) in &states {
        let cover = f32::from(*cover) / 100.0;
        pdf.ext_graphics(*state).non_stroking_alpha(cover).stroking_alpha(cover);
    }
    for (face, font) in &fonts {
        embed(&mut pdf, &mut refs, *font, *face, &used[face]);
    }
    pdf.pages(tree).kids(page_refs.iter().copied()).count(page_refs.len() as i32);
    let outline = outline(&mut pdf, &mut refs, pages, &page_refs);
    let mut catalogue = pdf.catalog(catalog);
    catalogue.pages(tree).lang(TextStr("en"));
    catalogue.viewer_preferences().display_doc_title(true);
    if let Some(outline) = outline {
        catalogue.outlines(outline);
    }
    catalogue.finish();
    let mut document = pdf.document_info(info);
    document.title(TextStr(&about.title)).author(TextStr(&about.author)).subject(TextStr(&about.subject));
    document.creator(TextStr("Dozor"));
    document.finish();
    pdf.finish()
}

fn name_of(face: Face) -> String {
    format!("F{}", face as u8)
}

/// Bookmarks of all pages.
fn outline(pdf: &mut Pdf, refs: &mut Refs, pages: &[Scene], page_refs: &[Ref]) -> Option<Ref> {
    let headings: Vec<(&str, f64, Ref, f64)> = pages
        .iter()
        .zip(page_refs)
        .flat_map(|(scene, page)| {
            scene.headings.iter().map(move |(text, down)| (text.as_str(), *down, *page, scene.height))
        })
        .collect();
    if headings.is_empty() {
        return None;
    }
    let root = refs.next();
    let items: Vec<Ref> = headings.iter().map(|_| refs.next()).collect();
    pdf.outline(root).first(items[0]).last(items[items.len() - 1]).count(items.len() as i32);
    for (at, (text, down, page, height)) in headings.iter().enumerate() {
        let mut item = pdf.outline_item(items[at]);
        item.title(TextStr(text)).parent(root).flags(OutlineItemFlags::empty());
        if at > 0 {
            item.prev(items[at - 1]);
        }
        if let Some(next) = items.get(at + 1) {
            item.next(*next);
        }
        item.dest().page(*page).xyz(0.0, (height - down) as f32, None);
    }
    Some(root)
}

/// Puts the glyphs of a face that are used into the file.
fn embed(pdf: &mut Pdf, refs: &mut Refs, font: Ref, face: Face, used: &BTreeSet<u16>) {
    let (cid, descriptor, cmap_ref, data) = (refs.next(), refs.next(), refs.next(), refs.next());
    let parsed = font::face(face);
    let units = f32::from(parsed.units_per_em());
    let scaled = |value: i16| f32::from(value) / units * 1000.0;
    let base = match face {
        Face::Plain => "DOZORA+DejaVuSans",
        Face::Bold => "DOZORB+DejaVuSans-Bold",
        Face::Mono => "DOZORC+DejaVuSansMono",
        Face::MonoBold => "DOZORD+DejaVuSansMono-Bold",
    };
    let base = Name(base.as_bytes());
    pdf.type0_font(font)
        .base_font(base)
        .encoding_predefined(Name(b"Identity-H"))
        .descendant_font(cid)
        .to_unicode(cmap_ref);
    let mut cid_font = pdf.cid_font(cid);
    cid_font.subtype(CidFontType::Type2).base_font(base).system_info(IDENTITY).font_descriptor(descriptor);
    cid_font.default_width(0.0).cid_to_gid_map_predefined(Name(b"Identity"));
    let mut widths = cid_font.widths();
    for number in used {
        widths.consecutive(*number, [font::advance(face, *number) as f32 / units * 1000.0]);
    }
    widths.finish();
    cid_font.finish();
    let mut flags = FontFlags::SYMBOLIC;
    if matches!(face, Face::Mono | Face::MonoBold) {
        flags |= FontFlags::FIXED_PITCH;
    }
    let bounds = parsed.global_bounding_box();
    pdf.font_descriptor(descriptor)
        .name(base)
        .flags(flags)
        .bbox(Rect::new(
            scaled(bounds.x_min),
            scaled(bounds.y_min),
            scaled(bounds.x_max),
            scaled(bounds.y_max),
        ))
        .italic_angle(0.0)
        .ascent(scaled(parsed.ascender()))
        .descent(scaled(parsed.descender()))
        .cap_height(parsed.capital_height().map_or(700.0, scaled))
        .stem_v(if matches!(face, Face::Bold | Face::MonoBold) { 140.0 } else { 80.0 })
        .font_file2(data);
    let mut cmap = UnicodeCmap::new(CMAP, IDENTITY);
    for (number, letter) in (1u16..).zip(font::letters()).filter(|(number, _)| used.contains(number)) {
        cmap.pair(number, *letter);
    }
    pdf.cmap(cmap_ref, &cmap.finish());
    let file = font::reduced(face, used);
    let packed = miniz_oxide::deflate::compress_to_vec_zlib(&file, 6);
    pdf.stream(data, &packed).filter(Filter::FlateDecode).pair(Name(b"Length1"), file.len() as i32);
}

/// One page while it is written.
struct Page<'a> {
    content: Content,
    height: f64,
    used: &'a mut BTreeMap<Face, BTreeSet<u16>>,
    covers: &'a mut BTreeSet<u8>,
}

impl Page<'_> {
    fn all(&mut self, scene: &Scene) {
        self.content.set_line_join(LineJoinStyle::RoundJoin).set_line_cap(LineCapStyle::ButtCap);
        if let Some(ground) = scene.ground {
            self.fill(Paint::full(ground));
            self.content.rect(0.0, 0.0, scene.width as f32, scene.height as f32).fill_nonzero();
        }
        for shape in &scene.shapes {
            self.shape(shape);
        }
    }

    fn up(&self, down: f64) -> f32 {
        (self.height - down) as f32
    }

    fn cover(&mut self, cover: f64) {
        let cover = (cover * 100.0).round().clamp(0.0, 100.0) as u8;
        self.covers.insert(cover);
        self.content.set_parameters(Name(format!("T{cover}").as_bytes()));
    }

    fn fill(&mut self, paint: Paint) {
        self.cover(paint.cover);
        let [r, g, b] = channels(paint.colour);
        self.content.set_fill_rgb(r, g, b);
    }

    fn shape(&mut self, shape: &Shape) {
        match shape {
            Shape::Box { place: [x, y, width, height], fill } => {
                self.fill(*fill);
                let up = self.up(y + height);
                self.content.rect(*x as f32, up, *width as f32, *height as f32).fill_nonzero();
            }
            Shape::Path { points, fill, stroke } => {
                if let Some(fill) = fill {
                    self.fill(*fill);
                    self.path(points);
                    self.content.close_path().fill_nonzero();
                }
                if let Some(line) = stroke {
                    self.stroke(*line);
                    self.path(points);
                    self.content.stroke();
                }
            }
            Shape::Words(words) => self.words(words),
            Shape::Group { shapes, .. } => shapes.iter().for_each(|shape| self.shape(shape)),
        }
    }

    fn path(&mut self, points: &[(f64, f64)]) {
        for (at, (x, y)) in points.iter().enumerate() {
            let up = self.up(*y);
            if at == 0 {
                self.content.move_to(*x as f32, up);
            } else {
                self.content.line_to(*x as f32, up);
            }
        }
    }

    fn stroke(&mut self, stroke: Stroke) {
        self.cover(stroke.paint.cover);
        let [r, g, b] = channels(stroke.paint.colour);
        self.content.set_stroke_rgb(r, g, b).set_line_width(stroke.width as f32);
        let dash = stroke.dash.map(|dash| dash.map(|length| length as f32));
        self.content.set_dash_pattern(dash.into_iter().flatten(), 0.0);
    }

    fn words(&mut self, words: &Words) {
        let Words { text, at: (x, y), anchor, face, size, colour, turned, width } = words;
        let natural = font::width(*face, *size, text);
        let stretch = width.filter(|_| natural > 0.0).map_or(1.0, |width| width / natural);
        let length = natural * stretch;
        let before = match anchor {
            Anchor::Start => 0.0,
            Anchor::Middle => length / 2.0,
            Anchor::End => length,
        };
        self.fill(Paint::full(*colour));
        self.used.entry(*face).or_default().extend(text.chars().map(glyph));
        let bytes: Vec<u8> = text.chars().flat_map(|letter| glyph(letter).to_be_bytes()).collect();
        let is_whole = text.chars().all(|letter| drawn(letter) == letter);
        if !is_whole {
            // Whoever copies it gets the letters that the font does not have.
            let mut marked = self.content.begin_marked_content_with_properties(Name(b"Span"));
            marked.properties().actual_text(TextStr(text));
        }
        let up = self.up(*y);
        let (cos, sin) = if *turned { (0.0, 1.0) } else { (1.0, 0.0) };
        let (left, up) = if *turned { (*x as f32, up - before as f32) } else { ((x - before) as f32, up) };
        self.content
            .begin_text()
            .set_font(Name(name_of(*face).as_bytes()), *size as f32)
            .set_horizontal_scaling((stretch * 100.0) as f32)
            .set_text_matrix([cos, sin, -sin, cos, left, up])
            .show(Str(&bytes))
            .end_text();
        if !is_whole {
            self.content.end_marked_content();
        }
    }
}

fn channels(colour: u32) -> [f32; 3] {
    [16, 8, 0].map(|shift| ((colour >> shift) & 255) as f32 / 255.0)
}
