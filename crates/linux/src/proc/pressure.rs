//! `/proc/pressure/*`; Documentation/accounting/psi.rst.

use super::{lines, number, words};
use dozor_core::known::Raw;

/// Microseconds in which some and in which all tasks waited, since boot.
pub fn parse(bytes: &[u8]) -> (Raw, Raw) {
    let total = |kind: &[u8]| {
        lines(bytes).find_map(|line| {
            let mut words = words(line);
            (words.next()? == kind).then_some(())?;
            number(words.find_map(|word| word.strip_prefix(b"total="))?)
        })
    };
    (total(b"some").into(), total(b"full").into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn totals_are_read_and_an_old_kernel_has_no_full_for_the_cpu() {
        let text = b"some avg10=1.69 avg60=16.16 avg300=25.57 total=257354549\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=12\n";
        assert_eq!(parse(text), (Raw::new(257_354_549), Raw::new(12)));
        assert_eq!(parse(b"some avg10=1.69 total=7\n"), (Raw::new(7), Raw::ABSENT));
        assert_eq!(parse(b""), (Raw::ABSENT, Raw::ABSENT));
    }
}
