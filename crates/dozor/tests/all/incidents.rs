//! Each incident of the simulated night is found with the keyboard alone and with the mouse alone; and the manners of
//! the screen while one looks for it. In a real terminal.

use crate::terminal::Terminal;
use std::time::Duration;

const LARGE: (u16, u16) = (160, 48);

fn demo(arguments: &str, size: (u16, u16)) -> Terminal {
    let terminal = Terminal::alone(&format!("dozor demo {arguments}"), size);
    terminal.wait_for("Processes by cpu");
    // On a busy machine the past is shown while it grows; what is pressed then is about an earlier moment.
    let after = arguments.split_once("--after ").map_or(0, |(_, rest)| {
        rest.split('s').next().and_then(|seconds| seconds.parse().ok()).expect("seconds")
    });
    terminal.wait("all of the past", |screen| clock(screen).is_some_and(|now| now >= BEGIN + after));
    terminal
}

/// When the demo begins, in seconds of its day.
const BEGIN: u64 = 2 * 3_600 + 4 * 60;

/// The time in the header, in seconds of the day.
fn clock(screen: &str) -> Option<u64> {
    let (_, behind) = screen.lines().next()?.split_once(" LIVE ")?;
    let parts = behind.split(' ').next()?.split(':').map(str::parse::<u64>);
    parts.collect::<Result<Vec<u64>, _>>().ok().map(|parts| parts.iter().fold(0, |all, part| all * 60 + part))
}

/// Lines of the table of processes, without its headings.
fn table(screen: &str) -> Vec<String> {
    let lines = screen.lines().skip_while(|line| !line.contains("Processes by "));
    lines.skip(2).map(str::to_owned).collect()
}

fn first_row(screen: &str) -> String {
    table(screen).first().cloned().unwrap_or_default()
}

#[test]
fn the_full_disk_is_found_by_keys_and_by_mouse() {
    let keys = demo("--after 60s", LARGE);
    keys.wait_for("stacker[3820] writes");
    keys.keys("3");
    keys.wait("the writer at the top", |screen| {
        screen.contains("nvme0n1p1") && first_row(screen).contains("stacker")
    });
    let mouse = demo("--after 60s", LARGE);
    mouse.click_on("3 disk", |screen| first_row(screen).contains("stacker"));
    // The sentence leads there as well.
    mouse.click(2, 0);
    mouse.wait("the overview", |screen| !screen.contains("nvme0n1p1"));
    mouse.click_on("nvme0n1 9", |screen| screen.contains("nvme0n1p1"));
}

#[test]
fn the_hot_core_is_found_by_keys_and_by_mouse() {
    let keys = demo("--after 140s", LARGE);
    keys.wait_for("guidelog[4340] reads nothing");
    keys.keys("1");
    let screen = keys.wait_for("runs most there");
    let hot = screen.lines().find(|line| line.contains("guidelog[4340]  ")).expect("its core");
    let core = hot.split_whitespace().find_map(|word| word.parse::<usize>().ok()).expect("a number");
    keys.keys("p");
    keys.keys("Down");
    for _ in 0..core {
        keys.keys("Down");
    }
    keys.wait("the users of the core", |screen| {
        screen.contains(&format!("last on core {core} ·")) && first_row(screen).contains("guidelog")
    });
    let mouse = demo("--after 140s", LARGE);
    mouse.click_on("1 cpu", |screen| screen.contains("runs most there"));
    mouse.click_on("guidelog[4340]  ", |screen| {
        screen.contains("last on core ") && first_row(screen).contains("guidelog")
    });
}

#[test]
fn interrupts_on_one_core_are_found_by_keys_and_by_mouse() {
    for by_keys in [true, false] {
        let terminal = demo("--after 10s", LARGE);
        if by_keys {
            for keys in ["1", "p", "p", "p", "Down"] {
                terminal.keys(keys);
            }
        } else {
            terminal.click_on("1 cpu", |screen| screen.contains("runs most there"));
            terminal.click_on("interrupts ─", |screen| screen.contains("all cores/s"));
            terminal.click_on("network link 1", |screen| screen.contains("on core 0, which serves"));
        }
        let screen = terminal.wait_for("on core 0, which serves most of 45");
        assert!(screen.contains("one core serves it alone"), "{screen}");
    }
}

#[test]
fn the_leak_is_found_by_keys_and_by_mouse() {
    for by_keys in [true, false] {
        let terminal = demo("--after 234s", LARGE);
        if by_keys {
            terminal.keys("2");
        } else {
            terminal.click_on("2 memory", |screen| screen.contains("memory by kind"));
        }
        let screen = terminal.wait("the program that grows", |screen| {
            first_row(screen).contains("skyboard-cache") && screen.contains("skyboard-cache[1620] only grows")
        });
        let growth = first_row(&screen);
        assert!(growth.contains("344 M") || growth.contains(" M"), "{growth}");
        if by_keys {
            for keys in ["p", "p", "Down", "Down", "Down"] {
                terminal.keys(keys);
            }
        } else {
            terminal.click_on("is it short?", |screen| screen.contains("pressure: all wait"));
            terminal.click_on("read back from swap", |screen| screen.contains("Processes by swap"));
        }
        terminal.wait_for("Processes by swap");
    }
}

#[test]
fn the_full_link_and_its_peer_are_found_by_keys_and_by_mouse() {
    for by_keys in [true, false] {
        let terminal = demo("--after 300s", LARGE);
        terminal.wait_for("vaultsync[5510] sends");
        if by_keys {
            for keys in ["4", "p", "p", "Down"] {
                terminal.keys(keys);
            }
        } else {
            terminal.click_on("4 network", |screen| screen.contains("peers"));
            terminal.click_on("198.51.100.77 ", |screen| screen.contains("talking to 198.51.100.77"));
        }
        let screen = terminal.wait_for("talking to 198.51.100.77");
        let rows: Vec<String> = table(&screen).into_iter().filter(|row| row.contains("astro")).collect();
        assert!(rows.len() == 1 && rows[0].contains("vaultsync"), "{screen}");
        terminal.keys("Escape");
        terminal.wait("everybody again", |screen| screen.contains("203 of 203"));
    }
}

#[test]
fn the_lossy_link_the_fan_and_the_full_archive_are_found_by_keys_and_by_mouse() {
    for by_keys in [true, false] {
        let terminal = demo("--after 135s", LARGE);
        terminal.wait_for("enp4s0 has 14.0 errors/s");
        terminal.wait_for("fan 2 stands still");
        terminal.wait_for("/archive is 96 % full");
        if by_keys {
            terminal.keys("5");
            terminal.wait("the fan", |screen| screen.contains("▲ fan 2"));
            for keys in ["3", "p", "p", "Down", "Down"] {
                terminal.keys(keys);
            }
        } else {
            terminal.click_on("5 heat", |screen| screen.contains("▲ fan 2"));
            terminal.click_on("3 disk", |screen| screen.contains("file systems"));
            terminal.click_on("file systems", |screen| screen.contains("/mnt/vault"));
            terminal.click_on("/archive    /dev/sda1", |screen| screen.contains("with files on /archive"));
        }
        let screen = terminal.wait_for("with files on /archive");
        let rows = table(&screen).join("\n");
        assert!(
            rows.contains("archived") && rows.contains("vaultsync") && !rows.contains("stacker"),
            "{screen}"
        );
    }
}

#[test]
fn short_lived_programs_are_a_row_with_their_parent() {
    let terminal = demo("--after 20s", LARGE);
    // It stands out for a while; a row has only who ended in the shown sample.
    let screen = terminal.wait("its row", |screen| {
        screen.contains("started by nightqueue[3690]")
            && table(screen).iter().any(|row| row.contains("platesolve ×"))
    });
    let row = table(&screen).into_iter().find(|row| row.contains("platesolve ×")).expect("its row");
    assert!(row.contains("gone") && row.contains(", from n"), "{row}");
}

#[test]
fn the_selection_stays_on_its_process_while_ranks_change() {
    let terminal = demo("--after 18s", LARGE);
    terminal.keys("3");
    terminal.wait_for("Processes by disk/s");
    for _ in 0..3 {
        terminal.keys("Down");
    }
    terminal.wait("the third row", |screen| table(screen).get(2).is_some_and(|row| row.contains('▸')));
    let chosen = |screen: &str| table(screen).into_iter().find(|row| row.contains('▸'));
    let pid = |row: &str| row.replace('▸', " ").split_whitespace().next().unwrap_or("").to_owned();
    let screen = terminal.wait("a selected row", |screen| chosen(screen).is_some());
    let before = pid(&chosen(&screen).expect("a row"));
    // The stacker begins to write and takes the first place.
    let screen = terminal.wait("another order", |screen| {
        first_row(screen).contains("stacker") && screen.contains("nvme0n1 9")
    });
    assert_eq!(pid(&chosen(&screen).expect("still selected")), before, "{screen}");
}

#[test]
fn going_back_in_time_shows_what_was() {
    let terminal = demo("--after 60s", LARGE);
    terminal.keys("3");
    let screen = terminal.wait("the writer", |screen| first_row(screen).contains("stacker"));
    let row = screen.lines().position(|line| line.contains("3 disk")).expect("the lane");
    // The left part of the strip is from before the stacker began.
    terminal.click(20, row);
    let screen = terminal.wait_for("FROZEN");
    assert!(!first_row(&screen).contains("stacker"), "{screen}");
    assert!(!screen.contains("stacker[3820] writes"), "{screen}");
    // Dragging the cursor to the right brings it back.
    terminal.drag((20, row), (105, row));
    terminal.wait("the writer again", |screen| {
        screen.contains("FROZEN") && first_row(screen).contains("stacker")
    });
    terminal.keys("L");
    terminal.wait_for("LIVE");
}

#[test]
fn a_bookmark_is_found_again() {
    let terminal = demo("--after 60s", LARGE);
    terminal.keys("b");
    terminal.wait_for("bookmark at");
    terminal.text("disk is full");
    terminal.keys("Enter");
    terminal.wait_for("⚑");
    terminal.keys("<");
    terminal.wait_for("FROZEN");
    terminal.keys(")");
    terminal.wait_for("disk is full");
}

#[test]
fn the_screen_follows_every_size() {
    let terminal = demo("--after 60s", LARGE);
    terminal.keys("3");
    terminal.wait_for("trend, 56 s");
    let resize = |width: u16, height: u16| {
        terminal.tmux(&["resize-window", "-x", &width.to_string(), "-y", &height.to_string()]);
    };
    resize(80, 24);
    let small = terminal.wait("the small screen", |screen| {
        !screen.contains("trend") && screen.contains("q quit") && screen.contains("Processes by disk/s")
    });
    assert_eq!(small.lines().count(), 24);
    assert!(small.lines().all(|line| line.chars().count() <= 80), "{small}");
    // A storm of sizes, some of them too small.
    for step in 0..40u16 {
        resize(60 + step * 7 % 120, 10 + step * 11 % 50);
    }
    resize(160, 48);
    terminal.wait("the large screen", |screen| {
        let top = screen.lines().next().unwrap_or("");
        let whole = top.contains("lynx-obs") && top.contains("LIVE");
        whole && screen.contains("trend, 56 s") && first_row(screen).contains("stacker")
    });
}

#[test]
fn the_clipboard_of_the_terminal_gets_the_pid() {
    let terminal = demo("--after 60s", LARGE);
    terminal.tmux(&["set-option", "-g", "set-clipboard", "on"]);
    terminal.keys("3");
    terminal.wait("the writer", |screen| first_row(screen).contains("stacker"));
    terminal.keys("Home");
    terminal.keys("y");
    terminal.wait_for("given to the terminal's clipboard: 3820");
    terminal.keys("Y");
    terminal.wait_for("clipboard: /opt/lynx/bin/stacker");
    let buffers = terminal.tmux(&["list-buffers", "-F", "#{buffer_sample}"]);
    assert!(buffers.lines().any(|line| line == "3820"), "{buffers}");
    assert!(buffers.lines().any(|line| line.starts_with("/opt/lynx/bin/stacker --night")), "{buffers}");
}

#[test]
fn the_mouse_can_be_left_to_the_terminal() {
    let terminal = demo("", (100, 30));
    assert!(terminal.modes().starts_with("0 1"), "{}", terminal.modes());
    terminal.keys("S");
    terminal.wait_for("the mouse is the terminal's");
    assert!(terminal.modes().starts_with("0 0"), "{}", terminal.modes());
    terminal.keys("S");
    terminal.wait_for("the mouse is Dozor's again");
    let without = demo("--no-mouse", (100, 30));
    assert!(without.modes().starts_with("0 0"), "{}", without.modes());
}

#[test]
fn hints_help_and_the_scroll_bar_answer_to_the_mouse() {
    let terminal = demo("--after 20s", LARGE);
    terminal.click_on("? help", |screen| screen.contains("Look at memory"));
    terminal.click_on("Look at memory", |screen| screen.contains("memory by kind"));
    // The table may move while the screen is looked at: then another drag is needed.
    let dragged = (0..5).any(|_| {
        let (_, row) = terminal.place_of("on top");
        terminal.drag((159, row + 1), (159, 46));
        (0..20).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            let screen = terminal.screen();
            screen.contains("order held") && !first_row(&screen).contains("skycam")
        })
    });
    assert!(dragged, "the end of the list: {}", terminal.screen());
    // A lane's name is dragged to the first place.
    let (column, row) = terminal.place_of("5 heat");
    terminal.drag((column, row), (column, 2));
    terminal.wait("heat first", |screen| screen.lines().nth(2).is_some_and(|line| line.contains("5 heat")));
    terminal.click_on("q quit", |screen| screen.contains("ready>"));
    terminal.assert_restored();
}

#[test]
fn readings_can_be_taken_by_hand() {
    let terminal = demo("--after 20s", (120, 30));
    // What happened before has come.
    terminal.wait_for("own ");
    terminal.keys("i");
    terminal.wait_for("by hand");
    // What was on its way has arrived by then.
    std::thread::sleep(Duration::from_millis(300));
    let time = |screen: &str| {
        let line = screen.lines().next().unwrap_or("").to_owned();
        line.split("LIVE ").nth(1).map(|rest| rest[..8].to_owned())
    };
    let before = time(&terminal.screen());
    std::thread::sleep(Duration::from_millis(2_500));
    assert_eq!(time(&terminal.screen()), before, "nothing comes by itself");
    terminal.keys(".");
    terminal.wait("a new reading", |screen| time(screen) != before);
    terminal.keys("i");
    let now = time(&terminal.screen());
    terminal.wait("readings by themselves", |screen| time(screen) != now);
}

#[test]
fn without_utf8_every_sign_is_ascii_and_without_colour_none_is_sent() {
    let terminal = Terminal::alone("LC_ALL=C NO_COLOR=1 dozor demo --after 60s", LARGE);
    terminal.wait_for("Processes by cpu");
    terminal.keys("3");
    let screen = terminal.wait("the writer", |screen| first_row(screen).contains("stacker"));
    assert!(screen.is_ascii(), "{screen}");
    let with_colours = terminal.tmux(&["capture-pane", "-p", "-e"]);
    for code in (30..38).chain(40..48).chain(90..98).map(|code| code.to_string()) {
        for sent in [format!("[{code}m"), format!(";{code}m"), format!("[{code};"), format!(";{code};")] {
            assert!(!with_colours.contains(&sent), "{sent}");
        }
    }
    assert!(!with_colours.contains("[38;") && !with_colours.contains("[48;"));
}

#[test]
fn neither_a_size_nor_a_key_is_lost_when_both_come_at_once() {
    let terminal = demo("--after 60s", LARGE);
    for round in 0..24u16 {
        let (width, height) = (100 + round, 30 + round % 20);
        let key = if round % 2 == 0 { "3" } else { "2" };
        let (x, y) = (width.to_string(), height.to_string());
        terminal.tmux(&["send-keys", key, ";", "resize-window", "-x", &x, "-y", &y]);
        let title = if round % 2 == 0 { "Processes by disk/s" } else { "Processes by rss" };
        terminal.wait(&format!("{title} at {width} × {height}"), |screen| {
            let hints = screen.lines().last().unwrap_or("");
            screen.contains(title)
                && screen.lines().count() == usize::from(height)
                && hints.contains("q quit")
        });
    }
}
