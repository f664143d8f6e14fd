//! `/proc/loadavg`; `proc_loadavg(5)`.

use super::{number, words};
use dozor_core::known::Raw;

/// Load averages in hundredths over 1, 5 and 15 minutes, and the number of scheduling entities.
pub fn parse(bytes: &[u8]) -> ([Raw; 3], Raw) {
    let mut words = words(bytes);
    let loads = [(); 3].map(|()| words.next().and_then(hundredths).into());
    let threads = words.next().and_then(|word| {
        let slash = word.iter().position(|byte| *byte == b'/')?;
        number(&word[slash + 1..])
    });
    (loads, threads.into())
}

/// `3.07` as 307.
fn hundredths(word: &[u8]) -> Option<i64> {
    let point = word.iter().position(|byte| *byte == b'.')?;
    let (whole, part) = (number(&word[..point])?, number(word.get(point + 1..point + 3)?)?);
    whole.checked_mul(100)?.checked_add(part)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let (loads, threads) = parse(include_bytes!("../../tests/fixtures/loadavg"));
        assert_eq!((loads, threads), ([53, 19, 7].map(Raw::new), Raw::new(79)));
    }
}
