//! What a machine did under a load of our own: temperatures, frequencies, throttling and fans, and the verdict.

use crate::catalogue::core_busy;
use crate::cores::CoreSet;
use crate::lane::Severity;
use crate::sample::Sample;
use crate::units::long_duration;
use serde_json::{Value as Json, json};
use std::collections::BTreeMap;

/// Why a load ended.
#[derive(Clone, Debug, PartialEq)]
pub enum Ended {
    /// Its time was over.
    Time,
    /// Somebody ended it.
    Asked,
    /// A sensor reached a limit: its name, its temperature and the limit, in °C.
    Limit(String, f64, f64),
    /// No temperature could be read any more.
    Blind,
}

/// The lowest, the highest and the sum of values.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Range {
    low: f64,
    high: f64,
    sum: f64,
    seconds: f64,
}

impl Range {
    fn put(&mut self, value: f64, seconds: f64) {
        (self.low, self.high) =
            if self.seconds == 0.0 { (value, value) } else { (self.low.min(value), self.high.max(value)) };
        self.sum += value * seconds;
        self.seconds += seconds;
    }

    fn mean(&self) -> Option<f64> {
        (self.seconds > 0.0).then(|| self.sum / self.seconds)
    }
}

/// A load of our own while it lasts.
#[derive(Clone, Debug)]
pub struct Burn {
    cores: CoreSet,
    /// Percent of the time in which the cores are to be busy.
    load: f64,
    /// Where it is to stop below the limits of the sensors, in °C.
    until: Option<f64>,
    seconds: f64,
    busy: Range,
    /// Hz, the mean of the cores.
    frequency: Range,
    /// By sensor: temperatures in °C, and the limit.
    sensors: BTreeMap<String, (Range, Option<f64>)>,
    /// Temperatures of the hottest sensor, sample by sample.
    hottest: Vec<f64>,
    /// Events of the cores, and after how many seconds the first was.
    throttles: Option<(u64, Option<f64>)>,
    fans: BTreeMap<String, Range>,
    /// Seconds in which no temperature was known although one had been.
    blind: f64,
}

/// Seconds after which cores run as fast as they will.
const WAKING: f64 = 2.5;
/// Without a temperature for so long nobody knows how hot it is.
const BLIND: f64 = 10.0;
/// A frequency that falls below this part of the highest is worth a word.
const FELL: f64 = 0.9;
/// A load that the cores were busy for less than this part of was not reached.
const REACHED: f64 = 0.9;

impl Burn {
    /// A load that begins.
    pub fn new(cores: CoreSet, load: f64, until: Option<f64>) -> Burn {
        Burn {
            cores,
            load,
            until,
            seconds: 0.0,
            busy: Range::default(),
            frequency: Range::default(),
            sensors: BTreeMap::new(),
            hottest: vec![],
            throttles: None,
            fans: BTreeMap::new(),
            blind: 0.0,
        }
    }

    /// Takes in a sample; says whether the load must end.
    pub fn take(&mut self, sample: &Sample) -> Option<Ended> {
        let seconds = sample.seconds()?;
        self.seconds += seconds;
        let (mut frequencies, mut busy) = (vec![], vec![]);
        for core in sample.parts(|reading| &reading.cores[..]) {
            let number = core.now.number.value().and_then(|number| usize::try_from(number).ok());
            if !number.is_some_and(|number| self.cores.has(number)) {
                continue;
            }
            frequencies.extend(core.now.frequency.value().map(|hertz| hertz as f64));
            busy.extend(core_busy(&core).value());
            if let Some(rate) = core.rate(|core| core.throttles).value() {
                let (events, first) = self.throttles.get_or_insert((0, None));
                *events += (rate * seconds).round() as u64;
                if rate > 0.0 {
                    first.get_or_insert(self.seconds);
                }
            }
        }
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
        // Cores that wake up are slow at first.
        if !frequencies.is_empty() && self.seconds > WAKING {
            self.frequency.put(mean(&frequencies), seconds);
        }
        if !busy.is_empty() {
            self.busy.put(mean(&busy), seconds);
        }
        let mut reached = None;
        let mut hottest: Option<f64> = None;
        for row in &sample.now.sensors {
            if let Some(fan) = row.fan.value() {
                self.fans.entry(row.name.to_string()).or_default().put(fan as f64, seconds);
            }
            let Some(here) = row.temperature.value().map(|milli| milli as f64 / 1000.0) else { continue };
            let limit = row.limit.value().map(|milli| milli as f64 / 1000.0).filter(|limit| *limit > 0.0);
            let (range, known) =
                self.sensors.entry(row.name.to_string()).or_insert((Range::default(), limit));
            range.put(here, seconds);
            *known = limit;
            hottest = Some(hottest.map_or(here, |most| most.max(here)));
            let stop = [limit, self.until].into_iter().flatten().reduce(f64::min);
            if let Some(stop) = stop.filter(|stop| here >= *stop) {
                reached.get_or_insert(Ended::Limit(row.name.to_string(), here, stop));
            }
        }
        match hottest {
            Some(hottest) => {
                self.hottest.push(hottest);
                self.blind = 0.0;
            }
            None if !self.hottest.is_empty() => self.blind += seconds,
            None => {}
        }
        reached.or_else(|| (self.blind >= BLIND).then_some(Ended::Blind))
    }

    /// How it is now, in a line.
    pub fn line(&self) -> String {
        let mut parts = vec![long_duration(self.seconds.round())];
        parts.extend(self.frequency.mean().map(gigahertz));
        let Some((name, range, limit)) = self.warmest() else {
            parts.push("no temperature is known".to_owned());
            return parts.join("  ");
        };
        let now = self.hottest.last().copied().unwrap_or(range.high);
        let of = limit.map_or(String::new(), |limit| format!(" of {limit:.0}"));
        parts.push(format!("{name} {now:.0}{of} °C"));
        parts.push(self.throttling());
        parts.extend(self.fans.iter().map(|(name, fan)| format!("{name} {:.0} rpm", fan.high)));
        parts.join("  ")
    }

    /// The sensor that was hottest, with its limit.
    fn warmest(&self) -> Option<(&str, Range, Option<f64>)> {
        let all = self.sensors.iter().map(|(name, (range, limit))| (name.as_str(), *range, *limit));
        all.max_by(|a, b| a.1.high.total_cmp(&b.1.high))
    }

    fn throttling(&self) -> String {
        match self.throttles {
            None => "throttling is not known".to_owned(),
            Some((0, _)) => "never throttled".to_owned(),
            Some((events, first)) => {
                let after = long_duration(first.unwrap_or(0.0).round());
                format!("throttled {events} times, first after {after}")
            }
        }
    }

    /// Temperatures of the hottest sensor, sample by sample.
    pub fn temperatures(&self) -> &[f64] {
        &self.hottest
    }

    /// What became of it, in a sentence, and how bad that is.
    pub fn verdict(&self, ended: &Ended) -> (Severity, String) {
        let time = long_duration(self.seconds.round());
        let mut text = match ended {
            Ended::Time => String::new(),
            Ended::Asked => "ended by hand: ".to_owned(),
            Ended::Limit(sensor, at, limit) => {
                format!("stopped: {sensor} reached {at:.0} °C, where the limit is {limit:.0}; ")
            }
            Ended::Blind => "stopped: no temperature could be read any more; ".to_owned(),
        };
        let mut severity = match ended {
            Ended::Time | Ended::Asked => Severity::Fine,
            Ended::Limit(..) => Severity::Critical,
            Ended::Blind => Severity::Warning,
        };
        match self.frequency.mean() {
            Some(_) if self.frequency.low < FELL * self.frequency.high => {
                text += &format!(
                    "fell from {} to {} in {time}",
                    gigahertz(self.frequency.high),
                    gigahertz(self.frequency.low)
                );
                severity = severity.max(Severity::Notice);
            }
            Some(mean) => text += &format!("held {} for {time}", gigahertz(mean)),
            None => text += &format!("ran for {time}, at a frequency that is not known"),
        }
        text += &match self.warmest() {
            Some((name, range, _)) => format!(" at {:.0} °C ({name})", range.high),
            None => ", at a temperature that is not known".to_owned(),
        };
        text += &format!(", {}", self.throttling());
        if self.throttles.is_some_and(|(events, _)| events > 0) {
            severity = severity.max(Severity::Warning);
        }
        if let Some(busy) = self.busy.mean().filter(|busy| *busy < REACHED * self.load) {
            text += &format!("; the cores were busy only {busy:.0} % of the time");
            severity = severity.max(Severity::Notice);
        }
        (severity, text + ".")
    }

    /// All of it for other programs.
    pub fn json(&self, ended: &Ended) -> Json {
        let (severity, verdict) = self.verdict(ended);
        let range = |range: &Range| {
            range.mean().map(|mean| json!({"low": range.low, "mean": mean, "high": range.high}))
        };
        let sensors: Vec<Json> = self
            .sensors
            .iter()
            .map(|(name, (all, limit))| json!({"name": name, "celsius": range(all), "limit": limit}))
            .collect();
        let fans: Vec<Json> =
            self.fans.iter().map(|(name, all)| json!({"name": name, "rpm": range(all)})).collect();
        json!({
            "severity": severity.word(), "verdict": verdict, "seconds": self.seconds, "cores": self.cores.to_string(),
            "load": self.load, "busy": range(&self.busy), "hertz": range(&self.frequency), "sensors": sensors, "fans": fans,
            "throttled": self.throttles.map(|(events, first)| json!({"events": events, "first_after": first})),
            "ended": match ended {
                Ended::Time => "time",
                Ended::Asked => "asked",
                Ended::Limit(..) => "limit",
                Ended::Blind => "blind",
            },
        })
    }
}

fn gigahertz(hertz: f64) -> String {
    format!("{:.1} GHz", hertz / 1e9)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::{CoreRow, HostFacts, Reading, SensorRow, raw};
    use std::sync::Arc;

    /// Seconds of a burn-in: frequency in MHz, temperature in °C, throttling so far.
    fn burned(seconds: &[(i64, i64, i64)]) -> (Burn, Option<Ended>) {
        let host = Arc::new(HostFacts { cores: 1, ticks_per_second: 100, ..HostFacts::default() });
        let mut burn = Burn::new(CoreSet::first(1), 100.0, None);
        let (mut before, mut ended) = (None, None);
        for (second, (mhz, celsius, throttles)) in (1..).zip(seconds) {
            let mut now = Reading::default();
            let ns = raw(second * 1_000_000_000);
            (now.system.wall_ns, now.system.monotonic_ns, now.system.boot_ns) = (ns, ns, ns);
            now.cores.push(CoreRow {
                number: raw(0),
                user: raw(second * 100),
                idle: raw(0),
                nice: raw(0),
                system: raw(0),
                iowait: raw(0),
                irq: raw(0),
                softirq: raw(0),
                steal: raw(0),
                frequency: raw(mhz * 1_000_000),
                throttles: raw(*throttles),
                ..CoreRow::default()
            });
            now.sensors.push(SensorRow {
                name: "package".into(),
                temperature: if *celsius > 0 { raw(celsius * 1_000) } else { crate::known::Raw::ABSENT },
                limit: raw(95_000),
                ..SensorRow::default()
            });
            let now = Arc::new(now);
            ended = ended.or(burn.take(&Sample::new(host.clone(), before.replace(now.clone()), now)));
        }
        (burn, ended)
    }

    #[test]
    fn what_was_held_is_said_in_a_sentence() {
        let (burn, ended) = burned(&[(4_100, 82, 3); 601]);
        assert_eq!(ended, None);
        let said =
            (Severity::Fine, "held 4.1 GHz for 10 min 0 s at 82 °C (package), never throttled.".to_owned());
        assert_eq!(burn.verdict(&Ended::Time), said);
    }

    #[test]
    fn who_slows_down_is_told_so_and_who_wakes_up_is_not() {
        // The first seconds of a core that slept.
        let mut seconds = vec![(800, 50, 0); 3];
        seconds.extend([(4_000, 80, 0); 20]);
        assert!(burned(&seconds).0.verdict(&Ended::Time).1.starts_with("held 4.0 GHz"));
        seconds.extend([(3_000, 94, 7); 10]);
        let (severity, text) = burned(&seconds).0.verdict(&Ended::Time);
        assert_eq!(severity, Severity::Warning);
        assert!(text.starts_with("fell from 4.0 GHz to 3.0 GHz in 32 s at 94 °C"), "{text}");
        assert!(text.contains("throttled 7 times, first after 23 s"), "{text}");
    }

    #[test]
    fn a_sensor_that_is_too_hot_or_falls_silent_ends_it() {
        let (burn, ended) = burned(&[(4_000, 90, 0), (4_000, 94, 0), (4_000, 95, 0), (4_000, 90, 0)]);
        assert_eq!(ended, Some(Ended::Limit("package".to_owned(), 95.0, 95.0)));
        assert_eq!(burn.verdict(&ended.expect("a limit")).0, Severity::Critical);
        let mut seconds = vec![(4_000, 70, 0); 5];
        seconds.extend([(4_000, 0, 0); 12]);
        assert_eq!(burned(&seconds).1, Some(Ended::Blind));
        // Where none was ever known nobody waits for one.
        let (burn, ended) = burned(&[(4_000, 0, 0); 30]);
        assert_eq!(ended, None);
        assert!(burn.verdict(&Ended::Time).1.contains("at a temperature that is not known"));
    }
}
