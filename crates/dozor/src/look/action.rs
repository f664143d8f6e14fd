//! The table of actions: name, keys, topic and help of everything that a person can do.
//!
//! The key map ([`crate::look::keymap`]), the hint line, the help page, the prompt for commands and `docs/keys.md` come from
//! this table. Keys can be changed in the settings.

use dozor_core::lane::Lane;
use dozor_core::rank::Arrange;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What a person can do on the screen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the table below says what each does")]
pub enum Action {
    Lane(Lane),
    Overview,
    NextLane,
    PreviousLane,
    Go(Move),
    Narrow,
    GoTo,
    NextMatch,
    Parent,
    PreviousMatch,
    Order,
    OtherWay,
    Arrange,
    ArrangeBy(Arrange),
    Open,
    Close,
    FoldRows,
    Threads,
    KernelThreads,
    ActiveOnly,
    Whose,
    Columns,
    CommandForm,
    PanRight,
    PanLeft,
    Percent,
    Mean,
    Units,
    Times,
    NextView,
    SaveView,
    Mark,
    MarkAll,
    InvertMarks,
    ClearMarks,
    Act,
    Inspect,
    Holders,
    Ports,
    Undo,
    Journal,
    Charts,
    Findings,
    Export,
    SaveScreen,
    SaveScreenPdf,
    Freeze,
    StepBack,
    StepOn,
    TenBack,
    TenOn,
    Begin,
    End,
    Live,
    GoToTime,
    Peak,
    NextTrouble,
    PreviousTrouble,
    Difference,
    Zone,
    Record,
    Plus,
    Minus,
    ByHand,
    ReadNow,
    Parts,
    PreviousParts,
    Fold,
    Hide,
    AllLanes,
    LaneUp,
    LaneDown,
    Wider,
    Narrower,
    Means,
    Bookmark,
    PreviousSign,
    NextSign,
    CopyPid,
    CopyCommand,
    Commands,
    Settings,
    Theme,
    Mouse,
    Back,
    Help,
    Suspend,
    Redraw,
    Quit,
}

/// Ways to go in a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Move {
    /// To the next.
    Down,
    /// To the one before.
    Up,
    /// A screenful down.
    PageDown,
    /// A screenful up.
    PageUp,
    /// To the first.
    First,
    /// To the last.
    Last,
}

/// Chapters of the help page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Topic {
    /// Lanes and the overview.
    Lanes,
    /// Processes.
    Processes,
    /// Time.
    Time,
    /// The program itself.
    Program,
}

impl Topic {
    /// All chapters in order.
    pub const ALL: [Topic; 4] = [Topic::Lanes, Topic::Processes, Topic::Time, Topic::Program];

    /// Title of the chapter.
    pub const fn title(self) -> &'static str {
        match self {
            Topic::Lanes => "Resources",
            Topic::Processes => "Processes",
            Topic::Time => "Time",
            Topic::Program => "Dozor",
        }
    }
}

/// One row of the table.
pub struct Entry {
    /// What it does.
    pub action: Action,
    /// Its name.
    pub name: &'static str,
    /// Keys that do it unless the settings say otherwise; none for what is done by its name.
    pub keys: &'static [&'static str],
    /// Chapter of the help page.
    pub topic: Topic,
    /// What happens, in a sentence.
    pub help: &'static str,
    /// Word for the hint line, empty where it is not shown there.
    pub hint: &'static str,
}

const fn entry(
    action: Action,
    name: &'static str,
    keys: &'static [&'static str],
    topic: Topic,
    hint: &'static str,
    help: &'static str,
) -> Entry {
    Entry { action, name, keys, topic, help, hint }
}

/// Everything that can be done, in the order of the hint line and the help page.
#[rustfmt::skip]
pub static ACTIONS: &[Entry] = &[
    entry(Action::Act, "act", &["x"], Topic::Processes, "act", "Do something to the selected process, the marked ones, or a family: stop it, pause it, give it less CPU, other cores, other limits. What ends or pauses somebody asks first, with everybody named; what can be undone is done at once."),
    entry(Action::Inspect, "inspect", &["enter"], Topic::Processes, "inspect", "Look into the selected process: who it is, how it is, what it waits for, its threads, files, sockets, memory."),
    entry(Action::Holders, "who has it open", &["Q"], Topic::Processes, "", "Show who has which file, folder or device open; where a file system is chosen among the parts, who uses it and why it cannot be unmounted; removed files that still take room."),
    entry(Action::Ports, "who listens", &["I"], Topic::Processes, "", "Show the ports that somebody listens on, with the processes, how many wait and what was dropped."),
    entry(Action::Undo, "undo", &["u"], Topic::Processes, "", "Take back what was done last: niceness, cores, priorities, limits, a pause. Again: what was done before that."),
    entry(Action::Journal, "journal", &["X"], Topic::Processes, "", "Show what was done to processes, when, by whom, and what became of it."),
    entry(Action::Findings, "what stood out", &["w"], Topic::Time, "findings", "Show what stands out and what stood out before: when it began, who does it, the numbers that speak for it, what it explains, what was ruled out, what to do next."),
    entry(Action::Charts, "chart this", &["E"], Topic::Processes, "", "Draw the selected part or process, or the marked ones, over time: metrics of your choice in several panes, with zoom, pan and the values at the cursor."),
    entry(Action::Export, "export", &["e"], Topic::Processes, "", "Save what is shown: charts and the screen as SVG or PDF, the table as CSV, JSON or Parquet, a report as PDF, HTML or Markdown."),
    entry(Action::SaveScreen, "save the screen", &[], Topic::Program, "", "Save a picture of the screen as SVG in the folder that Dozor was started in."),
    entry(Action::SaveScreenPdf, "save the screen as PDF", &[], Topic::Program, "", "Save a picture of the screen as a page."),
    entry(Action::Narrow, "narrow", &["/"], Topic::Processes, "narrow", "Show only processes that an expression holds for: plain words, or such as cpu > 20% and user = astro. tab completes, up and down recall."),
    entry(Action::GoTo, "go to", &["g"], Topic::Processes, "", "Select the next process that an expression holds for, without hiding the others."),
    entry(Action::NextMatch, "next match", &["n"], Topic::Processes, "", "Go to the next process of the last search."),
    entry(Action::PreviousMatch, "previous match", &["N"], Topic::Processes, "", "Go to the one before."),
    entry(Action::Parent, "parent", &["backspace"], Topic::Processes, "", "Select the parent of the selected process: who started it, and who has to collect it when it is a zombie."),
    entry(Action::Order, "order", &["o"], Topic::Processes, "order", "Choose the column that processes are ordered by; tab chooses the second one, for ties."),
    entry(Action::OtherWay, "order the other way", &["O"], Topic::Processes, "", "Turn the order round."),
    entry(Action::Arrange, "arrange", &["v"], Topic::Processes, "arrange", "Choose the arrangement: flat, family tree, by program, user, service or container."),
    entry(Action::ArrangeBy(Arrange::Flat), "arrange flat", &[], Topic::Processes, "", "One process below the other."),
    entry(Action::ArrangeBy(Arrange::Family), "arrange as a family tree", &[], Topic::Processes, "", "Children below their parents."),
    entry(Action::ArrangeBy(Arrange::Program), "arrange by program", &[], Topic::Processes, "", "One row for each program, with totals."),
    entry(Action::ArrangeBy(Arrange::User), "arrange by user", &[], Topic::Processes, "", "One row for each user, with totals."),
    entry(Action::ArrangeBy(Arrange::Service), "arrange by service", &[], Topic::Processes, "", "One row for each service or session, with totals."),
    entry(Action::ArrangeBy(Arrange::Container), "arrange by container", &[], Topic::Processes, "", "One row for each container, with totals."),
    entry(Action::Open, "open row", &["right"], Topic::Processes, "", "Show what is below the selected row: children, members, threads. In a row with nothing below it: pan the command."),
    entry(Action::Close, "fold row", &["left"], Topic::Processes, "", "Fold what is below the selected row; again: go to the row above it."),
    entry(Action::FoldRows, "fold all rows", &["F"], Topic::Processes, "", "Fold all rows, or open all."),
    entry(Action::Threads, "threads", &["t"], Topic::Processes, "", "Show the threads below each process, or hide them. It costs two files for each thread."),
    entry(Action::KernelThreads, "kernel threads", &["#"], Topic::Processes, "", "Show or hide the threads of the kernel."),
    entry(Action::ActiveOnly, "active only", &["a"], Topic::Processes, "", "Show only processes that do something, or all again."),
    entry(Action::Whose, "whose", &["W"], Topic::Processes, "", "Show everyone's processes, only yours, only those of others."),
    entry(Action::Columns, "columns", &["c"], Topic::Processes, "columns", "Choose the columns of this lane, their order, width and unit; save them under a name."),
    entry(Action::CommandForm, "command", &["l"], Topic::Processes, "", "Show the program with its arguments, the whole command line, or only the name."),
    entry(Action::PanRight, "pan right", &["shift-right"], Topic::Processes, "", "Move along command lines that are too long."),
    entry(Action::PanLeft, "pan left", &["shift-left"], Topic::Processes, "", "Move back."),
    entry(Action::Percent, "percent", &["%"], Topic::Processes, "", "Show shares of CPU time in percent of one core, or of the whole machine."),
    entry(Action::Mean, "current or mean", &["~"], Topic::Processes, "", "Show rates of the last sample, or their mean over 5, 10 or 30 seconds."),
    entry(Action::NextView, "next view", &["s"], Topic::Processes, "", "Go to the next saved view: lanes, columns, order, narrowing and arrangement together."),
    entry(Action::SaveView, "save view", &[], Topic::Processes, "", "Keep what is shown now as a view, under a name."),
    entry(Action::Mark, "mark", &["m", "insert"], Topic::Processes, "mark", "Mark the selected process, or take the mark off, and go to the next row. In a row of several: all of them."),
    entry(Action::MarkAll, "mark all", &["A"], Topic::Processes, "", "Mark all processes that are shown."),
    entry(Action::InvertMarks, "invert marks", &["R"], Topic::Processes, "", "Mark those of the shown processes that are not marked, and only them."),
    entry(Action::ClearMarks, "clear marks", &["M"], Topic::Processes, "", "Take all marks off."),
    entry(Action::Go(Move::Down), "next row", &["down", "j"], Topic::Processes, "", "Select the next process. The order holds still for a moment while you choose."),
    entry(Action::Go(Move::Up), "previous row", &["up", "k"], Topic::Processes, "", "Select the previous process."),
    entry(Action::Go(Move::PageDown), "page down", &["pagedown", "ctrl-f"], Topic::Processes, "", "Go a screenful down."),
    entry(Action::Go(Move::PageUp), "page up", &["pageup", "ctrl-b"], Topic::Processes, "", "Go a screenful up."),
    entry(Action::Go(Move::First), "first row", &["home"], Topic::Processes, "", "Select the first process."),
    entry(Action::Go(Move::Last), "last row", &["end", "G"], Topic::Processes, "", "Select the last process."),
    entry(Action::Lane(Lane::Cpu), "cpu", &["1"], Topic::Lanes, "", "Look at the processors: columns and order fit them."),
    entry(Action::Lane(Lane::Memory), "memory", &["2"], Topic::Lanes, "", "Look at memory and swap."),
    entry(Action::Lane(Lane::Disk), "disk", &["3"], Topic::Lanes, "", "Look at the disks."),
    entry(Action::Lane(Lane::Network), "network", &["4"], Topic::Lanes, "", "Look at the network."),
    entry(Action::Lane(Lane::Heat), "heat", &["5"], Topic::Lanes, "", "Look at the temperatures."),
    entry(Action::Overview, "overview", &["0"], Topic::Lanes, "", "Look at everything: the busiest processes."),
    entry(Action::NextLane, "next lane", &["tab"], Topic::Lanes, "lane", "Go to the next lane."),
    entry(Action::PreviousLane, "previous lane", &["backtab"], Topic::Lanes, "", "Go to the previous lane."),
    entry(Action::Parts, "parts", &["p"], Topic::Lanes, "parts", "Choose among the lane's parts with the arrow keys: the processes below are those that use it. Again: the next kind of part."),
    entry(Action::PreviousParts, "previous parts", &["P"], Topic::Lanes, "", "The kind of part before it."),
    entry(Action::Fold, "fold", &["f"], Topic::Lanes, "", "Fold the chosen lane to one line, or unfold it; in the overview all of them."),
    entry(Action::Hide, "hide lane", &["h"], Topic::Lanes, "", "Hide the chosen lane. Its number still chooses it."),
    entry(Action::AllLanes, "all lanes", &["H"], Topic::Lanes, "", "Show all lanes again, unfolded and in their first order."),
    entry(Action::LaneUp, "lane up", &["K", "shift-up"], Topic::Lanes, "", "Move the chosen lane up."),
    entry(Action::LaneDown, "lane down", &["J", "shift-down"], Topic::Lanes, "", "Move the chosen lane down."),
    entry(Action::Wider, "more time", &["z"], Topic::Time, "more time", "Let each column of the strips stand for more time, up to hours."),
    entry(Action::Narrower, "less time", &["Z"], Topic::Time, "", "Let each column stand for less time, down to one reading."),
    entry(Action::Means, "peaks or means", &["^"], Topic::Time, "", "Show the mean of a column's readings instead of the largest, or back."),
    entry(Action::Freeze, "freeze", &["space"], Topic::Time, "freeze", "Hold this moment, or go on. In a replay: pause and play."),
    entry(Action::StepBack, "step back", &["["], Topic::Time, "step back", "Go one sample back in time; everything shows that moment."),
    entry(Action::StepOn, "step on", &["]"], Topic::Time, "on", "Go one sample on."),
    entry(Action::TenBack, "ten steps back", &["{"], Topic::Time, "", "Go ten samples back."),
    entry(Action::TenOn, "ten steps on", &["}"], Topic::Time, "", "Go ten samples on."),
    entry(Action::Begin, "beginning", &["<"], Topic::Time, "", "Go to the oldest sample that is kept, or to the start of a replay."),
    entry(Action::End, "end", &[">"], Topic::Time, "", "Go to the newest sample, or to the end of a replay."),
    entry(Action::GoToTime, "go to a time", &["@"], Topic::Time, "time", "Type a time to go to: 02:10, yesterday 14:00, 2031-02-14 02:10, -5m, 10m ago."),
    entry(Action::Peak, "peak", &["!"], Topic::Time, "", "Go to the moment at which the selected process had most of what processes are ordered by; without a selection, to the highest of the chosen lane."),
    entry(Action::NextTrouble, "next trouble", &[";"], Topic::Time, "", "Go on to where something begins to stand out: a warning or worse."),
    entry(Action::PreviousTrouble, "previous trouble", &["'"], Topic::Time, "", "Go back to the last such beginning."),
    entry(Action::Difference, "difference", &["d"], Topic::Time, "difference", "Remember this moment; at another one: show what differs between the two, most first."),
    entry(Action::Zone, "time zone", &["C"], Topic::Time, "", "Show times in the zone of the machine that was recorded, or in that of this one."),
    entry(Action::Live, "live", &["L"], Topic::Time, "", "Follow the present again; in a replay the end of the recording, should it still grow."),
    entry(Action::Bookmark, "bookmark", &["b"], Topic::Time, "", "Put a sign with a note at the shown moment."),
    entry(Action::PreviousSign, "previous sign", &["("], Topic::Time, "", "Go back to the sign or gap before: a bookmark, something that was done, missing readings."),
    entry(Action::NextSign, "next sign", &[")"], Topic::Time, "", "Go on to the next sign or gap."),
    entry(Action::Record, "record", &["r"], Topic::Time, "record", "Write a recording into the working directory, or end it."),
    entry(Action::Plus, "longer interval", &["+", "="], Topic::Program, "faster", "Read less often; it costs less. In a replay: play faster, up to 64 times."),
    entry(Action::Minus, "shorter interval", &["-"], Topic::Program, "", "Read more often; it costs more. In a replay: play slower, down to a quarter."),
    entry(Action::ByHand, "by hand", &["i"], Topic::Program, "", "Read only when you ask for it, or again by itself."),
    entry(Action::ReadNow, "read now", &["."], Topic::Program, "", "Take one reading now."),
    entry(Action::CopyPid, "copy the PID", &["y"], Topic::Processes, "", "Copy the PID of the selected process to the clipboard of your terminal (OSC 52), of the marked ones all."),
    entry(Action::CopyCommand, "copy the command", &["Y"], Topic::Processes, "", "Copy the command line instead."),
    entry(Action::Commands, "commands", &[":"], Topic::Program, "anything", "Find anything that can be done by its name, and do it."),
    entry(Action::Settings, "settings", &[","], Topic::Program, "", "Look at the settings and change them; they stay."),
    entry(Action::Units, "units", &["U"], Topic::Program, "", "Show sizes in binary steps (KiB, MiB) or in decimal ones (kB, MB)."),
    entry(Action::Times, "times", &["D"], Topic::Program, "", "Show times as the clock shows them, or counted back from now."),
    entry(Action::Theme, "colours", &["T"], Topic::Program, "", "Next theme: for a dark background, a light one, your own, without colour."),
    entry(Action::Mouse, "mouse", &["S"], Topic::Program, "", "Leave the mouse to the terminal, so that text can be selected with it; again: take it back."),
    entry(Action::Help, "help", &["?", "f1"], Topic::Program, "help", "Show all keys; letters search."),
    entry(Action::Back, "back", &["esc"], Topic::Program, "", "Close what is open; else take off the narrowing; else the selection."),
    entry(Action::Suspend, "suspend", &["ctrl-z"], Topic::Program, "", "Back to the shell; its fg brings Dozor back."),
    entry(Action::Redraw, "redraw", &["ctrl-l"], Topic::Program, "", "Draw everything anew, should something else have written on the screen."),
    entry(Action::Quit, "quit", &["q", "ctrl-c"], Topic::Program, "quit", "Leave. A recording that runs is ended properly."),
];

/// What people call things in general, beside the names of the table.
pub static ALSO_CALLED: &[(Action, &str)] = &[
    (Action::Act, "kill stop end terminate pause signal priority nice"),
    (Action::Narrow, "filter search find grep where port user"),
    (Action::GoTo, "search find jump"),
    (Action::Order, "sort rank top"),
    (Action::OtherWay, "sort reverse descending ascending"),
    (Action::Arrange, "group tree"),
    (Action::ArrangeBy(Arrange::Family), "tree hierarchy children"),
    (Action::ArrangeBy(Arrange::Program), "group"),
    (Action::ArrangeBy(Arrange::User), "group"),
    (Action::ArrangeBy(Arrange::Service), "group unit cgroup"),
    (Action::ArrangeBy(Arrange::Container), "group pod"),
    (Action::Columns, "fields"),
    (Action::Mark, "tag"),
    (Action::Freeze, "pause hold stop"),
    (Action::Record, "save log export write file"),
    (Action::Bookmark, "note comment annotate"),
    (Action::Difference, "compare diff"),
    (Action::Minus, "refresh rate delay"),
    (Action::Plus, "refresh rate delay"),
    (Action::ReadNow, "refresh update"),
    (Action::Lane(Lane::Memory), "ram swap"),
    (Action::Lane(Lane::Disk), "io storage"),
    (Action::Lane(Lane::Network), "port connections traffic socket"),
    (Action::Lane(Lane::Heat), "temperature fan sensor battery"),
    (Action::Settings, "options preferences configuration setup"),
    (Action::Theme, "theme dark light color"),
    (Action::Live, "resume now continue"),
    (Action::CopyCommand, "clipboard"),
    (Action::CopyPid, "clipboard"),
    (Action::Quit, "exit leave"),
];

/// Other words for an action, with blanks between them.
pub fn also_called(action: Action) -> &'static str {
    ALSO_CALLED.iter().find(|(other, _)| *other == action).map_or("", |(_, words)| words)
}

/// The table's row of an action.
pub fn entry_of(action: Action) -> Option<&'static Entry> {
    ACTIONS.iter().find(|entry| entry.action == action)
}

/// Name of a key as the table writes it.
pub fn key_name(key: &KeyEvent) -> String {
    let name = match key.code {
        KeyCode::Char(' ') => "space".to_owned(),
        KeyCode::Char(letter) => letter.to_string(),
        KeyCode::F(number) => format!("f{number}"),
        other => other.to_string().to_lowercase().replace(' ', ""),
    };
    let name = match name.as_str() {
        "pgup" => "pageup".to_owned(),
        "pgdn" | "pgdown" => "pagedown".to_owned(),
        "ins" => "insert".to_owned(),
        _ => name,
    };
    let is_letter = matches!(key.code, KeyCode::Char(_) | KeyCode::BackTab);
    if key.modifiers.contains(KeyModifiers::SHIFT) && !is_letter {
        format!("shift-{name}")
    } else if key.modifiers.contains(KeyModifiers::CONTROL) {
        format!("ctrl-{}", name.to_lowercase())
    } else if key.modifiers.contains(KeyModifiers::ALT) {
        format!("alt-{name}")
    } else {
        name
    }
}

/// Keys with a name of their own.
const NAMED: [(&str, KeyCode); 15] = [
    ("space", KeyCode::Char(' ')),
    ("enter", KeyCode::Enter),
    ("esc", KeyCode::Esc),
    ("tab", KeyCode::Tab),
    ("backtab", KeyCode::BackTab),
    ("backspace", KeyCode::Backspace),
    ("delete", KeyCode::Delete),
    ("insert", KeyCode::Insert),
    ("home", KeyCode::Home),
    ("end", KeyCode::End),
    ("pageup", KeyCode::PageUp),
    ("pagedown", KeyCode::PageDown),
    ("up", KeyCode::Up),
    ("down", KeyCode::Down),
    ("left", KeyCode::Left),
];

/// The key with this name; none where there is no such key or the name stands for several.
pub fn key_of(name: &str) -> Option<KeyEvent> {
    for (prefix, modifier) in
        [("ctrl-", KeyModifiers::CONTROL), ("alt-", KeyModifiers::ALT), ("shift-", KeyModifiers::SHIFT)]
    {
        if let Some(rest) = name.strip_prefix(prefix).filter(|rest| !rest.is_empty()) {
            let key = key_of(rest)?;
            return key.modifiers.is_empty().then(|| KeyEvent::new(key.code, modifier));
        }
    }
    let mut letters = name.chars();
    let named = NAMED.iter().find(|(other, _)| *other == name).map(|(_, code)| *code);
    let function =
        name.strip_prefix('f').and_then(|number| number.parse().ok()).filter(|n| (1..=24).contains(n));
    let code = match (letters.next(), letters.next()) {
        _ if named.is_some() => named?,
        _ if name == "right" => KeyCode::Right,
        (Some(letter), None) => KeyCode::Char(letter),
        _ => KeyCode::F(function?),
    };
    Some(KeyEvent::new(code, KeyModifiers::NONE))
}

/// Names of keys that are no letters, for finding the nearest to a misspelt one.
pub fn key_names() -> impl Iterator<Item = &'static str> {
    NAMED.iter().map(|(name, _)| *name).chain(["right"])
}

/// The text of `docs/keys.md`.
#[cfg(test)]
pub fn markdown() -> String {
    use std::fmt::Write as _;
    let mut out = String::from(
        "# Keys\n\nMade from the table of actions (`crates/dozor/src/look/action.rs`); a test keeps it current.\n\nThe \
         mouse does the same: a click on a heading orders by it (again: the other way), on a row selects it, on a \
         lane's name chooses the lane, on a strip goes to that time (and drags the time cursor), on a part shows \
         its users, two clicks on a row look into its process, on a hint or a line of the help does what it says. The wheel moves what is under it: rows, \
         parts, or the time of a column over the strips. A lane's name can be dragged to another place, a \
         right click folds it; the scroll bar can be dragged.\n",
    );
    for topic in Topic::ALL {
        let _ = write!(out, "\n## {}\n\n| keys | name | what happens |\n|---|---|---|\n", topic.title());
        for entry in ACTIONS.iter().filter(|entry| entry.topic == topic) {
            let keys: Vec<String> = entry.keys.iter().map(|key| format!("`{key}`")).collect();
            let _ = writeln!(out, "| {} | {} | {} |", keys.join(" "), entry.name, entry.help);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_action_has_a_row_and_every_key_one_meaning() {
        let mut keys = HashSet::new();
        let mut names = HashSet::new();
        for entry in ACTIONS {
            assert!(names.insert(entry.name), "{} stands twice", entry.name);
            assert!(entry.help.ends_with('.'), "{}", entry.name);
            assert_eq!(entry_of(entry.action).map(|entry| entry.name), Some(entry.name));
            for key in entry.keys {
                assert!(keys.insert(key), "{key} has two meanings");
                assert_eq!(key_of(key).map(|event| key_name(&event)).as_deref(), Some(*key));
            }
        }
    }

    #[test]
    fn keys_of_the_terminal_find_their_action() {
        let map = crate::look::keymap::KeyMap::default();
        let action_of = |key: &KeyEvent| map.action(key);
        let plain = |code| KeyEvent::new(code, KeyModifiers::NONE);
        for (key, action) in [
            (plain(KeyCode::Char('x')), Action::Act),
            (KeyEvent::new(KeyCode::Char('O'), KeyModifiers::SHIFT), Action::OtherWay),
            (plain(KeyCode::Char(' ')), Action::Freeze),
            (plain(KeyCode::PageDown), Action::Go(Move::PageDown)),
            (plain(KeyCode::Insert), Action::Mark),
            (plain(KeyCode::Esc), Action::Back),
            (plain(KeyCode::Tab), Action::NextLane),
            (KeyEvent::new(KeyCode::BackTab, KeyModifiers::SHIFT), Action::PreviousLane),
            (KeyEvent::new(KeyCode::Char('z'), KeyModifiers::CONTROL), Action::Suspend),
            (plain(KeyCode::F(1)), Action::Help),
        ] {
            assert_eq!(action_of(&key), Some(action), "{key:?} is {:?}", key_name(&key));
        }
        assert_eq!(action_of(&plain(KeyCode::Char('V'))), None);
        assert_eq!(action_of(&KeyEvent::new(KeyCode::Up, KeyModifiers::SHIFT)), Some(Action::LaneUp));
    }
}
