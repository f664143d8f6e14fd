//! A reading asks for memory only for what changed.

mod counting;

use counting::allocations;
use dozor_core::row::Row as _;
use dozor_core::source::Source as _;
use dozor_linux::{LiveSource, Roots};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Idle processes beside us, and what a reading may ask for at the least: rows of ourselves and of others that just ran. Parts of
/// the machine, the list of rows and idle processes cost nothing.
const IDLE: usize = 100;
const MOST: u64 = 12;

struct Idle(Vec<Child>);

impl Drop for Idle {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

#[test]
fn a_reading_asks_for_memory_only_for_what_changed() {
    let idle = |_| Command::new("sleep").arg("60").stdin(Stdio::null()).spawn().expect("a child");
    let _idle = Idle((0..IDLE).map(idle).collect());
    let open = || LiveSource::open(Roots::default()).expect("the machine");
    for (name, mut source) in [("files", open()), ("kernel", open().from_inside())] {
        let (mut least, mut shown) = (u64::MAX, 0);
        // A process is new for its first readings; what is asked for seldom falls into every eighth.
        for _ in 0..60 {
            let before = allocations();
            let reading = source.read();
            least = least.min(allocations() - before);
            shown = reading.processes.len();
            source.reuse(reading);
            std::thread::sleep(Duration::from_millis(10));
        }
        assert!(shown > IDLE && least <= MOST, "{name}: {least} for {shown} processes");
    }
}

/// What is taken over is memory, never what stood in it.
#[test]
fn a_reading_in_the_memory_of_another_is_like_a_fresh_one() {
    let open = || LiveSource::open(Roots::default()).expect("the machine");
    let (mut one, mut other) = (open(), open());
    let (fresh, old) = (one.read(), other.read());
    other.reuse(old);
    let again = other.read();
    let names = |rows: usize, name: &dyn Fn(usize) -> String| (0..rows).map(name).collect::<Vec<_>>();
    for [fresh, again] in [
        [&fresh, &again]
            .map(|reading| names(reading.cores.len(), &|at| format!("{:?}", reading.cores[at].number))),
        [&fresh, &again].map(|reading| names(reading.disks.len(), &|at| reading.disks[at].name.to_string())),
        [&fresh, &again]
            .map(|reading| names(reading.interfaces.len(), &|at| reading.interfaces[at].name.to_string())),
        [&fresh, &again]
            .map(|reading| names(reading.sensors.len(), &|at| reading.sensors[at].name.to_string())),
    ] {
        assert_eq!(fresh, again);
    }
    let own = |reading: &dozor_core::reading::Reading| {
        let own = i64::from(std::process::id());
        reading
            .processes
            .iter()
            .filter(|row| row.pid.value() == Some(own))
            .map(|row| row.key())
            .collect::<Vec<_>>()
    };
    assert_eq!((own(&again).len(), own(&again)), (1, own(&fresh)));
    assert!(again.processes.is_sorted_by_key(|row| row.pid.value()));
}

#[test]
fn how_far_the_first_reading_is_is_told_until_it_is_over() {
    let mut source = LiveSource::open(Roots::default()).expect("the machine");
    let progress = source.progress().expect("of the machine it is told");
    assert_eq!(progress.get(), Some((0, 0)), "it has not begun");
    let reader = std::thread::spawn(move || source.read().processes.len());
    let mut told = vec![];
    while let Some(reached) = progress.get() {
        told.push(reached);
    }
    let read = reader.join().expect("a reading");
    assert!(told.is_sorted(), "{told:?}");
    assert!(told.iter().all(|(done, of)| done <= of && *of as usize <= 2 * read + 64), "{told:?} of {read}");
}
