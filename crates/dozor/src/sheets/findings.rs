//! What stood out, over time: when each began and ended, who did it, with the numbers that speak for it.

use super::limits::LimitsSheet;
use super::{After, List, Room, Sheet, more_below, moves, moving, seen};
use crate::draw::{put, put_right, wrapped};
use crate::look::action::Action;
use crate::look::theme::Role;
use crate::state::State;
use crate::state::axis::Axis;
use dozor_core::chart::{Wish, gather};
use dozor_core::findings::{Advice, Evidence, Finding, Step};
use dozor_core::lane::{Lane, Severity};
use dozor_core::sorting::ColdSort as _;
use dozor_core::units::{NANOS, long_duration};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// Cells of an evidence's strip.
const STRIP: u16 = 36;
/// Time before the beginning that a strip shows, and at most after it.
const BEFORE: i64 = 40 * NANOS;
const AFTER: i64 = 120 * NANOS;
/// Cells of a finding's name in the list, and where there is room.
const NAME: [u16; 2] = [34, 44];
/// For how long one is quiet about a finding.
const QUIET: i64 = 3_600 * NANOS;

/// What stood out.
pub struct FindingsSheet {
    /// Numbers of the findings in the list.
    listed: Vec<usize>,
    at: usize,
    /// Values around the beginning of the opened one, for each of its evidence.
    strips: Vec<Vec<Option<f64>>>,
    /// Which one they are of, and up to when.
    strips_of: Option<(usize, i64)>,
    narrow: bool,
}

impl FindingsSheet {
    /// All that stood out in the time on the axis.
    pub fn open(state: &mut State) -> FindingsSheet {
        let mut sheet = FindingsSheet {
            listed: vec![],
            at: 0,
            strips: vec![],
            strips_of: None,
            narrow: state.size.0 < 110,
        };
        sheet.list_anew(state);
        sheet.look(state);
        state.have_seen_findings();
        sheet
    }

    fn list_anew(&mut self, state: &State) {
        let chosen = self.listed.get(self.at).copied();
        let Some(wall) = state.shown_wall() else { return };
        let from = state.lanes().strips.axis.map_or(i64::MIN, |axis| axis.begin(0));
        let history = state.history();
        let standing: Vec<usize> = history.at(wall).iter().map(|one| one.number).collect();
        // Then what is over, the newest first.
        let mut over: Vec<&Finding> = history
            .all()
            .iter()
            .filter(|one| one.until_ns >= from && one.under.is_none() && !standing.contains(&one.number))
            .collect();
        over.cold_sort_by_key(|one| std::cmp::Reverse((one.from_ns, one.number)));
        self.listed = standing.into_iter().chain(over.into_iter().map(|one| one.number)).collect();
        // The opened one stays open.
        let place = chosen.and_then(|number| self.listed.iter().position(|other| *other == number));
        self.at = place.unwrap_or(self.at).min(self.listed.len().saturating_sub(1));
    }

    fn chosen<'a>(&self, state: &'a State) -> Option<&'a Finding> {
        state.history().find(*self.listed.get(self.at)?)
    }

    /// Values around the beginning of the opened one.
    fn look(&mut self, state: &State) {
        let Some(finding) = self.chosen(state) else {
            (self.strips, self.strips_of) = (vec![], None);
            return;
        };
        let until = finding.until_ns.min(finding.from_ns + AFTER);
        if self.strips_of == Some((finding.number, until)) {
            return;
        }
        self.strips_of = Some((finding.number, until));
        let (from, columns) = (finding.from_ns - BEFORE, usize::from(STRIP));
        let timeline = &state.time().timeline;
        let numbers = timeline.at(from).max(timeline.first())..(timeline.at(until) + 1).min(timeline.end());
        let told = finding.last().evidence.iter();
        let strips = told.map(|evidence| {
            let mut strip = vec![None; columns];
            let Ok(wish) = Wish::parse(&evidence.metric) else { return strip };
            let Ok(found) = gather(timeline, numbers.clone(), &[wish], &|_| false, columns) else {
                return strip;
            };
            let span = (until - from).max(1);
            for point in found.series.into_iter().flatten().take(1).flat_map(|series| series.points) {
                let column = |wall: i64| {
                    ((i128::from(wall - from) * columns as i128 / i128::from(span)).max(0) as usize)
                        .min(columns - 1)
                };
                for cell in &mut strip[column(point.from_ns + 1)..=column(point.until_ns)] {
                    let before = cell.unwrap_or(f64::MIN);
                    *cell = Some(point.high.max(before));
                }
            }
            strip
        });
        self.strips = strips.collect();
    }

    fn lines_of_list(&self, height: u16) -> u16 {
        (self.listed.len() as u16).clamp(1, (height / 3).max(3))
    }

    fn draw_list(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let wall = state.shown_wall().unwrap_or(0);
        let list = seen(self, place, self.at);
        let name_width = NAME[usize::from(place.width >= 118)];
        let (bars_x, bars) = (place.x + name_width, place.width.saturating_sub(name_width + 46));
        let axis = state.lanes().strips.axis.filter(|_| bars >= 12).map(|axis| squeezed(&axis, bars));
        if let Some(axis) = axis {
            for (column, at) in axis.ticks(state.time().zone.offset_seconds(axis.end)) {
                let text = format!("╵{}", state.time().zone.time(at));
                put(
                    buffer,
                    bars_x + column,
                    place.y,
                    bars.saturating_sub(column),
                    &text,
                    theme.role(Role::Quiet),
                );
            }
        }
        let lines: Vec<&Finding> =
            self.listed.iter().filter_map(|number| state.history().find(*number)).collect();
        list.draw(theme, buffer, &lines, |buffer, y, one, _| {
            let told = one.at(wall.max(one.from_ns));
            let stands = one.stood(wall);
            let severity = if stands { told.severity } else { one.worst };
            let hue = theme.role(Role::Severity(severity));
            let words = theme.role(if stands { Role::Strong } else { Role::Quiet });
            put(buffer, place.x, y, 1, &severity.sign().to_string(), if stands { hue } else { words });
            let new = if state.is_new(one) { "new: " } else { "" };
            let name = format!("{new}{}", short_title(one));
            put(buffer, place.x + 2, y, name_width - 3, &name, words);
            if let Some(axis) = axis {
                let column =
                    |wall: i64| axis.column(wall).unwrap_or(if wall < axis.end { 0 } else { bars - 1 });
                let (from, until) = (column(one.from_ns), column(one.until_ns));
                for x in from..=until.min(bars - 1) {
                    let style = if stands { hue } else { theme.role(Role::Quiet) };
                    put(
                        buffer,
                        bars_x + x,
                        y,
                        1,
                        if severity >= Severity::Warning { "▄" } else { "▂" },
                        style,
                    );
                }
            }
            let length = long_duration(one.seconds().round());
            let length = if let Some(until) = state.quiet_until(one, wall) {
                if until == i64::MAX { "dismissed" } else { "quiet" }.to_owned()
            } else if stands {
                length
            } else {
                format!("over, {length}")
            };
            let x = bars_x + if axis.is_some() { bars + 2 } else { 0 };
            put(buffer, x, y, 17, &length, theme.role(Role::Quiet));
            let who = told.culprits.first().map_or(String::new(), |one| {
                one.share.map_or(one.name.clone(), |share| format!("{} {share:.0} %", one.name))
            });
            put(buffer, x + 18, y, place.right().saturating_sub(x + 18), &who, words);
        });
        more_below(theme, buffer, place, list.more(lines.len()));
    }

    fn draw_opened(&self, state: &State, buffer: &mut Buffer, area: Rect) {
        let theme = &state.theme;
        let Some(finding) = self.chosen(state) else { return };
        let wall = state.shown_wall().unwrap_or(finding.until_ns).clamp(finding.from_ns, finding.until_ns);
        let told = finding.at(wall);
        let mut y = area.y;
        let rule: String = "─".repeat(usize::from(area.width));
        put(buffer, area.x, y, area.width, &rule, theme.role(Role::Quiet));
        y += 1;
        let zone = &state.time().zone;
        let (before, from) = if finding.is_older { ("before ", "from before ") } else { ("", "") };
        let since = if finding.over || finding.until_ns < wall {
            format!("{from}{} to {}", zone.time(finding.from_ns), zone.time(finding.until_ns))
        } else {
            format!("since {before}{}", zone.time(finding.from_ns))
        };
        let sign = told.severity.sign().to_string();
        put(buffer, area.x, y, 1, &sign, theme.role(Role::Severity(told.severity)));
        for (at, line) in
            wrapped(&format!("{} ({since})", told.sentence), area.width.saturating_sub(2)).iter().enumerate()
        {
            if at > 1 || y >= area.bottom() {
                break;
            }
            put(buffer, area.x + 2, y, area.width.saturating_sub(2), line, theme.role(Role::Strong));
            y += 1;
        }
        for (at, evidence) in told.evidence.iter().enumerate() {
            if y >= area.bottom() {
                return;
            }
            let head = if at == 0 { "evidence" } else { "" };
            put(buffer, area.x + 2, y, 12, head, theme.role(Role::Quiet));
            let strip = self.strips.get(at).map_or(&[][..], Vec::as_slice);
            draw_evidence(
                state,
                buffer,
                Rect { x: area.x + 16, y, width: area.width.saturating_sub(16), height: 1 },
                evidence,
                strip,
                finding.about.lane,
            );
            y += 1;
        }
        let joined =
            finding.joined_at(wall).map(|(since, who)| format!("{} since {}", who.name, zone.time(*since)));
        let joined = joined.collect::<Vec<_>>().join(" · ");
        let explained = state.history().explained(finding.number, wall);
        let explains: Vec<String> = explained.iter().map(|one| one.at(wall).sentence.clone()).collect();
        let texts = [
            ("also", joined),
            ("next", next(state, finding)),
            ("it explains", explains.join(" ")),
            ("ruled out", finding.ruled_out.join(" · ")),
            ("usually", finding.about.causes.to_owned()),
        ];
        for (head, text) in texts.iter().filter(|(_, text)| !text.is_empty()) {
            let lines = wrapped(text, area.width.saturating_sub(16));
            for (at, line) in lines.iter().enumerate() {
                if y >= area.bottom() {
                    return;
                }
                if at == 0 {
                    put(buffer, area.x + 2, y, 13, head, theme.role(Role::Quiet));
                }
                put(buffer, area.x + 16, y, area.width.saturating_sub(16), line, theme.role(Role::Text));
                y += 1;
            }
        }
    }
}

/// What the screen does for a step; nothing where it is done elsewhere.
fn action_of(step: Step) -> Option<Action> {
    Some(match step {
        Step::Inspect(_) | Step::Closely => Action::Inspect,
        Step::Act(_) => Action::Act,
        Step::Lane(lane) => Action::Lane(lane),
        Step::Holders | Step::Removed => Action::Holders,
        Step::Ports => Action::Ports,
        Step::Difference => Action::Difference,
        Step::LongerInterval => Action::Plus,
        Step::Access | Step::Yourself => return None,
    })
}

/// What to do next, each step with its key of now.
fn next(state: &State, finding: &Finding) -> String {
    let said = finding.about.next.iter().map(|Advice(step, text)| {
        let key = match step {
            Step::Inspect("") => "enter".to_owned(),
            Step::Inspect(page) => format!("enter, {page}"),
            Step::Closely => "enter, then k".to_owned(),
            Step::Act("") => "x".to_owned(),
            Step::Act(choice) => format!("x, {choice}"),
            Step::Lane(lane) if *lane == finding.about.lane => "l".to_owned(),
            Step::Access => "dozor access".to_owned(),
            other => action_of(*other).map_or(String::new(), |action| state.values.keys.key(action)),
        };
        if key.is_empty() { (*text).to_owned() } else { format!("{text} ({key})") }
    });
    said.collect::<Vec<_>>().join("; ")
}

/// The axis of the screen in fewer columns.
fn squeezed(axis: &Axis, columns: u16) -> Axis {
    let span = axis.end - axis.begin(0);
    Axis { end: axis.end, step: (span / i64::from(columns.max(1))).max(1), columns }
}

/// What it is about, with its subject where that is short.
fn short_title(one: &Finding) -> String {
    if one.subject.is_empty() || one.subject.len() > 24 {
        one.about.title.to_owned()
    } else {
        let short = one.about.title;
        format!("{}: {short}", one.subject)
    }
}

fn draw_evidence(
    state: &State,
    buffer: &mut Buffer,
    area: Rect,
    evidence: &Evidence,
    strip: &[Option<f64>],
    lane: Lane,
) {
    let theme = &state.theme;
    const LEVELS: [&str; 7] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇"];
    put(buffer, area.x, area.y, 30, &evidence.metric, theme.role(Role::Text));
    put_right(buffer, area.x + 43, area.y, 12, &evidence.text, theme.role(Role::Strong));
    let most = strip.iter().flatten().copied().fold(0.0, f64::max);
    if area.width < 46 + STRIP || most <= 0.0 {
        return;
    }
    for (x, value) in (area.x + 46..).zip(strip) {
        let Some(value) = value else { continue };
        // Never quite full, so that one line does not run into the next.
        let level = ((value / most * 7.0).ceil() as usize).clamp(1, 7) - 1;
        put(buffer, x, area.y, 1, LEVELS[level], theme.role(Role::Lane(lane)));
    }
}

impl Sheet for FindingsSheet {
    fn title(&self, state: &State) -> String {
        let standing = state.standing();
        let wall = state.shown_wall().unwrap_or(0);
        let now = state.findings_at(wall).map_or(0, |found| found.len());
        let over = self.listed.len().saturating_sub(now);
        if self.narrow {
            return format!("What stood out: {now} now, {over} over");
        }
        format!(
            "What stood out · {} things watched for {}, {now} now, {over} over",
            standing.watched,
            long_duration(standing.seconds as f64)
        )
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![("↑ ↓", "choose"), ("enter", "look at who"), ("x", "act")];
        if !self.narrow {
            hints.extend([("t", "its beginning"), ("l", "its lane")]);
        }
        hints.extend([
            ("e", "its limits"),
            ("z", "quiet for 1 h"),
            ("d", "dismiss"),
            ("Z", "speak again"),
            ("esc", "close"),
        ]);
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if moves(&mut self.at, self.listed.len(), &moving(state, key)) {
            self.look(state);
            return After::Stay;
        }
        let Some(finding) = self.chosen(state) else { return After::Stay };
        let (from, lane, name) = (finding.from_ns, finding.about.lane, finding.name());
        let wall = state.shown_wall().unwrap_or(0);
        let told = finding.at(wall.max(from));
        let process = told.culprits.iter().find_map(|one| one.pid.filter(|pid| *pid > 0));
        let stands = finding.stood(wall);
        let about = finding.about;
        match key.code {
            KeyCode::Char('e') => {
                return After::Open(Box::new(LimitsSheet::new(about, told.evidence.clone())));
            }
            KeyCode::Enter | KeyCode::Char('x') => {
                let Some(pid) = process else {
                    state.say(Severity::Notice, "no single process does it; l goes to its lane".to_owned());
                    return After::Stay;
                };
                if !stands {
                    let number = state.time().timeline.at(from.max(finding_end(state, self.listed[self.at])));
                    state.go_to_sample(number);
                }
                state.select_pid(pid);
                let choice = about.next.iter().find_map(|Advice(step, _)| match step {
                    Step::Act(choice) => Some(*choice),
                    _ => None,
                });
                state.advise(choice.filter(|_| key.code == KeyCode::Char('x')));
                return After::Do(if key.code == KeyCode::Enter { Action::Inspect } else { Action::Act });
            }
            KeyCode::Char('t') => {
                let number = state.time().timeline.at(from);
                state.go_to_sample(number);
            }
            KeyCode::Char('l') => {
                state.choose_lane(Some(lane));
                return After::Close;
            }
            KeyCode::Char('z') => {
                state.be_quiet_about(name.clone(), wall, Some(wall + QUIET));
                state.say(Severity::Fine, format!("quiet about {name} for an hour; Z lets it speak again"));
            }
            KeyCode::Char('d') => {
                state.be_quiet_about(name.clone(), wall, Some(i64::MAX));
                state.say(Severity::Fine, format!("dismissed: {name} is not told again; Z lets it speak"));
            }
            KeyCode::Char('Z') => state.be_quiet_about(name, wall, None),
            // What it says to do next is done by its key.
            _ => {
                let action = state.values.keys.action(key);
                let mut steps = about.next.iter().filter_map(|Advice(step, _)| action_of(*step));
                if let Some(action) = action.filter(|action| steps.any(|step| step == *action)) {
                    return After::Do(action);
                }
            }
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        if self.listed.is_empty() {
            let standing = state.standing();
            let text = format!(
                "· nothing stood out in this time; {} things are watched for {}",
                standing.watched,
                long_duration(standing.seconds as f64)
            );
            put(buffer, place.x, place.y, place.width, &text, state.theme.role(Role::Quiet));
            return;
        }
        let list = self.lines_of_list(place.height);
        self.draw_list(state, buffer, Rect { height: list + 1, ..place });
        let y = place.y + list + 2;
        if y < place.bottom() {
            self.draw_opened(state, buffer, Rect { y, height: place.bottom() - y, ..place });
        }
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.listed.len();
        Some(List { at: &mut self.at, lines })
    }

    fn clicked(&mut self, state: &mut State) -> After {
        self.look(state);
        After::Stay
    }

    fn margins(&self) -> (u16, u16) {
        (1, 0)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Findings)
    }

    fn follow(&mut self, state: &mut State) {
        self.narrow = state.size.0 < 110;
        self.list_anew(state);
        self.look(state);
        state.have_seen_findings();
    }
}

/// The last instant of a finding, a little before its end, so that who did it is still there.
fn finding_end(state: &State, number: usize) -> i64 {
    state.history().find(number).map_or(0, |one| one.until_ns - NANOS)
}
