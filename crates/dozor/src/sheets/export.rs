//! What can be let out of what is shown: charts, the table, a report, the screen itself. It is written into the folder that Dozor was started
//! in.

use super::{After, List, Room, Sheet, moves, moving, seen};
use crate::draw::put;
use crate::look::action::Action;
use crate::look::columns::What;
use crate::look::theme::Role;
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::chart::{Of, Wish};
use dozor_core::lane::{Lane, Severity};
use dozor_export::chart::{Composing, Form, Look, compose, draw};
use dozor_export::file::Form as Ending;
use dozor_export::report::{Asked, Report};
use dozor_export::scene::Scene;
use dozor_export::table::csv::Csv;
use dozor_export::table::json::Rows;
use dozor_export::table::parquet::Parquet;
use dozor_export::table::{Batch, Chosen, Sink, Table, Which};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;
use std::ops::Range;

/// Samples up to which it is done at once; more would keep the keys waiting.
const AT_ONCE: usize = 12_000;
/// Size of a chart in points.
const SIZE: (f64, f64) = (960.0, 600.0);

/// What is let out.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Lanes,
    Users,
    Table,
    Report,
    Screen,
}

const LINES: [(Kind, &str, &str); 11] = [
    (Kind::Lanes, "svg", "a chart of the lanes, over the time that they show"),
    (Kind::Lanes, "pdf", "the same, as a page"),
    (Kind::Users, "svg", "a chart by program of what processes are ordered by"),
    (Kind::Users, "pdf", "the same, as a page"),
    (Kind::Table, "csv", "the processes as they are shown, for a spreadsheet or a program"),
    (Kind::Table, "json", "the same, as objects"),
    (Kind::Table, "parquet", "the same, with types and units"),
    (Kind::Report, "pdf", "a report of the time that the lanes show"),
    (Kind::Report, "html", "the same, as one page for a browser"),
    (Kind::Report, "md", "the same, as text"),
    (Kind::Screen, "svg", "the screen as it is (: save the screen as PDF for a page)"),
];

/// The list.
#[derive(Default)]
pub struct ExportSheet {
    at: usize,
}

impl Sheet for ExportSheet {
    fn title(&self, _state: &State) -> String {
        "What shall be saved of what is shown?".to_owned()
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines(LINES.len() as u16 + 2)
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("↑ ↓", "choose"), ("enter", "save it here"), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if moves(&mut self.at, LINES.len(), &moving(state, key)) {
            return After::Stay;
        }
        if key.code == KeyCode::Enter { self.choose(state) } else { After::Stay }
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        seen(self, place, self.at).draw(theme, buffer, &LINES, |buffer, y, (_, ending, help), _| {
            put(buffer, place.x + 1, y, 8, ending, theme.role(Role::Accent));
            put(buffer, place.x + 10, y, place.width.saturating_sub(10), help, theme.role(Role::Text));
        });
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        Some(List { at: &mut self.at, lines: LINES.len() })
    }

    fn clicked(&mut self, state: &mut State) -> After {
        self.choose(state)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Export)
    }
}

impl ExportSheet {
    fn choose(&mut self, state: &mut State) -> After {
        let Some((kind, ending, _)) = LINES.get(self.at) else { return After::Stay };
        if *kind == Kind::Screen {
            return After::Do(Action::SaveScreen);
        }
        match made(*kind, ending, state) {
            Ok(bytes) => state.save(ending, bytes),
            Err(problem) => state.say(Severity::Warning, problem),
        }
        After::Close
    }
}

/// The samples that the lanes show.
fn shown(state: &State) -> Result<Range<usize>, String> {
    let axis = state.lanes().strips.axis.ok_or("nothing was read yet")?;
    let timeline = &state.time().timeline;
    let numbers = timeline.at(axis.begin(0))..timeline.at(axis.end - 1) + 1;
    let numbers = numbers.start.max(timeline.first())..numbers.end.min(timeline.end());
    match numbers.len() {
        0 => Err("nothing was read yet".to_owned()),
        many if many > AT_ONCE => Err(format!(
            "the lanes show {many} samples: that takes a while; dozor export and dozor report do it beside"
        )),
        _ => Ok(numbers),
    }
}

/// A chart of metrics over a range of samples, as a file.
pub fn chart(
    state: &mut State,
    numbers: Range<usize>,
    what: &Composing,
    ending: &str,
) -> Result<Vec<u8>, String> {
    let light = state.theme.light;
    let chart = compose(state.timeline_mut(), numbers, what).map_err(|error| error.to_string())?;
    let size = (SIZE.0, SIZE.1.max(dozor_export::chart::least_size(&chart).1 + 80.0));
    let scene = draw(&chart, size, Look { light }).map_err(|error| error.to_string())?;
    file(&scene, &chart.host, ending)
}

/// A drawing as a file.
pub fn file(scene: &Scene, host: &str, ending: &str) -> Result<Vec<u8>, String> {
    let form = Ending::by_ending(ending).ok_or_else(|| format!("'{ending}' is no form of a drawing"))?;
    form.bytes(scene, host).map_err(|error| error.to_string())
}

fn made(kind: Kind, ending: &str, state: &mut State) -> Result<Vec<u8>, String> {
    let composing = |wishes: Vec<Wish>, lanes: Vec<Lane>| Composing {
        wishes,
        form: Form::Auto,
        lanes,
        columns: SIZE.0 as usize,
        happenings: 8,
        brief: false,
        title: None,
    };
    match kind {
        Kind::Lanes => {
            let numbers = shown(state)?;
            chart(state, numbers, &composing(vec![], Lane::ALL.to_vec()), ending)
        }
        Kind::Users => {
            let metric = state.values.order.first.metric;
            if metric.unit.is_text() {
                return Err(format!("{} is a text, which no chart can show", metric.alias));
            }
            let numbers = shown(state)?;
            chart(state, numbers, &composing(vec![Wish { metric, of: Of::All }], vec![]), ending)
        }
        Kind::Table => table(state, ending),
        Kind::Report => {
            let numbers = shown(state)?;
            let report = Report::new(state.timeline_mut(), numbers, &Asked::default())
                .map_err(|error| error.to_string())?;
            match ending {
                "html" => Ok(report.html().into_bytes()),
                "md" => Ok(report.markdown().into_bytes()),
                _ => report.pdf().map_err(|error| error.to_string()),
            }
        }
        Kind::Screen => Err("it is drawn below".to_owned()),
    }
}

/// The processes as they are shown: who is kept, in their order, with their columns.
fn table(state: &State, ending: &str) -> Result<Vec<u8>, String> {
    let sample = state.moment().sample.clone().ok_or("nothing was read yet")?;
    let metrics = state.columns().0.iter().filter_map(|spec| match spec.what {
        What::Metric(metric) => Some(metric),
        _ => None,
    });
    let chosen = Chosen {
        metrics: Some(metrics.collect()),
        narrowing: state.values.narrowing.clone(),
        order: Some(state.values.order),
        limit: None,
    };
    let mut table = Table::new(Which::Processes, chosen)?;
    let mut batch = Batch::new(table.columns());
    table.fill(&sample, &mut batch);
    let mut bytes = vec![];
    let zone = state.time().zone.clone();
    let columns = table.columns().to_vec();
    let written = {
        let sink: Result<Box<dyn Sink + '_>, _> = match ending {
            "csv" => Csv::begin(&mut bytes, &columns, &zone, str::to_owned).map(|sink| Box::new(sink) as _),
            "json" => Ok(Box::new(Rows::begin(&mut bytes, &columns, &zone, false)) as _),
            _ => Parquet::begin(&mut bytes, Which::Processes, &columns, &sample.host)
                .map(|sink| Box::new(sink) as _),
        };
        sink.and_then(|mut sink| {
            sink.put(&batch)?;
            sink.end()
        })
    };
    written.map_err(|error| error.to_string())?;
    Ok(bytes)
}

impl State {
    /// Saves bytes as a file in the folder that Dozor was started in.
    pub fn save(&mut self, ending: &str, bytes: Vec<u8>) {
        let host = crate::recorder::in_file_name(&self.time().timeline.host().name);
        let wall = self.moment().sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
        let name = format!("dozor-{host}-{}.{ending}", self.time().zone.for_file_name(wall));
        self.outbox.push(Effect::Save(name, bytes));
    }
}
