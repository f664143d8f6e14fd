//! OTLP: families as messages of the OpenTelemetry protocol (opentelemetry/proto/collector/metrics/v1), as protobuf and as its JSON.

use super::{Family, Form};
use dozor_core::reading::HostFacts;
use prost::Message;
use serde_json::{Value as Json, json};

/// A text, a number or a truth.
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum Any {
    /// A text.
    #[prost(string, tag = "1")]
    Text(String),
    /// A whole number.
    #[prost(int64, tag = "3")]
    Whole(i64),
    /// Any number.
    #[prost(double, tag = "4")]
    Number(f64),
}

/// What an attribute is.
#[derive(Clone, PartialEq, Message)]
pub struct AnyValue {
    /// Which.
    #[prost(oneof = "Any", tags = "1, 3, 4")]
    pub value: Option<Any>,
}

/// An attribute.
#[derive(Clone, PartialEq, Message)]
pub struct KeyValue {
    /// Its key.
    #[prost(string, tag = "1")]
    pub key: String,
    /// What it is.
    #[prost(message, optional, tag = "2")]
    pub value: Option<AnyValue>,
}

/// Whose metrics they are.
#[derive(Clone, PartialEq, Message)]
pub struct Resource {
    /// Attributes of the host and of Dozor.
    #[prost(message, repeated, tag = "1")]
    pub attributes: Vec<KeyValue>,
}

/// Who made them.
#[derive(Clone, PartialEq, Message)]
pub struct Scope {
    /// The program.
    #[prost(string, tag = "1")]
    pub name: String,
    /// Its version.
    #[prost(string, tag = "2")]
    pub version: String,
}

/// A value at an instant.
#[derive(Clone, PartialEq, Message)]
pub struct NumberPoint {
    /// Since when a total counts.
    #[prost(fixed64, tag = "2")]
    pub start_ns: u64,
    /// The instant.
    #[prost(fixed64, tag = "3")]
    pub time_ns: u64,
    /// The value.
    #[prost(double, optional, tag = "4")]
    pub value: Option<f64>,
    /// What it is of.
    #[prost(message, repeated, tag = "7")]
    pub attributes: Vec<KeyValue>,
}

/// Values that are now.
#[derive(Clone, PartialEq, Message)]
pub struct Gauge {
    /// The values.
    #[prost(message, repeated, tag = "1")]
    pub points: Vec<NumberPoint>,
}

/// Totals.
#[derive(Clone, PartialEq, Message)]
pub struct Sum {
    /// The values.
    #[prost(message, repeated, tag = "1")]
    pub points: Vec<NumberPoint>,
    /// 2: since `start_ns`.
    #[prost(int32, tag = "2")]
    pub temporality: i32,
    /// Whether it only grows.
    #[prost(bool, tag = "3")]
    pub monotonic: bool,
}

/// One of the two.
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum Data {
    /// Values that are now.
    #[prost(message, tag = "5")]
    Gauge(Gauge),
    /// Totals.
    #[prost(message, tag = "7")]
    Sum(Sum),
}

/// A metric.
#[derive(Clone, PartialEq, Message)]
pub struct MetricMessage {
    /// Its name.
    #[prost(string, tag = "1")]
    pub name: String,
    /// What it means.
    #[prost(string, tag = "2")]
    pub description: String,
    /// Its unit.
    #[prost(string, tag = "3")]
    pub unit: String,
    /// Its values.
    #[prost(oneof = "Data", tags = "5, 7")]
    pub data: Option<Data>,
}

/// Metrics of one maker.
#[derive(Clone, PartialEq, Message)]
pub struct ScopeMetrics {
    /// The maker.
    #[prost(message, optional, tag = "1")]
    pub scope: Option<Scope>,
    /// The metrics.
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<MetricMessage>,
}

/// Metrics of one host.
#[derive(Clone, PartialEq, Message)]
pub struct ResourceMetrics {
    /// The host.
    #[prost(message, optional, tag = "1")]
    pub resource: Option<Resource>,
    /// The metrics.
    #[prost(message, repeated, tag = "2")]
    pub scopes: Vec<ScopeMetrics>,
}

/// What is sent.
#[derive(Clone, PartialEq, Message)]
pub struct Request {
    /// Metrics of hosts.
    #[prost(message, repeated, tag = "1")]
    pub resources: Vec<ResourceMetrics>,
}

/// An attribute that is a text.
pub fn text(key: &str, value: &str) -> KeyValue {
    KeyValue { key: key.to_owned(), value: Some(AnyValue { value: Some(Any::Text(value.to_owned())) }) }
}

/// Attributes that are numbers in the conventions.
const WHOLE: [&str; 2] = ["process.pid", "cpu.logical_number"];

fn attribute((key, value): &(&'static str, dozor_core::text::Text)) -> KeyValue {
    match value.parse::<i64>() {
        Ok(number) if WHOLE.contains(key) => {
            KeyValue { key: (*key).to_owned(), value: Some(AnyValue { value: Some(Any::Whole(number)) }) }
        }
        _ => text(key, value),
    }
}

/// A sample's families as what is sent.
pub fn request(families: &[Family], host: &HostFacts, identity: &Identity, wall_ns: i64) -> Request {
    let metrics = families.iter().map(|family| {
        let is_total = family.form != Form::Gauge;
        let points: Vec<NumberPoint> = family
            .series
            .iter()
            .map(|series| NumberPoint {
                start_ns: if is_total { series.since_ns.max(0) as u64 } else { 0 },
                time_ns: wall_ns.max(0) as u64,
                value: Some(series.value),
                attributes: series.attributes.iter().map(attribute).collect(),
            })
            .collect();
        MetricMessage {
            name: family.name.to_owned(),
            description: family.help.to_owned(),
            unit: family.unit.to_owned(),
            data: Some(match family.form {
                Form::Gauge => Data::Gauge(Gauge { points }),
                form => Data::Sum(Sum { points, temporality: 2, monotonic: form == Form::Counter }),
            }),
        }
    });
    let scopes = vec![ScopeMetrics { scope: Some(scope()), metrics: metrics.collect() }];
    Request { resources: vec![ResourceMetrics { resource: Some(resource_of(host, identity)), scopes }] }
}

/// The maker of all that is sent.
pub fn scope() -> Scope {
    Scope { name: "dozor".to_owned(), version: env!("CARGO_PKG_VERSION").to_owned() }
}

/// What tells this host and this program from all others.
#[derive(Clone, Debug, Default)]
pub struct Identity {
    /// The machine, by machine-id(5); empty where it has none.
    pub host_id: String,
    /// Its architecture in the word of the conventions; empty where they have none.
    pub arch: String,
    /// This run of Dozor.
    pub instance: String,
}

/// The host that it is about.
pub fn resource_of(host: &HostFacts, identity: &Identity) -> Resource {
    let mut attributes = vec![
        text("service.name", "dozor"),
        text("service.version", env!("CARGO_PKG_VERSION")),
        text("host.name", &host.name),
        text("os.type", "linux"),
        text("os.description", &host.kernel),
    ];
    for (key, value) in [
        ("host.id", &identity.host_id),
        ("host.arch", &identity.arch),
        ("service.instance.id", &identity.instance),
        ("host.cpu.model.name", &host.cpu_model),
    ] {
        if !value.is_empty() {
            attributes.push(text(key, value));
        }
    }
    Resource { attributes }
}

/// Attributes as JSON.
pub fn attributes_json(all: &[KeyValue]) -> Vec<Json> {
    let one = |one: &KeyValue| {
        let value = match one.value.as_ref().and_then(|any| any.value.as_ref()) {
            Some(Any::Text(text)) => json!({"stringValue": text}),
            Some(Any::Whole(number)) => json!({"intValue": number.to_string()}),
            Some(Any::Number(number)) => json!({"doubleValue": number}),
            None => json!({}),
        };
        json!({"key": one.key, "value": value})
    };
    all.iter().map(one).collect()
}

impl Request {
    /// As protobuf.
    pub fn bytes(&self) -> Vec<u8> {
        self.encode_to_vec()
    }

    /// As JSON, by the protobuf mapping: 64 bit numbers are texts.
    pub fn json(&self) -> Json {
        let points = |all: &[NumberPoint]| -> Vec<Json> {
            all.iter()
                .map(|point| {
                    json!({
                        "startTimeUnixNano": point.start_ns.to_string(), "timeUnixNano": point.time_ns.to_string(),
                        "asDouble": point.value, "attributes": attributes_json(&point.attributes),
                    })
                })
                .collect()
        };
        let metric = |metric: &MetricMessage| {
            let mut object =
                json!({"name": metric.name, "description": metric.description, "unit": metric.unit});
            match &metric.data {
                Some(Data::Gauge(gauge)) => object["gauge"] = json!({"dataPoints": points(&gauge.points)}),
                Some(Data::Sum(sum)) => {
                    object["sum"] = json!({
                        "dataPoints": points(&sum.points), "aggregationTemporality": sum.temporality,
                        "isMonotonic": sum.monotonic,
                    });
                }
                None => {}
            }
            object
        };
        let resources = self.resources.iter().map(|resource| {
            let scopes = resource.scopes.iter().map(|scope| {
                let (name, version) =
                    scope.scope.as_ref().map_or(("", ""), |scope| (&scope.name, &scope.version));
                json!({
                    "scope": {"name": name, "version": version},
                    "metrics": scope.metrics.iter().map(metric).collect::<Vec<_>>(),
                })
            });
            let of = resource
                .resource
                .as_ref()
                .map(|resource| attributes_json(&resource.attributes))
                .unwrap_or_default();
            json!({"resource": {"attributes": of}, "scopeMetrics": scopes.collect::<Vec<_>>()})
        });
        json!({"resourceMetrics": resources.collect::<Vec<_>>()})
    }
}
