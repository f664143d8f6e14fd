"""The questions of queries.sql, one by one."""
import pathlib


def questions():
    text = pathlib.Path(__file__).with_name("queries.sql").read_text()
    for part in text.split("-- name: ")[1:]:
        name, query = part.split("\n", 1)
        yield name.strip(), query.strip().rstrip(";")


def shown(name, columns, rows, seconds):
    print(f"\n{name}   ({len(rows)} rows, {seconds:.2f} s)")
    print("  " + "  ".join(columns))
    for row in rows:
        print("  " + "  ".join(f"{cell:.2f}" if isinstance(cell, float) else str(cell) for cell in row))
