//! The arrangements.

use super::super::{After, Room};
use super::{Choices, Look, Picker, Row};
use crate::look::action::Action;
use crate::state::State;
use dozor_core::rank::Arrange;

/// Arrangements of the rows.
pub struct Arrangements;

/// The list, at the present one.
pub fn sheet(state: &State) -> Picker<Arrangements> {
    Picker::at(Arrange::ALL.iter().position(|arrange| *arrange == state.values.arrange).unwrap_or(0))
}

impl Choices for Arrangements {
    type Item = Arrange;
    const TITLE: &'static str = "Arrange processes";
    const CHOOSE: &'static str = "arrange so";
    const ROOM: Room = Room::Lines(10);
    const LOOK: Look = Look { name: 16, keys: 0, keys_first: false, no_now: 0 };
    const OPENER: Option<Action> = Some(Action::Arrange);

    fn rows(state: &State, typed: &str) -> Vec<Row<Arrange>> {
        let typed = typed.to_lowercase();
        let row = |arrange: Arrange| Row {
            now: if state.values.arrange == arrange { "now".to_owned() } else { String::new() },
            ..Row::new(Some(arrange), arrange.word(), arrange.help())
        };
        Arrange::ALL.into_iter().filter(|arrange| arrange.word().contains(&typed)).map(row).collect()
    }

    fn choose(arrange: Arrange, _second: bool, state: &mut State) -> After {
        state.arrange_by(arrange);
        After::Close
    }
}
