//! What a strip draws for one sample.

use super::severity::Severity;
use crate::known::Known;

/// What a strip draws for one sample.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// Percent for cpu, memory and disk; bytes per second for network; °C for heat.
    pub value: Known<f64>,
    /// The value that fills the lane; absent where none is known (a link without a speed).
    pub full: Known<f64>,
    /// How bad it is.
    pub severity: Severity,
}
