//! OTLP log records: what stands out, when it begins and when it is over (opentelemetry/proto/collector/logs/v1).

use super::otlp::{
    Any, AnyValue, Identity, KeyValue, Resource, Scope, attributes_json, resource_of, scope, text,
};
use dozor_core::findings::Finding;
use dozor_core::lane::Severity;
use dozor_core::reading::HostFacts;
use prost::Message;
use serde_json::{Value as Json, json};

/// The name of the event.
const EVENT: &str = "dozor.finding";

/// A record.
#[derive(Clone, PartialEq, Message)]
pub struct LogRecord {
    /// When it happened.
    #[prost(fixed64, tag = "1")]
    pub time_ns: u64,
    /// How bad it is: 9 information, 13 warning, 17 error.
    #[prost(int32, tag = "2")]
    pub severity: i32,
    /// The same in Dozor's word.
    #[prost(string, tag = "3")]
    pub severity_text: String,
    /// The sentence.
    #[prost(message, optional, tag = "5")]
    pub body: Option<AnyValue>,
    /// Who, where, and what speaks for it.
    #[prost(message, repeated, tag = "6")]
    pub attributes: Vec<KeyValue>,
    /// When it was seen.
    #[prost(fixed64, tag = "11")]
    pub observed_ns: u64,
    /// What kind of event it is.
    #[prost(string, tag = "12")]
    pub event: String,
}

/// Records of one maker.
#[derive(Clone, PartialEq, Message)]
pub struct ScopeLogs {
    /// The maker.
    #[prost(message, optional, tag = "1")]
    pub scope: Option<Scope>,
    /// The records.
    #[prost(message, repeated, tag = "2")]
    pub records: Vec<LogRecord>,
}

/// Records of one host.
#[derive(Clone, PartialEq, Message)]
pub struct ResourceLogs {
    /// The host.
    #[prost(message, optional, tag = "1")]
    pub resource: Option<Resource>,
    /// The records.
    #[prost(message, repeated, tag = "2")]
    pub scopes: Vec<ScopeLogs>,
}

/// What is sent.
#[derive(Clone, PartialEq, Message)]
pub struct Logs {
    /// Records of hosts.
    #[prost(message, repeated, tag = "1")]
    pub resources: Vec<ResourceLogs>,
}

fn some(value: Any) -> AnyValue {
    AnyValue { value: Some(value) }
}

/// A finding that has begun, or is over.
fn record(one: &Finding, is_over: bool, wall_ns: i64) -> LogRecord {
    let told = if is_over { one.worst_told() } else { one.last() };
    let severity = if is_over { one.worst } else { told.severity };
    let mut attributes = vec![
        text("dozor.finding.rule", one.about.name),
        text("dozor.finding.state", if is_over { "over" } else { "begins" }),
        text("dozor.finding.lane", one.about.lane.name()),
    ];
    if !one.subject.is_empty() {
        attributes.push(text("dozor.finding.subject", &one.subject));
    }
    if is_over {
        let value = Some(some(Any::Number(one.seconds())));
        attributes.push(KeyValue { key: "dozor.finding.duration".to_owned(), value });
    }
    if let Some(who) = told.culprits.first() {
        attributes.push(text("dozor.finding.culprit", &who.name));
        if let Some(pid) = who.pid {
            attributes.push(KeyValue { key: "process.pid".to_owned(), value: Some(some(Any::Whole(pid))) });
        }
        if let Some(share) = who.share {
            let value = Some(some(Any::Number(share / 100.0)));
            attributes.push(KeyValue { key: "dozor.finding.culprit.share".to_owned(), value });
        }
    }
    for evidence in told.evidence.iter().filter(|evidence| evidence.value.is_finite()) {
        let value = Some(some(Any::Number(evidence.value)));
        // What it is of is a value: a key for each process would be without end.
        let (metric, of) = evidence.metric.split_once('{').unwrap_or((&evidence.metric, ""));
        let key = format!("dozor.evidence.{metric}");
        if attributes.iter().all(|attribute| attribute.key != key) {
            if let Some(of) = of.strip_suffix('}') {
                attributes.push(text(&format!("{key}.of"), of));
            }
            attributes.push(KeyValue { key, value });
        }
    }
    let time = if is_over { one.until_ns } else { one.from_ns };
    LogRecord {
        time_ns: time.max(0) as u64,
        severity: match severity {
            Severity::Fine | Severity::Notice => 9,
            Severity::Warning => 13,
            Severity::Critical => 17,
        },
        severity_text: severity.word().to_owned(),
        body: Some(some(Any::Text(told.sentence.clone()))),
        attributes,
        observed_ns: wall_ns.max(0) as u64,
        event: EVENT.to_owned(),
    }
}

impl Logs {
    /// What has begun and what is over (`true`), as records of a host.
    pub fn of(changes: &[(&Finding, bool)], host: &HostFacts, identity: &Identity, wall_ns: i64) -> Logs {
        let records = changes.iter().map(|(one, is_over)| record(one, *is_over, wall_ns)).collect();
        let scopes = vec![ScopeLogs { scope: Some(scope()), records }];
        Logs { resources: vec![ResourceLogs { resource: Some(resource_of(host, identity)), scopes }] }
    }

    /// As protobuf.
    pub fn bytes(&self) -> Vec<u8> {
        self.encode_to_vec()
    }

    /// As JSON, by the protobuf mapping: 64 bit numbers are texts.
    pub fn json(&self) -> Json {
        let body = |record: &LogRecord| match record.body.as_ref().and_then(|body| body.value.as_ref()) {
            Some(Any::Text(text)) => json!({"stringValue": text}),
            _ => json!({}),
        };
        let record = |one: &LogRecord| {
            json!({
                "timeUnixNano": one.time_ns.to_string(), "observedTimeUnixNano": one.observed_ns.to_string(),
                "severityNumber": one.severity, "severityText": one.severity_text, "body": body(one),
                "attributes": attributes_json(&one.attributes), "eventName": one.event,
            })
        };
        let resource = |one: &ResourceLogs| {
            let scopes = one.scopes.iter().map(|scope| {
                let (name, version) =
                    scope.scope.as_ref().map_or(("", ""), |scope| (&scope.name, &scope.version));
                json!({
                    "scope": {"name": name, "version": version},
                    "logRecords": scope.records.iter().map(record).collect::<Vec<_>>(),
                })
            });
            let of = one.resource.as_ref().map_or(vec![], |resource| attributes_json(&resource.attributes));
            json!({"resource": {"attributes": of}, "scopeLogs": scopes.collect::<Vec<_>>()})
        };
        json!({"resourceLogs": self.resources.iter().map(resource).collect::<Vec<_>>()})
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::demo::incidents::Troubled;
    use dozor_core::findings::{Changes, Engine};
    use dozor_core::sample::Sample;

    #[test]
    fn a_finding_is_told_when_it_begins_and_when_it_is_over_in_both_forms() {
        let mut troubled = Troubled::new(Some("disk-saturated")).expect("a rule");
        let (host, mut engine, mut changes) = (troubled.host(), Engine::default(), Changes::default());
        let (mut before, mut told) = (None, vec![]);
        for _ in 0..60 {
            let now = troubled.pass();
            let wall_ns = now.wall_ns();
            engine.look(&Sample::new(host.clone(), before.replace(now.clone()), now));
            let changes = changes.look(engine.history());
            if !changes.is_empty() {
                let logs = Logs::of(&changes, &host, &Identity::default(), wall_ns);
                // What is sent as protobuf is what is sent as JSON.
                assert_eq!(Logs::decode(&logs.bytes()[..]).expect("a message").json(), logs.json());
                told.extend(logs.resources[0].scopes[0].records.clone());
            }
        }
        let [begins, over] = &told[..] else { panic!("{told:?}") };
        let state =
            |record: &LogRecord, state: &str| record.attributes.contains(&text("dozor.finding.state", state));
        assert!(state(begins, "begins") && state(over, "over"));
        assert!(begins.time_ns < over.time_ns && over.severity == 17, "{told:?}");
        assert!(over.attributes.contains(&text("dozor.finding.culprit", "catalogd[210]")), "{over:?}");
    }
}
