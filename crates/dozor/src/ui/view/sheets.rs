//! What is open over the screen.

use super::put;
use crate::ui::action::{ACTIONS, Action, Topic};
use crate::ui::sheet::{ActSheet, NAMED, OrderSheet, Sheet};
use crate::ui::state::State;
use crate::ui::theme::{Ground, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::widgets::{Clear, Widget as _};

/// Draws the open sheet.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(open) = &state.sheet else { return };
    match open {
        Sheet::Act(sheet) => act(state, buffer, area, open, sheet),
        Sheet::Order(sheet) => order(state, buffer, area, open, sheet),
        Sheet::Help(_) => help(state, buffer, area, open),
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
    let mut y = place.y;
    let mut line = |text: &str| {
        if y < list.area.y {
            put(buffer, place.x, y, place.width, text, state.theme.role(Role::Text));
            y += 1;
        }
    };
    if targets.len() > 1 {
        for target in targets.iter().take(NAMED) {
            let children = children_words(target.children);
            line(&format!("✓ {} of {}{children}", target.label(), target.user));
        }
        if targets.len() > NAMED {
            line(&format!("  and {} more", targets.len() - NAMED));
        }
    } else if let Some(one) = targets.first()
        && one.children > 0
    {
        line(children_words(one.children).trim_start_matches([',', ' ']));
    }
    let (height, from) = (usize::from(list.area.height), list.first);
    for (at, signal) in sheet.signals.iter().enumerate().skip(from).take(height) {
        let y = list.area.y + (at - from) as u16;
        let chosen = at == sheet.at;
        if chosen {
            let row = Rect { x: place.x.saturating_sub(1), y, width: place.width + 1, height: 1 };
            buffer.set_style(row, state.theme.ground(Ground::Selected));
            put(buffer, place.x - 1, y, 1, "▸", state.theme.role(Role::Accent));
        }
        let role = if chosen { Role::Strong } else { Role::Text };
        let name = format!("{:<9} {:>2}", signal.name, signal.number);
        put(buffer, place.x + 1, y, 13, &name, state.theme.role(Role::Quiet));
        put(buffer, place.x + 15, y, place.width.saturating_sub(15), &signal.words, state.theme.role(role));
    }
}

fn children_words(children: usize) -> String {
    match children {
        0 => String::new(),
        1 => ", its child lives on when it ends".to_owned(),
        many => format!(", its {many} children live on when it ends"),
    }
}

fn order(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet, sheet: &OrderSheet) {
    let place = open(state, buffer, area, "Order processes by", whole);
    let typed = sheet.typed.text();
    let x = put(buffer, place.x, place.y, 10, "search ", state.theme.role(Role::Quiet));
    let x = put(buffer, x, place.y, 40, &typed, state.theme.role(Role::Strong));
    put(buffer, x, place.y, 1, " ", state.theme.role(Role::Strong).add_modifier(Modifier::REVERSED));
    let list = sheet.matching();
    let seen = whole.list(area);
    let (height, from) = (usize::from(seen.area.height), seen.first);
    for (at, metric) in list.iter().enumerate().skip(from).take(height) {
        let y = seen.area.y + (at - from) as u16;
        if at == sheet.at {
            let row = Rect { x: place.x.saturating_sub(1), y, width: place.width + 1, height: 1 };
            buffer.set_style(row, state.theme.ground(Ground::Selected));
            put(buffer, place.x - 1, y, 1, "▸", state.theme.role(Role::Accent));
        }
        let present = if *metric == state.order.metric { "now" } else { "" };
        put(buffer, place.x + 1, y, 15, metric.alias, state.theme.role(Role::Strong));
        put(buffer, place.x + 17, y, 4, present, state.theme.role(Role::Accent));
        put(
            buffer,
            place.x + 21,
            y,
            place.width.saturating_sub(21),
            metric.help,
            state.theme.role(Role::Quiet),
        );
    }
    if list.is_empty() {
        put(buffer, place.x + 1, place.y + 2, 40, "no metric contains that", state.theme.role(Role::Quiet));
    }
}

/// A line of the help page: keys and what they do, or a title without keys.
pub struct HelpLine {
    keys: String,
    text: String,
    /// What a click on it does.
    pub action: Option<Action>,
}

/// Lines of the help page.
pub fn help_lines(state: &State) -> Vec<HelpLine> {
    let plain =
        |keys: &str, text: &str| HelpLine { keys: keys.to_owned(), text: text.to_owned(), action: None };
    let mut lines = vec![];
    for topic in Topic::ALL {
        lines.push(plain("", topic.title()));
        for entry in ACTIONS.iter().filter(|entry| entry.topic == topic) {
            let text = format!("{}: {}", entry.name, entry.help);
            lines.push(HelpLine { keys: entry.keys.join("  "), text, action: Some(entry.action) });
        }
        lines.push(plain("", ""));
    }
    lines.push(plain("", "Mouse"));
    for (what, text) in [
        ("click", "Chooses what is under it: a lane, a part, a row, a moment, a hint, a line of this page."),
        ("heading", "Orders by the column; again: the other way."),
        ("drag", "The time cursor over the strips, the scroll bar, a lane's name to another place."),
        ("wheel", "Moves rows and parts; over the strips more or less time."),
        ("right click", "On a lane's name: folds it."),
    ] {
        lines.push(plain(what, text));
    }
    lines.push(plain("", ""));
    lines.push(plain("", "Signs"));
    for (signs, text) in [
        ("· ◇ ▲ ◆", "Fine, notice, warning, critical."),
        ("– ×", "Unknown; not permitted (run Dozor as root to see it)."),
        ("_ ┄", "On a strip: zero; a gap, in which nothing is known."),
        ("✶ ⚑", "On the time axis: something was done; a bookmark."),
        ("+", "Before a process: it has just started. Just gone says so in its state."),
        (">1:00", "Near the top for at least so long: what was before was not followed."),
        ("×n", "A receding row with a count: processes that came and went between two readings."),
    ] {
        lines.push(plain(signs, text));
    }
    lines.push(plain("", ""));
    lines.push(plain("", "This machine"));
    let host = state.timeline.host();
    lines.push(plain(&host.name, &format!("{}, {}, {} cores", host.kernel, host.cpu_model, host.cores)));
    if let Some(recording) = &state.recording {
        lines.push(plain("● rec", &format!("Recording into {}.", recording.path.display())));
    }
    lines
}

fn help(state: &State, buffer: &mut Buffer, area: Rect, whole: &Sheet) {
    let place = open(state, buffer, area, "Help", whole);
    let lines = help_lines(state).into_iter().skip(whole.list(area).first);
    for (y, HelpLine { keys, text, .. }) in (place.top()..place.bottom()).zip(lines) {
        if keys.is_empty() {
            put(buffer, place.x, y, place.width, &text, state.theme.role(Role::Accent));
        } else {
            put(buffer, place.x + 2, y, 18, &keys, state.theme.role(Role::Strong));
            put(buffer, place.x + 21, y, place.width.saturating_sub(21), &text, state.theme.role(Role::Text));
        }
    }
}
