//! The pages of the inspector as tables.

use super::inspector::{Inspector, Page};
use super::table::{Column, Table, maybe, number, quiet, raw, strong, value, word, words};
use crate::state::State;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::files::{FileKind, OpenFile, held_by_removed, progress, speeds};
use dozor_core::inside::waits::{Task, words as wait_words};
use dozor_core::inside::words::{holds_password, is_secret};
use dozor_core::inside::{Connection, Look, Mapping, Thread, Treatment, words as inside_words};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ThreadRow;
use dozor_core::row::Row as _;
use dozor_core::signals;
use dozor_core::units::{long_bytes, share, short_bytes, short_count, short_duration, short_wait};
use std::collections::HashMap;

/// Ticks of CPU time a second on the machine that is looked at.
fn ticks_per_second(state: &State) -> f64 {
    f64::from(state.time().timeline.host().ticks_per_second.max(1))
}

/// What is hidden.
const HIDDEN: &str = "******  (s shows it)";

/// What to say where this user may not see it: once, with what would help.
pub fn denied(state: &State, what: &str) -> Table {
    let user = state.deeds().user.clone();
    let who = if user == "root" {
        "the kernel forbids it even to root here".to_owned()
    } else {
        "run dozor as its user or as root to see them".to_owned()
    };
    Table::only(format!("× {what}: not permitted; {who}"))
}

/// What to say where nothing was told.
fn nothing(inspector: &Inspector, state: &State, what: &str) -> Table {
    if Inspector::asks(state) {
        Table::only(if inspector.is_gone(state) {
            format!("it is gone: {what} went with it")
        } else {
            format!("asking for {what} …")
        })
    } else {
        let live = state.key(crate::look::action::Action::Live);
        let way = if state.session().actions_refused.is_some() {
            String::new()
        } else {
            format!("; {live} looks at the present")
        };
        Table::only(format!("– {what} were not recorded{way}"))
    }
}

/// The table of a page.
pub fn table(inspector: &Inspector, state: &State, page: Page) -> Table {
    match page {
        Page::It => Table::default(),
        Page::Threads => threads(inspector, state),
        Page::Files => files(inspector, state),
        Page::Sockets => sockets(inspector, state),
        Page::Memory => memory(inspector, state),
        Page::Environment => environment(inspector, state),
        Page::Signals => signal_page(inspector, state),
        Page::Ended => ended(inspector, state),
        Page::History => history(inspector, state),
    }
}

fn thread_columns() -> Vec<Column> {
    vec![
        number("thread", 8),
        words("name", 16),
        number("cpu %", 7),
        number("core wait%", 10),
        number("cpu time", 9).yielding(),
        number("core", 5).yielding(),
        number("nice", 5).yielding(),
        words("state", 9),
        words("what it does", 0),
    ]
}

/// CPU time of a thread in seconds, as fine as the kernel tells it.
fn cpu_seconds(row: &ThreadRow, ticks_per_second: f64) -> Option<f64> {
    let ticks = row.user_ticks.value().zip(row.system_ticks.value());
    let run = row.run_ns.value().map(|ns| ns as f64 / 1e9);
    run.or(ticks.map(|(user, system)| (user + system) as f64 / ticks_per_second))
}

fn threads(inspector: &Inspector, state: &State) -> Table {
    let ticks = ticks_per_second(state);
    // CPU time in seconds, and what it waited for a core.
    let used = |row: &ThreadRow| (row.key(), (cpu_seconds(row, ticks), row.core_wait_ns));
    let now: Vec<Thread>;
    let before: HashMap<(i64, i64), (Option<f64>, Raw)>;
    let seconds;
    if Inspector::asks(state) {
        let Some(look) = &inspector.threads.1 else { return nothing(inspector, state, "threads") };
        now = match &look.seen {
            Known::Value(threads) => threads.clone(),
            Known::Denied => return denied(state, "threads"),
            Known::Absent => return nothing(inspector, state, "threads"),
        };
        let earlier = inspector.threads.0.as_ref();
        seconds = earlier.and_then(|earlier| look.seconds_since(earlier));
        let rows = earlier.and_then(|earlier| earlier.seen.clone().value()).unwrap_or_default();
        before = rows.iter().map(|it| used(&it.row)).collect();
    } else {
        let Some(sample) = &state.moment().sample else { return nothing(inspector, state, "threads") };
        let of = |row: &&ThreadRow| row.pid.value() == Some(inspector.key.pid);
        let as_thread =
            |row: &ThreadRow| Thread { row: row.clone(), doing: Known::Absent, wait_channel: Known::Absent };
        now = sample.now.threads.iter().filter(of).map(as_thread).collect();
        if now.is_empty() {
            return nothing(inspector, state, "threads");
        }
        seconds = sample.seconds();
        let rows = sample.before.as_ref().map_or(&[][..], |before| &before.threads[..]);
        before = rows.iter().filter(of).map(used).collect();
    }
    let row = |thread: &Thread| {
        let it = &thread.row;
        let used = cpu_seconds(it, ticks);
        let (used_before, waited_before) = before.get(&it.key()).copied().unwrap_or((None, Raw::ABSENT));
        let percent = used
            .zip(used_before)
            .zip(seconds)
            .map(|((now, before), seconds)| ((now - before) / seconds * 100.0).max(0.0));
        let waited = it.core_wait_ns.value().zip(waited_before.value()).zip(seconds);
        let waited = waited.map(|((now, before), seconds)| ((now - before) as f64 / seconds / 1e7).max(0.0));
        let letter = it.state.value().and_then(|code| u8::try_from(code).ok()).map(char::from);
        let doing = wait_words(Task {
            state: letter,
            doing: &thread.doing,
            wait_channel: &thread.wait_channel,
            frozen: false,
        });
        vec![
            value(it.tid.value().unwrap_or(0) as f64, it.tid.value().unwrap_or(0).to_string()),
            strong(it.name.to_string()),
            maybe(percent, share),
            maybe(waited, share),
            maybe(used, short_duration),
            raw(it.core, |core| core.to_string()),
            raw(it.nice, |nice| nice.to_string()),
            word(dozor_core::sample::state_word(it.state).unwrap_or("–")),
            word(doing),
        ]
    };
    Table { columns: thread_columns(), rows: now.iter().map(row).collect(), notes: vec![] }
}

/// Open files, and the speed of each descriptor that moves.
pub type FilesTold = (Known<Vec<OpenFile>>, HashMap<i64, f64>);

/// The open files as they were told, and how fast each moves.
pub fn files_told(inspector: &Inspector, state: &State) -> Option<FilesTold> {
    let look = inspector.files.1.as_ref().filter(|_| Inspector::asks(state))?;
    let moved = inspector.files.0.as_ref().map_or_else(HashMap::new, |before| speeds(before, look));
    Some((look.seen.clone(), moved))
}

fn files(inspector: &Inspector, state: &State) -> Table {
    let Some((seen, moved)) = files_told(inspector, state) else {
        return nothing(inspector, state, "open files");
    };
    let list = match seen {
        Known::Value(list) => list,
        Known::Denied => return denied(state, "open files"),
        Known::Absent => return nothing(inspector, state, "open files"),
    };
    let row = |file: &OpenFile| {
        let speed = moved.get(&file.descriptor).copied();
        let path = if file.removed { format!("{}   removed", file.target) } else { file.target.clone() };
        let far = match (progress(file, speed), file.removed) {
            (_, true) => format!(
                "holds {}",
                file.holds.value().map_or_else(|| "–".to_owned(), |bytes| long_bytes(bytes as f64))
            ),
            (far, false) => far,
        };
        let role_of_path = if file.kind == FileKind::File { strong(path) } else { word(path) };
        vec![
            value(file.descriptor as f64, file.descriptor.to_string()),
            word(file.kind.word()),
            quiet(file.mode()),
            raw(file.offset, short_bytes),
            raw(file.size, short_bytes),
            maybe(speed, short_bytes),
            word(far),
            role_of_path,
        ]
    };
    let held = held_by_removed(&list);
    let mut notes = vec![];
    if held > 0 {
        notes.push(format!(
            "removed files that it holds open take {} of their file systems",
            long_bytes(held as f64)
        ));
    }
    Table {
        columns: vec![
            number("fd", 5),
            words("kind", 7),
            words("for", 11),
            number("at", 8),
            number("size", 8),
            number("moves/s", 9),
            words("how far", 38.min(state.size.0 / 4)),
            words("path", 0),
        ],
        rows: list.iter().map(row).collect(),
        notes,
    }
}

fn socket_rows(
    now: &[Connection],
    before: &HashMap<i64, (f64, f64)>,
    seconds: Option<f64>,
) -> Vec<Vec<super::table::Cell>> {
    let rate = |now: Raw, before: Option<f64>| {
        let now = now.value()? as f64;
        Some(((now - before?) / seconds?).max(0.0))
    };
    now.iter()
        .map(|socket| {
            let earlier = before.get(&socket.descriptor);
            let waits = |raw_number: Raw| raw(raw_number, short_count);
            vec![
                value(socket.descriptor as f64, socket.descriptor.to_string()),
                word(socket.protocol.to_string()),
                quiet(socket.local.to_string()),
                strong(socket.remote.to_string()),
                word(socket.state.to_string()),
                maybe(rate(socket.received, earlier.map(|(received, _)| *received)), short_bytes),
                maybe(rate(socket.sent, earlier.map(|(_, sent)| *sent)), short_bytes),
                raw(socket.again, short_bytes),
                waits(socket.to_read),
                waits(socket.to_send),
                raw(socket.drops, short_count),
                raw(socket.round_trip_us, |us| short_wait(us / 1e6)),
            ]
        })
        .collect()
}

fn sockets(inspector: &Inspector, state: &State) -> Table {
    let counted = |list: &[Connection]| -> HashMap<i64, (f64, f64)> {
        let both = |socket: &Connection| {
            Some((socket.descriptor, (socket.received.value()? as f64, socket.sent.value()? as f64)))
        };
        list.iter().filter_map(both).collect()
    };
    let rows = if Inspector::asks(state) {
        let Some(look) = &inspector.sockets.1 else { return nothing(inspector, state, "sockets") };
        let list = match &look.seen {
            Known::Value(list) => list,
            Known::Denied => return denied(state, "sockets"),
            Known::Absent => return nothing(inspector, state, "sockets"),
        };
        let earlier = inspector.sockets.0.as_ref();
        let before = earlier.and_then(|earlier| earlier.seen.clone().value()).unwrap_or_default();
        let seconds = earlier.and_then(|earlier| look.seconds_since(earlier));
        if list.is_empty() {
            return Table::only("it has no sockets");
        }
        socket_rows(list, &counted(&before), seconds)
    } else {
        let Some(sample) = &state.moment().sample else { return nothing(inspector, state, "sockets") };
        let of = |reading: &dozor_core::reading::Reading| -> Vec<Connection> {
            let mine = reading.connections.iter().filter(|row| row.pid.value() == Some(inspector.key.pid));
            mine.map(|row| Connection {
                // The cookie tells sockets apart where no descriptor is recorded.
                descriptor: row.cookie.value().unwrap_or(0),
                protocol: "TCP".into(),
                local: row.local.clone(),
                remote: row.remote.clone(),
                received: row.in_bytes,
                sent: row.out_bytes,
                ..Connection::default()
            })
            .collect()
        };
        let (now, before) = (of(&sample.now), sample.before.as_ref().map_or(vec![], |before| of(before)));
        if now.is_empty() {
            return nothing(inspector, state, "sockets");
        }
        let mut rows = socket_rows(&now, &counted(&before), sample.seconds());
        for row in &mut rows {
            row[0] = quiet("–");
        }
        rows
    };
    let columns = vec![
        number("fd", 5),
        words("kind", 5),
        words("this side", 22),
        words("other side", 22),
        words("state", 13),
        number("in/s", 7),
        number("out/s", 7),
        number("again", 7),
        number("to read", 7),
        number("to send", 7),
        number("dropped", 7),
        number("round trip", 10),
    ];
    Table { columns, rows, notes: vec![] }
}

/// The kernel's words for kinds of memory, in plain ones; `proc_pid_status(5)`.
const KINDS: [(&str, &str); 12] = [
    ("VmRSS", "in RAM"),
    ("RssAnon", "its own"),
    ("RssFile", "of files"),
    ("RssShmem", "shared"),
    ("VmHWM", "most in RAM"),
    ("VmSwap", "in swap"),
    ("VmSize", "address space"),
    ("VmData", "data"),
    ("VmStk", "stack"),
    ("VmExe", "code"),
    ("VmLib", "libraries"),
    ("VmPTE", "page tables"),
];

fn memory(inspector: &Inspector, state: &State) -> Table {
    let Some(memory) = inspector.memory.as_ref().filter(|_| Inspector::asks(state)) else {
        return nothing(inspector, state, "mappings");
    };
    let mut notes = vec![];
    if let Known::Value(kinds) = &memory.kinds {
        let said: Vec<String> = KINDS
            .iter()
            .filter_map(|(name, word)| {
                let bytes = kinds.iter().find(|(other, _)| other == name)?.1;
                (bytes > 0).then(|| format!("{word} {}", long_bytes(bytes as f64)))
            })
            .collect();
        if said.is_empty() {
            notes.push("it has no memory of its own".to_owned());
        }
        notes.extend(said.chunks(6).map(|part| part.join("   ")));
    }
    let list = match &memory.mappings {
        Known::Value(list) => &list[..],
        Known::Denied => {
            notes.extend(denied(state, "mappings").notes);
            &[]
        }
        Known::Absent => &[],
    };
    let row = |mapping: &Mapping| {
        let name = if mapping.removed { format!("{}   removed", mapping.name) } else { mapping.name.clone() };
        vec![
            raw(mapping.resident, short_bytes),
            raw(mapping.proportional, short_bytes),
            raw(mapping.dirty, short_bytes),
            raw(mapping.swap, short_bytes),
            value(mapping.size as f64, short_bytes(mapping.size as f64)),
            value(mapping.count as f64, mapping.count.to_string()),
            strong(name),
        ]
    };
    let columns = vec![
        number("in RAM", 8),
        number("its part", 8),
        number("changed", 8),
        number("in swap", 8),
        number("mapped", 8),
        number("times", 5),
        words("what", 0),
    ];
    Table { columns, rows: list.iter().map(row).collect(), notes }
}

fn environment(inspector: &Inspector, state: &State) -> Table {
    let Some(list) = inspector.environment.as_ref().filter(|_| Inspector::asks(state)) else {
        return nothing(inspector, state, "variables");
    };
    let list = match list {
        Known::Value(list) => list,
        Known::Denied => return denied(state, "variables"),
        Known::Absent => return Table::only("it has no environment"),
    };
    let hidden = |name: &str, value: &str| !inspector.secrets && (is_secret(name) || holds_password(value));
    let row = |(name, value): &(String, String)| {
        let shown = if hidden(name, value) { quiet(HIDDEN) } else { word(value.clone()) };
        vec![strong(name.clone()), shown]
    };
    let secrets = list.iter().filter(|(name, value)| hidden(name, value)).count();
    let mut notes = vec!["as it was when the program started".to_owned()];
    if secrets > 0 {
        notes[0].push_str(&format!("; {secrets} likely secrets are hidden"));
    }
    Table { columns: vec![words("name", 28), words("value", 0)], rows: list.iter().map(row).collect(), notes }
}

fn signal_page(inspector: &Inspector, state: &State) -> Table {
    let Some(facts) = inspector.facts_now(state) else { return nothing(inspector, state, "signals") };
    let masks = match &facts.signals {
        Known::Value(masks) => masks,
        Known::Denied => return denied(state, "signals"),
        Known::Absent => return nothing(inspector, state, "signals"),
    };
    let row = |signal: signals::Signal| {
        let treatment = match masks.treatment(signal.number) {
            Treatment::Usual if signal.number == signals::KILL || signal.number == signals::STOP => {
                strong("cannot be refused")
            }
            Treatment::Usual if signal.ends => word("ends it"),
            Treatment::Usual => quiet("its usual effect"),
            Treatment::Handled => strong("handled by the program"),
            Treatment::Ignored => strong("ignored"),
            Treatment::Blocked => strong("held back"),
        };
        let waits = if masks.pending.contains(&signal.number) { strong("waits") } else { quiet("") };
        vec![
            value(f64::from(signal.number), signal.number.to_string()),
            strong(signal.name.to_string()),
            treatment,
            waits,
            quiet(signal.words.to_string()),
        ]
    };
    // Real-time signals are shown where something is special about them.
    let special =
        |number: i32| masks.treatment(number) != Treatment::Usual || masks.pending.contains(&number);
    let shown = signals::all().filter(|signal| signal.number < 32 || special(signal.number));
    Table {
        columns: vec![
            number("number", 6),
            words("name", 9),
            words("what becomes of it", 22),
            words("pending", 7),
            words("meaning", 0),
        ],
        rows: shown.map(row).collect(),
        notes: vec![inside_words::signal(masks, signals::TERM)],
    }
}

fn ended(inspector: &Inspector, state: &State) -> Table {
    let mut by_program: HashMap<String, (u64, Option<f64>, f64)> = HashMap::new();
    for child in inspector.series.ended(state) {
        let sum = by_program.entry(child.name.to_string()).or_insert((0, Some(0.0), 0.0));
        sum.0 += 1;
        sum.1 = sum.1.zip(child.cpu).map(|(sum, cpu)| sum + cpu);
        sum.2 = sum.2.max(child.peak.unwrap_or(0.0));
    }
    let count: u64 = by_program.values().map(|sum| sum.0).sum();
    let reaped = inspector.row(state).and_then(|row| {
        let ticks = row.children_user_ticks.value()?.checked_add(row.children_system_ticks.value()?)?;
        Some(ticks as f64 / ticks_per_second(state))
    });
    let reaped = reaped.map_or_else(String::new, |seconds| {
        format!(
            "; all that it collected since it began used {} of CPU",
            dozor_core::units::long_duration(seconds)
        )
    });
    let rows = by_program
        .into_iter()
        .map(|(name, (count, cpu, peak))| {
            vec![
                value(count as f64, short_count(count as f64)),
                maybe(cpu, short_duration),
                if peak > 0.0 { value(peak, short_bytes(peak)) } else { quiet("–") },
                strong(name),
            ]
        })
        .collect();
    Table {
        columns: vec![
            number("ended", 7),
            number("cpu time", 9),
            number("most memory", 11),
            words("program", 0),
        ],
        rows,
        notes: vec![format!("{count} children ended within the time above{reaped}")],
    }
}

/// Restarts, actions and notes, the newest first.
fn history(inspector: &Inspector, state: &State) -> Table {
    let mut rows = vec![];
    for sign in state.time().signs.iter().rev() {
        let ours = sign.deeds.iter().filter(|record| inspector.is_one_of(record.pid, record.start));
        for record in ours {
            rows.push(vec![
                value(sign.wall_ns as f64, state.time().zone.time(sign.wall_ns)),
                word("done"),
                strong(record.words()),
            ]);
        }
        if sign.deeds.is_empty() && sign.text.contains(&inspector.label()) {
            rows.push(vec![
                value(sign.wall_ns as f64, state.time().zone.time(sign.wall_ns)),
                word(sign.kind.word()),
                strong(sign.text.clone()),
            ]);
        }
    }
    for (wall, text) in &inspector.happened {
        rows.push(vec![
            value(*wall as f64, state.time().zone.time(*wall)),
            word("restart"),
            strong(text.clone()),
        ]);
    }
    let notes =
        if rows.is_empty() { vec!["nothing was done to it and noted of it".to_owned()] } else { vec![] };
    Table { columns: vec![number("when", 8), words("kind", 9), words("what", 0)], rows, notes }
}

/// What a close look has seen of each thread.
pub fn looked_at(look: &CloseLook) -> Table {
    let row = |thread: &dozor_core::inside::close::OfThread| {
        vec![
            value(thread.tid as f64, thread.tid.to_string()),
            strong(thread.name.to_string()),
            value(thread.percent[0], share(thread.percent[0])),
            value(thread.percent[1], share(thread.percent[1])),
            value(thread.percent[2], share(thread.percent[2])),
            word(thread.mostly.clone()),
        ]
    };
    Table {
        columns: vec![
            number("thread", 8),
            words("name", 16),
            number("runs %", 7),
            number("blocked %", 9),
            number("waits %", 7),
            words("mostly", 0),
        ],
        rows: look.by_thread().iter().map(row).collect(),
        notes: vec![],
    }
}

/// Whether two looks are of the same kind; keeps the last two.
pub fn keep<T>(pair: &mut (Option<Look<T>>, Option<Look<T>>), look: Look<T>) {
    pair.0 = pair.1.take();
    pair.1 = Some(look);
}
