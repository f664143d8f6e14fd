//! How the inspector is drawn, and what is where.

use super::head::{self, Line};
use super::inspector::{Inspector, Page};
use super::pages::{denied, files_told, looked_at, table as page_table};
use crate::draw::{put, put_right, wrapped};
use crate::look::theme::Role;
use crate::panes::{cell, lanes};
use crate::state::State;
use crate::state::series::STRIPS;
use dozor_core::catalogue::listed;
use dozor_core::inside::close::Calls;
use dozor_core::inside::close::Kind;
use dozor_core::inside::files::progress;
use dozor_core::inside::words::signals_line;
use dozor_core::inside::{FileKind, OpenFile};
use dozor_core::known::Known;
use dozor_core::lane::Lane;
use dozor_core::sorting::ColdSort as _;
use dozor_core::units::{fine_wait, long_bytes, share, short_bytes, short_count};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Modifier;
use unicode_width::UnicodeWidthStr as _;

/// From this width on the head has two columns.
const WIDE: u16 = 120;
/// From this height on strips have two lines on the first page.
const TALL: u16 = 42;
/// Cells of a bar of the close look.
const BAR: u16 = 40;

/// Where everything stands.
struct Plan {
    head: Rect,
    command: Rect,
    axis: Rect,
    strips: Vec<Rect>,
    body: Rect,
}

fn plan(inspector: &Inspector, state: &State, place: Rect) -> Plan {
    let mut y = place.y;
    let mut take = |lines: u16| {
        let left = place.bottom().saturating_sub(y);
        let area = Rect { y, height: lines.min(left), ..place };
        y += area.height;
        area
    };
    let small = place.height < 24;
    let head = take(if place.width >= WIDE || small { 3 } else { 5 });
    let lines = wrapped(&command(inspector, state), place.width).len() as u16;
    let most = match (inspector.page, small) {
        (Page::It, false) => place.height / 5,
        (Page::It, true) => 2,
        (_, _) => 1,
    };
    let command = take(lines.clamp(1, most.max(1)));
    if !small {
        take(1);
    }
    let axis = take(1);
    let height = if place.height >= TALL && inspector.page == Page::It { 2 } else { 1 };
    let strips = STRIPS.iter().map(|_| take(height)).collect();
    if !small {
        take(1);
    }
    let body = take(place.height);
    Plan { head, command, axis, strips, body }
}

fn command(inspector: &Inspector, state: &State) -> String {
    let row = inspector.row(state);
    row.map_or_else(String::new, |row| head::command(inspector.facts_now(state), row))
}

fn put_line(state: &State, buffer: &mut Buffer, x: u16, y: u16, width: u16, line: &Line) {
    let mut at = x;
    for (text, role) in line {
        at = put(buffer, at, y, (x + width).saturating_sub(at), text, state.theme.role(*role));
    }
}

fn width_of(line: &Line) -> u16 {
    line.iter().map(|(text, _)| text.width() as u16).sum()
}

/// Two parts side by side.
fn pair(state: &State, buffer: &mut Buffer, area: Rect, y: u16, left: &Line, right: &Line) {
    // What is short leaves its room to the other.
    let left_over = area.width.saturating_sub(width_of(left) + 3);
    let right_width = width_of(right).min(left_over.max(area.width * 11 / 20));
    let x = area.right().saturating_sub(right_width);
    put_line(state, buffer, area.x, y, area.width.saturating_sub(right_width + 2), left);
    put_line(state, buffer, x, y, right_width, right);
}

/// Words of the pages for the edge, with what they have.
fn tabs(inspector: &Inspector, state: &State) -> Vec<(Page, String)> {
    let row = inspector.row(state);
    let count = |number: Option<i64>| number.map_or_else(String::new, |number| format!(" {number}"));
    let files = inspector.facts_now(state).and_then(|facts| facts.descriptors.value());
    Page::ALL
        .into_iter()
        .map(|page| {
            let number = match page {
                Page::Threads => count(row.and_then(|row| row.threads.value())),
                Page::Files => count(files.or_else(|| row.and_then(|row| row.files.value()))),
                Page::Sockets => count(row.and_then(|row| row.connections.value())),
                Page::It | Page::Memory | Page::Environment | Page::Signals | Page::Ended | Page::History => {
                    String::new()
                }
            };
            (page, format!("{}{number}", page.word()))
        })
        .collect()
}

/// The cells of each tab, from the right edge; where not all have room, those around the present one.
fn tab_places(inspector: &Inspector, state: &State, place: Rect) -> Vec<(Page, String, u16)> {
    let mut tabs = tabs(inspector, state);
    let room = place.width.saturating_sub(inspector.label().width() as u16 + 6);
    let width = |tabs: &[(Page, String)]| tabs.iter().map(|(_, word)| word.width() as u16 + 3).sum::<u16>();
    while width(&tabs) > room && tabs.len() > 1 {
        let at = tabs.iter().position(|(page, _)| *page == inspector.page).unwrap_or(0);
        if at > tabs.len() / 2 { drop(tabs.remove(0)) } else { drop(tabs.pop()) }
    }
    let mut x = place.right().saturating_sub(width(&tabs));
    tabs.into_iter()
        .map(|(page, word)| {
            let at = x + 1;
            x += word.width() as u16 + 3;
            (page, word, at)
        })
        .collect()
}

/// Draws it.
pub fn draw(inspector: &Inspector, state: &State, buffer: &mut Buffer, place: Rect) {
    let theme = &state.theme;
    for (page, word, x) in tab_places(inspector, state, place) {
        let chosen = page == inspector.page;
        let style = theme.role(if chosen { Role::Strong } else { Role::Quiet });
        let style = if chosen { style.add_modifier(Modifier::BOLD | Modifier::UNDERLINED) } else { style };
        put(buffer, x - 1, place.y - 1, 1, " ", style);
        let end = put(buffer, x, place.y - 1, place.right().saturating_sub(x), &word, style);
        put(buffer, end, place.y - 1, 1, " ", theme.role(Role::Quiet));
    }
    let plan = plan(inspector, state, place);
    draw_head(inspector, state, buffer, &plan);
    draw_strips(inspector, state, buffer, &plan);
    if inspector.page == Page::It {
        draw_body(inspector, state, buffer, plan.body);
    } else {
        let table = inspector.table(state);
        let at =
            inspector.at.get(&inspector.page).copied().unwrap_or(0).min(table.rows.len().saturating_sub(1));
        table.draw(theme, buffer, plan.body, at, inspector.order_of(inspector.page));
        let rows = table.rows_area(plan.body);
        let first = (at + 1).saturating_sub(usize::from(rows.height));
        let more = table.rows.len().saturating_sub(first + usize::from(rows.height));
        if more > 0 && rows.y > plan.body.y {
            let text = format!(" {more} more below ");
            put_right(
                buffer,
                rows.right(),
                rows.y.saturating_sub(2).max(plan.body.y - 1),
                20,
                &text,
                theme.role(Role::Quiet),
            );
        }
    }
}

fn draw_head(inspector: &Inspector, state: &State, buffer: &mut Buffer, plan: &Plan) {
    let area = plan.head;
    let facts = inspector.facts_now(state);
    let path = head::path(inspector, state);
    let Some(view) = inspector.view(state) else {
        let moment = state.shown_wall().map_or_else(String::new, |wall| state.time().zone.time(wall));
        let text = if state.time().cursor.is_none() && state.time().mode == crate::state::data::Mode::Live {
            format!(
                "{} is gone; n goes on with its next life, should there be one, [ goes back in time",
                inspector.label()
            )
        } else {
            format!("{} is not there at {moment}", inspector.label())
        };
        put(buffer, area.x, area.y, area.width, &text, state.theme.role(Role::Strong));
        return;
    };
    let doing = head::doing(facts, inspector.row(state));
    let who = head::who(state, facts, &view);
    let scheduling = head::scheduling(facts, view.now);
    let origin = head::origin(state, facts, view.now);
    let limits = head::limits(facts, &view);
    if area.width >= WIDE {
        for (at, (left, right)) in
            [(path, doing), (who, scheduling), (origin, limits)].into_iter().enumerate()
        {
            let y = area.y + at as u16;
            if y < area.bottom() {
                pair(state, buffer, area, y, &left, &right);
            }
        }
    } else {
        let lines = if area.height < 5 {
            vec![path, doing, who]
        } else {
            let second = [scheduling, vec![("   ".to_owned(), Role::Quiet)], limits].concat();
            vec![path, doing, who, origin, second]
        };
        for (y, line) in (area.top()..area.bottom()).zip(lines) {
            put_line(state, buffer, area.x, y, area.width, &line);
        }
    }
    let lines = wrapped(&command(inspector, state), plan.command.width);
    let more = lines.len() > usize::from(plan.command.height);
    for (at, (y, line)) in (plan.command.top()..plan.command.bottom()).zip(&lines).enumerate() {
        let last = more && at + 1 == usize::from(plan.command.height);
        let line = if last { format!("{line} …") } else { line.clone() };
        put(buffer, plan.command.x, y, plan.command.width, &line, state.theme.role(Role::Text));
    }
}

/// The facts beside a strip.
fn strip_facts(inspector: &Inspector, state: &State, strip: usize) -> String {
    let Some(view) = inspector.view(state) else { return String::new() };
    let said = |alias: &'static str| cell::text(state, listed(alias), None, &listed(alias).of(&view));
    match STRIPS[strip].0 {
        Lane::Cpu => {
            let children = listed("cpu_children").of(&view).number().filter(|used| *used > 0.0);
            let children =
                children.map_or_else(String::new, |_| format!("  children {}", said("cpu_children")));
            let waiting = said("core_wait");
            format!("user {}  system {}  waiting {waiting}{children}", said("cpu_user"), said("cpu_system"))
        }
        Lane::Memory => {
            let shared = said("shared");
            let asked = inspector.facts_now(state).and_then(|facts| facts.pss.value());
            let pss = asked.or(view.now.pss_bytes.value());
            let pss = pss.map_or_else(String::new, |pss| format!("  its part {}", short_bytes(pss as f64)));
            format!("shared {shared}  swap {}{pss}", said("swap"))
        }
        Lane::Disk => {
            format!("read {}  write {}  waiting {} %", said("read"), said("write"), said("disk_wait"))
        }
        Lane::Network => {
            format!("in {}  out {}  sockets {}", said("net_in"), said("net_out"), said("connections"))
        }
        Lane::Heat => String::new(),
    }
}

fn draw_strips(inspector: &Inspector, state: &State, buffer: &mut Buffer, plan: &Plan) {
    let theme = &state.theme;
    let (Some(layout), Some(axis)) = (state.layout(), state.lanes().strips.axis) else { return };
    if plan.axis.height == 0 {
        return;
    }
    lanes::draw_axis(state, buffer, Rect { x: 0, ..plan.axis }, &layout, &axis);
    let view = inspector.view(state);
    let bars = inspector.series.bars(state);
    for (number, (lane, alias)) in STRIPS.iter().enumerate() {
        let area = plan.strips[number];
        if area.height == 0 {
            continue;
        }
        let name = match lane {
            Lane::Memory => "memory",
            Lane::Network => "net",
            other => other.name(),
        };
        put(buffer, area.x, area.y, 7, name, theme.role(Role::Lane(*lane)));
        let value = view.as_ref().map_or_else(
            || "–".to_owned(),
            |view| {
                let value = listed(alias).of(view);
                let unit = if *lane == Lane::Cpu && value.number().is_some() { " %" } else { "" };
                format!("{}{unit}", cell::text(state, listed(alias), None, &value))
            },
        );
        put_right(buffer, layout.strip_x - 1, area.y, 8, &value, theme.role(Role::Strong));
        let place = Rect { x: layout.strip_x, width: layout.strip_width, ..area };
        lanes::strip(theme, buffer, place, *lane, &bars[number]);
        let x = layout.facts_x();
        let width = area.right().saturating_sub(x);
        put(buffer, x, area.y, width, &strip_facts(inspector, state, number), theme.role(Role::Text));
    }
    if let Some(shown) = state.shown() {
        let line = Rect { x: 0, width: state.size.0, ..plan.axis };
        lanes::cursor(state, buffer, &layout, &axis, (shown, Some(line)), &plan.strips);
    }
}

/// A line of the first page.
enum Body {
    Title(String),
    Share { percent: f64, words: String, role: Role },
    Text(String, Role),
    Row(Vec<(String, Role)>),
}

/// Files that it moves through or that were removed: what is worth a look without leaving the page.
fn moving_files(inspector: &Inspector, state: &State, width: u16) -> Vec<Body> {
    const MOST: usize = 8;
    let path = usize::from(width / 3).clamp(20, 60);
    let Some((seen, moved)) = files_told(inspector, state) else { return vec![] };
    let list = match seen {
        Known::Value(list) => list,
        Known::Denied => {
            let said = denied(state, "open files").notes.into_iter();
            return said.map(|note| Body::Text(note, Role::Quiet)).collect();
        }
        Known::Absent => return vec![],
    };
    let speed = |file: &OpenFile| moved.get(&file.descriptor).copied().unwrap_or(0.0);
    let mut shown: Vec<&OpenFile> = list
        .iter()
        .filter(|file| {
            speed(file) > 0.0 || file.share_done().is_some() || (file.removed && file.kind == FileKind::File)
        })
        .collect();
    shown.cold_sort_by(|a, b| speed(b).total_cmp(&speed(a)));
    let row = |file: &OpenFile| {
        let pace = match speed(file) {
            0.0 => String::new(),
            speed => format!("{}/s", long_bytes(speed)),
        };
        let far = if file.removed {
            format!(
                "removed but open, holds {}",
                file.holds.value().map_or_else(|| "–".to_owned(), |bytes| long_bytes(bytes as f64))
            )
        } else {
            progress(file, moved.get(&file.descriptor).copied())
        };
        Body::Row(vec![
            (tail(&file.target, path), Role::Strong),
            (format!("  {:<12}", file.mode()), Role::Quiet),
            (format!("{pace:>12}  "), Role::Lane(Lane::Disk)),
            (far, Role::Text),
        ])
    };
    shown.into_iter().take(MOST).map(row).collect()
}

/// System calls that were counted, those with most time first.
fn calls(calls: &Calls) -> Vec<Body> {
    const MOST: usize = 6;
    let mut lines = vec![Body::Text(String::new(), Role::Quiet)];
    let longer = match calls.each_ns {
        none if none <= 0.0 => String::new(),
        each => format!("; meanwhile all calls here take {each:.0} ns longer"),
    };
    lines.push(Body::Title(format!("Its system calls, {} a second{longer}", calls.many())));
    let least = if calls.at_least { "≥" } else { "" };
    for kind in calls.kinds.iter().take(MOST) {
        let bytes = match kind.bytes {
            None => String::new(),
            Some(0) => "  moves nothing".to_owned(),
            Some(bytes) => format!("  {}/s", long_bytes(bytes as f64 / calls.seconds.max(1e-9))),
        };
        let failed = match kind.failed {
            0 => String::new(),
            all if all == kind.count => "  all fail".to_owned(),
            few if few * 100 < kind.count => format!("  {} fail", short_count(few as f64)),
            some => format!("  {} % fail", share(some as f64 / kind.count as f64 * 100.0)),
        };
        let each = fine_wait(kind.seconds / kind.count.max(1) as f64);
        lines.push(Body::Row(vec![
            (format!("{:<18}", kind.name), Role::Strong),
            (format!("{:>8}/s", format!("{least}{}", short_count(calls.rate(kind.count)))), Role::Text),
            (format!("{each:>10} each"), Role::Quiet),
            (format!("{bytes}{failed}"), Role::Text),
        ]));
    }
    let others = calls.kinds.len().saturating_sub(MOST);
    if others > 0 {
        lines.push(Body::Text(format!("and {others} other kinds"), Role::Quiet));
    }
    if calls.kinds.is_empty() {
        let none =
            if calls.at_least { "no call was seen to end meanwhile" } else { "no call ended meanwhile" };
        lines.push(Body::Text(none.to_owned(), Role::Quiet));
    }
    lines
}

fn body(inspector: &Inspector, state: &State) -> Vec<Body> {
    let width = state.size.0.saturating_sub(6);
    let mut lines = vec![];
    if let Some(closely) = &inspector.closely {
        let look = &closely.look;
        let (threads, idle) = look.threads_seen();
        let going = if closely.goes_on { " so far" } else { "" };
        lines.push(Body::Title(format!(
            "Where its time goes: looked closely for {:.1} s{going}, {} times; cost {:.1} % of a core",
            look.seconds(),
            look.looks(),
            look.cost()
        )));
        for line in look.lines().iter().take(7) {
            let role = match line.kind {
                Kind::Running | Kind::InKernel | Kind::Queued => Role::Lane(Lane::Cpu),
                Kind::Blocked => Role::Lane(Lane::Disk),
                _ => Role::Quiet,
            };
            let stack: Vec<&str> = line.stack.iter().take(4).map(|name| &**name).collect();
            let stack =
                if stack.is_empty() { String::new() } else { format!("   kernel: {}", stack.join(" ← ")) };
            let of =
                if threads > 1 { format!("   {} of {threads} threads", line.threads) } else { String::new() };
            lines.push(Body::Share {
                percent: line.percent,
                words: format!("{}{of}{stack}", line.words()),
                role,
            });
        }
        if idle > 0 {
            lines.push(Body::Text(idle_words(idle), Role::Quiet));
        }
        if look.is_denied() {
            let text = "× system calls may not be seen: run dozor as its user or as root".to_owned();
            lines.push(Body::Text(text, Role::Quiet));
        }
        lines.extend(look.calls().map(calls).into_iter().flatten());
        if threads > 1 && look.looks() > 0 {
            lines.push(Body::Text(String::new(), Role::Quiet));
            let table = looked_at(look);
            for row in table.rows.iter().take(8) {
                let cells =
                    row.iter().zip([8usize, 17, 7, 7, 7, 0]).enumerate().map(|(at, (cell, width))| {
                        let text = match at {
                            0 | 2..=4 => format!("{:>width$}", cell.text),
                            _ => format!(" {:<width$}", cell.text),
                        };
                        let word = match at {
                            2 => " % runs",
                            3 => " % blocked",
                            4 => " % waits ",
                            _ => "",
                        };
                        (format!("{text}{word}"), cell.role)
                    });
                lines.push(Body::Row(cells.collect()));
            }
        }
        lines.push(Body::Text(String::new(), Role::Quiet));
    }
    let files = moving_files(inspector, state, width);
    if !files.is_empty() {
        lines.push(Body::Title("Files it moves through".to_owned()));
        lines.extend(files);
        lines.push(Body::Text(String::new(), Role::Quiet));
    }
    if Inspector::is_roomy(state) {
        let several = inspector.row(state).and_then(|row| row.threads.value()) > Some(1);
        if several && inspector.closely.is_none() {
            lines.extend(excerpt(inspector, state, Page::Threads, "Threads that do most", width));
        }
        lines.extend(excerpt(inspector, state, Page::Sockets, "Sockets", width));
    }
    if let Some(facts) = inspector.facts_now(state) {
        let kernel = inspector.row(state).is_some_and(|row| row.kernel.value() == Some(1));
        let said = signals_line(facts, inspector.key.pid, kernel);
        lines.extend(
            wrapped(&said, width)
                .into_iter()
                .filter(|line| !line.is_empty())
                .map(|line| Body::Text(line, Role::Text)),
        );
    } else if !Inspector::asks(state) && !inspector.is_gone(state) {
        let text = "– what is asked of a process itself (directory, limits, signals, files, environment) was not recorded";
        lines.extend(wrapped(text, width).into_iter().map(|line| Body::Text(line, Role::Quiet)));
    }
    let history = page_table(inspector, state, Page::History);
    for row in history.rows.iter().take(3) {
        let text = row.iter().map(|cell| cell.text.as_str()).collect::<Vec<_>>().join("  ");
        lines.push(Body::Text(format!("✶ {text}"), Role::Text));
    }
    lines
}

/// The end of a path, in so many cells: its last part says most.
fn tail(path: &str, cells: usize) -> String {
    let letters = path.chars().count();
    if letters <= cells {
        return format!("{path:<cells$}");
    }
    let end: String = path.chars().skip(letters + 1 - cells).collect();
    format!("…{end}")
}

/// The first rows of another page in its own order, where there is room for them.
fn excerpt(inspector: &Inspector, state: &State, page: Page, title: &str, width: u16) -> Vec<Body> {
    const MOST: usize = 6;
    let mut table = page_table(inspector, state, page);
    if table.rows.is_empty() {
        return vec![];
    }
    let (column, other_way) = page.order();
    table.order(column, other_way);
    let places = table.places(Rect { x: 0, y: 0, width, height: 1 });
    let line = |cells: Vec<(String, Role)>| {
        let mut at = 0;
        let mut parts = vec![];
        for ((number, (x, width)), (text, role)) in places.iter().enumerate().zip(cells) {
            let gap = usize::from(x.saturating_sub(at));
            let width = usize::from(*width);
            let text: String = text.chars().take(width).collect();
            let right = table.columns[number].right && number + 1 < table.columns.len();
            let text = if right {
                format!("{:gap$}{text:>width$}", "")
            } else {
                format!("{:gap$}{text:<width$}", "")
            };
            parts.push((text, role));
            at = x + width as u16;
        }
        Body::Row(parts)
    };
    let mut lines = vec![Body::Title(title.to_owned())];
    lines.push(line(table.columns.iter().map(|column| (column.heading.to_owned(), Role::Quiet)).collect()));
    for row in table.rows.iter().take(MOST) {
        lines.push(line(row.iter().map(|cell| (cell.text.clone(), cell.role)).collect()));
    }
    lines.push(Body::Text(String::new(), Role::Quiet));
    lines
}

fn idle_words(idle: usize) -> String {
    match idle {
        1 => "1 thread did nothing but wait and is not counted above".to_owned(),
        many => format!("{many} threads did nothing but wait and are not counted above"),
    }
}

/// Lines of the first page.
pub fn body_lines(inspector: &Inspector, state: &State) -> usize {
    body(inspector, state).len()
}

fn draw_body(inspector: &Inspector, state: &State, buffer: &mut Buffer, area: Rect) {
    let theme = &state.theme;
    let lines = body(inspector, state);
    let most = lines.len().saturating_sub(usize::from(area.height));
    let first = inspector.at.get(&Page::It).copied().unwrap_or(0).min(most);
    for (y, line) in (area.top()..area.bottom()).zip(lines.iter().skip(first)) {
        match line {
            Body::Title(title) => {
                crate::draw::rule(buffer, Rect { y, height: 1, ..area }, title, theme);
            }
            Body::Text(text, role) => {
                put(buffer, area.x + 1, y, area.width.saturating_sub(2), text, theme.role(*role));
            }
            Body::Row(cells) => put_line(state, buffer, area.x + 1, y, area.width.saturating_sub(2), cells),
            Body::Share { percent, words, role } => {
                let bar = BAR.min(area.width / 4);
                let filled = percent / 100.0 * f64::from(bar) * 8.0;
                for cell in 0..bar {
                    let part = (filled - f64::from(cell) * 8.0).clamp(0.0, 8.0).round() as usize;
                    let (symbol, role) =
                        if part == 0 { ("·", Role::Line) } else { (crate::draw::SIDEWAYS[part], *role) };
                    put(buffer, area.x + 1 + cell, y, 1, symbol, theme.role(role));
                }
                let x = area.x + bar + 3;
                put_right(buffer, x + 6, y, 6, &format!("{} %", share(*percent)), theme.role(Role::Strong));
                put(buffer, x + 9, y, area.right().saturating_sub(x + 9), words, theme.role(Role::Text));
            }
        }
    }
    let more = lines.len().saturating_sub(first + usize::from(area.height));
    if more > 0 {
        let text = format!(" {more} more below ");
        put_right(buffer, area.right(), area.y.saturating_sub(1), 20, &text, theme.role(Role::Quiet));
    }
}

/// A click: on a tab, on the time, on a heading, on a row.
pub fn clicked(inspector: &mut Inspector, at: Position, place: Rect, state: &mut State) {
    if at.y + 1 == place.y {
        let tabs = tab_places(inspector, state, place);
        let hit = tabs.into_iter().find(|(_, word, x)| (*x..*x + word.width() as u16).contains(&at.x));
        if let Some((page, ..)) = hit {
            inspector.turn_page(state, page);
        }
        return;
    }
    let plan = plan(inspector, state, place);
    let on_time = plan.axis.contains(at) || plan.strips.iter().any(|strip| strip.contains(at));
    if on_time {
        if let Some(layout) = state.layout()
            && (layout.strip_x..layout.strip_x + layout.strip_width).contains(&at.x)
        {
            state.go_to_column(at.x - layout.strip_x);
        }
        return;
    }
    if inspector.page == Page::It || !plan.body.contains(at) {
        return;
    }
    let table = inspector.table(state);
    if at.y == table.heading_y(plan.body) {
        let places = table.places(plan.body);
        if let Some(column) =
            places.iter().position(|(x, width)| *width > 0 && (*x..*x + width + 2).contains(&at.x))
        {
            inspector.order_by(column);
        }
        return;
    }
    let chosen = inspector.at.get(&inspector.page).copied().unwrap_or(0);
    let seen = crate::draw::list::Seen::around(table.rows_area(plan.body), chosen);
    if let Some(row) = seen.line_at(at.y).filter(|row| *row < table.rows.len()) {
        inspector.at.insert(inspector.page, row);
    }
}
