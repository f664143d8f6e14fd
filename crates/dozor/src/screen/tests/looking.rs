//! Lanes, parts and time: what one looks at.

use super::{Desk, idle_reading};
use crate::feed::Delivery;
use crate::look::clock::Zone;
use crate::screen::Event;
use crate::state::data::Mode;
use crate::state::effect::Effect;
use dozor_core::deed::Deed;
use dozor_core::demo::Site;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::PartId;
use dozor_core::reading::HostFacts;
use dozor_core::recording::{Mark, MarkKind, Writer};
use dozor_core::row::Row as _;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::Demand;
use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use std::sync::Arc;
use std::time::Duration;

#[test]
fn freezing_and_stepping_show_what_was() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3");
    let quiet = desk.screen();
    assert!(!quiet.contains("stacker[3820] writes"));
    desk.run(30);
    assert!(desk.screen().contains("stacker[3820] writes"), "{}", desk.screen());
    desk.press("{ { {");
    assert!(desk.screen().contains("FROZEN") && !desk.screen().contains("stacker[3820] writes"));
    let shown = desk.state.shown();
    desk.run(3);
    assert_eq!(desk.state.shown(), shown, "a frozen moment stays while readings go on");
    desk.press("] [");
    assert_eq!(desk.state.shown(), shown);
    desk.press("<");
    assert_eq!(desk.state.shown(), Some(0));
    desk.press("L");
    assert!(desk.screen().contains("LIVE"));
    assert_eq!(desk.state.shown(), Some(desk.state.time().timeline.end() - 1));
    desk.press("space");
    assert!(desk.screen().contains("FROZEN"));
    desk.press("space");
    assert!(desk.screen().contains("LIVE"));
}

#[test]
fn a_replay_plays_at_its_own_pace_and_stops_at_the_end() {
    let mut desk = Desk::at(50, (120, 40));
    desk.state.time_mut().mode = Mode::Replay { playing: false, due: None };
    desk.press("<");
    assert!(desk.screen().contains("REPLAY PAUSED"));
    desk.press("space");
    for expected in [0, 1, 2] {
        assert_eq!(desk.state.shown(), Some(expected));
        assert!(desk.next_tick().is_some_and(|tick| tick > desk.now()));
        desk.seconds += 1;
        desk.event(Event::Tick);
    }
    desk.press("> space");
    assert_eq!(desk.state.shown(), Some(0), "playing at the end begins anew");
    desk.press(">");
    desk.press("[ space");
    desk.seconds += 1;
    desk.event(Event::Tick);
    desk.seconds += 1;
    desk.event(Event::Tick);
    assert_eq!(desk.state.time().mode, Mode::Replay { playing: false, due: None });
    assert_eq!(desk.press("r"), [], "a recording is not recorded again");
}

#[test]
fn a_part_narrows_to_its_users_and_gives_them_back() {
    let mut desk = Desk::at(60, (160, 48));
    let all = {
        desk.press("3");
        desk.state.rows().table.lines.len()
    };
    desk.press("p p down down");
    assert_eq!(desk.state.lanes().parts.selected, Some(PartId::Mount("/archive".into())));
    assert!(desk.screen().contains("with files on /archive · 2 of 203"), "{}", desk.screen());
    desk.press("enter down");
    assert!(desk.state.selection().selected.is_some(), "the arrows are the processes' again");
    assert_eq!(desk.state.rows().table.lines.len(), 2);
    desk.press("esc");
    assert_eq!(desk.state.rows().table.lines.len(), all, "esc gives all back");
    desk.press("p down");
    assert_eq!(desk.state.lanes().parts.selected, Some(PartId::Mount("/".into())), "p goes on where one was");
    desk.press("P down");
    assert!(matches!(&desk.state.lanes().parts.selected, Some(PartId::Device(name)) if &**name == "nvme0n1"));
    desk.press("4");
    assert_eq!(desk.state.lanes().parts.selected, None, "another lane has other parts");
    desk.press("p down");
    assert!(desk.screen().contains("all: the kernel does not say which process uses which interface"));
    assert!(desk.state.rows().table.lines.len() > 200);
}

#[test]
fn a_chosen_part_is_charted_with_a_pane_for_each_unit() {
    let mut desk = Desk::at(60, (160, 48));
    desk.press("3 p down E");
    let screen = desk.screen();
    for line in ["disk.busy{nvme0n1}", "disk.wait{nvme0n1}", "disk.write{nvme0n1}"] {
        assert!(screen.contains(line), "{line}:\n{screen}");
    }
    desk.press("esc esc 1 p down E");
    assert!(desk.screen().contains("core.total{0}"), "{}", desk.screen());
    desk.press("esc esc E");
    assert!(
        desk.screen().contains("% of one core"),
        "without a part it is the process again: {}",
        desk.screen()
    );
}

#[test]
fn a_sign_of_shortage_orders_by_what_it_is_about_unless_somebody_chose_an_order() {
    let mut desk = Desk::at(246, (160, 48));
    desk.press("2 p p down down");
    assert_eq!(desk.state.values.order.first.metric.alias, "swap");
    desk.press("esc");
    assert_eq!(desk.state.values.order.first.metric.alias, "rss");
    desk.press("o :cpu_time enter p p down down");
    assert_eq!(desk.state.values.order.first.metric.alias, "cpu_time", "a chosen order stays");
}

#[test]
fn what_must_be_collected_follows_what_is_looked_at() {
    let mut desk = Desk::at(20, (160, 48));
    let has = |desk: &Desk, part| desk.state.wanted().has(part);
    assert!(has(&desk, Demand::Ended) && has(&desk, Demand::Filesystems) && has(&desk, Demand::Sockets));
    assert!(!has(&desk, Demand::Interrupts) && !has(&desk, Demand::Mounts));
    desk.press("1");
    assert!(
        has(&desk, Demand::Interrupts) && has(&desk, Demand::Sockets),
        "what stands out needs them always"
    );
    desk.press("3 p p down");
    assert!(
        has(&desk, Demand::Mounts),
        "who has files on a mount is asked only while somebody wants to know"
    );
    desk.press("esc");
    assert!(!has(&desk, Demand::Mounts));
}

#[test]
fn lanes_fold_hide_and_change_places() {
    let mut desk = Desk::at(50, (160, 48));
    let height = |desk: &Desk| desk.state.layout().expect("a layout").rows.height;
    let before = height(&desk);
    desk.press("f");
    assert_eq!(height(&desk), before + 5, "folded lanes make room for rows");
    desk.press("f 3 K K h");
    let order = |desk: &Desk| -> Vec<Lane> {
        desk.state.layout().expect("a layout").lanes.iter().map(|(lane, _)| *lane).collect()
    };
    assert_eq!(order(&desk), [Lane::Cpu, Lane::Memory, Lane::Network, Lane::Heat]);
    assert_eq!(desk.state.values.lane, None);
    desk.press("3");
    assert_eq!(order(&desk)[0], Lane::Disk, "its number brings it to the place it had");
    desk.press("0 H");
    assert_eq!(order(&desk), Lane::ALL);
    let lanes = desk.state.layout().expect("a layout").lanes;
    desk.mouse(MouseEventKind::Down(MouseButton::Right), 5, lanes[1].1.y);
    assert!(desk.state.values.lanes.is_folded(Lane::Memory));
}

#[test]
fn the_strips_show_more_time_and_say_what_a_column_is() {
    let mut desk = Desk::at(100, (120, 40));
    assert!(desk.screen().contains("peak of 1 s"));
    desk.press("z z");
    assert!(desk.screen().contains("peak of 5 s"), "{}", desk.screen());
    desk.press("^");
    assert!(desk.screen().contains("mean of 5 s"));
    desk.press("Z Z Z ^");
    assert!(desk.screen().contains("peak of 1 s"));
    let layout = desk.state.layout().expect("a layout");
    desk.mouse(MouseEventKind::ScrollDown, layout.strip_x + 5, layout.lanes[0].1.y);
    assert!(desk.screen().contains("peak of 2 s"), "the wheel over the strips");
    let axis = desk.state.lanes().strips.axis.expect("an axis");
    desk.run(1);
    let next = desk.state.lanes().strips.axis.expect("an axis");
    assert!(next.end == axis.end || (next.end - axis.end) / axis.step >= 4, "the paper moves in jumps");
}

#[test]
fn bookmarks_and_actions_are_signs_that_one_can_go_to() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("b :disk enter");
    let effects = desk.press("3 home x enter enter");
    desk.carry_out(effects);
    let kinds: Vec<MarkKind> = desk.state.time().signs.iter().map(|sign| sign.kind).collect();
    assert_eq!(kinds, [MarkKind::Bookmark, MarkKind::Action]);
    desk.run(5);
    let screen = desk.screen();
    assert!(screen.contains('⚑') || screen.contains('✶'), "{screen}");
    desk.press("(");
    assert!(
        desk.screen().contains("done at") && desk.screen().contains("stacker[3820]: gone 0.4 s after TERM")
    );
    desk.press("b esc");
    assert_eq!(desk.state.time().signs.len(), 2, "a note that was given up leaves no sign");
    desk.press("esc < (");
    assert!(desk.screen().contains("no sign or gap before this moment"));
}

#[test]
fn new_gone_and_persistent_processes_are_marked() {
    let mut desk = Desk::at(50, (160, 48));
    let stacker = {
        desk.press("3 / :stacker enter");
        desk.process(0).key()
    };
    let row = |desk: &Desk, text: &str| {
        let found = desk.lines().into_iter().find(|line| line.contains(text));
        found.unwrap_or_else(|| panic!("{text} is not there"))
    };
    assert!(row(&desk, "stacker --night").contains(" 25 s "), "{}", row(&desk, "stacker --night"));
    desk.run(60);
    assert!(row(&desk, "stacker --night").contains(" 1:2"), "{}", row(&desk, "stacker --night"));
    desk.machine.act(stacker, &Deed::Signal(9));
    desk.run(1);
    let gone = row(&desk, "stacker --night");
    assert!(gone.contains(" gone "), "{gone}");
    desk.run(1);
    assert!(!desk.screen().contains("stacker --night"), "once");
    // The kernel ends the leak, and its service starts it anew.
    let mut desk = Desk::at(250, (160, 48));
    desk.press("2");
    for _ in 0..14 {
        desk.run(1);
        if desk.screen().contains("because memory ran out") {
            break;
        }
    }
    assert!(desk.screen().contains(
        "the kernel ended a process because memory ran out. It was skyboard-cache[1620], which had"
    ));
    let new = row(&desk, "60001 ");
    assert!(new.starts_with(" +"), "{new}");
}

#[test]
fn looking_back_survives_that_old_moments_are_thinned() {
    let mut desk = Desk::at(20, (120, 40));
    // More than is kept as it came: the oldest hours become coarser while somebody looks at them.
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    desk.state.time_mut().timeline = Timeline::live(host);
    desk.state.time_mut().cursor = None;
    for second in 0..100 {
        desk.receive(Arc::new(idle_reading(second)));
    }
    desk.press("< } } } } ]");
    let looked_at = desk.state.moment().sample.as_ref().expect("a sample").now.wall_ns();
    for second in 100..7_400 {
        desk.receive(Arc::new(idle_reading(second)));
    }
    let now = desk.state.moment().sample.as_ref().expect("a sample").now.wall_ns();
    assert!((now - looked_at).abs() <= 8_000_000_000, "{looked_at} became {now}");
    assert!(desk.state.time().timeline.first() > 0, "something was thinned");
    assert!(desk.screen().contains("mean of 8 s"), "{}", desk.screen());
}

/// The simulated night as a recording of two files with a gap between, at its beginning and paused.
fn replayed() -> Desk {
    let mut desk = Desk::at(0, (160, 46));
    let host = Arc::new(desk.machine.host());
    let mut part = |from: u64, until: u64| {
        let mut writer = Writer::new(host.clone(), Some(Duration::from_secs(2)));
        let mut bytes = vec![];
        writer.begin(&mut bytes);
        for second in (from..until).step_by(2) {
            desk.machine.advance_to(Duration::from_secs(180 + second));
            writer.put(&Arc::new(desk.machine.reading()), &mut bytes).expect("memory");
        }
        writer.finish(&mut bytes);
        Arc::new(bytes) as Arc<dyn dozor_core::recording::Frames>
    };
    let files = vec![part(10, 400), part(800, 1_100)];
    let (timeline, problems) = Timeline::of_recordings(files);
    assert!(problems.is_empty());
    desk.state.time_mut().timeline = timeline;
    desk.state.time_mut().mode = Mode::Replay { playing: false, due: None };
    desk.state.values.every = Duration::from_secs(2);
    desk.state.time_mut().cursor = Some(0);
    desk.state.refresh();
    desk.event(Event::Tick);
    desk
}

#[test]
fn a_recording_is_gone_through_by_times_gaps_troubles_and_peaks() {
    let mut desk = replayed();
    desk.press("@ :02:06 enter");
    assert!(desk.screen().contains("2031-02-14 02:06:00"), "{}", desk.screen());
    desk.press("@ :-30s enter");
    assert!(desk.screen().contains("02:05:30"));
    desk.press("@ :02:14 enter");
    assert!(desk.screen().contains("lies in a gap"), "{}", desk.screen());
    desk.press("@ :noon enter");
    assert!(desk.screen().contains("'noon' is no time; expected one such as 02:10"), "{}", desk.screen());
    desk.press("esc < )");
    assert!(desk.screen().contains("a gap of 6 min 42 s ends at 02:17:20"), "{}", desk.screen());
    desk.press(")");
    assert!(desk.screen().contains("no sign or gap after this moment"));
    desk.press("< ;");
    let shown = desk.state.shown().expect("a sample");
    let worst = desk.state.moment().standing_out.iter().map(|(severity, ..)| *severity).max();
    assert!(shown > 0 && worst >= Some(Severity::Warning), "{}", desk.screen());
    // The peak of a lane, then of a process, is where no other moment has more.
    desk.press("3 esc !");
    let most = |desk: &Desk, lane: Lane| {
        let numbers = 0..desk.state.time().timeline.end();
        let values =
            numbers.filter_map(|number| desk.state.time().timeline.moment(number)?.point(lane).value.value());
        values.fold(0.0, f64::max)
    };
    let shown = desk.state.shown().expect("a sample");
    let value =
        desk.state.time().timeline.moment(shown).and_then(|moment| moment.point(Lane::Disk).value.value());
    assert_eq!(value, Some(most(&desk, Lane::Disk)));
    assert!(desk.screen().contains("peak of disk: "), "{}", desk.screen());
    desk.press("/ :stacker enter home !");
    while desk.state.time().search.is_some() {
        desk.event(Event::Tick);
    }
    assert!(desk.screen().contains("peak of stacker[3820]: disk "), "{}", desk.screen());
    let shown = desk.state.shown().expect("a sample");
    let disk = |desk: &mut Desk, number: usize| {
        let sample = desk.state.time_mut().timeline.sample(number).expect("readable");
        let at = sample.now.processes.iter().position(|row| &*row.name == "stacker").expect("it runs");
        dozor_core::catalogue::listed("disk").of(&sample.process(at)).number().unwrap_or(0.0)
    };
    let best = disk(&mut desk, shown);
    let others =
        (0..desk.state.time().timeline.end()).map(|number| disk(&mut desk, number)).fold(0.0, f64::max);
    assert!(best >= others, "{best} of {others}");
}

#[test]
fn a_recording_is_played_faster_and_slower() {
    let mut desk = replayed();
    desk.press("+ + + space");
    assert!(desk.screen().contains("REPLAY 8×"), "{}", desk.screen());
    // Two seconds of it take a quarter of one.
    for _ in 0..5 {
        desk.seconds += 1;
        desk.event(Event::Tick);
    }
    let shown = desk.state.shown().expect("a sample");
    assert!((9..=21).contains(&shown), "{shown}");
    for _ in 0..9 {
        desk.press("-");
    }
    assert!(desk.screen().contains("REPLAY ¼×"));
}

#[test]
fn the_overview_shows_all_of_it_and_leads_anywhere() {
    let mut desk = replayed();
    let area = desk.state.layout().and_then(|layout| layout.overview).expect("a line for it");
    let x = desk.state.layout().expect("a layout").strip_x;
    assert!(desk.screen().contains("02:04 to 02:22, 18 min 8 s, 1 gap"), "{}", desk.screen());
    let line = desk.screen().lines().nth(usize::from(area.y)).expect("the line").to_owned();
    assert!(line.contains("╌╌╌") && line.contains('▕') && line.contains('┃'), "{line}");
    let width = desk.state.layout().expect("a layout").strip_width;
    desk.click(x + width - 1, area.y);
    assert_eq!(desk.state.shown(), Some(desk.state.time().timeline.end() - 1));
    desk.click(x, area.y);
    assert!(desk.state.shown().is_some_and(|shown| shown < 10));
}

#[test]
fn two_moments_are_compared_most_first() {
    let mut desk = replayed();
    desk.press("@ :02:05 enter d");
    assert!(desk.screen().contains("A is 02:05:00; go to another moment and press d again"));
    desk.press("@ :02:18:30 enter d");
    let screen = desk.screen();
    assert!(screen.contains("What differs between A and B: single samples"), "{screen}");
    assert!(
        screen.contains("02:05:00") && screen.contains("02:18:30") && screen.contains("Processes"),
        "{screen}"
    );
    let changed = screen.lines().find(|line| line.contains("stacker[3820]")).expect("a row").to_owned();
    assert!(changed.contains("write ") && changed.contains(" → "), "{changed}");
    assert!(screen.contains("only in B  cpu"), "who came is told: {screen}");
    desk.press("+ +");
    assert!(desk.screen().contains("1 min up to each"));
    desk.press("tab");
    let swapped = desk.screen();
    let a = swapped.lines().find(|line| line.trim_start().starts_with("A ")).expect("side A").to_owned();
    assert!(a.contains("02:18:30"), "{a}");
    desk.press("b");
    assert!(desk.opened().is_empty() && desk.screen().contains("2031-02-14 02:05:00"));
}

#[test]
fn times_are_shown_in_the_other_zone_and_back() {
    let mut desk = replayed();
    desk.state.time_mut().zone = Zone::named("Asia/Tokyo");
    assert!(desk.screen().contains("11:04:10 JST"), "{}", desk.screen());
    desk.press("C");
    assert!(desk.screen().contains("times are in the zone of this machine"));
    desk.press("C");
    assert!(desk.screen().contains("2031-02-14 02:04:10 UTC"), "back in the zone of the recording");
}

#[test]
fn a_note_that_lies_just_behind_its_sample_is_passed() {
    let mut desk = replayed();
    let wall = |desk: &Desk, number: usize| {
        desk.state.time().timeline.moment(number).map_or(0, |moment| moment.wall_ns)
    };
    for (number, text) in [(20, "the dome opens"), (40, "the dome closes")] {
        let mark = Mark::new(wall(&desk, number) + 1_000_000, MarkKind::Note, text);
        desk.event(Event::Feed(Delivery::Mark(mark)));
    }
    desk.press("< )");
    assert!(desk.screen().contains("the dome opens"), "{}", desk.screen());
    desk.press(")");
    assert!(desk.screen().contains("the dome closes"), "{}", desk.screen());
    desk.press("(");
    assert!(desk.screen().contains("the dome opens"), "{}", desk.screen());
    desk.press("> ;");
    assert!(desk.screen().contains("no lane gets into trouble after this moment"), "{}", desk.screen());
}

/// Of ten thousand processes the first reading takes a second or more.
#[test]
fn who_waits_for_the_first_reading_sees_how_far_it_is() {
    let mut desk = Desk::after(0, Site::Observatory, 10, (120, 36));
    assert!(desk.screen().contains("waiting for the first reading …"), "{}", desk.screen());
    desk.event(Event::Feed(Delivery::Reached(4_210, 10_064)));
    assert!(desk.screen().contains("reading … 4210 of 10064 processes"), "{}", desk.screen());
    assert!(!desk.screen().contains("0 of 0"), "nothing is not yet known to be nobody");
    desk.run(2);
    assert!(!desk.screen().contains("waiting"), "{}", desk.screen());
}

/// A report is made of a copy of the samples, while the screen goes on; who does not want it any more says so.
#[test]
fn a_file_is_made_beside_the_screen_and_can_be_cancelled() {
    let mut desk = Desk::at(60, (120, 40));
    let begin = |desk: &mut Desk| {
        desk.press("e");
        let lines = desk.lines();
        let at = lines.iter().position(|line| line.contains("as one page for a browser")).expect("a report");
        let top =
            lines.iter().position(|line| line.contains("a chart of the lanes, over")).expect("the first");
        (0..at - top).for_each(|_| drop(desk.press("down")));
        let effects = desk.press("enter");
        let [Effect::Export(job, samples)] = &effects[..] else { panic!("{effects:?}") };
        (job.clone(), samples.clone())
    };
    let (job, samples) = begin(&mut desk);
    assert!(desk.screen().contains("making the file …") && desk.screen().contains("esc cancels"));
    desk.run(3);
    let made = job.work(samples.take().expect("the samples"));
    let effects = desk.event(Event::Exported(samples, made));
    let [Effect::Save(name, bytes)] = &effects[..] else { panic!("{effects:?}") };
    let page = String::from_utf8_lossy(bytes);
    assert!(name.contains(".html") && page.contains("lynx-obs") && page.contains("stacker"), "{name}");
    let (job, samples) = begin(&mut desk);
    desk.press("esc");
    assert!(desk.screen().contains("cancelled: no file was made"));
    let made = job.work(samples.take().expect("the samples"));
    assert!(made.is_err(), "it stopped");
    // Its end comes late, while the next one is made: that one goes on.
    let (next, wanted) = begin(&mut desk);
    assert_eq!(desk.event(Event::Exported(samples, made)), [], "and nothing is saved");
    assert!(desk.screen().contains("making the file …"));
    let made = next.work(wanted.take().expect("the samples"));
    assert!(matches!(desk.event(Event::Exported(wanted, made))[..], [Effect::Save(..)]));
}
