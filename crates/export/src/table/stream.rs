//! Writes tables in pieces: while one is written the next is decoded.

use super::{Batch, Sink, Table, Which, WriteError};
use dozor_core::chart::reach_of;
use dozor_core::findings::found_in;
use dozor_core::recording::{Mark, MarkKind, ReadError};
use dozor_core::timeline::Timeline;
use std::io;
use std::ops::Range;
use std::sync::mpsc::sync_channel;

/// Rows of a batch from which on it is written: at the end of a sample.
const BATCH: usize = 60_000;

/// Why a walk ended early.
enum Stopped {
    Reading(ReadError),
    Writing,
}

impl From<ReadError> for Stopped {
    fn from(error: ReadError) -> Stopped {
        Stopped::Reading(error)
    }
}

/// What happened in a range of samples: behind the sample before it, up to its last one, so that ranges that follow each other have
/// all of it and nothing twice; but for what stood out, which has a table of its own. `to_end` adds what came behind the last sample of all.
pub fn marks_in(timeline: &Timeline, numbers: &Range<usize>, to_end: bool) -> Vec<Mark> {
    let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let from = if numbers.start > timeline.first() { wall(numbers.start - 1) } else { i64::MIN };
    let is_end = to_end && numbers.end >= timeline.end();
    let until = if is_end { i64::MAX } else { wall(numbers.end.saturating_sub(1)) };
    let within = |mark: &Mark| mark.wall_ns > from && mark.wall_ns <= until && mark.kind != MarkKind::Finding;
    timeline.marks().into_iter().filter(within).collect()
}

/// Writes the rows of a range of samples into what `begin` makes, on a thread of its own; tells after each sample how many are done. Of what
/// happened `to_end` adds what came behind the last sample.
pub fn stream<'a>(
    timeline: &Timeline,
    numbers: Range<usize>,
    (mut table, to_end): (Table, bool),
    begin: impl FnOnce() -> Result<Box<dyn Sink + 'a>, WriteError> + Send,
    done: &mut dyn FnMut(usize),
) -> Result<(), WriteError> {
    let columns = table.columns().to_vec();
    std::thread::scope(|scope| {
        let (full, filled) = sync_channel::<Batch>(1);
        let (empty, emptied) = sync_channel::<Batch>(2);
        for _ in 0..2 {
            let _ = empty.send(Batch::new(&columns));
        }
        let writing = scope.spawn(move || -> Result<(), WriteError> {
            let mut sink = begin()?;
            for mut batch in filled {
                sink.put(&batch)?;
                batch.clear();
                let _ = empty.send(batch);
            }
            sink.end()
        });
        let mut batch = emptied.recv().unwrap_or_else(|_| Batch::new(&columns));
        let walked = if table.which() == Which::Actions {
            Table::fill_marks(&marks_in(timeline, &numbers, to_end), &mut batch);
            Ok(())
        } else if table.which() == Which::Findings {
            found_in(timeline, numbers.clone(), done)
                .map(|history| {
                    Table::fill_findings(&history, reach_of(timeline, &numbers), !to_end, &mut batch);
                })
                .map_err(Stopped::Reading)
        } else {
            let (reach, first) = (table.reach(), numbers.start);
            timeline.walk::<Stopped>(numbers, reach, |number, sample| {
                table.fill(sample, &mut batch);
                done(number - first);
                if batch.rows >= BATCH {
                    // Where the other one has stopped its error says why.
                    let next = emptied.recv().map_err(|_| Stopped::Writing)?;
                    full.send(std::mem::replace(&mut batch, next)).map_err(|_| Stopped::Writing)?;
                }
                Ok(())
            })
        };
        let last = full.send(batch);
        drop(full);
        let written = writing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        match walked {
            Err(Stopped::Reading(error)) => Err(error.into()),
            _ => written.and(last.map_err(|_| io::Error::from(io::ErrorKind::BrokenPipe).into())),
        }
    })
}
