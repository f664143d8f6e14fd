//! One line of text that is being typed.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Longest line that can be typed, in characters.
const LONGEST: usize = 1000;

/// Text and the place of the caret in it, counted in characters.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LineEdit {
    text: Vec<char>,
    caret: usize,
}

impl LineEdit {
    /// Starts with a text, the caret behind it.
    pub fn new(text: &str) -> LineEdit {
        let text: Vec<char> = text.chars().collect();
        LineEdit { caret: text.len(), text }
    }

    /// The text.
    pub fn text(&self) -> String {
        self.text.iter().collect()
    }

    /// The text before and behind the caret.
    pub fn halves(&self) -> (String, String) {
        let (before, behind) = self.text.split_at(self.caret);
        (before.iter().collect(), behind.iter().collect())
    }

    /// The place of the caret, in bytes.
    pub fn caret_bytes(&self) -> usize {
        self.text[..self.caret].iter().map(|letter| letter.len_utf8()).sum()
    }

    /// Another text, with the caret at a place in bytes.
    pub fn set(&mut self, text: &str, caret_bytes: usize) {
        self.text = text.chars().take(LONGEST).collect();
        self.caret = text.get(..caret_bytes).map_or(0, |before| before.chars().count()).min(self.text.len());
    }

    /// Takes a key; says whether it meant something here.
    pub fn key(&mut self, key: &KeyEvent) -> bool {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        match key.code {
            KeyCode::Char('u') if control => {
                self.text.drain(..self.caret);
                self.caret = 0;
            }
            KeyCode::Char('w') if control => {
                let word_end = self.text[..self.caret].iter().rposition(|c| *c != ' ').map_or(0, |at| at + 1);
                let start = self.text[..word_end].iter().rposition(|c| *c == ' ').map_or(0, |at| at + 1);
                self.text.drain(start..self.caret);
                self.caret = start;
            }
            KeyCode::Char('a') if control => self.caret = 0,
            KeyCode::Char('e') if control => self.caret = self.text.len(),
            KeyCode::Char(_) if control => return false,
            KeyCode::Char(letter) => self.insert(letter),
            KeyCode::Backspace if self.caret > 0 => {
                self.caret -= 1;
                self.text.remove(self.caret);
            }
            KeyCode::Delete if self.caret < self.text.len() => drop(self.text.remove(self.caret)),
            KeyCode::Left => self.caret = self.caret.saturating_sub(1),
            KeyCode::Right => self.caret = (self.caret + 1).min(self.text.len()),
            KeyCode::Home => self.caret = 0,
            KeyCode::End => self.caret = self.text.len(),
            KeyCode::Backspace | KeyCode::Delete => {}
            _ => return false,
        }
        true
    }

    /// Takes a key of a line whose caret stays at its end, since nothing shows it anywhere else; says whether the text is another.
    pub fn search_key(&mut self, key: &KeyEvent) -> bool {
        let moves = matches!(
            key.code,
            KeyCode::Left | KeyCode::Right | KeyCode::Home | KeyCode::End | KeyCode::Delete
        );
        let before = self.text.len();
        !moves && {
            self.key(key);
            self.caret = self.text.len();
            self.text.len() != before
        }
    }

    /// Puts pasted or typed text at the caret; control characters are left out.
    pub fn insert_text(&mut self, text: &str) {
        text.chars().for_each(|letter| self.insert(letter));
    }

    fn insert(&mut self, letter: char) {
        if !letter.is_control() && self.text.len() < LONGEST {
            self.text.insert(self.caret, letter);
            self.caret += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn typing_moving_and_deleting_work_on_characters() {
        let mut line = LineEdit::new("");
        let press = |line: &mut LineEdit, code| line.key(&KeyEvent::new(code, KeyModifiers::NONE));
        line.insert_text("dóme\n ctl");
        assert_eq!(line.text(), "dóme ctl");
        press(&mut line, KeyCode::Home);
        press(&mut line, KeyCode::Right);
        press(&mut line, KeyCode::Delete);
        press(&mut line, KeyCode::Backspace);
        press(&mut line, KeyCode::Backspace);
        assert_eq!(line.halves(), (String::new(), "me ctl".to_owned()));
        press(&mut line, KeyCode::End);
        line.key(&KeyEvent::new(KeyCode::Char('w'), KeyModifiers::CONTROL));
        assert_eq!(line.text(), "me ");
        assert!(!press(&mut line, KeyCode::Enter), "what is not editing is left to others");
    }
}
