//! Made-up machines and other rights: what is not on this machine, read by the real program.

use dozor_linux::stand_in::Machine;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Output};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");

fn run(root: &Path, arguments: &[&str]) -> Output {
    let roots = [
        "--proc-root".to_owned(),
        root.join("proc").display().to_string(),
        "--sys-root".to_owned(),
        root.join("sys").display().to_string(),
    ];
    Command::new(DOZOR).args(arguments).args(roots).output().expect("dozor runs")
}

fn snapshot(machine: Machine) -> Value {
    let folder = tempfile::tempdir().expect("a scratch folder");
    machine.write(folder.path()).expect("a made-up machine");
    let output = run(folder.path(), &["snapshot", "--format", "json", "--every", "50ms"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).expect("JSON")
}

#[test]
fn a_laptop_has_a_battery_wireless_and_a_sensor_for_each_core() {
    let sample = snapshot(Machine::Laptop);
    let system = &sample["system"];
    assert_eq!(system["battery.charge"]["BAT0"], 75);
    assert_eq!(system["battery.time_left"]["BAT0"], 3 * 3600);
    assert_eq!(system["wifi.signal"]["wlan0"], -56);
    assert_eq!(system["sensor.fan"], serde_json::json!({"fans fan1": 2900}));
    assert_eq!(system["sensor.temperature"]["coretemp Core 1"], 56);
    assert_eq!(system["sensor.limit"]["coretemp Package id 0"], 100);
    assert_eq!(system["cpu.frequency"]["2"], 802_000_000);
    assert_eq!(system["cpu.throttled"]["2"], 0);
    // The process did not run between the two readings.
    assert_eq!(sample["processes"][0]["core_temp"], Value::Null);
}

#[test]
fn a_server_shows_one_sensor_for_each_package_and_the_lopsided_interrupts() {
    let sample = snapshot(Machine::Server);
    let system = &sample["system"];
    assert_eq!(system["core.total"].as_object().map(serde_json::Map::len), Some(128));
    let sensors = system["sensor.temperature"].as_object().expect("sensors");
    assert_eq!(sensors.len(), 2, "{sensors:?}");
    assert_eq!(sensors["coretemp Package id 1"], 69);
    assert_eq!(system["irq.rate"], serde_json::json!({"77,3": 0}), "only the core that serves it");
    assert_eq!(system["net.speed"]["enp3s0"], 10_000_000_000_i64);
    assert_eq!(system["nfs.read"]["/mnt/vault"], 0, "nothing moved between the two readings");
    assert_eq!(system["nfs.wait"]["/mnt/vault"], Value::Null, "no operation, so no time");
    let group = "/system.slice/skycam-ingest.service";
    assert_eq!(
        (&system["group.cpu_limit"][group], &system["group.memory_used"][group]),
        (&50.into(), &75.into())
    );
    let process = &sample["processes"][0];
    assert_eq!((&process["limit_memory"], &process["memory_used"]), (&(8_i64 << 30).into(), &75.into()));
    assert_eq!((&process["limit_tasks"], &process["tasks_used"]), (&64.into(), &93.75.into()));
    assert_eq!((&process["limit_cpu"], &process["cpu_throttled"]), (&50.into(), &Value::Null));
}

#[test]
fn a_workstation_shows_its_graphics_processor_and_who_uses_it() {
    let sample = snapshot(Machine::Workstation);
    let system = &sample["system"];
    assert_eq!(system["gpu.utilization"]["card0"], 37);
    assert_eq!(system["gpu.power"]["card0"], 90);
    let process = &sample["processes"][0];
    assert_eq!((&process["gpu"], &process["gpu_memory"]), (&Value::from(0), &Value::from(3 << 20)));
}

#[test]
fn an_old_kernel_leaves_unknown_what_it_does_not_keep() {
    let sample = snapshot(Machine::OldKernel);
    for alias in ["pressure.cpu.some", "pressure.io.full", "tcp.retransmits"] {
        assert_eq!(sample["system"][alias], Value::Null, "{alias}");
    }
    let process = &sample["processes"][0];
    assert_eq!(process["disk_wait"], Value::Null, "zero would be a lie");
    assert_eq!(process["cpu"], 0, "clock ticks serve where there is nothing finer");
    assert_eq!(process["net_in"], Value::Null, "this machine's sockets are not that machine's");
}

#[test]
fn garbage_in_every_file_gives_unknown_values_and_no_harm() {
    let sample = snapshot(Machine::Hostile);
    assert_eq!(sample["processes"], serde_json::json!([]));
    for (alias, value) in sample["system"].as_object().expect("the system") {
        let numbers = |value: &Value| value.as_f64().is_none_or(|number| number.abs() < 1e15);
        assert!(
            numbers(value) && value.as_object().is_none_or(|map| map.values().all(numbers)),
            "{alias}: {value}"
        );
    }
    let folder = tempfile::tempdir().expect("a scratch folder");
    Machine::Hostile.write(folder.path()).expect("a made-up machine");
    for format in ["table", "csv", "jsonl"] {
        let output = run(folder.path(), &["snapshot", "--format", format, "--every", "50ms"]);
        assert!(output.status.success());
        assert!(!output.stdout.contains(&0x1b), "no escape sequence gets through");
    }
}

#[test]
fn metrics_explain_themselves() {
    let text = Command::new(DOZOR).args(["metrics", "iowait"]).output().expect("dozor runs");
    assert!(String::from_utf8_lossy(&text.stdout).contains("It is idle time: a busy CPU hides it."));
    let all = Command::new(DOZOR).args(["metrics", "--format", "json"]).output().expect("dozor runs");
    let list: Value = serde_json::from_slice(&all.stdout).expect("JSON");
    assert!(list.as_array().is_some_and(|list| list.len() > 100));
    let none = Command::new(DOZOR).args(["metrics", "wirte"]).output().expect("dozor runs");
    assert_eq!(none.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&none.stderr).contains("did you mean write?"));
}

/// What `dozor access` says as root and as nobody; without root only the second.
#[test]
fn access_differs_between_root_and_nobody() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let mut command = Command::new(DOZOR);
    let is_root = rustix::process::geteuid().is_root();
    if is_root {
        // The build folder may be closed to others; a copy is not.
        let copy = folder.path().join("dozor");
        crate::copy_program(&copy);
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))
            .expect("an open folder");
        command = Command::new(copy);
        command.uid(65_534).gid(65_534).current_dir("/");
    }
    let report = |command: &mut Command| {
        let output = command.arg("access").output().expect("dozor runs");
        assert!(output.status.success(), "no root is no failure");
        String::from_utf8(output.stdout).expect("text")
    };
    let nobody = report(&mut command);
    // Newer kernels tell everybody of starts and ends, so that line is left open here.
    for line in ["× disk input and output", "× network traffic", "× accounts of processes"] {
        assert!(nobody.contains(line), "{line}: {nobody}");
    }
    assert!(
        nobody.contains("setcap cap_net_admin+ep") && nobody.contains("AmbientCapabilities="),
        "{nobody}"
    );
    if is_root {
        let root = report(&mut Command::new(DOZOR));
        for line in ["✓ network traffic", "✓ starts and ends", "✓ accounts of processes"] {
            assert!(root.contains(line), "{line}: {root}");
        }
    }
}
