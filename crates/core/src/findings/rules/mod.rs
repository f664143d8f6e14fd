//! The rules, one file each, in the order in which an experienced person goes: CPU, memory, disk, network, heat, then limits.

mod backlog;
mod battery;
mod blocked;
mod cpu_full;
mod cpu_queue;
mod descriptors;
mod disk_saturated;
mod empty_calls;
mod fan;
mod filesystem_full;
mod forks;
mod gaps;
mod gpu_memory;
mod group_memory;
mod group_throttled;
mod grows;
mod heat;
mod hot_core;
mod interrupts;
mod kills;
mod lasting;
mod leak;
mod link_errors;
mod link_full;
mod memory_pressure;
mod memory_short;
mod near_limit;
mod own_cost;
mod remote;
mod removed;
mod resent;
mod restarts;
mod rewriter;
mod ruled_out;
mod short_lived;
mod silent;
mod steal;
mod stopped;
mod swapping;
mod switches;
mod threads;
mod throttled;
mod udp;
mod unexplained;
mod wireless;
mod zombies;

pub use gaps::{NAME as GAP, gap};
pub use ruled_out::{Resource, is_fine, resources, ruled_out};

use super::rule::Rule;

/// All rules, with nothing seen yet.
pub fn all() -> Vec<Box<dyn Rule>> {
    vec![
        cpu_queue::rule(),
        cpu_full::rule(),
        hot_core::rule(),
        interrupts::rule(),
        steal::rule(),
        short_lived::rule(),
        unexplained::rule(),
        forks::rule(),
        switches::rule(),
        empty_calls::rule(),
        memory_short::rule(),
        swapping::rule(),
        memory_pressure::rule(),
        leak::rule(),
        kills::rule(),
        disk_saturated::rule(),
        blocked::rule(),
        remote::rule(),
        silent::rule(),
        filesystem_full::rule(),
        removed::rule(),
        rewriter::rule(),
        link_full::rule(),
        link_errors::rule(),
        resent::rule(),
        udp::rule(),
        backlog::rule(),
        wireless::rule(),
        heat::rule(),
        throttled::rule(),
        fan::rule(),
        battery::rule(),
        gpu_memory::rule(),
        group_throttled::rule(),
        group_memory::rule(),
        near_limit::rule(),
        descriptors::rule(),
        threads::rule(),
        zombies::rule(),
        restarts::rule(),
        stopped::rule(),
        gaps::rule(),
        own_cost::rule(),
    ]
}
