//! Names that a file has in the same order each time.

use dozor_core::text::{Text, clean};

/// The names of a file as they were read last: where one stands in the same place again, its text is used again.
#[derive(Default)]
pub struct Names(Vec<Text>);

impl Names {
    /// The name in a place, counted from 0 without gaps.
    pub fn at(&mut self, place: usize, bytes: &[u8]) -> Text {
        if let Some(known) = self.0.get(place).filter(|known| known.as_bytes() == bytes) {
            return known.clone();
        }
        let name = Text::from(clean(bytes));
        self.0.truncate(place);
        self.0.push(name.clone());
        name
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_in_its_old_place_is_the_same_text_and_another_is_read_anew() {
        let mut names = Names::default();
        let mut read = |all: &[&str]| -> Vec<Text> {
            all.iter().enumerate().map(|(place, name)| names.at(place, name.as_bytes())).collect()
        };
        let first = read(&["sda", "sdb", "sdc"]);
        let second = read(&["sda", "sdc"]);
        assert!(first[0].as_ptr() == second[0].as_ptr(), "nothing was copied");
        assert_eq!(second.iter().map(|name| &**name).collect::<Vec<_>>(), ["sda", "sdc"]);
        let third = read(&["sda", "sdc", "sd\u{1b}d"]);
        assert!(second[1].as_ptr() == third[1].as_ptr());
        assert!(!third[2].contains('\u{1b}') && third[2] == read(&["sda", "sdc", "sd\u{1b}d"])[2]);
    }
}
