//! What stands out, from outside: `dozor check`, the view of findings, and rules of one's own, in a real terminal.

use crate::terminal::Terminal;
use dozor_core::demo::incidents::Troubled;
use serde_json::Value;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Output};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");

fn dozor(home: &Path, arguments: &[&str]) -> Output {
    let mut command = Command::new(DOZOR);
    command.env_clear().env("PATH", std::env::var_os("PATH").unwrap_or_default()).env("HOME", home);
    command.args(arguments).output().expect("it runs")
}

/// The first minutes of the simulated night.
fn night(folder: &Path, length: &str) -> String {
    let file = folder.join("night.dozor").display().to_string();
    let made = dozor(folder, &["demo", "--record", &file, "--for", length, "--every", "1s"]);
    assert!(made.status.success(), "{made:?}");
    file
}

#[test]
fn check_says_what_is_wrong_in_its_first_line_and_in_its_status() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = night(folder.path(), "100s");
    let all = dozor(folder.path(), &["check", &file]);
    let text = String::from_utf8(all.stdout).expect("text");
    assert_eq!(all.status.code(), Some(2), "{text}");
    let first = text.lines().next().expect("a verdict");
    // Of a recording the headline has the time of what it tells.
    assert!(
        first.starts_with("◆ critical: lynx-obs recorded until 02:0") && first.contains(" (since 02:0"),
        "{text}"
    );
    assert!(first.contains("nvme0n1 is saturated") && !text.contains('\x1b'), "{text}");
    for lane in ["cpu", "memory", "disk", "network", "heat", "limits"] {
        assert!(text.lines().any(|line| line.trim_start().starts_with(lane)), "{lane}: {text}");
    }
    let status = |arguments: &[&str]| dozor(folder.path(), arguments).status.code();
    assert_eq!(
        status(&["check", &file, "--to", "02:04:20", "--fail-on", "critical"]),
        Some(0),
        "before it begins"
    );
    let before = ["check", &file, "--to", "02:04:20"];
    let [warning, notice] =
        ["warning", "notice"].map(|level| status(&[&before[..], &["--fail-on", level]].concat()));
    // /archive is nearly full all the time.
    assert_eq!((warning, notice), (Some(1), Some(1)));
    let short = ["check", &file, "--to", "02:04:05", "--fail-on", "critical"];
    assert_eq!(status(&short), Some(3), "five seconds without a finding are no answer");
    assert_eq!(status(&["check", &file, "--fail-on", "bad"]), Some(64));
    assert_eq!(status(&["check", "--for", "nothing"]), Some(64));
    assert_eq!(status(&["check", "--unheard-of"]), Some(64));
    assert_eq!(status(&["check", "/nowhere.dozor"]), Some(3));
    assert_eq!(status(&["check", &file, "--from", "09:00"]), Some(3), "nothing was recorded then");
    // What cannot be written is no verdict; who does not read on changes nothing.
    let output = |to: std::process::Stdio| {
        let mut command = Command::new(DOZOR);
        let command = command.args(["check", &file, "--details"]).env("HOME", folder.path()).stdout(to);
        command.stderr(std::process::Stdio::null()).status().expect("it runs").code()
    };
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").expect("it is there");
    assert_eq!(output(full.into()), Some(3));
    let (reader, writer) = std::io::pipe().expect("a pipe");
    drop(reader);
    assert_eq!(output(writer.into()), Some(2));
    let empty = folder.path().join("empty.dozor");
    std::fs::write(&empty, "").expect("a file");
    assert_eq!(status(&["check", &empty.display().to_string()]), Some(3));
}

/// The line that monitoring systems read from check plugins: a state, a text, and numbers in their own form.
#[test]
fn check_speaks_the_convention_of_check_plugins() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = night(folder.path(), "60s");
    let run = |more: &[&str]| {
        let out = dozor(folder.path(), &[&["check", "--format", "plugin"], more].concat());
        (String::from_utf8(out.stdout).expect("text"), out.status.code())
    };
    let (text, status) = run(&[&file]);
    let (said, numbers) = text.trim_end().split_once(" | ").expect("numbers");
    assert!(said.starts_with("DOZOR CRITICAL - ") && said.contains("nvme0n1 is saturated"), "{text}");
    assert_eq!((status, text.lines().count()), (Some(2), 1));
    for number in numbers.split(' ') {
        let (label, value) = number.split_once('=').expect("a label");
        let value = value.split(';').next().expect("a value").trim_end_matches(['%', 'B']);
        assert!(!label.is_empty() && (value == "U" || value.parse::<f64>().is_ok()), "{number}");
    }
    for label in ["cpu", "memory", "disk", "network", "heat", "critical", "warning", "notice"] {
        assert!(
            numbers.split(' ').any(|number| number.starts_with(&format!("{label}="))),
            "{label}: {numbers}"
        );
    }
    let (text, status) = run(&[&file, "--to", "02:04:20", "--fail-on", "critical"]);
    assert!(text.starts_with("DOZOR OK - ") && status == Some(0), "{text}");
    let (text, status) = run(&["/nowhere.dozor"]);
    assert!(text.starts_with("DOZOR UNKNOWN - ") && status == Some(3), "{text}");
}

/// At first as much as fits a screen; all of it where it is asked for. Commands stand only where they can be run.
#[test]
fn details_are_told_where_they_are_asked_for() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = night(folder.path(), "200s");
    let run = |more: &[&str]| {
        String::from_utf8(dozor(folder.path(), &[&["check", &file], more].concat()).stdout).expect("text")
    };
    let (brief, whole) = (run(&[]), run(&["--details"]));
    assert!(!brief.contains("usually: ") && brief.contains("next: look at who does it"), "{brief}");
    assert!(whole.contains("usually: ") && whole.contains("it explains: "), "{whole}");
    assert!(whole.lines().count() > brief.lines().count());
    assert!(!whole.contains("dozor 3820"), "a PID of a recording is nobody's here: {whole}");
}

/// On a terminal it says how long it takes, then the report with colours; the keys of the screen are not in it.
#[test]
fn check_shows_that_it_looks() {
    let screen = Terminal::alone("dozor check --for 4s", (100, 40));
    screen.wait("how long it takes", |text| text.contains(" of 4 s"));
    let text = screen.wait_for("  limits ");
    assert!(!text.contains(" of 4 s") && !text.contains("(x)") && !text.contains("(enter"), "{text}");
    screen.keys("exit Enter");
}

/// From a finding to the limits of its rule: a change counts at once and is kept, with the comments of the file.
#[test]
fn limits_of_a_rule_are_changed_from_its_finding() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    let file = settings.join("settings.toml");
    std::fs::write(&file, "# mine\n[findings.heat]\nfor = \"5 s\" # patient\n").expect("settings");
    let command =
        format!("XDG_CONFIG_HOME={} dozor demo --after 40s", folder.path().join("config").display());
    let screen = Terminal::run(&command, (160, 48), folder.path());
    screen.wait_for("nvme0n1 is saturated");
    screen.keys("w");
    screen.wait_for("What stood out");
    screen.keys("e");
    let text = screen.wait_for("Limits of disk-saturated");
    assert!(
        text.contains("20.0 %") && text.contains(" % (pressure.io.some)"),
        "the limit and what is now: {text}"
    );
    screen.keys("Enter");
    screen.wait_for("enter keeps it");
    screen.keys("C-u");
    screen.text("99 %");
    screen.keys("Enter");
    screen.wait("the new value and the old one", |text| {
        text.contains("99.0 %") && text.contains("default 20.0 %")
    });
    for _ in 0..5 {
        screen.keys("Down");
    }
    screen.keys("Enter");
    screen.wait_for("the rule says nothing · enter keeps it");
    screen.keys("C-u");
    screen.text("true");
    screen.keys("Enter");
    screen.keys("Escape");
    screen.keys("Escape");
    screen
        .wait("it is heard no more", |text| text.contains("Processes by") && !text.contains("is saturated"));
    screen.keys("q");
    screen.assert_restored();
    let kept = std::fs::read_to_string(&file).expect("it is kept");
    assert!(kept.starts_with("# mine\n[findings.heat]\nfor = \"5 s\" # patient\n"), "{kept}");
    assert!(kept.contains("[findings.disk-saturated]\nstalled = \"99 %\"\noff = true"), "{kept}");
    let text = String::from_utf8(dozor(folder.path(), &["settings"]).stdout).expect("text");
    assert!(!text.contains("problem"), "{text}");
}

/// What a finding says to do next is done by its key of now, and `x` begins with the choice that it names.
#[test]
fn next_steps_have_the_keys_of_now() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    std::fs::write(settings.join("settings.toml"), "[keys]\n\"who has it open\" = \"ctrl-o\"\n")
        .expect("settings");
    let command =
        format!("XDG_CONFIG_HOME={} dozor demo --after 40s", folder.path().join("config").display());
    let screen = Terminal::run(&command, (160, 48), folder.path());
    screen.wait_for("nvme0n1 is saturated");
    screen.keys("w");
    screen.wait_for("give its disk work a lower priority (x, disk idle)");
    screen.keys("Down");
    screen.wait_for("look at who writes there (ctrl-o)");
    screen.keys("C-o");
    screen.wait("who has it open", |text| !text.contains("What stood out"));
    screen.keys("Escape");
    screen.keys("w");
    screen.wait_for("What stood out");
    screen.keys("x");
    screen.wait("the choice that it names", |text| {
        text.lines().any(|line| line.contains('▸') && line.contains("disk idle"))
    });
    screen.keys("Escape");
    screen.keys("q");
    screen.assert_restored();
}

#[test]
fn check_as_json_has_the_culprit_the_evidence_and_what_was_ruled_out() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = night(folder.path(), "60s");
    let out = dozor(folder.path(), &["check", &file, "--format", "json"]);
    let json: Value = serde_json::from_slice(&out.stdout).expect("JSON");
    let disk = &json["findings"][0];
    assert_eq!((&disk["rule"], &disk["severity"]), (&"disk-saturated".into(), &"critical".into()));
    assert_eq!(disk["culprits"][0]["pid"], 3820);
    assert!(disk["culprits"][0]["share"].as_f64().is_some_and(|share| (60.0..=100.0).contains(&share)));
    let busy = disk["evidence"]
        .as_array()
        .expect("evidence")
        .iter()
        .find(|one| one["metric"] == "disk.busy{nvme0n1}");
    assert!(busy.is_some_and(|one| one["unit"] == "%" && one["value"].as_f64() > Some(80.0)), "{disk}");
    assert!(disk["ruled_out"].to_string().contains("memory"));
    assert!(
        json["resources"].as_array().is_some_and(|all| all.iter().any(|one| one["state"] == "ruled out"))
    );
    // The same as a table.
    let table = dozor(folder.path(), &["export", &file, "--table", "findings", "--format", "jsonl"]);
    let rows: Vec<Value> = String::from_utf8_lossy(&table.stdout)
        .lines()
        .map(|line| serde_json::from_str(line).expect("JSON"))
        .collect();
    let same = rows.iter().find(|row| row["rule"] == "disk-saturated").expect("its row");
    assert_eq!((&same["pid"], &same["sentence"]), (&3820.into(), &disk["sentence"]));
}

#[test]
fn this_machine_is_checked() {
    let folder = tempfile::tempdir().expect("a folder");
    let out = dozor(folder.path(), &["check", "--for", "2s", "--format", "json"]);
    let json: Value = serde_json::from_slice(&out.stdout).expect("JSON");
    assert!(json["seconds"].as_f64().is_some_and(|seconds| (1.5..10.0).contains(&seconds)), "{json}");
    assert_eq!(json["resources"].as_array().map(Vec::len), Some(6));
}

#[test]
fn the_view_of_findings_leads_from_the_history_to_the_process() {
    let screen = Terminal::alone("dozor demo --after 140s", (160, 48));
    // All of the past has come.
    screen.wait_for("fan 2 stands still");
    screen.keys("w");
    let view = screen
        .wait("what is over too", |text| text.contains("What stood out") && text.contains("over, 1 min"));
    assert!(view.contains("things watched for"), "{view}");
    // The loop of reads is the second that stands; its evidence and what it explains stand below.
    screen.keys("Down");
    screen.wait("its evidence", |text| text.contains("read_calls@4340") && text.contains("it explains"));
    screen.keys("Enter");
    screen.wait("the process", |text| {
        text.contains("guidelog[4340]") && text.contains("who it is") || text.contains("nice")
    });
    screen.keys("Escape");
    screen.keys("w");
    screen.wait_for("What stood out");
    // Quiet about one for an hour: it goes from what stands out, and comes back when it may speak again.
    screen.keys("Down");
    screen.keys("z");
    screen.wait_for("quiet about empty-calls");
    screen.keys("Escape");
    screen.wait("it is quiet", |text| !text.contains("reads nothing") && text.contains("Processes by"));
    screen.keys("q");
    screen.assert_restored();
}

#[test]
fn what_was_dismissed_stays_so_until_it_may_speak_again() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    let rule = "[[rule]]\nname = \"first one\"\nwhen = \"pid = 1\"\nfor = \"1s\"\nseverity = \"critical\"\nsay = \"the first is there\"\n";
    std::fs::write(settings.join("settings.toml"), rule).expect("settings");
    let at = |name: &str| folder.path().join(name).display().to_string();
    let command = format!("XDG_CONFIG_HOME={} XDG_STATE_HOME={} dozor watch", at("config"), at("state"));
    let screen = Terminal::run(&command, (160, 48), folder.path());
    screen.wait_for("◆ the first is there");
    screen.keys("w");
    screen.wait_for("What stood out");
    // Others may stand out as well, and more may come: ours is somewhere in the list.
    for _ in 0..12 {
        let chosen = |text: &str| text.lines().find(|line| line.contains('▸')).map(str::to_owned);
        let before = screen.wait("one is chosen", |text| chosen(text).is_some());
        if chosen(&before).is_some_and(|line| line.contains("first one")) {
            break;
        }
        screen.keys("Down");
        std::thread::sleep(std::time::Duration::from_millis(300));
    }
    screen.keys("d");
    screen.wait_for("dismissed: first one");
    screen.keys("Escape");
    screen.wait("it is told no more", |text| text.contains("Processes by") && !text.contains("◆ the first"));
    screen.keys("q");
    screen.assert_restored();
    let again = Terminal::run(&command, (160, 48), folder.path());
    again.wait_for("Processes by");
    again.keys("w");
    let view = again.wait("remembered", |text| text.contains("dismissed"));
    assert!(view.contains("the first is there"), "{view}");
    again.keys("q");
}

#[test]
fn each_incident_of_the_demo_can_be_looked_at_and_recorded() {
    let screen = Terminal::alone("dozor demo --incident swapping --after 30s", (120, 36));
    screen.wait_for("skyboard[320]");
    screen.wait("it is found", |text| text.contains("swap") && text.contains('▲'));
    screen.keys("q");
    screen.assert_restored();
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("all.dozor").display().to_string();
    let length = format!("{}s", Troubled::new(None).expect("all of them").seconds());
    let wrote = dozor(folder.path(), &["demo", "--incident", "all", "--record", &file, "--for", &length]);
    assert!(wrote.status.success(), "{}", String::from_utf8_lossy(&wrote.stderr));
    let table = dozor(folder.path(), &["export", &file, "--table", "findings", "--format", "csv"]);
    let text = String::from_utf8_lossy(&table.stdout).into_owned();
    let found = |rule: &str| text.lines().any(|line| line.split(',').any(|cell| cell == rule));
    for rule in dozor_core::findings::rules::all() {
        assert!(found(rule.about().name), "{} is not in\n{text}", rule.about().name);
    }
    let unknown =
        dozor(folder.path(), &["demo", "--incident", "swaping", "--record", "/dev/null", "--for", "1s"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("did you mean swapping?"));
}

#[test]
fn a_rule_of_ones_own_fires_and_starts_its_command() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    let told = folder.path().join("told");
    let rule = format!(
        "[[rule]]\nname = \"stack runs\"\nwhen = \"write > 50 MiB/s and user = astro\"\nfor = \"2s\"\nseverity = \"warning\"\n\
         say = \"{{process}} writes {{write}}\"\nrun = [\"cp\", \"/dev/null\", \"{}\"]\n",
        told.display()
    );
    std::fs::write(settings.join("settings.toml"), rule).expect("settings");
    let command =
        format!("XDG_CONFIG_HOME={} dozor demo --after 20s", folder.path().join("config").display());
    let screen = Terminal::run(&command, (160, 48), folder.path());
    let shown = screen.wait_for("stacker[3820] writes 1");
    assert!(shown.contains("▲ stacker[3820] writes 1") && shown.contains("MiB/s"), "{shown}");
    let begin = std::time::Instant::now();
    while !told.exists() {
        assert!(begin.elapsed().as_secs() < 20, "the command was not started");
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    screen.keys("q");
    screen.assert_restored();
}

/// Two rules that begin together, and one whose command would go on for ever with a child of its own.
#[test]
fn commands_of_rules_wait_for_each_other_and_end_with_dozor() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = folder.path().join("config/dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    let at = |name: &str| folder.path().join(name);
    let rule = |name: &str, script: &str| {
        format!(
            "[[rule]]\nname = \"{name}\"\nwhen = \"name = stacker\"\nfor = \"1ms\"\nrun = [\"sh\", \"-c\", \"cd {}; {script}\"]\n",
            folder.path().display()
        )
    };
    let rules = [
        rule("a", "sleep 0.4; touch a"),
        rule("b", "touch b"),
        rule("c", "echo $$ > command; sleep 300 & echo $! > child; touch c; wait"),
    ];
    std::fs::write(settings.join("settings.toml"), rules.concat()).expect("settings");
    let line = format!("XDG_CONFIG_HOME={} dozor demo --after 20s", at("config").display());
    let screen = Terminal::run(&line, (160, 48), folder.path());
    screen.wait("all three", |_| at("a").exists() && at("b").exists() && at("c").exists());
    let pids = ["command", "child"].map(|name| std::fs::read_to_string(at(name)).expect("a PID"));
    let lives = |pid: &String| {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
        stat.contains("(sh)") || stat.contains("(sleep)")
    };
    assert!(pids.iter().all(lives), "both run");
    screen.keys("q");
    screen.assert_restored();
    screen.wait("their end", |_| !pids.iter().any(lives));
}

/// What `dozor check` finds on this machine, as another user where one is named.
fn found_here(home: &Path, seconds: &str, user: Option<u32>) -> Vec<Value> {
    let mut command = Command::new(DOZOR);
    command.env_clear().env("PATH", std::env::var_os("PATH").unwrap_or_default()).env("HOME", home);
    if let Some(user) = user {
        command.uid(user).gid(user).current_dir("/");
    }
    let output = command.args(["check", "--for", seconds, "--format", "json"]).output().expect("it runs");
    let verdict: Value = serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&output.stderr)));
    verdict["findings"].as_array().expect("findings").clone()
}

/// A child that is ended with the test.
struct Child(std::process::Child);

impl Drop for Child {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn undisturbed_thousands_of_short_processes_are_found_by_root_and_by_others() {
    let folder = tempfile::tempdir().expect("a folder");
    let script = "i=0; while [ $i -lt 200000 ]; do /bin/true; i=$((i+1)); done";
    let child = Child(Command::new("sh").args(["-c", script]).spawn().expect("a shell"));
    let who = format!("sh[{}]", child.0.id());
    let is_root = rustix::process::geteuid().is_root();
    for user in [None, Some(65_534)].into_iter().filter(|user| user.is_none() || is_root) {
        // Nobody else may read where the tests were built.
        if user.is_some() && !Path::new(DOZOR).ancestors().all(is_open) {
            println!("not tried as another user: the program's folder is closed to others");
            continue;
        }
        let found = found_here(folder.path(), "8s", user);
        let about: Vec<&Value> =
            found.iter().filter(|one| one["rule"] == "short-lived" || one["rule"] == "forks").collect();
        assert!(!about.is_empty(), "as {user:?}: {found:?}");
        assert!(about.iter().any(|one| one.to_string().contains(&who)), "as {user:?}, {who}: {about:?}");
    }
}

fn is_open(folder: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt as _;
    folder.metadata().is_ok_and(|data| data.permissions().mode() & 0o001 != 0)
}

#[test]
fn a_removed_file_that_takes_room_is_found_with_who_holds_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("frames.raw");
    let file = std::fs::File::create(&path).expect("a file");
    // Blocks, not a hole.
    rustix::fs::fallocate(&file, rustix::fs::FallocateFlags::empty(), 0, 400 << 20).expect("room");
    std::fs::remove_file(&path).expect("ours");
    let found = found_here(folder.path(), "1s", None);
    let removed = found.iter().find(|one| one["rule"] == "removed-files").expect("it is found");
    let ours = i64::from(std::process::id());
    let is_told =
        |text: &str| text.contains("still open take") || text.contains("was removed and still takes");
    assert!(removed["sentence"].as_str().is_some_and(is_told), "{removed}");
    // Others on this machine may hold more.
    let is_ours = removed["culprits"][0]["pid"] == ours && removed.to_string().contains("frames.raw");
    let share = removed["culprits"][0]["share"].as_f64().unwrap_or(0.0);
    assert!(is_ours || share < 100.0, "{removed}");
    drop(file);
}

/// In a terminal of 60 columns no word of the report is cut, and what goes on stands below what it belongs to.
#[test]
fn the_report_fits_a_narrow_terminal() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = night(folder.path(), "60s");
    let screen = Terminal::run(&format!("dozor check {file}"), (60, 60), folder.path());
    let text = screen.wait_for("  limits ");
    let plain = dozor(folder.path(), &["check", &file]);
    let whole = String::from_utf8(plain.stdout).expect("text");
    assert!(whole.lines().any(|line| line.chars().count() > 100), "elsewhere a line is a line: {whole}");
    let lines: Vec<&str> = text.lines().collect();
    let disk = lines
        .iter()
        .position(|line| line.starts_with("  disk     ◆ critical: nvme0n1"))
        .expect("its finding");
    assert!(lines[disk + 1].starts_with("           ") && !lines[disk + 1].trim().is_empty(), "{text}");
    let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
    let shown = words(&text);
    let sentence =
        whole.lines().find(|line| line.contains("◆ critical: nvme0n1 is saturated")).expect("its line");
    assert!(words(sentence).iter().all(|word| shown.contains(word)), "{text}");
    screen.keys("exit Enter");
}

/// A small file system, gone at the end of the test whatever comes of it.
struct Small<'a>(&'a Path);

impl Drop for Small<'_> {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(self.0).status();
    }
}

/// A small file system that is nearly full of what was removed, where one may mount: on the screen within seconds, and gone with it.
#[test]
fn a_removed_file_that_fills_a_file_system_stands_out_on_the_screen() {
    let folder = tempfile::tempdir().expect("a folder");
    let place = folder.path().join("small");
    std::fs::create_dir(&place).expect("a folder");
    let mounted =
        Command::new("mount").args(["-t", "tmpfs", "-o", "size=400m", "tmpfs"]).arg(&place).status();
    if !mounted.is_ok_and(|status| status.success()) {
        return;
    }
    let _small = Small(&place);
    let path = place.join("plates.raw");
    let file = std::fs::File::create(&path).expect("a file");
    rustix::fs::fallocate(&file, rustix::fs::FallocateFlags::empty(), 0, 340 << 20).expect("room");
    std::fs::remove_file(&path).expect("ours");
    let screen = Terminal::alone("dozor --every 1s", (160, 48));
    screen.wait("it stands out", |text| {
        text.contains("plates.raw was removed and still takes")
            || text.contains("removed files that are still open take")
    });
    drop(file);
    screen.wait("its room is free again", |text| !text.contains("plates.raw was removed"));
    screen.keys("q");
    screen.assert_restored();
}
