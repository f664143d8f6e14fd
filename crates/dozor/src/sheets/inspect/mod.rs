//! The inspector: everything about one process over the whole screen, with the time axis above. What is asked of the present
//! is asked while the present is shown; at another moment there is what was recorded, and the rest says that it was not.

mod drawing;
mod head;
mod pages;
mod table;

use super::act::ActSheet;
use super::{After, List, Room, Sheet, moves, moving};
use crate::look::action::{Action, Topic, entry_of};
use crate::state::State;
use crate::state::data::{Mode, Stay};
use crate::state::effect::Effect;
use crate::state::series::Series;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::{Connection, Facts, Look, Memory, OpenFile, Subject, Thread, Told};
use dozor_core::known::{Known, Raw};
use dozor_core::lane::Severity;
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::recording::MarkKind;
use dozor_core::row::Row as _;
use dozor_core::sample::ProcessView;
use dozor_core::text::Text;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};
use std::collections::{HashMap, HashSet};
use std::time::Duration;

/// Times of a close look; each press of its key while it goes on asks for the next.
const LOOKS: [u64; 3] = [5, 30, 120];
/// With more threads the first page shows none of them.
const MOST_THREADS: i64 = 64;

/// What can be looked at of a process.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Page {
    /// Who it is, where its time goes, what it moves through.
    It,
    /// Its threads.
    Threads,
    /// Its open files.
    Files,
    /// Its sockets.
    Sockets,
    /// Its memory.
    Memory,
    /// Its environment.
    Environment,
    /// What it does with signals.
    Signals,
    /// Children that ended.
    Ended,
    /// Restarts, actions, notes.
    History,
}

impl Page {
    const ALL: [Page; 9] = [
        Page::It,
        Page::Threads,
        Page::Files,
        Page::Sockets,
        Page::Memory,
        Page::Environment,
        Page::Signals,
        Page::Ended,
        Page::History,
    ];

    const fn word(self) -> &'static str {
        match self {
            Page::It => "it",
            Page::Threads => "threads",
            Page::Files => "files",
            Page::Sockets => "sockets",
            Page::Memory => "memory",
            Page::Environment => "environment",
            Page::Signals => "signals",
            Page::Ended => "ended",
            Page::History => "history",
        }
    }

    /// What it asks for beside the facts.
    const fn subject(self) -> Option<Subject> {
        match self {
            Page::Threads => Some(Subject::Threads),
            Page::It | Page::Files => Some(Subject::Files),
            Page::Sockets => Some(Subject::Sockets),
            Page::Memory => Some(Subject::Memory),
            Page::Environment => Some(Subject::Environment),
            Page::Signals | Page::Ended | Page::History => None,
        }
    }

    /// The column that orders it at first, and whether the other way: what one looks for is on top.
    const fn order(self) -> (usize, bool) {
        match self {
            Page::Threads => (2, false),
            Page::Files => (5, false),
            Page::Sockets => (6, false),
            Page::Signals => (0, true),
            Page::Environment => (0, false),
            Page::It | Page::Memory | Page::Ended | Page::History => (0, false),
        }
    }
}

/// The last two answers, the older one first.
type Two<T> = (Option<Look<Known<T>>>, Option<Look<Known<T>>>);

/// A close look at it.
struct Closely {
    look: CloseLook,
    /// It goes on.
    goes_on: bool,
    /// Place among [`LOOKS`].
    time: usize,
}

/// One process that is looked into.
pub struct Inspector {
    key: ProcessKey,
    name: Text,
    user: Text,
    service: Text,
    /// All lives of the program that were looked at, this one among them.
    lives: Vec<ProcessKey>,
    /// It goes on with the next life of the program.
    follows: bool,
    /// What happened to it while it was looked at, with the instant, in words.
    happened: Vec<(i64, String)>,
    /// It was said that it is gone.
    said_gone: bool,
    page: Page,
    /// The chosen row of each page, and what orders it.
    at: HashMap<Page, usize>,
    orders: HashMap<Page, (usize, bool)>,
    /// Secrets of the environment are shown.
    secrets: bool,
    series: Series,
    asked: HashSet<Subject>,
    facts: Option<Box<Facts>>,
    threads: Two<Vec<Thread>>,
    files: Two<Vec<OpenFile>>,
    sockets: Two<Vec<Connection>>,
    memory: Option<Box<Memory>>,
    environment: Option<Known<Vec<(String, String)>>>,
    closely: Option<Closely>,
}

impl Inspector {
    /// Of the selected process; where there is none, says so.
    pub fn open(state: &mut State) -> Option<Inspector> {
        let key = state.process_to_inspect()?;
        Inspector::of(state, key)
    }

    /// Of this process.
    pub fn of(state: &mut State, key: ProcessKey) -> Option<Inspector> {
        let sample = state.moment().sample.as_ref()?;
        let row = sample.now.processes.get(sample.find(key)?)?;
        let (name, user, service) = (row.name.clone(), row.user.clone(), row.service.clone());
        let mut inspector = Inspector {
            key,
            name,
            user,
            service,
            lives: vec![key],
            follows: false,
            happened: vec![],
            said_gone: false,
            page: Page::It,
            at: HashMap::new(),
            orders: HashMap::new(),
            secrets: false,
            series: Series::default(),
            asked: HashSet::new(),
            facts: None,
            threads: (None, None),
            files: (None, None),
            sockets: (None, None),
            memory: None,
            environment: None,
            closely: None,
        };
        inspector.ask(state);
        // The strips of what is kept decoded are there at once.
        inspector.series.of(&inspector.lives);
        inspector.series.follow(state);
        Some(inspector)
    }

    /// Name and PID.
    pub fn label(&self) -> String {
        format!("{}[{}]", self.name, self.key.pid)
    }

    /// Whether it can be asked: the present of a machine that is here is shown.
    pub fn asks(state: &State) -> bool {
        state.time().mode == Mode::Live
            && state.time().cursor.is_none()
            && state.session().actions_refused.is_none()
    }

    /// Whether there is room for more than the first things on the first page.
    fn is_roomy(state: &State) -> bool {
        state.size.1 >= 36
    }

    /// Its row at the shown moment.
    pub fn row<'a>(&self, state: &'a State) -> Option<&'a ProcessRow> {
        self.view(state).map(|view| view.now)
    }

    fn view<'a>(&self, state: &'a State) -> Option<ProcessView<'a>> {
        let sample = state.moment().sample.as_ref()?;
        sample.find(self.key).map(|at| sample.process(at))
    }

    /// Whether it is not there any more at the shown moment, or not yet.
    pub fn is_gone(&self, state: &State) -> bool {
        self.row(state).is_none()
    }

    /// What was asked, where the present is shown.
    pub fn facts_now(&self, state: &State) -> Option<&Facts> {
        self.facts.as_deref().filter(|_| Inspector::asks(state))
    }

    /// Whether a process is one of the lives of the program.
    pub fn is_one_of(&self, pid: i64, start: i64) -> bool {
        self.lives.contains(&ProcessKey { pid, start })
    }

    /// Asks what the page shows, unless that was asked and no answer has come.
    fn ask(&mut self, state: &mut State) {
        if !Inspector::asks(state) || self.is_gone(state) {
            return;
        }
        let mut wanted: Vec<Subject> =
            [Some(Subject::Facts), self.page.subject()].into_iter().flatten().collect();
        if self.page == Page::It && Inspector::is_roomy(state) {
            let count = |raw: Option<Raw>| raw.and_then(Raw::value).unwrap_or(0);
            let row = self.row(state);
            // Hundreds of threads cost more than a line of them is worth.
            if (2..=MOST_THREADS).contains(&count(row.map(|row| row.threads))) {
                wanted.push(Subject::Threads);
            }
            if count(row.map(|row| row.connections)) > 0 {
                wanted.push(Subject::Sockets);
            }
        }
        for subject in wanted {
            if self.asked.insert(subject) {
                state.outbox.push(Effect::Look(self.key, subject));
            }
        }
    }

    fn turn_page(&mut self, state: &mut State, page: Page) {
        self.page = page;
        self.ask(state);
    }

    fn next_page(&mut self, state: &mut State, on: bool) {
        let count = Page::ALL.len();
        let at = Page::ALL.iter().position(|page| *page == self.page).unwrap_or(0);
        self.turn_page(state, Page::ALL[(at + if on { 1 } else { count - 1 }) % count]);
    }

    /// Looks closely: 5 s, and longer when it is asked for again.
    fn look_closely(&mut self, state: &mut State) {
        if !Inspector::asks(state) {
            let text = "a close look needs the process itself: the present of a machine that is here";
            return state.say(Severity::Notice, text.to_owned());
        }
        if self.is_gone(state) {
            return state.say(Severity::Notice, "it is gone".to_owned());
        }
        let time = match &self.closely {
            Some(Closely { goes_on: true, time, .. }) => (time + 1).min(LOOKS.len() - 1),
            _ => 0,
        };
        self.closely = Some(Closely { look: CloseLook::default(), goes_on: true, time });
        self.page = Page::It;
        self.at.insert(Page::It, 0);
        state.outbox.push(Effect::LookClosely(self.key, Duration::from_secs(LOOKS[time])));
    }

    /// Keeps what a close look has seen as a note on the time axis.
    fn keep_look(&mut self, state: &mut State) {
        let Some(closely) = self.closely.as_ref().filter(|closely| closely.look.looks() > 0) else {
            return state.say(Severity::Notice, "there is no close look to keep; c takes one".to_owned());
        };
        let text = format!(
            "{} looked at closely for {:.0} s: {}",
            self.label(),
            closely.look.seconds(),
            closely.look.sentence()
        );
        if let Some(wall) = state.newest_wall() {
            state.sign(wall, MarkKind::Bookmark, text);
            state.say(Severity::Fine, "kept as a note on the time axis".to_owned());
        }
    }

    /// The next life of the program: same name, user and service, begun later.
    fn next_life(&self, state: &State) -> Option<ProcessKey> {
        let sample = state.moment().sample.as_ref()?;
        let same = |row: &ProcessRow| {
            row.name == self.name
                && row.user == self.user
                && row.service == self.service
                && row.pid.value().is_some()
        };
        let later = |key: &ProcessKey| key.start >= self.key.start && !self.lives.contains(key);
        let found = sample.now.processes.iter().filter(|row| same(row)).map(|row| row.key());
        found.filter(later).max_by_key(|key| key.start)
    }

    /// Goes on with the next life of the program.
    fn go_on(&mut self, state: &mut State) {
        let Some(next) = self.next_life(state) else {
            let text = format!("no other {} of {} has begun since", self.name, self.user);
            return state.say(Severity::Notice, text);
        };
        let before = self.label();
        self.key = next;
        self.lives.push(next);
        self.asked.clear();
        self.facts = None;
        (self.threads, self.files, self.sockets) = ((None, None), (None, None), (None, None));
        (self.memory, self.environment, self.closely) = (None, None, None);
        self.said_gone = false;
        let text = format!("{before} is gone; this is its next life, {}", self.label());
        if let Some(wall) = state.newest_wall() {
            self.happened.push((wall, text.clone()));
        }
        state.say_for(Severity::Fine, text, Stay::Long);
        self.series.of(&self.lives);
        self.ask(state);
    }

    fn order_of(&self, page: Page) -> (usize, bool) {
        self.orders.get(&page).copied().unwrap_or(page.order())
    }

    /// The table of the present page in its order.
    fn table(&self, state: &State) -> table::Table {
        let mut table = pages::table(self, state, self.page);
        let (column, other_way) = self.order_of(self.page);
        table.order(column, other_way);
        table
    }

    fn lines(&self, state: &State) -> usize {
        if self.page == Page::It { drawing::body_lines(self, state) } else { self.table(state).rows.len() }
    }

    fn order_by(&mut self, column: usize) {
        let (now, other_way) = self.order_of(self.page);
        let order = if now == column { (column, !other_way) } else { (column, false) };
        self.orders.insert(self.page, order);
    }

    fn next_order(&mut self, state: &State) {
        let columns = self.table(state).columns.len();
        if columns > 0 {
            let (now, _) = self.order_of(self.page);
            self.orders.insert(self.page, ((now + 1) % columns, false));
        }
    }

    /// A key that means something on the screen below as well.
    fn passed(state: &State, key: &KeyEvent) -> After {
        let action = state.values.keys.action(key);
        match action.and_then(entry_of) {
            Some(entry) if entry.topic == Topic::Time => After::Pass(entry.action),
            Some(entry)
                if matches!(
                    entry.action,
                    Action::Undo
                        | Action::Journal
                        | Action::Units
                        | Action::Times
                        | Action::Theme
                        | Action::Help
                        | Action::Commands
                        | Action::Mouse
                        | Action::ReadNow
                        | Action::Plus
                        | Action::Minus
                ) =>
            {
                After::Pass(entry.action)
            }
            _ => After::Stay,
        }
    }
}

impl Sheet for Inspector {
    fn title(&self, _state: &State) -> String {
        self.label()
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![("esc", "back"), ("x", "act"), ("tab", "page"), ("c", "close look")];
        match self.page {
            Page::Environment if self.secrets => hints.push(("s", "hide secrets")),
            Page::Environment => hints.push(("s", "show secrets")),
            Page::It => hints.push(("k", "keep the look")),
            Page::Threads
            | Page::Files
            | Page::Sockets
            | Page::Memory
            | Page::Signals
            | Page::Ended
            | Page::History => {
                hints.push(("o", "order"));
            }
        }
        hints.extend([("[", "step back"), ("]", "on"), ("u", "undo"), ("y", "copy")]);
        hints.push(if self.follows { ("n", "follow no more") } else { ("n", "follow restarts") });
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.lines(state);
        // `k` keeps a look here, so only the arrows and `j` move.
        let moving = if key.code == KeyCode::Char('k') { *key } else { moving(state, key) };
        let at = self.at.entry(self.page).or_default();
        if moves(at, lines, &moving) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Tab | KeyCode::Right => self.next_page(state, true),
            KeyCode::BackTab | KeyCode::Left => self.next_page(state, false),
            KeyCode::Char('x') => {
                return match ActSheet::open_for(state, self.key) {
                    Some(sheet) => After::Open(Box::new(sheet)),
                    None => After::Stay,
                };
            }
            KeyCode::Char('c') => self.look_closely(state),
            KeyCode::Char('k') if self.page == Page::It => self.keep_look(state),
            KeyCode::Char('s') if self.page == Page::Environment => self.secrets = !self.secrets,
            KeyCode::Char('o') => self.next_order(state),
            KeyCode::Char('O') => {
                let (column, _) = self.order_of(self.page);
                self.order_by(column);
            }
            KeyCode::Char('n') => self.turn_following(state),
            KeyCode::Char('y') => {
                let text = self.chosen_text(state);
                state.say(Severity::Fine, format!("given to the terminal's clipboard: {text}"));
                state.outbox.push(Effect::Copy(text));
            }
            _ => return Inspector::passed(state, key),
        }
        After::Stay
    }

    fn closes(&mut self, key: &KeyEvent, action: Option<Action>) -> bool {
        key.code == KeyCode::Esc || matches!(action, Some(Action::Inspect | Action::Quit | Action::Back))
    }

    fn closed(&mut self, state: &mut State) {
        state.outbox.push(Effect::LookAway);
        // Whoever comes back finds it selected.
        state.select_pid(self.key.pid);
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        drawing::draw(self, state, buffer, place);
    }

    fn list(&mut self, state: &State) -> Option<List<'_>> {
        let lines = self.lines(state);
        Some(List { at: self.at.entry(self.page).or_default(), lines })
    }

    fn follow(&mut self, state: &mut State) {
        if state.time().cursor.is_none() && self.is_gone(state) {
            if self.follows && self.next_life(state).is_some() {
                self.go_on(state);
            } else if !std::mem::replace(&mut self.said_gone, true) {
                let text = format!("{} is gone", self.label());
                if let Some(wall) = state.newest_wall() {
                    self.happened.push((wall, text.clone()));
                }
            }
        }
        self.ask(state);
        self.series.follow(state);
    }

    fn goes_on(&self) -> bool {
        self.series.unfinished
    }

    fn told(&mut self, key: ProcessKey, told: &Told, _state: &mut State) {
        if key != self.key {
            return;
        }
        match told {
            Told::Facts(facts) => {
                self.asked.remove(&Subject::Facts);
                self.facts = Some(facts.clone());
            }
            Told::Threads(look) => {
                self.asked.remove(&Subject::Threads);
                pages::keep(&mut self.threads, look.clone());
            }
            Told::Files(look) => {
                self.asked.remove(&Subject::Files);
                pages::keep(&mut self.files, look.clone());
            }
            Told::Sockets(look) => {
                self.asked.remove(&Subject::Sockets);
                pages::keep(&mut self.sockets, look.clone());
            }
            Told::Memory(memory) => {
                self.asked.remove(&Subject::Memory);
                self.memory = Some(memory.clone());
            }
            Told::Environment(environment) => {
                self.asked.remove(&Subject::Environment);
                self.environment = Some(environment.clone());
            }
            Told::Cores(_) => {}
            Told::Gone => self.asked.clear(),
        }
    }

    fn seen_closely(&mut self, key: ProcessKey, look: &CloseLook, all: bool, _state: &mut State) {
        if let Some(closely) = self.closely.as_mut().filter(|_| key == self.key) {
            closely.look = look.clone();
            closely.goes_on = !all;
        }
    }

    fn clicked_at(&mut self, at: Position, place: Rect, state: &mut State) -> Option<After> {
        drawing::clicked(self, at, place, state);
        Some(After::Stay)
    }
}

impl Inspector {
    /// Follows the program over restarts, or no more; where it is gone, goes on at once.
    fn turn_following(&mut self, state: &mut State) {
        self.follows = !self.follows;
        let text = if self.follows {
            format!("the next {} of {} is followed when this one ends", self.name, self.user)
        } else {
            "restarts are not followed any more".to_owned()
        };
        state.say(Severity::Fine, text);
        if self.follows && state.time().cursor.is_none() && self.is_gone(state) {
            self.go_on(state);
        }
    }

    /// The last cell of the chosen row; on the first page the PID.
    fn chosen_text(&self, state: &State) -> String {
        let at = self.at.get(&self.page).copied().unwrap_or(0);
        let table = self.table(state);
        let cell = table.rows.get(at).and_then(|row| row.last());
        cell.map_or_else(|| self.key.pid.to_string(), |cell| cell.text.clone())
    }
}
