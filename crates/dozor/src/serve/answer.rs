//! What is answered to a request.

use super::current::Shared;
use super::guard::{Guard, Refusal};
use super::noted::Noted;
use super::past::Past;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Writer, mark_frame};
use dozor_export::open::openmetrics;
use hyper::body::{Body, Bytes, Frame, Incoming, SizeHint};
use hyper::header::{
    ACCEPT, ACCEPT_RANGES, ALLOW, CACHE_CONTROL, CONNECTION, CONTENT_LENGTH, CONTENT_RANGE,
    CONTENT_SECURITY_POLICY, CONTENT_TYPE, HeaderValue, RANGE, RETRY_AFTER, WWW_AUTHENTICATE,
    X_CONTENT_TYPE_OPTIONS,
};
use hyper::{Method, Request, Response, StatusCode};
use serde_json::{Value as Json, json};
use std::convert::Infallible;
use std::fs::File;
use std::os::unix::fs::FileExt as _;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant, SystemTime};
use tokio::sync::{Semaphore, broadcast, mpsc};

/// What is served, and to whom.
#[derive(Clone)]
pub struct Service {
    /// The newest sample and the lanes of lately.
    pub shared: Shared,
    /// Every reading, for who follows all of them.
    pub readings: broadcast::Sender<Arc<Reading>>,
    /// Whose they are.
    pub host: Arc<HostFacts>,
    /// Time between them.
    pub every: Duration,
    /// Who may ask.
    pub guard: Guard,
    /// Recordings of a folder.
    pub past: Option<Arc<Past>>,
    /// What was done and noted lately.
    pub noted: Noted,
    /// How many follow all readings at once.
    pub followers: Arc<Semaphore>,
    /// Since when it serves.
    pub begin: Instant,
}

/// Clients that follow all readings at once: each has an encoder of its own.
pub const FOLLOWERS: usize = 8;
/// Bytes of a request's body that are tolerated; nothing is done with them.
const BODY: u64 = 64 << 10;
/// Pieces of a stream that wait for its client.
const AHEAD: usize = 8;
/// Bytes of a recording that are read at once.
const PIECE: usize = 256 << 10;

/// The body of an answer.
pub enum Reply {
    /// All of it.
    Whole(Option<Bytes>),
    /// Piece by piece.
    Stream(mpsc::Receiver<Bytes>),
}

impl Body for Reply {
    type Data = Bytes;
    type Error = Infallible;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Infallible>>> {
        match &mut *self {
            Reply::Whole(bytes) => Poll::Ready(bytes.take().map(|bytes| Ok(Frame::data(bytes)))),
            Reply::Stream(pieces) => {
                pieces.poll_recv(context).map(|piece| piece.map(|bytes| Ok(Frame::data(bytes))))
            }
        }
    }

    fn is_end_stream(&self) -> bool {
        matches!(self, Reply::Whole(None))
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Reply::Whole(bytes) => SizeHint::with_exact(bytes.as_ref().map_or(0, |bytes| bytes.len() as u64)),
            Reply::Stream(_) => SizeHint::default(),
        }
    }
}

type Answer = Response<Reply>;

fn whole(status: StatusCode, kind: &'static str, bytes: impl Into<Bytes>) -> Answer {
    let mut answer = Response::new(Reply::Whole(Some(bytes.into())));
    *answer.status_mut() = status;
    let headers = answer.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    answer
}

fn text(status: StatusCode, text: &'static str) -> Answer {
    whole(status, "text/plain; charset=utf-8", Bytes::from_static(text.as_bytes()))
}

fn json_of(value: &Json) -> Answer {
    whole(StatusCode::OK, "application/json", value.to_string())
}

fn stream(kind: &'static str) -> (mpsc::Sender<Bytes>, Answer) {
    let (sender, pieces) = mpsc::channel(AHEAD);
    let mut answer = whole(StatusCode::OK, kind, Bytes::new());
    *answer.body_mut() = Reply::Stream(pieces);
    (sender, answer)
}

impl Service {
    /// The same for who comes through a file: its rights say who may.
    pub fn by_file(&self) -> Service {
        Service { guard: Guard::default(), ..self.clone() }
    }

    /// Whether sampling goes on, and since when what is served is so.
    fn health(&self) -> Answer {
        let newest = self.shared.newest.borrow().clone();
        let wall = newest.as_ref().map(|newest| newest.sample.now.wall_ns());
        let now =
            SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |time| time.as_nanos() as i64);
        let age = wall.map(|wall| (now - wall) as f64 / 1e9);
        let is_well = age.is_some_and(|age| age < self.every.as_secs_f64() * 3.0 + 5.0);
        let value = json!({
            "status": if is_well { "ok" } else { "stalled" }, "host": self.host.name, "version": env!("CARGO_PKG_VERSION"),
            "every": self.every.as_secs_f64(), "sample_age": age, "serving_for": self.begin.elapsed().as_secs_f64(),
        });
        let mut answer = json_of(&value);
        if !is_well {
            *answer.status_mut() = StatusCode::SERVICE_UNAVAILABLE;
        }
        answer
    }

    /// What collectors take.
    fn metrics(&self, accept: &str) -> Answer {
        let open = openmetrics::is_wanted(accept);
        let newest = self.shared.newest.borrow().clone();
        match newest {
            Some(newest) => {
                let kind = if open { openmetrics::OPEN } else { openmetrics::PLAIN };
                whole(StatusCode::OK, kind, newest.metrics(open))
            }
            None => not_yet(),
        }
    }

    /// Samples as they come, as server-sent events.
    fn events(&self) -> Answer {
        let (sender, answer) = stream("text/event-stream");
        let mut newest = self.shared.newest.clone();
        tokio::spawn(async move {
            loop {
                let current = newest.borrow_and_update().clone();
                if let Some(current) = current {
                    let event = current.event();
                    let mut piece =
                        format!("event: sample\nid: {}\ndata: ", current.sample.now.wall_ns()).into_bytes();
                    piece.extend_from_slice(&event);
                    piece.extend_from_slice(b"\n\n");
                    // Who is so far behind that nothing more fits is dropped.
                    if sender.try_send(piece.into()).is_err() {
                        return;
                    }
                }
                tokio::select! {
                    changed = newest.changed() => if changed.is_err() { return },
                    () = sender.closed() => return,
                }
            }
        });
        answer
    }

    /// Every reading as a recording that goes on, for another Dozor.
    fn follow(&self) -> Answer {
        let Ok(place) = self.followers.clone().try_acquire_owned() else {
            let mut answer = text(StatusCode::SERVICE_UNAVAILABLE, "as many follow as may\n");
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("30"));
            return answer;
        };
        let (sender, answer) = stream("application/vnd.dozor.recording");
        let mut readings = self.readings.subscribe();
        let newest = self.shared.newest.borrow().clone();
        let mut writer = Writer::new(self.host.clone(), Some(self.every));
        let noted = self.noted.clone();
        tokio::spawn(async move {
            let mut bytes = vec![];
            writer.begin(&mut bytes);
            let mut last = None;
            let mut told = i64::MIN;
            if let Some(newest) = newest {
                last = Some(newest.sample.now.wall_ns());
                if writer.put(&newest.sample.now, &mut bytes).is_err() {
                    return;
                }
            }
            loop {
                for mark in noted.since(told) {
                    told = told.max(mark.wall_ns);
                    bytes.extend_from_slice(&mark_frame(&mark));
                }
                if !bytes.is_empty() && sender.try_send(std::mem::take(&mut bytes).into()).is_err() {
                    break;
                }
                tokio::select! {
                    reading = readings.recv() => match reading {
                        // What came before it was subscribed to may come again.
                        Ok(reading) if last.is_some_and(|last| reading.wall_ns() <= last) => {}
                        Ok(reading) => if writer.put(&reading, &mut bytes).is_err() { break },
                        Err(_) => break,
                    },
                    () = sender.closed() => break,
                }
            }
            drop(place);
        });
        answer
    }
}

/// For who finds no room.
pub fn no_room() -> Answer {
    let mut answer = text(StatusCode::SERVICE_UNAVAILABLE, "too many connections: try again later\n");
    answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("5"));
    answer.headers_mut().insert(CONNECTION, HeaderValue::from_static("close"));
    answer
}

fn not_yet() -> Answer {
    let mut answer = text(StatusCode::SERVICE_UNAVAILABLE, "nothing was read yet\n");
    answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
    answer
}

/// A value of a query such as `columns=400`.
fn number(query: &str, key: &str) -> Option<i64> {
    query.split('&').find_map(|pair| pair.strip_prefix(key)?.strip_prefix('=')?.parse().ok())
}

/// What percent signs stand for; none where it is no text.
fn decoded(text: &str) -> Option<String> {
    let mut bytes = vec![];
    let mut letters = text.bytes();
    while let Some(letter) = letters.next() {
        if letter != b'%' {
            bytes.push(letter);
            continue;
        }
        let digit = |byte: Option<u8>| char::from(byte?).to_digit(16);
        bytes.push((digit(letters.next())? * 16 + digit(letters.next())?) as u8);
    }
    String::from_utf8(bytes).ok()
}

/// Answers a request.
pub async fn answer(service: &Arc<Service>, request: &Request<Incoming>, user: Option<u32>) -> Answer {
    let path = request.uri().path();
    let refused = match service.guard.check(path, request.headers(), user) {
        Ok(()) => None,
        Err(Refusal::Token) => {
            let mut answer =
                text(StatusCode::UNAUTHORIZED, "a token is needed: Authorization: Bearer TOKEN\n");
            let ask = HeaderValue::from_static("Basic realm=\"dozor\", charset=\"UTF-8\"");
            answer.headers_mut().insert(WWW_AUTHENTICATE, ask);
            Some(answer)
        }
        Err(Refusal::Host) => Some(text(
            StatusCode::MISDIRECTED_REQUEST,
            "it answers under names of this machine only, such as localhost; for others start it with --token-file\n",
        )),
        Err(Refusal::User) => Some(text(
            StatusCode::FORBIDDEN,
            "only the user who serves this and root may ask for it here; /metrics and /health are for all. Start it with --token-file or --open for others\n",
        )),
    };
    let length = request.body().size_hint();
    let mut answer = if let Some(refused) = refused {
        refused
    } else if length.lower() > BODY || length.upper().is_none_or(|most| most > BODY) {
        text(StatusCode::PAYLOAD_TOO_LARGE, "nothing is taken here, it only answers\n")
    } else if !matches!(*request.method(), Method::GET | Method::HEAD) {
        let mut answer = text(StatusCode::METHOD_NOT_ALLOWED, "it only answers: GET and HEAD\n");
        answer.headers_mut().insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
        answer
    } else {
        let accept = request.headers().get(ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or_default();
        match path {
            "/" => page(),
            "/metrics" => service.metrics(accept),
            "/sample" => {
                let newest = service.shared.newest.borrow().clone();
                newest.map_or_else(not_yet, |newest| whole(StatusCode::OK, "application/json", newest.json()))
            }
            "/glance" => {
                let newest = service.shared.newest.borrow().clone();
                newest
                    .map_or_else(not_yet, |newest| whole(StatusCode::OK, "application/json", newest.event()))
            }
            "/findings" => {
                let newest = service.shared.newest.borrow().clone();
                newest.map_or_else(not_yet, |newest| {
                    whole(StatusCode::OK, "application/json", newest.findings())
                })
            }
            "/lanes" => json_of(&service.shared.lanes()),
            "/events" => service.events(),
            "/stream" => service.follow(),
            "/health" => service.health(),
            _ => past(service, request).await,
        }
    };
    // A body that comes with it is not waited for.
    if request.body().size_hint().upper() != Some(0) {
        answer.headers_mut().insert(CONNECTION, HeaderValue::from_static("close"));
    }
    answer
}

fn page() -> Answer {
    let mut answer =
        whole(StatusCode::OK, "text/html; charset=utf-8", Bytes::from_static(super::page().as_bytes()));
    let policy = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
    answer.headers_mut().insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    answer
}

/// Recordings: which there are, one of them, its lanes, what was at a time.
async fn past(service: &Arc<Service>, request: &Request<Incoming>) -> Answer {
    let missing = || text(StatusCode::NOT_FOUND, "there is nothing here\n");
    let path = request.uri().path();
    let Some(past) = service.past.clone() else {
        return if path == "/recordings" { json_of(&json!({"recordings": []})) } else { missing() };
    };
    let query = request.uri().query().unwrap_or_default().to_owned();
    if path == "/recordings" {
        return blocking(move || Some(past.list())).await.map_or_else(missing, |list| json_of(&list));
    }
    let Some(rest) = path.strip_prefix("/recordings/") else { return missing() };
    let (name, what) = rest.split_once('/').unwrap_or((rest, ""));
    let Some(name) = decoded(name) else { return missing() };
    match what {
        "" => {
            let file = blocking(move || past.file(&name)).await;
            let range = request.headers().get(RANGE).map(|value| value.to_str().unwrap_or("").to_owned());
            file.map_or_else(missing, |file| bytes(file, range.as_deref(), *request.method() == Method::HEAD))
        }
        "lanes" => {
            let columns = number(&query, "columns").unwrap_or(600).clamp(1, 10_000) as usize;
            blocking(move || past.lanes(&name, columns)).await.map_or_else(missing, |lanes| json_of(&lanes))
        }
        "at" => {
            let wall = number(&query, "time").unwrap_or(i64::MAX / 1_000_000);
            blocking(move || past.at(&name, wall)).await.map_or_else(missing, |sample| json_of(&sample))
        }
        _ => missing(),
    }
}

/// What takes a disk or a while is done beside the event loop.
async fn blocking<T: Send + 'static>(what: impl FnOnce() -> Option<T> + Send + 'static) -> Option<T> {
    tokio::task::spawn_blocking(what).await.ok().flatten()
}

/// A range of bytes as RFC 9110 has it: `bytes=0-99`, `bytes=100-`, `bytes=-50`. None where it is none that is understood: then the
/// whole is given. An error where it lies outside.
fn range_of(text: &str, length: u64) -> Option<Result<(u64, u64), ()>> {
    let (from, until) = text.strip_prefix("bytes=")?.split_once('-')?;
    let number = |text: &str| {
        let digits = text.trim();
        digits.bytes().all(|digit| digit.is_ascii_digit()).then(|| digits.parse::<u64>().ok())?
    };
    if until.contains(',') {
        return None;
    }
    Some(match (from.trim(), until.trim()) {
        ("", last) => {
            let last = number(last)?;
            if last == 0 || length == 0 { Err(()) } else { Ok((length.saturating_sub(last), length)) }
        }
        (from, until) => {
            let from = number(from)?;
            let until = if until.is_empty() { length } else { number(until)?.saturating_add(1).min(length) };
            if from >= length || until <= from { Err(()) } else { Ok((from, until)) }
        }
    })
}

/// Bytes of a recording.
fn bytes(file: File, range: Option<&str>, only_head: bool) -> Answer {
    let length = file.metadata().map_or(0, |data| data.len());
    let asked = range.and_then(|text| range_of(text, length));
    let (from, until) = match asked {
        Some(Err(())) => {
            let mut answer = text(StatusCode::RANGE_NOT_SATISFIABLE, "it is not so long\n");
            answer.headers_mut().insert(CONTENT_RANGE, header(&format!("bytes */{length}")));
            return answer;
        }
        Some(Ok(range)) => range,
        None => (0, length),
    };
    let (sender, mut answer) = stream("application/vnd.dozor.recording");
    if asked.is_some() {
        *answer.status_mut() = StatusCode::PARTIAL_CONTENT;
        answer.headers_mut().insert(CONTENT_RANGE, header(&format!("bytes {from}-{}/{length}", until - 1)));
    }
    answer.headers_mut().insert(ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    answer.headers_mut().insert(CONTENT_LENGTH, header(&(until - from).to_string()));
    if only_head {
        *answer.body_mut() = Reply::Whole(None);
        return answer;
    }
    let file = Arc::new(file);
    tokio::spawn(async move {
        let mut at = from;
        while at < until {
            let wanted = PIECE.min((until - at) as usize);
            let file = file.clone();
            let piece = blocking(move || {
                let mut piece = vec![0; wanted];
                file.read_exact_at(&mut piece, at).ok().map(|()| piece)
            });
            let Some(piece) = piece.await else { return };
            at += piece.len() as u64;
            // It waits for its client here, and holds nothing but this piece.
            if sender.send(piece.into()).await.is_err() {
                return;
            }
        }
    });
    answer
}

fn header(text: &str) -> HeaderValue {
    HeaderValue::from_str(text).unwrap_or_else(|_| HeaderValue::from_static(""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_those_of_the_standard() {
        assert_eq!(range_of("bytes=0-99", 1000), Some(Ok((0, 100))));
        assert_eq!(range_of("bytes=990-2000", 1000), Some(Ok((990, 1000))));
        assert_eq!(range_of("bytes=100-", 1000), Some(Ok((100, 1000))));
        assert_eq!(range_of("bytes=-50", 1000), Some(Ok((950, 1000))));
        assert_eq!(range_of("bytes=-5000", 1000), Some(Ok((0, 1000))));
        for outside in ["bytes=1000-", "bytes=5-4", "bytes=-0"] {
            assert_eq!(range_of(outside, 1000), Some(Err(())), "{outside}");
        }
        for other in [
            "lines=1-2",
            "bytes=",
            "bytes=a-b",
            "bytes=0-1,5-6",
            "bytes=18446744073709551616-",
            "bytes=+1-5",
            "bytes=1-+5",
        ] {
            assert_eq!(range_of(other, 1000), None, "{other}");
        }
    }

    #[test]
    fn names_are_decoded_or_are_none() {
        assert_eq!(decoded("night%20one.dozor").as_deref(), Some("night one.dozor"));
        assert_eq!(decoded("%2e%2e%2fetc").as_deref(), Some("../etc"));
        for wrong in ["%", "%4", "%zz", "%ff"] {
            assert_eq!(decoded(wrong), None, "{wrong}");
        }
    }
}
