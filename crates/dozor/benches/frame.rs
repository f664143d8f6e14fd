//! What a frame costs with 10,000 processes on a screen of 200×60: taking in an event and drawing to a terminal that
//! swallows all bytes. Run with `cargo bench --bench frame`.
//!
//! Beside it stands what a reading costs: the sample, those who are gone, what stands out, the order.

use dozor::ui::frugal::Frugal;
use dozor::ui::state::State;
use dozor::ui::theme::{Depth, Theme};
use dozor::ui::update::{Event, update};
use dozor::ui::view;
use dozor_core::aside::aside;
use dozor_core::demo::{SimulatedMachine, Site};
use dozor_core::lane::sentences;
use dozor_core::rank::Everybody;
use dozor_core::reading::{ProcessRow, Reading, raw};
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use ratatui::{Terminal, TerminalOptions, Viewport};
use std::hint::black_box;
use std::io::{Sink, sink};
use std::sync::Arc;
use std::time::{Duration, Instant};

const PROCESSES: i64 = 10_000;
const SIZE: (u16, u16) = (200, 60);
/// One in so many processes does something between two readings.
const ACTIVE: i64 = 33;

/// A reading of the simulated server with many more processes.
fn reading(machine: &mut SimulatedMachine, second: u64, last: &mut Vec<Arc<ProcessRow>>) -> Arc<Reading> {
    machine.advance_to(Duration::from_secs(second));
    let mut reading = machine.reading();
    if last.is_empty() {
        *last = (0..PROCESSES).map(|at| Arc::new(process(at))).collect();
    }
    for (at, row) in last.iter_mut().enumerate() {
        if at as i64 % ACTIVE == second as i64 % ACTIVE {
            let row = Arc::make_mut(row);
            let grown = |counter: &mut dozor_core::known::Raw, by: i64| {
                *counter = raw(counter.value().unwrap_or(0) + by);
            };
            grown(&mut row.user_ticks, 1 + at as i64 % 50);
            grown(&mut row.write_bytes, 4096 * (at as i64 % 9));
        }
    }
    reading.processes.clone_from(last);
    Arc::new(reading)
}

fn process(at: i64) -> ProcessRow {
    ProcessRow {
        pid: raw(100 + at),
        start_ticks: raw(1 + at),
        ppid: raw(1),
        state: raw(i64::from(b'S')),
        name: format!("worker{at}").as_str().into(),
        command: format!("/opt/lynx/bin/worker --shard {at} --of {PROCESSES}").as_str().into(),
        user: "astro".into(),
        core: raw(at % 128),
        user_ticks: raw(at),
        system_ticks: raw(at),
        read_bytes: raw(0),
        write_bytes: raw(0),
        net_in_bytes: raw(0),
        net_out_bytes: raw(0),
        rss_bytes: raw(at << 14),
        threads: raw(1),
        nice: raw(0),
        ..ProcessRow::default()
    }
}

struct Bench {
    state: State,
    terminal: Terminal<Frugal<Sink>>,
}

impl Bench {
    /// The time that an event and the frame after it take.
    fn frame(&mut self, event: Event) -> Duration {
        let begin = Instant::now();
        update(&mut self.state, event, begin);
        self.terminal.draw(|frame| view::draw(&self.state, frame, begin)).expect("a frame");
        begin.elapsed()
    }
}

fn report(what: &str, mut times: Vec<Duration>, budget: &str) {
    times.sort_unstable();
    let ms = |time: Duration| time.as_secs_f64() * 1e3;
    let (median, slow) = (times[times.len() / 2], times[times.len() * 95 / 100]);
    println!("{what:<44} median {:.2} ms, 95 % within {:.2} ms{budget}", ms(median), ms(slow));
}

fn main() {
    let mut machine = SimulatedMachine::at(Site::Server, 1);
    let timeline = Timeline::live(Arc::new(machine.host()));
    let state = State::new(timeline, Theme::new(Depth::True, false), Duration::from_secs(1), SIZE);
    let viewport = Viewport::Fixed(Rect::new(0, 0, SIZE.0, SIZE.1));
    let terminal =
        Terminal::with_options(Frugal::new(sink()), TerminalOptions { viewport }).expect("a screen");
    let mut bench = Bench { state, terminal };
    let mut rows = vec![];
    let key = |code| Event::Key(KeyEvent::new(code, KeyModifiers::NONE));
    for (name, lane) in [("overview", '0'), ("cpu, with its map of 128 cores", '1'), ("disk", '3')] {
        bench.frame(key(KeyCode::Char(lane)));
        let mut readings = vec![];
        for _ in 0..80 {
            let second = bench.state.timeline.end() as u64;
            let reading = reading(&mut machine, second, &mut rows);
            readings.push(bench.frame(Event::Reading(reading)));
        }
        println!("{name}");
        let down = (0..400).map(|_| bench.frame(key(KeyCode::Down))).collect();
        report("  a key that moves the selection", down, " (budget 2 ms)");
        let wheel = MouseEvent {
            kind: MouseEventKind::ScrollDown,
            column: 100,
            row: SIZE.1 - 5,
            modifiers: KeyModifiers::NONE,
        };
        let wheel = (0..400).map(|_| bench.frame(Event::Mouse(wheel))).collect();
        report("  a turn of the wheel", wheel, " (budget 2 ms)");
        let idle = (0..100).map(|_| bench.frame(Event::Tick)).collect();
        report("  nothing new", idle, "");
        report("  a new reading, all that follows from it", readings, "");
        let sample = bench.state.sample.clone().expect("a sample");
        let order = bench.state.order;
        let computed = (0..50)
            .map(|_| {
                let begin = Instant::now();
                let (host, before) = (sample.host.clone(), sample.before.clone());
                let sample = Sample::new(host, before, sample.now.clone());
                let gone = aside(&sample);
                let everybody = Everybody::new(&sample, &gone);
                black_box(sentences(&everybody));
                black_box(everybody.ordered(&order));
                begin.elapsed()
            })
            .collect();
        report("  of that: sample, what stands out, order", computed, " (budget 5 ms)");
    }
}
