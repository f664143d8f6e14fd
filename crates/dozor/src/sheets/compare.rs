//! Comparing two moments: the first is remembered, the second opens the sheet.

use super::{After, List, Room, Sheet, more_below, moves, moving, seen};
use crate::draw::{put, put_right};
use crate::look::action::Action;
use crate::look::theme::Role;
use crate::state::State;
use crate::state::data::Stay;
use dozor_core::compare::words::{cells, changes, label, presence_words, span, who};
use dozor_core::compare::{Compared, Comparison, Pair, Presence, Side, compare};
use dozor_core::lane::Severity;
use dozor_core::recording::ReadError;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// Spans up to the compared moments: in words and in seconds; the sample alone first.
const SPANS: [(&str, i64); 6] = [
    ("single samples", 0),
    ("10 s up to each", 10),
    ("1 min up to each", 60),
    ("5 min up to each", 300),
    ("15 min up to each", 900),
    ("1 h up to each", 3_600),
];
/// Cells of a value.
const VALUE: u16 = 11;

/// What differs between two moments.
pub struct CompareSheet {
    /// The moments, in nanoseconds since 1970.
    walls: [i64; 2],
    /// Place among [`SPANS`].
    span: usize,
    sides: [Side; 2],
    comparison: Comparison,
    /// The line that is looked at.
    at: usize,
}

/// A line of a comparison.
#[derive(Clone, Copy, Debug)]
enum Line<'a> {
    Title(&'static str),
    /// A metric of the machine or of one of its parts.
    Pair(&'a Pair),
    Process(&'a Compared),
}

impl CompareSheet {
    /// Remembers the shown moment, or compares it with the one that is remembered.
    pub fn open(state: &mut State) -> Option<CompareSheet> {
        let wall = state.shown_wall()?;
        match state.time().remembered {
            Some(first) if first != wall => {
                let sheet = CompareSheet::of(state, [first, wall], 0)?;
                state.unsay();
                return Some(sheet);
            }
            Some(_) => {
                state.remember(None);
                state.say(Severity::Fine, "no moment is remembered any more".to_owned());
            }
            None => {
                state.remember(Some(wall));
                let text = format!(
                    "A is {}; go to another moment and press {} again to see what differs",
                    state.time().zone.time(wall),
                    state.key(Action::Difference)
                );
                state.say_for(Severity::Fine, text, Stay::Long);
            }
        }
        None
    }

    fn of(state: &mut State, walls: [i64; 2], span: usize) -> Option<CompareSheet> {
        match sides(state, walls, span) {
            Ok([a, b]) => {
                let comparison = compare(&a, &b);
                let mut sheet = CompareSheet { walls, span, sides: [a, b], comparison, at: 0 };
                // The first line is a title.
                sheet.at = usize::from(sheet.lines().len() > 1);
                Some(sheet)
            }
            Err(error) => {
                state.say(Severity::Warning, format!("a moment cannot be read: {error}"));
                None
            }
        }
    }

    /// Looks at other moments or at another span.
    fn turn(&mut self, state: &mut State, walls: [i64; 2], span: usize) {
        if let Some(other) = CompareSheet::of(state, walls, span) {
            state.unsay();
            *self = other;
        }
    }

    /// The machine, the processes, the parts.
    fn lines(&self) -> Vec<Line<'_>> {
        /// What weighs less is left to the command line.
        const LEAST: f64 = 0.01;
        const MOST: usize = 100;
        // A tick more or less of a process that hardly runs is none.
        const NOISE: f64 = 0.05;
        let Comparison { machine, parts, processes, by_program } = &self.comparison;
        let mut lines = vec![];
        let heavy = |pair: &&Pair| pair.weight >= LEAST;
        if processes.is_empty() && machine.is_empty() && parts.is_empty() {
            lines.push(Line::Title("nothing differs"));
        }
        if !processes.is_empty() {
            let title = if *by_program { "Programs" } else { "Processes" };
            lines.push(Line::Title(title));
            // Those that are there or not matter whatever they do.
            let light = |process: &&Compared| process.weight < NOISE && process.presence == Presence::Both;
            let few = processes.iter().filter(|process| !light(process)).take(MOST);
            lines.extend(few.map(Line::Process));
        }
        for (title, pairs) in [("The machine", machine), ("Its parts", parts)] {
            if pairs.iter().any(|pair| heavy(&pair)) {
                lines.push(Line::Title(title));
                lines.extend(pairs.iter().filter(heavy).map(Line::Pair));
            }
        }
        lines
    }

    /// Goes to where the chosen line is seen: to the second moment, or to the only one at which a process is there, and
    /// selects it.
    fn look(&self, state: &mut State) -> After {
        let (pid, side) = match self.lines().get(self.at) {
            Some(Line::Process(process)) => {
                (process.pid, usize::from(process.presence != Presence::Vanished))
            }
            Some(Line::Pair(_)) => (None, 1),
            Some(Line::Title(_)) | None => return After::Stay,
        };
        state.go_to_sample(state.time().timeline.at(self.walls[side]));
        if let Some(pid) = pid {
            state.select_pid(pid);
        }
        After::Close
    }
}

fn sides(state: &mut State, walls: [i64; 2], span: usize) -> Result<[Side; 2], ReadError> {
    let mut side = |wall: i64| {
        let timeline = &state.time().timeline;
        let last = timeline.at(wall);
        let first = match SPANS[span].1 {
            0 => last,
            // The span ends at the moment; the sample that it begins in belongs to it.
            seconds => (timeline.at(wall - seconds * 1_000_000_000) + 1).min(last),
        };
        state.side(first..=last)
    };
    Ok([side(walls[0])?, side(walls[1])?])
}

fn draw_title(state: &State, buffer: &mut Buffer, list: Rect, y: u16, title: &str) {
    let theme = &state.theme;
    put(buffer, list.x, y, list.width, title, theme.role(Role::Accent));
    if title.contains("machine") || title.contains("parts") {
        let mut end = list.x + 36;
        for word in ["A", "B", "difference"] {
            end += VALUE;
            put_right(buffer, end, y, VALUE, word, theme.role(Role::Quiet));
        }
    }
}

fn draw_pair(state: &State, buffer: &mut Buffer, list: Rect, y: u16, pair: &Pair) {
    let theme = &state.theme;
    put(buffer, list.x + 2, y, 34, &label(pair), theme.role(Role::Text));
    let mut end = list.x + 36;
    for (text, role) in cells(pair).iter().zip([Role::Quiet, Role::Text, Role::Strong]) {
        end += VALUE;
        put_right(buffer, end, y, VALUE, text, theme.role(role));
    }
    let x = end + 3;
    put(buffer, x, y, list.right().saturating_sub(x), pair.metric.help, theme.role(Role::Quiet));
}

fn draw_process(state: &State, buffer: &mut Buffer, list: Rect, y: u16, process: &Compared) {
    let theme = &state.theme;
    put(buffer, list.x + 2, y, 26, &who(process), theme.role(Role::Strong));
    put(buffer, list.x + 29, y, 10, &process.user, theme.role(Role::Quiet));
    put(buffer, list.x + 40, y, 9, presence_words(process), theme.role(Role::Accent));
    let x = list.x + 51;
    let text = changes(process).join("   ");
    put(buffer, x, y, list.right().saturating_sub(x), &text, theme.role(Role::Text));
}

impl Sheet for CompareSheet {
    fn title(&self, _state: &State) -> String {
        format!("What differs between A and B: {}", SPANS[self.span].0)
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![
            ("↑ ↓", "choose"),
            ("enter", "look there"),
            ("+ -", "longer or shorter"),
            ("tab", "swap"),
            ("a b", "to A or B"),
            ("n", "B becomes A"),
            ("esc", "close"),
        ]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.lines().len();
        if moves(&mut self.at, lines, &moving(state, key)) {
            return After::Stay;
        }
        let (walls, span) = (self.walls, self.span);
        match key.code {
            KeyCode::Char('+' | '=') => self.turn(state, walls, (span + 1).min(SPANS.len() - 1)),
            KeyCode::Char('-') => self.turn(state, walls, span.saturating_sub(1)),
            KeyCode::Tab => self.turn(state, [walls[1], walls[0]], span),
            KeyCode::Enter => return self.look(state),
            KeyCode::Char('a' | 'b') => {
                let wall = walls[usize::from(key.code == KeyCode::Char('b'))];
                state.go_to_sample(state.time().timeline.at(wall));
                return After::Close;
            }
            KeyCode::Char('n') => {
                // The second moment becomes the first of the next comparison.
                state.remember(Some(walls[1]));
                state.say(Severity::Fine, format!("A is now {}", state.time().zone.time(walls[1])));
                return After::Close;
            }
            _ => {}
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        for ((y, letter), side) in (place.y..).zip(["A", "B"]).zip(&self.sides) {
            put(buffer, place.x, y, 1, letter, theme.role(Role::Accent));
            let text = format!("{}  {}", side.host.name, span(side, &state.time().zone));
            put(buffer, place.x + 2, y, place.width - 2, &text, theme.role(Role::Text));
        }
        let (list, lines) = (seen(self, place, self.at), self.lines());
        list.draw(theme, buffer, &lines, |buffer, y, line, _| match line {
            Line::Title(title) => draw_title(state, buffer, list.area, y, title),
            Line::Pair(pair) => draw_pair(state, buffer, list.area, y, pair),
            Line::Process(process) => draw_process(state, buffer, list.area, y, process),
        });
        more_below(theme, buffer, place, list.more(lines.len()));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.lines().len();
        Some(List { at: &mut self.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (3, 0)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Difference)
    }

    /// Whoever leaves it begins anew.
    fn closed(&mut self, state: &mut State) {
        state.remember(None);
    }
}
