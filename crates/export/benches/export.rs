//! What it takes to let a day out: 43,200 readings at 2 s of 300 processes, of which 30 do something between two readings and 20
//! came and went. Run with `cargo bench --bench export`; making the day takes a while.

#[path = "../../core/benches/load/mod.rs"]
mod load;

use dozor_core::chart::Wish;
use dozor_core::findings::{Changes, Engine, mark};
use dozor_core::lane::Lane;
use dozor_core::recording::Writer;
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use dozor_export::chart::{Composing, Form, Look, compose, draw};
use dozor_export::report::{Asked, Report};
use dozor_export::table::parquet::Parquet;
use dozor_export::table::{Chosen, Sink, Table, Which, WriteError, stream};
use dozor_export::{pdf, svg};
use load::{EVERY, Load, Short};
use std::io::{self, Write};
use std::time::{Duration, Instant};

const READINGS: usize = 43_200;

/// Counts what is written.
#[derive(Default)]
struct Counted(u64);

impl Write for &mut Counted {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0 += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The most memory that this process had, in MiB; proc_pid_status(5).
fn peak() -> f64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok()).unwrap_or(f64::NAN) / 1024.0
}

/// How often a chart is drawn.
const RUNS: usize = 7;

fn main() {
    let mut load = Load::new(Short::Ended);
    let mut writer = Writer::new(load.host(), Some(Duration::from_secs(EVERY as u64)));
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    // With the marks that a recorder leaves where something stands out.
    let (mut engine, mut changes, mut before) = (Engine::default(), Changes::default(), None);
    for _ in 0..READINGS {
        let reading = load.next();
        writer.put(&reading, &mut bytes).expect("memory");
        engine.look(&Sample::new(load.host(), before.replace(reading.clone()), reading.clone()));
        for (one, is_over) in changes.look(engine.history()) {
            writer.mark(&mark(one, is_over, reading.wall_ns()), &mut bytes);
        }
    }
    writer.finish(&mut bytes);
    let size = bytes.len() as f64 / f64::from(1 << 20);
    let mut timeline = Timeline::open(bytes).expect("our own recording");
    let all = timeline.first()..timeline.end();
    println!("a day: {} samples, {size:.1} MiB", all.len());
    // Sets the mark back to what is in use now; proc_pid_clear_refs in proc(5).
    let _ = std::fs::write("/proc/self/clear_refs", "5");
    let before = peak();
    // A part of it alone, to look at: `cargo bench --bench export -- report`.
    let asked = |part: &str| {
        let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
        words.is_empty() || words.iter().any(|word| word == part)
    };
    for which in [Which::Processes, Which::System, Which::Parts].into_iter().filter(|_| asked("tables")) {
        let table = Table::new(which, Chosen::default()).expect("a table");
        let columns = table.columns().to_vec();
        let host = timeline.host().clone();
        let mut counted = Counted::default();
        let begin = Instant::now();
        let (out, keys, of) = (&mut counted, &columns, &host);
        let sink = move || -> Result<Box<dyn Sink + '_>, WriteError> {
            Ok(Box::new(Parquet::begin(out, which, keys, of)?))
        };
        stream(&timeline, all.clone(), (table, false), sink, &mut |_| {}).expect("written");
        let seconds = begin.elapsed().as_secs_f64();
        let budget = if which == Which::Processes { " (budget 20 s)" } else { "" };
        println!("  {} to Parquet {seconds:.1} s{budget}", which.name());
        println!(
            "  {} {:.2} times the recording",
            which.name(),
            counted.0 as f64 / f64::from(1 << 20) / size
        );
    }
    println!("  memory beside the recording {:.0} MiB (budget 200 MiB)", peak() - before);
    let wish = |text: &str| Wish::parse(text).expect("a wish");
    let charts: [(&str, Vec<Wish>, Vec<Lane>, Form); 5] = [
        ("the lanes", vec![], Lane::ALL.to_vec(), Form::Auto),
        ("a disk's wait", vec![wish("disk.wait")], vec![], Form::Auto),
        ("cores as rows", vec![wish("core.total")], vec![], Form::Heat),
        ("a program's CPU", vec![wish("cpu@service7")], vec![], Form::Auto),
        ("CPU by program", vec![wish("cpu")], vec![], Form::Auto),
    ];
    for (name, wishes, lanes, form) in charts.into_iter().filter(|(name, ..)| asked("charts") || asked(name))
    {
        let what = Composing { wishes, form, lanes, columns: 768, happenings: 8, brief: false, title: None };
        // Machines are shared: the best of some runs, and the first.
        let mut runs = vec![];
        let (scene, text) = loop {
            let begin = Instant::now();
            let chart = compose(&mut timeline, all.clone(), &what).expect("readable");
            let scene = draw(&chart, (960.0, 540.0), Look { light: true }).expect("large enough");
            let text = svg::write(&scene);
            runs.push(begin.elapsed().as_secs_f64());
            if runs.len() == RUNS {
                break (scene, text);
            }
        };
        let file = pdf::write(&[scene], &pdf::About::default());
        println!(
            "  chart of {name} {:.2} s, first {:.2} s (budget 0.5 s); {} KiB, as PDF {} KiB",
            runs.iter().copied().fold(f64::INFINITY, f64::min),
            runs[0],
            text.len() / 1024,
            file.len() / 1024
        );
    }
    if !asked("report") {
        return;
    }
    let begin = Instant::now();
    let report = Report::new(&mut timeline, all, &Asked::default()).expect("readable");
    let pages = report.pdf();
    println!("  a report {:.2} s (budget 3 s), {} KiB", begin.elapsed().as_secs_f64(), pages.len() / 1024);
}
