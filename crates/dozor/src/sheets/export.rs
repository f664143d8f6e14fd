//! What can be let out of what is shown: charts, the table, a report, the screen itself. It is written into the folder that Dozor was started
//! in.

use super::{After, List, Room, Sheet, moves, moving, seen};
use crate::draw::put;
use crate::look::action::Action;
use crate::look::columns::What;
use crate::look::theme::Role;
use crate::state::State;
use crate::state::job::{Job, SIZE};
use dozor_core::chart::{Of, Wish};
use dozor_core::lane::{Lane, Severity};
use dozor_export::chart::{Composing, Form};
use dozor_export::table::csv::Csv;
use dozor_export::table::json::Rows;
use dozor_export::table::parquet::Parquet;
use dozor_export::table::{Batch, Chosen, Sink, Table, Which};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

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
        let begun = match kind {
            Kind::Table => table(state, ending).map(|bytes| state.save(ending, bytes)),
            other => begin(*other, ending, state),
        };
        if let Err(problem) = begun {
            state.say(Severity::Warning, problem);
        }
        After::Close
    }
}

/// The time that the lanes show.
fn shown(state: &State) -> Result<(i64, i64), String> {
    let axis = state.lanes().strips.axis.filter(|_| !state.time().timeline.is_empty());
    let axis = axis.ok_or("nothing was read yet")?;
    Ok((axis.begin(0), axis.end - 1))
}

/// Has a chart or a report made.
fn begin(kind: Kind, ending: &str, state: &mut State) -> Result<(), String> {
    let composing = |wishes: Vec<Wish>, lanes: Vec<Lane>| Composing {
        wishes,
        form: Form::Auto,
        lanes,
        columns: SIZE.0 as usize,
        happenings: 8,
        brief: false,
        title: None,
    };
    let (span, light) = (shown(state)?, state.theme.light);
    let job = match kind {
        Kind::Users => {
            let metric = state.values.order.first.metric;
            if metric.unit.is_text() {
                return Err(format!("{} is a text, which no chart can show", metric.alias));
            }
            Job::chart(composing(vec![Wish { metric, of: Of::All }], vec![]), ending, span, light)
        }
        Kind::Report => Job::report(ending, span),
        Kind::Lanes | Kind::Table | Kind::Screen => {
            Job::chart(composing(vec![], Lane::ALL.to_vec()), ending, span, light)
        }
    };
    state.begin_export(job);
    Ok(())
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
