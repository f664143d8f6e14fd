use dozor_core::demo::*;
use dozor_core::findings::Engine;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use std::sync::Arc;
use std::time::Duration;
fn main() {
    let mut machine = SimulatedMachine::new(3);
    machine.want(dozor_core::wanted::Wanted::recorded());
    let host = Arc::new(machine.host());
    let mut engine = Engine::default();
    let mut before = None;
    let mut spent = Duration::ZERO;
    let from: u64 = std::env::args().nth(1).and_then(|t| t.parse().ok()).unwrap_or(0);
    for second in from..from + 430 {
        machine.advance_to(Duration::from_secs(second));
        let now = Arc::new(machine.reading());
        let sample = Sample::new(host.clone(), before.replace(now.clone()), now);
        let begin = std::time::Instant::now();
        engine.look(&sample);
        spent += begin.elapsed();
    }
    let zero = engine.history().all().first().map_or(0, |f| f.from_ns);
    for f in engine.history().all() {
        println!("{:?} {:6.0}..{:6.0} {} under {:?}\n     {}\n     {}", f.worst, (f.from_ns - zero) as f64 / 1e9, (f.until_ns - zero) as f64 / 1e9, f.name(), f.under.map(|u| u.0), f.tellings[0].sentence, f.last().sentence);
    }
    println!("{:?} a sample", spent / 430);
}
