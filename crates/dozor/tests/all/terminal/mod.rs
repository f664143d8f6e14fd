//! A terminal for tests: tmux, driven by keys and by mouse events.

pub mod pair;

use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

pub const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");
pub const PATIENCE: Duration = Duration::from_secs(30);

/// A terminal of its own for a test.
pub struct Terminal {
    socket: String,
    /// Its working directory, where it has one of its own; it is removed with the terminal.
    #[allow(dead_code, reason = "it only has to live as long")]
    folder: Option<tempfile::TempDir>,
}

impl Terminal {
    /// The same in a new folder, so that nobody else's settings and state are there.
    pub fn alone(command: &str, size: (u16, u16)) -> Terminal {
        let folder = tempfile::tempdir().expect("a scratch folder");
        let mut terminal = Terminal::run(command, size, folder.path());
        terminal.folder = Some(folder);
        terminal
    }

    /// Opens a shell in a terminal of this size and runs a command line in it. `dozor` stands for the program.
    pub fn run(command: &str, (width, height): (u16, u16), folder: &Path) -> Terminal {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let socket = format!("dozor-test-{}-{number}", std::process::id());
        let terminal = Terminal { socket, folder: None };
        let line = command.replace("dozor ", &format!("{DOZOR} "));
        let (width, height) = (width.to_string(), height.to_string());
        terminal.tmux(&[
            "-f",
            "/dev/null",
            "-u",
            "new-session",
            "-d",
            "-x",
            &width,
            "-y",
            &height,
            "-c",
            &folder.display().to_string(),
            // Settings and state of its own: nothing of the machine that the test runs on.
            "env PS1='ready> ' TERM=screen-256color XDG_CONFIG_HOME=$PWD/config XDG_STATE_HOME=$PWD/state \
             bash --norc --noprofile -i",
        ]);
        terminal.wait("the shell", |screen| screen.contains("ready>"));
        terminal.text(&line);
        terminal.keys("Enter");
        terminal
    }

    pub fn tmux(&self, arguments: &[&str]) -> String {
        let output = Command::new("tmux")
            .args(["-L", &self.socket])
            .args(arguments)
            .env_remove("TMUX")
            .env("LC_ALL", "C.UTF-8")
            .output()
            .expect("tmux is installed");
        assert!(output.status.success(), "tmux {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Presses keys by tmux's names, separated by blanks.
    pub fn keys(&self, keys: &str) {
        let keys: Vec<&str> = keys.split(' ').collect();
        self.tmux(&[&["send-keys"][..], &keys].concat());
        if keys.last() == Some(&"Escape") {
            self.taken();
        }
    }

    /// Waits until the program has taken what was typed: an escape that is read together with what comes next is another key.
    fn taken(&self) {
        let tty = self.tmux(&["display-message", "-p", "#{pane_tty}"]);
        let tty = std::fs::File::open(tty.trim()).expect("the terminal of the pane");
        let begin = Instant::now();
        while rustix::io::ioctl_fionread(&tty).expect("a terminal counts what waits") > 0 {
            assert!(
                begin.elapsed() < PATIENCE,
                "what was typed is not read; the screen is\n{}",
                self.screen()
            );
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    pub fn text(&self, text: &str) {
        self.tmux(&["send-keys", "-l", text]);
    }

    /// A left click, as terminals report it.
    pub fn click(&self, column: usize, row: usize) {
        self.text(&format!("\x1b[<0;{};{}M\x1b[<0;{};{}m", column + 1, row + 1, column + 1, row + 1));
    }

    /// The place where a text stands on the screen: column and row. The first from the top, once it has stayed there
    /// for a moment: rows move while the past of a demo is still being lived through.
    pub fn place_of(&self, text: &str) -> (usize, usize) {
        let find = || {
            let screen = self.wait_for(text);
            let found = screen.lines().enumerate().find_map(|(row, line)| {
                let byte = line.find(text)?;
                Some((line[..byte].chars().count(), row))
            });
            found.expect("it was there a moment ago")
        };
        let mut place = find();
        for _ in 0..20 {
            std::thread::sleep(Duration::from_millis(100));
            let before = std::mem::replace(&mut place, find());
            if before == place {
                break;
            }
        }
        place
    }

    /// Clicks on a text until the screen shows what is awaited. Between looking and clicking the screen may move on; then
    /// the click goes elsewhere and another one is needed.
    pub fn click_on(&self, text: &str, shows: impl Fn(&str) -> bool) -> String {
        for _ in 0..8 {
            let (column, row) = self.place_of(text);
            self.click(column + 1, row);
            let begin = Instant::now();
            while begin.elapsed() < Duration::from_secs(4) {
                let screen = self.screen();
                if shows(&screen) {
                    return screen;
                }
                std::thread::sleep(Duration::from_millis(30));
            }
        }
        panic!("clicked on {text} in vain; the screen is\n{}", self.screen());
    }

    /// Presses the left button, drags from place to place, lets go; as terminals report it.
    pub fn drag(&self, from: (usize, usize), to: (usize, usize)) {
        let ((x, y), (to_x, to_y)) = (from, to);
        self.text(&format!("\x1b[<0;{};{}M", x + 1, y + 1));
        self.text(&format!("\x1b[<32;{};{}M", to_x + 1, to_y + 1));
        self.text(&format!("\x1b[<0;{};{}m", to_x + 1, to_y + 1));
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen shows what is awaited and gives it.
    pub fn wait(&self, what: &str, shows: impl Fn(&str) -> bool) -> String {
        let begin = Instant::now();
        loop {
            let screen = self.screen();
            if shows(&screen) {
                return screen;
            }
            assert!(begin.elapsed() < PATIENCE, "waited in vain for {what}; the screen is\n{screen}");
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    pub fn wait_for(&self, text: &str) -> String {
        self.wait(text, |screen| screen.contains(text))
    }

    /// Cursor shown, mouse reported to the program, second screen in use.
    pub fn modes(&self) -> String {
        self.tmux(&["display-message", "-p", "#{cursor_flag} #{mouse_any_flag} #{alternate_on}"])
            .trim()
            .to_owned()
    }

    /// The terminal is as it was before the program: asserts that and that typing is echoed.
    pub fn assert_restored(&self) {
        self.wait("the shell", |screen| screen.trim_end().ends_with("ready>"));
        assert_eq!(self.modes(), "1 0 0");
        self.text("stty -a | tr ' ' '\\n' | grep -c -e ^echo$ -e ^icanon$");
        self.keys("Enter");
        self.wait("echo and line editing of the terminal", |screen| {
            screen.contains("stty -a") && screen.lines().any(|line| line.trim() == "2")
        });
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.socket, "kill-server"]).output();
    }
}
