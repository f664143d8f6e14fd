//! How a process is in the respect that a deed changes.

use super::change::read;
use crate::Roots;
use crate::inside::Inside;
use crate::proc::pid_stat;
use dozor_core::deed::Deed;
use dozor_core::reading::ProcessKey;

/// What is at present, in the respect that a deed changes; none where that cannot be read.
pub fn present(key: ProcessKey, deed: &Deed) -> Option<Deed> {
    let inside = Inside::of(&Roots::default(), key);
    if let Deed::Freeze | Deed::Thaw = deed {
        let stat = inside.file("stat").value()?;
        let stopped = pid_stat::parse(&stat, 1)?.state.value() == Some(i64::from(b'T'));
        return Some(if stopped || inside.frozen().is_some() { Deed::Freeze } else { Deed::Thaw });
    }
    read(&inside, key.pid, deed)
}
