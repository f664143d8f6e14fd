//! Looking into one process, acting on it, and what follows: outcome, undo, journal.

use super::Desk;
use crate::look::action::key_of;
use crate::machine::Sought;
use crate::screen::Event;
use crate::state::effect::Effect;
use dozor_core::deed::{Account, Deed, Outcome, Still};
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::holders::Place;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::MarkKind;
use dozor_core::row::Row as _;
use insta::assert_snapshot;
use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use std::time::Duration;

/// A desk at which a program is selected.
fn at_program(name: &str, size: (u16, u16)) -> Desk {
    let mut desk = Desk::at(50, size);
    desk.press("g");
    desk.types(&format!("name = {name}"));
    desk.press("enter");
    assert_eq!(desk.selected_name(), name);
    desk
}

fn key_of_process(desk: &Desk, name: &str) -> ProcessKey {
    let sample = desk.state.moment().sample.clone().expect("a sample");
    sample.now.processes.iter().find(|row| &*row.name == name).expect("the process").key()
}

#[test]
fn the_inspector_says_who_how_and_over_time() {
    for size in [(160, 48), (80, 24)] {
        let mut desk = at_program("stacker", size);
        desk.press("enter");
        desk.run(2);
        assert_snapshot!(format!("inspector_{}x{}", size.0, size.1), desk.screen());
    }
}

#[test]
fn every_page_of_the_inspector_is_there_and_can_be_ordered() {
    let mut desk = at_program("stacker", (160, 40));
    desk.press("enter");
    desk.run(1);
    for (page, has) in [
        ("threads", "stacker-1"),
        ("files", "/data/2031/stack.fits"),
        ("sockets", "it has no sockets"),
        ("memory", "own memory"),
        ("environment", "LYNX_NIGHT"),
        ("signals", "handled by the program"),
        ("ended", "children ended within the time above"),
        ("history", "nothing was done to it"),
    ] {
        desk.press("tab");
        desk.run(1);
        assert!(desk.screen().contains(has), "{page}: {}", desk.screen());
    }
    assert_snapshot!("inspector_history", desk.screen());
    desk.press("backtab backtab backtab backtab backtab backtab");
    desk.run(1);
    assert_snapshot!("inspector_files", desk.screen());
    let first = |desk: &Desk| desk.lines().into_iter().find(|line| line.contains('▸')).expect("a row");
    let before = first(&desk);
    desk.press("o O");
    assert_ne!(first(&desk), before, "another order");
    // Secrets stay hidden until somebody asks.
    desk.press("tab tab tab");
    desk.run(1);
    assert!(
        !desk.screen().contains("b7a1-4c55") && !desk.screen().contains("polaris-27"),
        "{}",
        desk.screen()
    );
    desk.press("s");
    assert!(desk.screen().contains("b7a1-4c55") && desk.screen().contains("polaris-27"));
    desk.press("esc");
    assert!(desk.opened().is_empty());
}

#[test]
fn what_belongs_to_others_is_said_once_with_the_remedy() {
    let mut desk = at_program("domectl", (140, 40));
    desk.press("enter tab tab");
    desk.run(1);
    let screen = desk.screen();
    assert_eq!(screen.matches("not permitted").count(), 1, "{screen}");
    assert!(screen.contains("run dozor as its user or as root"));
}

#[test]
fn at_another_moment_what_was_not_recorded_says_so() {
    let mut desk = at_program("stacker", (140, 40));
    desk.press("enter");
    desk.run(1);
    assert!(desk.screen().contains("in fsync of /data"), "{}", desk.screen());
    desk.press("[ [ [");
    let screen = desk.screen();
    assert!(screen.contains("FROZEN") && screen.contains("was not recorded"), "{screen}");
    assert!(!screen.contains("fsync of"), "the present is not shown for the past");
    desk.press("tab tab");
    assert!(
        desk.screen().contains("open files were not recorded; L looks at the present"),
        "{}",
        desk.screen()
    );
    desk.press("L");
    desk.run(1);
    assert!(desk.screen().contains("/data/2031/stack.fits"), "{}", desk.screen());
}

#[test]
fn a_program_is_followed_over_its_restarts_where_somebody_asks() {
    let mut desk = at_program("stacker", (140, 40));
    desk.press("enter n");
    let key = key_of_process(&desk, "stacker");
    desk.machine.act(key, &Deed::Signal(9));
    desk.run(1);
    assert!(
        desk.screen().contains("stacker[3820] is gone; n goes on with its next life"),
        "{}",
        desk.screen()
    );
    assert!(desk.opened().starts_with("stacker"));
    // The leaker's service starts it anew by itself.
    let mut desk = at_program("skyboard-cache", (140, 40));
    desk.press("enter n");
    let before = key_of_process(&desk, "skyboard-cache");
    let after = (0..400).find_map(|_| {
        desk.run(1);
        let sample = desk.state.moment().sample.clone().expect("a sample");
        let now = sample.now.processes.iter().find(|row| &*row.name == "skyboard-cache").map(|row| row.key());
        now.filter(|now| *now != before)
    });
    let after = after.expect("memory runs out, and it is started anew");
    desk.run(1);
    assert_eq!(desk.opened(), format!("skyboard-cache[{}]", after.pid));
    assert!(desk.screen().contains("this is its next life"), "{}", desk.screen());
}

#[test]
fn a_close_look_builds_up_and_can_be_kept() {
    let mut desk = at_program("stacker", (160, 48));
    desk.press("enter");
    let effects = desk.press("c");
    let [Effect::LookClosely(key, time)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!(*time, Duration::from_secs(5));
    assert_eq!(desk.press("c").len(), 1, "longer, when it is asked for again");
    let key = *key;
    let mut look = CloseLook::default();
    for round in 0..200 {
        let sightings = desk.machine.sightings(key, round).expect("it is there");
        look.add(&sightings, round as f64 / 50.0, 0.01, false);
    }
    look.count_calls(desk.machine.calls(key, 4.0));
    desk.event(Event::SeenClosely(key, Box::new(look), true));
    assert!(desk.screen().contains("fsync of /data/2031/stack.fits"), "{}", desk.screen());
    assert_snapshot!("a_close_look", desk.screen());
    let effects = desk.press("k");
    let [Effect::Keep(mark)] = &effects[..] else { panic!("{effects:?}") };
    assert!(mark.kind == MarkKind::Bookmark && mark.text.contains("looked at closely for"), "{}", mark.text);
    assert!(desk.press("esc").contains(&Effect::LookAway), "whoever leaves does not look on");
}

/// The whole way: act from the inspector, outcome, undo, journal.
#[test]
fn what_is_done_is_read_back_said_undone_and_kept() {
    let mut desk = at_program("archived", (160, 48));
    desk.press("enter x");
    assert!(desk.opened().starts_with("What shall happen to archived"), "{}", desk.opened());
    desk.types("nice 12");
    let effects = desk.press("enter");
    desk.carry_out(effects);
    assert!(desk.screen().contains("→ 12: gives way to nearly all · u undoes it"), "{}", desk.screen());
    desk.run(2);
    let key = key_of_process(&desk, "archived");
    let nice = |desk: &Desk| desk.machine.present(key, &Deed::Nice(0));
    assert_eq!(nice(&desk), Some(Deed::Nice(12)));
    desk.press("x");
    desk.types("oom 300");
    let effects = desk.press("enter");
    desk.carry_out(effects);
    // Several steps back, the last one first.
    for (deed, before) in [(Deed::Oom(0), Deed::Oom(0)), (Deed::Nice(0), Deed::Nice(10))] {
        let effects = desk.press("u");
        desk.carry_out(effects);
        assert_eq!(desk.machine.present(key, &deed), Some(before));
    }
    desk.press("u");
    assert!(desk.screen().contains("there is nothing to undo"));
    desk.press("tab tab tab tab tab tab tab tab");
    assert!(desk.screen().contains("nice 12 to archived"), "{}", desk.screen());
    desk.press("esc X");
    assert_eq!(desk.chosen().1, 4, "two deeds and their undoing");
    let screen = desk.screen();
    assert!(screen.contains("by") && screen.contains("nice 12") && screen.contains("astro"), "{screen}");
    desk.press("enter");
    assert!(desk.screen().contains("FROZEN"), "it goes to that time");
}

/// An undo that fails takes nothing from the next deed.
#[test]
fn an_undo_that_fails_does_not_count_for_the_next_deed() {
    let mut desk = at_program("archived", (160, 40));
    for (typed, failing) in [("oom 300", true), ("nice 12", false)] {
        desk.press("x");
        desk.types(typed);
        let effects = desk.press("enter");
        desk.carry_out(effects);
        assert!(desk.screen().contains("u undoes it"), "{typed}: {}", desk.screen());
        if failing {
            let effects = desk.press("u");
            let [Effect::Act(deed, targets, _)] = &effects[..] else { panic!("{effects:?}") };
            let refused = Account::from(Outcome::NotPermitted("run dozor as root".to_owned()));
            desk.event(Event::Acted(deed.clone(), targets.clone(), vec![refused], None));
        }
    }
}

#[test]
fn to_whom_comes_first_and_each_scope_names_its_targets() {
    let mut desk = at_program("nightqueue", (160, 48));
    desk.press("x");
    let screen = desk.screen();
    assert!(screen.contains("✓ it") && screen.contains("with its descendants ("), "{screen}");
    desk.press("right");
    assert!(desk.opened().starts_with("What shall happen to these"), "{}", desk.opened());
    assert!(desk.screen().contains("✓ nightqueue["), "the targets are named: {}", desk.screen());
    assert_eq!(desk.press("enter"), [], "it is armed first");
    let screen = desk.screen();
    let named = screen.split("Send TERM to these ").nth(1).expect("the question").to_owned();
    let effects = desk.press("enter");
    let [Effect::Act(Deed::Signal(15), targets, _)] = &effects[..] else { panic!("{effects:?}") };
    assert!(targets.len() > 1 && &*targets[0].name == "nightqueue");
    for target in targets {
        assert!(named.contains(&format!("{} ({})", target.label(), target.user)), "{named}");
    }
    // By mouse.
    desk.press("esc x");
    let y =
        desk.lines().iter().position(|line| line.contains("with its descendants")).expect("scopes") as u16;
    let line = &desk.lines()[usize::from(y)];
    let x = line.split("with its").next().map_or(0, |before| before.chars().count()) as u16;
    desk.click(x + 3, y);
    assert!(desk.opened().starts_with("What shall happen to these"), "{}", desk.opened());
}

#[test]
fn a_second_question_names_what_speaks_against_it() {
    let mut desk = at_program("domectl", (120, 40));
    desk.press("x");
    assert_eq!(desk.press("enter"), []);
    let screen = desk.screen();
    assert!(
        screen.contains("Send TERM to domectl[") && screen.contains("it belongs to somebody else"),
        "{screen}"
    );
    assert_eq!(desk.press("enter"), [], "enter is not enough where something speaks against it");
    assert_eq!(desk.press("n"), []);
    assert!(!desk.screen().contains("Send TERM"), "back to what could be done");
    desk.press("enter esc");
    assert!(!desk.opened().is_empty(), "esc leaves the question only");
    desk.press("enter");
    let effects = desk.press("y");
    let effects = desk.carry_out(effects);
    assert!(desk.screen().contains("not permitted; run dozor as root"), "{}", desk.screen());
    let [Effect::Keep(mark)] = &effects[..] else { panic!("{effects:?}") };
    assert!(!mark.deeds[0].done && mark.deeds[0].outcome.contains("not permitted"));
}

#[test]
fn cores_are_chosen_from_a_picture_of_them() {
    let mut desk = at_program("archived", (160, 48));
    desk.press("x");
    desk.types("pin");
    desk.press("enter");
    assert_eq!(desk.opened(), "Which cores may it use?");
    assert_snapshot!("cores_to_choose", desk.screen());
    // All of the other half out, one of this half.
    desk.press("end n home space");
    assert!(desk.screen().contains("cores 0-7 → 1-3"), "{}", desk.screen());
    let effects = desk.press("enter");
    assert!(desk.opened().is_empty(), "both are done");
    desk.carry_out(effects);
    assert!(desk.screen().contains("cores 0-7 → 1-3"), "{}", desk.screen());
    desk.press("x");
    desk.types("pin");
    desk.press("enter i i a space");
    desk.press("right space right space");
    assert_eq!(desk.press("esc"), []);
    assert!(desk.opened().starts_with("What shall happen"), "esc goes back one step");
}

#[test]
fn outcomes_say_why_and_what_to_do_then() {
    let mut desk = at_program("archived", (160, 48));
    let effects = desk.press("x enter enter");
    desk.carry_out(effects);
    assert!(
        desk.screen().contains("archived[4860]: still there 5 s after TERM: it handles the signal itself"),
        "{}",
        desk.screen()
    );
    desk.press("x");
    let chosen = desk.lines().into_iter().rfind(|line| line.contains('▸')).expect("a choice");
    assert!(chosen.contains("KILL"), "the forced stop is offered: {chosen}");
    desk.types("freeze");
    assert_eq!(desk.press("enter"), []);
    assert!(desk.screen().contains("Freeze archived[4860] (astro)?"), "{}", desk.screen());
    let effects = desk.press("enter");
    desk.carry_out(effects);
    assert!(desk.screen().contains("frozen: it does nothing until it is thawed"), "{}", desk.screen());
    desk.press("enter");
    desk.run(1);
    assert!(
        desk.screen().contains("stopped by a signal") || desk.screen().contains("frozen with its"),
        "{}",
        desk.screen()
    );
    let target = desk.state.target(key_of_process(&desk, "archived")).expect("it is there");
    let blocked = Still::Blocked("blocked in the kernel: waits for the disk".to_owned());
    let account = Account::from(Outcome::StillThere(blocked));
    desk.event(Event::Acted(Deed::Signal(15), vec![target], vec![account], None));
    assert!(desk.screen().contains("no signal is taken until that ends"), "{}", desk.screen());
}

#[test]
fn who_has_it_open_and_who_listens() {
    let mut desk = Desk::at(50, (160, 48));
    let effects = desk.press("Q");
    let [Effect::Seek(sought)] = &effects[..] else { panic!("{effects:?}") };
    let found = desk.machine.holders(&Place::All);
    desk.event(Event::Found(sought.clone(), Ok(found)));
    desk.types("stack");
    let screen = desk.screen();
    assert!(
        screen.contains("/data/2031/stack.fits") && screen.contains("removed files still take 12.1 GiB"),
        "{screen}"
    );
    assert!(screen.contains("processes may not be looked into; run dozor as root"), "{screen}");
    assert_snapshot!("who_has_it_open", screen);
    desk.press("enter");
    assert!(desk.opened().starts_with("stacker["), "{}", desk.opened());
    desk.press("esc esc");
    assert!(desk.opened().is_empty());
    // From a file system that is chosen among the parts.
    desk.press("3 p p down");
    let effects = desk.press("Q");
    assert!(matches!(&effects[..], [Effect::Seek(Sought::Path(_))]), "{effects:?}");
    desk.press("esc 0 I");
    let screen = desk.screen();
    assert!(
        screen.contains("Who listens") && screen.contains("0.0.0.0:22") && screen.contains("sshd"),
        "{screen}"
    );
    assert_snapshot!("who_listens", screen);
    assert!(desk.wanted().has(dozor_core::wanted::Demand::Sockets), "they are collected while it is open");
}

#[test]
fn the_inspector_is_used_with_the_mouse_as_well() {
    let mut desk = at_program("stacker", (160, 48));
    desk.press("enter");
    desk.run(1);
    let place = |desk: &Desk, word: &str| {
        let lines = desk.lines();
        let y = lines
            .iter()
            .position(|line| line.contains(word))
            .unwrap_or_else(|| panic!("{word}: {}", desk.screen()));
        let x = lines[y].split(word).next().map_or(0, |before| before.chars().count());
        (x as u16, y as u16)
    };
    let (x, y) = place(&desk, "files ");
    desk.click(x + 1, y);
    desk.run(1);
    assert!(desk.screen().contains("moves/s"), "{}", desk.screen());
    let (x, y) = place(&desk, "moves/s");
    let shown = |desk: &Desk| desk.lines()[usize::from(y)].clone();
    let before = shown(&desk);
    desk.click(x + 1, y);
    assert_ne!(shown(&desk), before, "the heading orders the other way");
    desk.click(x, y + 3);
    desk.mouse(MouseEventKind::ScrollDown, x, y + 3);
    let layout = desk.state.layout().expect("a layout");
    let (_, axis) = place(&desk, "peak of");
    desk.click(layout.strip_x + layout.strip_width - 30, axis + 1);
    assert!(desk.screen().contains("FROZEN"), "a click on the time goes there");
    desk.mouse(MouseEventKind::Down(MouseButton::Right), 5, 5);
    let _ = key_of("esc");
}

#[test]
fn a_recording_is_looked_into_but_nothing_is_done_there() {
    let mut desk = at_program("stacker", (140, 40));
    desk.state.refuse_actions("this is a recording: what is over cannot be changed");
    desk.press("enter");
    assert!(desk.screen().contains("was not recorded"), "{}", desk.screen());
    assert_eq!(desk.press("x"), []);
    assert!(desk.screen().contains("what is over cannot be changed"), "{}", desk.screen());
    assert_eq!(desk.press("c u"), []);
    desk.press("esc Q");
    assert!(
        desk.opened().is_empty() && desk.screen().contains("open files are not recorded"),
        "{}",
        desk.screen()
    );
}

#[test]
fn a_pause_by_a_signal_is_taken_back_like_any_other() {
    let mut desk = at_program("archived", (140, 40));
    let key = key_of_process(&desk, "archived");
    let machine = crate::machine::Machine::Simulated(std::sync::Arc::new(std::sync::Mutex::new(
        dozor_core::demo::SimulatedMachine::new(1),
    )));
    let target = desk.state.target(key).expect("it is there");
    let accounts = machine.act(std::slice::from_ref(&target), &Deed::Signal(19), Duration::ZERO);
    assert_eq!((&accounts[0].outcome, accounts[0].undo()), (&Outcome::Sent, Some(Deed::Thaw)));
    desk.event(Event::Acted(Deed::Signal(19), vec![target.clone()], accounts, None));
    assert!(desk.screen().contains("u undoes it"), "{}", desk.screen());
    let effects = desk.press("u");
    assert!(matches!(&effects[..], [Effect::Act(Deed::Thaw, ..)]), "{effects:?}");
    let again = machine.act(&[target], &Deed::Signal(19), Duration::ZERO);
    assert_eq!(again[0].undo(), None, "it was paused already");
}
