//! What is open over the screen.

use crate::comparison::{cells, changes, label, presence_words, span, who};
use crate::draw::{paragraph, put, put_right};
use crate::look::columns::What;
use crate::look::theme::{Ground, Role};
use crate::settings::Origin;
use crate::settings::file::from_home;
use crate::settings::table::SETTINGS;
use crate::sheets::pick::{Kind, Picker};
use crate::sheets::{ActSheet, ColumnsSheet, CompareSheet, Differing, PREVIEW, SPANS, SettingsSheet, Sheet};
use crate::state::State;
use dozor_core::lane::{Lane, Severity};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::widgets::{Clear, Widget as _};

/// Draws the open sheet.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(open) = &state.sheet else { return };
    match open {
        Sheet::Act(sheet) => act(state, buffer, area, open, sheet),
        Sheet::Pick(picker) => pick(state, buffer, area, open, picker),
        Sheet::Columns(sheet) => columns(state, buffer, area, open, sheet),
        Sheet::Settings(sheet) => settings(state, buffer, area, open, sheet),
        Sheet::Compare(sheet) => compare(state, buffer, area, open, sheet),
    }
}

/// Clears room for a sheet over the lower part of the screen and gives the place of its text.
fn open(state: &State, buffer: &mut Buffer, area: Rect, title: &str, sheet: &Sheet) -> Rect {
    let place = sheet.place(area);
    let sheet = Rect { y: place.y - 1, height: place.height + 1, ..area };
    Clear.render(sheet, buffer);
    buffer.set_style(sheet, state.theme.ground(Ground::Panel).patch(state.theme.role(Role::Text)));
    let line = state.theme.role(Role::Accent);
    for x in sheet.left()..sheet.right() {
        put(buffer, x, sheet.y, 1, "━", line);
    }
    put(
        buffer,
        sheet.x + 2,
        sheet.y,
        sheet.width - 4,
        &format!(" {title} "),
        line.add_modifier(Modifier::BOLD),
    );
    place
}

fn act(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, sheet: &ActSheet) {
    let targets = &sheet.targets;
    let title = match &targets[..] {
        [one] => format!("What shall happen to {} of {}?", one.label(), one.user),
        many => format!("What shall happen to these {} processes?", many.len()),
    };
    let place = open(state, buffer, area, &title, whole);
    let list = whole.list(area);
    for (y, note) in (place.y..list.area.y).zip(sheet.notes()) {
        put(buffer, place.x, y, place.width, &note, state.theme.role(Role::Text));
    }
    let line = Rect { y: list.area.y.saturating_sub(1), ..place };
    search(state, buffer, line, &sheet.typed.text());
    let signals = sheet.matching();
    if signals.is_empty() {
        nothing_found(state, buffer, list.area);
    }
    let (height, from) = (usize::from(list.area.height), list.first);
    for (at, signal) in signals.iter().enumerate().skip(from).take(height) {
        let y = list.area.y + (at - from) as u16;
        let chosen = at == sheet.at;
        if chosen {
            choose(state, buffer, place, y);
        }
        let role = if chosen { Role::Strong } else { Role::Text };
        let name = format!("{:<9} {:>2}", signal.name, signal.number);
        put(buffer, place.x + 1, y, 13, &name, state.theme.role(Role::Quiet));
        put(buffer, place.x + 15, y, place.width.saturating_sub(15), &signal.words, state.theme.role(role));
    }
}

/// The line in which is typed what is searched for.
fn search(state: &State, buffer: &mut Buffer, place: Rect, typed: &str) -> u16 {
    let x = put(buffer, place.x, place.y, 10, "search ", state.theme.role(Role::Quiet));
    let x = put(buffer, x, place.y, 40, typed, state.theme.role(Role::Strong));
    put(buffer, x, place.y, 1, " ", state.theme.role(Role::Strong).add_modifier(Modifier::REVERSED));
    x + 3
}

/// Marks the chosen line of a list.
fn choose(state: &State, buffer: &mut Buffer, place: Rect, y: u16) {
    let row = Rect { x: place.x.saturating_sub(1), y, width: place.width + 1, height: 1 };
    buffer.set_style(row, state.theme.ground(Ground::Selected));
    put(buffer, place.x - 1, y, 1, "▸", state.theme.role(Role::Accent));
}

fn pick(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, picker: &Picker) {
    let place = open(state, buffer, area, picker.kind.title(), whole);
    let theme = &state.theme;
    search(state, buffer, place, &picker.typed.text());
    let rows = picker.items(state);
    let seen = whole.list(area);
    let (height, from) = (usize::from(seen.area.height), seen.first);
    // Names first, or keys first where those are looked for.
    let (name_width, keys_width) = match picker.kind {
        Kind::Order | Kind::Arrange => (16, 0),
        Kind::Commands => (24, 12),
        Kind::Help => (24, 14),
    };
    for (at, row) in rows.iter().enumerate().skip(from).take(height) {
        let y = seen.area.y + (at - from) as u16;
        if at == picker.at {
            choose(state, buffer, place, y);
        }
        if row.title {
            put(buffer, place.x, y, place.width, &row.name, theme.role(Role::Accent));
            continue;
        }
        let mut x = place.x + 1;
        if picker.kind == Kind::Help {
            put(buffer, x + 1, y, keys_width, &row.keys, theme.role(Role::Strong));
            x += keys_width + 2;
            put(buffer, x, y, name_width, &row.name, theme.role(Role::Text));
            x += if row.name.is_empty() { 0 } else { name_width + 1 };
        } else {
            put(buffer, x, y, name_width, &row.name, theme.role(Role::Strong));
            x += name_width + 1;
            if keys_width > 0 {
                put(buffer, x, y, keys_width, &row.keys, theme.role(Role::Accent));
                x += keys_width + 1;
            }
        }
        let room = |x: u16| place.right().saturating_sub(x);
        if !row.now.is_empty() {
            x = put(buffer, x, y, room(x).min(24), &row.now, theme.role(Role::Accent)) + 2;
        } else if picker.kind == Kind::Order {
            x += 8;
        }
        put(buffer, x, y, room(x), &row.help, theme.role(Role::Quiet));
    }
    if rows.is_empty() {
        nothing_found(state, buffer, seen.area);
    }
}

fn nothing_found(state: &State, buffer: &mut Buffer, list: Rect) {
    put(buffer, list.x + 1, list.y, 40, "nothing matches", state.theme.role(Role::Quiet));
}

fn columns(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, sheet: &ColumnsSheet) {
    let name = state.lane.map_or("the overview", Lane::name);
    let set = sheet.set.as_ref().map(|set| format!(", saved as '{set}'")).unwrap_or_default();
    let place = open(state, buffer, area, &format!("Columns of {name}{set}"), whole);
    let theme = &state.theme;
    search(state, buffer, place, &sheet.typed.text());
    let set = state.columns();
    let fitted = state.fitted_columns();
    let fits = match fitted.left_out {
        0 => format!("{} columns; all find room", set.0.len()),
        1 => format!("{} columns; 1 finds no room on this screen", set.0.len()),
        some => format!("{} columns; {some} find no room on this screen", set.0.len()),
    };
    put_right(buffer, place.right(), place.y, place.width / 2, &fits, theme.role(Role::Quiet));
    let preview = Rect { x: area.x, y: place.y + 1, width: area.width, height: PREVIEW };
    crate::panes::table::preview(state, buffer, preview);
    let seen = whole.list(area);
    let items = sheet.items(state);
    let (height, from) = (usize::from(seen.area.height), seen.first);
    for (at, what) in items.iter().enumerate().skip(from).take(height) {
        let y = seen.area.y + (at - from) as u16;
        if at == sheet.at {
            choose(state, buffer, place, y);
        }
        let at_place = set.find(*what);
        let number = at_place.map_or("   ".to_owned(), |at| format!("{:>2} ", at + 1));
        let role = if at_place.is_some() { Role::Strong } else { Role::Text };
        let x = put(buffer, place.x, y, 4, &number, theme.role(Role::Accent));
        put(buffer, x, y, 16, what.alias(), theme.role(role));
        let spec = at_place.map(|at| set.0[at]);
        let width = spec.and_then(|spec| spec.width).map_or(String::new(), |width| format!("{width} wide"));
        let unit = spec.and_then(|spec| spec.scale).map_or("", |scale| scale.name);
        put(buffer, x + 17, y, 8, &width, theme.role(Role::Accent));
        put(buffer, x + 26, y, 6, unit, theme.role(Role::Accent));
        let needs = match what {
            What::Metric(metric) => metric.needs,
            _ => None,
        };
        let mut help_x = x + 33;
        if let Some((_, why)) = state.away.iter().find(|(alias, _)| what.alias() == *alias) {
            let text = format!("× not shown: {why} ");
            help_x =
                put(buffer, help_x, y, place.right().saturating_sub(help_x), &text, theme.role(Role::Accent));
        }
        if needs.is_some() {
            let sign = theme.role(Role::Severity(Severity::Notice));
            help_x = put(buffer, help_x, y, 8, "◇ costs ", sign);
        }
        put(buffer, help_x, y, place.right().saturating_sub(help_x), what.help(), theme.role(Role::Quiet));
    }
    let Some(what) = items.get(sheet.at) else { return };
    let (unit, cost) = match what {
        What::Metric(metric) => {
            let cost = metric.needs.map_or("collected anyway".to_owned(), |part| {
                format!("collected only while it is shown, since it takes {}", part.cost())
            });
            (metric.unit.word(), cost)
        }
        _ => ("drawn", "made of what is there".to_owned()),
    };
    let text = format!("{}: {} Unit: {unit}; {cost}.", what.alias(), what.help());
    let below = Rect {
        y: seen.area.bottom() + 1,
        height: place.bottom().saturating_sub(seen.area.bottom() + 1),
        ..place
    };
    paragraph(&state.theme, buffer, below, &text, Role::Text);
}

/// From this width on each setting has its explanation beside it.
const EXPLAINED_FROM: u16 = 110;

fn settings(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, sheet: &SettingsSheet) {
    let place = open(state, buffer, area, "Settings", whole);
    let theme = &state.theme;
    let file = match &state.configured.path {
        Some(path) => format!("kept in {}", from_home(path)),
        None => "there is no home folder to keep them in".to_owned(),
    };
    put(buffer, place.x, place.y, place.width, &file, theme.role(Role::Quiet));
    if let Some(problem) = state.configured.problem() {
        let style = theme.role(Role::Severity(Severity::Warning));
        put(buffer, place.x, place.y + 1, place.width, &format!("▲ {problem}"), style);
    }
    let seen = whole.list(area);
    let (height, from) = (usize::from(seen.area.height), seen.first);
    for (at, setting) in SETTINGS.iter().enumerate().skip(from).take(height) {
        let y = seen.area.y + (at - from) as u16;
        if at == sheet.at {
            choose(state, buffer, place, y);
        }
        let value = setting.get(state);
        let is_default = value == setting.default;
        let role = if is_default { Role::Text } else { Role::Strong };
        put(buffer, place.x + 1, y, 15, setting.name, theme.role(Role::Strong));
        let shown = if value.is_empty() { "none" } else { &value };
        put(buffer, place.x + 17, y, 20, shown, theme.role(role));
        let default = if setting.default.is_empty() { "none" } else { setting.default };
        let explained = place.width > EXPLAINED_FROM;
        let origin = match state.configured.origin(setting.name) {
            Origin::Default if is_default => "default".to_owned(),
            Origin::Default => format!("changed on the screen; default {default}"),
            origin if is_default => origin.words(),
            origin => format!("{}; default {default}", origin.words()),
        };
        let room = if explained { 40 } else { place.width.saturating_sub(36) };
        put(buffer, place.x + 36, y, room, &origin, theme.role(Role::Quiet));
        if explained {
            put(
                buffer,
                place.x + 78,
                y,
                place.width.saturating_sub(78),
                setting.help,
                theme.role(Role::Quiet),
            );
        }
    }
    let setting = &SETTINGS[sheet.at.min(SETTINGS.len() - 1)];
    let choices = setting.choices(state).join(", ");
    let choices = if choices.is_empty() { "enter types a value".to_owned() } else { choices };
    let text = format!("{} One of: {choices}.", setting.help)
        .replace("One of: enter types a value.", "Enter types a value.");
    let below = Rect {
        y: seen.area.bottom() + 1,
        height: place.bottom().saturating_sub(seen.area.bottom() + 1),
        ..place
    };
    paragraph(&state.theme, buffer, below, &text, Role::Text);
}

/// Cells of a value of a comparison.
const VALUE: u16 = 11;

fn compare(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, sheet: &CompareSheet) {
    let title = format!("What differs between A and B: {}", SPANS[sheet.span].0);
    let place = open(state, buffer, area, &title, whole);
    let theme = &state.theme;
    for ((y, letter), side) in (place.y..).zip(["A", "B"]).zip(&sheet.sides) {
        put(buffer, place.x, y, 1, letter, theme.role(Role::Accent));
        let text = format!("{}  {}", side.host.name, span(side, &state.zone));
        put(buffer, place.x + 2, y, place.width - 2, &text, theme.role(Role::Text));
    }
    let list = whole.list(area).area;
    let lines = sheet.lines();
    let (height, first) = (usize::from(list.height), whole.list(area).first);
    for ((y, line), at) in (list.y..list.bottom()).zip(lines.iter().skip(first)).zip(first..) {
        if at == sheet.at {
            choose(state, buffer, place, y);
        }
        match line {
            Differing::Title(title) => compare_title(state, buffer, Rect { y, height: 1, ..list }, title),
            Differing::Pair(pair) => {
                let lane = theme.role(Role::Text);
                put(buffer, list.x + 2, y, 34, &label(pair), lane);
                let mut end = list.x + 36;
                for (text, role) in cells(pair).iter().zip([Role::Quiet, Role::Text, Role::Strong]) {
                    end += VALUE;
                    put_right(buffer, end, y, VALUE, text, theme.role(role));
                }
                put(
                    buffer,
                    end + 3,
                    y,
                    list.right().saturating_sub(end + 3),
                    pair.metric.help,
                    theme.role(Role::Quiet),
                );
            }
            Differing::Process(process) => {
                put(buffer, list.x + 2, y, 26, &who(process), theme.role(Role::Strong));
                put(buffer, list.x + 29, y, 10, &process.user, theme.role(Role::Quiet));
                put(buffer, list.x + 40, y, 9, presence_words(process), theme.role(Role::Accent));
                let x = list.x + 51;
                let text = changes(process).join("   ");
                put(buffer, x, y, list.right().saturating_sub(x), &text, theme.role(Role::Text));
            }
        }
    }
    let more = lines.len().saturating_sub(first + height);
    if more > 0 {
        let text = format!(" {more} more below ");
        put_right(buffer, area.right() - 2, place.y - 1, 20, &text, theme.role(Role::Quiet));
    }
}

fn compare_title(state: &State, buffer: &mut Buffer, area: Rect, title: &str) {
    let theme = &state.theme;
    put(buffer, area.x, area.y, area.width, title, theme.role(Role::Accent));
    if title.contains("machine") || title.contains("parts") {
        let mut end = area.x + 36;
        for word in ["A", "B", "difference"] {
            end += VALUE;
            put_right(buffer, end, area.y, VALUE, word, theme.role(Role::Quiet));
        }
    }
}
