//! `/proc/PID/cmdline`; `proc_pid_cmdline(5)`.

use dozor_core::text::clean;

/// The arguments with blanks between them; empty for a kernel thread and a zombie.
pub fn parse(bytes: &[u8]) -> String {
    let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let spaced: Vec<u8> = bytes[..end].iter().map(|byte| if *byte == 0 { b' ' } else { *byte }).collect();
    clean(&spaced)
}

/// Whether this text is surely what the bytes are read as; without building it. Where something had to be made harmless it says no.
pub fn is(bytes: &[u8], text: &str) -> bool {
    let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let spaced = bytes[..end].iter().map(|byte| if *byte == 0 { b' ' } else { *byte });
    end == text.len() && spaced.eq(text.bytes())
}

/// Base name of the first argument, as it stands there.
pub fn program(bytes: &[u8]) -> Option<&[u8]> {
    let first = bytes.split(|byte| *byte == 0).next()?;
    let base = first.rsplit(|byte| *byte == b'/').next()?;
    (!base.is_empty()).then_some(base)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_are_joined_and_made_harmless() {
        let bytes = b"/opt/lynx/bin/guider\0--axis\0two words\0\x1b[2J\n\0\0";
        assert_eq!(parse(bytes), "/opt/lynx/bin/guider --axis two words \\x1b[2J\\n");
        assert_eq!(program(bytes), Some(&b"guider"[..]));
        assert!(!is(bytes, &parse(bytes)), "not surely");
        let harmless = b"guider\0--axis\0two words\0\0";
        assert!(is(harmless, &parse(harmless)) && is(b"\0", ""));
        for other in ["guider --axis two word", "guider --axis two wordz", "guider --axis two words ", ""] {
            assert!(!is(harmless, other), "{other}");
        }
        assert_eq!((parse(b""), program(b"")), (String::new(), None));
    }
}
