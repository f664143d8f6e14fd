//! Selecting, ordering, acting: keys and the mouse.

use super::Desk;
use crate::feed::Delivery;
use crate::panes;
use crate::screen::Event;
use crate::state::data::Mode;
use crate::state::effect::Effect;
use crate::state::parts::Placed;
use dozor_core::deed::{Account, Deed, Outcome};
use dozor_core::lane::Lane;
use dozor_core::rank::RowId;
use dozor_core::row::Row as _;
use ratatui::crossterm::event::{KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use std::time::Duration;

/// The expression that narrows.
fn narrowed(desk: &Desk) -> &str {
    desk.state.values.narrowing.expression.as_ref().map_or("", |expression| expression.text())
}

#[test]
fn a_lane_orders_by_what_its_users_use() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.order_of(2), ["platesolve", "skycam-ingest"], "what is gone has its place as well");
    desk.press("3");
    assert_eq!((&*desk.process(0).name, desk.state.values.lane), ("stacker", Some(Lane::Disk)));
    desk.press("O");
    assert_ne!(&*desk.process(0).name, "stacker");
    desk.press("o :virtual enter");
    assert_eq!(desk.state.values.order.first.metric.alias, "virtual");
    assert_eq!(&*desk.process(0).name, "stacker");
    desk.press("tab");
    assert_eq!(desk.state.values.lane, Some(Lane::Network));
    desk.press("0");
    assert_eq!((desk.state.values.lane, desk.state.values.order.first.metric.alias), (None, "cpu"));
}

#[test]
fn narrowing_shows_as_one_types_and_can_be_undone() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("/ :stack");
    assert_eq!(desk.state.rows().table.lines.len(), 1);
    desk.press("enter");
    assert!(desk.opened().is_empty());
    assert!(desk.screen().contains("1 of 20") && desk.screen().contains("narrowed: stack"));
    desk.press("/ :xyz");
    assert!(desk.screen().contains("no process matches"));
    assert_eq!(desk.state.rows().table.lines.len(), 1, "the last good rows stay while one types");
    desk.press("esc");
    assert_eq!(narrowed(&desk), "stack", "esc goes back to what was narrowed before");
    desk.press("esc");
    assert_eq!(narrowed(&desk), "");
    desk.press("/");
    desk.event(Event::Paste("dome\ncam\x1b".to_owned()));
    assert!(desk.screen().contains(" narrow domecam\n"), "{}", desk.screen());
}

#[test]
fn the_selection_follows_its_process_and_the_order_holds_while_choosing() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3 down down");
    let name = desk.selected_name();
    let order: Vec<i64> = (0..6).map(|row| desk.process(row).pid.value().expect("a PID")).collect();
    assert!(desk.screen().contains("order held"));
    // The story begins: another process takes the first place, but not under the hand.
    desk.press("up");
    let held_name = desk.selected_name();
    desk.run(2);
    assert_eq!((0..6).map(|row| desk.process(row).pid.value().expect("a PID")).collect::<Vec<_>>(), order);
    assert_eq!(desk.selected_name(), held_name);
    desk.run(12);
    assert!(!desk.screen().contains("order held"));
    assert_eq!(&*desk.process(0).name, "stacker", "after a while the order is current again");
    assert_eq!(desk.selected_name(), held_name, "the selection went with its process");
    assert!(name.starts_with("skycam") || held_name.starts_with("skycam"));
}

#[test]
fn the_wheel_does_not_change_what_is_selected() {
    let mut desk = Desk::at(50, (120, 24));
    desk.press("down");
    let (selected, row) =
        (desk.state.selection().selected.clone(), desk.state.layout().expect("a layout").rows.y);
    for _ in 0..10 {
        desk.mouse(MouseEventKind::ScrollDown, 5, row + 2);
    }
    assert_eq!(desk.state.selection().scroll, 30);
    let first = desk.process(30).key();
    desk.run(2);
    assert_eq!(
        (desk.state.selection().selected.clone(), desk.process(desk.state.selection().scroll).key()),
        (selected, first)
    );
    for _ in 0..200 {
        desk.mouse(MouseEventKind::ScrollDown, 5, row + 2);
    }
    let height = usize::from(desk.state.layout().expect("a layout").rows.height);
    assert_eq!(
        desk.state.selection().scroll,
        desk.state.rows().table.lines.len() - height,
        "the last row is the end"
    );
}

#[test]
fn the_mouse_orders_selects_and_goes_back_in_time() {
    let mut desk = Desk::at(50, (120, 40));
    let layout = desk.state.layout().expect("a layout");
    let lines = desk.lines();
    let heading = &lines[usize::from(layout.headings.y)];
    let column =
        heading.chars().collect::<Vec<_>>().windows(3).position(|w| w == ['r', 's', 's']).expect("rss")
            as u16;
    desk.click(column, layout.headings.y);
    assert_eq!(
        (desk.state.values.order.first.metric.alias, desk.state.values.order.first.descending),
        ("rss", true)
    );
    desk.click(column, layout.headings.y);
    assert!(!desk.state.values.order.first.descending);
    desk.click(40, layout.rows.y + 3);
    assert_eq!(desk.state.row_of_selected(), Some(3));
    desk.click(5, layout.lanes[1].1.y);
    assert_eq!(desk.state.values.lane, Some(Lane::Memory));
    desk.click(layout.strip_x + layout.strip_width - 20, layout.lanes[0].1.y);
    let gone_back = desk.state.time().cursor.expect("frozen");
    let back = desk.state.time().timeline.end() - gone_back;
    // Between two moves of the paper there is room for the newest at the right edge.
    assert!((10..22).contains(&back), "{back}");
    assert!(desk.screen().contains("FROZEN"));
}

#[test]
fn a_signal_goes_to_the_selected_or_the_marked_and_its_outcome_is_said() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("3 home");
    let effects = desk.press("x enter enter");
    let [Effect::Act(deed, targets, _)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!((deed, targets.len(), targets[0].label()), (&Deed::Signal(15), 1, "stacker[3820]".to_owned()));
    assert!(desk.screen().contains("signal TERM to stacker[3820]; waiting for the end"));
    let gone = Account::from(Outcome::GoneAfter(Duration::from_millis(420)));
    let effects = desk.event(Event::Acted(deed.clone(), targets.clone(), vec![gone], None));
    let [Effect::Keep(mark)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!(mark.text, "stacker[3820]: gone 0.4 s after TERM", "what is done is kept with the readings");
    assert_eq!((mark.deeds[0].by.as_str(), mark.deeds[0].pid), ("astro", 3820));
    assert!(desk.screen().contains("stacker[3820]: gone 0.4 s after TERM"));
    desk.press("esc m m x down enter");
    let screen = desk.screen();
    assert!(
        screen.contains("Send KILL to these 2 processes?") && screen.contains("enter sends, esc cancels")
    );
    let [Effect::Act(deed, targets, _), ..] = &desk.press("enter")[..] else { panic!("a signal") };
    assert_eq!((deed, targets.len()), (&Deed::Signal(9), 2));
    assert_eq!(desk.press("x esc"), []);
    assert!(desk.opened().is_empty());
}

#[test]
fn what_cannot_be_seen_is_not_acted_on() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("/ :archived enter home esc / :stacker enter");
    let effects = desk.press("x enter enter");
    let [Effect::Act(_, targets, _)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!(targets[0].label(), "stacker[3820]", "the narrowed-out selection is not the target");
    desk.press("esc esc esc x");
    assert!(desk.opened().is_empty(), "rows move: the first x only selects");
    assert!(desk.screen().contains("x again acts on it"));
    desk.press("x");
    assert!(desk.opened().starts_with("What shall happen"));
    desk.press("esc");
    let Some(RowId::Process(key)) = desk.state.selection().selected.clone() else { panic!("a process") };
    desk.machine.act(key, &Deed::Signal(9));
    desk.run(2);
    assert_eq!(desk.press("x enter enter"), [], "the neighbour of a process that ended is not the target");
    assert!(desk.screen().contains("no process any more"));
}

#[test]
fn nothing_can_be_done_to_the_processes_of_a_recording() {
    let mut desk = Desk::at(50, (120, 40));
    desk.state.session_mut().actions_refused = Some("this is a recording");
    assert_eq!(desk.press("home x"), []);
    assert!(desk.opened().is_empty() && desk.screen().contains("this is a recording"));
    assert_eq!(desk.press("+"), []);
}

#[test]
fn the_interval_and_the_recording_are_asked_for() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.press("+"), [Effect::Every(Duration::from_secs(2))]);
    assert_eq!(desk.press("- -"), [1000, 500].map(|ms| Effect::Every(Duration::from_millis(ms))));
    assert_eq!(desk.press("r"), [Effect::Record]);
    desk.event(Event::RecordingBegan(Ok("lynx.dozor".into())));
    desk.run(1);
    assert!(desk.screen().contains("● rec 00:00:01"));
    assert_eq!(desk.press("r"), [Effect::StopRecording]);
    desk.event(Event::RecordingEnded(Err("the disk is full".to_owned())));
    assert!(desk.screen().contains("◆ the disk is full") && !desk.screen().contains("● rec"));
}

#[test]
fn the_scroll_bar_is_dragged_and_the_order_holds_meanwhile() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3");
    let layout = desk.state.layout().expect("a layout");
    let bar = layout.scroll_bar();
    desk.click(bar.x, bar.y);
    assert!(desk.screen().contains("order held"));
    desk.mouse(MouseEventKind::Drag(MouseButton::Left), bar.x, bar.bottom() - 1);
    let last = desk.state.rows().table.lines.len() - usize::from(layout.rows.height);
    assert_eq!(desk.state.selection().scroll, last, "the lowest place of the bar is the end");
    let first = desk.process(desk.state.selection().scroll).key();
    desk.run(2);
    assert_eq!(desk.process(desk.state.selection().scroll).key(), first, "the rows stay under the pointer");
    desk.mouse(MouseEventKind::Drag(MouseButton::Left), bar.x, 0);
    assert_eq!(desk.state.selection().scroll, 0);
    desk.mouse(MouseEventKind::Up(MouseButton::Left), bar.x, 0);
    assert_eq!(desk.state.session().drag, None);
    desk.run(6);
    assert!(!desk.screen().contains("order held"));
}

#[test]
fn a_high_cost_of_its_own_is_said() {
    let mut desk = Desk::at(20, (160, 48));
    desk.event(Event::Feed(Delivery::OwnCost(7.2)));
    desk.run(1);
    assert!(desk.screen().contains("Dozor itself uses 7 % of a core at this interval; + reads less often."));
    desk.event(Event::Feed(Delivery::OwnCost(0.4)));
    desk.run(1);
    assert!(desk.screen().contains("own 0.4 %") && !desk.screen().contains("Dozor itself"));
}

#[test]
fn taking_readings_by_hand_the_clipboard_and_the_mouse_are_asked_for() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.press("i"), [Effect::ByHand(true)]);
    assert!(desk.screen().contains("by hand"));
    assert_eq!(desk.press(". i"), [Effect::ReadNow, Effect::ByHand(false)]);
    assert_eq!(desk.press("y"), [], "nothing is selected");
    assert_eq!(desk.press("3 home y"), [Effect::Copy("3820".to_owned())]);
    let copied = desk.press("m Y").pop();
    assert!(matches!(copied, Some(Effect::Copy(text)) if text.starts_with("/opt/lynx/bin/stacker --night")));
    assert_eq!(desk.press("S S"), [Effect::Mouse(false), Effect::Mouse(true)]);
    desk.state.time_mut().mode = Mode::Replay { playing: false, due: None };
    assert_eq!(desk.press("i ."), [], "a recording has its own pace");
}

#[test]
fn every_cell_of_the_screen_can_be_clicked_dragged_and_turned() {
    for (size, keys) in [((80, 24), "3"), ((160, 48), "1"), ((100, 36), "4 p down"), ((120, 64), "0")] {
        let mut desk = Desk::at(140, size);
        for (kind, every) in [
            (MouseEventKind::Down(MouseButton::Left), 3),
            (MouseEventKind::Down(MouseButton::Right), 7),
            (MouseEventKind::ScrollUp, 11),
            (MouseEventKind::Drag(MouseButton::Left), 13),
        ] {
            desk.press(&format!("esc esc esc esc {keys}"));
            for y in 0..size.1 {
                for x in (y % every..size.0).step_by(usize::from(every)) {
                    desk.mouse(kind, x, y);
                    desk.mouse(MouseEventKind::Up(MouseButton::Left), x, y);
                    if !desk.opened().is_empty() {
                        desk.press("esc");
                    }
                }
                desk.lines();
            }
        }
        desk.press("esc esc esc esc H L 0");
        assert!(desk.screen().contains("Processes by"), "the screen is still one");
    }
}

#[test]
fn a_click_on_a_part_shows_its_users_and_another_click_all() {
    let mut desk = Desk::at(60, (160, 48));
    desk.press("3");
    let row_of = |desk: &Desk, text: &str| {
        let row = desk.lines().iter().position(|line| line.contains(text));
        row.unwrap_or_else(|| panic!("{text} is not there")) as u16
    };
    let sda = row_of(&desk, "sda          spinning");
    desk.click(6, sda);
    assert!(desk.screen().contains("with files on sda · 2 of 203"), "{}", desk.screen());
    desk.click(6, sda);
    assert!(desk.screen().contains("203 of 203 · everyone"));
    // A tab puts its table first; the wheel over it scrolls it.
    let area = desk.state.layout().expect("a layout").parts.expect("parts");
    let tabs = desk.state.lanes().parts.tabs(area, panes::parts::tabs_begin(&desk.state, area));
    desk.click(tabs[1].0 + 1, area.y);
    assert_eq!(desk.state.lanes().parts.current, 1);
    desk.mouse(MouseEventKind::ScrollDown, 10, area.y + 3);
    assert_eq!(
        (desk.state.selection().scroll, desk.state.lanes().parts.scroll),
        (0, 3),
        "the parts move, not the processes"
    );
}

#[test]
fn sheets_are_chosen_from_by_clicks_and_closed_by_one_beside_them() {
    let mut desk = Desk::at(60, (120, 40));
    desk.press("3 home x");
    let row = desk.lines().iter().position(|line| line.contains("KILL       9")).expect("a signal") as u16;
    desk.click(30, row);
    let hint = desk.lines().len() as u16 - 1;
    let line = desk.lines().pop().expect("hints");
    let send = line.find("enter").map(|at| line[..at].chars().count()).expect("a hint") as u16;
    let mut click = || {
        let now = desk.now();
        let event = MouseEvent {
            kind: MouseEventKind::Down(MouseButton::Left),
            column: send + 1,
            row: hint,
            modifiers: KeyModifiers::NONE,
        };
        desk.update(Event::Mouse(event), now)
    };
    assert!(click().iter().all(|effect| !matches!(effect, Effect::Act(..))), "one click does not kill");
    let effects = click();
    let [Effect::Act(deed, targets, _)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!((deed, targets[0].label()), (&Deed::Signal(9), "stacker[3820]".to_owned()));
    desk.press("o :rss");
    let row = desk.lines().iter().position(|line| line.contains(" rss ")).expect("a metric") as u16;
    desk.click(10, row);
    assert_eq!(desk.state.values.order.first.metric.alias, "rss");
    desk.press("?");
    desk.click(10, 0);
    assert!(desk.opened().is_empty(), "a click beside a sheet closes it");
}

#[test]
fn on_a_broad_screen_tables_stand_beside_each_other_and_all_can_be_clicked() {
    for (lane, size) in [("1", (200, 60)), ("3", (240, 50)), ("5", (200, 40))] {
        let mut desk = Desk::at(60, size);
        desk.press(lane);
        let area = desk.state.layout().expect("a layout").parts.expect("parts");
        let placed = desk.state.lanes().parts.placed(area);
        assert!(placed.len() > 1 && placed[1].title == area.y && placed[1].rows.x > 100, "{placed:?}");
        for (at, one) in placed.iter().enumerate() {
            assert!(one.bottom() <= area.bottom() && one.rows.right() <= area.right());
            for other in &placed[at + 1..] {
                let whole = |placed: &Placed| Rect {
                    y: placed.title,
                    height: placed.bottom() - placed.title,
                    ..placed.rows
                };
                assert!(!whole(one).intersects(whole(other)), "{lane}: {one:?} {other:?}");
            }
        }
        let (row, section) = (placed[1].rows, placed[1].section);
        desk.click(row.x + 6, row.y);
        assert_eq!(
            desk.state.lanes().parts.selected.as_ref(),
            Some(&desk.state.lanes().parts.sections[section].rows[0].id)
        );
        desk.press("esc");
        desk.click(row.x + 2, area.y);
        assert_eq!(desk.state.lanes().parts.current, section, "its title puts it first");
        desk.click(row.x + 60, area.y);
        assert_ne!(desk.state.lanes().parts.current, section, "now another one stands there");
    }
    let mut desk = Desk::at(60, (200, 60));
    desk.press("1");
    let cells = desk.state.fitted_columns().trend.expect("a trend").1;
    assert_eq!(cells, 28);
    let newest =
        desk.state.rows().trends.list.iter().filter(|trend| trend.len() == 28 && trend[27].is_some()).count();
    assert!(newest > 10, "{:?}", desk.state.rows().trends.list);
}

#[test]
fn on_a_narrow_screen_explanations_are_folded_after_the_first_look() {
    let mut desk = Desk::at(60, (80, 24));
    desk.press("1 p p esc");
    let explained = desk.screen();
    assert!(explained.contains("what it means") && explained.contains("Time in the programs"), "{explained}");
    desk.press("0 1 p p");
    let folded = desk.screen();
    assert!(!folded.contains("what it means"), "{folded}");
    for figure in ["user", "nice", "system", "softirq", "iowait", "idle", "context switches"] {
        assert!(folded.contains(figure), "all find room where six did: {figure} {folded}");
    }
    // What the chosen one means is told in full; the arrow keys go by what is seen.
    desk.press("down");
    assert!(
        desk.screen().contains("Time in the programs' own code. It is what computing looks like."),
        "{}",
        desk.screen()
    );
    desk.press("right right");
    let told = desk.screen();
    assert!(told.contains("Above about a third, somebody") && told.contains("system calls."), "{told}");
    desk.press("esc");
    let area = desk.state.layout().and_then(|layout| layout.parts).expect("parts");
    let placed = desk.state.lanes().parts.placed(area)[0];
    desk.click(placed.rows.x + 4 + 2, placed.rows.y + 1);
    assert!(desk.state.lanes().parts.selected.is_some(), "a click chooses one");
    for size in [(120, 24), (200, 60)] {
        let mut wide = Desk::at(60, size);
        wide.state.begin(|values| values.explained.clone_from(&desk.state.lanes().parts.explained));
        wide.press("1 0 1 p p esc");
        assert!(wide.screen().contains("what it means"), "where they find room they stay: {size:?}");
    }
}
