"""Reads the files that a write made with independent libraries (fastavro, pyarrow, Python's own csv, gzip and json), and holds every value against what was written.

Arguments: a folder with values.avro, values-none.avro, values.parquet, values.csv, values.jsonl.gz. Prints one line a check.
"""
import csv
import datetime as dt
import decimal
import gzip
import json
import math
import sys
import uuid
from pathlib import Path

import fastavro
import pyarrow.parquet

UTC = dt.timezone.utc
EXPECTED = {
    "long": 9007199254740993, "small": -7, "price": decimal.Decimal("-1.50"), "wide": decimal.Decimal("-12345678901234567890123456.789"), "bytes": b"\x00\xab\\x41",
    "local_at": dt.datetime(2026, 3, 14, 1, 2, 3, 500000), "at_utc": dt.datetime(2026, 3, 13, 23, 2, 3, tzinfo=UTC), "day": dt.date(1966, 1, 1), "clock": dt.time(1, 2, 3, 500000),
    "id": uuid.UUID("6f1b7bd4-6a8f-4d0c-9f7c-0d6a2d8f4f10"), "counts": {"a": 1}, "list": [1, None], "pair": {"x": 1, "y": None, "at": dt.date(2026, 3, 14)}, "tenth": 0.1, "yes": True, "nothing": None, "text": 'é "|\n,', "no": math.nan, "far": -math.inf,
}


def same(a, b):
    if isinstance(b, float) and math.isnan(b):
        return isinstance(a, float) and math.isnan(a)
    if isinstance(b, uuid.UUID):
        return str(uuid.UUID(bytes=a) if isinstance(a, bytes) else a) == str(b)
    if isinstance(b, dict):
        a = dict(a)
        return a.keys() == b.keys() and all(same(a[key], b[key]) for key in b)
    return a == b and (a is None) == (b is None)


def check(name, row):
    for column, expected in EXPECTED.items():
        good = same(row[column], expected)
        print("ok" if good else "FAILED", f"{name}: {column} is {row[column]!r}" + ("" if good else f", not {expected!r}"))


folder = Path(sys.argv[1])
for name in ["values.avro", "values-none.avro"]:
    with open(folder / name, "rb") as file:
        # fastavro reads `local-timestamp-micros` without a zone, and decimals of bytes, as the specification says.
        rows = list(fastavro.reader(file))
    print("ok" if len(rows) == 5000 else "FAILED", f"{name}: {len(rows)} rows")
    check(name, rows[4321])
table = pyarrow.parquet.read_table(folder / "values.parquet")
print("ok" if table.num_rows == 5000 else "FAILED", f"values.parquet: {table.num_rows} rows")
check("values.parquet", table.slice(4321, 1).to_pylist()[0])
with open(folder / "values.csv", newline="", encoding="utf-8") as file:
    rows = list(csv.DictReader(file, delimiter="|"))
row = rows[4321]
for column, expected in {"long": "9007199254740993", "wide": "-12345678901234567890123456.789", "at_utc": "2026-03-13 23:02:03+00", "day": "1966-01-01", "text": EXPECTED["text"], "nothing": ""}.items():
    print("ok" if row[column] == expected else "FAILED", f"values.csv: {column} is {row[column]!r}")
with gzip.open(folder / "values.jsonl.gz", "rt", encoding="utf-8") as file:
    row = json.loads(file.read().split("\n")[4321], parse_float=decimal.Decimal)
for column, expected in {"long": 9007199254740993, "wide": EXPECTED["wide"], "day": "1966-01-01", "text": EXPECTED["text"], "nothing": None, "no": None, "list": [1, None], "counts": {"a": 1}}.items():
    print("ok" if row[column] == expected else "FAILED", f"values.jsonl.gz: {column} is {row[column]!r}")
