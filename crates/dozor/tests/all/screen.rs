//! The real program in a real terminal: whole runs in tmux.

use crate::terminal::{DOZOR, PATIENCE, Terminal};
use dozor_core::recording::format::{FrameHeader, HEADER_BYTES, Kind};
use std::fs::File;
use std::io::Read as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A program of the test's own with an unmistakable name.
struct Sleeper(Child);

impl Sleeper {
    fn start(name: &str) -> Sleeper {
        use std::os::unix::process::CommandExt as _;
        Sleeper(Command::new("sleep").arg0(name).arg("600").spawn().expect("a child"))
    }

    /// Waits for its end and gives the signal.
    fn ended_by(&mut self) -> Option<i32> {
        use std::os::unix::process::ExitStatusExt as _;
        let begin = Instant::now();
        loop {
            if let Some(status) = self.0.try_wait().expect("its state") {
                return status.signal();
            }
            assert!(begin.elapsed() < PATIENCE, "the child lives on");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Sleeper {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

/// First row of the table: the line below the headings.
fn first_row(screen: &str) -> &str {
    let mut lines = screen.lines().skip_while(|line| !line.trim_start().starts_with("pid "));
    lines.nth(1).unwrap_or_default()
}

#[test]
fn the_demo_starts_orders_narrows_and_leaves_no_trace() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 60s", (120, 36), folder.path());
    // What came and went may have used more than any process that is there.
    terminal.wait("the whole screen", |screen| {
        let first = first_row(screen);
        let whole = screen.contains("lynx-obs") && screen.contains("LIVE") && screen.contains("load ");
        whole && (first.contains("skycam-ingest") || first.contains(" gone "))
    });
    assert_eq!(terminal.modes(), "0 1 1");
    terminal.keys("3");
    terminal.wait("the stacker on top", |screen| first_row(screen).contains("stacker"));
    terminal.keys("O");
    terminal.wait("another on top", |screen| !first_row(screen).contains("stacker"));
    terminal.keys("/");
    terminal.text("catalogd");
    terminal.keys("Enter");
    let screen = terminal.wait_for("1 of 20");
    assert!(first_row(&screen).contains("catalogd"), "{screen}");
    terminal.keys("q");
    terminal.assert_restored();
    assert!(!terminal.screen().contains("lynx-obs"));
}

#[test]
fn clicks_order_select_and_go_back_in_time() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 60s", (120, 36), folder.path());
    terminal.wait_for("skycam-ingest");
    let screen =
        terminal.click_on("rss", |screen| first_row(screen).contains("stacker") && screen.contains("rss▾"));
    let row = screen.lines().position(|line| line.trim_start().starts_with("pid ")).expect("headings");
    terminal.click(30, row + 3);
    terminal.wait("a selected row", |screen| screen.lines().any(|line| line.starts_with('▸')));
    terminal.click(60, 3);
    terminal.wait_for("FROZEN");
}

#[test]
fn the_screen_follows_the_size_of_the_terminal() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo", (160, 48), folder.path());
    terminal.wait_for("What stands out");
    terminal.tmux(&["resize-window", "-x", "50", "-y", "10"]);
    terminal.wait_for("this terminal has 50 × 10.");
    terminal.tmux(&["resize-window", "-x", "80", "-y", "24"]);
    let screen =
        terminal.wait("the small screen", |screen| screen.contains("1 cpu") && screen.contains("q quit"));
    assert_eq!(screen.trim_end().lines().count(), 24, "{screen}");
    terminal.tmux(&["resize-window", "-x", "160", "-y", "48"]);
    terminal
        .wait("the large screen", |screen| screen.contains("What stands out") && screen.contains("trend"));
}

#[test]
fn a_signal_ends_a_child_of_the_test() {
    let folder = folder();
    let mut child = Sleeper::start("dozor-test-polite");
    let terminal = Terminal::run("dozor --every 500ms", (110, 30), folder.path());
    terminal.wait_for("q quit");
    terminal.keys("/");
    terminal.text("dozor-test-polite");
    terminal.keys("Enter");
    terminal.wait("its row alone", |screen| {
        screen.contains(" 1 of ") && first_row(screen).contains(&child.0.id().to_string())
    });
    terminal.keys("x");
    let screen = terminal.wait_for("What shall happen to");
    assert!(screen.contains(&format!("[{}]", child.0.id())) && screen.contains("Stop politely"), "{screen}");
    terminal.keys("Enter");
    terminal.wait_for("Send TERM to ");
    assert!(child.0.try_wait().expect("its state").is_none(), "one key ends nobody");
    terminal.keys("Enter");
    assert_eq!(child.ended_by(), Some(15));
    terminal.wait("the outcome", |screen| screen.contains(": gone 0.") && screen.contains(" s after TERM"));
}

#[test]
fn marked_processes_are_paused_and_forced_to_end_together() {
    let folder = folder();
    let mut children = [Sleeper::start("dozor-test-marked"), Sleeper::start("dozor-test-marked")];
    let bystander = Sleeper::start("dozor-test-bystander");
    let terminal = Terminal::run(
        "dozor --every 500ms --columns pid,state,command --where dozor-test-",
        (110, 30),
        folder.path(),
    );
    terminal.wait("all three", |screen| {
        screen.matches("dozor-test-marked (").count() == 2 && screen.contains("dozor-test-bystander (")
    });
    terminal.keys("/ C-u");
    terminal.text("test-marked");
    terminal.keys("Enter");
    terminal.wait("the two", |screen| screen.contains("2 of "));
    terminal.keys("m m");
    terminal.wait_for("2 marked");
    terminal.keys("x");
    terminal.wait_for("these 2 processes");
    terminal.keys("Down Down Down Down Enter");
    terminal.wait_for("Freeze these 2 processes?");
    terminal.keys("Enter");
    terminal.wait("both stopped", |screen| screen.matches("stopped").count() >= 2);
    terminal.keys("x Down Enter");
    terminal.wait_for("Send KILL to these 2 processes?");
    terminal.keys("Enter");
    assert_eq!(children.each_mut().map(Sleeper::ended_by), [Some(9); 2]);
    let mut bystander = bystander;
    assert!(bystander.0.try_wait().expect("its state").is_none(), "the third was not hit");
}

#[test]
fn the_demo_obeys_signals_too() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 50s --order write", (120, 36), folder.path());
    terminal.wait("the stacker", |screen| first_row(screen).contains("stacker"));
    terminal.keys("Home x Enter");
    terminal.wait_for("enter sends, esc cancels");
    terminal.keys("Enter");
    terminal.wait_for("stacker[3820]: gone 0.");
    // A terminal that sends both at once means the key with Alt; a person is slower.
    terminal.keys("Escape");
    terminal.wait("no message", |screen| !screen.contains("gone 0."));
    terminal.keys("/");
    terminal.text("domectl");
    terminal.keys("Enter Home x Enter");
    terminal.wait_for("it belongs to somebody else");
    terminal.keys("y");
    terminal.wait_for("not permitted; run dozor as root");
}

#[test]
fn a_recording_is_made_and_replayed() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --every 200ms", (120, 36), folder.path());
    terminal.wait_for("skycam-ingest");
    terminal.keys("r");
    terminal.wait_for("● rec 00:00:02");
    terminal.keys("r");
    terminal.wait_for("readings, ");
    terminal.keys("q");
    terminal.wait("the shell", |screen| screen.trim_end().ends_with("ready>"));
    terminal.text(&format!("{DOZOR} replay --paused lynx-obs-*.dozor"));
    terminal.keys("Enter");
    let screen = terminal.wait_for("REPLAY PAUSED");
    assert!(
        screen.contains("sample 2 of ") && screen.contains("lynx-obs") && screen.contains("2031-02-14"),
        "{screen}"
    );
    terminal.keys("[");
    terminal.wait_for("the first reading: rates need one before it");
    terminal.keys("] ]");
    terminal.wait("a process with its share", |screen| {
        // What came and went in that sample may stand before it.
        let first = first_row(screen);
        screen.contains("sample 3 of ") && (first.contains("skycam-ingest") || first.contains(" gone "))
    });
    terminal.keys(">");
    let end = terminal.wait("the end", |screen| !screen.contains("sample 3 of "));
    terminal.keys("<");
    terminal.wait_for("sample 1 of ");
    terminal.keys("Space");
    terminal.wait("playing", |screen| screen.contains("REPLAY ") && !screen.contains("sample 1 of "));
    terminal.keys("x");
    terminal.wait_for("this is a recording");
    assert!(end.contains("REPLAY PAUSED"));
}

#[test]
fn a_recording_that_was_cut_is_replayed_and_says_so() {
    let folder = folder();
    let file = folder.path().join("cut.dozor");
    let arguments = ["record", "--every", "50ms", "--count", "5", "-o"];
    assert!(Command::new(DOZOR).args(arguments).arg(&file).status().expect("dozor").success());
    let bytes = std::fs::read(&file).expect("the recording");
    // Within the last reading, which stands before the index.
    let mut index = HEADER_BYTES;
    while let Some(header) =
        FrameHeader::parse(&bytes[index..]).filter(|header| header.kind != Kind::Index as u8)
    {
        index += header.whole();
    }
    std::fs::write(&file, &bytes[..index - 3]).expect("a shorter file");
    let terminal = Terminal::run("dozor replay --paused cut.dozor", (120, 36), folder.path());
    let screen = terminal.wait_for("cut off at byte");
    assert!(screen.contains("sample 2 of 4"), "{screen}");
}

#[test]
fn a_recording_is_watched_through_a_pipe() {
    let folder = folder();
    let command = "dozor record -o - --count 5 --every 200ms | dozor replay -";
    let terminal = Terminal::run(command, (120, 36), folder.path());
    let screen = terminal.wait_for("ENDED");
    assert!(screen.contains("pid  user"), "{screen}");
    terminal.keys("[ [ [ [");
    terminal.wait_for("FROZEN");
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn the_terminal_comes_back_after_suspend_and_fg() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo", (100, 30), folder.path());
    terminal.wait_for("LIVE");
    terminal.keys("C-z");
    terminal.wait_for("Stopped");
    terminal.assert_restored();
    terminal.text("fg");
    terminal.keys("Enter");
    terminal.wait_for("LIVE");
    assert_eq!(terminal.modes(), "0 1 1");
    terminal.keys("3");
    terminal.wait_for("Processes by disk/s");
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn the_terminal_comes_back_after_being_told_to_end() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo; echo status $?", (100, 30), folder.path());
    terminal.wait_for("LIVE");
    terminal.tmux(&["run-shell", "kill -TERM $(cat /proc/#{pane_pid}/task/#{pane_pid}/children)"]);
    terminal.wait_for("status 143");
    terminal.assert_restored();
}

#[test]
fn a_hangup_ends_the_program_and_keeps_the_recording() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --every 200ms", (140, 30), folder.path());
    // What happened before has come.
    terminal.wait_for("own ");
    terminal.keys("r");
    terminal.wait_for("● rec 00:00:01");
    let shell = terminal.tmux(&["display-message", "-p", "#{pane_pid}"]);
    let children =
        std::fs::read_to_string(format!("/proc/{0}/task/{0}/children", shell.trim())).expect("children");
    let program = format!("/proc/{}", children.split_whitespace().next().expect("the program"));
    terminal.tmux(&["kill-server"]);
    let begin = Instant::now();
    while Path::new(&program).exists() {
        assert!(begin.elapsed() < PATIENCE, "the program outlived its terminal");
        std::thread::sleep(Duration::from_millis(20));
    }
    let mut files = std::fs::read_dir(folder.path()).expect("the folder").flatten();
    let bytes = std::fs::read(files.next().expect("a recording").path()).expect("the recording");
    let mut stream = dozor_core::recording::StreamReader::open(&bytes[..], true).expect("a recording");
    let mut readings = 0;
    while let Some(event) = stream.next_event().expect("readable") {
        match event {
            dozor_core::recording::Event::Reading { .. } => readings += 1,
            // What stands out is marked.
            dozor_core::recording::Event::Mark(mark) => {
                assert_eq!(mark.kind, dozor_core::recording::MarkKind::Finding, "{mark:?}");
            }
            damage @ dozor_core::recording::Event::Damage(_) => panic!("nothing is cut: {damage:?}"),
        }
    }
    assert!(readings >= 5, "{readings}");
}

#[test]
fn a_terminal_that_goes_without_a_signal_ends_the_program() {
    let (master, slave) = crate::terminal::pair::open((100, 30));
    let copy = || Stdio::from(slave.try_clone().expect("a copy"));
    let mut command = Command::new(DOZOR);
    command.args(["demo", "--after", "60s"]).stdin(copy()).stdout(copy()).stderr(Stdio::null());
    for variable in ["XDG_CONFIG_HOME", "XDG_STATE_HOME"] {
        command.env(variable, "/nowhere");
    }
    let mut child = Sleeper(command.env("TERM", "xterm-256color").spawn().expect("dozor"));
    drop((command, slave));
    let (mut terminal, mut screen) = (File::from(master), vec![]);
    while !String::from_utf8_lossy(&screen).contains("quit") {
        let mut part = [0; 4_096];
        let length = terminal.read(&mut part).expect("a screen");
        screen.extend_from_slice(&part[..length]);
    }
    assert!(child.0.try_wait().expect("its state").is_none(), "it runs");
    drop(terminal);
    assert_eq!(child.ended_by(), None, "it ends by itself");
    let code = child.0.wait().expect("its end").code();
    assert_eq!(code, Some(129), "as a hangup would end it");
}
