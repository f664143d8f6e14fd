//! All tests that run Dozor as people and programs do, in one program: it is linked once.

mod acting;
mod asking;
mod browser;
mod budgets;
mod burning;
mod cli;
mod exporting;
mod finding;
mod hostile;
mod imports;
mod incidents;
mod inspecting;
mod machines;
#[path = "../../../core/tests/all/mutator/mod.rs"]
mod mutator;
mod page;
mod recorder;
mod replaying;
mod screen;
mod served;
mod serving;
mod terminal;

/// So much nicer than these tests: they may have been started at any niceness.
fn nicer(by: i32) -> String {
    (own_niceness() + by).min(19).to_string()
}

fn own_niceness() -> i32 {
    rustix::process::getpriority_process(None).expect("our own niceness")
}
