//! How a simulated process is set.

use crate::cores::CoreSet;
use crate::deed::Resource;
use std::collections::HashMap;

/// How a process is set: what can be changed while it runs.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Ways {
    /// Niceness; that of its program where nobody changed it.
    pub nice: Option<i64>,
    /// Cores that it may use; all where nobody changed it.
    pub cores: Option<CoreSet>,
    /// Scheduling policy and real-time priority.
    pub policy: (i32, i32),
    /// I/O priority.
    pub io: i32,
    /// OOM preference.
    pub oom: i32,
    /// Frozen with its group.
    pub frozen: bool,
    /// Limits that were changed.
    pub limits: HashMap<Resource, (Option<u64>, Option<u64>)>,
}
