//! `/proc/PID/limits`; `proc_pid_limits(5)`.

use super::{lines, number, words};

/// Most files that may be open: the soft limit. Nothing where there is none.
pub fn files(bytes: &[u8]) -> Option<i64> {
    let line = lines(bytes).find_map(|line| line.strip_prefix(b"Max open files"))?;
    words(line).next().and_then(number)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_soft_limit_is_read() {
        let text = b"Limit                     Soft Limit           Hard Limit           Units     \n\
            Max processes             unlimited            96000                processes \n\
            Max open files            1024                 524288               files     \n";
        assert_eq!(files(text), Some(1024));
        assert_eq!(files(b"Max open files unlimited unlimited files\n"), None);
        assert_eq!(files(b""), None);
    }
}
