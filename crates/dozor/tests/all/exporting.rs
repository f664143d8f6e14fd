//! What leaves Dozor: drawings, reports and tables, read by programs that we did not write; fleets; and the same from the screen.

use crate::served::{dozor, recorded, text};
use crate::terminal::Terminal;
use parquet::file::reader::{FileReader as _, SerializedFileReader};
use parquet::record::Field;
use serde_json::Value;
use std::collections::HashMap;
use std::path::Path;
use std::process::{Command, Stdio};

const SIZE: (u16, u16) = (150, 45);

fn tool(name: &str, arguments: &[&str]) -> String {
    let output =
        Command::new(name).args(arguments).output().unwrap_or_else(|error| panic!("{name}: {error}"));
    assert!(output.status.success(), "{name} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Runs it, and gives the status and what it said.
fn refused(arguments: &[&str]) -> (Option<i32>, String) {
    let output = Command::new(crate::served::DOZOR).args(arguments).output().expect("it runs");
    (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
}

/// The saved file with an ending, once it is there.
fn saved(folder: &Path, ending: &str) -> std::path::PathBuf {
    let begin = std::time::Instant::now();
    loop {
        let found = std::fs::read_dir(folder).expect("a folder").filter_map(|entry| Some(entry.ok()?.path()));
        let mut found = found.filter(|path| {
            path.extension().is_some_and(|end| end == ending)
                && path.file_name().is_some_and(|name| name.to_string_lossy().starts_with("dozor-"))
        });
        if let Some(path) = found.next() {
            return path;
        }
        assert!(begin.elapsed() < crate::terminal::PATIENCE, "nothing was saved as {ending}");
        std::thread::sleep(std::time::Duration::from_millis(30));
    }
}

#[test]
fn every_form_of_chart_is_a_page_with_its_fonts_and_its_texts() {
    let folder = recorded("night");
    let recording = folder.path().join("night.dozor");
    let forms: [(&str, &[&str]); 4] = [
        ("lanes", &["--lanes"]),
        ("lines", &["--chart", "disk.busy{nvme0n1}", "disk.wait{nvme0n1}", "cpu@stacker", "--form", "lines"]),
        ("stacked", &["--chart", "cpu", "write"]),
        ("heat", &["--chart", "core.total", "cpu", "--form", "heat"]),
    ];
    for (name, arguments) in forms {
        for theme in ["light", "dark"] {
            let page = folder.path().join(format!("{name}-{theme}.pdf"));
            let mut all = vec!["export", text(&recording), "--theme", theme, "-o", text(&page)];
            all.extend(arguments);
            dozor(&all);
            let info = tool("pdfinfo", &[text(&page)]);
            assert!(info.contains("Pages:           1") && info.contains("lynx-obs"), "{info}");
            let fonts = tool("pdffonts", &[text(&page)]);
            // Name, type, encoding, embedded, subset, with its letters, object.
            for font in fonts.lines().skip(2) {
                let words: Vec<&str> = font.split_whitespace().rev().collect();
                assert_eq!(words[2..5], ["yes", "yes", "yes"], "{font}");
            }
            let letters = tool("pdftotext", &[text(&page), "-"]);
            assert!(letters.contains("lynx-obs") && letters.contains("02:05"), "{letters}");
            let picture = folder.path().join(format!("{name}-{theme}.svg"));
            *all.iter_mut().find(|word| **word == text(&page)).expect("the page") = text(&picture);
            dozor(&all);
            let drawn = std::fs::read_to_string(&picture).expect("a picture");
            assert!(
                drawn.contains("<title id=\"title\">")
                    && drawn.contains("<desc")
                    && drawn.ends_with("</svg>\n")
            );
            assert!(drawn.contains("the dome opens"), "the note is told");
        }
    }
}

#[test]
fn a_report_has_its_sections_in_all_three_forms() {
    let folder = recorded("night");
    let recording = folder.path().join("night.dozor");
    let sections =
        ["What stood out", "Who used what", "What differed from the hour before", "What was done and noted"];
    for form in ["pdf", "html", "md"] {
        let path = folder.path().join(format!("report.{form}"));
        dozor(&["report", text(&recording), "--from", "02:05:30", "-o", text(&path)]);
        let told = match form {
            "pdf" => tool("pdftotext", &["-layout", text(&path), "-"]),
            _ => std::fs::read_to_string(&path).expect("text"),
        };
        for section in sections {
            assert!(told.contains(section), "{form}: {section}");
        }
        assert!(told.contains("stacker") && told.contains("nvme0n1"), "{form}: who and what\n{told}");
        if form == "html" {
            for foreign in ["src=", "url(", "@import", "<script", "href=\"http"] {
                assert!(!told.contains(foreign), "it fetches nothing: {foreign}");
            }
        }
    }
}

#[test]
fn a_table_is_the_same_in_every_form() {
    let folder = recorded("night");
    let recording = folder.path().join("night.dozor");
    let written = |table: &str, form: &str| {
        let path = folder.path().join(format!("{table}.{form}"));
        dozor(&["export", text(&recording), "--table", table, "--to", "02:04:20", "-o", text(&path)]);
        path
    };
    for table in ["processes", "system", "parts"] {
        let objects: Vec<Value> =
            serde_json::from_slice(&std::fs::read(written(table, "json")).expect("JSON")).expect("an array");
        let mut reader = csv::Reader::from_path(written(table, "csv")).expect("CSV");
        let lines: Vec<HashMap<String, String>> =
            reader.deserialize().map(|line| line.expect("a line")).collect();
        let file = std::fs::File::open(written(table, "parquet")).expect("Parquet");
        let reader = SerializedFileReader::new(file).expect("Parquet");
        let rows: Vec<_> = reader.get_row_iter(None).expect("rows").map(|row| row.expect("a row")).collect();
        assert!(rows.len() == objects.len() && rows.len() == lines.len() && !rows.is_empty(), "{table}");
        for ((object, line), row) in objects.iter().zip(&lines).zip(&rows) {
            for (key, field) in row.get_column_iter() {
                let (value, cell) =
                    (&object[key.as_str()], line.get(key.as_str()).map_or("", String::as_str));
                match (field, value) {
                    (Field::Null, Value::Null) => {
                        assert!(cell.is_empty() || cell == "denied", "{key}: {cell}");
                    }
                    (Field::Long(number), Value::Number(other)) if key != "start" => {
                        assert_eq!(
                            (Some(*number), cell),
                            (other.as_i64(), number.to_string().as_str()),
                            "{key}"
                        );
                    }
                    (Field::Double(number), Value::Number(other)) => {
                        // The reader of JSON is exact but for the last digit.
                        let other = other.as_f64().expect("a number");
                        assert!((number - other).abs() <= number.abs() * 1e-15, "{key}: {number} {other}");
                        assert_eq!(cell.parse(), Ok(*number), "{key}");
                    }
                    (Field::Str(text), Value::Array(keys))
                        if matches!(key.as_str(), "denied" | "at_least") =>
                    {
                        let keys: Vec<_> = keys.iter().filter_map(Value::as_str).collect();
                        assert_eq!(*text, keys.join(","), "{key}");
                    }
                    (Field::Str(text), Value::String(other)) => {
                        assert_eq!((text, cell), (other, text.as_str()), "{key}");
                    }
                    (_, _) => {
                        assert!(matches!(key.as_str(), "time" | "start"), "{key}: {field} {value}");
                    }
                }
            }
        }
    }
}

/// As `| head` does it.
#[test]
fn a_reader_that_leaves_early_is_no_error() {
    let folder = recorded("night");
    let recording = folder.path().join("night.dozor");
    for form in ["csv", "json", "jsonl", "parquet"] {
        let mut child = Command::new(crate::served::DOZOR)
            .args(["export", text(&recording), "--table", "processes", "--format", form, "-o", "-"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("it runs");
        drop(child.stdout.take());
        let output = child.wait_with_output().expect("its end");
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!((output.status.code(), said), (Some(0), String::new()), "{form}");
    }
}

#[test]
fn a_fleet_is_written_by_host_and_day_and_never_twice() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let (hosts, lake) = (folder.path().join("hosts"), folder.path().join("lake"));
    let place = hosts.join("one");
    std::fs::create_dir_all(&place).expect("a folder");
    std::fs::create_dir_all(hosts.join("empty")).expect("a folder");
    dozor(&["demo", "--record", text(&place.join("a.dozor")), "--for", "2m", "--every", "2s"]);
    let rows = || {
        let mut count = 0;
        let mut folders = vec![lake.join("system")];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                if entry.path().is_dir() {
                    folders.push(entry.path());
                } else {
                    let file = std::fs::File::open(entry.path()).expect("a file");
                    count += SerializedFileReader::new(file)
                        .expect("Parquet")
                        .metadata()
                        .file_metadata()
                        .num_rows();
                }
            }
        }
        count
    };
    let export = || refused(&["export", "--fleet", text(&hosts), "-o", text(&lake)]);
    let (status, said) = export();
    assert!(status == Some(0) && said.contains("1 machines, 61 new samples"), "{said}");
    assert!(lake.join("processes/host=lynx-obs/day=2031-02-14").is_dir());
    assert_eq!(rows(), 61);
    assert!(export().1.contains("0 new samples in 0 new files"));
    // The same night goes on in another file: what both have in common is written once.
    dozor(&[
        "demo",
        "--record",
        text(&place.join("b.dozor")),
        "--after",
        "1m",
        "--for",
        "2m",
        "--every",
        "2s",
    ]);
    let (_, said) = export();
    assert!(said.contains("30 new samples"), "{said}");
    assert_eq!(rows(), 91);
    // A state that says nothing is no reason to write all again.
    std::fs::write(lake.join("_dozor/lynx-obs.json"), "{}").expect("the state");
    let (status, said) = export();
    assert!(status == Some(1) && said.contains("does not say how far"), "{said}");
}

#[test]
fn what_cannot_be_exported_says_why() {
    let folder = recorded("night");
    let recording = folder.path().join("night.dozor");
    let recording = text(&recording);
    let out = folder.path().join("x.svg");
    let out = text(&out);
    for (arguments, said) in [
        (vec!["export", recording, "-o", "x.gif"], ".svg or .pdf"),
        (vec!["export", recording], "-o FILE is missing"),
        (vec!["export", recording, "--chart", "wirte", "-o", out], "did you mean write"),
        (vec!["export", recording, "--chart", "command", "-o", out], "is a text"),
        (vec!["export", recording, "--chart", "cpu", "--size", "12x8", "-o", out], "too small"),
        (vec!["export", recording, "--chart", "cpu", "--size", "big", "-o", out], "is no size"),
        (vec!["export", recording, "--table", "people", "-o", out], "no table is called"),
        (
            vec!["export", recording, "--table", "system", "--columns", "cpu", "-o", "x.csv"],
            "no column of the table",
        ),
        (
            vec![
                "export",
                recording,
                "--chart",
                "cpu",
                "--from",
                "yesterday 02:00",
                "--to",
                "yesterday 03:00",
                "-o",
                out,
            ],
            "nothing was recorded then",
        ),
        (vec!["report", recording, "-o", "x.doc"], ".pdf, .html or .md"),
    ] {
        let (status, error) = refused(&arguments);
        assert!(status == Some(2) && error.contains(said), "{arguments:?}: {error}");
        assert_eq!(error.trim_end().lines().count(), 1, "{error}");
    }
    // A full device leaves nothing half behind.
    let (status, error) =
        refused(&["export", recording, "--table", "processes", "-o", "/dev/full", "--format", "csv"]);
    assert!(status == Some(1) && !error.is_empty(), "{error}");
    for chart in ["gpu.power", "cpu@nobody-there"] {
        let (status, error) = refused(&["export", recording, "--chart", chart, "-o", out]);
        assert_eq!(status, Some(0), "nothing known is a chart that says so");
        assert!(error.contains(&format!("{chart}: in this time there is no value of it")), "{error}");
        assert!(std::fs::read_to_string(out).expect("a picture").contains(chart));
    }
}

#[test]
fn what_is_shown_is_saved_from_the_screen() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let screen = Terminal::run("dozor demo --after 60s", SIZE, folder.path());
    screen.wait_for("Processes by");
    screen.keys("e");
    screen.wait_for("What shall be saved");
    screen.keys("Enter");
    screen.wait_for("saved ");
    let drawn = std::fs::read_to_string(saved(folder.path(), "svg")).expect("a picture");
    assert!(drawn.contains("all resources") && drawn.contains("lynx-obs"));
    screen.keys("e");
    screen.wait_for("What shall be saved");
    screen.keys("Down Down Down Down Enter");
    let rows = std::fs::read_to_string(saved(folder.path(), "csv")).expect("rows");
    assert!(
        rows.lines().count() > 200 && rows.lines().next().is_some_and(|line| line.contains(",pid")),
        "{rows}"
    );
    screen.keys(":");
    screen.wait_for("What shall be done?");
    screen.text("save the screen as PDF");
    screen.keys("Enter");
    let page = saved(folder.path(), "pdf");
    let letters = tool("pdftotext", &["-layout", text(&page), "-"]);
    assert!(letters.contains("lynx-obs") && letters.contains("Processes by"), "{letters}");
    screen.keys("q");
    screen.assert_restored();
}

#[test]
fn charts_on_the_screen_are_chosen_zoomed_and_kept() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let screen = Terminal::run("dozor demo --after 60s", SIZE, folder.path());
    screen.wait_for("Processes by");
    screen.keys("E");
    screen.wait_for("at the cursor");
    screen.keys("n");
    screen.wait_for("several with blanks");
    screen.text("wirte");
    screen.keys("Enter");
    screen.wait_for("did you mean write");
    screen.keys("BSpace BSpace BSpace BSpace BSpace");
    screen.text("write@stacker disk.wait{nvme0n1}");
    screen.keys("Enter");
    screen.wait("the new pane", |text| {
        text.contains("▸write@stacker disk.wait{nvme0n1}") && text.contains("own scale")
    });
    let before = screen.screen();
    let length = |text: &str| {
        text.lines().find_map(|line| Some(line.split("Charts, ").nth(1)?.split(" from").next()?.to_owned()))
    };
    screen.keys("+");
    screen.wait("half of the time", |text| length(text).is_some() && length(text) != length(&before));
    screen.keys("b");
    screen.wait_for("over the time before it");
    screen.keys("s");
    screen.wait_for("a name");
    screen.text("stacking");
    screen.keys("Enter");
    screen.wait_for("kept as 'stacking'");
    let kept =
        std::fs::read_to_string(folder.path().join("config/dozor/settings.toml")).expect("the settings");
    assert!(kept.contains("[charts]") && kept.contains("write@stacker disk.wait{nvme0n1}"), "{kept}");
    screen.keys("d");
    screen.keys("d");
    screen.wait("two panes again", |text| !text.contains("write@stacker"));
    screen.keys("o");
    screen.wait("the set that was kept", |text| text.contains("write@stacker disk.wait{nvme0n1}"));
    screen.keys("e");
    screen.wait_for("saved ");
    assert!(std::fs::read_to_string(saved(folder.path(), "svg")).expect("a picture").contains("disk.wait"));
    screen.keys("Escape");
    screen.wait_for("Processes by");
    screen.keys("q");
    screen.assert_restored();
}
