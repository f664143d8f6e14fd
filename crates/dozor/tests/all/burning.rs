//! `dozor burn`: a bounded load, what the kernel charges for it, the limit of a sensor, and the verdict.

use crate::terminal::Terminal;
use dozor_linux::stand_in::Machine;
use serde_json::Value;
use std::path::Path;
use std::process::{Command, Output};
use std::time::{Duration, Instant};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");

fn burn(arguments: &[&str]) -> Output {
    Command::new(DOZOR).arg("burn").args(arguments).output().expect("it runs")
}

fn told(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn without_a_bound_or_with_a_senseless_one_nothing_begins() {
    for (arguments, said) in [
        (&["--plain"][..], "say for how long"),
        (&["--for", "2d"], "1 s to 24 h"),
        (&["--for", "10ms"], "1 s to 24 h"),
        (&["--for", "5s", "--cores", "4000"], "this machine has cores"),
        (&["--for", "5s", "--load", "0"], "0 is not in 1..=100"),
        (&["--for", "5s", "--memory", "4000 GiB"], "the machine can spare"),
        (&["--for", "5s", "--memory", "much"], "not a number"),
        (&["--for", "5s", "--until", "nan"], "--until"),
        (&["--for", "5s", "--until", "-5"], "1 to 150"),
        (&["--for", "5s", "-o", "burn.png"], ".svg or .pdf"),
    ] {
        let begin = Instant::now();
        let output = burn(arguments);
        assert_eq!(output.status.code(), Some(2), "{arguments:?}: {}", told(&output));
        assert!(told(&output).contains(said), "{arguments:?}: {}", told(&output));
        assert!(begin.elapsed() < Duration::from_secs(4), "{arguments:?}");
    }
}

/// The seconds of user time that a shell says its children had (POSIX `times`): `0m1.234s` in its second line.
fn charged(text: &str) -> f64 {
    let line = text.lines().last().expect("its children");
    let (minutes, seconds) =
        line.split_whitespace().next().and_then(|word| word.split_once('m')).expect("a time");
    minutes.parse::<f64>().expect("minutes") * 60.0
        + seconds.trim_end_matches('s').parse::<f64>().expect("seconds")
}

#[test]
fn undisturbed_the_kernel_charges_as_much_as_was_asked_for() {
    let of = |load: &str| {
        let command = format!(
            "{DOZOR} burn --for 4s --cores 0 --load {load} --memory 8MiB --plain --format json; times"
        );
        let output = Command::new("sh").args(["-c", &command]).output().expect("a shell");
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let account: Value = serde_json::from_str(text.lines().next().expect("the account")).expect("JSON");
        assert_eq!(account["ended"], "time", "{account}");
        charged(&text)
    };
    let (quarter, most) = (of("25"), of("75"));
    // Others want the core as well, and never is it more than the share of four seconds, with what Dozor itself takes.
    assert!((0.5..1.6).contains(&quarter), "{quarter} s of 1");
    assert!((1.2..3.6).contains(&most), "{most} s of 3");
    assert!(most > 1.4 * quarter, "{most} and {quarter}");
}

/// A burn-in on the sensors of a made-up machine, of which `heats` makes something after a while.
fn on(root: &Path, arguments: &[&str], heats: impl FnOnce() + Send + 'static) -> Output {
    let trees = [root.join("proc").display().to_string(), root.join("sys").display().to_string()];
    let child = Command::new(DOZOR)
        .args([
            "burn",
            "--plain",
            "--cores",
            "0",
            "--load",
            "10",
            "--proc-root",
            &trees[0],
            "--sys-root",
            &trees[1],
        ])
        .args(arguments)
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("it starts");
    let heater = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(1_500));
        heats();
    });
    let output = child.wait_with_output().expect("it ends");
    heater.join().expect("it has heated");
    output
}

#[test]
fn it_stops_at_the_limit_of_a_sensor_and_draws_what_it_saw() {
    let folder = tempfile::tempdir().expect("a folder");
    Machine::Laptop.write(folder.path()).expect("a made-up machine");
    let sensor = folder.path().join("sys/class/hwmon/hwmon0/temp1_input");
    let chart = folder.path().join("burn.svg");
    let (begin, path) = (Instant::now(), chart.display().to_string());
    let output = on(folder.path(), &["--for", "60s", "-o", &path], move || {
        std::fs::write(sensor, "101000\n").expect("it is ours");
    });
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(1), "{text}{}", told(&output));
    assert!(begin.elapsed() < Duration::from_secs(20), "at once, not after a minute");
    assert!(
        text.starts_with("◆ stopped: coretemp Package id 0 reached 101 °C, where the limit is 100"),
        "{text}"
    );
    assert!(text.contains("never throttled") && text.contains('█'), "{text}");
    let drawing = std::fs::read_to_string(&chart).expect("a drawing");
    assert!(
        drawing.contains("<svg") && drawing.contains("stopped: coretemp Package id 0"),
        "its title is the verdict"
    );
    assert!(drawing.contains("°C") && drawing.contains("rpm"), "temperatures and fans");
}

/// In a control group of this test, where root may make one: more than its limit is refused, not ended by the kernel.
#[test]
fn memory_beyond_the_limit_of_its_control_group_is_refused() {
    const LIMIT: u64 = 256 << 20;
    let own = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let path = |kind: &str| {
        own.lines().find_map(|line| Some(line.split_once(kind)?.1.to_owned())).unwrap_or_default()
    };
    let name = format!("dozor-burn-{}", std::process::id());
    let trees = [
        (format!("/sys/fs/cgroup{}/{name}", path("0::")), "memory.max"),
        (format!("/sys/fs/cgroup/memory{}/{name}", path(":memory:")), "memory.limit_in_bytes"),
    ];
    let group = trees.iter().find_map(|(folder, limit)| {
        std::fs::create_dir(folder).ok()?;
        // What is no control group has no members; a file there would be an ordinary one.
        let is_group = Path::new(&format!("{folder}/cgroup.procs")).exists();
        if is_group && std::fs::write(format!("{folder}/{limit}"), LIMIT.to_string()).is_ok() {
            return Some(folder.clone());
        }
        let _ = std::fs::remove_dir(folder);
        None
    });
    let Some(group) = group else {
        println!("no control group of memory can be made here");
        return;
    };
    let burn = |memory: &str| {
        let script = format!(
            "echo $$ > {group}/cgroup.procs; exec {DOZOR} burn --for 1s --load 5 --plain --memory {memory}"
        );
        let output = Command::new("sh").args(["-c", &script]).output().expect("a shell");
        (output.status.code(), told(&output))
    };
    let (status, said) = burn("300MiB");
    let (fits, fitting) = burn("64MiB");
    let _ = std::fs::remove_dir(&group);
    assert_eq!(status, Some(2), "{said}");
    assert!(said.contains("the limit of its control group leaves"), "{said}");
    assert_eq!(fits, Some(0), "{fitting}");
}

#[test]
fn a_limit_of_ones_own_comes_first_and_throttling_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    Machine::Laptop.write(folder.path()).expect("a made-up machine");
    let sensor = folder.path().join("sys/class/hwmon/hwmon0/temp1_input");
    let core = folder.path().join("sys/devices/system/cpu/cpu0/thermal_throttle/core_throttle_count");
    let output = on(folder.path(), &["--for", "60s", "--until", "70", "--format", "json"], move || {
        std::fs::write(core, "5\n").expect("it is ours");
        std::thread::sleep(Duration::from_millis(1_600));
        std::fs::write(sensor, "71000\n").expect("it is ours");
    });
    let account: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    assert_eq!(account["ended"], "limit", "{account}");
    assert_eq!(account["throttled"]["events"], 2, "from 3 to 5: {account}");
    let verdict = account["verdict"].as_str().expect("a sentence");
    assert!(verdict.contains("where the limit is 70") && verdict.contains("throttled 2 times"), "{verdict}");
}

#[test]
fn on_the_screen_q_ends_it_and_the_verdict_stays() {
    let screen = Terminal::alone("dozor burn --for 10m --cores 0 --load 20", (120, 36));
    screen.wait_for("a load of our own on cores 0 at 20 % for 10 min");
    screen.wait("readings", |text| text.contains("Processes by") && text.contains("LIVE"));
    assert!(!screen.screen().contains("Dozor itself uses"), "{}", screen.screen());
    screen.keys("q");
    let left = screen.wait("the verdict", |text| text.contains("ended by hand: "));
    assert!(left.contains("ended by hand: ran for") || left.contains("ended by hand: held"), "{left}");
    screen.assert_restored();
    let over = Terminal::alone("dozor burn --for 3s --cores 0 --load 20", (120, 36));
    over.wait("it ends by itself", |text| text.contains("· ran for") || text.contains("· held"));
}
