//! Memory after a crowd: ten thousand processes that are gone leave some forty megabytes that the C library would keep.

/// So many rows are a crowd.
const CROWD: usize = 2_000;
/// Readings after which most of it is free: a sample holds two of them, and what is shown is one of the last.
const SOON: u32 = 8;
/// Readings after which nobody holds one of the crowd any more: trends look back over the last hundred.
const LATER: u32 = 128;

/// Notices that a crowd is gone.
#[derive(Default)]
pub struct Crowd {
    /// Most rows that a reading had since memory was given back last.
    most: usize,
    /// For so many readings at most half of it is there.
    gone_for: u32,
}

impl Crowd {
    /// Whether free memory is worth being given back, after a reading of so many rows.
    pub fn is_gone(&mut self, rows: usize) -> bool {
        self.most = self.most.max(rows);
        if self.most < CROWD || rows > self.most / 2 {
            self.gone_for = 0;
            return false;
        }
        self.gone_for += 1;
        if self.gone_for == LATER {
            *self = Crowd { most: rows, gone_for: 0 };
            return true;
        }
        self.gone_for == SOON
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn memory_is_given_back_when_a_crowd_is_gone_and_once_more_when_nobody_remembers_it() {
        let mut crowd = Crowd::default();
        let mut after = |rows: usize, readings: usize| (0..readings).filter(|_| crowd.is_gone(rows)).count();
        assert_eq!([after(300, 50), after(900, 50), after(100, 50)], [0, 0, 0], "never a crowd");
        assert_eq!([after(10_000, 5), after(6_000, 50)], [0, 0], "most of it is there");
        assert_eq!([after(4_000, 7), after(6_000, 1), after(4_000, 7)], [0, 0, 0], "not for long");
        assert_eq!([after(4_000, 1), after(4_000, 119)], [1, 0]);
        assert_eq!([after(4_000, 1), after(4_000, 200)], [1, 0]);
        assert_eq!([after(300, 130), after(300, 200)], [2, 0], "half of what was left");
    }
}
