//! Pushing to a collector by OTLP over HTTP: samples as metrics, what stands out as log records. A queue of a few samples stands between sampling and sending: where the collector is
//! away for longer the oldest are left out, and it is said how many.

use super::current::Current;
use dozor_core::findings::Finding;
use dozor_core::reading::HostFacts;
use dozor_export::open::logs::Logs;
use dozor_export::open::otlp::Identity;
use dozor_export::open::{Family, otlp};
use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Samples that wait at most.
const WAITING: usize = 64;
/// Time that a request may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// The first wait after a failure, and the longest.
const FIRST: Duration = Duration::from_millis(500);
const LONGEST: Duration = Duration::from_secs(60);

/// In which form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Encoding {
    /// Binary
    Protobuf,
    /// The same as JSON
    Json,
}

/// What waits to be sent.
enum Parcel {
    /// A sample.
    Metrics(i64, Vec<Family>),
    /// What has begun to stand out, or is over.
    Logs(i64, Logs),
}

struct Queue {
    waiting: VecDeque<Parcel>,
    left_out: u64,
}

/// Where samples are put that are to be sent.
#[derive(Clone)]
pub struct Outgoing(Arc<(Mutex<Queue>, Condvar, Identity)>);

/// Who this is, by the words of the conventions for host.arch.
fn identity() -> Identity {
    let arch = match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        "arm" => "arm32",
        "powerpc64" => "ppc64",
        "s390x" => "s390x",
        "x86" => "x86",
        _ => "",
    };
    let (host_id, instance) = dozor_linux::host::ids();
    Identity { host_id, arch: arch.to_owned(), instance }
}

impl Outgoing {
    /// Begins sending to a collector. What goes wrong is told in words.
    pub fn start(url: &str, encoding: Encoding, host: Arc<HostFacts>, tell: fn(&str)) -> Outgoing {
        let queue = Queue { waiting: VecDeque::new(), left_out: 0 };
        let outgoing = Outgoing(Arc::new((Mutex::new(queue), Condvar::new(), identity())));
        let (queue, url) = (outgoing.clone(), target(url));
        std::thread::spawn(move || queue.send_on(&url, encoding, &host, tell));
        outgoing
    }

    /// Puts a sample behind those that wait, with what has begun to stand out or is over; never waits itself.
    pub fn put(&self, current: &Current, changes: &[(&Finding, bool)]) {
        let wall_ns = current.sample.now.wall_ns();
        let families = current.families();
        let (queue, bell, identity) = &*self.0;
        let mut queue = queue.lock().unwrap_or_else(PoisonError::into_inner);
        queue.waiting.push_back(Parcel::Metrics(wall_ns, families));
        if !changes.is_empty() {
            queue
                .waiting
                .push_back(Parcel::Logs(wall_ns, Logs::of(changes, &current.sample.host, identity, wall_ns)));
        }
        while queue.waiting.len() > WAITING {
            queue.waiting.pop_front();
            queue.left_out += 1;
        }
        bell.notify_one();
    }

    fn next(&self) -> Parcel {
        let (queue, bell, _) = &*self.0;
        let mut queue = queue.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(next) = queue.waiting.pop_front() {
                return next;
            }
            queue = bell.wait(queue).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// One that could not be sent goes back to the front, where there is room.
    fn give_back(&self, parcel: Parcel) {
        let mut queue = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        if queue.waiting.len() < WAITING {
            queue.waiting.push_front(parcel);
        } else {
            queue.left_out += 1;
        }
    }

    fn left_out(&self) -> u64 {
        let mut queue = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut queue.left_out)
    }

    fn send_on(&self, url: &str, encoding: Encoding, host: &HostFacts, tell: fn(&str)) {
        let agent: ureq::Agent = ureq::Agent::config_builder()
            .timeout_global(Some(PATIENCE))
            .http_status_as_error(false)
            .user_agent(concat!("dozor/", env!("CARGO_PKG_VERSION")))
            .build()
            .into();
        let mut failing: Option<Instant> = None;
        let mut wait = FIRST;
        let metrics_url = Some(url.to_owned());
        let mut logs_url = url.strip_suffix("/v1/metrics").map(|begin| format!("{begin}/v1/logs"));
        loop {
            let parcel = self.next();
            let kind = match encoding {
                Encoding::Protobuf => "application/x-protobuf",
                Encoding::Json => "application/json",
            };
            let (url, wall_ns, bytes) = match (&parcel, encoding) {
                // Whoever names a path of his own for metrics says nothing of another for this.
                (Parcel::Logs(..), _) if logs_url.is_none() => continue,
                (Parcel::Logs(wall_ns, logs), Encoding::Protobuf) => (&logs_url, wall_ns, logs.bytes()),
                (Parcel::Logs(wall_ns, logs), Encoding::Json) => {
                    (&logs_url, wall_ns, logs.json().to_string().into_bytes())
                }
                (Parcel::Metrics(wall_ns, families), _) => {
                    let request = otlp::request(families, host, &self.0.2, *wall_ns);
                    let bytes = match encoding {
                        Encoding::Protobuf => request.bytes(),
                        Encoding::Json => request.json().to_string().into_bytes(),
                    };
                    (&metrics_url, wall_ns, bytes)
                }
            };
            let (url, wall_ns) = (url.clone().unwrap_or_default(), *wall_ns);
            match sent(&agent, &url, kind, &bytes) {
                Sent::Taken(partly) => {
                    if failing.take().is_some() {
                        tell(&format!("pushing again; {} samples were left out", self.left_out()));
                    }
                    if let Some(partly) = partly {
                        tell(&format!("{url} did not take all: {partly}"));
                    }
                    wait = FIRST;
                }
                Sent::Refused(reason) => {
                    tell(&format!("{url} refuses what is pushed: {reason}"));
                    // One that takes no log records is told none.
                    if matches!(parcel, Parcel::Logs(..)) {
                        logs_url = None;
                    }
                }
                Sent::Later(reason, asked) => {
                    if failing.is_none() {
                        tell(&format!("{url}: {reason}; trying goes on"));
                        failing = Some(Instant::now());
                    }
                    self.give_back(parcel);
                    std::thread::sleep(
                        asked.map_or_else(|| uneven(wait, wall_ns), |asked| asked.min(LONGEST)),
                    );
                    wait = (wait * 2).min(LONGEST);
                }
            }
        }
    }
}

/// What became of a request.
enum Sent {
    Taken(Option<String>),
    Refused(String),
    Later(String, Option<Duration>),
}

/// Many machines must not come back at the same instant: three quarters to five quarters of a wait.
fn uneven(wait: Duration, wall_ns: i64) -> Duration {
    let chance = (wall_ns / 1_000).rem_euclid(1_000) as f64 / 1_000.0;
    wait.mul_f64(0.75 + chance / 2.0)
}

/// The address for metrics: the usual path is put behind one that names only a host.
pub fn target(url: &str) -> String {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    match rest.split_once('/') {
        None => format!("{url}/v1/metrics"),
        Some((_, "")) => format!("{url}v1/metrics"),
        Some(_) => url.to_owned(),
    }
}

fn sent(agent: &ureq::Agent, url: &str, kind: &str, bytes: &[u8]) -> Sent {
    let answer = agent.post(url).header("content-type", kind).send(bytes);
    let mut answer = match answer {
        Ok(answer) => answer,
        Err(error) => return Sent::Later(error.to_string(), None),
    };
    let status = answer.status();
    let header =
        |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let asked = header("retry-after").and_then(|text| text.trim().parse().ok()).map(Duration::from_secs);
    let is_json = header("content-type").is_some_and(|kind| kind.starts_with("application/json"));
    // OTLP 1.x: these may be tried again, others may not.
    if matches!(status.as_u16(), 429 | 502 | 503 | 504) {
        return Sent::Later(format!("it answers {status}"), asked);
    }
    let text = answer.body_mut().with_config().limit(16 << 10).read_to_string().unwrap_or_default();
    if !status.is_success() {
        return Sent::Refused(format!("{status} {}", dozor_core::text::clean(text.as_bytes())));
    }
    let partly = is_json.then(|| serde_json::from_str::<serde_json::Value>(&text).ok()).flatten();
    let partly = partly.and_then(|answer| {
        let partly = &answer["partialSuccess"];
        let number = |name: &str| partly[name].as_i64().or_else(|| partly[name].as_str()?.parse().ok());
        let (points, records) = (number("rejectedDataPoints"), number("rejectedLogRecords"));
        let (count, what) = points.map_or((records.unwrap_or(0), "records"), |points| (points, "points"));
        (count > 0).then(|| format!("{count} {what}; {}", partly["errorMessage"]))
    });
    Sent::Taken(partly)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_usual_path_stands_behind_a_host_alone() {
        assert_eq!(target("http://127.0.0.1:4318"), "http://127.0.0.1:4318/v1/metrics");
        assert_eq!(target("http://127.0.0.1:4318/"), "http://127.0.0.1:4318/v1/metrics");
        assert_eq!(target("http://127.0.0.1:4318/otlp/v1/metrics"), "http://127.0.0.1:4318/otlp/v1/metrics");
    }
}
