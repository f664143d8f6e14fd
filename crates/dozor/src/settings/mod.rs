//! Settings: one table of what can be set ([`table`]), the file that they stand in ([`file`]), how the screen was left
//! ([`left`]), saved views ([`view`]) and own themes ([`themes`]).
//!
//! What somebody configured and how the screen was left are kept apart: the first in the folder for settings, the second
//! in the folder for state. What was left goes before what is configured, until the configured value changes; what the
//! command line says goes before both.

pub mod configured;
pub mod file;
pub mod left;
pub mod rules;
pub mod table;
pub mod themes;
pub mod values;
pub mod view;
mod words;

/// Largest file of settings that is read, in bytes.
const LARGEST: u64 = 1 << 20;

#[cfg(test)]
mod tests {
    use super::values::Values;
    use std::time::Duration;

    /// As the program comes.
    pub fn values() -> Values {
        Values::new(Duration::from_secs(2))
    }
}
