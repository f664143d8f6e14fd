//! Wall clock times as text, in the time zone of the host that they belong to.

use crate::when::zone;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// A time zone, for times as text.
#[derive(Clone, Debug)]
pub struct Zone(TimeZone);

impl Zone {
    /// The zone that a recording names; UTC where it is empty or this machine does not know it.
    pub fn named(name: &str) -> Zone {
        Zone(zone(name))
    }

    /// The zone for reckoning.
    pub fn time_zone(&self) -> &TimeZone {
        &self.0
    }

    /// This zone.
    pub fn of(zone: TimeZone) -> Zone {
        Zone(zone)
    }

    /// Its name.
    pub fn name(&self) -> String {
        self.0.iana_name().unwrap_or("UTC").to_owned()
    }

    fn show(&self, wall_ns: i64, format: &str) -> String {
        Timestamp::from_nanosecond(i128::from(wall_ns)).map_or_else(
            |_| "–".to_owned(),
            |time| time.to_zoned(self.0.clone()).strftime(format).to_string(),
        )
    }

    /// `02:14:31`.
    pub fn time(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%H:%M:%S")
    }

    /// `02:14`.
    pub fn minute(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%H:%M")
    }

    /// `2031-02-14`.
    pub fn day(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%Y-%m-%d")
    }

    /// `2031-02-14 02:14:31 CET`.
    pub fn date_time(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%Y-%m-%d %H:%M:%S %Z")
    }

    /// `2031-02-14T02:14:31.500+01:00`, RFC 3339.
    pub fn rfc3339(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%Y-%m-%dT%H:%M:%S%.3f%:z")
    }

    /// `20310214-021431`, for names of files.
    pub fn for_file_name(&self, wall_ns: i64) -> String {
        self.show(wall_ns, "%Y%m%d-%H%M%S")
    }

    /// Seconds east of UTC at a time.
    pub fn offset_seconds(&self, wall_ns: i64) -> i64 {
        Timestamp::from_nanosecond(i128::from(wall_ns))
            .map_or(0, |time| i64::from(self.0.to_offset(time).seconds()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_shown_in_their_own_zone() {
        let night = 1_928_801_040_500_000_000;
        let utc = Zone::named("UTC");
        assert_eq!(utc.time(night), "02:04:00");
        assert_eq!(utc.rfc3339(night), "2031-02-14T02:04:00.500+00:00");
        assert_eq!(utc.date_time(night), "2031-02-14 02:04:00 UTC");
        assert_eq!(Zone::named("No/Such").time(night), "02:04:00", "an unknown zone is UTC");
    }
}
