//! Deeds on the command line, and commands under watch: real processes that the tests start, and the kernel's own accounts.

use crate::{copy_program, nicer, own_niceness};
use serde_json::Value as Json;
use std::io::{Read as _, Write as _};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");
const HELPER: &str = "DOZOR_TEST_HELPER";

fn run(arguments: &[&str]) -> Output {
    Command::new(DOZOR).args(arguments).stdin(Stdio::null()).output().expect("dozor runs")
}

fn status(output: &Output) -> Option<i32> {
    output.status.code()
}

fn said(output: &Output) -> String {
    let texts =
        [&output.stdout, &output.stderr].map(|text| String::from_utf8_lossy(text).trim_end().to_owned());
    texts.join("\n").trim().to_owned()
}

fn json(output: &Output) -> Json {
    let text = String::from_utf8_lossy(&output.stdout);
    let last = text.lines().last().unwrap_or_default();
    serde_json::from_str(last).unwrap_or_else(|error| panic!("{error}: {}", said(output)))
}

/// A shell of this test in a process group of its own; all of it is ended at the end.
struct Shell(Child);

impl Shell {
    /// Waits for its first word.
    fn ready(script: &str) -> Shell {
        let mut command = Command::new("sh");
        command.args(["-c", script]).stdin(Stdio::piped()).stdout(Stdio::piped()).process_group(0);
        let mut shell = Shell(command.spawn().expect("a shell"));
        shell.0.stdout.as_mut().expect("its output").read_exact(&mut [0]).expect("a word");
        shell
    }

    fn pid(&self) -> String {
        self.0.id().to_string()
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        if let Some(group) = rustix::process::Pid::from_raw(self.0.id() as i32) {
            let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        }
        let _ = self.0.wait();
    }
}

#[test]
fn a_signal_says_what_became_of_each_and_ends_with_a_status() {
    let polite = Shell::ready("echo r; exec sleep 30");
    // Nobody waits for it here, so it stays as a zombie of this test.
    let output = run(&["signal", "TERM", &polite.pid(), "--wait", "300ms", "--format", "json"]);
    let outcome = json(&output)[0]["outcome"].as_str().expect("an outcome").to_owned();
    assert!(outcome.starts_with("zombie: ") && outcome.ends_with("must collect it"), "{outcome}");
    assert_eq!(status(&output), Some(1), "what was wanted is not so");
    let deaf = Shell::ready("trap '' TERM; echo r; while :; do sleep 0.1; done");
    let output = run(&["signal", "TERM", &deaf.pid(), "--wait", "300ms"]);
    assert!(said(&output).contains("still there: it ignores the signal"), "{}", said(&output));
    assert_eq!(status(&output), Some(1));
    assert_eq!(status(&run(&["signal", "TERM", "4194304"])), Some(3), "nobody has that PID");
    for wrong in [&["signal", "TREM", "1"][..], &["signal", "TERM"], &["nice", "40", "1"], &["pin", "x", "1"]]
    {
        let output = run(wrong);
        assert_eq!((status(&output), said(&output).lines().count()), (Some(2), 1), "{}", said(&output));
    }
}

#[test]
fn who_forks_when_it_is_told_to_stop_leaves_a_heir_that_is_named() {
    // The heir has had time to become its program.
    let shell =
        Shell::ready("trap 'sleep 31 & sleep 0.3; exit 0' TERM; echo r; while :; do sleep 0.05; done");
    let pid = shell.pid();
    // Its parent, this test, has to collect it meanwhile.
    let waiter = std::thread::spawn(move || {
        let mut shell = shell;
        let _ = shell.0.wait();
        shell
    });
    let output = run(&["signal", "TERM", &pid, "--format", "json"]);
    let account = &json(&output)[0];
    assert!(account["outcome"].as_str().expect("an outcome").starts_with("gone after"), "{account}");
    let heirs: Vec<&str> =
        account["left"].as_array().expect("a list").iter().filter_map(|heir| heir["name"].as_str()).collect();
    assert!(heirs.contains(&"sleep"), "{account}");
    drop(waiter.join().expect("its end"));
}

/// `--user` in front of a condition that is as long, or nested as deeply, as may be.
#[test]
fn a_selection_is_never_lost_and_says_what_is_wrong() {
    let shell = Shell::ready("echo r; exec sleep 33");
    let bystander = Shell::ready("echo r; exec sleep 34");
    let (pid, user) = (shell.pid(), own_user());
    let long = format!("pid = {pid} or name = \"{}\"", "x".repeat(1_950));
    let deep = format!("{}pid = {pid}{}", "(".repeat(50), ")".repeat(50));
    for narrow in [&long, &deep] {
        let output =
            run(&["signal", "URG", "--where", narrow, "--user", &user, "--all", "--anyway", "--dry-run"]);
        assert_eq!(status(&output), Some(0), "{}", said(&output));
        assert_eq!(said(&output).lines().count(), 1, "{}", said(&output));
        assert!(said(&output).contains(&format!("sleep[{pid}]")), "{}", said(&output));
        assert!(!said(&output).contains(&format!("[{}]", bystander.pid())));
    }
    let too_deep = format!("({deep})");
    let output = run(&["signal", "URG", "--where", &too_deep, "--all", "--dry-run"]);
    assert_eq!(status(&output), Some(2));
    assert!(said(&output).contains("nested too deeply"), "{}", said(&output));
    // As many users as one likes: each is there, nobody else is meant.
    let many = vec![user.as_str(); 400].join(",");
    let output =
        run(&["signal", "URG", "--where", &format!("pid = {pid}"), "--user", &many, "--all", "--dry-run"]);
    assert_eq!(said(&output).lines().count(), 1, "{}", said(&output));
}

/// Children that nobody waits for: the sum of what each measured itself.
#[test]
fn undisturbed_a_command_whose_children_nobody_waits_for_is_told_whole() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let script = r#"
        use Time::HiRes qw(clock_gettime CLOCK_PROCESS_CPUTIME_ID);
        $SIG{CHLD} = "IGNORE"; pipe(R, W);
        for (1..40) {
            if (!fork) { close R; my $t = 0; $t = clock_gettime(CLOCK_PROCESS_CPUTIME_ID) while $t < 0.03; syswrite W, "$t
"; exit }
        }
        close W; my $sum = 0; while (<R>) { $sum += $_ } print STDERR "$sum
"; sleep 1;
    "#;
    let output = run(&["run", "--format", "json", "--", "perl", "-e", script]);
    let truth: f64 = String::from_utf8_lossy(&output.stderr).trim().parse().expect("a number");
    let account = json(&output);
    let ours = account["cpu_time"].as_f64().expect("a number");
    println!("truth\tcpu_time of dozor run, of children that nobody waits for, s\t{truth}\t{ours}");
    assert!((ours / truth - 1.0).abs() < 0.2, "{ours} s, the children measured {truth}");
    assert_eq!(account["processes"], 41);
}

#[test]
fn the_memory_of_dozor_is_not_that_of_the_command() {
    let account = json(&run(&["run", "--format", "json", "--", "true"]));
    let peak = account["peak_rss"].as_i64().expect("a number");
    assert!(peak < 6 << 20 || account["peak_rss_at_most"] == true, "{account}");
    let large = json(&run(&[
        "run",
        "--format",
        "json",
        "--",
        "perl",
        "-e",
        "my $x; vec($x, 64 << 20, 8) = 1; sleep 1",
    ]));
    let peak = large["peak_rss"].as_i64().expect("a number");
    assert!((64 << 20..96 << 20).contains(&peak) && large["peak_rss_at_most"] == false, "{large}");
}

fn own_user() -> String {
    let output = Command::new("id").arg("-un").output().expect("id");
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// What a dry run says is what the real run does, with its exit status.
#[test]
fn a_dry_run_ends_as_the_real_one_would() {
    let shell = Shell::ready("sleep 35 & echo r; wait");
    let (pid, own) = (shell.pid(), std::process::id().to_string());
    // Dozor's own parent; the first process; nobody; several. URG harms nobody.
    let cases: [&[&str]; 6] = [
        &["signal", "URG", &pid],
        &["signal", "URG", &own],
        &["signal", "URG", "1"],
        &["signal", "URG", "4194304"],
        &["signal", "URG", &pid, "4194304"],
        &["signal", "URG", &pid, "--descendants"],
    ];
    for arguments in cases {
        let real = run(arguments);
        let dry = run(&[arguments, &["--dry-run"]].concat());
        assert_eq!(status(&dry), status(&real), "{arguments:?}: {}", said(&dry));
    }
    let dry = run(&["signal", "URG", "1", "--dry-run"]);
    assert!(
        said(&dry).contains("would refuse signal URG to") && said(&dry).contains("it is the first process")
    );
    assert!(!said(&dry).contains("would do"), "{}", said(&dry));
    let dry = run(&["signal", "URG", "1", &pid, "--dry-run", "--format", "json"]);
    let line = String::from_utf8_lossy(&dry.stdout).into_owned();
    let would: Json = serde_json::from_str(line.trim()).expect("an array");
    assert!(would[0]["refused"].is_string() && would[1]["refused"].is_null(), "{would}");
    let dry = run(&["pin", "4000", &pid, "--dry-run"]);
    assert_eq!(status(&dry), status(&run(&["pin", "4000", &pid])));
    assert!(
        said(&dry).contains("would refuse cores 4000") && said(&dry).contains("offline"),
        "{}",
        said(&dry)
    );
    // The first of the kernel's threads; a container may not show it.
    if std::fs::read_to_string("/proc/2/comm").is_ok_and(|name| name.trim() == "kthreadd") {
        let dry = run(&["signal", "TERM", "2", "--anyway", "--dry-run"]);
        assert!(status(&dry) == Some(1) && said(&dry).contains("no signal ends it"), "{}", said(&dry));
        let real = run(&["signal", "TERM", "2", "--anyway", "--wait", "100ms"]);
        assert_eq!(status(&real), Some(1), "{}", said(&real));
    }
    let wrong = run(&["nice", "+5", &pid]);
    assert_eq!(status(&wrong), Some(2));
    assert!(said(&wrong).contains("write nice 5"), "{}", said(&wrong));
    if !rustix::process::geteuid().is_root() {
        return;
    }
    // Another user, who may neither signal root's process nor raise its own.
    let other = |arguments: &[&str]| {
        let mut command = Command::new(DOZOR);
        command.args(arguments).args(["--anyway", "--all"]).stdin(Stdio::null()).uid(65_534).gid(65_534);
        command.output().expect("dozor")
    };
    for arguments in [&["signal", "URG", &pid][..], &["nice", "5", &pid], &["pin", "0", &pid]] {
        let (real, dry) = (other(arguments), other(&[arguments, &["--dry-run"]].concat()));
        assert_eq!((status(&real), status(&dry)), (Some(1), Some(1)), "{arguments:?}: {}", said(&dry));
        assert!(
            said(&dry).contains("would refuse") && said(&dry).contains("not permitted"),
            "{}",
            said(&dry)
        );
    }
}

#[test]
fn several_and_special_ones_need_a_second_word() {
    let shell = Shell::ready("sleep 32 & sleep 32 & echo r; wait");
    let pid = shell.pid();
    let (before, nice) = (own_niceness(), nicer(3));
    let output = run(&["nice", &nice, &pid, "--descendants"]);
    assert_eq!(status(&output), Some(2));
    assert!(said(&output).contains("3 processes are meant; --all does it to all"), "{}", said(&output));
    let output = run(&["nice", &nice, &pid, "--descendants", "--dry-run", "--format", "json"]);
    let would = json(&output);
    assert_eq!(
        (would.as_array().map(Vec::len), &would[0]["before"]),
        (Some(3), &Json::from(before.to_string()))
    );
    let output = run(&["nice", &nice, &pid, "--descendants", "--all"]);
    assert_eq!(status(&output), Some(0), "{}", said(&output));
    assert!(said(&output).contains(&format!("nice {before} → {nice}: gives way to others")));
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("it is there");
    assert_eq!(stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(16)), Some(&*nice));
    let output = run(&["signal", "TERM", "1"]);
    assert_eq!(status(&output), Some(2));
    assert!(
        said(&output).contains("it is the first process") && said(&output).contains("--anyway"),
        "{}",
        said(&output)
    );
    let own = std::process::id().to_string();
    let output = run(&["signal", "URG", &own]);
    assert!(
        said(&output).contains("Dozor runs below it") || said(&output).contains("Dozor runs in it"),
        "{}",
        said(&output)
    );
    let output = run(&["signal", "URG", "--where", &format!("pid = {pid}")]);
    assert_eq!((status(&output), said(&output).contains("sent")), (Some(0), true), "{}", said(&output));
}

/// Dozor is killed at different moments while it pauses a family: nobody is left paused while others run.
#[test]
fn who_is_killed_while_it_pauses_a_family_leaves_it_whole() {
    let shell = Shell::ready("for i in $(seq 120); do sleep 99 & done; echo r; wait");
    let pid = shell.pid();
    let children = || -> Vec<String> {
        let text = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).expect("its children");
        text.split_whitespace().chain([&*pid]).map(str::to_owned).collect()
    };
    let is_paused = |pid: &String| {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("it is there");
        stat.rsplit_once(')').is_some_and(|(_, rest)| rest.trim_start().starts_with('T'))
    };
    let (mut whole, mut none) = (0, 0);
    for at in 0..24u64 {
        let mut acting = Command::new(DOZOR)
            .args(["signal", "STOP", &pid, "--descendants", "--all"])
            .stdout(Stdio::null())
            .spawn()
            .expect("dozor runs");
        let begin = Instant::now();
        // Once somebody is paused, it is in the middle of it; the first times it is killed before.
        while begin.elapsed() < Duration::from_secs(20) && at > 2 && !children().iter().any(is_paused) {}
        std::thread::sleep(Duration::from_micros(at * 150));
        acting.kill().expect("it is ours");
        acting.wait().expect("its end");
        let begin = Instant::now();
        let (paused, all) = loop {
            let all = children();
            let paused = all.iter().filter(|pid| is_paused(pid)).count();
            if [0, all.len()].contains(&paused) && begin.elapsed() > Duration::from_millis(200) {
                break (paused, all.len());
            }
            assert!(begin.elapsed() < Duration::from_secs(5), "{paused} of {} are paused", all.len());
            std::thread::sleep(Duration::from_millis(10));
        };
        (whole, none) = if paused == all { (whole + 1, none) } else { (whole, none + 1) };
        let output = run(&["signal", "CONT", &pid, "--descendants", "--all"]);
        assert_eq!(status(&output), Some(0), "{}", said(&output));
    }
    println!("killed in the middle: {none} times all went on, {whole} times all were paused");
    assert!(none > 0);
}

/// What an unprivileged user is refused is explained with what would allow it.
#[test]
fn every_refusal_says_what_would_allow_it() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    // Where others may go as well.
    let folder = tempfile::tempdir().expect("a folder");
    let program = folder.path().join("dozor");
    copy_program(&program);
    std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("ours");
    let nobody = |arguments: &[&str]| {
        let mut command = Command::new(&program);
        command
            .args(arguments)
            .stdin(Stdio::null())
            .current_dir("/")
            .uid(65534)
            .gid(65534)
            .output()
            .expect("it runs")
    };
    let roots = Shell::ready("echo r; exec sleep 33");
    for deed in [&["signal", "TERM"][..], &["nice", "5"], &["pin", "0"]] {
        let output = nobody(&[deed, &[&roots.pid(), "--anyway"]].concat());
        assert_eq!(status(&output), Some(1), "{}", said(&output));
        assert!(said(&output).contains("not permitted; run dozor as root"), "{}", said(&output));
        let output = nobody(&[deed, &[&roots.pid()]].concat());
        assert!(said(&output).contains("it belongs to somebody else"), "{}", said(&output));
    }
    let mut command = Command::new("sleep");
    let mut own = command.arg("33").uid(65534).gid(65534).spawn().expect("a child of nobody");
    let pid = own.id().to_string();
    assert_eq!(status(&nobody(&["nice", &nicer(5), &pid])), Some(0));
    let output = nobody(&["nice", &nicer(0), &pid]);
    assert!(said(&output).contains("giving it more CPU needs root (CAP_SYS_NICE"), "{}", said(&output));
    let output = nobody(&["files", "/"]);
    assert!(said(&output).contains("may not be looked into; run as root"), "{}", said(&output));
    own.kill().and_then(|()| own.wait().map(drop)).expect("its end");
}

#[test]
fn who_listens_and_who_has_a_file_open_is_told_in_every_form() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port().to_string();
    let own = std::process::id();
    let output = run(&["ports", &port, "--format", "json"]);
    assert_eq!(json(&output)["ports"][0]["pids"], Json::from(vec![own]), "{}", said(&output));
    assert_eq!((status(&output), status(&run(&["ports", "1"]))), (Some(0), Some(1)));
    let folder = tempfile::tempdir().expect("a folder");
    let path = std::fs::canonicalize(folder.path()).expect("its name").join("a,\"b\"\n");
    let mut file = std::fs::File::create(&path).expect("a file");
    file.write_all(&[7; 9_000]).expect("room");
    let shown = path.to_str().expect("text");
    let found = json(&run(&["files", shown, "--format", "json"]));
    assert_eq!(
        (&found["files"][0]["pid"], &found["files"][0]["size"]),
        (&Json::from(own), &Json::from(9_000))
    );
    let output = run(&["files", shown, "--format", "csv", "--where", "pid > 1"]);
    let mut reader = csv::Reader::from_reader(&output.stdout[..]);
    let rows: Vec<csv::StringRecord> = reader.records().map(|row| row.expect("CSV")).collect();
    assert_eq!((rows.len(), &rows[0][0]), (1, own.to_string().as_str()));
    assert!(rows[0][11].ends_with("a,\"b\"\\n"), "made harmless: {:?}", &rows[0][11]);
    drop(file);
    assert_eq!(status(&run(&["files", shown])), Some(1), "nobody any more");
    assert_eq!(status(&run(&["files", "/no/such/place"])), Some(1));
}

/// Not a test of its own: what the children do. Each tells the CPU time that the kernel counted for it and its children.
#[test]
fn child() {
    let Ok(name) = std::env::var(HELPER) else { return };
    let spin = |time: Duration| {
        let begin = Instant::now();
        while begin.elapsed() < time {
            std::hint::black_box(0);
        }
    };
    match name.as_str() {
        "threads" => {
            let threads: Vec<_> =
                (0..3).map(|_| std::thread::spawn(move || spin(Duration::from_millis(400)))).collect();
            for thread in threads {
                thread.join().expect("its end");
            }
        }
        "short" => {
            for _ in 0..300 {
                let script = "i=0; while [ $i -lt 900 ]; do i=$((i+1)); done";
                Command::new("sh").args(["-c", script]).stdin(Stdio::null()).status().expect("a child");
            }
        }
        _ => return,
    }
    let used = |who| {
        // What getrusage tells, through the shell's own word for it: user and system, of itself and of its children.
        dozor_linux::own::usage(who)
    };
    println!("\n> {}", used(false) + used(true));
}

/// The account of a helper, and the CPU time that it told itself.
fn account_of(helper: &str) -> (Json, f64) {
    let own = std::env::current_exe().expect("our own path");
    let output = Command::new(DOZOR)
        .args(["run", "--format", "json", "--every", "100ms", "--"])
        .arg(own)
        .args(["--exact", "acting::child", "--nocapture", "--test-threads=1"])
        .env(HELPER, helper)
        .stdin(Stdio::null())
        .output()
        .expect("dozor runs");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let told = text.lines().find_map(|line| line.strip_prefix("> ")).expect("the helper's word");
    (json(&output), told.parse().expect("seconds"))
}

fn kind(helper: &str) -> &'static str {
    if helper == "short" { "300 short lives" } else { "threads" }
}

#[test]
fn undisturbed_the_account_of_a_command_agrees_with_getrusage() {
    for helper in ["threads", "short"] {
        let (account, truth) = account_of(helper);
        let cpu = account["cpu_time"].as_f64().expect("seconds");
        // What the helper did after it looked belongs to it as well: some milliseconds of its end.
        println!("truth\tcpu_time of dozor run, of {}, s\t{truth}\t{cpu}", kind(helper));
        assert!((cpu - truth).abs() <= truth * 0.01 + 0.01, "{helper}: {truth} is true, we say {cpu}");
        let parts = account["user_time"].as_f64().zip(account["system_time"].as_f64()).expect("both");
        assert!((parts.0 + parts.1 - cpu).abs() < 1e-6);
        if helper == "short" && account["processes_at_least"] == false {
            assert_eq!(account["processes"], Json::from(301), "each once: {account}");
            let programs = account["programs"].as_array().expect("a list");
            let sum: f64 = programs.iter().filter_map(|program| program["cpu_time"].as_f64()).sum();
            // The kernel tells the time of short ones by ticks; what is missing of the whole is shared out among them.
            assert!((sum - cpu).abs() <= cpu * 0.05, "programs add up to {sum} of {cpu}");
        }
    }
}

#[test]
fn bytes_orphans_and_statuses_of_a_command_are_its_own() {
    let folder = tempfile::tempdir().expect("a folder");
    let place = folder.path().display().to_string();
    // A grandchild that loses its parent and writes; what it writes is counted, once.
    let script = format!(
        "(sh -c 'dd if=/dev/zero of={place}/a bs=4096 count=512 status=none; sync {place}/a' &) ; sleep 0.8; exit 7"
    );
    let recording = format!("{place}/run.dozor");
    let output =
        run(&["run", "--format", "json", "-o", &recording, "--nice", "4", "--", "sh", "-c", &script]);
    let account = json(&output);
    assert_eq!((status(&output), &account["exit_status"]), (Some(7), &Json::from(7)));
    assert_eq!(account["written"], Json::from(512 * 4096), "{account}");
    let names: Vec<&str> =
        account["programs"].as_array().expect("a list").iter().filter_map(|p| p["name"].as_str()).collect();
    if account["processes_at_least"] == false {
        assert!(names.contains(&"dd") && names.contains(&"sync"), "{names:?}");
    }
    // The recording has the family alone, and the account to compare with.
    let output = run(&["run", "--compare", &recording, "--", "true"]);
    assert!(said(&output).contains("earlier") && said(&output).contains("-100 %"), "{}", said(&output));
    assert_eq!(status(&run(&["run", "--", "no-such-command"])), Some(127));
    assert_eq!(status(&run(&["run", "--", "/"])), Some(126));
    assert_eq!(status(&run(&["run", "--", "sh", "-c", "kill -9 $$"])), Some(137));
    let output = run(&["run", "--compare", "/etc/hostname", "--", "true"]);
    assert_ne!(status(&output), Some(0), "{}", said(&output));
    assert_eq!(status(&run(&["run"])), Some(2));
    assert_eq!(status(&run(&["run", "--cores", "4000", "--", "true"])), Some(2));
}

#[test]
fn what_was_done_is_asked_of_a_recording() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("night.dozor").display().to_string();
    let output = run(&["demo", "--record", &path, "--for", "20s"]);
    assert_eq!(status(&output), Some(0), "{}", said(&output));
    let output = run(&["query", &path, "--actions"]);
    assert_eq!((status(&output), said(&output)), (Some(0), String::new()));
    assert_eq!(
        json(&run(&["query", &path, "--actions", "--format", "json"])),
        Json::from(Vec::<Json>::new())
    );
    assert_eq!(status(&run(&["query", &path, "--actions", "--stat", "max"])), Some(2));
}
