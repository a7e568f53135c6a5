"""Opens the Delta tables that tools/interop.ts made and says what an independent library finds in each version.

Prints one JSON object: table -> version -> {"rows": [[n, name, day, price], ...], "operation": "..."}.
"""
import json
import pathlib
import sys

from deltalake import DeltaTable


def rows(table):
    found = table.to_pyarrow_table().sort_by("n").to_pylist()
    return [[each["n"], each["name"], each["day"].isoformat(), format(each["price"], "f"), each.get("later")] for each in found]


out = {}
for path in sorted(pathlib.Path(sys.argv[1]).iterdir()):
    latest = DeltaTable(path)
    operations = {entry["version"]: entry["operation"] for entry in latest.history()}
    out[path.name] = {str(version): {"rows": rows(DeltaTable(path, version=version)), "operation": operations[version]} for version in range(latest.version() + 1)}
print(json.dumps(out))
