"""Opens the Delta tables that tools/interop.ts made and says what an independent library finds in each version; then appends to each.

Prints one JSON object: table -> {"versions": {version: {"rows": [[...], ...], "operation": "..."}}, "appended": [...] | null, "refused": "why"}.
They are read through the library's own query engine.
"""
import datetime
import json
import pathlib
import sys

import pyarrow as pa
from deltalake import DeltaTable, QueryBuilder, write_deltalake

ROOT, APPEND = pathlib.Path(sys.argv[1]), sys.argv[2] == "append"


def plain(value):
    return value.isoformat() if hasattr(value, "isoformat") else format(value, "f") if value.__class__.__name__ == "Decimal" else value


def rows(table):
    found = pa.table(QueryBuilder().register("t", table).execute("SELECT * FROM t").read_all()).to_pylist()
    wanted = ["n", "name", "day", "price", "later"]
    return sorted(([plain(each.get(name)) for name in wanted] for each in found), key=lambda row: row[0])


out = {}
for path in sorted(ROOT.iterdir()):
    entry = out[path.name] = {"versions": {}, "appended": None, "refused": None}
    try:
        latest = DeltaTable(path)
        operations = {each["version"]: each["operation"] for each in latest.history()}
        first = min(operations)
        if not APPEND:
            for version in range(first, latest.version() + 1):
                entry["versions"][str(version)] = {"rows": rows(DeltaTable(path, version=version)), "operation": operations[version]}
        else:
            given = {"n": [900, 901], "name": ["theirs", None], "day": [datetime.date(2026, 3, 1)] * 2}
            schema = pa.schema(latest.schema().to_arrow())
            write_deltalake(path, pa.Table.from_pydict({field.name: given.get(field.name, [None, None]) for field in schema}, schema=schema), mode="append")
            entry["appended"] = rows(DeltaTable(path))
    except BaseException as error:
        entry["refused"] = str(error).splitlines()[0][:200]
print(json.dumps(out))
