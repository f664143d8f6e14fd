//! Memory after a crowd: ten thousand processes that are gone leave some forty megabytes that the C library would keep.

/// So many rows are a crowd.
const CROWD: usize = 2_000;
/// Readings after which nobody holds one of the crowd any more: a sample has two, and what is shown is one of the last.
const LATER: u32 = 8;

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
        let is_gone = self.gone_for >= LATER;
        if is_gone {
            *self = Crowd { most: rows, gone_for: 0 };
        }
        is_gone
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn memory_is_given_back_once_when_a_crowd_has_been_gone_for_a_while() {
        let mut crowd = Crowd::default();
        let mut after = |rows: usize, readings: usize| (0..readings).filter(|_| crowd.is_gone(rows)).count();
        assert_eq!([after(300, 50), after(900, 50), after(100, 50)], [0, 0, 0], "never a crowd");
        assert_eq!([after(10_000, 5), after(6_000, 50)], [0, 0], "most of it is there");
        assert_eq!([after(4_000, 7), after(6_000, 1), after(4_000, 7)], [0, 0, 0], "not for long");
        assert_eq!([after(4_000, 1), after(4_000, 50)], [1, 0]);
        assert_eq!([after(300, 50), after(300, 50)], [1, 0], "half of what was left");
    }
}
