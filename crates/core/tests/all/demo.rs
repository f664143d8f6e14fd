//! The simulated machine: repeatable, plausible, and it obeys signals.

use dozor_core::catalogue::{core_busy, process_metric};
use dozor_core::deed::{Deed, Outcome};
use dozor_core::demo::{PRELUDE, SimulatedMachine, Site};
use dozor_core::exited::exited;
use dozor_core::known::Known;
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::Population;
use dozor_core::reading::{ProcessKey, Reading};
use dozor_core::row::Row;
use dozor_core::sample::{Sample, state_word};
use dozor_core::signals;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

fn at(machine: &mut SimulatedMachine, seconds: u64) -> Arc<Reading> {
    machine.advance_to(Duration::from_secs(seconds + PRELUDE as u64));
    Arc::new(machine.reading())
}

fn sample(machine: &mut SimulatedMachine, from: u64) -> Sample {
    let before = at(machine, from);
    let now = at(machine, from + 2);
    Sample::new(Arc::new(machine.host()), Some(before), now)
}

/// Who uses most of a metric, and its part of all.
fn user(sample: &Sample, metric: &str) -> (String, f64) {
    let gone = exited(sample);
    let population = Population::new(sample, &gone);
    let metric = process_metric(metric).expect("a metric");
    let mut programs: BTreeMap<String, f64> = BTreeMap::new();
    for view in population.all().map(|row| population.view(row)) {
        *programs.entry(view.now.name.to_string()).or_default() += metric.of(&view).number().unwrap_or(0.0);
    }
    let all: f64 = programs.values().sum();
    let (name, most) = programs.into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).expect("somebody uses it");
    (name, most / all * 100.0)
}

fn key(machine: &mut SimulatedMachine, name: &str) -> ProcessKey {
    let reading = machine.reading();
    reading.processes.iter().find(|row| &*row.name == name).expect("the program runs").key()
}

#[test]
fn the_same_seed_gives_the_same_night() {
    let night = |seed| {
        let mut machine = SimulatedMachine::new(seed);
        [10, 40, 90].map(|second| at(&mut machine, second))
    };
    assert_eq!(night(3), night(3));
    assert_ne!(night(3), night(4));
}

#[test]
fn two_hundred_processes_of_a_dozen_programs_run_there() {
    let reading = SimulatedMachine::new(1).reading();
    assert!(reading.processes.len() >= 200, "{}", reading.processes.len());
    let names: std::collections::HashSet<_> = reading.processes.iter().map(|row| row.name.clone()).collect();
    assert!(names.len() >= 12);
}

#[test]
fn within_the_first_minute_the_stacker_saturates_the_disk() {
    let mut machine = SimulatedMachine::new(1);
    let quiet = sample(&mut machine, 10);
    assert_eq!(Lane::Disk.point(&quiet).severity, Severity::Fine);
    let busy = sample(&mut machine, 50);
    assert_eq!(Lane::Disk.point(&busy).severity, Severity::Critical);
    let (culprit, part) = user(&busy, "write");
    assert_eq!(culprit, "stacker");
    assert!(part > 50.0);
}

#[test]
fn every_lane_has_its_incident_and_each_its_culprit() {
    let mut machine = SimulatedMachine::new(1);
    let quiet = sample(&mut machine, 15);
    for lane in Lane::ALL {
        assert_eq!(lane.point(&quiet).severity, Severity::Fine, "{lane:?}");
    }
    for (lane, second, at_least, metric, culprit) in [
        (Lane::Disk, 60, Severity::Critical, "write", "stacker"),
        (Lane::Network, 120, Severity::Notice, "read_calls", "guidelog"),
        (Lane::Memory, 246, Severity::Warning, "rss", "skyboard-cache"),
        (Lane::Network, 310, Severity::Warning, "net_out", "vaultsync"),
    ] {
        let busy = sample(&mut machine, second);
        let point = lane.point(&busy);
        assert!(point.severity >= at_least, "{lane:?} at {second}: {point:?}");
        assert_eq!(user(&busy, metric).0, culprit, "at {second}");
    }
    let warm = sample(&mut SimulatedMachine::new(1), 196);
    assert!(Lane::Heat.point(&warm).severity >= Severity::Warning, "{:?}", Lane::Heat.point(&warm));
    let hot = sample(&mut SimulatedMachine::new(1), 140);
    let hottest = hot.parts(|reading| &reading.cores[..]).filter_map(|core| core_busy(&core).value());
    assert!(hottest.fold(0.0, f64::max) > 90.0, "the loop of zero-byte reads fills one core");
    assert!(hot.now.sensors.iter().any(|sensor| sensor.fan.value() == Some(0)), "the fan stands");
    let after = sample(&mut machine, 330);
    assert_eq!(after.now.system.oom_kills.value(), Some(1), "the kernel ended the leak");
    assert!(Lane::Memory.point(&after).severity < Severity::Warning);
}

#[test]
fn short_lived_processes_are_recorded_with_their_parent() {
    let mut machine = SimulatedMachine::new(1);
    let two_seconds = sample(&mut machine, 20);
    let solvers: Vec<_> = two_seconds.now.ended.iter().filter(|row| &*row.name == "platesolve").collect();
    assert!((6..16).contains(&solvers.len()), "{}", solvers.len());
    let parent = key(&mut machine, "nightqueue").pid;
    assert!(solvers.iter().all(|row| row.ppid.value() == Some(parent) && row.seen.value() == Some(0)));
}

#[test]
fn the_other_machines_have_what_they_are_for() {
    let part = |site, count: fn(&Reading) -> usize| count(&SimulatedMachine::at(site, 1).reading());
    assert_eq!(part(Site::Server, |reading| reading.cores.len()), 128);
    assert_eq!(part(Site::Laptop, |reading| reading.batteries.len()), 1);
    assert_eq!(part(Site::Workstation, |reading| reading.gpus.len()), 1);
    for site in [Site::Server, Site::Laptop, Site::Workstation] {
        let mut machine = SimulatedMachine::at(site, 1);
        let quiet = sample(&mut machine, 5);
        let keys: std::collections::HashSet<_> = quiet.now.processes.iter().map(|row| row.key()).collect();
        assert_eq!(keys.len(), quiet.now.processes.len(), "{site:?}: every PID is its own");
        for lane in Lane::ALL {
            let point = lane.point(&quiet);
            assert!(
                point.value.value().is_some() && point.severity <= Severity::Notice,
                "{site:?} {lane:?} {point:?}"
            );
        }
    }
    let mut laptop = SimulatedMachine::at(Site::Laptop, 1);
    let wireless = sample(&mut laptop, 5).now.interfaces[0].wifi_signal.value().expect("a signal");
    assert!((-90..-40).contains(&wireless));
}

#[test]
fn no_counter_ever_goes_back_and_no_share_passes_the_machine() {
    let mut machine = SimulatedMachine::new(9);
    for second in (0..300).step_by(2) {
        let sample = sample(&mut machine, second);
        for lane in [Lane::Cpu, Lane::Memory, Lane::Disk] {
            match lane.point(&sample).value {
                Known::Value(value) => {
                    assert!((0.0..=100.0).contains(&value), "{lane:?} {value} at {second}");
                }
                other => panic!("{lane:?} is {other:?} at {second}"),
            }
        }
        for place in 0..sample.now.processes.len() {
            let view = sample.process(place);
            if view.now.pid.value().is_none() {
                continue;
            }
            let cpu = process_metric("cpu").expect("a metric").of(&view).number().expect("a share");
            assert!(
                cpu <= 100.0 * view.now.threads.value().unwrap_or(1) as f64 + 1.0,
                "{:?}: {cpu}",
                view.now.name
            );
        }
    }
}

#[test]
fn a_polite_stop_ends_the_stacker_and_the_disk_recovers() {
    let mut machine = SimulatedMachine::new(1);
    at(&mut machine, 40);
    let stacker = key(&mut machine, "stacker");
    assert_eq!(machine.act(stacker, &Deed::Signal(signals::TERM)).outcome, Outcome::Sent);
    assert!(!machine.is_alive(stacker));
    assert_eq!(Lane::Disk.point(&sample(&mut machine, 60)).severity, Severity::Fine);
    assert_eq!(machine.act(stacker, &Deed::Signal(signals::TERM)).outcome, Outcome::AlreadyGone);
}

#[test]
fn pausing_stops_the_work_and_others_are_not_permitted() {
    let mut machine = SimulatedMachine::new(1);
    let camera = key(&mut machine, "skycam-ingest");
    assert_eq!(machine.act(camera, &Deed::Signal(19)).outcome, Outcome::Sent);
    let paused = sample(&mut machine, 10);
    let place = paused.find(camera).expect("still there");
    assert_eq!(process_metric("cpu").expect("a metric").of(&paused.process(place)).number(), Some(0.0));
    assert_eq!(state_word(paused.now.processes[place].state), Some("stopped"));
    let archive = key(&mut machine, "archived");
    assert_eq!(machine.act(archive, &Deed::Signal(signals::TERM)).outcome, Outcome::Sent);
    assert!(machine.is_alive(archive), "it takes no notice of a polite stop");
    assert_eq!(machine.act(archive, &Deed::Signal(signals::KILL)).outcome, Outcome::Sent);
    assert!(!machine.is_alive(archive));
    let dome = key(&mut machine, "domectl");
    assert_eq!(
        machine.act(dome, &Deed::Signal(signals::KILL)).outcome,
        Outcome::NotPermitted("run dozor as root".to_owned())
    );
}

#[test]
fn zombies_outlive_a_kill_and_end_with_their_parent() {
    let mut machine = SimulatedMachine::new(1);
    let (zombie, parent) = (key(&mut machine, "mosaic"), key(&mut machine, "nightqueue"));
    assert_eq!(
        machine.act(zombie, &Deed::Signal(signals::KILL)).outcome,
        Outcome::Zombie(parent.pid, "nightqueue".into())
    );
    assert!(machine.is_alive(zombie));
    assert_eq!(machine.act(parent, &Deed::Signal(signals::KILL)).outcome, Outcome::Sent);
    assert!(!machine.is_alive(zombie));
}
