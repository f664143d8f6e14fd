//! Vocabulary of the screen: what can be done and with which keys, columns, colours, signs, times. It knows no state.

pub mod action;
pub mod clock;
pub mod columns;
pub mod keymap;
pub mod lane_stack;
pub mod layout;
pub mod line_edit;
pub mod symbols;
pub mod theme;
