//! The whole way in a real terminal: find a process, look into it, look closer, act, see what became of it, undo. By keys on
//! real processes that the test starts, by mouse in the demo.

use crate::nicer;
use crate::terminal::Terminal;
use std::process::{Child, Command, Stdio};

const LARGE: (u16, u16) = (160, 48);

/// A child that works a little and waits; ended at the end of the test.
struct Worker(Child);

impl Worker {
    fn start() -> Worker {
        let script = "i=0; while :; do i=$((i+1)); [ $((i % 20000)) -eq 0 ] && sleep 0.05; done";
        Worker(Command::new("sh").args(["-c", script]).stdin(Stdio::null()).spawn().expect("a shell"))
    }

    fn pid(&self) -> u32 {
        self.0.id()
    }

    fn nice(&self) -> String {
        let text = std::fs::read_to_string(format!("/proc/{}/stat", self.pid())).expect("it is there");
        text.rsplit_once(')')
            .and_then(|(_, rest)| rest.split_whitespace().nth(16))
            .expect("its niceness")
            .to_owned()
    }

    fn cores(&self) -> String {
        let text = std::fs::read_to_string(format!("/proc/{}/status", self.pid())).expect("it is there");
        let line = text.lines().find_map(|line| line.strip_prefix("Cpus_allowed_list:"));
        line.expect("its cores").trim().to_owned()
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_real_process_is_found_looked_into_changed_and_ended_by_keys() {
    let mut worker = Worker::start();
    let pid = worker.pid();
    let terminal = Terminal::alone(&format!("dozor {pid} --every 300ms --no-history"), LARGE);
    // The title names it before it has a row.
    let is_its = |line: &str| line.contains("sh -c") && line.contains(&pid.to_string());
    terminal.wait("its row", |screen| screen.lines().any(is_its));
    terminal.keys("Down");
    terminal.wait("it is chosen", |screen| {
        screen.lines().any(|line| line.contains('▸') && line.contains(&pid.to_string()))
    });
    terminal.keys("Enter");
    let screen = terminal.wait_for("cannot be refused");
    assert!(screen.contains(&format!("sh[{pid}]")) && screen.contains("runs in /"), "{screen}");
    terminal.keys("c");
    terminal.wait_for("Where its time goes: looked closely for 5.0 s");
    let screen = terminal.screen();
    assert!(
        screen.contains("running its own code") && screen.contains("for a child") || screen.contains("wait4"),
        "{screen}"
    );
    let all = worker.cores();
    // Less CPU, and back.
    terminal.keys("x");
    terminal.wait_for("What shall happen to sh");
    let (before, nice) = (nicer(0), nicer(6));
    terminal.text(&format!("nice {nice}"));
    terminal.keys("Enter");
    terminal.wait_for(&format!("nice {before} → {nice}: gives way to others"));
    assert_eq!(worker.nice(), nice);
    // Fewer cores, and back.
    terminal.keys("x");
    terminal.wait_for("What shall happen to sh");
    terminal.text("cores 0");
    terminal.keys("Enter");
    terminal.wait_for("it has run since on 0 only");
    assert_eq!(worker.cores(), "0");
    terminal.keys("u");
    terminal.wait("undone", |_| worker.cores() == all);
    terminal.wait_for("cores 0 →");
    terminal.keys("u");
    terminal.wait("undone", |_| worker.nice() == before);
    // What was done is a page of it, and the end is said.
    terminal.keys("x");
    terminal.wait_for("What shall happen to sh");
    terminal.keys("Enter");
    terminal.wait_for("enter sends, esc cancels");
    terminal.keys("Enter");
    worker.0.wait().expect("its end");
    terminal.wait_for("gone");
    terminal.keys("Escape");
    terminal.wait_for("Processes by");
    terminal.keys("X");
    let screen = terminal.wait_for("What was done to processes");
    assert!(
        screen.contains("signal TERM")
            && screen.contains(&format!("nice {nice}"))
            && screen.contains("cores 0"),
        "{screen}"
    );
}

#[test]
fn the_demo_is_looked_into_and_acted_on_by_mouse() {
    let terminal = Terminal::alone("dozor demo --after 60s", LARGE);
    terminal.wait_for("Processes by cpu");
    terminal.click_on("3 disk", |screen| screen.contains("nvme0n1p1"));
    let row =
        |screen: &str| screen.lines().position(|line| line.contains(" 3820  astro")).expect("the stacker");
    let y = row(&terminal.screen());
    terminal.click(10, y);
    terminal.click(10, y);
    terminal.wait_for("blocked in the kernel");
    terminal.click_on("files 30", |screen| screen.contains("moves/s"));
    terminal.click_on("signals ", |screen| screen.contains("what becomes of it"));
    terminal.click_on("act", |screen| screen.contains("What shall happen to stacker[3820]"));
    terminal.click_on("ask first", |screen| screen.contains("Send TERM to stacker[3820]"));
    terminal.keys("Enter");
    terminal.wait_for("stacker[3820]: gone");
    terminal.wait_for("stacker[3820] is gone");
    assert!(terminal.modes().contains('1'), "the mouse is ours");
    terminal.keys("Escape");
    terminal.wait_for("Processes by");
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn what_was_done_on_the_screen_is_in_the_recording() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let terminal = Terminal::run("dozor demo --after 60s", LARGE, folder.path());
    terminal.wait_for("Processes by cpu");
    terminal.keys("r");
    terminal.wait_for("recording into");
    terminal.keys("g");
    terminal.text("name = stacker");
    terminal.keys("Enter");
    terminal.wait_for("1 of 1");
    terminal.keys("x");
    terminal.wait_for("What shall happen to stacker[3820]");
    terminal.keys("Enter");
    terminal.wait_for("Send TERM to stacker[3820]");
    terminal.keys("Enter");
    terminal.wait_for("stacker[3820]: gone");
    terminal.keys("r");
    terminal
        .wait("the end of the recording", |screen| screen.contains("readings") && screen.contains(".dozor"));
    let entries = std::fs::read_dir(folder.path()).expect("the folder").flatten();
    let recording =
        entries.map(|entry| entry.path()).find(|path| path.extension().is_some_and(|it| it == "dozor"));
    let recording = recording.expect("a recording");
    let output =
        Command::new(env!("CARGO_BIN_EXE_dozor")).arg("query").arg(&recording).arg("--actions").output();
    let text = String::from_utf8_lossy(&output.expect("dozor runs").stdout).into_owned();
    assert!(text.contains("signal TERM to stacker[3820] by astro: gone after"), "{text}");
}

/// On a terminal several targets are asked for; whoever says no has done nothing.
#[test]
fn on_a_terminal_several_targets_are_confirmed_there() {
    let workers = [Worker::start(), Worker::start()];
    let pids = format!("{} {}", workers[0].pid(), workers[1].pid());
    for (answer, nice) in [("n", nicer(0)), ("y", nicer(4))] {
        let terminal = Terminal::alone(&format!("dozor nice {} {pids}", nicer(4)), LARGE);
        let screen = terminal.wait_for("All of them? [y/n]");
        assert!(screen.contains(&format!("sh[{}]", workers[0].pid())), "{screen}");
        terminal.keys(&format!("{answer} Enter"));
        let said = if answer == "y" { "gives way to others" } else { "nothing was done" };
        terminal.wait_for(said);
        assert_eq!(workers[1].nice(), nice);
    }
}
