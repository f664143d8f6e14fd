//! Threads that listen: to the terminal, to its end, to signals.

use super::incoming::Incoming;
use crate::screen::Event;
use ratatui::crossterm::event::{
    self as terminal_event, Event as TerminalEvent, KeyEventKind, MouseEventKind,
};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use signal_hook::consts::{
    SIGALRM, SIGCONT, SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP, SIGUSR1, SIGUSR2, SIGWINCH,
};
use std::sync::mpsc::Sender;

/// Sends keys, the mouse and what is pasted.
pub fn listen_to_terminal(out: Sender<Incoming>) {
    std::thread::spawn(move || {
        loop {
            let event = match terminal_event::read() {
                Ok(TerminalEvent::Key(key)) if key.kind != KeyEventKind::Release => Event::Key(key),
                // A pointer that merely moves would have every cell drawn anew at each of its steps.
                Ok(TerminalEvent::Mouse(mouse)) if mouse.kind == MouseEventKind::Moved => continue,
                Ok(TerminalEvent::Mouse(mouse)) => Event::Mouse(mouse),
                Ok(TerminalEvent::Paste(text)) => Event::Paste(text),
                // Another size is told by its signal: this one goes missing when keys arrive together with it.
                Ok(_) => continue,
                Err(_) => {
                    let _ = out.send(Incoming::TerminalGone);
                    return;
                }
            };
            if out.send(Incoming::Event(event)).is_err() {
                return;
            }
        }
    });
}

/// A terminal that is not the controlling one goes without a signal, and reading from it would go on for ever.
pub fn listen_for_hangup(out: Sender<Incoming>) {
    std::thread::spawn(move || {
        let terminal = std::io::stdout();
        // No events are asked for: only the end of the terminal is told.
        let mut watched = [PollFd::new(&terminal, PollFlags::empty())];
        loop {
            match poll(&mut watched, None) {
                Err(Errno::INTR) => {}
                Ok(_) if watched[0].revents().is_empty() => {}
                // Without an answer it is not known to be gone.
                Err(_) => return,
                Ok(_) => {
                    let _ = out.send(Incoming::TerminalGone);
                    return;
                }
            }
        }
    });
}

/// Sends signals that mean something here.
pub fn listen_to_signals(out: Sender<Incoming>) -> anyhow::Result<()> {
    // Those that would end the program without a word end it in order; what nobody can answer is for `last_words`.
    let ending = [SIGTERM, SIGHUP, SIGINT, SIGQUIT, SIGUSR1, SIGUSR2, SIGALRM];
    let mut signals =
        signal_hook::iterator::Signals::new(ending.iter().chain(&[SIGTSTP, SIGCONT, SIGWINCH]))?;
    std::thread::spawn(move || {
        for signal in signals.forever() {
            let incoming = match signal {
                SIGTSTP => Incoming::Suspend,
                SIGCONT => Incoming::Continued,
                SIGWINCH => Incoming::Resized,
                other => Incoming::Stop(other),
            };
            if out.send(incoming).is_err() {
                return;
            }
        }
    });
    Ok(())
}
