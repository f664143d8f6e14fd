//! Asking for processes in a real terminal: expressions, trees, groups, columns, settings, commands; and the same from the
//! command line, with processes of the test's own.

use crate::terminal::{DOZOR, Terminal};
use dozor::look::action::{ACTIONS, Action};
use serde_json::Value;
use std::path::Path;
use std::process::{Child, Command, Output};

const SIZE: (u16, u16) = (150, 44);

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

/// A shell of the test's own with two children; all of them end with it.
struct Family(Child);

impl Family {
    fn start(name: &str) -> Family {
        use std::os::unix::process::CommandExt as _;
        let script = format!("exec -a {name}-one sleep 300 & exec -a {name}-two sleep 300 & wait");
        let child =
            Command::new("bash").arg0(format!("{name}-shell")).args(["-c", &script]).process_group(0).spawn();
        Family(child.expect("a shell"))
    }

    fn pid(&self) -> String {
        self.0.id().to_string()
    }
}

impl Drop for Family {
    fn drop(&mut self) {
        // The group is the shell and its children, nobody else.
        let group = rustix::process::Pid::from_child(&self.0);
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        let _ = self.0.wait();
    }
}

/// Runs Dozor with settings and state in a folder of the test's own.
fn run(folder: &Path, arguments: &[&str]) -> Output {
    let mut command = Command::new(DOZOR);
    command
        .args(arguments)
        .env("XDG_CONFIG_HOME", folder.join("config"))
        .env("XDG_STATE_HOME", folder.join("state"));
    command.output().expect("it runs")
}

fn names(output: &Output) -> Vec<String> {
    let whole: Value = serde_json::from_slice(&output.stdout).expect("an object");
    let processes = whole["processes"].as_array().expect("processes");
    let mut names: Vec<String> =
        processes.iter().map(|it| it["command"].as_str().unwrap_or("").to_owned()).collect();
    names.sort();
    names
}

#[test]
fn columns_that_were_chosen_are_there_after_a_restart() {
    let folder = folder();
    let terminal = Terminal::run("dozor --no-history", SIZE, folder.path());
    terminal.wait_for("Processes by cpu");
    terminal.keys("3");
    terminal.wait_for("Processes by disk");
    terminal.keys("c");
    terminal.wait_for("Columns of disk");
    terminal.text("swap");
    terminal
        .wait("the metric", |screen| screen.contains("search swap") && screen.contains("Memory moved out"));
    terminal.keys("Enter");
    terminal.keys("C-s");
    terminal.wait_for("a name · enter keeps it");
    terminal.text("night");
    terminal.keys("Enter");
    terminal.wait_for("kept as 'night'");
    terminal.keys("Escape");
    terminal.wait("the column", |screen| screen.contains(" swap ") && !screen.contains("Columns of"));
    terminal.keys("q");
    terminal.assert_restored();
    let kept =
        std::fs::read_to_string(folder.path().join("config/dozor/settings.toml")).expect("the settings");
    assert!(kept.contains("[columns]\nnight = \"pid,user,state,disk,"), "{kept}");
    terminal.text(&format!("{DOZOR} --no-history"));
    terminal.keys("Enter");
    terminal.wait("lane and columns as they were left", |screen| {
        screen.contains("Processes by disk") && screen.contains(" swap ")
    });
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn a_tree_that_is_narrowed_keeps_the_ancestors_and_folds() {
    let folder = folder();
    let family = Family::start("dozor-tree");
    let terminal =
        Terminal::run("dozor --every 500ms --arrange family --columns pid,command", SIZE, folder.path());
    terminal.wait_for("in families");
    terminal.keys("/");
    terminal.text("command ~ \"^dozor-tree-(one|two)\"");
    terminal.keys("Enter");
    let screen = terminal.wait("both children below their shell", |screen| {
        screen.contains("dozor-tree-one (sleep)")
            && screen.contains("dozor-tree-two (sleep)")
            && screen.contains("dozor-tree-shell")
            && screen.contains(" 2 of ")
    });
    let line = |screen: &str, name: &str| screen.lines().position(|line| line.contains(name));
    assert!(
        line(&screen, "-shell") < line(&screen, "-one (sleep)")
            && line(&screen, "-shell") < line(&screen, "-two (sleep)")
    );
    let shell = line(&screen, "dozor-tree-shell").expect("its row");
    let sign =
        screen.lines().nth(shell).and_then(|line| line.chars().position(|c| c == '▿')).expect("a sign");
    terminal.click(sign, shell);
    terminal.wait("the shell folded", |screen| {
        !screen.contains("dozor-tree-one (sleep)") && screen.contains("×2")
    });
    assert!(!family.pid().is_empty());
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn a_group_expands() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 60s --arrange program", SIZE, folder.path());
    terminal.wait_for("skycam-ingest ×4");
    terminal.keys("g");
    terminal.text("skycam");
    terminal.keys("Escape");
    // Sentences that come and go move the table under the mouse: a click on a heading would order it anew.
    terminal.wait("the line was left", |screen| screen.contains("x act"));
    terminal.keys("Space");
    terminal.wait_for("FROZEN");
    terminal.click_on("▹ skycam-ingest", |screen| {
        screen.contains("▿ skycam-ingest") && screen.contains("--camera 3")
    });
    terminal.keys("Left");
    terminal.wait("folded again", |screen| {
        screen.contains("▹ skycam-ingest ×4") && !screen.contains("--camera 3")
    });
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn a_wrong_expression_shows_its_caret_and_keeps_the_rows() {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 60s --where stacker", SIZE, folder.path());
    terminal.wait_for("narrowed: stacker");
    terminal.keys("/");
    terminal.text(" and cpu > 5 MiB");
    let screen = terminal.wait_for("the unit is % of one core, not 'MiB'");
    assert!(screen.contains("^^^^^") && screen.contains("1 of 20") && screen.contains("--night"), "{screen}");
    terminal.keys("Enter");
    terminal.keys("BSpace BSpace BSpace");
    terminal.text("%");
    terminal.keys("Enter");
    terminal.wait_for("narrowed: stacker and cpu > 5 %");
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn a_broken_settings_file_is_reported_and_does_no_harm() {
    let folder = folder();
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(settings.join("themes")).expect("a folder");
    std::fs::write(settings.join("settings.toml"), "percent = \"machine\"\nthme = \"dusk\"\n")
        .expect("a file");
    std::fs::write(settings.join("themes/dusk.toml"), "[roles\n").expect("a file");
    let terminal = Terminal::run("dozor demo --after 60s", SIZE, folder.path());
    let screen = terminal.wait_for("line 2: no setting is called 'thme'; did you mean 'theme'?");
    assert!(screen.contains("1 more: dozor settings") && screen.contains("% of the machine"), "{screen}");
    terminal.keys(",");
    terminal
        .wait("where the value comes from", |screen| screen.contains("settings.toml, line 1; default core"));
    terminal.keys("Escape");
    terminal.wait_for("? help");
    terminal.keys("q");
    terminal.assert_restored();
    let output = run(folder.path(), &["settings"]);
    let (text, said) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(text.contains("percent         machine      settings.toml, line 1"), "{text}");
    assert!(said.contains("line 2: no setting is called 'thme'; did you mean 'theme'?"), "{said}");
    // A file that is no TOML at all: nothing of it is used, and nothing is written over it.
    std::fs::write(settings.join("settings.toml"), "percent = \n").expect("a file");
    let terminal = Terminal::run("dozor demo --after 60s", SIZE, folder.path());
    terminal.wait_for("nothing of it is used");
    terminal.keys(",");
    terminal.wait_for("kept in");
    terminal.keys("Down Down Down Down Down Down Right");
    terminal.wait_for("mend it first");
    terminal.keys("Escape");
    terminal.keys("q");
    assert_eq!(std::fs::read_to_string(settings.join("settings.toml")).expect("the file"), "percent = \n");
}

#[test]
fn every_action_can_be_run_from_the_prompt_for_commands() {
    run_from_the_prompt(0);
}

#[test]
fn every_other_action_can_be_run_from_the_prompt_for_commands() {
    run_from_the_prompt(1);
}

/// Every second action from one on; both halves at the same time.
fn run_from_the_prompt(first: usize) {
    let folder = folder();
    let terminal = Terminal::run("dozor demo --after 60s", (160, 48), folder.path());
    terminal.wait_for("Processes by cpu");
    let half = ACTIONS.iter().skip(first).step_by(2);
    for entry in half.filter(|entry| !matches!(entry.action, Action::Quit | Action::Suspend)) {
        terminal.keys(":");
        terminal.wait("the prompt", |screen| screen.contains("What shall be done?"));
        terminal.text(entry.name);
        // The chosen line is the one with this name.
        terminal.wait(entry.name, |screen| {
            screen.lines().any(|line| {
                line.starts_with(" ▸ ") && line[" ▸ ".len()..].trim_start().starts_with(entry.name)
            })
        });
        terminal.keys("Enter");
        terminal.wait("it is done", |screen| {
            !screen.contains(&format!("search {}", entry.name)) || entry.action == Action::Commands
        });
        // Whatever was opened is closed, one thing after the other.
        for _ in 0..3 {
            terminal.keys("Escape");
            std::thread::sleep(std::time::Duration::from_millis(60));
        }
        terminal.wait("the screen", |screen| screen.contains("q quit") && screen.contains("lynx-obs"));
    }
    terminal.keys(":");
    terminal.wait_for("What shall be done?");
    terminal.text("quit");
    terminal.keys("Enter");
    terminal.assert_restored();
}

#[test]
fn the_command_line_takes_the_same_expressions_columns_and_pids() {
    let folder = folder();
    let family = Family::start("dozor-line");
    let snapshot = |arguments: &[&str]| {
        run(folder.path(), &[&["snapshot", "--format", "json", "--every", "100ms"], arguments].concat())
    };
    // The children may still be on their way.
    let both = ["dozor-line-one 300", "dozor-line-two 300"].map(str::to_owned);
    let found = (0..50).any(|_| {
        let found =
            names(&snapshot(&["--where", "command ~ \"^dozor-line-(one|two)\" and not kernel_thread"]));
        found == both
    });
    assert!(found, "by an expression");
    let pid = family.pid();
    let with_family = names(&snapshot(&[&pid, "--descendants"]));
    assert_eq!((with_family.len(), &with_family[0..1]), (3, &both[0..1]), "{with_family:?}");
    assert_eq!(names(&snapshot(&[&pid])).len(), 1, "without descendants the process alone");
    let parents = snapshot(&["--where", &format!("ppid = {pid}"), "--columns", "pid,ppid,command"]);
    let whole: Value = serde_json::from_slice(&parents.stdout).expect("an object");
    let first = whole["processes"][0].as_object().expect("a process");
    assert_eq!(first.keys().collect::<Vec<_>>(), ["pid", "ppid", "command"]);
    assert_eq!(names(&snapshot(&["--mine", "--where", "command ~ ^dozor-line-one"])), both[..1]);
    assert!(names(&snapshot(&["--user", "nobody", "--where", "dozor-line"])).is_empty());

    let file = folder.path().join("family.rec").display().to_string();
    let recorded = run(
        folder.path(),
        &["record", "-o", &file, "--every", "100ms", "--count", "4", &pid, "--descendants"],
    );
    assert!(recorded.status.success(), "{}", String::from_utf8_lossy(&recorded.stderr));
    let population = folder.path().join("all.rec").display().to_string();
    assert!(
        run(folder.path(), &["record", "-o", &population, "--every", "100ms", "--count", "4"])
            .status
            .success()
    );
    let size = |file: &str| std::fs::metadata(file).expect("the recording").len();
    assert!(size(&file) < size(&population));
    let terminal = Terminal::run(&format!("dozor replay {file} --paused"), SIZE, folder.path());
    terminal
        .wait("the family alone", |screen| screen.contains("3 of 3") && screen.contains("dozor-line-two"));
}

#[test]
fn wrong_expressions_columns_and_orders_end_with_a_message() {
    let folder = folder();
    let said = |arguments: &[&str]| {
        let output = run(folder.path(), arguments);
        assert_eq!(output.status.code(), Some(2), "{arguments:?}");
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    assert_eq!(
        said(&["snapshot", "--where", "user = astro and cpu > 20 kg"]),
        "dozor: --where cannot be 'user = astro and cpu > 20 kg': no unit is called 'kg'; expected %, cores, core\n  \
         user = astro and cpu > 20 kg\n                         ^^^^^\n"
    );
    assert!(said(&["snapshot", "--columns", "pid,rsss"]).contains("did you mean 'rss'?"));
    assert!(said(&["snapshot", "--columns", "pid,trend"]).contains("drawn on the screen only"));
    assert!(said(&["snapshot", "--order", "cpu,rss,pid"]).contains("one or two metrics"));
    assert!(said(&["demo", "--arrange", "familly"]).contains("did you mean family?"));
    assert!(said(&["snapshot", "--descendants"]).contains("PID"));
    assert!(said(&["snapshot", "12x"]).contains("'12x' is not a PID"));
}
