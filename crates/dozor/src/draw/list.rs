//! The lines of a list that are seen.

use super::put;
use crate::look::theme::{Ground, Role, Theme};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// The lines of a list that are seen.
#[derive(Clone, Copy, Debug)]
pub struct Seen {
    /// Where they stand.
    pub area: Rect,
    /// The first of them.
    pub first: usize,
    chosen: usize,
}

impl Seen {
    /// As many as there is room for, the chosen one among them.
    pub fn around(area: Rect, chosen: usize) -> Seen {
        Seen { area, first: (chosen + 1).saturating_sub(usize::from(area.height)), chosen }
    }

    /// The line at a row of the screen.
    pub fn line_at(&self, y: u16) -> Option<usize> {
        let line = y.checked_sub(self.area.y).filter(|line| *line < self.area.height)?;
        Some(self.first + usize::from(line))
    }

    /// Draws each line that is seen: its row and itself. The chosen one is marked before.
    pub fn draw<T>(
        &self,
        theme: &Theme,
        buffer: &mut Buffer,
        lines: &[T],
        mut line: impl FnMut(&mut Buffer, u16, &T, bool),
    ) {
        let rows = self.area.top()..self.area.bottom();
        for (y, (at, it)) in rows.zip(lines.iter().enumerate().skip(self.first)) {
            let chosen = at == self.chosen;
            if chosen {
                let row = Rect { x: self.area.x - 1, y, width: self.area.width + 1, height: 1 };
                buffer.set_style(row, theme.ground(Ground::Selected));
                put(buffer, self.area.x - 1, y, 1, "▸", theme.role(Role::Accent));
            }
            line(buffer, y, it, chosen);
            if chosen {
                super::even_out(theme, buffer, Rect { y, height: 1, ..self.area });
            }
        }
    }

    /// Lines below those that are seen.
    pub fn more(&self, lines: usize) -> usize {
        lines.saturating_sub(self.first + usize::from(self.area.height))
    }
}
