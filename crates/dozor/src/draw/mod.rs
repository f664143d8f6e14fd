//! Drawing on cells: texts, rules, paragraphs. It knows colours, not the state.

pub mod list;
pub mod picture;

use crate::look::theme::{Depth, Role, Theme};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// Bars of an eighth to eight eighths of a cell.
pub const BARS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
/// Bars that grow to the right.
pub const SIDEWAYS: [&str; 9] = [" ", "▏", "▎", "▍", "▌", "▋", "▊", "▉", "█"];

/// Writes text into at most `width` cells; what does not fit ends with an ellipsis. Gives the next free cell.
pub fn put(buffer: &mut Buffer, x: u16, y: u16, width: u16, text: &str, style: Style) -> u16 {
    if !buffer.area.contains((x, y).into()) || width == 0 {
        return x;
    }
    // Strips, bars and rules are thousands of single signs: those need no search for the ends of characters.
    let mut letters = text.chars();
    if let (Some(letter), None) = (letters.next(), letters.next())
        && letter.width() == Some(1)
    {
        buffer[(x, y)].set_symbol(text).set_style(style);
        return x + 1;
    }
    if text.width() <= usize::from(width) {
        return buffer.set_stringn(x, y, text, usize::from(width), style).0;
    }
    let mut room = usize::from(width) - 1;
    let end = text.char_indices().find_map(|(at, letter)| {
        let cells = letter.width().unwrap_or(0);
        if cells > room {
            return Some(at);
        }
        room -= cells;
        None
    });
    let cut = format!("{}…", &text[..end.unwrap_or(text.len())]);
    buffer.set_stringn(x, y, cut, usize::from(width), style).0
}

/// Writes text that ends at a cell (not included).
pub fn put_right(buffer: &mut Buffer, end: u16, y: u16, width: u16, text: &str, style: Style) -> u16 {
    let cells = (text.width() as u16).min(width);
    let x = end.saturating_sub(cells);
    put(buffer, x, y, cells, text, style);
    x
}

/// A title with a rule behind it.
pub fn rule(buffer: &mut Buffer, area: Rect, title: &str, theme: &Theme) -> u16 {
    let x = put(buffer, area.x + 1, area.y, area.width.saturating_sub(2), title, theme.role(Role::Accent));
    let line = theme.role(Role::Line);
    for x in x + 1..area.right().saturating_sub(1) {
        put(buffer, x, area.y, 1, "─", line);
    }
    x
}

/// A text in lines of a width, broken between words; a word that is longer than a line is broken where that ends.
pub fn wrapped(text: &str, width: u16) -> Vec<String> {
    let width = usize::from(width.max(1));
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().unwrap_or_else(|| unreachable!("there is always a line"));
        if line.is_empty() && word.width() <= width {
            line.push_str(word);
        } else if line.width() + 1 + word.width() <= width {
            line.push(' ');
            line.push_str(word);
        } else if word.width() <= width {
            lines.push(word.to_owned());
        } else {
            let mut line = String::new();
            for letter in word.chars() {
                if line.width() + letter.width().unwrap_or(0) > width {
                    lines.push(std::mem::take(&mut line));
                }
                line.push(letter);
            }
            lines.push(line);
        }
    }
    if lines.len() > 1 && lines[0].is_empty() {
        lines.remove(0);
    }
    lines
}

/// A text over some lines, broken between words.
pub fn paragraph(theme: &Theme, buffer: &mut Buffer, area: Rect, text: &str, role: Role) {
    for (y, line) in (area.top()..area.bottom()).zip(wrapped(text, area.width)) {
        put(buffer, area.x, y, area.width, &line, theme.role(role));
    }
}

/// Without colours the selected row is turned round as a whole; receding text in it would leave dark patches.
pub fn even_out(theme: &Theme, buffer: &mut Buffer, area: Rect) {
    if matches!(theme.depth, Depth::Sixteen | Depth::Mono) {
        buffer.set_style(area, Style::new().remove_modifier(Modifier::DIM));
    }
}
