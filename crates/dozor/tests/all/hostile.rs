//! Files, links, pipes, processes and terminals that somebody else prepared.

use crate::terminal::{DOZOR, PATIENCE, Terminal};
use rustix::fs::{FlockOperation, flock};
use std::fs::{self, File, Permissions};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// Answers come well before this; what hangs does not come at all.
const AT_ONCE: Duration = Duration::from_secs(20);

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

/// Runs the program; one that does not answer is a failure.
fn run(arguments: &[&str]) -> Output {
    let mut command = Command::new(DOZOR);
    let child = command.args(arguments).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = child.spawn().expect("dozor");
    let begin = Instant::now();
    while child.try_wait().expect("its state").is_none() {
        if begin.elapsed() > AT_ONCE {
            let _ = child.kill();
            panic!("no answer to {arguments:?}");
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    child.wait_with_output().expect("its output")
}

fn message(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).trim_end().to_owned()
}

fn record(output: &str, count: &str) -> Output {
    run(&["record", "-o", output, "--every", "50ms", "--count", count])
}

fn mode(path: &Path) -> u32 {
    fs::metadata(path).expect("it is there").mode() & 0o777
}

fn text(path: PathBuf) -> String {
    path.into_os_string().into_string().expect("text")
}

/// A program that does nothing but hold files, under any name.
fn holder(folder: &Path, lock: &File) -> Running {
    let program = folder.join("dozor");
    symlink("/bin/sleep", &program).expect("a link, whose name the kernel takes");
    let mut command = Command::new(program);
    Running(command.arg("60").stdin(lock.try_clone().expect("the file")).spawn().expect("it"))
}

#[test]
fn a_forged_recorder_is_not_believed_and_the_real_one_is_found_beside_it() {
    let forged = folder();
    fs::set_permissions(forged.path(), Permissions::from_mode(0o777)).expect("its rights");
    let lock = File::create(forged.path().join(".recorder")).expect("a lock");
    flock(&lock, FlockOperation::NonBlockingLockExclusive).expect("the lock");
    let _forger = holder(forged.path(), &lock);
    // A folder that is sound, but nobody holds the lock.
    let stale = folder();
    let merely_open = File::create(stale.path().join(".recorder")).expect("a lock");
    let _other = holder(stale.path(), &merely_open);
    let found = || dozor_linux::recorders::folders(Path::new("/proc"));
    let begin = Instant::now();
    while found().1.is_none() {
        assert!(begin.elapsed() < PATIENCE, "the forger is not seen");
    }
    let (believed, refused) = found();
    let refused = refused.expect("a reason");
    assert!(!believed.iter().any(|it| it == forged.path() || it == stale.path()), "{believed:?}");
    assert!(refused.contains("claims to record there"), "{refused}");
    let real = folder();
    let output = text(real.path().join("real/"));
    let recorder = Command::new(DOZOR).args(["record", "--every", "50ms", "-o", &output]).spawn();
    let _recorder = Running(recorder.expect("dozor"));
    let real = fs::canonicalize(real.path()).expect("its path").join("real");
    let begin = Instant::now();
    while !found().0.contains(&real) {
        assert!(begin.elapsed() < PATIENCE, "the real one is not found: {:?}", found());
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn nothing_is_written_through_a_link() {
    let scratch = folder();
    let at = |name: &str| scratch.path().join(name);
    fs::write(at("precious"), "").expect("a file");
    symlink(at("precious"), at("link.dozor")).expect("a link");
    symlink(at("nowhere"), at("dangling.dozor")).expect("a link");
    for name in ["link.dozor", "dangling.dozor"] {
        let output = record(&text(at(name)), "1");
        assert_eq!(output.status.code(), Some(1));
        assert!(message(&output).ends_with("it is a link, not a file"), "{}", message(&output));
    }
    assert!(!at("nowhere").exists() && fs::read(at("precious")).expect("it").is_empty());
    // Marks beside the segments of a folder.
    assert!(record(&text(at("night/")), "3").status.success());
    let user = dozor_linux::own::user();
    let host = fs::read_to_string("/proc/sys/kernel/hostname").expect("a name");
    let plain = |text: &str| {
        text.trim().chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect::<String>()
    };
    let marks = at("night").join(format!("{}-marks-{}.dozor", plain(&host), plain(&user)));
    fs::write(at("target"), "root's own").expect("a file");
    symlink(at("target"), &marks).expect("a link");
    let terminal = Terminal::run("dozor --history night --every 1s", (140, 40), scratch.path());
    terminal.wait_for("LIVE");
    terminal.keys("b");
    terminal.text("mine");
    terminal.keys("Enter");
    terminal.wait_for("it is a link, not a file");
    terminal.keys("q");
    terminal.assert_restored();
    assert_eq!(fs::read(at("target")).expect("it"), b"root's own");
}

#[test]
fn recordings_are_private_and_a_folder_for_a_group_stays_one() {
    let scratch = folder();
    let at = |name: &str| scratch.path().join(name);
    assert!(record(&text(at("night.dozor")), "2").status.success());
    assert_eq!(mode(&at("night.dozor")), 0o600);
    fs::create_dir(at("shared")).expect("a folder");
    fs::set_permissions(at("shared"), Permissions::from_mode(0o750)).expect("its rights");
    for (name, folder, file) in [("new", 0o700, 0o600), ("shared", 0o750, 0o640)] {
        assert!(record(&text(at(&format!("{name}/"))), "2").status.success());
        assert_eq!(mode(&at(name)), folder);
        let mut files = 0;
        for entry in fs::read_dir(at(name)).expect("a folder").flatten() {
            let lock = entry.file_name() == ".recorder";
            assert_eq!(mode(&entry.path()), if lock { 0o600 } else { file }, "{:?}", entry.path());
            files += 1;
        }
        assert_eq!(files, 2);
    }
}

#[test]
fn what_is_no_regular_file_is_answered_at_once() {
    let scratch = folder();
    let at = |name: &str| text(scratch.path().join(name));
    let pipe = scratch.path().join("pipe.dozor");
    rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, 0o600.into(), 0).expect("a pipe");
    let _socket = std::os::unix::net::UnixListener::bind(at("socket.dozor")).expect("a socket");
    fs::create_dir(at("folder.dozor")).expect("a folder");
    let kinds = [
        (at("pipe.dozor"), "named pipe"),
        (at("socket.dozor"), "socket"),
        ("/dev/zero".to_owned(), "device"),
    ];
    for (path, kind) in &kinds {
        let commands: [&[&str]; 5] = [
            &["query", path, "--list"],
            &["replay", path],
            &["compare", path, path],
            &["note", path, "hello"],
            &["record", "-o", path, "--count", "1"],
        ];
        for command in commands {
            let output = run(command);
            let said = message(&output);
            assert!(said.contains(&format!("it is a {kind}, not a file")), "{command:?}: {said}");
            assert!(!said.contains("os error") && output.status.code() == Some(1), "{command:?}: {said}");
        }
    }
    // One among the recordings of a folder is told, and those beside it are read.
    assert!(record(&at("night.dozor"), "3").status.success());
    let output = run(&["query", &text(scratch.path().to_owned()), "--list"]);
    let said = message(&output);
    assert!(output.status.success() && said.contains("it is a named pipe, not a file"), "{said}");
    assert!(said.contains("it is a folder, not a file") && !said.contains("os error"), "{said}");
    let none = folder();
    let output = run(&["query", &text(none.path().to_owned()), "cpu"]);
    assert!(message(&output).ends_with("holds no recording"), "{}", message(&output));
    // A made-up tree with a pipe and an endless device in the place of files.
    fs::create_dir_all(at("tree/proc/42")).expect("folders");
    for name in ["tree/proc/stat", "tree/proc/42/stat", "tree/proc/42/cmdline"] {
        let path = scratch.path().join(name);
        rustix::fs::mknodat(rustix::fs::CWD, &path, rustix::fs::FileType::Fifo, 0o600.into(), 0)
            .expect("a pipe");
    }
    symlink("/dev/zero", at("tree/proc/meminfo")).expect("a link");
    let output = run(&["snapshot", "--proc-root", &at("tree/proc"), "--sys-root", &at("tree/sys")]);
    assert!(!message(&output).contains("panicked"), "{}", message(&output));
}

#[test]
fn settings_themes_and_state_that_are_no_files_are_told() {
    let scratch = folder();
    let at = |name: &str| scratch.path().join(name);
    fs::create_dir_all(at("config/dozor/themes")).expect("folders");
    fs::create_dir_all(at("state/dozor")).expect("folders");
    for name in ["config/dozor/settings.toml", "config/dozor/themes/dusk.toml", "state/dozor/state.toml"] {
        rustix::fs::mknodat(rustix::fs::CWD, at(name), rustix::fs::FileType::Fifo, 0o600.into(), 0)
            .expect("a pipe");
    }
    File::create(at("config/dozor/themes/vast.toml"))
        .and_then(|file| file.set_len(1 << 40))
        .expect("a vast file");
    let output = Command::new(DOZOR)
        .arg("settings")
        .env("XDG_CONFIG_HOME", at("config"))
        .env("XDG_STATE_HOME", at("state"))
        .output()
        .expect("dozor");
    let said = format!("{}{}", message(&output), String::from_utf8_lossy(&output.stdout));
    for expected in [
        "settings.toml: it is a named pipe, not a file",
        "themes/dusk.toml: it is a named pipe, not a file",
        "themes/vast.toml: it is larger than 1.0 MiB",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    assert!(!said.contains("os error"), "{said}");
}

#[test]
fn in_the_home_of_another_user_nothing_is_written_and_that_is_said() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let scratch = folder();
    let home = scratch.path().join("home");
    fs::create_dir(&home).expect("a folder");
    std::os::unix::fs::chown(&home, Some(65_534), Some(65_534)).expect("nobody's");
    let line = "env -u XDG_CONFIG_HOME -u XDG_STATE_HOME HOME=$PWD/home dozor demo --after 60s";
    let terminal = Terminal::run(line, (140, 40), scratch.path());
    terminal.wait_for("home belongs to nobody: neither settings nor");
    terminal.keys("q");
    terminal.assert_restored();
    assert_eq!(fs::read_dir(&home).expect("it").count(), 0, "nothing was written there");
}

/// Each way by which another user's settings came to be root's: their home, their file in root's folder, a link to it, a
/// folder that leads to where everybody may write.
#[test]
fn root_runs_no_command_that_another_user_could_have_written() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    const NOBODY: u32 = 65_534;
    let scratch = folder();
    let at = |name: &str| scratch.path().join(name);
    let rule = |done: &str| {
        let touch = format!("run = [\"touch\", \"{}\"]\n", at(done).display());
        format!("[[rule]]\nname = \"r\"\nwhen = \"pid = 1\"\nfor = \"1ms\"\n{touch}")
    };
    let theirs = |path: &Path| std::os::unix::fs::chown(path, Some(NOBODY), Some(NOBODY)).expect("nobody's");
    // Everything below is what root would take for its own folder of settings.
    for (door, said) in [
        ("home", "home belongs to nobody"),
        ("file", "settings.toml belongs to nobody"),
        ("link", "settings.toml belongs to nobody"),
        ("shared", "others may write"),
        ("own", ""),
    ] {
        let config = at(door).join("dozor");
        fs::create_dir_all(&config).expect("a folder");
        fs::write(config.join("settings.toml"), rule(&format!("{door}-ran"))).expect("settings");
        match door {
            "home" => {
                for path in [&config.join("settings.toml"), &config, &at(door)] {
                    theirs(path);
                }
            }
            "file" => theirs(&config.join("settings.toml")),
            "link" => {
                fs::create_dir(at("elsewhere")).expect("a folder");
                fs::rename(config.join("settings.toml"), at("elsewhere/settings.toml")).expect("moved");
                theirs(&at("elsewhere/settings.toml"));
                symlink(at("elsewhere/settings.toml"), config.join("settings.toml")).expect("a link");
            }
            "shared" => {
                fs::rename(&config, at("drop")).expect("moved");
                fs::set_permissions(at("drop"), Permissions::from_mode(0o1777)).expect("as /tmp");
                symlink(at("drop"), &config).expect("a link");
            }
            // One's own, by a link as in dotfiles: this one has to run, or the others prove nothing.
            _ => {
                fs::rename(&config, at("dotfiles")).expect("moved");
                symlink(at("dotfiles"), &config).expect("a link");
            }
        }
        let line = format!("env XDG_CONFIG_HOME=$PWD/{door} XDG_STATE_HOME=$PWD/state dozor --every 200ms");
        let terminal = Terminal::run(&line, (160, 40), scratch.path());
        terminal.wait_for("LIVE");
        if door == "own" {
            terminal.wait("its command", |_| at("own-ran").exists());
        } else {
            terminal.wait_for(said);
            // The rule of one's own needs less.
            std::thread::sleep(Duration::from_secs(2));
            assert!(!at(&format!("{door}-ran")).exists(), "{door}");
        }
        terminal.keys("q");
        terminal.assert_restored();
    }
    let token = at("token");
    fs::write(&token, "correct-horse-battery\n").expect("a token");
    fs::set_permissions(&token, Permissions::from_mode(0o600)).expect("private");
    theirs(&token);
    let output = run(&["serve", "--token-file", token.to_str().expect("a path"), "--listen", "127.0.0.1:0"]);
    assert_eq!(output.status.code(), Some(2), "{}", message(&output));
    assert!(message(&output).contains("belongs to nobody"), "{}", message(&output));
}

/// What the tests of panics run in a terminal: it panics while the terminal is taken.
#[test]
#[ignore = "ends whoever runs it"]
fn panic_here() {
    panic_on_the_screen(false);
}

#[test]
#[ignore = "ends whoever runs it"]
fn panic_in_another_thread() {
    panic_on_the_screen(true);
}

fn panic_on_the_screen(elsewhere: bool) {
    dozor::run::terminal::end_on_panic();
    let _console = dozor::run::terminal::Console::open().expect("a terminal");
    if elsewhere {
        let _ = std::thread::spawn(|| panic!("on purpose")).join();
        println!("and the program went on");
    }
    panic!("on purpose");
}

#[test]
fn a_panic_in_any_thread_gives_the_terminal_back_and_ends_the_program() {
    let this = std::env::current_exe().expect("a path");
    for one in ["hostile::panic_here", "hostile::panic_in_another_thread"] {
        let line = format!("{} --ignored --nocapture --exact {one}; echo status $?", this.display());
        let terminal = Terminal::alone(&line, (100, 30));
        let screen = terminal.wait_for("status 101");
        assert!(screen.contains("panicked at") && !screen.contains("went on"), "{screen}");
        terminal.assert_restored();
    }
}

/// 50 KB and more at once, as terminals without bracketed paste send what is pasted.
#[test]
fn whatever_is_typed_at_once_it_answers() {
    let scratch = folder();
    let lumps = [
        ("/", "cpu > 5% and name = a ".repeat(2_500)),
        ("/", "abc defg\n".repeat(6_000)),
        ("", "jkatvoLg ".repeat(6_000)),
        ("?", "x".repeat(200_000)),
    ];
    for (first, lump) in lumps {
        fs::write(scratch.path().join("lump"), &lump).expect("a file");
        let terminal = Terminal::run("dozor demo --after 60s; echo status $?", (120, 36), scratch.path());
        terminal.wait_for("LIVE");
        if !first.is_empty() {
            terminal.text(first);
        }
        let file = scratch.path().join("lump").display().to_string();
        terminal.tmux(&["load-buffer", &file]);
        terminal.tmux(&["paste-buffer", "-r"]);
        let begin = Instant::now();
        terminal.keys("C-c");
        terminal.wait_for("status 0");
        // It took 25 s, optimised, when each key was worked out alone.
        assert!(begin.elapsed() < Duration::from_secs(8), "{:?} after {first}", begin.elapsed());
        terminal.assert_restored();
    }
}

#[test]
fn what_is_wrong_with_the_options_is_told_before_a_terminal_is_asked_for() {
    for (arguments, said) in [
        (&["demo", "--incident", "foo"][..], "no rule is called 'foo'"),
        (&["demo", "--theme", "foo"], "theme"),
        (&["--theme", "foo"], "theme"),
        (&["4194304"], "there is no process 4194304"),
        (&["--view", "foo"], "view"),
    ] {
        let output = run(arguments);
        assert_ne!(output.status.code(), Some(0));
        assert!(
            message(&output).contains(said) && !message(&output).contains("terminal"),
            "{}",
            message(&output)
        );
    }
}

#[test]
fn every_signal_that_ends_it_leaves_the_terminal_as_it_was() {
    for (signal, status) in [
        ("QUIT", 131),
        ("USR1", 138),
        ("USR2", 140),
        ("ALRM", 142),
        ("ABRT", 134),
        ("IO", 157),
        ("ILL", 132),
        ("FPE", 136),
        ("SEGV", 139),
    ] {
        let scratch = folder();
        let terminal = Terminal::run(
            "bash -c 'echo $$ > pid; exec dozor demo --after 60s'; echo status $?",
            (100, 30),
            scratch.path(),
        );
        terminal.wait_for("LIVE");
        let pid = fs::read_to_string(scratch.path().join("pid")).expect("its PID");
        let pid = rustix::process::Pid::from_raw(pid.trim().parse().expect("a number")).expect("a PID");
        let number =
            Command::new("bash").args(["-c", &format!("kill -l {signal}")]).output().expect("a shell");
        let number: i32 = String::from_utf8_lossy(&number.stdout).trim().parse().expect("a number");
        let ours = rustix::process::Signal::from_named_raw(number).expect("a signal");
        rustix::process::kill_process(pid, ours).expect("our own child");
        terminal.wait(signal, |screen| screen.contains(&format!("status {status}")));
        terminal.assert_restored();
    }
}

#[test]
fn a_terminal_that_can_show_no_screen_is_told() {
    let terminal = Terminal::alone("TERM=dumb dozor demo; TERM= dozor demo; echo status $?", (100, 30));
    let screen = terminal.wait_for("status 2");
    assert!(screen.contains("a terminal called 'dumb'") && screen.contains("TERM does not say"), "{screen}");
    terminal.assert_restored();
}

#[test]
fn a_window_that_is_closed_with_standard_error_in_it_is_a_hangup() {
    let scratch = folder();
    let terminal =
        Terminal::run("(trap '' HUP; dozor demo --after 60s; echo $? > status)", (100, 30), scratch.path());
    terminal.wait_for("LIVE");
    drop(terminal);
    let begin = Instant::now();
    let status = loop {
        match fs::read_to_string(scratch.path().join("status")) {
            Ok(text) if text.ends_with('\n') => break text,
            _ => assert!(begin.elapsed() < PATIENCE, "it did not end"),
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    assert_eq!(status.trim(), "129");
    assert!(scratch.path().join("state/dozor/state.toml").exists(), "how the screen was left is kept");
}
