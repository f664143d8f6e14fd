//! Choosing columns, their order, widths and units.

use super::prompt::{Prompt, Purpose};
use super::{After, EXPLAINED, List, Room, Searched, Sheet, explain, moves, search_line, seen};
use crate::draw::{put, put_right};
use crate::look::columns::{ColumnSet, OWN, What, metrics};
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::panes::table;
use crate::state::State;
use dozor_core::lane::{Lane, Severity};
use dozor_core::sorting::ColdSort as _;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

/// Lines of the table that show what the chosen columns look like.
const PREVIEW: u16 = 4;

/// Columns of a lane, and all others that there could be, narrowed by what is typed.
#[derive(Clone, Debug, Default)]
pub struct ColumnsSheet {
    search: Searched,
    /// The named set that was taken last.
    set: Option<String>,
}

impl ColumnsSheet {
    /// Columns that match: those of the lane in their order, then the others.
    fn items(&self, state: &State) -> Vec<What> {
        let typed = self.search.words();
        let own = OWN
            .iter()
            .filter(|(_, alias, help)| alias.contains(&typed) || help.to_lowercase().contains(&typed));
        let all = metrics(&typed).into_iter().map(What::Metric).chain(own.map(|(what, ..)| *what));
        let set = state.columns();
        let mut all: Vec<What> = all.collect();
        // Those that are found by their name first, then those that are shown, in their order.
        all.cold_sort_by_key(|what| {
            let by_help = !what.alias().contains(&typed);
            (by_help, set.find(*what).unwrap_or(usize::MAX))
        });
        all
    }

    fn chosen(&self, state: &State) -> Option<What> {
        self.items(state).get(self.search.at).copied()
    }

    /// Stays at a column, wherever it is now.
    fn follow(&mut self, state: &State, what: What) {
        if let Some(at) = self.items(state).iter().position(|other| *other == what) {
            self.search.at = at;
        }
    }

    /// Shows a column or takes it out; the sheet stays at it.
    fn toggle(&mut self, state: &mut State, what: What) {
        state.edit_columns(|set| set.toggle(what));
        // A new column stands behind the others; where there is no room for it there, it goes before some of them.
        let shown = |state: &State| match what {
            // It comes when it has a value; no place would show it sooner.
            What::Metric(metric) if state.moment().away.iter().any(|(alias, _)| *alias == metric.alias) => {
                true
            }
            What::Metric(metric) => state.fitted_columns().list.iter().any(|column| column.metric == metric),
            What::Trend => state.fitted_columns().trend.is_some(),
            What::NearTop => state.fitted_columns().on_top.is_some(),
        };
        for _ in 0..state.columns().find(what).unwrap_or(0) {
            if shown(state) {
                break;
            }
            state.edit_columns(|set| set.shift(what, false));
        }
        self.follow(state, what);
    }

    /// Takes the next of the saved sets for this lane.
    fn next_set(&mut self, state: &mut State) {
        let names: Vec<&String> = state.values.configured.column_sets.keys().collect();
        if names.is_empty() {
            let text = "no set is saved yet; ctrl-s saves this one under a name".to_owned();
            state.say(Severity::Notice, text);
            return;
        }
        let at = self.set.as_ref().and_then(|name| names.iter().position(|other| *other == name));
        let name = names[at.map_or(0, |at| (at + 1) % names.len())].clone();
        state.take_columns(&name);
        self.set = Some(name);
    }
}

/// A column, where it stands, its width and unit, and what it means.
fn draw_line(state: &State, buffer: &mut Buffer, place: Rect, y: u16, what: What) {
    let theme = &state.theme;
    let set: &ColumnSet = state.columns();
    let at_place = set.find(what);
    let number = at_place.map_or("   ".to_owned(), |at| format!("{:>2} ", at + 1));
    let role = if at_place.is_some() { Role::Strong } else { Role::Text };
    let x = put(buffer, place.x, y, 4, &number, theme.role(Role::Accent));
    put(buffer, x, y, 16, what.alias(), theme.role(role));
    let spec = at_place.map(|at| set.0[at]);
    let width = spec.and_then(|spec| spec.width).map_or(String::new(), |width| format!("{width} wide"));
    let unit = spec.and_then(|spec| spec.scale).map_or("", |scale| scale.name);
    put(buffer, x + 17, y, 8, &width, theme.role(Role::Accent));
    put(buffer, x + 26, y, 6, unit, theme.role(Role::Accent));
    let room = |x: u16| place.right().saturating_sub(x);
    let mut help_x = x + 33;
    if let Some((_, why)) = state.moment().away.iter().find(|(alias, _)| what.alias() == *alias) {
        let text = format!("× not shown: {why} ");
        help_x = put(buffer, help_x, y, room(help_x), &text, theme.role(Role::Accent));
    }
    if what.needs().is_some() {
        let sign = theme.role(Role::Severity(Severity::Notice));
        help_x = put(buffer, help_x, y, 8, "◇ costs ", sign);
    }
    put(buffer, help_x, y, room(help_x), what.help(), theme.role(Role::Quiet));
}

/// What a column is, in whole sentences.
fn explanation(what: What) -> String {
    let (unit, cost) = match what {
        What::Metric(metric) => {
            let cost = metric.needs.map_or("collected anyway".to_owned(), |part| {
                format!("collected only while it is shown, since it takes {}", part.cost())
            });
            (metric.unit.word(), cost)
        }
        What::Trend | What::NearTop => ("drawn", "made of what is there".to_owned()),
    };
    format!("{}: {} Unit: {unit}; {cost}.", what.alias(), what.help())
}

impl Sheet for ColumnsSheet {
    fn title(&self, state: &State) -> String {
        let name = state.values.lane.map_or("the overview", Lane::name);
        let set = self.set.as_ref().map(|set| format!(", saved as '{set}'")).unwrap_or_default();
        format!("Columns of {name}{set}")
    }

    fn room(&self, height: u16) -> Room {
        Room::Lines((height * 2 / 3).max(18))
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![
            ("enter", "show or not"),
            ("shift ↑ ↓", "place"),
            ("← →", "width"),
            ("tab", "unit"),
            ("ctrl-s", "save as"),
            ("ctrl-n", "next saved"),
            ("ctrl-d", "usual"),
            ("letters", "search"),
            ("esc", "close"),
        ]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let chosen = self.chosen(state);
        let shift = key.modifiers.contains(KeyModifiers::SHIFT);
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        match (key.code, chosen) {
            (KeyCode::Up | KeyCode::Down, what) if shift => {
                if let Some(what) = what {
                    state.edit_columns(|set| set.shift(what, key.code == KeyCode::Down));
                    self.follow(state, what);
                }
            }
            (KeyCode::Left | KeyCode::Right, what) => {
                if let Some(what) = what {
                    state.edit_columns(|set| set.widen(what, key.code == KeyCode::Right));
                }
            }
            (KeyCode::Enter, what) => {
                if let Some(what) = what {
                    self.toggle(state, what);
                }
            }
            (KeyCode::Tab, what) => {
                if let Some(what) = what {
                    state.edit_columns(|set| set.next_scale(what));
                }
            }
            (KeyCode::Char('s'), _) if control => {
                let name = self.set.clone().unwrap_or_default();
                return After::Open(Box::new(Prompt::new(Purpose::Columns, &name)));
            }
            (KeyCode::Char('n'), _) if control => self.next_set(state),
            (KeyCode::Char('d'), _) if control => state.usual_columns(),
            _ => {
                let lines = self.items(state).len();
                if !moves(&mut self.search.at, lines, key) {
                    self.search.search(key);
                }
            }
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        search_line(theme, buffer, place, &self.search.typed);
        let count = state.columns().0.len();
        let fits = match state.fitted_columns().left_out {
            0 => format!("{count} columns; all find room"),
            1 => format!("{count} columns; 1 finds no room on this screen"),
            some => format!("{count} columns; {some} find no room on this screen"),
        };
        put_right(buffer, place.right(), place.y, place.width / 2, &fits, theme.role(Role::Quiet));
        let preview = Rect { x: place.x - 2, y: place.y + 1, width: place.width + 4, height: PREVIEW };
        table::preview(state, buffer, preview);
        let list = seen(self, place, self.search.at);
        list.draw(theme, buffer, &self.items(state), |buffer, y, what, _| {
            draw_line(state, buffer, place, y, *what);
        });
        if let Some(what) = self.chosen(state) {
            explain(theme, buffer, place, list.area, &explanation(what));
        }
    }

    fn list(&mut self, state: &State) -> Option<List<'_>> {
        let lines = self.items(state).len();
        Some(List { at: &mut self.search.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (2 + PREVIEW, EXPLAINED)
    }

    fn clicked(&mut self, state: &mut State) -> After {
        if let Some(what) = self.chosen(state) {
            self.toggle(state, what);
        }
        After::Stay
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn answered(&mut self, name: &str, state: &mut State) -> Result<After, String> {
        state.save_columns(name);
        self.set = Some(name.to_owned());
        Ok(After::Stay)
    }
}
