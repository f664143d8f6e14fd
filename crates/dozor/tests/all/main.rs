//! All tests that run Dozor as people and programs do, in one program: it is linked once. Those that are called `undisturbed_…`
//! compare with what the kernel counts of the whole machine, and need it for themselves; `scripts/test` runs them alone.

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

/// A niceness higher by this much than that of these tests, which may have been started at any.
fn nicer(by: i32) -> String {
    (own_niceness() + by).min(19).to_string()
}

fn own_niceness() -> i32 {
    rustix::process::getpriority_process(None).expect("our own niceness")
}

/// CPU time of a process that was not waited for yet, in seconds; `proc_pid_stat(5)` utime and stime.
fn cpu_time(pid: u32) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("it was not waited for");
    let words: Vec<&str> = stat.rsplit_once(") ").expect("its name").1.split(' ').collect();
    let ticks: f64 = [11, 12].iter().map(|at| words[*at].parse::<f64>().expect("ticks")).sum();
    ticks / 100.0
}

/// Copies Dozor, by another program: a test beside this one that starts somebody would pass our open file on, and a file that
/// somebody may write to cannot be run.
fn copy_program(to: &std::path::Path) {
    let copied = std::process::Command::new("cp").arg(terminal::DOZOR).arg(to).status();
    assert!(copied.is_ok_and(|status| status.success()), "no copy at {}", to.display());
}
