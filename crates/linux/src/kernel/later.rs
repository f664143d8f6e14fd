//! Programs that are loaded meanwhile: the kernel takes some time to check them.

use super::refused::Refused;
use crate::Roots;
use std::thread::JoinHandle;

/// Whether programs in the kernel are asked for.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
pub enum How {
    /// Nobody asked for them.
    #[default]
    No,
    /// They are loaded before anything else.
    AtOnce,
    /// They are loaded meanwhile.
    Later,
}

/// What is there once it is loaded, if this machine lets us.
pub struct Later<T> {
    begun: bool,
    denied: bool,
    loads: Option<JoinHandle<Result<T, Refused>>>,
    ready: Option<T>,
}

impl<T> Default for Later<T> {
    fn default() -> Later<T> {
        Later { begun: false, denied: false, loads: None, ready: None }
    }
}

impl<T: Send + 'static> Later<T> {
    /// Begins to load, where that is asked for and was not begun yet.
    pub fn begin(&mut self, how: How, roots: &Roots, load: fn(&Roots) -> Result<T, Refused>) {
        if how == How::No || std::mem::replace(&mut self.begun, true) {
            return;
        }
        if how == How::AtOnce {
            self.keep(load(roots));
        } else {
            let (roots, thread) = (roots.clone(), std::thread::Builder::new().name("load".to_owned()));
            self.loads = thread.spawn(move || load(&roots)).ok();
        }
    }

    /// Takes what was loaded meanwhile; says whether that was now.
    pub fn arrives(&mut self) -> bool {
        let Some(loads) = self.loads.take_if(|loads| loads.is_finished()) else { return false };
        self.keep(loads.join().unwrap_or(Err(Refused::Kernel)));
        self.ready.is_some()
    }

    fn keep(&mut self, loaded: Result<T, Refused>) {
        self.denied = matches!(loaded, Err(Refused::Denied));
        self.ready = loaded.ok();
    }

    /// Whether it is not permitted.
    pub fn is_denied(&self) -> bool {
        self.denied
    }

    /// What is there, to be changed.
    pub fn get_mut(&mut self) -> Option<&mut T> {
        self.ready.as_mut()
    }

    /// What is there.
    pub fn get(&self) -> Option<&T> {
        self.ready.as_ref()
    }
}
