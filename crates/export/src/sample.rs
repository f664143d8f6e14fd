//! A sample as JSON: the machine, its processes, its connections. What is not known is null; what is not permitted is null as well, and
//! named in `denied`; of a process what is only the least that it may be is named in `at_least`.

use dozor_core::catalogue::{Instances, Metric, SYSTEM_METRICS, Value};
use dozor_core::clock::Zone;
use dozor_core::known::Known;
use dozor_core::parts::peers;
use dozor_core::rank::{Population, RowRef};
use dozor_core::reading::ListenerRow;
use dozor_core::sample::{PartView, ProcessView, Sample};
use serde_json::{Map, Number, Value as Json, json};

/// A number as JSON: whole ones without a point, others to six places.
pub fn number(value: f64) -> Json {
    const EXACT: f64 = 9.0e15;
    if value.fract() == 0.0 && value.abs() < EXACT {
        return Json::from(value as i64);
    }
    Number::from_f64((value * 1e6).round() / 1e6).map_or(Json::Null, Json::Number)
}

/// A value as JSON.
pub fn json_value(value: &Value) -> Json {
    match value {
        Value::Number(value) => number(*value),
        Value::Text(text) => Json::from(&**text),
        Value::Word(word) => Json::from(*word),
        Value::Absent | Value::Denied => Json::Null,
    }
}

/// A sample as an object. What is not permitted is `null` like what is unknown, and named in `denied`. Those who are just
/// gone, and programs that came and went, are apart from the processes that are there.
pub fn object(population: &Population<'_>, rows: &[RowRef], zone: &Zone, metrics: &[&Metric]) -> Json {
    let sample = population.here;
    let host = &sample.host;
    let system: Map<String, Json> = SYSTEM_METRICS
        .iter()
        .map(|metric| {
            let value = match metric.of_system(sample) {
                Instances::One(value) => json_value(&value),
                Instances::Many(values) => {
                    values.iter().map(|(name, value)| (name.to_string(), json_value(value))).collect()
                }
            };
            (metric.alias.to_owned(), value)
        })
        .collect();
    let told = |is_meant: fn(&RowRef) -> bool| -> Vec<Json> {
        let rows = rows.iter().filter(|row| is_meant(row));
        rows.map(|row| process(&population.view(*row), metrics)).collect()
    };
    let processes = told(|row| matches!(row, RowRef::Here(_)));
    let gone = told(|row| matches!(row, RowRef::Gone(_)));
    let known = |known: Known<f64>| json_value(&Value::from(known));
    let peers: Vec<Json> = peers(sample)
        .into_iter()
        .map(|p| {
            let (received, sent) = (known(p.received), known(p.sent));
            json!({"address": &*p.address, "connections": p.connections, "in": received, "out": sent})
        })
        .collect();
    let ended: Vec<Json> = sample
        .now
        .ended
        .iter()
        .map(|row| {
            let cpu = row.user.float().zip(row.system.float()).map(|(user, system)| (user + system) / 1e6);
            json!({
                "pid": row.pid.value(), "name": &*row.name, "ppid": row.ppid.value(), "parent": &*row.parent,
                "seen": row.seen.value().map(|seen| seen == 1), "age": known(row.elapsed.float().map(|us| us / 1e6)),
                "cpu_time": known(cpu), "peak": row.peak_bytes.value(), "read": row.read_bytes.value(),
                "write": row.write_bytes.value(),
            })
        })
        .collect();
    json!({
        "time": zone.rfc3339(sample.now.wall_ns()),
        "interval": sample.seconds().map_or(Json::Null, number),
        "host": {
            "name": host.name, "kernel": host.kernel, "cpu_model": host.cpu_model,
            "cores": host.cores, "time_zone": host.time_zone, "inside": host.inside,
        },
        "system": system,
        "processes": processes,
        "gone": gone,
        "listeners": listeners(sample),
        "connections": connections(sample),
        "peers": peers,
        "ended": ended,
    })
}

/// A process as an object.
pub fn process(view: &ProcessView<'_>, metrics: &[&Metric]) -> Json {
    let mut object = Map::new();
    let (mut denied, mut least) = (vec![], vec![]);
    for metric in metrics {
        let (value, is_least) = metric.bounded(view);
        if is_least {
            least.push(metric.alias);
        }
        if value == Value::Denied {
            denied.push(metric.alias);
        }
        object.insert(metric.alias.to_owned(), json_value(&value));
    }
    for (name, keys) in [("denied", denied), ("at_least", least)] {
        if !keys.is_empty() {
            object.insert(name.to_owned(), json!(keys));
        }
    }
    Json::Object(object)
}

/// Sockets that wait for others, with the processes that hold them.
fn listeners(sample: &Sample) -> Vec<Json> {
    let told = |row: PartView<'_, ListenerRow>| {
        let others: Vec<i64> = row.now.others.split(' ').filter_map(|pid| pid.parse().ok()).collect();
        let drops = json_value(&Value::from(row.rate(|socket| socket.drops)));
        let udp = row.now.protocol.value() == Some(17);
        let (waiting, unread) =
            if udp { (None, row.now.queue.value()) } else { (row.now.queue.value(), None) };
        json!({
            "local": &*row.now.local, "protocol": if udp { "udp" } else { "tcp" },
            "port": row.now.port.value(), "pid": row.now.pid.value(), "others": others,
            "waiting": waiting, "waiting_at_most": row.now.queue_most.value(), "unread": unread,
            "drops": drops, "namespace": row.now.namespace.value(),
        })
    };
    sample.parts(|reading| &reading.listeners[..]).map(told).collect()
}

/// TCP connections with the process that holds them.
fn connections(sample: &Sample) -> Vec<Json> {
    sample
        .parts(|reading| &reading.connections[..])
        .map(|connection| {
            let rate = |known: Known<f64>| json_value(&Value::from(known));
            json!({
                "local": &*connection.now.local, "remote": &*connection.now.remote,
                "pid": connection.now.pid.value(),
                "in": rate(connection.rate(|c| c.in_bytes)), "out": rate(connection.rate(|c| c.out_bytes)),
            })
        })
        .collect()
}
