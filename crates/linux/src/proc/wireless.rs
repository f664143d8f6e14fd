//! `/proc/net/wireless`: quality and signal of each wireless interface.

use super::{lines, number, words};
use dozor_core::known::Raw;
use dozor_core::text::clean;

/// Name, signal in dBm and quality in the driver's scale. Numbers end with a point where they are fresh.
pub fn parse(bytes: &[u8]) -> Vec<(String, Raw, Raw)> {
    let whole = |word: Option<&[u8]>| -> Raw {
        word.and_then(|word| number(word.strip_suffix(b".").unwrap_or(word))).into()
    };
    lines(bytes)
        .skip(2)
        .filter_map(|line| {
            let colon = line.iter().position(|byte| *byte == b':')?;
            let mut words = words(&line[colon + 1..]);
            let _status = words.next()?;
            let (quality, signal) = (whole(words.next()), whole(words.next()));
            // A level of zero or above is no dBm: some drivers count in a scale of their own.
            let signal = signal.value().filter(|signal| *signal < 0).into();
            Some((clean(line[..colon].trim_ascii()), signal, quality))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let text = b"Inter-| sta-|   Quality        |\n face | tus | link level noise |\n wlan0: 0000   54.  -56.  -256        0      0\n";
        assert_eq!(parse(text), [("wlan0".to_owned(), Raw::new(-56), Raw::new(54))]);
        assert!(parse(b"").is_empty());
    }
}
