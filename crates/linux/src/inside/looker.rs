//! Answers questions about processes, and remembers what several of them share.

use super::packages::Packages;
use super::process::Inside;
use super::sockets::Peers;
use crate::proc::pid_smaps;
use crate::users::Users;
use crate::{Roots, clock, sys};
use dozor_core::inside::{Look, Subject, Told};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessKey;
use std::time::Instant;

/// Looks into processes and remembers what several questions share.
pub struct Looker {
    roots: Roots,
    packages: Packages,
    users: Users,
    /// Names of sockets.
    pub peers: Peers,
    /// The process whose memory was walked over last, what that gave, and when it may be done again.
    walked: Option<(ProcessKey, Raw, Instant)>,
}

impl Looker {
    /// Begins.
    pub fn new(roots: Roots) -> Looker {
        Looker {
            roots,
            packages: Packages::default(),
            users: Users::default(),
            peers: Peers::default(),
            walked: None,
        }
    }

    /// Looks.
    pub fn look(&mut self, key: ProcessKey, subject: Subject) -> Told {
        if subject == Subject::Cores {
            return Told::Cores(sys::cores::places(&self.roots.sys));
        }
        let inside = Inside::of(&self.roots, key);
        if inside.folder.is_none() {
            return Told::Gone;
        }
        match subject {
            Subject::Facts => {
                let mut facts = inside.facts(&mut self.users, &mut self.peers);
                if let Known::Value(path) = &facts.executable {
                    facts.package = self.packages.of(path);
                }
                facts.pss = self.proportional(&inside);
                Told::Facts(Box::new(facts))
            }
            Subject::Threads => {
                let seen = inside.threads(&mut self.peers);
                Told::Threads(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Files => {
                let seen = inside.open_files();
                Told::Files(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Sockets => {
                let seen = inside.sockets(&mut self.peers);
                Told::Sockets(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Memory => Told::Memory(Box::new(inside.memory())),
            Subject::Environment => Told::Environment(inside.environment()),
            Subject::Cores => Told::Cores(sys::cores::places(&self.roots.sys)),
        }
    }
}

impl Looker {
    /// Proportional memory. The kernel walks over all of it, so it is asked for so seldom that it costs at most a twentieth
    /// of a core.
    fn proportional(&mut self, inside: &Inside) -> Raw {
        const REST: u32 = 20;
        match self.walked {
            Some((key, pss, due)) if key == inside.key && Instant::now() < due => return pss,
            _ => {}
        }
        let begin = Instant::now();
        let pss = match inside.file("smaps_rollup") {
            Known::Value(text) => pid_smaps::parse(&text),
            Known::Denied => Raw::DENIED,
            Known::Absent => Raw::ABSENT,
        };
        self.walked = Some((inside.key, pss, Instant::now() + begin.elapsed() * REST));
        pss
    }
}
