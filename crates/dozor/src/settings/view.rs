//! Saved views: all that one looks at, under a name.

use super::words::{lane_by_name, switch, unknown, word};
use crate::look::columns::ColumnSet;
use dozor_core::expr::Expression;
use dozor_core::lane::Lane;
use dozor_core::rank::{Arrange, Order, Whose};

/// A view. What it does not say is as usual.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct View {
    /// Its name.
    pub name: String,
    /// One of those that come with the program.
    pub shipped: bool,
    /// The chosen lane, or the overview.
    pub lane: Option<Lane>,
    /// Lanes from top to bottom.
    pub lanes: Option<Vec<Lane>>,
    /// Folded lanes.
    pub folded: Vec<Lane>,
    /// Columns.
    pub columns: Option<ColumnSet>,
    /// The order; that of the lane where there is none.
    pub order: Option<Order>,
    /// An expression that narrows.
    pub narrow: Option<Expression>,
    /// Whose processes.
    pub whose: Whose,
    /// Only those that do something.
    pub active: bool,
    /// The arrangement.
    pub arrange: Arrange,
}

/// Names of the fields, as they stand in the file of settings.
pub const FIELDS: [&str; 9] =
    ["lane", "lanes", "folded", "columns", "order", "narrow", "whose", "active", "arrange"];

impl View {
    /// Sets a field from its text; says what is wrong with it.
    pub fn set(&mut self, field: &str, text: &str) -> Result<(), String> {
        let lanes = |text: &str| -> Result<Vec<Lane>, String> {
            let names = text.split(',').map(str::trim).filter(|name| !name.is_empty());
            names
                .map(|name| lane_by_name(name)?.ok_or_else(|| "the overview is no lane".to_owned()))
                .collect()
        };
        match field {
            "lane" => self.lane = lane_by_name(text)?,
            "lanes" => self.lanes = Some(lanes(text)?),
            "folded" => self.folded = if text == "all" { Lane::ALL.to_vec() } else { lanes(text)? },
            "columns" => self.columns = Some(ColumnSet::parse(text).map_err(|error| error.to_string())?),
            "order" => self.order = Some(Order::parse(text).map_err(|error| error.to_string())?),
            "narrow" if text.trim().is_empty() => self.narrow = None,
            "narrow" => self.narrow = Some(Expression::parse(text).map_err(|error| error.message)?),
            "whose" => self.whose = word(text, &Whose::ALL, Whose::word)?,
            "active" => self.active = switch(text)?,
            "arrange" => self.arrange = word(text, &Arrange::ALL, Arrange::word)?,
            _ => return Err(unknown("a view has no", field, FIELDS)),
        }
        Ok(())
    }

    /// Its fields as texts; what is as usual is left out.
    pub fn fields(&self) -> Vec<(&'static str, String)> {
        let names = |lanes: &[Lane]| lanes.iter().map(|lane| lane.name()).collect::<Vec<_>>().join(", ");
        let mut fields = vec![("lane", self.lane.map_or("overview", Lane::name).to_owned())];
        let mut add = |name, text: Option<String>| fields.extend(text.map(|text| (name, text)));
        add("lanes", self.lanes.as_ref().map(|lanes| names(lanes)));
        add("folded", (!self.folded.is_empty()).then(|| names(&self.folded)));
        add("columns", self.columns.as_ref().map(ToString::to_string));
        add("order", self.order.map(|order| order.written()));
        add("narrow", self.narrow.as_ref().map(|narrow| narrow.text().to_owned()));
        add("whose", (self.whose != Whose::Everyone).then(|| self.whose.word().to_owned()));
        add("active", self.active.then(|| "true".to_owned()));
        add("arrange", (self.arrange != Arrange::Flat).then(|| self.arrange.word().to_owned()));
        fields
    }

    /// What it shows, in a line.
    pub fn describe(&self) -> String {
        let fields = self.fields().into_iter().map(|(name, text)| format!("{name} {text}"));
        fields.collect::<Vec<_>>().join(" · ")
    }
}

/// Views that come with the program.
pub fn shipped() -> Vec<View> {
    const VIEWS: [(&str, &[(&str, &str)]); 6] = [
        ("everything", &[]),
        (
            "corner",
            &[
                ("folded", "all"),
                ("columns", "cpu,rss,disk,net,near_top,command"),
                ("active", "true"),
                ("arrange", "program"),
            ],
        ),
        (
            "disk hunt",
            &[
                ("lane", "disk"),
                ("folded", "cpu, memory, network, heat"),
                (
                    "columns",
                    "pid,user,state,disk,write,read,trend,near_top,disk_wait,write_calls,read_calls,faults_major,command",
                ),
                ("active", "true"),
            ],
        ),
        (
            "leaks",
            &[
                ("lane", "memory"),
                ("columns", "pid,user,rss,growth,trend,near_top,swap,files,threads,age,command"),
                ("order", "growth,rss"),
                ("narrow", "not kernel_thread"),
            ],
        ),
        (
            "families",
            &[("columns", "pid,user,state,cpu,rss,disk,net,threads,age,command"), ("arrange", "family")],
        ),
        (
            "services",
            &[("columns", "pid,user,cpu,rss,disk,net,threads,service,command"), ("arrange", "service")],
        ),
    ];
    let make = |(name, fields): (&str, &[(&str, &str)])| {
        let mut view = View { name: name.to_owned(), shipped: true, ..View::default() };
        for (field, text) in fields {
            view.set(field, text).unwrap_or_else(|error| unreachable!("{name}: {error}"));
        }
        view
    };
    VIEWS.map(make).into()
}
