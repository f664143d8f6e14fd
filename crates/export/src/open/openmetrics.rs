//! OpenMetrics 1.0 text, and the older text format for those who ask for no better one.

use super::{Family, Form};
use std::fmt::Write as _;

/// Media type of OpenMetrics.
pub const OPEN: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// Media type of the older format.
pub const PLAIN: &str = "text/plain; version=0.0.4; charset=utf-8";

/// Letters of a name: dots become underscores.
fn name_of(name: &str) -> String {
    name.chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '_' }).collect()
}

/// The word of a unit in names; none of what is only counted.
fn unit_word(family: &Family) -> Option<&'static str> {
    Some(match family.unit {
        "By" => "bytes",
        "By/s" => "bytes_per_second",
        "s" => "seconds",
        "Cel" => "celsius",
        "Hz" => "hertz",
        "W" => "watts",
        "V" => "volts",
        "1/s" => "per_second",
        "1" if family.name.ends_with("utilization") || family.name.ends_with("charge") => "ratio",
        _ => return None,
    })
}

/// What stands in a label's value.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

fn help(text: &str) -> String {
    text.replace('\\', "\\\\").replace('\n', "\\n").replace('"', "\\\"")
}

/// Writes families; as OpenMetrics, or in the older format.
pub fn write(families: &[Family], open: bool) -> String {
    let mut out = String::new();
    for family in families {
        let mut name = name_of(family.name);
        let unit = unit_word(family);
        if let Some(unit) = unit
            && !name.ends_with(unit)
        {
            let _ = write!(name, "_{unit}");
        }
        let is_counter = family.form == Form::Counter;
        // In the older format a total has its ending in all lines.
        let head = if is_counter && !open { format!("{name}_total") } else { name.clone() };
        let _ = writeln!(out, "# TYPE {head} {}", if is_counter { "counter" } else { "gauge" });
        if let (Some(unit), true) = (unit, open) {
            let _ = writeln!(out, "# UNIT {head} {unit}");
        }
        let text =
            if open { help(family.help) } else { family.help.replace('\\', "\\\\").replace('\n', "\\n") };
        let _ = writeln!(out, "# HELP {head} {text}");
        let line = if is_counter { format!("{name}_total") } else { name };
        for series in &family.series {
            out.push_str(&line);
            for (at, (key, value)) in series.attributes.iter().enumerate() {
                out.push(if at == 0 { '{' } else { ',' });
                let _ = write!(out, "{}=\"{}\"", name_of(key), escaped(value));
            }
            if !series.attributes.is_empty() {
                out.push('}');
            }
            let _ = writeln!(out, " {}", series.value);
        }
    }
    if open {
        out.push_str("# EOF\n");
    }
    out
}

/// Whether somebody who accepts this prefers OpenMetrics.
pub fn is_wanted(accept: &str) -> bool {
    let weight = |wanted: &str| {
        accept
            .split(',')
            .filter_map(|range| {
                let mut parts = range.split(';').map(str::trim);
                let kind = parts.next()?;
                let weight = parts
                    .find_map(|part| part.strip_prefix("q="))
                    .map_or(Some(1.0), |text| text.parse().ok());
                (kind.eq_ignore_ascii_case(wanted)).then_some(weight.unwrap_or(0.0))
            })
            .fold(None, |most: Option<f64>, weight| Some(most.map_or(weight, |most| most.max(weight))))
    };
    let open = weight("application/openmetrics-text").unwrap_or(0.0);
    let plain = weight("text/plain").or(weight("text/*")).unwrap_or(0.0);
    open > 0.0 && open >= plain
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::open::Series;

    #[test]
    fn the_better_format_is_given_to_who_asks_for_it() {
        assert!(is_wanted("application/openmetrics-text;version=1.0.0;q=0.8,text/plain;version=0.0.4;q=0.5"));
        assert!(!is_wanted("application/openmetrics-text;q=0.3, text/plain"));
        assert!(!is_wanted("*/*"));
        assert!(!is_wanted("application/openmetrics-text;q=0"));
        assert!(!is_wanted(""));
    }

    #[test]
    fn totals_units_and_hostile_names_are_written_as_the_standard_says() {
        let family = Family {
            name: "process.disk.io",
            unit: "By",
            help: "Bytes \"of\" a process\\.",
            form: Form::Counter,
            series: vec![Series {
                attributes: vec![("process.executable.name", "a\"b\\c\nd".into())],
                value: 5e15,
                since_ns: 0,
            }],
        };
        let open = write(std::slice::from_ref(&family), true);
        assert_eq!(
            open,
            "# TYPE process_disk_io_bytes counter\n# UNIT process_disk_io_bytes bytes\n\
             # HELP process_disk_io_bytes Bytes \\\"of\\\" a process\\\\.\n\
             process_disk_io_bytes_total{process_executable_name=\"a\\\"b\\\\c\\nd\"} 5000000000000000\n# EOF\n"
        );
        let plain = write(&[family], false);
        assert!(
            plain.starts_with("# TYPE process_disk_io_bytes_total counter\n") && !plain.contains("EOF"),
            "{plain}"
        );
    }
}
