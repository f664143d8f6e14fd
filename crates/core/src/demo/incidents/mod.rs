//! Incidents one after another on a small machine, with quiet between them: what each rule of what stands out looks for.

mod cases;
mod world;

pub use cases::{Incident, ended, incidents};
pub use world::{CORES, World, add, process};

use crate::reading::{HostFacts, Reading};
use std::sync::Arc;

/// Seconds of quiet before an incident.
pub const QUIET: i64 = 20;
/// Seconds that an incident lasts.
pub const LASTS: i64 = 25;

/// A machine on which one incident follows another, second by second, again and again.
pub struct Troubled {
    incidents: Vec<Incident>,
    world: World,
    /// Seconds since it began.
    second: i64,
}

impl Troubled {
    /// With the incidents of these rules, all of them where none is named; none where there is no such rule.
    pub fn new(rule: Option<&str>) -> Option<Troubled> {
        let incidents: Vec<Incident> =
            incidents().into_iter().filter(|one| rule.is_none_or(|rule| rule == one.rule)).collect();
        (!incidents.is_empty()).then(|| Troubled { incidents, world: World::new(), second: 0 })
    }

    /// Whose it is.
    pub fn host(&self) -> Arc<HostFacts> {
        World::host()
    }

    /// The incident whose turn a second is, and how far its turn is: it happens from [`QUIET`] on.
    pub fn turn(&self, second: i64) -> (&Incident, i64) {
        let turn = QUIET + LASTS;
        let number = second.div_euclid(turn).rem_euclid(self.incidents.len() as i64);
        (&self.incidents[number as usize], second.rem_euclid(turn))
    }

    /// For how long all of them take, in seconds.
    pub fn seconds(&self) -> i64 {
        self.incidents.len() as i64 * (QUIET + LASTS)
    }

    /// Lets a second go by.
    pub fn pass(&mut self) -> Arc<Reading> {
        let mut world = std::mem::take(&mut self.world);
        let (incident, within) = self.turn(self.second);
        if within == 0 {
            world = World::new().at(self.second);
            incident.set_up(&mut world);
        }
        world.live();
        if within >= QUIET {
            incident.happen(&mut world, within - QUIET);
        }
        let reading = world.pass();
        self.world = world;
        self.second += 1;
        reading
    }
}
