"""Asks a lake with an embedded engine. Usage: embedded.py LAKE [--json FILE]"""
import json
import sys
import time

import duckdb
from queries import questions, shown

lake = sys.argv[1]
base = duckdb.connect()
base.execute("SET TimeZone = 'UTC'")
read = lambda table: f"read_parquet('{lake}/{table}/**/*.parquet', hive_partitioning = true, union_by_name = true)"
base.execute("CREATE MACRO percentile_95(x) AS quantile_disc(x, 0.95)")
base.execute(f"CREATE VIEW processes AS SELECT *, epoch(time) AS epoch_s FROM {read('processes')}")
base.execute(f"""CREATE VIEW disks AS SELECT host, name, extract('hour' FROM time) AS hour, "disk.wait" * 1000 AS wait_ms
                 FROM {read('parts')} WHERE part = 'disk'""")
base.execute(f"""CREATE VIEW machines AS SELECT host, extract('hour' FROM time) AS hour, "cpu.total" AS busy
                 FROM {read('system')}""")
base.execute(f"CREATE VIEW actions AS SELECT * FROM {read('actions')}")
base.execute(f"""CREATE VIEW findings AS SELECT *, epoch_ns(until) // 1000000000 - epoch_ns(time) // 1000000000 AS lasted_s
                 FROM {read('findings')}""")
answers = {}
for name, query in questions():
    begin = time.time()
    result = base.execute(query)
    columns = [column[0] for column in result.description]
    rows = result.fetchall()
    shown(name, columns, rows, time.time() - begin)
    answers[name] = [[str(cell) if not isinstance(cell, (int, float)) else cell for cell in row] for row in rows]
if "--json" in sys.argv:
    json.dump(answers, open(sys.argv[sys.argv.index("--json") + 1], "w"))
