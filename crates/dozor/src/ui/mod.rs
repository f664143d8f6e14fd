//! The screen.
//!
//! Events from the terminal, the source and the workers become [`action::Action`]s; [`update`] is the only
//! place where the [`state`] changes; [`view`] only reads it. [`run`] joins the threads, [`terminal`] sets up
//! and restores the terminal, [`theme`] knows the colours, [`layout`] where things stand.

pub mod action;
pub mod arrangement;
pub mod axis;
pub mod columns;
pub mod frugal;
pub mod hints;
pub mod keymap;
pub mod layout;
pub mod line_edit;
pub mod overview;
pub mod parts;
pub mod pick;
pub mod prompt;
pub mod rows;
pub mod run;
pub mod search;
pub mod sheet;
pub mod state;
pub mod symbols;
pub mod terminal;
pub mod theme;
pub mod trend;
pub mod update;
pub mod view;

#[cfg(test)]
mod tests;
