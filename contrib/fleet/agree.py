"""Whether two engines answered the same. Usage: agree.py ONE.json OTHER.json"""
import json
import sys

one, other = (json.load(open(path)) for path in sys.argv[1:3])
for question, rows in one.items():
    others = other[question]
    assert len(rows) == len(others), question
    for row, again in zip(rows, others):
        for a, b in zip(row, again):
            if isinstance(a, (int, float)) and isinstance(b, (int, float)):
                assert abs(a - b) <= 1e-6 * max(1, abs(a)), (question, row, again)
print(f"both engines answered {len(one)} questions alike")
