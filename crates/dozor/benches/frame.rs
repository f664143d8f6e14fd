//! What a frame costs with 10,000 processes on a screen of 200×60: taking in an event and drawing to a terminal that
//! swallows all bytes. Run with `cargo bench --bench frame`.
//!
//! Beside it stands what a reading costs: the sample, those who are gone, what stands out, the order.

mod common;
mod crowd;

use common::report;
use crowd::reading;
use dozor::feed::Delivery;
use dozor::look::theme::{Depth, Theme};
use dozor::run::compact::Compact;
use dozor::screen::{Event, Screen};
use dozor::state::State;
use dozor_core::demo::{SimulatedMachine, Site};
use dozor_core::exited::exited;
use dozor_core::findings::{Adjusted, at_once};
use dozor_core::rank::{Arrange, Population};
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use ratatui::{Terminal, TerminalOptions, Viewport};
use std::hint::black_box;
use std::io::{Sink, sink};
use std::sync::Arc;
use std::time::{Duration, Instant};

const SIZE: (u16, u16) = (200, 60);
struct Bench {
    screen: Screen,
    terminal: Terminal<Compact<Sink>>,
}

impl Bench {
    /// The time that an event and the frame after it take.
    fn frame(&mut self, event: Event) -> Duration {
        let (event, frame) = self.apart(event);
        event + frame
    }

    /// The same, each for itself.
    fn apart(&mut self, event: Event) -> (Duration, Duration) {
        let begin = Instant::now();
        self.screen.update(event, begin);
        let taken_in = Instant::now();
        self.terminal.draw(|frame| self.screen.draw(frame, begin)).expect("a frame");
        (taken_in.duration_since(begin), taken_in.elapsed())
    }
}

/// What the kernel alone takes for a reading of so many processes: open, read and close two files of each.
fn bare() -> Duration {
    let mut all: Vec<Duration> = (0..5)
        .map(|_| {
            let begin = Instant::now();
            for _ in 0..crowd::processes() {
                black_box(std::fs::read("/proc/self/stat").expect("our own file"));
                black_box(std::fs::read("/proc/self/io").expect("our own file"));
            }
            begin.elapsed()
        })
        .collect();
    all.sort();
    all[all.len() / 2]
}

/// The median of some times, in milliseconds and as a part of what the kernel alone takes at the same time.
fn beside(name: &str, mut times: Vec<Duration>, aim: f64) {
    times.sort();
    let (median, bare) = (times[times.len() / 2].as_secs_f64(), bare().as_secs_f64());
    let (ms, whole) = (median * 1e3, bare * 1e3);
    println!("  {name:<40} {ms:.2} ms, {:.3} of the bare loop's {whole:.0} ms (aim {aim})", median / bare);
}

fn main() {
    let mut machine = SimulatedMachine::at(Site::Server, 1);
    let timeline = Timeline::live(Arc::new(machine.host()));
    let state = State::new(timeline, Theme::new(Depth::True, false), Duration::from_secs(1), SIZE);
    let viewport = Viewport::Fixed(Rect::new(0, 0, SIZE.0, SIZE.1));
    let terminal =
        Terminal::with_options(Compact::new(sink()), TerminalOptions { viewport }).expect("a screen");
    let mut bench = Bench { screen: Screen::new(state), terminal };
    let mut rows = vec![];
    let key = |code| Event::Key(KeyEvent::new(code, KeyModifiers::NONE));
    for (name, lane) in [
        ("overview", '0'),
        ("cpu, with its map of 128 cores", '1'),
        ("disk", '3'),
        ("overview, family tree", 'f'),
        ("overview, by program", 'p'),
    ] {
        // One of them alone, to look at: `cargo bench --bench frame -- disk`.
        let wanted = std::env::args().skip(1).find(|word| !word.starts_with('-'));
        if wanted.is_some_and(|wanted| !name.contains(&wanted)) {
            continue;
        }
        if let 'f' | 'p' = lane {
            bench.frame(key(KeyCode::Char('0')));
            bench.screen.state.values.arrange = if lane == 'f' { Arrange::Family } else { Arrange::Program };
        } else {
            bench.frame(key(KeyCode::Char(lane)));
        }
        let (mut readings, mut frames) = (vec![], vec![]);
        for _ in 0..80 {
            let second = bench.screen.state.time().timeline.end() as u64;
            let reading = reading(&mut machine, second, &mut rows);
            let (reading, frame) = bench.apart(Event::Feed(Delivery::Reading(reading)));
            readings.push(reading);
            frames.push(frame);
        }
        println!("{name}");
        beside("a new reading, all that follows from it", readings, 0.043);
        beside("the frame after it", frames, 0.013);
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
        let sample = bench.screen.state.moment().sample.clone().expect("a sample");
        let order = bench.screen.state.values.order;
        let computed = (0..50)
            .map(|_| {
                let begin = Instant::now();
                let (host, before) = (sample.host.clone(), sample.before.clone());
                let sample = Sample::new(host, before, sample.now.clone());
                let gone = exited(&sample);
                let population = Population::new(&sample, &gone);
                black_box(at_once(&sample, &Adjusted::default()));
                black_box(population.ordered(&order));
                begin.elapsed()
            })
            .collect();
        report("  of that: sample, what stands out, order", computed, " (budget 5 ms)");
    }
}
