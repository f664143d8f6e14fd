//! What each resource consists of: cores, devices, interfaces, sensors and the like, as tables that a view draws.
//!
//! Columns are metrics of the catalogue wherever it has them, so unit and explanation come from there. [`users`]
//! says which processes use a part, where the kernel tells.

mod cpu;
mod disk;
mod groups;
mod heat;
mod memory;
mod network;
mod peers;
mod section;
mod users;

pub use cpu::STACK as CORE_CLASSES;
pub(crate) use disk::mounts_of;
pub use peers::{Peer, peers};
pub(crate) use peers::{address, connection_rates};
pub use section::{Column, Look, PartId, PartRow, Section, Shape};
pub use users::{Users, lens, users};

use crate::lane::Lane;
use crate::sample::Sample;
use crate::wanted::{Demand, Wanted};

/// The parts of a lane, the most telling table first. Tables without a row are left out.
pub fn sections(lane: Lane, sample: &Sample) -> Vec<Section> {
    let mut sections = match lane {
        Lane::Cpu => cpu::sections(sample),
        Lane::Memory => memory::sections(sample),
        Lane::Disk => disk::sections(sample),
        Lane::Network => network::sections(sample),
        Lane::Heat => heat::sections(sample),
    };
    sections.retain(|section| !section.rows.is_empty());
    sections
}

/// What a source must collect for the parts of a lane, on a machine that last showed this sample.
pub fn wanted(lane: Lane, sample: Option<&Sample>) -> Wanted {
    let has_gpu = sample.is_some_and(|sample| !sample.now.gpus.is_empty());
    let parts: &[Demand] = match lane {
        Lane::Cpu => &[Demand::Interrupts, Demand::ControlGroup],
        Lane::Disk => &[Demand::Filesystems],
        Lane::Network => &[Demand::Sockets],
        // Who uses a graphics processor is asked of every process; without one nobody does.
        Lane::Heat if has_gpu => &[Demand::Gpu],
        Lane::Memory => &[Demand::ControlGroup],
        Lane::Heat => &[],
    };
    parts.iter().copied().collect()
}
