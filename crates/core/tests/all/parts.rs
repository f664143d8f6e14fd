//! Parts of the simulated machines, and who is said to use them.

use dozor_core::catalogue::{Value, listed};
use dozor_core::demo::{PRELUDE, SimulatedMachine, Site};
use dozor_core::exited::{exited, is_gathered};
use dozor_core::known::Raw;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::{Look, PartId, Section, Users, lens, sections, users};
use dozor_core::rank::{Order, Population, RowRef};
use dozor_core::reading::{HostFacts, ProcessRow, Reading, raw};
use dozor_core::sample::Sample;
use std::sync::Arc;
use std::time::Duration;

fn at(site: Site, second: u64) -> Sample {
    let mut machine = SimulatedMachine::at(site, 1);
    let mut reading = |second: f64| {
        machine.advance_to(Duration::from_secs_f64(PRELUDE + second));
        Arc::new(machine.reading())
    };
    let before = reading(second as f64 - 2.0);
    let now = reading(second as f64);
    Sample::new(Arc::new(machine.host()), Some(before), now)
}

fn find<'a>(sections: &'a [Section], title: &str) -> &'a Section {
    sections.iter().find(|section| section.title == title).unwrap_or_else(|| {
        panic!("{title} is not among {:?}", sections.iter().map(|s| s.title).collect::<Vec<_>>())
    })
}

fn row_of(section: &Section, name: &str) -> usize {
    let is_it = |cells: &[Value]| cells[0].text() == Some(name);
    section.rows.iter().position(|row| is_it(&row.cells)).expect("the part is listed")
}

fn number(section: &Section, name: &str, heading: &str) -> f64 {
    let value = section.value(row_of(section, name), heading).expect("a column");
    value.number().unwrap_or_else(|| panic!("{name} {heading}: {value:?}"))
}

#[test]
fn every_section_is_a_complete_table() {
    for site in [Site::Observatory, Site::Server, Site::Laptop, Site::Workstation] {
        let sample = at(site, 140);
        for lane in Lane::ALL {
            let sections = sections(lane, &sample);
            assert!(!sections.is_empty(), "{site:?} {lane:?}");
            for section in &sections {
                assert_eq!(section.columns[0].keep, 0, "{}: the name always stays", section.title);
                let ids: std::collections::HashSet<_> = section.rows.iter().map(|row| &row.id).collect();
                assert_eq!(ids.len(), section.rows.len(), "{}: each part once", section.title);
                for row in &section.rows {
                    assert_eq!(row.cells.len(), section.columns.len(), "{} {:?}", section.title, row.id);
                    for (cell, column) in row.cells.iter().zip(&section.columns) {
                        let is_text = matches!(column.look, Look::Text(_) | Look::Rest);
                        assert!(
                            !(is_text && cell.number().is_some()),
                            "{} {}",
                            section.title,
                            column.heading
                        );
                        if let (Look::Bar, Some(share)) = (column.look, cell.number()) {
                            assert!((0.0..=103.0).contains(&share), "{} {:?} {share}", section.title, row.id);
                        }
                    }
                }
            }
        }
    }
}

#[test]
fn the_hot_core_and_who_runs_there_are_named() {
    let sample = at(Site::Observatory, 140);
    let all = sections(Lane::Cpu, &sample);
    let cores = find(&all, "cores");
    assert_eq!(cores.rows.len(), 8);
    let hot = cores.rows.iter().find(|row| row.severity >= Severity::Warning).expect("a hot core");
    let PartId::Core(core) = hot.id else { panic!("{:?}", hot.id) };
    let runs = cores.value(row_of(cores, &core.to_string()), "runs most there").expect("a column");
    assert!(runs.text().is_some_and(|text| text.starts_with("guidelog[")), "{runs:?}");
    assert!((hot.stack.iter().sum::<f64>() - 100.0).abs() < 5.0, "{:?}", hot.stack);
    let Users::Those(matches, words) = users(&hot.id, &sample) else { panic!("a core has users") };
    assert_eq!(words, format!("last on core {core}"));
    let kept: Vec<_> = sample.now.processes.iter().filter(|row| matches(row)).collect();
    assert!(kept.iter().any(|row| &*row.name == "guidelog") && kept.len() < 100);
    assert!(kept.iter().all(|row| row.core == Raw::new(core)));
}

#[test]
fn lopsided_interrupts_come_first_with_their_core() {
    let sample = at(Site::Observatory, 20);
    let all = sections(Lane::Cpu, &sample);
    let interrupts = find(&all, "interrupts");
    let first = &interrupts.rows[0];
    assert_eq!(first.id, PartId::Interrupt("45".into()));
    assert!(first.severity >= Severity::Notice);
    assert!((number(interrupts, "45", "most on core") - 0.0).abs() < 1e-9);
    assert!((number(interrupts, "45", "its share") - 100.0).abs() < 1e-9);
    assert!(number(interrupts, "LOC", "its share") < 40.0);
    let Users::Those(matches, _) = users(&first.id, &sample) else { panic!("its core has users") };
    assert!(sample.now.processes.iter().filter(|row| matches(row)).all(|row| row.core == raw(0)));
}

#[test]
fn kinds_of_memory_add_up_to_all_of_it() {
    let sample = at(Site::Observatory, 20);
    let all = sections(Lane::Memory, &sample);
    let kinds = find(&all, "memory by kind");
    let sum: f64 = kinds.rows.iter().flat_map(|row| &row.stack).sum();
    assert!((sum - 100.0).abs() < 0.01, "{sum}");
    let leak = at(Site::Observatory, 246);
    let all = sections(Lane::Memory, &leak);
    let signs = find(&all, "is it short?");
    let row = row_of(signs, "moved out to swap");
    assert!(signs.rows[row].severity >= Severity::Warning, "{:?}", signs.rows[row]);
    assert_eq!(lens(&signs.rows[row].id).map(|metric| metric.alias), Some("swap"));
}

#[test]
fn devices_carry_their_partitions_and_mounts_their_users() {
    let sample = at(Site::Observatory, 60);
    let all = sections(Lane::Disk, &sample);
    let devices = find(&all, "devices");
    assert!(number(devices, "nvme0n1", "busy") > 90.0);
    assert!(devices.rows[row_of(devices, "nvme0n1p1")].under);
    let filesystems = find(&all, "file systems");
    let archive = &filesystems.rows[row_of(filesystems, "/archive")];
    assert_eq!(archive.severity, Severity::Warning, "it is nearly full");
    let names = |part: &PartId| -> Vec<String> {
        let Users::Those(matches, _) = users(part, &sample) else { panic!("{part:?} has users") };
        sample.now.processes.iter().filter(|row| matches(row)).map(|row| row.name.to_string()).collect()
    };
    assert_eq!(names(&archive.id), ["archived", "vaultsync"]);
    assert!(names(&PartId::Device("nvme0n1".into())).contains(&"stacker".to_owned()));
    assert!(!names(&PartId::Device("sda".into())).contains(&"stacker".to_owned()));
}

#[test]
fn traffic_is_told_by_peer_and_connection_and_what_nobody_owns_is_a_row() {
    let sample = at(Site::Observatory, 310);
    let all = sections(Lane::Network, &sample);
    let peers = find(&all, "peers");
    assert_eq!(peers.rows[0].id, PartId::Peer("198.51.100.77".into()));
    assert!(
        peers.value(0, "processes").and_then(Value::text).is_some_and(|who| who.starts_with("vaultsync["))
    );
    let nobody = peers.rows.iter().position(|row| row.id == PartId::Unattributed).expect("its own row");
    assert!(peers.value(nobody, "in/s").and_then(Value::number).is_some_and(|rate| rate > 1000.0));
    let Users::Those(matches, _) = users(&PartId::Unattributed, &sample) else { panic!("it has a row") };
    assert_eq!(sample.now.processes.iter().filter(|row| matches(row)).count(), 1);
    let connections = find(&all, "connections");
    let Users::Those(matches, _) = users(&connections.rows[0].id, &sample) else { panic!("it has an owner") };
    let owners: Vec<_> = sample.now.processes.iter().filter(|row| matches(row)).collect();
    assert_eq!((owners.len(), &*owners[0].name), (1, "vaultsync"));
    assert!(matches!(users(&PartId::Interface("enp3s0".into()), &sample), Users::Unknown(_)));
}

#[test]
fn the_fan_that_stands_and_the_sensor_of_many_cores_are_said() {
    let sample = at(Site::Observatory, 150);
    let all = sections(Lane::Heat, &sample);
    let fans = find(&all, "fans");
    let stopped = row_of(fans, "fan 2");
    assert_eq!(fans.rows[stopped].severity, Severity::Warning);
    assert!((number(fans, "fan 2", "rpm") - 0.0).abs() < 1e-9);
    assert_eq!(Lane::Heat.facts(&sample)[1], "fan 2 stands still");
    let server = at(Site::Server, 20);
    let all = sections(Lane::Cpu, &server);
    assert!(find(&all, "cores").note.as_deref().is_some_and(|note| note.contains("64 cores")));
    let laptop = at(Site::Laptop, 20);
    assert_eq!(find(&sections(Lane::Heat, &laptop), "batteries").rows.len(), 1);
    let workstation = at(Site::Workstation, 20);
    let all = sections(Lane::Heat, &workstation);
    let card = &find(&all, "graphics processors").rows[0];
    let Users::Those(matches, _) = users(&card.id, &workstation) else { panic!("it has users") };
    let using: Vec<_> = workstation.now.processes.iter().filter(|row| matches(row)).collect();
    assert_eq!((using.len(), &*using[0].name), (1, "starfit"));
}

#[test]
fn what_was_not_collected_at_a_moment_is_said() {
    let mut sample = at(Site::Observatory, 20);
    let mut now = (*sample.now).clone();
    now.interrupts.clear();
    (now.system.unattributed_in, now.system.unattributed_out) = (Raw::ABSENT, Raw::ABSENT);
    now.connections.clear();
    sample.now = Arc::new(now);
    let cpu = sections(Lane::Cpu, &sample);
    assert!(cpu.iter().all(|section| section.title != "interrupts"));
    assert_eq!(cpu[0].note.as_deref(), Some("interrupts were not collected at this moment"));
    let network = sections(Lane::Network, &sample);
    assert!(network.iter().all(|section| section.title != "peers"));
    assert!(network[0].note.as_deref().is_some_and(|note| note.contains("not collected")));
}

fn process(pid: i64, run: i64) -> Arc<ProcessRow> {
    Arc::new(ProcessRow {
        pid: raw(pid),
        start_ticks: raw(5),
        run_ns: raw(run),
        user_ticks: raw(run / 10_000_000),
        system_ticks: raw(0),
        name: format!("p{pid}").into(),
        ..ProcessRow::default()
    })
}

#[test]
fn those_who_are_gone_keep_their_place_in_the_order() {
    let mut machine = SimulatedMachine::new(1);
    let mut read = |second: u64| {
        machine.advance_to(Duration::from_secs(second));
        Arc::new(machine.reading())
    };
    let (before, now) = (read(20), read(22));
    let mut before = (*before).clone();
    // One more process that ended, with its record, and one that ended without.
    before.processes.push(process(90_001, 1_000_000_000));
    before.processes.push(process(90_002, 0));
    before.sort();
    let mut now = (*now).clone();
    now.ended.push(dozor_core::reading::EndedRow {
        name: "p90001".into(),
        pid: raw(90_001),
        order: raw(999),
        seen: raw(1),
        user: raw(2_400_000),
        system: raw(0),
        ..Default::default()
    });
    let sample = Sample::new(Arc::new(machine.host()), Some(Arc::new(before)), Arc::new(now));
    let gone = exited(&sample);
    let population = Population::new(&sample, &gone);
    let rows = population.ordered(&Order::by_cpu());
    assert_eq!(rows.len(), sample.now.processes.len() + gone.now.processes.len());
    let name = |row: &RowRef| population.view(*row).now.name.to_string();
    let value = |row: &RowRef| listed("cpu").of(&population.view(*row));
    let with_record = rows.iter().find(|row| name(row) == "p90001").expect("listed");
    // 2.4 s of CPU time in all, 1 s of them before: 1.4 s in two seconds.
    assert_eq!(value(with_record), Value::Number(70.0));
    let without = rows.iter().find(|row| name(row) == "p90002").expect("listed");
    assert_eq!(value(without), Value::Absent, "what it used at the end is not known");
    let state = listed("state").of(&population.view(*with_record));
    assert_eq!(state, Value::Word("gone"));
    let solvers = rows.iter().find(|row| name(row) == "platesolve").expect("gathered");
    let view = population.view(*solvers);
    assert!(is_gathered(dozor_core::row::Row::key(view.now)));
    assert!(view.now.command.starts_with("platesolve ×") && view.now.command.contains("nightqueue["));
    let used = value(solvers).number().expect("a share");
    assert!((40.0..100.0).contains(&used), "{used}");
    let values: Vec<f64> = rows.iter().filter_map(|row| value(row).number()).collect();
    assert!(values.windows(2).all(|pair| pair[0] >= pair[1]), "one order for all");
}

#[test]
fn without_exit_records_unseen_processes_are_counted() {
    let reading = |second: i64, forks: i64, busy: i64| {
        let mut reading = Reading::default();
        let ns = raw(second * 1_000_000_000);
        let system = &mut reading.system;
        (system.wall_ns, system.monotonic_ns, system.boot_ns) = (ns, ns, ns);
        (system.user, system.idle, system.forks) = (raw(busy), raw(second * 200 - busy), raw(forks));
        (system.nice, system.system, system.iowait) = (raw(0), raw(0), raw(0));
        (system.irq, system.softirq, system.steal) = (raw(0), raw(0), raw(0));
        Arc::new(reading)
    };
    let host = Arc::new(HostFacts { cores: 2, ticks_per_second: 100, ..HostFacts::default() });
    let sample = Sample::new(host.clone(), Some(reading(10, 100, 0)), reading(12, 140, 100));
    let gone = exited(&sample);
    assert_eq!(gone.now.processes.len(), 1);
    assert!(gone.now.processes[0].command.starts_with("40 processes or threads"));
    assert_eq!(listed("cpu").of(&gone.process(0)), Value::Number(50.0));
    let quiet = Sample::new(host, Some(reading(10, 100, 0)), reading(12, 140, 2));
    assert!(exited(&quiet).now.processes.is_empty());
}

#[test]
fn where_nobody_uses_a_resource_those_who_use_another_stand_first() {
    let reading = |second: i64| {
        let row = |pid: i64, ticks: i64, rss: i64| {
            Arc::new(ProcessRow {
                pid: raw(pid),
                start_ticks: raw(1),
                user_ticks: raw(ticks * second),
                system_ticks: raw(0),
                rss_bytes: raw(rss),
                read_bytes: raw(0),
                write_bytes: raw(0),
                ..ProcessRow::default()
            })
        };
        let mut reading = Reading {
            processes: vec![row(2, 0, 0), row(30, 0, 9_000), row(40, 50, 10)],
            ..Reading::default()
        };
        let ns = raw(second * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        Arc::new(reading)
    };
    let host = HostFacts { cores: 4, ticks_per_second: 100, ..HostFacts::default() };
    let sample = Sample::new(Arc::new(host), Some(reading(1)), reading(2));
    let gone = exited(&sample);
    let rows = Population::new(&sample, &gone).ordered(&Order::parse("disk").expect("an order"));
    let pids: Vec<_> =
        rows.iter().map(|row| Population::new(&sample, &gone).view(*row).now.pid.value()).collect();
    assert_eq!(pids, [Some(40), Some(30), Some(2)]);
}
