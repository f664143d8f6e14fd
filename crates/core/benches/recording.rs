//! What a recording takes: bytes and time per reading, time to find any place of a day, its lanes and its peaks. The load
//! is made up: the simulated machine with 300 processes, of which 30 do something between two readings, and 20 that
//! came and went. Run with `cargo bench --bench recording`; a day takes a while. With `--sizes` it leaves the day
//! out, with `--day` it takes nothing else. With a recording behind `--` it tells what that takes when it is written anew.

use dozor_core::expr::Expression;
use dozor_core::lane::PerLane;
use dozor_core::query::{Asked, Query, Stat};
use dozor_core::reading::Reading;
use dozor_core::recording::{Encoder, Event, Frames, StreamReader, Writer};
use dozor_core::sample::Sample;
use dozor_core::thinning::{Thinner, for_years};
use dozor_core::timeline::Timeline;
use std::io::Write as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

mod load;
use load::{Chance, EVERY, Load, Short};

fn ms(time: Duration) -> f64 {
    time.as_secs_f64() * 1e3
}

fn sizes(short: Short, what: &str) {
    const COUNT: usize = 1_800;
    let mut load = Load::new(short);
    let mut writer = Writer::new(load.host(), Some(Duration::from_secs(EVERY as u64)));
    let readings: Vec<Arc<Reading>> = (0..COUNT).map(|_| load.next()).collect();
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    let head = bytes.len();
    let begin = Instant::now();
    for reading in &readings {
        writer.put(reading, &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    let encode = begin.elapsed() / COUNT as u32;
    // As a live screen keeps them in memory.
    let mut memory = Encoder::new(64);
    let mut kept = vec![];
    for reading in &readings {
        memory.put(reading, &mut kept).expect("memory");
    }
    let mut encoder = Encoder::new(dozor_core::recording::format::KEY_EVERY);
    let mut frames = vec![];
    let (mut keys, mut differences) = (0, [0; 2]);
    for reading in &readings {
        frames.clear();
        let key = encoder.put(reading, &mut frames).expect("memory");
        if key {
            keys += frames.len();
        } else {
            for (sum, length) in differences.iter_mut().zip(encoder.last_payloads()) {
                *sum += length;
            }
        }
    }
    let begin = Instant::now();
    let mut stream = StreamReader::open(&bytes[..], true).expect("our own");
    let mut back = 0;
    while let Some(event) = stream.next_event().expect("our own") {
        back += usize::from(matches!(event, Event::Reading { .. }));
    }
    let decode = begin.elapsed() / COUNT as u32;
    assert_eq!(back, COUNT);
    println!(
        "{what}: {} bytes a reading (budget 600): key frames {}, system part {}, process part {}, head {head} once",
        (bytes.len() - head) / COUNT,
        keys / COUNT,
        differences[0] / COUNT,
        differences[1] / COUNT,
    );
    println!("  in blocks of 64, as in memory: {} bytes a reading", kept.len() / COUNT);
    println!("  encode {:.3} ms a reading (budget 1), decode {:.3} ms (budget 0.3)", ms(encode), ms(decode));
}

/// What a year at a minute takes.
fn thinned() {
    const MINUTES: usize = 900;
    let mut load = Load::new(Short::Ended);
    let mut writer = Writer::new(load.host(), Some(Duration::from_secs(60)));
    let mut thinner = Thinner::new(60_000_000_000);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    let head = bytes.len();
    let (mut before, mut count) = (None, 0);
    for _ in 0..MINUTES * 60 / EVERY as usize {
        let reading = load.next();
        let sample = Sample::new(load.host(), before.replace(reading.clone()), reading.clone());
        let points = PerLane::from_fn(|lane| lane.point(&sample));
        if let Some(thinned) = thinner.take(&reading, &points) {
            let kept = Arc::new(for_years(&thinned.reading));
            writer.put_with(&kept, Some(&thinned.peaks), &mut bytes).expect("memory");
            count += 1;
        }
    }
    writer.finish(&mut bytes);
    let each = (bytes.len() - head) / count;
    let year = each as f64 * 525_960.0 / f64::from(1 << 20);
    println!("thinned to a minute: {each} bytes a reading, a year {year:.0} MiB (budget 286)");
}

/// What the readings of a recording take when they are written anew.
fn anew(path: &str) {
    let bytes = std::fs::read(path).expect("a recording");
    let mut stream = StreamReader::open(&bytes[..], true).expect("a recording");
    let mut writer = Writer::new(stream.host().clone(), stream.every().map(Duration::from_secs_f64));
    let (mut out, mut count) = (vec![], 0);
    writer.begin(&mut out);
    let head = out.len();
    while let Some(event) = stream.next_event().expect("a recording") {
        if let Event::Reading { reading, .. } = event {
            writer.put(&Arc::from(reading), &mut out).expect("memory");
            count += 1;
        }
    }
    writer.finish(&mut out);
    let each = |bytes: usize| bytes / count.max(1);
    println!(
        "{path}: {count} readings of {} bytes, anew {} bytes",
        each(bytes.len()),
        each(out.len() - head)
    );
}

fn main() {
    if let Some(path) = std::env::args().skip(1).find(|argument| !argument.starts_with("--")) {
        return anew(&path);
    }
    if std::env::args().any(|argument| argument == "--thinned") {
        return thinned();
    }
    if std::env::args().any(|argument| argument == "--day") {
        return day();
    }
    sizes(Short::Ended, "20 that came and went between readings");
    sizes(Short::Rows, "20 that each one reading shows");
    thinned();
    if std::env::args().any(|argument| argument == "--sizes") {
        return;
    }
    day();
}

/// A recording on the disk.
struct OnDisk(std::fs::File);

impl Frames for OnDisk {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> std::io::Result<()> {
        std::os::unix::fs::FileExt::read_exact_at(&self.0, buffer, offset)
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> std::io::Result<usize> {
        std::os::unix::fs::FileExt::read_at(&self.0, buffer, offset)
    }
}

fn day() {
    const COUNT: usize = 43_200;
    let path = std::env::temp_dir().join(format!("dozor-bench-{}.dozor", std::process::id()));
    let mut load = Load::new(Short::Ended);
    let mut writer = Writer::new(load.host(), Some(Duration::from_secs(EVERY as u64)));
    let mut file = std::fs::File::create(&path).expect("a scratch file");
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for _ in 0..COUNT {
        writer.put(&load.next(), &mut bytes).expect("memory");
        if bytes.len() > 1 << 20 {
            file.write_all(&bytes).expect("room");
            bytes.clear();
        }
    }
    writer.finish(&mut bytes);
    file.write_all(&bytes).expect("room");
    let size = file.metadata().expect("a file").len();
    println!("a day at 2 s: {:.1} MiB", size as f64 / f64::from(1 << 20));
    let open = || OnDisk(std::fs::File::open(&path).expect("the scratch file"));
    // What the disk has is in memory afterwards: how fast the disk is says nothing of us.
    let bare = Instant::now();
    let content = std::fs::read(&path).expect("the scratch file");
    let bare = bare.elapsed();
    drop(content);
    let begin = Instant::now();
    let mut timeline = Timeline::open(open()).expect("our own");
    println!(
        "lanes of the day: {:.0} ms (budget 200; reading the file alone {:.0} ms)",
        ms(begin.elapsed()),
        ms(bare)
    );
    assert_eq!((timeline.end(), timeline.damages()), (COUNT, vec![]));
    let mut chance = Chance(11);
    let mut seeks: Vec<Duration> = (0..60)
        .map(|_| {
            let number = chance.below(COUNT as i64) as usize;
            let begin = Instant::now();
            timeline.sample(number).expect("our own");
            begin.elapsed()
        })
        .collect();
    seeks.sort_unstable();
    println!("seek anywhere: median {:.1} ms, slowest {:.1} ms (budget 50)", ms(seeks[30]), ms(seeks[59]));
    let begin = Instant::now();
    let most = (0..COUNT)
        .filter_map(|number| {
            Some((timeline.moment(number)?.point(dozor_core::lane::Lane::Cpu).value.value()?, number))
        })
        .max_by(|a, b| a.0.total_cmp(&b.0));
    println!("peak of a lane: {:.1} ms (budget 1000), {most:?}", ms(begin.elapsed()));
    for (alias, whom) in [("rss", None), ("cpu", None), ("write", Some("user = catalog"))] {
        let query = Query {
            metrics: vec![Asked::parse(alias).expect("a metric")],
            whom: whom.map(|text| Expression::parse(text).expect("an expression")),
            stat: Some(Stat::Max),
            ..Query::default()
        };
        let begin = Instant::now();
        let answer = query.answer(&timeline, 0..COUNT).expect("our own");
        let line = &answer.lines[0];
        println!(
            "peak of {alias} of a process{}: {:.0} ms (budget 1000), {:?}",
            whom.map_or(String::new(), |whom| format!(" where {whom}")),
            ms(begin.elapsed()),
            line.who.as_ref().map(|who| (&who.name, who.key.pid))
        );
    }
    std::fs::remove_file(&path).expect("removing the scratch file");
}
