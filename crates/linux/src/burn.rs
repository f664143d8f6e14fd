//! A load of our own: threads that keep cores busy for a part of the time, and touch memory. sched_setaffinity(2).

use dozor_core::cores::CoreSet;
use rustix::thread::{CpuSet, sched_setaffinity};
use std::hint::black_box;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// A share of the time is a share of each of these.
const PERIOD: Duration = Duration::from_millis(100);
/// Numbers that a thread works on before it looks at the clock.
const CHUNK: usize = 20_000;
/// Words of a page of memory.
const PAGE: usize = 4_096 / size_of::<u64>();

/// A load while it lasts; it ends when this is dropped.
pub struct Load {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Load {
    /// Begins it on these cores, busy for `share` of the time (0 to 1), with so many bytes of memory in all.
    ///
    /// # Errors
    /// A core that is not there or not ours, a thread that cannot be started, memory that cannot be had.
    pub fn start(cores: &CoreSet, share: f64, memory: usize) -> io::Result<Load> {
        let stop = Arc::new(AtomicBool::new(false));
        let mut load = Load { stop: stop.clone(), threads: vec![] };
        let words = memory / cores.len().max(1) / size_of::<u64>();
        let (ready, begun) = std::sync::mpsc::channel();
        for core in cores.iter() {
            let (stop, ready) = (stop.clone(), ready.clone());
            let thread = std::thread::Builder::new().name(format!("burn {core}")).spawn(move || {
                let result = pin(core).and_then(|()| room(words));
                match result {
                    Ok(mut memory) => {
                        let _ = ready.send(Ok(()));
                        work(share, &mut memory, &stop);
                    }
                    Err(error) => drop(ready.send(Err(error))),
                }
            })?;
            load.threads.push(thread);
        }
        for _ in 0..load.threads.len() {
            begun.recv().map_err(|_| io::Error::from(io::ErrorKind::BrokenPipe))??;
        }
        Ok(load)
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}

fn pin(core: usize) -> io::Result<()> {
    if core >= CpuSet::MAX_CPU {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let mut set = CpuSet::new();
    set.set(core);
    Ok(sched_setaffinity(None, &set)?)
}

fn room(words: usize) -> io::Result<Vec<u64>> {
    let mut memory = vec![];
    memory.try_reserve_exact(words).map_err(|_| io::Error::from(io::ErrorKind::OutOfMemory))?;
    memory.resize(words, 0);
    Ok(memory)
}

/// Reckons for a share of each period and sleeps for the rest of it.
fn work(share: f64, memory: &mut [u64], stop: &AtomicBool) {
    let busy = PERIOD.mul_f64(share.clamp(0.0, 1.0));
    let (mut number, mut real, mut page) = (1u64, 1.000_1f64, 0);
    let mut begin = Instant::now();
    while !stop.load(Ordering::Relaxed) {
        while begin.elapsed() < busy && !stop.load(Ordering::Relaxed) {
            for _ in 0..CHUNK {
                number =
                    number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                real = (real * 1.000_000_1).fract() + 1.0;
            }
            // A page in turn: what is written is read again a round later.
            if memory.len() >= PAGE {
                page = (page + PAGE) % (memory.len() - memory.len() % PAGE);
                for word in &mut memory[page..page + PAGE] {
                    *word = word.wrapping_add(number);
                }
            }
            black_box((number, real));
        }
        std::thread::sleep(PERIOD.saturating_sub(begin.elapsed()));
        // Who was kept from running does not catch up.
        begin += PERIOD;
        if begin.elapsed() > PERIOD {
            begin = Instant::now();
        }
    }
}
