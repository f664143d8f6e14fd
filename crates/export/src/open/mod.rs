//! What other programs collect: families of values with the names, units and attributes of the OpenTelemetry semantic conventions
//! ([`families`]), as OpenMetrics 1.0 text ([`openmetrics`]) and as OTLP messages ([`otlp`]); what stands out as OTLP log records
//! ([`logs`]).
//!
//! The number of series is bounded: cores, devices and the like are as many as the machine has, and of processes only some are
//! told ([`Told`]), who stay as long as they are anywhere near the top.

mod families;
pub mod logs;
pub mod openmetrics;
pub mod otlp;
mod told;

pub use families::{Family, Form, Series, families};
pub use told::{Told, ToldProcess};
