//! The parts of the chosen lane: tables, the map of cores, stacked strips.

use crate::draw::{self, BARS, put, put_right};
use crate::look::layout::Layout;
use crate::look::theme::{Ground, Role};
use crate::state::State;
use crate::state::parts::{FIGURE, FIGURES_X, Form, Placed};
use dozor_core::catalogue::{Unit, Value};
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::{CORE_CLASSES, Column, Look, PartRow, Section, Shape};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use unicode_width::UnicodeWidthStr as _;

/// Cells of a bar, without its number.
const BAR: u16 = 8;
/// Cells of a number at least.
const NUMBER: u16 = 6;
/// Signs of the pieces of a stacked bar; they differ without colour too.
const PIECES: [&str; 6] = ["█", "▓", "▒", "▚", "░", "·"];

/// First cell of the titles of the tables.
pub fn tabs_begin(state: &State, area: Rect) -> u16 {
    area.x + 1 + lead(state).width() as u16 + 1
}

fn lead(state: &State) -> String {
    match state.values.lane {
        Some(Lane::Cpu) => "CPU:".to_owned(),
        Some(Lane::Memory) => "Memory:".to_owned(),
        Some(Lane::Disk) => "Disk:".to_owned(),
        Some(Lane::Network) => "Network:".to_owned(),
        Some(Lane::Heat) => "Heat:".to_owned(),
        None => String::new(),
    }
}

/// Draws the tables that there is room for.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout) {
    let (Some(area), Some(lane)) = (layout.parts, state.values.lane) else { return };
    tabs(state, buffer, area);
    for placed in state.lanes().parts.placed(area) {
        let section = &state.lanes().parts.sections[placed.section];
        if placed.section != state.lanes().parts.current {
            let line = Rect { y: placed.title, height: 1, ..placed.rows };
            draw::rule(buffer, line, section.title, &state.theme);
            note(state, buffer, line, section);
        }
        if let Some(y) = placed.strip {
            strip(state, buffer, Rect { y, height: 1, ..placed.rows }, section, lane);
        }
        match placed.form {
            Form::Rows => table(state, buffer, &placed, section, lane),
            Form::Map { .. } => map(state, buffer, &placed, section, lane),
            Form::Figures { per_line, cell } => figures(state, buffer, &placed, section, (per_line, cell)),
        }
    }
}

/// The titles of all tables on one line, the one that is looked at in our colour.
fn tabs(state: &State, buffer: &mut Buffer, area: Rect) {
    let theme = &state.theme;
    let line = state.lanes().parts.title_line(area);
    draw::rule(buffer, line, &lead(state), &state.theme);
    let mut end = area.x;
    for (from, to, section) in state.lanes().parts.tabs(line, tabs_begin(state, line)) {
        let title = state.lanes().parts.sections[section].title;
        let current = section == state.lanes().parts.current;
        let style = match (current, state.lanes().parts.in_focus) {
            (true, true) => theme.role(Role::Accent).add_modifier(Modifier::BOLD | Modifier::UNDERLINED),
            (true, false) => theme.role(Role::Accent).add_modifier(Modifier::BOLD),
            _ => theme.role(Role::Quiet),
        };
        for blank in [from.saturating_sub(1), to] {
            put(buffer, blank, area.y, 1, " ", theme.role(Role::Quiet));
        }
        put(buffer, from, area.y, to - from, title, style);
        end = to + 1;
    }
    if let Some(section) = state.lanes().parts.sections.get(state.lanes().parts.current) {
        let room = Rect { x: end, width: line.right().saturating_sub(end), ..line };
        note(state, buffer, room, section);
    }
}

fn note(state: &State, buffer: &mut Buffer, line: Rect, section: &Section) {
    if let Some(note) = &section.note
        && note.width() + 40 < usize::from(line.width)
    {
        let text = format!(" {note} ");
        put_right(buffer, line.right() - 3, line.y, line.width, &text, state.theme.role(Role::Quiet));
    }
}

/// A column at its place.
struct Fitted {
    column: usize,
    x: u16,
    width: u16,
}

fn cell_text(column: &Column, value: &Value) -> String {
    match (column.unit, value) {
        (Unit::Percent | Unit::PercentOfCore, Value::Number(number)) if *number == 0.0 => "0".to_owned(),
        _ => value.short(column.unit),
    }
}

/// Fits columns into a width; those that nobody here has anything in are left out, then the least important.
fn fit(section: &Section, area: Rect, begin: u16) -> Vec<Fitted> {
    let is_empty = |at: usize| section.rows.iter().all(|row| row.cells[at] == Value::Absent);
    let natural = |at: usize| -> u16 {
        let column = &section.columns[at];
        let heading = column.heading.width() as u16;
        match column.look {
            Look::Text(most) => {
                let text =
                    |row: &PartRow| row.cells[at].text().map_or(1, str::width) + usize::from(row.under) * 2;
                let longest = section.rows.iter().map(text).max().unwrap_or(0) as u16;
                longest.clamp(heading, most.max(heading))
            }
            Look::Number => {
                // Numbers have the width of their unit, so that rows that are not seen need not be formatted.
                let texts = section.rows.iter().filter_map(|row| row.cells[at].text());
                let longest = texts.map(str::width).max().unwrap_or(0) as u16;
                longest.max(column.unit.width() as u16).max(NUMBER).max(heading)
            }
            Look::Bar => (BAR + 1 + NUMBER).max(heading),
            Look::Rest => 20.max(heading),
        }
    };
    let mut columns: Vec<(usize, u16)> = (0..section.columns.len())
        .filter(|at| *at == 0 || !is_empty(*at))
        .map(|at| (at, natural(at)))
        .collect();
    let room = area.width.saturating_sub(begin + 1);
    loop {
        let needed: u16 = columns.iter().map(|(_, width)| width + 2).sum();
        let last = columns.iter().map(|(at, _)| section.columns[*at].keep).max().unwrap_or(0);
        if needed <= room + 2 || last == 0 {
            break;
        }
        let drop = columns.iter().rposition(|(at, _)| section.columns[*at].keep == last);
        columns.remove(drop.unwrap_or(0));
    }
    let mut x = area.x + begin;
    let count = columns.len();
    columns
        .into_iter()
        .enumerate()
        .map(|(place, (column, width))| {
            let rest = area.right().saturating_sub(x + 1);
            let is_last = place + 1 == count;
            let takes_rest = section.columns[column].look == Look::Rest && is_last;
            let fitted = Fitted { column, x, width: if takes_rest { rest } else { width.min(rest) } };
            x += fitted.width + 2;
            fitted
        })
        .collect()
}

/// Room for the stacked bar of a core, and where it begins.
fn stack_place(section: &Section, area: Rect) -> Option<(u16, u16)> {
    let width = match area.width {
        0..100 => 16,
        100..150 => 24,
        _ => 32,
    };
    (section.shape == Shape::Cores).then_some((area.x + 9, width))
}

fn table(state: &State, buffer: &mut Buffer, placed: &Placed, section: &Section, lane: Lane) {
    let theme = &state.theme;
    let area = placed.rows;
    let stack = stack_place(section, area);
    // The name stands before the stacked bar, everything else behind it.
    let begin = 4;
    let shift = stack.map_or(0, |(_, width)| width + 2);
    let mut columns = fit(section, Rect { width: area.width - shift, ..area }, begin);
    for fitted in columns.iter_mut().skip(1) {
        fitted.x += shift;
    }
    for fitted in &columns {
        let column = &section.columns[fitted.column];
        let style = theme.role(Role::Quiet);
        match column.look {
            Look::Number => {
                put_right(
                    buffer,
                    fitted.x + fitted.width,
                    placed.headings,
                    fitted.width,
                    column.heading,
                    style,
                );
            }
            Look::Text(_) | Look::Bar | Look::Rest => {
                put(buffer, fitted.x, placed.headings, fitted.width, column.heading, style);
            }
        }
    }
    if let Some((x, width)) = stack {
        legend(state, buffer, Rect::new(x, placed.headings, width, 1), section, lane);
    }
    let seen = section.rows.iter().skip(placed.first);
    for (y, row) in (area.top()..area.bottom()).zip(seen) {
        row_ground(state, buffer, Rect { y, height: 1, ..area }, row);
        for fitted in &columns {
            cell(state, buffer, y, fitted, &section.columns[fitted.column], row, lane);
        }
        if let Some((x, width)) = stack {
            stacked(state, buffer, Rect::new(x, y, width, 1), &row.stack, lane);
        }
        if state.lanes().parts.selected.as_ref() == Some(&row.id) {
            draw::even_out(&state.theme, buffer, Rect { y, height: 1, ..area });
        }
    }
}

/// The signs of the classes that are there.
fn legend(state: &State, buffer: &mut Buffer, area: Rect, section: &Section, lane: Lane) {
    let mut x = area.x;
    for (piece, word) in CORE_CLASSES.iter().enumerate() {
        let word = if *word == "interrupts" { "irq" } else { word.split(' ').next().unwrap_or(word) };
        let is_there = section.rows.iter().any(|row| row.stack.get(piece).is_some_and(|share| *share >= 0.5));
        if !is_there || x + 3 + word.width() as u16 > area.right() + 2 {
            continue;
        }
        x = put(buffer, x, area.y, 1, PIECES[piece], piece_style(state, piece, lane));
        x = put(buffer, x, area.y, word.width() as u16, word, state.theme.role(Role::Quiet)) + 1;
    }
}

fn piece_style(state: &State, piece: usize, lane: Lane) -> Style {
    let theme = &state.theme;
    match piece {
        0 | 1 => theme.role(Role::Lane(lane)),
        2 => theme.role(Role::Accent),
        3 => theme.role(Role::Severity(Severity::Critical)),
        _ => theme.role(Role::Quiet),
    }
}

/// Where the pieces of a bar stand: shares in percent as cells from–to.
fn pieces(area: Rect, shares: impl Iterator<Item = f64>) -> impl Iterator<Item = (u16, u16)> {
    let (mut x, mut sum) = (area.x, 0.0);
    shares.map(move |share| {
        sum += share;
        let from = x;
        x = x.max(area.x + ((sum / 100.0).min(1.0) * f64::from(area.width)).round() as u16);
        (from, x)
    })
}

/// Shares in percent as pieces of one bar.
fn stacked(state: &State, buffer: &mut Buffer, area: Rect, shares: &[f64], lane: Lane) {
    let mut end = area.x;
    for (piece, (from, to)) in pieces(area, shares.iter().copied()).enumerate() {
        let sign = PIECES[piece.min(PIECES.len() - 1)];
        for x in from..to {
            put(buffer, x, area.y, 1, sign, piece_style(state, piece, lane));
        }
        end = to;
    }
    for x in end..area.right() {
        put(buffer, x, area.y, 1, "·", state.theme.role(Role::Line));
    }
}

fn row_ground(state: &State, buffer: &mut Buffer, area: Rect, row: &PartRow) {
    let theme = &state.theme;
    if state.lanes().parts.selected.as_ref() == Some(&row.id) {
        buffer.set_style(area, theme.ground(Ground::Selected));
        put(buffer, area.x, area.y, 1, "▸", theme.role(Role::Accent));
    }
    if row.severity > Severity::Fine {
        let sign = row.severity.sign().to_string();
        put(buffer, area.x + 2, area.y, 1, &sign, theme.role(Role::Severity(row.severity)));
    }
}

fn cell(
    state: &State,
    buffer: &mut Buffer,
    y: u16,
    fitted: &Fitted,
    column: &Column,
    row: &PartRow,
    lane: Lane,
) {
    let theme = &state.theme;
    let value = &row.cells[fitted.column];
    let nothing = matches!(value, Value::Absent | Value::Denied) || value.number() == Some(0.0);
    let style = match fitted.column {
        0 if row.under => theme.role(Role::Text),
        0 => theme.role(Role::Strong),
        _ if nothing => theme.role(Role::Quiet),
        _ if column.look == Look::Rest => theme.role(Role::Quiet),
        _ => theme.role(Role::Text),
    };
    match column.look {
        Look::Text(_) | Look::Rest => {
            let indent = if fitted.column == 0 && row.under { 2 } else { 0 };
            let text = value.text().map_or_else(|| value.short(column.unit), str::to_owned);
            put(buffer, fitted.x + indent, y, fitted.width - indent.min(fitted.width), &text, style);
        }
        Look::Number => {
            let text = cell_text(column, value);
            put_right(buffer, fitted.x + fitted.width, y, fitted.width, &text, style);
        }
        Look::Bar => {
            let text = cell_text(column, value);
            if let Some(share) = value.number() {
                bar(state, buffer, Rect::new(fitted.x, y, BAR, 1), share, row.severity, lane);
            }
            put_right(buffer, fitted.x + BAR + 1 + NUMBER, y, NUMBER, &text, style);
        }
    }
}

/// A percentage as filled squares.
fn bar(state: &State, buffer: &mut Buffer, area: Rect, percent: f64, severity: Severity, lane: Lane) {
    let theme = &state.theme;
    let filled = (percent / 100.0 * f64::from(area.width)).clamp(0.0, f64::from(area.width));
    // The last square only when it is reached.
    let filled =
        if percent >= 99.0 { area.width } else { filled.ceil().min(f64::from(area.width - 1)) as u16 };
    let filled = if percent <= 0.0 { 0 } else { filled };
    let hue = match severity {
        Severity::Fine | Severity::Notice => theme.role(Role::Lane(lane)),
        other => theme.role(Role::Severity(other)),
    };
    for at in 0..area.width {
        let (sign, style) = if at < filled { ("■", hue) } else { ("·", theme.role(Role::Line)) };
        put(buffer, area.x + at, area.y, 1, sign, style);
    }
}

/// All rows of a table as one bar: what the memory is used for.
fn strip(state: &State, buffer: &mut Buffer, area: Rect, section: &Section, lane: Lane) {
    let place = Rect { x: area.x + 4, width: area.width.saturating_sub(8), ..area };
    let shares = section.rows.iter().map(|row| row.stack.first().copied().unwrap_or(0.0));
    for (piece, ((from, to), row)) in pieces(place, shares).zip(&section.rows).enumerate() {
        let style = strip_style(state, piece, lane);
        for x in from..to {
            put(buffer, x, place.y, 1, PIECES[piece.min(PIECES.len() - 1)], style);
        }
        // The name stands in its piece where it fits.
        let text = format!(" {} ", row.cells[0].text().unwrap_or(""));
        if to > from && text.width() + 2 <= usize::from(to - from) {
            put(buffer, from + 1, place.y, to - from, &text, state.theme.role(Role::Text));
        }
    }
}

fn strip_style(state: &State, piece: usize, lane: Lane) -> Style {
    let theme = &state.theme;
    match piece {
        0..=2 => theme.role(Role::Lane(lane)),
        3 | 4 => theme.strip(lane, Severity::Fine),
        _ => theme.role(Role::Line),
    }
}

/// Names with their numbers beside each other; above them what the chosen one means.
fn figures(
    state: &State,
    buffer: &mut Buffer,
    placed: &Placed,
    section: &Section,
    (per_line, width): (u16, u16),
) {
    let theme = &state.theme;
    let area = placed.rows;
    for (place, (at, row)) in section.rows.iter().enumerate().skip(placed.first).enumerate() {
        let (x, y) = (FIGURES_X + area.x + place as u16 % per_line * width, area.y + place as u16 / per_line);
        if y >= area.bottom() {
            break;
        }
        let cell = Rect::new(x - 2, y, width - FIGURE[1] + 2, 1);
        let chosen = state.lanes().parts.selected.as_ref() == Some(&row.id);
        if chosen {
            buffer.set_style(cell, theme.ground(Ground::Selected));
        }
        if row.severity > Severity::Fine {
            let sign = row.severity.sign().to_string();
            put(buffer, x - 2, y, 1, &sign, theme.role(Role::Severity(row.severity)));
        }
        let name = row.cells[0].text().unwrap_or("");
        put(buffer, x, y, width, name, theme.role(Role::Strong));
        let text = cell_text(&section.columns[1], &row.cells[1]);
        put_right(buffer, cell.right(), y, FIGURE[0], &text, theme.role(Role::Text));
        if chosen {
            draw::even_out(&state.theme, buffer, cell);
            let told = Rect { y: placed.headings, height: area.y - placed.headings, ..area };
            let told =
                Rect { x: told.x + FIGURES_X, width: told.width.saturating_sub(FIGURES_X + 1), ..told };
            draw::paragraph(&state.theme, buffer, told, section.meaning(at).unwrap_or(""), Role::Quiet);
        }
    }
}

/// Cores as cells: number, bar, percentage; on a small screen only bars, with the number of the first of each line.
fn map(state: &State, buffer: &mut Buffer, placed: &Placed, section: &Section, lane: Lane) {
    let Form::Map { per_line, cell, label } = placed.form else { return };
    let theme = &state.theme;
    let (area, per_line) = (placed.rows, usize::from(per_line));
    let seen = section.rows.iter().enumerate().skip(placed.first);
    for (place, (at, row)) in seen.take(usize::from(area.height) * per_line).enumerate() {
        let x = area.x + label + (place % per_line) as u16 * cell;
        let y = area.y + (place / per_line) as u16;
        let small = cell < 5;
        if small && place % per_line == 0 {
            put_right(buffer, area.x + label - 1, y, 5, &at.to_string(), theme.role(Role::Quiet));
        }
        let busy = row.cells.get(1).and_then(Value::number);
        let level = busy.map_or(0, |busy| (busy / 100.0 * 8.0).round().clamp(1.0, 8.0) as usize);
        let hue = match row.severity {
            Severity::Fine => theme.strip(lane, Severity::Fine),
            Severity::Notice => theme.role(Role::Lane(lane)),
            other => theme.role(Role::Severity(other)),
        };
        let chosen = state.lanes().parts.selected.as_ref() == Some(&row.id);
        if chosen {
            let place = Rect::new(x, y, cell.saturating_sub(1).max(1), 1);
            buffer.set_style(place, theme.ground(Ground::Selected));
        }
        let sign = if busy.is_some() { BARS[level] } else { "–" };
        // A hot core is turned round as a whole: nobody has to read numbers to find it.
        let hot = row.severity >= Severity::Notice;
        let loud = if hot { hue.add_modifier(Modifier::BOLD | Modifier::REVERSED) } else { hue };
        if small {
            put(buffer, x, y, 1, sign, hue);
            if hot {
                put(buffer, x + 1, y, 1, &row.severity.sign().to_string(), loud);
            }
            continue;
        }
        let number = row.cells[0].text().unwrap_or("");
        let quiet = if hot { loud } else { theme.role(Role::Quiet) };
        put_right(buffer, x + 3, y, 3, &format!("{number:>3}"), quiet);
        put(buffer, x + 3, y, 1, " ", quiet);
        put(buffer, x + 4, y, 1, sign, hue);
        let percent = busy.map_or("–".to_owned(), |busy| format!("{busy:.0}"));
        let style = if hot { loud } else { theme.role(Role::Text) };
        put_right(buffer, x + 8, y, 3, &format!("{percent:>3}"), style);
    }
    map_headline(state, buffer, placed, section);
}

/// Above the map: the core that is chosen, else the hottest, with who runs there.
fn map_headline(state: &State, buffer: &mut Buffer, placed: &Placed, section: &Section) {
    let theme = &state.theme;
    let busy = |row: &PartRow| row.cells.get(1).and_then(Value::number).unwrap_or(-1.0);
    let hottest = section.rows.iter().enumerate().max_by(|a, b| busy(a.1).total_cmp(&busy(b.1)));
    let chosen = state.lanes().parts.selected_row().filter(|_| placed.section == state.lanes().parts.current);
    let shown = chosen.map(|row| (row, "core")).or(hottest.map(|(row, _)| (row, "hottest: core")));
    let Some((row, word)) = shown else { return };
    let mut text = format!("{word} {}", section.rows[row].cells[0].text().unwrap_or(""));
    for heading in ["busy %", "user", "system", "softirq", "iowait", "Hz", "°C", "runs most there"] {
        let unit = section.columns.iter().find(|column| column.heading == heading).map(|column| column.unit);
        if let (Some(value), Some(unit)) = (section.value(row, heading), unit)
            && *value != Value::Absent
        {
            let number = value.short(unit);
            text.push_str(&match heading {
                "busy %" => format!("  {number} % busy"),
                "°C" => format!("  {number} °C"),
                "Hz" => format!("  {number}Hz"),
                "runs most there" => format!("  runs {number}"),
                other => format!("  {other} {number}"),
            });
        }
    }
    let width = placed.rows.width.saturating_sub(3);
    put(buffer, placed.rows.x + 2, placed.headings, width, &text, theme.role(Role::Text));
}
