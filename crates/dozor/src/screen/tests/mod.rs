//! The screen without a terminal: literal screens of the simulated night, and what keys and mouse do to them.

mod asking;
mod frozen;
mod handling;
mod inspecting;
mod looking;
mod screens;
mod terminal;

use crate::feed::Delivery;
use crate::look::action::key_of;
use crate::look::theme::{Depth, Theme};
use crate::screen::{Event, Screen};
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::deed::{Account, Outcome, Target};
use dozor_core::demo::{PRELUDE, SimulatedMachine, Site, USER};
use dozor_core::known::Raw;
use dozor_core::reading::{ProcessRow, Reading};
use dozor_core::timeline::Timeline;
use dozor_core::wanted::{Demand, Wanted};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use std::cell::RefCell;
use std::rc::Rc;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A machine so many seconds after it began. Many tests begin at the same moment: it is lived up to once.
fn lived_until(site: Site, seconds: u64) -> SimulatedMachine {
    static LIVED: Mutex<Vec<(Site, u64, SimulatedMachine)>> = Mutex::new(vec![]);
    let mut lived = LIVED.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((.., machine)) = lived.iter().find(|(at, then, _)| (*at, *then) == (site, seconds)) {
        return machine.clone();
    }
    let mut machine = SimulatedMachine::at(site, 1);
    machine.advance_to(Duration::from_secs(seconds));
    lived.push((site, seconds, machine.clone()));
    machine
}

/// The simulated machine on a screen of a given size, with a clock of its own.
struct Desk {
    machine: SimulatedMachine,
    screen: Screen,
    begin: Instant,
    seconds: u64,
}

impl std::ops::Deref for Desk {
    type Target = Screen;

    fn deref(&self) -> &Screen {
        &self.screen
    }
}

impl std::ops::DerefMut for Desk {
    fn deref_mut(&mut self) -> &mut Screen {
        &mut self.screen
    }
}

impl Desk {
    /// Begins so many seconds into the story, with the minute before in the timeline.
    fn at(seconds: u64, size: (u16, u16)) -> Desk {
        Desk::of(Site::Observatory, seconds, size)
    }

    /// The same on another machine.
    fn of(site: Site, seconds: u64, size: (u16, u16)) -> Desk {
        Desk::after(61, site, seconds, size)
    }

    /// With the last few of its readings alone, where there are to be many desks.
    fn soon_at(seconds: u64, size: (u16, u16)) -> Desk {
        Desk::after(6, Site::Observatory, seconds, size)
    }

    fn after(readings: u64, site: Site, seconds: u64, size: (u16, u16)) -> Desk {
        let begin = PRELUDE as u64 + seconds + 1 - readings;
        let mut machine = lived_until(site, begin);
        machine.want(Wanted::NOTHING.with(Demand::CoreWait));
        let timeline = Timeline::live(Arc::new(machine.host()));
        let theme = Theme::new(Depth::Mono, false);
        let mut state = State::new(timeline, theme, Duration::from_secs(1), size);
        state.act_as(&USER.into(), None);
        let mut desk = Desk { machine, screen: Screen::new(state), begin: Instant::now(), seconds: begin };
        desk.run(readings);
        desk
    }

    fn now(&self) -> Instant {
        self.begin + Duration::from_secs(self.seconds)
    }

    /// Lets so many readings come, one a second.
    fn run(&mut self, readings: u64) {
        for _ in 0..readings {
            self.machine.advance_to(Duration::from_secs(self.seconds));
            let reading = Arc::new(self.machine.reading());
            self.receive(reading);
            self.event(Event::Tick);
            self.seconds += 1;
        }
    }

    /// Takes in an event. What is asked of processes is answered at once, by the simulated machine.
    fn event(&mut self, event: Event) -> Vec<Effect> {
        let now = self.now();
        let mut effects = self.screen.update(event, now);
        while let Some(at) = effects.iter().position(|effect| matches!(effect, Effect::Look(..))) {
            let Effect::Look(key, subject) = effects.remove(at) else { unreachable!("it is one") };
            let told = self.machine.look(key, subject);
            effects.extend(self.screen.update(Event::Told(key, told), now));
        }
        effects
    }

    /// Lets the simulated machine do what effects want done, and tells what became of it.
    fn carry_out(&mut self, effects: Vec<Effect>) -> Vec<Effect> {
        let mut rest = vec![];
        for effect in effects {
            let Effect::Act(deed, targets, wall) = effect else {
                rest.push(effect);
                continue;
            };
            let account = |target: &Target| match self.machine.act(target.key, &deed) {
                // A signal that ends has ended it by now, unless it takes no notice.
                Account { outcome: Outcome::Sent, .. } if deed.ends() => {
                    if self.machine.is_alive(target.key) {
                        Outcome::StillThere(self.machine.why_still(target.key)).into()
                    } else {
                        Outcome::GoneAfter(Duration::from_millis(420)).into()
                    }
                }
                account => account,
            };
            let accounts = targets.iter().map(account).collect();
            rest.extend(self.event(Event::Acted(deed, targets, accounts, wall)));
        }
        rest
    }

    fn receive(&mut self, reading: Arc<Reading>) {
        self.event(Event::Feed(Delivery::Reading(reading)));
    }

    /// What stands in the edge of what is open, or before the line that is typed; nothing where nothing is open.
    fn opened(&self) -> String {
        self.screen.sheets.last().map(|sheet| sheet.title(&self.state)).unwrap_or_default()
    }

    /// The chosen line of the list that is open, and the number of its lines.
    fn chosen(&mut self) -> (usize, usize) {
        let Screen { state, sheets, .. } = &mut self.screen;
        let list = sheets.last_mut().and_then(|sheet| sheet.list(state)).expect("a list");
        (*list.at, list.lines)
    }

    /// Types text as it is.
    fn types(&mut self, text: &str) -> Vec<Effect> {
        let keys = text.chars().map(|letter| KeyEvent::new(KeyCode::Char(letter), KeyModifiers::NONE));
        keys.flat_map(|key| self.event(Event::Key(key))).collect::<Vec<_>>()
    }

    /// Presses keys, separated by blanks; `:text` types text.
    fn press(&mut self, keys: &str) -> Vec<Effect> {
        let mut effects = vec![];
        for key in keys.split(' ') {
            // A colon alone is a key.
            let events: Vec<KeyEvent> = if let Some(event) = key_of(key) {
                vec![event]
            } else {
                let letters = key.strip_prefix(':').unwrap_or(key).chars().map(KeyCode::Char);
                letters.map(|code| KeyEvent::new(code, KeyModifiers::NONE)).collect()
            };
            for event in events {
                effects.extend(self.event(Event::Key(event)));
            }
        }
        effects
    }

    fn mouse(&mut self, kind: MouseEventKind, column: u16, row: u16) -> Vec<Effect> {
        self.event(Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }))
    }

    fn click(&mut self, column: u16, row: u16) {
        self.mouse(MouseEventKind::Down(MouseButton::Left), column, row);
    }

    fn drawn(&self) -> TestBackend {
        let mut terminal =
            Terminal::new(TestBackend::new(self.state.size.0, self.state.size.1)).expect("a screen");
        let now = self.now();
        terminal.draw(|frame| self.screen.draw(frame, now)).expect("a frame");
        terminal.backend().clone()
    }

    /// The cells that one would see.
    fn buffer(&self) -> Buffer {
        self.drawn().buffer().clone()
    }

    /// The lines that one would see, without blanks at their ends.
    fn lines(&self) -> Vec<String> {
        let text = self.drawn().to_string();
        text.lines().map(|line| line.trim_matches('"').trim_end().to_owned()).collect()
    }

    fn screen(&self) -> String {
        self.lines().join("\n")
    }

    fn process(&self, row: usize) -> &ProcessRow {
        self.state.view_of_row(row).expect("a process").now
    }

    fn order_of(&self, rows: usize) -> Vec<String> {
        (0..rows).map(|row| self.process(row).name.to_string()).collect()
    }

    fn selected_name(&self) -> String {
        let row = self.state.row_of_selected().expect("a selected row");
        self.process(row).name.to_string()
    }
}

/// Raw numbers side by side.
trait IntoRaws {
    fn into_raws(self) -> (Raw, Raw, Raw);
}

impl IntoRaws for (i64, i64, i64) {
    fn into_raws(self) -> (Raw, Raw, Raw) {
        (self.0.into(), self.1.into(), self.2.into())
    }
}

/// An idle machine: 300 processes sleep, five of them do a little, the clock goes on.
fn idle_reading(second: i64) -> Reading {
    let ns = |seconds: i64| dozor_core::reading::raw(seconds * 1_000_000_000);
    let mut reading = Reading::default();
    let up = 900_000 + second;
    let system = &mut reading.system;
    (system.wall_ns, system.monotonic_ns, system.boot_ns) = (ns(1_928_800_000 + second), ns(up), ns(up));
    (system.user, system.system, system.idle) =
        (4_000 + second * 2, 900 + second, 100_000 + second * 797).into_raws();
    (system.nice, system.iowait, system.irq) = (0, 40, 0).into_raws();
    (system.softirq, system.steal, system.running) = (3, 0, 1).into_raws();
    (system.mem_total, system.mem_available, system.mem_free) = (32 << 30, 24 << 30, 3 << 30).into_raws();
    reading.processes = (1..=300)
        .map(|pid| {
            let busy = if pid % 60 == 0 { second / (1 + pid / 100) + second / 7 } else { 0 };
            Arc::new(ProcessRow {
                pid: pid.into(),
                start_ticks: pid.into(),
                name: format!("daemon{pid}").as_str().into(),
                command: format!("/usr/sbin/daemon{pid} --serve").as_str().into(),
                user: "root".into(),
                state: i64::from(b'S').into(),
                user_ticks: (busy * 2).into(),
                system_ticks: busy.into(),
                rss_bytes: (pid << 18).into(),
                ..ProcessRow::default()
            })
        })
        .collect();
    reading
}

/// What was written, for a terminal that is none.
#[derive(Clone, Default)]
pub struct Written(Rc<RefCell<Vec<u8>>>);

impl std::io::Write for Written {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.borrow_mut().extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl Written {
    /// What was written since the last time.
    pub fn take(&self) -> Vec<u8> {
        std::mem::take(&mut self.0.borrow_mut())
    }
}
