"""Asks a lake with a distributed engine: a cluster of several workers, each a process of its own, on this machine.
Usage: distributed.py LAKE [--json FILE]"""
import json
import sys
import time

from pyspark.sql import SparkSession
from queries import questions, shown

lake = sys.argv[1]
# Two workers with a core each; on a real cluster the master's address stands here.
session = (
    SparkSession.builder.master("local-cluster[2,1,1536]")
    .appName("fleet")
    .config("spark.sql.session.timeZone", "UTC")
    .config("spark.sql.shuffle.partitions", "8")
    .config("spark.executor.memory", "1536m")
    .config("spark.ui.enabled", "false")
    .config("spark.driver.bindAddress", "127.0.0.1")
    .config("spark.driver.host", "127.0.0.1")
    .config("spark.sql.ansi.doubleQuotedIdentifiers", "true")
    .config("spark.sql.ansi.enabled", "true")
    .config("spark.sql.legacy.parquet.nanosAsLong", "true")
    .getOrCreate()
)
session.sparkContext.setLogLevel("ERROR")
for table in ["processes", "system", "parts", "actions", "findings"]:
    frame = session.read.option("mergeSchema", "false").parquet(f"{lake}/{table}")
    # The engine has microseconds: nanoseconds come as whole numbers and become times here.
    frame = frame.withColumnRenamed("time", "time_ns")
    frame.createOrReplaceTempView(f"raw_{table}")
moment = "timestamp_micros(time_ns div 1000)"
session.sql(f"CREATE TEMPORARY VIEW processes AS SELECT *, {moment} AS time, time_ns / 1e9 AS epoch_s FROM raw_processes")
session.sql(f"""CREATE TEMPORARY VIEW disks AS SELECT host, name, hour({moment}) AS hour, `disk.wait` * 1000 AS wait_ms
                FROM raw_parts WHERE part = 'disk'""")
session.sql(f"CREATE TEMPORARY VIEW machines AS SELECT host, hour({moment}) AS hour, `cpu.total` AS busy FROM raw_system")
session.sql(f"CREATE TEMPORARY VIEW actions AS SELECT *, {moment} AS time FROM raw_actions")
session.sql("""CREATE TEMPORARY VIEW findings AS
               SELECT *, until div 1000000000 - time_ns div 1000000000 AS lasted_s FROM raw_findings""")
answers = {}
for name, query in questions():
    begin = time.time()
    query = query.replace("percentile_95(wait_ms)", "percentile_disc(0.95) WITHIN GROUP (ORDER BY wait_ms)")
    result = session.sql(query)
    rows = [list(row) for row in result.collect()]
    shown(name, result.columns, rows, time.time() - begin)
    answers[name] = [[cell if isinstance(cell, (int, float)) else str(cell) for cell in row] for row in rows]
workers = {row[0] for row in session.sparkContext.parallelize(range(64), 16).map(lambda _: (__import__("os").getppid(),)).collect()}
print(f"\n{len(workers)} workers took part")
if "--json" in sys.argv:
    json.dump(answers, open(sys.argv[sys.argv.index("--json") + 1], "w"))
session.stop()
