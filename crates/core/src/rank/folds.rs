//! What is open below rows.

use crate::reading::ProcessKey;
use crate::text::Text;
use std::collections::HashSet;

/// What a row is, whatever place it has.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum RowId {
    /// A process, or a gathered row.
    Process(ProcessKey),
    /// A thread.
    Thread(ProcessKey),
    /// Those that share a label.
    Group(Text),
    /// Threads of this process that did nothing.
    IdleThreads(ProcessKey),
}

/// Which rows are open. Processes usually are; groups and idle threads are not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Folds {
    /// Everything is the other way round than usual.
    pub all: bool,
    /// Rows that are not as the others of their kind.
    turned: HashSet<RowId>,
}

impl Folds {
    /// Whether what is below a row is shown.
    pub fn is_open(&self, id: &RowId) -> bool {
        let usual = !matches!(id, RowId::Group(_) | RowId::IdleThreads(_));
        (usual != self.all) != self.turned.contains(id)
    }

    /// Whether what is below a process is shown; who it is is only asked for where somebody turned rows.
    pub(super) fn is_process_open(&self, id: impl FnOnce() -> RowId) -> bool {
        if self.turned.is_empty() { !self.all } else { self.is_open(&id()) }
    }

    /// Opens or folds a row.
    pub fn set(&mut self, id: &RowId, open: bool) {
        if self.is_open(id) != open && !self.turned.remove(id) {
            self.turned.insert(id.clone());
        }
    }

    /// Folds all rows, or opens all.
    pub fn turn_all(&mut self) {
        self.all = !self.all;
        self.turned.clear();
    }
}
