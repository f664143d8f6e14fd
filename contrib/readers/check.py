"""Reads what Dozor writes with readers that it did not write, and holds them against each other and against the recording.
Usage: check.py DOZOR FOLDER   (FOLDER is for scratch files)"""
import csv
import http.server
import importlib
import json
import math
import os
import pathlib
import subprocess
import sys
import threading
import time
import urllib.request
import xml.dom.minidom

import duckdb
import pyarrow.parquet as parquet
import sseclient
from opentelemetry.proto.collector.metrics.v1 import metrics_service_pb2
from google.protobuf import json_format

dozor, folder = sys.argv[1], pathlib.Path(sys.argv[2])
checked = 0


def run(*arguments):
    result = subprocess.run([dozor, *map(str, arguments)], capture_output=True, text=True)
    assert result.returncode == 0, (arguments, result.stderr)
    return result.stdout


def same(a, b, what):
    global checked
    checked += 1
    if isinstance(a, float) and isinstance(b, float):
        assert a == b or math.isclose(a, b, rel_tol=1e-15), (what, a, b)
    else:
        assert a == b, (what, a, b)


def tables(recording):
    """Every cell of every table: Parquet by two readers, JSON, JSON Lines and CSV."""
    for table in ["processes", "system", "parts", "connections", "actions"]:
        paths = {form: folder / f"{table}.{form}" for form in ["parquet", "json", "jsonl", "csv"]}
        for path in paths.values():
            run("export", recording, "--table", table, "--from", "02:04:20", "--to", "02:04:50", "-o", path)
        columns = parquet.read_table(paths["parquet"])
        rows = columns.to_pylist() if table == "actions" else [dict(zip(columns.column_names, values)) for values in zip(*[
            [None if v is None else (v.value if hasattr(v, "value") else v) for v in column.to_pylist()] for column in columns.itercolumns()])]
        objects = json.loads(paths["json"].read_text())
        lines = [json.loads(line) for line in paths["jsonl"].read_text().splitlines()]
        cells = list(csv.DictReader(paths["csv"].open(newline="")))
        counted = duckdb.sql(f"SELECT count(*) FROM read_parquet('{paths['parquet']}')").fetchall()[0][0]
        same(counted, len(rows), table)
        same(len(objects), len(rows), table)
        assert objects == lines
        metadata = parquet.read_metadata(paths["parquet"]).metadata
        assert metadata[b"dozor.table"].decode() == table and metadata[b"dozor.schema.version"] == b"1"
        for row, item, cell in zip(rows, objects, cells):
            denied = set((row.get("denied") or "").split(",")) - {""}
            assert denied == set(item.get("denied", [])), (table, row)
            for key, value in item.items():
                if key == "denied":
                    continue
                text, stored = cell[key], row[key]
                if value is None:
                    same(text, "denied" if key in denied else "", (table, key))
                    same(stored, None, (table, key))
                elif key == "time":
                    same(text, value, (table, key))
                elif isinstance(value, str):
                    same(text, value, (table, key))
                    same(stored, value, (table, key))
                else:
                    same(float(text), float(value), (table, key))
                    if not hasattr(stored, "isoformat") and key != "start":
                        same(float(stored), float(value), (table, key))
        print(f"{table}: {len(rows)} rows of {len(columns.column_names)} columns are the same for all readers")


def against_the_recording(recording):
    """The system table against what a query of the same recording says."""
    table = {row["time"]: row for row in json.loads((folder / "system.json").read_text())}
    for metric in ["cpu.total", "mem.available", "load.1", "forks"]:
        for line in json.loads(run("query", recording, metric, "--from", "02:04:20", "--to", "02:04:50", "--format", "json")):
            row = table[line["until"]]
            value = row[metric]
            assert (value is None) == (line["value"] is None) and (value is None or abs(value - line["value"]) < 1e-5), (metric, row["time"])
    print("the system table is what a query says")


def drawings(recording):
    for name, arguments in {
        "lanes": ["--lanes"], "lines": ["--chart", "disk.busy", "cpu@stacker"], "stacked": ["--chart", "cpu", "write"],
        "heat": ["--chart", "core.total", "cpu", "--form", "heat"],
    }.items():
        for theme in ["light", "dark"]:
            path = folder / f"{name}-{theme}.svg"
            run("export", recording, *arguments, "--theme", theme, "-o", path)
            root = xml.dom.minidom.parse(str(path)).documentElement
            assert root.tagName == "svg" and root.getElementsByTagName("title") and root.getElementsByTagName("text")
            page = path.with_suffix(".pdf")
            run("export", recording, *arguments, "--theme", theme, "-o", page)
            fonts = subprocess.run(["pdffonts", page], capture_output=True, text=True).stdout.splitlines()[2:]
            assert fonts and all(line.split()[-5:-2] == ["yes", "yes", "yes"] for line in fonts), fonts
            assert "lynx-obs" in subprocess.run(["pdftotext", page, "-"], capture_output=True, text=True).stdout
    report = folder / "report.pdf"
    run("report", recording, "-o", report)
    text = subprocess.run(["pdftotext", "-layout", report, "-"], capture_output=True, text=True).stdout
    for heading in ["What stood out", "Who used what", "What was done and noted", "page 1 of", "the dome opens"]:
        assert heading in text, heading
    print("drawings and the report are well formed, their fonts embedded, their texts found")


def serving():
    child = subprocess.Popen([dozor, "serve", "--listen", "127.0.0.1:0", "--every", "300ms"], stderr=subprocess.PIPE, text=True)
    try:
        url = child.stderr.readline().split()[-1]
        time.sleep(1.5)
        request = urllib.request.Request(f"{url}/metrics", headers={"Accept": "application/openmetrics-text;version=1.0.0"})
        text = urllib.request.urlopen(request).read().decode()
        assert text.endswith("# EOF\n")
        # The reference parser stands in a package that is named from outside, module and function behind a colon.
        parser = os.environ.get("OPENMETRICS_PARSER")
        families = []
        if parser:
            module, function = parser.split(":")
            families = list(getattr(importlib.import_module(module), function)(text))
            assert any(family.name == "system_cpu_time_seconds" and family.type == "counter" for family in families)
        events = sseclient.SSEClient(urllib.request.urlopen(f"{url}/events")).events()
        walls = [json.loads(next(events).data)["wall"] for _ in range(3)]
        assert walls == sorted(set(walls)), walls
        accepted = f"{len(families)} families accepted" if parser else "not parsed: OPENMETRICS_PARSER names no parser"
        print(f"OpenMetrics: {accepted}; events: 3 read in order")
    finally:
        child.kill()


def pushing():
    got = []

    class Collector(http.server.BaseHTTPRequestHandler):
        def do_POST(self):
            got.append((self.path, self.headers["content-type"], self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(200)
            self.send_header("content-length", "0")
            self.end_headers()

        def log_message(self, *_):
            pass

    server = http.server.HTTPServer(("127.0.0.1", 0), Collector)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    for form in ["protobuf", "json"]:
        got.clear()
        child = subprocess.Popen([dozor, "serve", "--push", f"http://127.0.0.1:{server.server_port}", "--push-as", form, "--every", "300ms"],
                                 stderr=subprocess.DEVNULL)
        while len(got) < 3:
            time.sleep(0.05)
        child.kill()
        message = metrics_service_pb2.ExportMetricsServiceRequest()
        path, kind, body = got[-1]
        if form == "protobuf":
            message.ParseFromString(body)
        else:
            json_format.Parse(body, message)
        assert path == "/v1/metrics"
        scope = message.resource_metrics[0].scope_metrics[0]
        named = {metric.name: metric for metric in scope.metrics}
        memory = named["system.memory.limit"].sum.data_points[0].as_double
        total = int(pathlib.Path("/proc/meminfo").read_text().split()[1]) * 1024
        same(memory, float(total), "memory")
        assert named["system.cpu.time"].sum.is_monotonic and named["system.cpu.time"].sum.aggregation_temporality == 2
        if form == "protobuf":
            message.DiscardUnknownFields()
            same(len(message.SerializeToString()), len(body), "nothing in it that the published messages do not have")
        print(f"OTLP as {form}: {len(named)} metrics decoded by the published package")


recording = folder / "night.dozor"
run("demo", "--record", recording, "--for", "3m", "--every", "2s")
run("note", recording, "the dome opens", "--at", "02:04:30")
tables(recording)
against_the_recording(recording)
drawings(recording)
serving()
pushing()
print(f"{checked} cells compared")
