//! Drawings as SVG 1.1: texts stay texts, groups have titles, and nothing is fetched from anywhere.

use crate::scene::{Anchor, Face, Paint, Scene, Shape, Stroke, Words};
use std::fmt::Write as _;

/// A drawing as a file.
pub fn write(scene: &Scene) -> String {
    let mut out = String::new();
    let Scene { width, height, .. } = scene;
    let _ = write!(
        out,
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" \
         viewBox=\"0 0 {0} {1}\" role=\"img\" aria-labelledby=\"title desc\">\n<title id=\"title\">{2}</title>\n<desc id=\"desc\">{3}</desc>\n",
        number(*width),
        number(*height),
        escaped(&scene.title),
        escaped(&scene.description)
    );
    out.push_str(
        "<style>text{font-family:'DejaVu Sans',Verdana,sans-serif;white-space:pre}.b{font-weight:bold}\
         .m{font-family:'DejaVu Sans Mono',Menlo,Consolas,monospace}</style>\n",
    );
    if let Some(ground) = scene.ground {
        let _ = writeln!(out, "<rect width=\"100%\" height=\"100%\" fill=\"#{ground:06x}\"/>");
    }
    for shape in &scene.shapes {
        put(shape, &mut out);
    }
    out.push_str("</svg>\n");
    out
}

/// A drawing as a part of a page: without the declaration of a file.
pub fn inline(scene: &Scene) -> String {
    let whole = write(scene);
    let begin = whole.find("<svg").unwrap_or(0);
    // Two drawings in one page must not share names, and must not change the page's own texts.
    let title = escaped(&scene.title);
    let inside =
        whole[begin..].replace(" aria-labelledby=\"title desc\"", &format!(" aria-label=\"{title}\""));
    let inside = inside.replace("<title id=\"title\">", "<title>").replace("<desc id=\"desc\">", "<desc>");
    let (from, until) = (inside.find("<style>"), inside.find("</style>\n"));
    match (from, until) {
        (Some(from), Some(until)) => format!("{}{}", &inside[..from], &inside[until + "</style>\n".len()..]),
        _ => inside,
    }
}

/// A number in as few letters as it needs.
fn number(value: f64) -> String {
    let text = format!("{value:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// Text for XML 1.0; what it cannot hold is replaced.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\t' | '\n' => out.push(' '),
            letter if letter < ' ' || matches!(letter, '\u{fffe}' | '\u{ffff}' | '\u{7f}'..='\u{9f}') => {
                out.push('\u{fffd}');
            }
            letter => out.push(letter),
        }
    }
    out
}

fn paint(name: &str, paint: Paint, out: &mut String) {
    let _ = write!(out, " {name}=\"#{:06x}\"", paint.colour);
    if paint.cover < 1.0 {
        let _ = write!(out, " {name}-opacity=\"{}\"", number(paint.cover));
    }
}

fn stroke(stroke: Stroke, out: &mut String) {
    paint("stroke", stroke.paint, out);
    let _ = write!(out, " stroke-width=\"{}\" stroke-linejoin=\"round\"", number(stroke.width));
    if let Some([dash, gap]) = stroke.dash {
        let _ = write!(out, " stroke-dasharray=\"{} {}\"", number(dash), number(gap));
    }
}

fn put(shape: &Shape, out: &mut String) {
    match shape {
        Shape::Box { place: [x, y, width, height], fill } => {
            let _ = write!(
                out,
                "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"",
                number(*x),
                number(*y),
                number(*width),
                number(*height)
            );
            paint("fill", *fill, out);
            out.push_str("/>\n");
        }
        Shape::Path { points, fill, stroke: line } => {
            out.push_str(if fill.is_some() { "<polygon points=\"" } else { "<polyline points=\"" });
            for (at, (x, y)) in points.iter().enumerate() {
                let _ = write!(out, "{}{},{}", if at == 0 { "" } else { " " }, number(*x), number(*y));
            }
            out.push('"');
            match fill {
                Some(fill) => paint("fill", *fill, out),
                None => out.push_str(" fill=\"none\""),
            }
            if let Some(line) = line {
                stroke(*line, out);
            }
            out.push_str("/>\n");
        }
        Shape::Words(words) => text(words, out),
        Shape::Group { name, shapes } => {
            out.push_str("<g>");
            if !name.is_empty() {
                let _ = write!(out, "<title>{}</title>", escaped(name));
            }
            out.push('\n');
            for shape in shapes {
                put(shape, out);
            }
            out.push_str("</g>\n");
        }
    }
}

fn text(words: &Words, out: &mut String) {
    let Words { text, at: (x, y), anchor, face, size, colour, turned, width } = words;
    let _ = write!(
        out,
        "<text x=\"{}\" y=\"{}\" font-size=\"{}\" fill=\"#{colour:06x}\"",
        number(*x),
        number(*y),
        number(*size)
    );
    let class = match face {
        Face::Plain => "",
        Face::Bold => " class=\"b\"",
        Face::Mono => " class=\"m\"",
        Face::MonoBold => " class=\"m b\"",
    };
    out.push_str(class);
    out.push_str(match anchor {
        Anchor::Start => "",
        Anchor::Middle => " text-anchor=\"middle\"",
        Anchor::End => " text-anchor=\"end\"",
    });
    if let Some(width) = width {
        let _ = write!(out, " textLength=\"{}\" lengthAdjust=\"spacingAndGlyphs\"", number(*width));
    }
    if *turned {
        let _ = write!(out, " transform=\"rotate(-90 {} {})\"", number(*x), number(*y));
    }
    let _ = writeln!(out, ">{}</text>", escaped(text));
}
