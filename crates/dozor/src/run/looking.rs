//! Who looks into processes, on threads of their own: a process that does not answer holds up no key.

use super::{Incoming, Post};
use crate::machine::Machine;
use crate::machine::Sought;
use crate::screen::Event;
use dozor_core::inside::Subject;
use dozor_core::reading::ProcessKey;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::time::Duration;

/// Asks about processes; of several questions on one subject that wait, the newest is answered.
pub struct Looking {
    machine: Machine,
    out: Post,
    questions: Sender<(ProcessKey, Subject)>,
    stop: Arc<AtomicBool>,
}

impl Looking {
    /// Begins to wait for questions.
    pub fn start(machine: Machine, out: Post) -> Looking {
        let (questions, asked) = channel::<(ProcessKey, Subject)>();
        let (answering, answers) = (machine.clone(), out.clone());
        std::thread::spawn(move || {
            let mut looker = answering.looker();
            while let Ok(first) = asked.recv() {
                let mut waiting = vec![first];
                while let Ok((key, subject)) = asked.try_recv() {
                    waiting.retain(|(_, other)| *other != subject);
                    waiting.push((key, subject));
                }
                for (key, subject) in waiting {
                    let Some(told) = answering.look(&mut looker, key, subject) else { continue };
                    if !answers.send(Incoming::Event(Event::Told(key, told))) {
                        return;
                    }
                }
            }
        });
        Looking { machine, out, questions, stop: Arc::default() }
    }

    /// Asks.
    pub fn ask(&self, key: ProcessKey, subject: Subject) {
        let _ = self.questions.send((key, subject));
    }

    /// Looks for who has something open.
    pub fn seek(&self, sought: Sought) {
        let (machine, out) = (self.machine.clone(), self.out.clone());
        std::thread::spawn(move || {
            let found = machine.holders(&sought);
            out.send(Incoming::Event(Event::Found(sought, found)));
        });
    }

    /// Looks closely for some time; whoever is looked at closely now is not any more.
    pub fn closely(&mut self, key: ProcessKey, time: Duration) {
        self.look_away();
        let stop = Arc::new(AtomicBool::new(false));
        self.stop = stop.clone();
        let (machine, out) = (self.machine.clone(), self.out.clone());
        std::thread::spawn(move || {
            let tell = |look: &dozor_core::inside::close::CloseLook, all: bool| {
                let event = Event::SeenClosely(key, Box::new(look.clone()), all);
                out.send(Incoming::Event(event));
            };
            let look = machine.look_closely(key, time, &stop, |look| tell(look, false));
            if !stop.load(Ordering::Relaxed) {
                tell(&look, true);
            }
        });
    }

    /// Stops looking closely.
    pub fn look_away(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}
