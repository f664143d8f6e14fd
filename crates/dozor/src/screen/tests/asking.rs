//! Asking for processes: expressions, orders, arrangements, columns, views, settings; and everything by its name.

use super::{Desk, idle_reading};
use crate::look::action::{ACTIONS, Action};
use crate::look::columns::ColumnSet;
use crate::look::keymap::KeyMap;
use crate::screen::Event;
use crate::settings::file::Change;
use crate::sheets::pick::{Choices as _, commands};
use crate::state::effect::Effect;
use dozor_core::deed::Deed;
use dozor_core::lane::Lane;
use dozor_core::rank::{Arrange, RowId};
use dozor_core::row::Row as _;
use dozor_core::wanted::Demand;
use insta::assert_snapshot;
use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use std::sync::Arc;
use std::time::Duration;

fn names(desk: &Desk, rows: usize) -> Vec<String> {
    let name = |row: usize| match desk.state.id_of_row(row) {
        Some(RowId::Group(label)) => format!("{label}×{}", desk.state.processes_of_row(row).len()),
        Some(RowId::IdleThreads(_)) => "idle threads".to_owned(),
        _ => desk.state.view_of_row(row).map_or(String::new(), |view| view.now.name.to_string()),
    };
    (0..rows.min(desk.state.rows().table.lines.len())).map(name).collect()
}

fn narrow(desk: &mut Desk, text: &str) {
    desk.press("/");
    desk.types(text);
    desk.press("enter");
}

#[test]
fn expressions_narrow_and_a_wrong_one_shows_its_place_and_keeps_the_last_good_rows() {
    let mut desk = Desk::at(50, (140, 40));
    narrow(&mut desk, "cpu > 30% and user = astro and not kernel_thread");
    let busy = names(&desk, 9);
    assert!(
        busy.len() >= 4 && busy.iter().all(|name| name == "stacker" || name == "skycam-ingest"),
        "{busy:?}"
    );
    desk.press("esc /");
    desk.types("cpuu > 5%");
    let lines = desk.lines();
    assert_eq!(lines[39].trim(), "^^^^ no metric is called 'cpuu'; did you mean cpu?");
    assert!(lines[38].contains("narrow cpuu > 5%"));
    assert_eq!(desk.state.rows().processes_shown, 203, "the rows of before");
    desk.press("enter");
    assert!(!desk.opened().is_empty(), "a wrong line stays open to be mended");
    desk.press("home right right right delete enter");
    assert!(desk.opened().is_empty() && desk.state.rows().processes_shown < 12, "{}", desk.screen());
    desk.press("esc / up");
    assert!(desk.screen().contains("narrow cpu > 5%"), "the history");
    desk.press("up");
    assert!(desk.screen().contains("narrow cpu > 30% and user = astro"));
}

#[test]
fn the_prompt_completes_from_the_catalogue_and_from_what_is_there() {
    let mut desk = Desk::at(50, (120, 30));
    desk.press("/");
    desk.types("us");
    assert!(desk.screen().contains("User whose rights the process has now"));
    desk.press("tab");
    desk.types("= ");
    desk.press("tab");
    let screen = desk.screen();
    assert!(screen.contains("narrow user =") && screen.contains("processes"), "{screen}");
    desk.types("cat");
    desk.press("tab");
    assert!(desk.screen().contains("narrow user = catalog"), "{}", desk.screen());
    desk.press("enter");
    assert!(names(&desk, 99).iter().all(|name| name.starts_with("catalog")));
    assert_snapshot!("the_prompt_with_completions", {
        let mut desk = Desk::at(50, (120, 30));
        desk.press("/");
        desk.types("disk.busy{nvme0n1} > 50% and di");
        desk.press("tab tab");
        desk.screen()
    });
}

#[test]
fn of_whom_it_is_not_known_is_said() {
    let mut desk = Desk::at(50, (150, 40));
    narrow(&mut desk, "oom_score > 10");
    assert_eq!(desk.state.rows().processes_shown, 0);
    assert!(desk.screen().contains("unknown"), "{}", desk.screen());
    assert!(desk.state.wanted().has(Demand::OomScore), "what an expression needs is collected");
}

#[test]
fn going_to_a_process_hides_nothing_and_goes_round() {
    let mut desk = Desk::at(50, (120, 40));
    let all = desk.state.rows().table.lines.len();
    desk.press("g");
    desk.types("catalog-worker");
    desk.press("enter");
    assert_eq!((desk.selected_name().as_str(), desk.state.rows().table.lines.len()), ("catalog-worker", all));
    let first = desk.state.row_of_selected();
    assert!(desk.screen().contains("1 of"), "{}", desk.screen());
    desk.press("n n");
    let third = desk.state.row_of_selected();
    assert!(third > first);
    desk.press("N N N");
    assert!(desk.state.row_of_selected() > third, "before the first comes the last");
    desk.press("esc esc n");
    assert!(desk.screen().contains("no search yet"));
}

#[test]
fn a_second_key_decides_between_equals_by_sheet_and_by_mouse() {
    let mut desk = Desk::at(50, (150, 40));
    desk.press("o :user enter o :rss tab");
    assert!(desk.screen().contains("second"), "the sheet stays and shows it");
    desk.press("esc");
    assert_eq!(desk.state.values.order.written(), "user,rss");
    assert!(desk.screen().contains("Processes by user ▴, then rss ▾"));
    let layout = desk.state.layout().expect("a layout");
    let line = desk.lines()[usize::from(layout.headings.y)].clone();
    let x = line[..line.find("net/s").expect("a heading")].chars().count() as u16;
    desk.mouse(MouseEventKind::Down(MouseButton::Right), x, layout.headings.y);
    assert_eq!(desk.state.values.order.written(), "user,net");
    desk.mouse(MouseEventKind::Down(MouseButton::Right), x, layout.headings.y);
    assert_eq!(desk.state.values.order.written(), "user,+net");
}

#[test]
fn the_family_tree_keeps_ancestors_folds_and_orders_inside() {
    let mut desk = Desk::at(50, (150, 48));
    desk.press("v down enter");
    assert_eq!(desk.state.values.arrange, Arrange::Family);
    assert_snapshot!("the_family_tree", desk.screen());
    narrow(&mut desk, "stacker or guidelog");
    let family = names(&desk, 9);
    for name in ["init", "stacker", "guider", "guidelog"] {
        assert!(family.contains(&name.to_owned()), "{family:?}");
    }
    let context: Vec<bool> = desk.state.rows().table.lines.iter().map(|line| line.context).collect();
    assert!(context[0] && context.iter().filter(|context| !**context).count() == 2, "{}", desk.screen());
    assert!(desk.screen().contains("2 of 203"), "ancestors do not count");
    desk.press("home left");
    assert_eq!(desk.state.rows().table.lines.len(), 1, "folded away");
    let rss = |desk: &Desk| {
        let population = desk.state.population().expect("a sample");
        let line = desk.state.line(0).expect("a row");
        desk.state.rows().table.value(&population, &line, dozor_core::catalogue::listed("rss")).value.number()
    };
    let folded = rss(&desk).expect("a total");
    desk.press("right");
    let sum: f64 = ["stacker", "guidelog"]
        .iter()
        .map(|name| {
            let row =
                (0..9).find(|row| desk.state.view_of_row(*row).is_some_and(|view| &*view.now.name == *name));
            desk.process(row.expect("its row")).rss_bytes.value().expect("its memory") as f64
        })
        .sum();
    assert!((folded - sum).abs() < 1.0, "the totals of what matches: {folded} {sum}");
    // The sign is clicked as well.
    let layout = desk.state.layout().expect("a layout");
    let line = desk.lines()[usize::from(layout.rows.y)].clone();
    let x = line[..line.find('▿').expect("the sign")].chars().count() as u16;
    desk.click(x, layout.rows.y);
    assert_eq!(desk.state.rows().table.lines.len(), 1);
}

#[test]
fn groups_have_totals_open_and_can_be_acted_on_as_one() {
    let mut desk = Desk::at(50, (150, 48));
    desk.press(": :arrange enter");
    desk.press("esc");
    desk.press(":");
    desk.types("arrange by program");
    desk.press("enter");
    assert_eq!(desk.state.values.arrange, Arrange::Program);
    let first: Vec<String> = names(&desk, 6);
    assert!(first.contains(&"skycam-ingest×4".to_owned()), "{first:?}");
    assert_snapshot!("groups_by_program", desk.screen());
    let row = first.iter().position(|name| name == "skycam-ingest×4").expect("the group");
    desk.press("home");
    (0..row).for_each(|_| drop(desk.press("down")));
    desk.press("right");
    assert_eq!(names(&desk, row + 5)[row + 1..], ["skycam-ingest"; 4]);
    desk.press("x");
    assert_eq!(desk.opened(), "What shall happen to these 4 processes?", "all of one program");
    desk.press("esc left");
    desk.run(2);
    assert_eq!(
        desk.state.selection().selected,
        Some(RowId::Group("skycam-ingest".into())),
        "the selection follows its group"
    );
    desk.press("m");
    assert_eq!(desk.state.selection().marked.len(), 4);
    assert!(desk.screen().contains("✓ 4 marked"));
    for (arrange, group) in [("user", "catalog"), ("service", "catalogd"), ("container", "night-board")] {
        desk.press(":");
        desk.types(&format!("arrange by {arrange}"));
        desk.press("enter");
        let all = names(&desk, 400);
        assert!(all.iter().any(|name| name.starts_with(&format!("{group}×"))), "{arrange}: {all:?}");
    }
    assert!(desk.state.wanted().has(Demand::ControlGroup));
}

#[test]
fn threads_stand_below_their_processes_only_while_they_are_asked_for() {
    let mut desk = Desk::at(50, (150, 48));
    narrow(&mut desk, "catalogd");
    assert!(!desk.state.wanted().has(Demand::Threads));
    desk.press("t");
    assert!(desk.state.wanted().has(Demand::Threads));
    desk.machine.want(desk.state.wanted());
    desk.run(2);
    let rows = names(&desk, 99);
    let idle = rows.last().cloned().expect("rows");
    assert!(rows.len() < 13 && rows[0] == "catalogd" && idle == "idle threads", "{rows:?}");
    assert!(desk.screen().contains("└ ▹ idle threads ×"), "{}", desk.screen());
    // A key opens it, and the one that works stays above it.
    desk.press("end right");
    let rows = names(&desk, 99);
    assert_eq!(rows.len(), 14, "all 12 threads, and the row that they are below: {rows:?}");
    assert!(rows[1..].iter().all(|name| name.starts_with("catalogd") || *name == idle));
    let share = |row: usize| dozor_core::catalogue::listed("cpu").of(&desk.state.view_of_row(row)?).number();
    let threads: f64 = (1..14).filter_map(share).sum();
    assert!((threads - share(0).expect("its share")).abs() < 5.0, "the threads' time is the process's");
    desk.press("x");
    assert!(desk.screen().contains("a thread gets no signal of its own"), "{}", desk.screen());
    desk.press("esc left");
    assert_eq!(names(&desk, 99).last(), Some(&idle), "folded again");
    desk.press("home down x");
    assert!(desk.opened().is_empty() && desk.screen().contains("a thread gets no signal of its own"));
    desk.press("home left");
    assert_eq!(desk.state.rows().table.lines.len(), 1, "folded");
    desk.press("t");
    assert!(!desk.state.wanted().has(Demand::Threads));
}

#[test]
fn active_ones_kernel_threads_and_whose_are_switched() {
    let mut desk = Desk::at(50, (150, 48));
    desk.state.values.narrowing.me = "catalog".into();
    let all = desk.state.rows().processes_shown;
    desk.press("#");
    let programs = desk.state.rows().processes_shown;
    assert!(programs < all && desk.screen().contains("no kernel threads"));
    desk.press("a");
    assert!(desk.state.rows().processes_shown < programs && desk.screen().contains("only active"));
    desk.press("a W");
    assert!(names(&desk, 99).iter().all(|name| name.starts_with("catalog")), "mine");
    assert!(desk.screen().contains("· mine"));
    desk.press("W");
    assert!(names(&desk, 400).iter().all(|name| !name.starts_with("catalog-")), "others'");
    desk.press("esc esc");
    assert_eq!(desk.state.rows().processes_shown, programs, "threads of the kernel stay hidden");
}

#[test]
fn shares_means_units_times_and_commands_are_shown_as_chosen() {
    let mut desk = Desk::at(60, (220, 48));
    desk.press("3");
    let row = |desk: &Desk, name: &str| {
        desk.lines().into_iter().rev().find(|line| line.contains(name)).unwrap_or_default()
    };
    desk.press("% U");
    let screen = desk.screen();
    assert!(screen.contains("cpu all%") && screen.contains("% of the machine"), "{screen}");
    assert!(screen.contains(" MB/s") && !screen.contains("MiB/s"), "decimal in the lanes as well");
    desk.press("% U");
    assert!(desk.screen().contains("MiB/s"));
    desk.press("~ ~");
    assert!(desk.screen().contains("mean of 10 s"), "{}", desk.screen());
    desk.press("~ ~");
    assert_eq!(desk.state.values.mean, Duration::ZERO);
    desk.press("D");
    assert!(desk.lines()[1].contains("-30 s"), "{}", desk.lines()[1]);
    desk.press("D l");
    assert!(row(&desk, "stacker --night").contains("/opt/lynx/bin/stacker"), "{}", desk.screen());
    desk.press("l");
    assert!(row(&desk, "stacker").trim_end_matches(['│', '█', ' ']).ends_with("stacker"));
    desk.press("l shift-right");
    assert!(desk.screen().contains("command from 8 on") && desk.screen().contains("--night"));
    desk.press("shift-left 0");
    assert!(row(&desk, "focusd").contains("focusd replaced"));
}

#[test]
fn a_mean_is_the_growth_over_its_time() {
    let mut desk = Desk::at(80, (160, 48));
    desk.press("3 ~ ~");
    desk.run(1);
    let row = (0..9).find(|row| &*desk.process(*row).name == "stacker").expect("the stacker");
    let shown =
        dozor_core::catalogue::listed("write").of(&desk.state.view_of_row(row).expect("a row")).number();
    let key = desk.process(row).key();
    let last = desk.state.time().timeline.end() - 1;
    let mut bytes = |back: usize| {
        let sample = desk.state.time_mut().timeline.sample(last - back).expect("a sample");
        sample.now.process(key).expect("the stacker").write_bytes.value().expect("bytes") as f64
    };
    let expected = (bytes(0) - bytes(10)) / 10.0;
    assert!((shown.expect("a rate") - expected).abs() < 1.0, "{shown:?} {expected}");
}

#[test]
fn columns_are_chosen_moved_and_shown_in_other_units() {
    let mut desk = Desk::at(50, (160, 48));
    desk.press("3 c");
    desk.types("pss");
    assert!(desk.screen().contains("costs") && desk.screen().contains("walk over the memory"));
    assert!(!desk.state.wanted().has(Demand::Proportional));
    desk.press("enter");
    assert!(desk.state.wanted().has(Demand::Proportional), "collected while it is shown");
    desk.press("enter backspace backspace backspace");
    desk.types("write");
    desk.press("home tab tab right shift-up");
    let set = desk.state.columns().to_string();
    assert!(set.starts_with("pid,user,state,write:") && set.contains(":KiB,disk"), "{set}");
    assert!(desk.screen().contains("write KiB/s"));
    assert_eq!(desk.state.values.column_sets.len(), 1, "other lanes keep theirs");
    desk.press("ctrl-s");
    assert_eq!(desk.opened(), "columns");
    desk.types("hunt");
    let effects = desk.press("enter");
    assert_eq!(effects, [Effect::Configure(Change::Columns("hunt".to_owned(), set.clone()))]);
    desk.press("ctrl-d");
    assert_eq!(desk.state.columns(), ColumnSet::usual(Some(Lane::Disk)));
    desk.press("ctrl-n esc");
    assert_eq!(desk.state.columns().to_string(), set);
    assert_snapshot!("choosing_columns", {
        let mut desk = Desk::at(50, (120, 40));
        desk.press("c down down");
        desk.screen()
    });
}

#[test]
fn views_are_gone_through_and_how_it_was_comes_back() {
    let mut desk = Desk::at(50, (160, 48));
    desk.press("2 o :swap enter");
    let before = desk.screen();
    let count = desk.state.values.configured.views.len();
    let mut seen = vec![];
    for _ in 0..count {
        desk.press("s");
        seen.push(desk.state.values.view.clone().expect("a view"));
        desk.lines();
    }
    assert_eq!(seen[..3], ["everything", "corner", "disk hunt"]);
    desk.press("s esc");
    assert_eq!(desk.state.values.view, None);
    assert_eq!(
        (desk.state.values.lane, desk.state.values.order.written()),
        (Some(Lane::Memory), "swap".to_owned())
    );
    let title = |screen: &str| screen.lines().find(|line| line.contains("Processes by")).map(str::to_owned);
    assert_eq!(title(&before), title(&desk.screen()));
    desk.press("v :user enter");
    desk.press(":");
    desk.types("save view");
    desk.press("enter");
    desk.types("mine");
    let effects = desk.press("enter");
    let [Effect::Configure(Change::View(view))] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!((view.name.as_str(), view.arrange, view.lane), ("mine", Arrange::User, Some(Lane::Memory)));
    desk.press("0");
    desk.press(":");
    desk.types("view mine");
    desk.press("enter");
    assert_eq!((desk.state.values.lane, desk.state.values.arrange), (Some(Lane::Memory), Arrange::User));
}

#[test]
fn settings_change_at_once_and_are_undone() {
    let mut desk = Desk::at(50, (140, 48));
    desk.press(",");
    assert_snapshot!("the_settings", desk.screen());
    (0..6).for_each(|_| drop(desk.press("down")));
    let effects = desk.press("right");
    assert!(desk.state.values.of_machine && desk.screen().contains("changed on the screen"));
    assert_eq!(effects, [Effect::Configure(Change::Setting("percent", Some("machine".to_owned())))]);
    assert_eq!(desk.press("u"), [Effect::Configure(Change::Setting("percent", None))]);
    assert!(!desk.state.values.of_machine);
    // A value that is typed: a wrong one stays in the prompt with what is wrong.
    desk.press("up up enter ctrl-u");
    desk.types("1ms");
    desk.press("enter");
    assert!(!desk.opened().is_empty() && desk.screen().contains("the shortest interval is 50ms"));
    desk.press("ctrl-u");
    desk.types("5s");
    let effects = desk.press("enter");
    assert!(effects.contains(&Effect::Every(Duration::from_secs(5))), "{effects:?}");
    assert_eq!(
        desk.press("d"),
        [Effect::Configure(Change::Setting("every", None)), Effect::Every(Duration::from_secs(2))]
    );
    desk.press("esc");
    assert!(desk.opened().is_empty());
}

#[test]
fn marks_of_all_that_is_shown_are_set_inverted_and_cleared() {
    let mut desk = Desk::at(50, (140, 48));
    narrow(&mut desk, "skycam");
    desk.press("home m A");
    assert_eq!(desk.state.selection().marked.len(), 4);
    let cpu: f64 = (0..4)
        .filter_map(|row| dozor_core::catalogue::listed("cpu").of(&desk.state.view_of_row(row)?).number())
        .sum();
    let line = desk.lines()[46].clone();
    let shown = format!("cpu % {}", dozor_core::units::share(cpu));
    assert!(line.contains("✓ 4 marked") && line.contains(&shown), "{line} {shown}");
    desk.press("home m R");
    assert_eq!(desk.state.selection().marked.len(), 1, "those that were not");
    desk.press("M");
    assert!(desk.state.selection().marked.is_empty() && !desk.screen().contains("marked"));
}

#[test]
fn changed_keys_work_everywhere_and_are_shown() {
    let mut desk = Desk::at(50, (140, 48));
    let changed = [("act".to_owned(), vec!["f9".to_owned()]), ("help".to_owned(), vec!["x".to_owned()])];
    desk.state.values.keys = KeyMap::new(&changed).0;
    desk.press("3 home f9");
    assert!(desk.opened().starts_with("What shall happen"));
    desk.press("esc x");
    let screen = desk.screen();
    assert!(desk.opened() == "Help" && screen.contains("f9"), "{screen}");
    desk.press("x");
    assert!(desk.lines()[47].contains("f9 act") && desk.lines()[47].contains("x help"));
}

/// Every action does something or says why not, whichever way it is called.
#[test]
fn every_action_can_be_found_by_its_name_and_run() {
    for entry in ACTIONS {
        let mut desk = Desk::soon_at(30, (120, 40));
        desk.press(":");
        desk.types(entry.name);
        let first = commands::Commands::rows(&desk.state, entry.name).into_iter().next().expect(entry.name);
        assert_eq!(first.name, entry.name);
        let effects = desk.press("enter");
        desk.lines();
        match entry.action {
            Action::Quit => assert_eq!(effects, [Effect::Quit]),
            Action::Suspend => assert_eq!(effects, [Effect::Suspend]),
            Action::Commands => assert!(!desk.opened().is_empty()),
            _ => {}
        }
    }
}

#[test]
fn pids_with_descendants_are_shown_alone() {
    let mut desk = Desk::at(50, (140, 48));
    desk.state.values.narrowing.pids = Some([1071].into());
    desk.state.values.narrowing.descendants = true;
    desk.run(1);
    let family = names(&desk, 99);
    assert!(family.len() > 3 && family.iter().all(|name| name.starts_with("catalog")), "{family:?}");
    assert!(desk.screen().contains("PID 1071 and descendants"));
    desk.press("esc");
    assert!(desk.state.rows().processes_shown > 190);
}

#[test]
fn names_are_seen_however_deep_they_stand() {
    let mut desk = Desk::at(50, (100, 60));
    desk.press("s");
    desk.state.arrange_by(Arrange::Family);
    for second in 2_000_000..2_000_002 {
        let mut reading = idle_reading(second);
        reading.processes.truncate(30);
        for row in &mut reading.processes {
            let parent = row.pid.value().unwrap_or(0) - 1;
            Arc::make_mut(row).ppid = parent.into();
        }
        desk.receive(Arc::new(reading));
    }
    let screen = desk.screen();
    for pid in 1..=30 {
        assert!(screen.contains(&format!("daemon{pid} --")), "{pid}: {screen}");
    }
    assert!(screen.contains("… ▿ daemon29") && screen.contains("… daemon30"), "{screen}");
}

#[test]
fn what_is_pasted_into_a_list_searches_it() {
    let mut desk = Desk::at(60, (140, 40));
    desk.press(":");
    desk.event(Event::Paste("famtree".to_owned()));
    assert!(desk.screen().contains("arrange as a family tree"), "{}", desk.screen());
    desk.press("enter");
    assert_eq!(desk.state.values.arrange, Arrange::Family);
}

#[test]
fn signals_are_searched_by_name_number_and_words_like_every_list() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("3 home x");
    let first = |desk: &Desk| {
        assert!(desk.opened().starts_with("What shall happen"), "the sheet stays open");
        let line = desk.lines().into_iter().find_map(|line| Some(line.split_once('▸')?.1.to_owned()));
        // The name stands behind the group.
        line.and_then(|line| Some(line.get(18..)?.split_whitespace().next()?.to_owned()))
    };
    for (typed, name) in [
        ("kill", "KILL"),
        ("SIGHUP", "HUP"),
        ("19", "STOP"),
        ("1", "HUP"),
        ("quit", "QUIT"),
        ("jk", ""),
        ("core dump", "core"),
        ("leave a core", "QUIT"),
    ] {
        desk.types(typed);
        assert_eq!(first(&desk).unwrap_or_default(), name, "{typed}");
        for _ in typed.chars() {
            desk.press("backspace");
        }
    }
    assert_eq!(first(&desk).as_deref(), Some("TERM"), "the polite stop is first again");
    desk.types("no such signal");
    assert!(desk.screen().contains("nothing matches"));
    assert_eq!(desk.press("enter"), [], "nothing is sent");
    desk.press("ctrl-u");
    desk.types("force");
    let effects = desk.press("enter enter");
    assert!(matches!(&effects[0], Effect::Act(Deed::Signal(9), ..)), "{effects:?}");
}

#[test]
fn the_list_of_orders_begins_at_the_present_one_and_says_what_enter_does() {
    let mut desk = Desk::at(50, (80, 24));
    desk.press("2 o");
    assert!(desk.lines().iter().any(|line| line.contains("▸ rss ")), "{}", desk.screen());
    assert!(desk.lines()[23].contains("enter order by it"), "{}", desk.lines()[23]);
    desk.press("enter");
    assert_eq!(desk.state.values.order.first.metric.alias, "rss", "nothing changed");
    desk.press("o :cpu_t enter");
    assert_eq!(desk.state.values.order.first.metric.alias, "cpu_time");
}

#[test]
fn a_list_has_no_caret_that_nobody_sees() {
    let mut desk = Desk::at(30, (120, 40));
    desk.press(":");
    desk.types("fam");
    desk.press("left left home delete");
    desk.types("tree");
    assert!(desk.screen().contains("search famtree"), "{}", desk.screen());
}

#[test]
fn sheets_close_and_move_by_the_keys_that_are_set() {
    let mut desk = Desk::at(30, (120, 40));
    let changed =
        [("settings", "f2"), ("quit", "f10"), ("back", "f8"), ("next row", "f4"), ("difference", "D")];
    let changed = changed.map(|(name, key)| (name.to_owned(), vec![key.to_owned()]));
    desk.state.values.keys = KeyMap::new(&changed).0;
    for closing in ["f2", "f10", "f8", "esc"] {
        desk.press("f2 f4");
        assert_eq!(desk.chosen().0, 1, "the key that goes down in the table does here");
        desk.press("j q");
        assert_eq!(desk.chosen().0, 1, "q and j have no meaning any more");
        desk.press(closing);
        assert!(desk.opened().is_empty(), "{closing}");
    }
    desk.press("D < < D");
    assert!(desk.opened().starts_with("What differs"), "{}", desk.screen());
    desk.press("D");
    assert!(desk.opened().is_empty() && desk.state.time().remembered.is_none());
}

#[test]
fn a_comparison_scrolls_like_every_list() {
    let mut desk = Desk::at(100, (120, 24));
    desk.press("d { { d");
    let chosen = |desk: &mut Desk| {
        let marked =
            desk.lines().iter().position(|line| line.contains('▸')).expect("the chosen line is marked");
        let (at, lines) = desk.chosen();
        (at, lines, marked)
    };
    let (at, lines, top) = chosen(&mut desk);
    assert!(at == 1 && lines > 24, "behind the first title: {lines}");
    desk.press("end");
    let (at, _, bottom) = chosen(&mut desk);
    assert_eq!(at, lines - 1);
    desk.press("up");
    assert_eq!(chosen(&mut desk).2, bottom, "what is chosen last stands below");
    desk.press("home");
    desk.mouse(MouseEventKind::ScrollDown, 10, 10);
    assert_eq!((chosen(&mut desk).0, chosen(&mut desk).2), (1, top), "the wheel goes by the same rule");
    // What is chosen is looked at: the moment and the process.
    let line = desk.lines().into_iter().find(|line| line.contains('▸')).expect("the chosen line");
    let wall = desk.state.shown_wall();
    desk.press("enter");
    assert!(desk.opened().is_empty());
    assert_eq!(desk.state.shown_wall(), wall, "the second moment, at which the sheet was opened");
    let Some(RowId::Process(key)) = desk.state.selection().selected else { panic!("a process is selected") };
    assert!(line.contains(&format!("[{}]", key.pid)), "{line}");
}

#[test]
fn a_hint_that_the_typed_line_covers_is_not_there_to_be_clicked() {
    let mut desk = Desk::at(30, (140, 40));
    desk.press("/");
    for x in 0..140 {
        desk.click(x, 39);
    }
    assert_eq!(desk.opened(), "narrow", "it is typed still");
    assert!(desk.lines()[38].trim_end() == " narrow", "{}", desk.screen());
}

/// Every action on a row that stands for threads does something or says why not.
#[test]
fn every_action_bears_a_row_of_idle_threads() {
    for entry in ACTIONS {
        let mut desk = Desk::soon_at(50, (150, 48));
        narrow(&mut desk, "catalogd");
        desk.press("t");
        desk.machine.want(desk.state.wanted());
        desk.run(2);
        desk.press("end");
        assert!(
            matches!(desk.state.selection().selected, Some(RowId::IdleThreads(_))),
            "{:?}",
            desk.state.selection().selected
        );
        let Some(key) = desk.state.values.keys.keys(entry.action).first().cloned() else { continue };
        desk.press(&key);
        desk.run(2);
        assert!(!desk.lines().is_empty(), "{}", entry.name);
        assert!(desk.state.selection().marked.is_empty() || entry.name.contains("mark"), "{}", entry.name);
    }
}
