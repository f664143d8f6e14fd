//! Choosing cores from a picture of them: how busy and how warm each is, and which share a cache and a memory node.

use crate::draw::{BARS, put};
use crate::look::theme::Role;
use crate::sheets::{After, Room, Sheet};
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::catalogue::{core_busy, core_temperature};
use dozor_core::cores::CoreSet;
use dozor_core::inside::{CorePlace, Subject, Told};
use dozor_core::known::Raw;
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::ProcessKey;
use dozor_core::units::long_bytes;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};
use ratatui::style::Modifier;

/// Cells of one core.
const CELL: u16 = 23;
const BAR: usize = 5;

/// The cores that are chosen.
pub struct CoresSheet {
    places: Vec<CorePlace>,
    chosen: CoreSet,
    before: Option<CoreSet>,
    at: usize,
}

/// A core and its first cell.
type Place = (usize, u16, u16);

/// Cores that share a cache and a node.
struct Neighbours {
    title: String,
    cores: Vec<usize>,
}

impl CoresSheet {
    /// Begins with those that are allowed now. None where nothing is known of the cores.
    pub fn open(state: &mut State, now: Option<CoreSet>) -> Option<CoresSheet> {
        let sample = state.moment().sample.as_ref()?;
        let numbers = sample.now.cores.iter().filter_map(|core| usize::try_from(core.number.value()?).ok());
        let places: Vec<CorePlace> =
            numbers.map(|number| CorePlace { number, ..CorePlace::default() }).collect();
        let there: CoreSet = places.iter().map(|place| place.number).collect();
        let chosen = now
            .clone()
            .map_or_else(|| there.clone(), |now| now.iter().filter(|core| there.has(*core)).collect());
        state.outbox.push(Effect::Look(ProcessKey { pid: 0, start: 0 }, Subject::Cores));
        (!places.is_empty()).then_some(CoresSheet { places, chosen, before: now, at: 0 })
    }

    /// Cores by what they share, in the order of their numbers.
    fn neighbours(&self) -> Vec<Neighbours> {
        let mut groups: Vec<Neighbours> = vec![];
        let mut keys: Vec<(Raw, &CoreSet)> = vec![];
        for place in &self.places {
            let key = (place.node, &place.cache);
            if let Some(at) = keys.iter().position(|other| *other == key) {
                groups[at].cores.push(place.number);
            } else {
                keys.push(key);
                groups.push(Neighbours { title: title(place), cores: vec![place.number] });
            }
        }
        groups
    }

    fn per_row(place: Rect) -> usize {
        usize::from((place.width / CELL).max(1))
    }

    /// Where each core stands, and the titles above them.
    fn layout(&self, place: Rect) -> (Vec<(u16, String)>, Vec<Place>) {
        let (mut y, mut titles, mut cells) = (place.y + 2, vec![], vec![]);
        for group in self.neighbours() {
            titles.push((y, group.title));
            y += 1;
            for row in group.cores.chunks(Self::per_row(place)) {
                for (column, core) in row.iter().enumerate() {
                    cells.push((*core, place.x + 1 + column as u16 * CELL, y));
                }
                y += 1;
            }
        }
        (titles, cells)
    }

    /// The cores in the order in which they stand.
    fn order(&self) -> Vec<usize> {
        self.neighbours().into_iter().flat_map(|group| group.cores).collect()
    }

    fn core(&self) -> Option<usize> {
        self.order().get(self.at).copied()
    }

    fn turn(&mut self, cores: impl Iterator<Item = usize>) {
        for core in cores {
            self.chosen.turn(core);
        }
    }

    /// All cores that share something with the one that is looked at, or none of them.
    fn turn_neighbours(&mut self) {
        let Some(core) = self.core() else { return };
        let group = self.neighbours().into_iter().find(|group| group.cores.contains(&core));
        let cores = group.map_or(vec![], |group| group.cores);
        let all = cores.iter().all(|core| self.chosen.has(*core));
        let turned: Vec<usize> = cores.into_iter().filter(|core| self.chosen.has(*core) == all).collect();
        self.turn(turned.into_iter());
    }
}

fn title(place: &CorePlace) -> String {
    let mut parts = vec![];
    if let Some(node) = place.node.value() {
        parts.push(format!("memory node {node}"));
    }
    if !place.cache.is_empty() {
        let size = place
            .cache_bytes
            .value()
            .map_or_else(String::new, |bytes| format!(" of {}", long_bytes(bytes as f64)));
        parts.push(format!("cores {} share a cache{size}", place.cache));
    }
    if place.siblings.len() > 1 {
        parts.push(format!("{} to a core", place.siblings.len()));
    }
    if parts.is_empty() { "what they share is not known".to_owned() } else { parts.join(" · ") }
}

impl Sheet for CoresSheet {
    fn title(&self, _state: &State) -> String {
        "Which cores may it use?".to_owned()
    }

    fn room(&self, _height: u16) -> Room {
        let groups = self.neighbours();
        // Three to a row at the least.
        let rows: usize = groups.iter().map(|group| group.cores.len().div_ceil(3) + 1).sum();
        Room::Lines((rows as u16).saturating_add(4).clamp(8, 40))
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![
            ("space", "take or leave"),
            ("arrows", "choose"),
            ("n", "its neighbours"),
            ("a", "all"),
            ("i", "turn round"),
            ("enter", "do it"),
            ("esc", "back"),
        ]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let per_row = usize::from((state.size.0.saturating_sub(4) / CELL).max(1));
        let last = self.places.len().saturating_sub(1);
        match key.code {
            KeyCode::Right => self.at = (self.at + 1).min(last),
            KeyCode::Left => self.at = self.at.saturating_sub(1),
            KeyCode::Down => self.at = (self.at + per_row).min(last),
            KeyCode::Up => self.at = self.at.saturating_sub(per_row),
            KeyCode::Home => self.at = 0,
            KeyCode::End => self.at = last,
            KeyCode::Char(' ') => {
                let core = self.core();
                self.turn(core.into_iter());
            }
            KeyCode::Char('n') => self.turn_neighbours(),
            KeyCode::Char('a') => self.chosen = self.places.iter().map(|place| place.number).collect(),
            KeyCode::Char('i') => {
                let all: Vec<usize> = self.places.iter().map(|place| place.number).collect();
                self.turn(all.into_iter());
            }
            KeyCode::Enter if self.chosen.is_empty() => {
                state.say(Severity::Notice, "it needs at least one core".to_owned());
            }
            KeyCode::Enter => return After::Answer(self.chosen.to_string()),
            _ => {}
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let before = self.before.as_ref().map_or_else(|| "?".to_owned(), ToString::to_string);
        let now = if self.chosen.is_empty() { "none".to_owned() } else { self.chosen.to_string() };
        put(
            buffer,
            place.x,
            place.y,
            place.width,
            &format!("cores {before} → {now}"),
            theme.role(Role::Strong),
        );
        let (titles, cells) = self.layout(place);
        for (y, title) in titles.into_iter().filter(|(y, _)| *y < place.bottom()) {
            put(buffer, place.x, y, place.width, &title, theme.role(Role::Quiet));
        }
        let Some(sample) = &state.moment().sample else { return };
        let looked_at = self.core();
        let all: std::collections::HashMap<i64, _> = sample
            .parts(|reading| &reading.cores[..])
            .filter_map(|core| Some((core.now.number.value()?, core_busy(&core).value())))
            .collect();
        for (core, x, y) in cells.into_iter().filter(|(.., y)| *y < place.bottom()) {
            let (sign, role) =
                if self.chosen.has(core) { ("✓", Role::Accent) } else { ("·", Role::Quiet) };
            let mut style = theme.role(if self.chosen.has(core) { Role::Strong } else { Role::Quiet });
            if looked_at == Some(core) {
                style = style.add_modifier(Modifier::REVERSED);
            }
            put(buffer, x, y, 1, sign, theme.role(role));
            put(buffer, x + 2, y, 4, &format!("{core:>3}"), style);
            let busy = all.get(&(core as i64)).copied().flatten();
            let filled = busy.unwrap_or(0.0) / 100.0 * (BAR * 8) as f64;
            for cell in 0..BAR {
                let part = (filled - (cell * 8) as f64).clamp(0.0, 8.0).round() as usize;
                let bar = if part == 0 { "▁" } else { BARS[part] };
                let role = if part == 0 { Role::Line } else { Role::Lane(Lane::Cpu) };
                put(buffer, x + 6 + cell as u16, y, 1, bar, theme.role(role));
            }
            let busy = busy.map_or_else(|| "–".to_owned(), |busy| format!("{busy:.0} %"));
            let heat = core_temperature(sample, Raw::new(core as i64)).value();
            let heat = heat.map_or_else(String::new, |heat| format!("{heat:.0}°"));
            put(buffer, x + 12, y, 5, &format!("{busy:>5}"), theme.role(Role::Text));
            put(buffer, x + 18, y, 4, &format!("{heat:>3}"), theme.role(Role::Lane(Lane::Heat)));
        }
    }

    fn clicked_at(&mut self, at: Position, place: Rect, _state: &mut State) -> Option<After> {
        let (_, cells) = self.layout(place);
        let (core, ..) =
            cells.into_iter().find(|(_, x, y)| at.y == *y && (*x..*x + CELL - 1).contains(&at.x))?;
        self.at = self.order().iter().position(|other| *other == core)?;
        self.turn(std::iter::once(core));
        Some(After::Stay)
    }

    fn told(&mut self, _key: ProcessKey, told: &Told, _state: &mut State) {
        if let Told::Cores(places) = told {
            self.places.clone_from(places);
        }
    }
}
