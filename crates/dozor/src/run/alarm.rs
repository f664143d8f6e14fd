//! The command of a rule of one's own: started without a shell, one at a time, ended when it takes too long.

use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// How long a command may take.
const LIMIT: Duration = Duration::from_secs(30);
/// How often it is looked whether it has ended.
const LOOK: Duration = Duration::from_millis(50);

static RUNS: AtomicBool = AtomicBool::new(false);

/// Starts a command, where there is one and none runs; else says why not. What it prints goes nowhere: the screen is ours.
pub fn start(command: &[String]) -> Result<(), String> {
    let [program, arguments @ ..] = command else { return Ok(()) };
    if RUNS.swap(true, Ordering::AcqRel) {
        return Err(format!("{program} was not started: the command of another rule still runs"));
    }
    let started = Command::new(program)
        .args(arguments)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let mut child = match started {
        Ok(child) => child,
        Err(error) => {
            RUNS.store(false, Ordering::Release);
            return Err(format!("{program}: {}", dozor_core::text::without_number(&error)));
        }
    };
    std::thread::spawn(move || {
        let begin = Instant::now();
        while child.try_wait().is_ok_and(|ended| ended.is_none()) {
            if begin.elapsed() > LIMIT {
                let _ = child.kill();
            }
            std::thread::sleep(LOOK);
        }
        RUNS.store(false, Ordering::Release);
    });
    Ok(())
}
