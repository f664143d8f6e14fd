//! A picture of cells: what stands on the screen as a drawing. Blocks become areas, so that nothing shows between them; letters stay
//! letters.

use crate::look::theme::{Ground, Role, Theme};
use dozor_export::hues::Rgb;
use dozor_export::scene::{Anchor, Face, Paint, Scene, Shape, Words};
use ratatui::buffer::Buffer;
use ratatui::style::{Color, Modifier};

/// Size of a cell in points.
const CELL: (f64, f64) = (7.224, 14.0);
/// Size of its letters: six tenths of it are as wide as a cell.
const LETTERS: f64 = 12.0;

/// The sixteen colours as most terminals show them.
const SIXTEEN: [Rgb; 16] = [
    0x00_0000, 0xaa_0000, 0x00_aa00, 0xaa_5500, 0x00_00aa, 0xaa_00aa, 0x00_aaaa, 0xaa_aaaa, 0x55_5555,
    0xff_5555, 0x55_ff55, 0xff_ff55, 0x55_55ff, 0xff_55ff, 0x55_ffff, 0xff_ffff,
];

fn indexed(at: u8) -> Rgb {
    match at {
        0..16 => SIXTEEN[usize::from(at)],
        16..232 => {
            let level = |step: u8| if step == 0 { 0 } else { 55 + u32::from(step) * 40 };
            let at = at - 16;
            level(at / 36) << 16 | level(at / 6 % 6) << 8 | level(at % 6)
        }
        232.. => {
            let grey = 8 + u32::from(at - 232) * 10;
            grey << 16 | grey << 8 | grey
        }
    }
}

fn rgb(colour: Color, usual: Rgb) -> Rgb {
    match colour {
        Color::Rgb(r, g, b) => u32::from(r) << 16 | u32::from(g) << 8 | u32::from(b),
        Color::Indexed(at) => indexed(at),
        Color::Black => SIXTEEN[0],
        Color::Red => SIXTEEN[1],
        Color::Green => SIXTEEN[2],
        Color::Yellow => SIXTEEN[3],
        Color::Blue => SIXTEEN[4],
        Color::Magenta => SIXTEEN[5],
        Color::Cyan => SIXTEEN[6],
        Color::Gray => SIXTEEN[7],
        Color::DarkGray => SIXTEEN[8],
        Color::LightRed => SIXTEEN[9],
        Color::LightGreen => SIXTEEN[10],
        Color::LightYellow => SIXTEEN[11],
        Color::LightBlue => SIXTEEN[12],
        Color::LightMagenta => SIXTEEN[13],
        Color::LightCyan => SIXTEEN[14],
        Color::White => SIXTEEN[15],
        Color::Reset => usual,
    }
}

/// Which part of a cell a block fills: left, top, width, height, in parts of the cell.
fn block(symbol: &str) -> Option<[f64; 4]> {
    let letter = symbol.chars().next()?;
    let code = u32::from(letter);
    Some(match code {
        0x2580 => [0.0, 0.0, 1.0, 0.5],
        0x2581..=0x2588 => {
            let height = f64::from(code - 0x2580) / 8.0;
            [0.0, 1.0 - height, 1.0, height]
        }
        0x2589..=0x258f => [0.0, 0.0, f64::from(0x2590 - code) / 8.0, 1.0],
        0x2590 => [0.5, 0.0, 0.5, 1.0],
        _ => return None,
    })
}

/// The colours of a cell, letters and ground.
fn colours(cell: &ratatui::buffer::Cell, (text, ground): (Rgb, Rgb)) -> (Rgb, Rgb) {
    let (mut front, mut back) = (rgb(cell.fg, text), rgb(cell.bg, ground));
    if cell.modifier.contains(Modifier::REVERSED) {
        std::mem::swap(&mut front, &mut back);
    }
    if cell.modifier.contains(Modifier::DIM) {
        front = dozor_export::hues::mixed(front, back, 0.4);
    }
    (front, back)
}

/// A picture of a screen.
pub fn picture(buffer: &Buffer, theme: &Theme, title: &str) -> Scene {
    let area = buffer.area;
    let (wide, high) = CELL;
    let usual = |style: ratatui::style::Style, fg: bool, other: Rgb| {
        let colour = if fg { style.fg } else { style.bg };
        colour.map_or(other, |colour| rgb(colour, other))
    };
    let (front, back) = if theme.light { (0x0000_0000, 0x00ff_ffff) } else { (0x00d0_d0d0, 0x0000_0000) };
    let text = usual(theme.role(Role::Text), true, front);
    let ground = usual(theme.ground(Ground::Screen), false, back);
    let mut scene = Scene::new(f64::from(area.width) * wide, f64::from(area.height) * high, Some(ground));
    title.clone_into(&mut scene.title);
    scene.description = format!("A screen of {} by {} cells.", area.width, area.height);
    scene.headings.push((title.to_owned(), 0.0));
    for row in 0..area.height {
        let top = f64::from(row) * high;
        let at = |column: u16| f64::from(column) * wide;
        let cell = |column: u16| &buffer[(area.x + column, area.y + row)];
        // Grounds first, in runs of one colour.
        let mut begin = 0;
        for column in 1..=area.width {
            let same = column < area.width
                && colours(cell(column), (text, ground)).1 == colours(cell(begin), (text, ground)).1;
            if same {
                continue;
            }
            let colour = colours(cell(begin), (text, ground)).1;
            if colour != ground {
                let place = [at(begin), top, at(column) - at(begin), high];
                scene.put(Shape::Box { place, fill: Paint::full(colour) });
            }
            begin = column;
        }
        let mut run: Option<(u16, String, Rgb, bool)> = None;
        for column in 0..=area.width {
            let here = (column < area.width).then(|| cell(column));
            let symbol = here.map_or("", |cell| cell.symbol());
            let colour = here.map(|cell| colours(cell, (text, ground)).0);
            let bold = here.is_some_and(|cell| cell.modifier.contains(Modifier::BOLD));
            if let (Some([x, y, w, h]), Some(colour)) = (block(symbol), colour) {
                let place = [at(column) + x * wide, top + y * high, w * wide, h * high];
                scene.put(Shape::Box { place, fill: Paint::full(colour) });
            }
            let letters = block(symbol).is_none() && !symbol.trim().is_empty();
            let goes_on = letters
                && run.as_ref().is_some_and(|(_, _, other, heavy)| Some(*other) == colour && *heavy == bold);
            if goes_on && let Some((_, words, ..)) = &mut run {
                words.push_str(symbol);
                continue;
            }
            if let Some((begin, words, colour, bold)) = run.take() {
                let cells = words.chars().count() as f64;
                scene.put(Shape::Words(Words {
                    text: words,
                    at: (at(begin), top + high * 0.78),
                    anchor: Anchor::Start,
                    face: if bold { Face::MonoBold } else { Face::Mono },
                    size: LETTERS,
                    colour,
                    turned: false,
                    width: Some(cells * wide),
                }));
            }
            if letters && let Some(colour) = colour {
                run = Some((column, symbol.to_owned(), colour, bold));
            }
        }
    }
    scene
}
