//! Foreign text made harmless: process names, command lines and device names come from anybody.
//!
//! Cleaned text holds no control character, no escape sequence, no bidirectional override and no character
//! that takes no room without belonging to the one before it; it is valid UTF-8. Cleaning is idempotent, so
//! text from a recording may be cleaned again without harm.

use std::sync::Arc;

/// Shared text, cheap to keep in many readings.
pub type Text = Arc<str>;

/// Longest text that is kept, in bytes. A longer one (a huge command line) ends with an ellipsis.
pub const LONGEST: usize = 4096;

/// Whether a character may stand on a screen or in a file as it is.
fn harmless(c: char) -> bool {
    !c.is_control()
        && !matches!(c,
            '\u{061c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
            | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{00ad}' | '\u{e0000}'..='\u{e007f}')
}

/// Turns any bytes into harmless text: what is not valid UTF-8 becomes `\xNN`, a control or invisible
/// character becomes `\n`, `\t`, `\r`, `\xNN` or `\u{N}`.
pub fn clean(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len().min(LONGEST));
    'all: for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if out.len() >= LONGEST {
                break 'all;
            }
            if harmless(c) {
                out.push(c);
            } else {
                escape(c, &mut out);
            }
        }
        for byte in chunk.invalid() {
            out.push_str(&format!("\\x{byte:02x}"));
        }
    }
    if out.len() >= LONGEST {
        let mut end = LONGEST - '…'.len_utf8();
        while !out.is_char_boundary(end) {
            end -= 1;
        }
        out.truncate(end);
        out.push('…');
    }
    out
}

fn escape(c: char, out: &mut String) {
    match c {
        '\n' => out.push_str("\\n"),
        '\r' => out.push_str("\\r"),
        '\t' => out.push_str("\\t"),
        c if (c as u32) < 0x80 => out.push_str(&format!("\\x{:02x}", c as u32)),
        c => out.push_str(&format!("\\u{{{:x}}}", c as u32)),
    }
}

/// What the operating system says of an error, without the number that it adds.
pub fn without_number(error: &impl std::fmt::Display) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_owned()
}

/// The nearest of `candidates` to a misspelt word, if one is near enough to be meant.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (word.chars().count() / 3).max(1) + 1;
    candidates
        .into_iter()
        .map(|candidate| (edits(word, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= limit && *distance < candidate.chars().count())
        .min_by_key(|(distance, candidate)| (*distance, candidate.len()))
        .map(|(_, candidate)| candidate)
}

/// Number of letters to insert, remove, replace or swap to turn one word into the other.
fn edits(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let same = usize::from(a[i - 1] != b[j - 1]);
            row[j] = (rows[i - 1][j] + 1).min(row[j - 1] + 1).min(rows[i - 1][j - 1] + same);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                row[j] = row[j].min(rows[i - 2][j - 2] + 1);
            }
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}

/// What two texts begin with.
pub fn common_beginning<'a>(one: &'a str, other: &str) -> &'a str {
    let same = one.chars().zip(other.chars()).take_while(|(a, b)| a == b);
    &one[..same.map(|(letter, _)| letter.len_utf8()).sum()]
}

/// The empty text, shared by all of a thread: threads that count on one number hold each other up.
pub fn no_text() -> Text {
    thread_local! {
        static EMPTY: Text = Text::from("");
    }
    EMPTY.try_with(Text::clone).unwrap_or_else(|_| Text::from(""))
}

/// One of our own words as a text; each is made once for a thread.
pub fn word(word: &'static str) -> Text {
    thread_local! {
        static WORDS: std::cell::RefCell<std::collections::HashMap<&'static str, Text>> = std::cell::RefCell::default();
    }
    WORDS.with_borrow_mut(|words| words.entry(word).or_insert_with(|| Text::from(word)).clone())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn hostile_names_become_visible() {
        assert_eq!(clean(b"a\x1b[31mred\x07"), "a\\x1b[31mred\\x07");
        assert_eq!(clean(b"two\nlines\t"), "two\\nlines\\t");
        assert_eq!(clean(b"\xff\xfelatin \xe9"), "\\xff\\xfelatin \\xe9");
        assert_eq!(clean("right\u{202e}left".as_bytes()), "right\\u{202e}left");
        assert_eq!(clean("zvezdárna".as_bytes()), "zvezdárna");
    }

    #[test]
    fn errors_of_the_system_lose_their_number() {
        let error = std::io::Error::from_raw_os_error(28);
        assert_eq!(without_number(&error), "No space left on device");
        assert_eq!(without_number(&"plain words"), "plain words");
    }

    #[test]
    fn a_huge_command_line_is_cut_with_a_sign() {
        let cut = clean(&vec![b'x'; 100_000]);
        assert!(cut.len() <= LONGEST && cut.ends_with('…'));
    }

    #[test]
    fn the_nearest_name_is_found_or_none() {
        assert_eq!(nearest("wirte", ["read", "write", "rss"]), Some("write"));
        assert_eq!(nearest("zzzzzz", ["read", "write", "rss"]), None);
    }

    proptest! {
        #[test]
        fn cleaning_is_harmless_and_idempotent(bytes in proptest::collection::vec(any::<u8>(), 0..6000)) {
            let once = clean(&bytes);
            prop_assert!(once.chars().all(harmless));
            prop_assert!(once.len() <= LONGEST);
            prop_assert_eq!(clean(once.as_bytes()), once);
        }
    }
}
