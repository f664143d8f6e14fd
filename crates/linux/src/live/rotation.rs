//! Who is looked at in a reading, so that each has its turn in time, however uneven the intervals are.

/// Intervals are as uneven as the machine is busy: a turn must not wait for one that is longer than those before.
const MARGIN: f64 = 0.8;

/// Neighbouring numbers are spread over the whole dial: by the golden ratio of 2³².
pub const SPREAD: u32 = 0x9e37_79b9;
const AROUND: f64 = 4_294_967_296.0;

/// A hand that goes around a dial; each process has its place on the dial.
pub struct Rotation {
    /// Within so many seconds everybody has a turn.
    within: f64,
    /// Where the hand is.
    hand: u32,
    /// The part of the dial that it swept since the reading before; all of it where the interval was long.
    swept: Option<u32>,
}

impl Rotation {
    /// One in which everybody has a turn within so many seconds.
    pub fn within(seconds: f64) -> Rotation {
        Rotation { within: seconds, hand: 0, swept: None }
    }

    /// So many seconds have passed since the reading before.
    pub fn advance(&mut self, seconds: f64) {
        // A round is made of whole readings: with intervals of two seconds each has its turn at every second.
        let readings = (self.within * MARGIN / seconds).floor();
        self.swept = (readings > 1.0).then(|| (AROUND / readings).ceil() as u32);
        self.hand = self.hand.wrapping_add(self.swept.unwrap_or(0));
    }

    /// Where the hand is and how far it came, for whoever turns it elsewhere: a process has its turn where it is swept over.
    pub fn dial(&self) -> (u32, u32) {
        (self.hand, self.swept.unwrap_or(u32::MAX))
    }

    /// Whether it is the turn of this process.
    pub fn has(&self, pid: i64) -> bool {
        let place = (pid as u32).wrapping_mul(SPREAD);
        self.swept.is_none_or(|swept| self.hand.wrapping_sub(place) < swept)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Within so many seconds.
    const WITHIN: f64 = 5.0;

    /// Longest time that a process waited for its turn, and the most that had it in one reading.
    fn longest(intervals: impl Fn(u32) -> f64) -> (f64, usize) {
        let (mut rotation, mut now, mut longest, mut most) = (Rotation::within(WITHIN), 0.0, 0.0f64, 0);
        let mut looked = vec![0.0; 1000];
        for reading in 0..200 {
            let seconds = intervals(reading);
            now += seconds;
            rotation.advance(seconds);
            let mut had = 0;
            for (pid, last) in looked.iter_mut().enumerate() {
                if rotation.has(pid as i64 + 300) {
                    longest = longest.max(now - *last);
                    *last = now;
                    had += 1;
                }
            }
            most = most.max(had);
        }
        (longest, most)
    }

    #[test]
    fn everybody_has_a_turn_in_time_however_uneven_the_intervals_are() {
        for (intervals, share) in [
            (&(|_| 0.7) as &dyn Fn(u32) -> f64, 0.21),
            (&|_| 0.1, 0.03),
            (&|_| 1.0, 0.26),
            (&|_| 2.0, 0.51),
            // As on a busy machine, where one and the same pause takes now more, now less.
            (&|reading| if reading % 3 == 0 { 0.7 } else { 0.75 }, 0.21),
            (&|reading| 0.5 + f64::from(reading * 7919 % 100) / 200.0, 0.26),
            (&|_| 3.0, 1.0),
            (&|_| 60.0, 1.0),
        ] {
            let (longest, most) = longest(intervals);
            assert!(longest <= WITHIN.max(intervals(0)), "{longest}");
            assert!(most as f64 <= share * 1000.0 + 1.0, "{most} at once");
        }
    }

    #[test]
    fn with_nothing_passed_nobody_has_a_turn() {
        let mut rotation = Rotation::within(WITHIN);
        rotation.advance(0.0);
        assert!(!(1..1000).any(|pid| rotation.has(pid)));
    }
}
