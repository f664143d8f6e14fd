//! The commands of rules of one's own: started without a shell, one after the other, each in a session of
//! its own that is ended as a whole when it takes too long, and when Dozor ends.

use std::collections::VecDeque;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// How long a command may take.
const LIMIT: Duration = Duration::from_secs(30);
/// How often it is looked whether it has ended.
const LOOK: Duration = Duration::from_millis(50);
/// How long what was told to end is given for it.
const GRACE: Duration = Duration::from_millis(150);
/// So many wait for their turn.
const WAITING: usize = 16;

/// Runs the commands. When it is dropped what runs is ended, and what waits is not started.
#[derive(Default)]
pub struct Alarms {
    runner: Option<(SyncSender<Vec<String>>, JoinHandle<()>)>,
}

impl Alarms {
    /// Has a command run when those before it are over. What cannot be started is told by `told`, later.
    pub fn start(
        &mut self,
        command: Vec<String>,
        told: impl Fn(String) + Send + 'static,
    ) -> Result<(), String> {
        let Some(program) = command.first().cloned() else { return Ok(()) };
        let (sender, _) = self.runner.get_or_insert_with(|| {
            let (sender, commands) = sync_channel(WAITING);
            (sender, std::thread::spawn(move || run(&commands, &told)))
        });
        sender.try_send(command).map_err(|error| match error {
            TrySendError::Full(_) => {
                format!("{program} was not started: {WAITING} commands of rules wait already")
            }
            TrySendError::Disconnected(_) => format!("{program} was not started"),
        })
    }
}

impl Drop for Alarms {
    fn drop(&mut self) {
        if let Some((sender, thread)) = self.runner.take() {
            drop(sender);
            let _ = thread.join();
        }
    }
}

fn run(commands: &Receiver<Vec<String>>, told: &impl Fn(String)) {
    let mut waiting = VecDeque::new();
    loop {
        let Some(command) = waiting.pop_front().or_else(|| commands.recv().ok()) else { return };
        let mut child = match begin(&command) {
            Ok(child) => child,
            Err(why) => {
                told(why);
                continue;
            }
        };
        let begun = Instant::now();
        loop {
            // Those that come meanwhile are taken here, so that the end of the channel, which is that of Dozor, is seen.
            match commands.recv_timeout(LOOK) {
                Ok(next) => waiting.push_back(next),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return end(&mut child),
            }
            if child.try_wait().map_or(true, |ended| ended.is_some()) {
                break;
            }
            if begun.elapsed() > LIMIT {
                end(&mut child);
                break;
            }
        }
    }
}

fn begin(command: &[String]) -> Result<Child, String> {
    let Some((program, arguments)) = command.split_first() else { return Err(String::new()) };
    let mut command = Command::new(program);
    // What it prints goes nowhere: the screen is ours.
    command.args(arguments).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    dozor_linux::launch::in_its_own_session(&mut command);
    command.spawn().map_err(|error| format!("{program}: {}", dozor_core::text::without_number(&error)))
}

/// Ends a command with all of its session, politely first.
fn end(child: &mut Child) {
    use rustix::process::{Pid, Signal, kill_process_group};
    let Some(session) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) else { return };
    let _ = kill_process_group(session, Signal::TERM);
    let begun = Instant::now();
    while begun.elapsed() < GRACE && child.try_wait().is_ok_and(|ended| ended.is_none()) {
        std::thread::sleep(LOOK / 5);
    }
    for pid in dozor_linux::launch::of_session(session) {
        let _ = rustix::process::kill_process(pid, Signal::KILL);
    }
    let _ = child.kill();
    let _ = child.wait();
}
