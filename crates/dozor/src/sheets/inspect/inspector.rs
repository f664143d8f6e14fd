//! What is known of one process that is looked into, and what is asked.

use crate::state::State;
use crate::state::data::{Mode, Stay};
use crate::state::effect::Effect;
use crate::state::series::Series;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::{Connection, Facts, Look, Memory, OpenFile, Subject, Thread};
use dozor_core::known::{Known, Raw};
use dozor_core::lane::Severity;
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::recording::MarkKind;
use dozor_core::row::Row as _;
use dozor_core::sample::ProcessView;
use dozor_core::text::Text;
use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};

/// Times of a close look; each press of its key while it goes on asks for the next.
const LOOKS: [u64; 3] = [5, 30, 120];
/// Mappings are asked for again after this time.
const MEMORY_REST: Duration = Duration::from_secs(10);
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
    pub(super) const ALL: [Page; 9] = [
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

    pub(super) const fn word(self) -> &'static str {
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
    pub(super) const fn subject(self) -> Option<Subject> {
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
    pub(super) const fn order(self) -> (usize, bool) {
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
pub(super) type Two<T> = (Option<Look<Known<T>>>, Option<Look<Known<T>>>);

/// A close look at it.
pub(super) struct Closely {
    pub(super) look: CloseLook,
    /// It goes on.
    pub(super) goes_on: bool,
    /// Place among [`LOOKS`].
    pub(super) time: usize,
}

/// One process that is looked into.
pub struct Inspector {
    pub(super) key: ProcessKey,
    pub(super) name: Text,
    pub(super) user: Text,
    pub(super) service: Text,
    /// All lives of the program that were looked at, this one among them.
    pub(super) lives: Vec<ProcessKey>,
    /// It goes on with the next life of the program.
    pub(super) follows: bool,
    /// What happened to it while it was looked at, with the instant, in words.
    pub(super) happened: Vec<(i64, String)>,
    /// It was said that it is gone.
    pub(super) said_gone: bool,
    pub(super) page: Page,
    /// The chosen row of each page, and what orders it.
    pub(super) at: HashMap<Page, usize>,
    pub(super) orders: HashMap<Page, (usize, bool)>,
    /// Secrets of the environment are shown.
    pub(super) secrets: bool,
    pub(super) series: Series,
    pub(super) asked: HashSet<Subject>,
    pub(super) facts: Option<Box<Facts>>,
    pub(super) threads: Two<Vec<Thread>>,
    pub(super) files: Two<Vec<OpenFile>>,
    pub(super) sockets: Two<Vec<Connection>>,
    pub(super) memory: Option<Box<Memory>>,
    /// When that may be asked again.
    pub(super) memory_due: Option<Instant>,
    pub(super) environment: Option<Known<Vec<(String, String)>>>,
    pub(super) closely: Option<Closely>,
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
            memory_due: None,
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
    pub(super) fn is_roomy(state: &State) -> bool {
        state.size.1 >= 36
    }

    /// Its row at the shown moment.
    pub fn row<'a>(&self, state: &'a State) -> Option<&'a ProcessRow> {
        self.view(state).map(|view| view.now)
    }

    pub(super) fn view<'a>(&self, state: &'a State) -> Option<ProcessView<'a>> {
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
    pub(super) fn ask(&mut self, state: &mut State) {
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
            // The kernel walks over all of the memory: seconds for a large process.
            if subject == Subject::Memory {
                if self.memory_due.is_some_and(|due| state.now < due) {
                    continue;
                }
                self.memory_due = Some(state.now + MEMORY_REST);
            }
            if self.asked.insert(subject) {
                state.outbox.push(Effect::Look(self.key, subject));
            }
        }
    }

    pub(super) fn turn_page(&mut self, state: &mut State, page: Page) {
        self.page = page;
        self.ask(state);
    }

    pub(super) fn next_page(&mut self, state: &mut State, on: bool) {
        let count = Page::ALL.len();
        let at = Page::ALL.iter().position(|page| *page == self.page).unwrap_or(0);
        self.turn_page(state, Page::ALL[(at + if on { 1 } else { count - 1 }) % count]);
    }

    /// Looks closely: 5 s, and longer when it is asked for again.
    pub(super) fn look_closely(&mut self, state: &mut State) {
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
    pub(super) fn keep_look(&mut self, state: &mut State) {
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
    pub(super) fn next_life(&self, state: &State) -> Option<ProcessKey> {
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
    pub(super) fn go_on(&mut self, state: &mut State) {
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
        self.memory_due = None;
        self.said_gone = false;
        let text = format!("{before} is gone; this is its next life, {}", self.label());
        if let Some(wall) = state.newest_wall() {
            self.happened.push((wall, text.clone()));
        }
        state.say_for(Severity::Fine, text, Stay::Long);
        self.series.of(&self.lives);
        self.ask(state);
    }

    pub(super) fn order_of(&self, page: Page) -> (usize, bool) {
        self.orders.get(&page).copied().unwrap_or(page.order())
    }

    pub(super) fn order_by(&mut self, column: usize) {
        let (now, other_way) = self.order_of(self.page);
        let order = if now == column { (column, !other_way) } else { (column, false) };
        self.orders.insert(self.page, order);
    }
}
