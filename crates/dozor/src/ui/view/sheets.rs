//! What is open over the screen.

use super::put;
use crate::ui::action::{ACTIONS, Topic};
use crate::ui::sheet::{ActSheet, OrderSheet, Sheet};
use crate::ui::state::State;
use crate::ui::theme::{Ground, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::widgets::{Clear, Widget as _};

/// Draws the open sheet.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect) {
    match &state.sheet {
        Some(Sheet::Act(sheet)) => act(state, buffer, area, sheet),
        Some(Sheet::Order(sheet)) => order(state, buffer, area, sheet),
        Some(Sheet::Help(scroll)) => help(state, buffer, area, *scroll),
        None => {}
    }
}

/// Clears room for a sheet over the lower part of the screen and gives the place of its text.
fn open(state: &State, buffer: &mut Buffer, area: Rect, title: &str, height: u16) -> Rect {
    let height = height.min(area.height.saturating_sub(2));
    let sheet = Rect { y: area.bottom() - 1 - height, height, ..area };
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
    Rect { x: sheet.x + 2, y: sheet.y + 1, width: sheet.width - 4, height: height - 1 }
}

/// The lines of a list that can be seen, scrolled so that the chosen one is among them.
fn window(chosen: usize, height: usize) -> usize {
    (chosen + 1).saturating_sub(height)
}

fn act(state: &State, buffer: &mut Buffer, area: Rect, sheet: &ActSheet) {
    let targets = &sheet.targets;
    let title = match &targets[..] {
        [one] => format!("What shall happen to {} of {}?", one.label(), one.user),
        many => format!("What shall happen to these {} processes?", many.len()),
    };
    let most_named = 6;
    let named = if targets.len() > 1 { targets.len().min(most_named) + 1 } else { 1 };
    let place = open(state, buffer, area, &title, named as u16 + 12);
    let mut y = place.y;
    let mut line = |text: &str, role: Role| {
        if y < place.bottom() {
            put(buffer, place.x, y, place.width, text, state.theme.role(role));
            y += 1;
        }
    };
    if targets.len() > 1 {
        for target in targets.iter().take(most_named) {
            let children = children_words(target.children);
            line(&format!("✓ {} of {}{children}", target.label(), target.user), Role::Text);
        }
        if targets.len() > most_named {
            line(&format!("  and {} more", targets.len() - most_named), Role::Text);
        }
    } else if let Some(one) = targets.first()
        && one.children > 0
    {
        line(children_words(one.children).trim_start_matches([',', ' ']), Role::Text);
    }
    line("", Role::Text);
    let height = usize::from(place.bottom().saturating_sub(y));
    let from = window(sheet.at, height);
    for (at, signal) in sheet.signals.iter().enumerate().skip(from).take(height) {
        let y = y + (at - from) as u16;
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

fn order(state: &State, buffer: &mut Buffer, area: Rect, sheet: &OrderSheet) {
    let place = open(state, buffer, area, "Order processes by", 18);
    let typed = sheet.typed.text();
    let x = put(buffer, place.x, place.y, 10, "search ", state.theme.role(Role::Quiet));
    let x = put(buffer, x, place.y, 40, &typed, state.theme.role(Role::Strong));
    put(buffer, x, place.y, 1, " ", state.theme.role(Role::Strong).add_modifier(Modifier::REVERSED));
    let list = sheet.matching();
    let height = usize::from(place.height.saturating_sub(2));
    let from = window(sheet.at, height);
    for (at, metric) in list.iter().enumerate().skip(from).take(height) {
        let y = place.y + 2 + (at - from) as u16;
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

/// Lines of the help page: keys and what they do, or a title without keys.
pub fn help_lines(state: &State) -> Vec<(String, String)> {
    let mut lines = vec![];
    for topic in Topic::ALL {
        lines.push((String::new(), topic.title().to_owned()));
        for entry in ACTIONS.iter().filter(|entry| entry.topic == topic) {
            lines.push((entry.keys.join("  "), format!("{}: {}", entry.name, entry.help)));
        }
        lines.push((String::new(), String::new()));
    }
    lines.push((String::new(), "Signs".to_owned()));
    lines.push(("· ◇ ▲ ◆".to_owned(), "Fine, notice, warning, critical.".to_owned()));
    lines.push(("– ×".to_owned(), "Unknown; not permitted (run Dozor as root to see it).".to_owned()));
    lines.push((String::new(), String::new()));
    lines.push((String::new(), "This machine".to_owned()));
    let host = state.timeline.host();
    lines.push((host.name.clone(), format!("{}, {}, {} cores", host.kernel, host.cpu_model, host.cores)));
    if let Some(recording) = &state.recording {
        lines.push(("● rec".to_owned(), format!("Recording into {}.", recording.path.display())));
    }
    lines
}

fn help(state: &State, buffer: &mut Buffer, area: Rect, scroll: usize) {
    let place = open(state, buffer, area, "Help", area.height);
    for (y, (keys, text)) in (place.top()..place.bottom()).zip(help_lines(state).into_iter().skip(scroll)) {
        if keys.is_empty() {
            put(buffer, place.x, y, place.width, &text, state.theme.role(Role::Accent));
        } else {
            put(buffer, place.x + 2, y, 18, &keys, state.theme.role(Role::Strong));
            put(buffer, place.x + 21, y, place.width.saturating_sub(21), &text, state.theme.role(Role::Text));
        }
    }
}
