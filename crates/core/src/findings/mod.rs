//! What stands out: an experienced person's elimination at every sample, with culprit and evidence.
//!
//! A [`Rule`] looks at one sample (as a [`Scene`]) and may keep what it needs of the time before; it says what it sees
//! ([`Seen`]) and nothing about how long. The [`Engine`] waits until something has held long enough, keeps it until it has been
//! away long enough, puts consequences under their cause, and keeps the history. The same samples give the same findings,
//! whether they come live or from a recording: nothing else goes in.
//!
//! Severity goes by harm, not by use: critical is where somebody waits who should not or something will be lost, a warning what
//! will hurt soon or hurts somebody, a notice what is worth knowing.

mod adjust;
mod at_once;
mod changes;
mod check;
mod culprit;
mod document;
mod engine;
mod finding;
mod history;
mod kernel_work;
mod limit;
mod own;
mod replay;
mod rule;
pub mod rules;
mod scene;
mod step;
mod usual;

pub use adjust::MANNERS;
pub use at_once::at_once;
pub use changes::{Changes, mark};
pub use check::{Line, Part, Reported, State, Verdict, findings_json};
pub use culprit::{Culprit, Evidence};
pub use document::markdown;
pub use engine::{Engine, Standing};
pub use finding::{Finding, Telling};
pub use history::History;
pub use limit::{Adjusted, Limit};
pub use own::{OwnRule, filled};
pub use replay::found_in;
pub use rule::{About, Rule, Seen};
pub use scene::Scene;
pub use step::{Advice, Step};
pub use usual::{Normal, Usual, hour_of, same_hours};
