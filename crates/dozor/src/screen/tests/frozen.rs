//! What people see, held fast: every sheet and prompt with its styles at two sizes, and a hash of a long random walk.
//! They change only where a change of the screen is meant.

use super::Desk;
use crate::look::action::ACTIONS;
use crate::look::symbols::Symbols;
use crate::look::theme::{Depth, Theme};
use crate::screen::Event;
use dozor_core::deed::Deed;
use dozor_core::rank::RowId;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use ratatui::style::{Modifier, Style};
use std::collections::HashSet;
use std::fmt::Write as _;

/// The text of a screen, and below it a letter for the style of each cell, with what the letters mean.
fn styled(buffer: &Buffer) -> String {
    let mut styles: Vec<(Style, char)> = vec![];
    let (mut text, mut letters) = (String::new(), String::new());
    for row in buffer.content.chunks(usize::from(buffer.area.width)) {
        let symbols: String = row.iter().map(ratatui::buffer::Cell::symbol).collect();
        text.push_str(symbols.trim_end());
        text.push('\n');
        for cell in row {
            let style = cell.style();
            let known = styles.iter().find(|(other, _)| *other == style).map(|(_, letter)| *letter);
            let letter = known.unwrap_or_else(|| {
                let letter = char::from(b'A' + styles.len() as u8);
                styles.push((style, letter));
                letter
            });
            letters.push(letter);
        }
        letters.push('\n');
    }
    let mut legend = String::new();
    for (style, letter) in styles {
        let colour =
            |colour: Option<ratatui::style::Color>| colour.map_or(String::new(), |it| it.to_string());
        let (front, back) = (colour(style.fg), colour(style.bg));
        let modifiers = if style.add_modifier == Modifier::empty() {
            String::new()
        } else {
            format!(" {:?}", style.add_modifier)
        };
        let _ = writeln!(legend, "{letter} {front} on {back}{modifiers}");
    }
    format!("{text}\n{letters}\n{legend}")
}

fn desk_in_colour(size: (u16, u16)) -> Desk {
    let mut desk = Desk::at(140, size);
    desk.state.theme = Theme::new(Depth::True, false);
    desk
}

#[test]
fn every_sheet_and_prompt_with_its_styles() {
    let opened = [
        ("act", "3 x x"),
        ("act_on_several", "3 m m m x :st"),
        ("order", "o"),
        ("order_searched", "o :mem down"),
        ("arrange", "v down"),
        ("commands", ": :fold down"),
        ("help", "? pagedown"),
        ("help_searched", "? :mark"),
        ("columns", "3 c down down right"),
        ("columns_searched", "4 c :port"),
        ("settings", ", down down down"),
        ("compare", "d [ [ [ [ d down"),
        ("narrow", "/ :cpu tab"),
        ("narrow_wrong", "/ :cpu space :>"),
        ("go_to", "g :sky"),
        ("note", "b :seen"),
        ("time", "@ :02:"),
        ("name_of_view", ": :save space :view enter"),
        ("name_of_columns", "c ctrl-s :mine"),
        ("value_of_a_setting", ", down down down down right :x enter"),
        ("parts", "4 p p down"),
        ("message", "g :nobody enter n"),
    ];
    for (name, keys) in opened {
        for size in [(80, 24), (160, 48)] {
            let mut desk = desk_in_colour(size);
            desk.press(keys);
            let name = format!("{name}_{}x{}", size.0, size.1);
            insta::assert_snapshot!(name, styled(&desk.buffer()));
        }
    }
}

/// FNV-1a, so that it stays the same whatever the compiler.
struct Hash(u64);

impl std::fmt::Write for Hash {
    fn write_str(&mut self, text: &str) -> std::fmt::Result {
        for byte in text.bytes() {
            self.0 = (self.0 ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        }
        Ok(())
    }
}

impl Hash {
    fn new() -> Hash {
        Hash(0xcbf2_9ce4_8422_2325)
    }

    fn screen(&mut self, buffer: &Buffer) {
        for cell in &buffer.content {
            let _ = self.write_str(cell.symbol());
            let style = cell.style();
            if style != Style::reset() {
                let _ = write!(self, "{style:?}");
            }
        }
    }
}

/// Whatever somebody presses and clicks, whatever the size: no panic, the selection and the rows stay sound, and every
/// screen and every effect is what it was.
#[test]
fn random_keys_clicks_and_sizes_do_no_harm_and_change_nothing_unmeant() {
    let special = ["enter", "backspace", ":a", ":sky", "left", "right", "ctrl-s", "ctrl-n", "ctrl-d", "d"];
    // The zone of this machine is another on each.
    let of_table =
        ACTIONS.iter().flat_map(|entry| entry.keys).filter(|key| !key.starts_with("ctrl-") && **key != "C");
    let keys: Vec<&str> = of_table.copied().chain(special).collect();
    let mut random = 88_172_645_463_325_252_u64;
    let mut next = |below: usize| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        (random % below as u64) as usize
    };
    let mut desk = Desk::at(40, (120, 40));
    let (mut screens, mut effects) = (Hash::new(), Hash::new());
    let mut walk = String::new();
    for step in 0..3000 {
        let done = match next(20) {
            0 => {
                desk.run(1);
                vec![]
            }
            1 | 2 => {
                let kinds = [
                    MouseEventKind::ScrollDown,
                    MouseEventKind::ScrollUp,
                    MouseEventKind::Down(MouseButton::Left),
                    MouseEventKind::Down(MouseButton::Right),
                    MouseEventKind::Drag(MouseButton::Left),
                    MouseEventKind::Up(MouseButton::Left),
                ];
                desk.mouse(kinds[next(kinds.len())], next(130) as u16, next(45) as u16)
            }
            3 if step % 3 == 0 => desk.event(Event::Resize(next(200) as u16, next(70) as u16)),
            4 => {
                if let Some(RowId::Process(key)) = desk.state.id_of_row(next(10)) {
                    desk.machine.act(key, &Deed::Signal(9));
                }
                vec![]
            }
            _ => desk.press(keys[next(keys.len())]),
        };
        let _ = write!(effects, "{done:?}");
        // What the locale says, and zones, are another on each machine.
        desk.state.symbols = Symbols::Unicode;
        if step % 5 == 0 {
            screens.screen(&desk.buffer());
        }
        if step % 250 == 249 {
            let _ = writeln!(walk, "to step {step}: screens {:016x}, effects {:016x}", screens.0, effects.0);
        }
        let rows = 0..desk.state.rows().table.lines.len();
        let keys: HashSet<_> = rows.map(|row| desk.state.id_of_row(row)).collect();
        assert_eq!(keys.len(), desk.state.rows().table.lines.len(), "no process stands twice");
        assert!(desk.state.selection().scroll <= desk.state.rows().table.lines.len());
        let sections = desk.state.lanes().parts.sections.len();
        assert!(desk.state.lanes().parts.current < sections.max(1), "a table that is there");
    }
    insta::assert_snapshot!(walk);
}
