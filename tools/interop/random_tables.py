"""Random tables by independent libraries, and what they read of ours.

random_tables.py make FOLDER SEED COUNT   tables by deltalake and by pyiceberg below FOLDER/delta and FOLDER/iceberg; a JSON
                                          line each: name, format, versions with their rows, conditions with the keys they hold for
random_tables.py read FOLDER              every version of every Delta table right below FOLDER, as rows
"""
import base64
import datetime as dt
import decimal
import json
import math
import os
import random
import sys
import uuid
import warnings

import pyarrow as pa
from deltalake import DeltaTable, QueryBuilder, write_deltalake

warnings.filterwarnings("ignore")
utc = dt.timezone.utc


def shown(value):
    if isinstance(value, dt.datetime):
        return (value.astimezone(utc) if value.tzinfo else value).replace(tzinfo=None).isoformat() + ("Z" if value.tzinfo else "")
    if isinstance(value, (dt.date, dt.time, uuid.UUID)):
        return str(value)
    if isinstance(value, decimal.Decimal):
        return format(value, "f")
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, float):
        return "NaN" if math.isnan(value) else ("Infinity" if value > 0 else "-Infinity") if math.isinf(value) else float(f"{value:.6g}")
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, int):
        return value if abs(value) < 2**53 else str(value)
    if isinstance(value, dict):
        return {key: shown(each) for key, each in value.items()}
    if isinstance(value, list):
        return [shown(each) for each in value]
    return value


def rows_of(table):
    names = table.column_names
    return sorted(([shown(row[name]) for name in names] for row in table.to_pylist(maps_as_pydicts="strict")), key=lambda row: json.dumps(row, sort_keys=True))


TEXTS = ["", "a", "ä/=", "long " * 12, "a b%20c", "it's", "\U0001f600", "\uffff", "NULL", "x" * 40]
KINDS = {
    "long": (pa.int64(), lambda r: r.choice([0, -1, 2**53 + 1, -(2**63), 2**63 - 1, r.randrange(-50, 50)])),
    "int": (pa.int32(), lambda r: r.choice([0, -(2**31), 2**31 - 1, r.randrange(-50, 50)])),
    "text": (pa.string(), lambda r: r.choice(TEXTS)),
    "real": (pa.float64(), lambda r: r.choice([0.5, -2.25, 1e300, r.randrange(-50, 50) / 4])),
    "single": (pa.float32(), lambda r: r.choice([0.5, -2.25, r.randrange(-50, 50) / 4])),
    "flag": (pa.bool_(), lambda r: r.random() < 0.5),
    "day": (pa.date32(), lambda r: dt.date(1970, 1, 1) + dt.timedelta(days=r.randrange(-9000, 30000))),
    "at": (pa.timestamp("us", tz="UTC"), lambda r: dt.datetime(1970, 1, 1, tzinfo=utc) + dt.timedelta(microseconds=r.randrange(-10**15, 2 * 10**15))),
    "price": (pa.decimal128(12, 3), lambda r: decimal.Decimal(r.randrange(-10**9, 10**9)).scaleb(-3)),
    "bytes": (pa.binary(), lambda r: bytes(r.randrange(256) for _ in range(r.randrange(6)))),
    "list": (pa.list_(pa.string()), lambda r: [r.choice([*TEXTS, None]) for _ in range(r.randrange(4))]),
    "place": (pa.struct([("lat", pa.float64()), ("tags", pa.list_(pa.int32()))]), lambda r: {"lat": r.choice([None, r.randrange(90) / 2]), "tags": r.choice([None, [1, None]])}),
    "notes": (pa.map_(pa.string(), pa.int64()), lambda r: [(f"k{i}", r.choice([None, i])) for i in range(r.randrange(3))]),
}
FLAT = ["long", "int", "text", "real", "flag", "day", "at", "price"]
COMPARED = ["long", "int", "text", "real", "day", "at", "price"]
SQL = {"long": "BIGINT", "int": "INTEGER", "text": "VARCHAR", "real": "DOUBLE", "day": "DATE", "at": "TIMESTAMPTZ", "price": "DECIMAL(12,3)"}


class Random:
    """Rows of random columns, and random conditions on them with their truth."""

    def __init__(self, seed, not_in_table=()):
        self.random = random.Random(seed)
        kinds = [kind for kind in KINDS if kind not in not_in_table]
        self.columns = ["k", *sorted(self.random.sample(kinds, self.random.randrange(3, len(kinds))), key=kinds.index)]
        self.next = 0

    def type_of(self, column):
        return pa.int64() if column == "k" else KINDS[column][0]

    def table(self, columns=None, most=30):
        made = []
        for _ in range(self.random.randrange(1, most)):
            row = {column: None if self.random.random() < 0.15 else KINDS[column][1](self.random) for column in self.columns[1:]}
            made.append({"k": self.next, **row})
            self.next += 1
        schema = pa.schema([(column, self.type_of(column)) for column in columns or self.columns])
        return pa.Table.from_pylist(made, schema=schema)

    def conditions(self, table, count=6):
        rows = table.to_pylist(maps_as_pydicts="strict")
        found = []
        for _ in range(count):
            usable = [column for column in table.column_names if column in COMPARED]
            if not usable or not rows:
                break
            column, operator = self.random.choice(usable), self.random.choice(["=", "<", "<=", ">", ">=", "<>", "IS NULL", "IS NOT NULL"])
            value = self.random.choice([row[column] for row in rows if row[column] is not None] or [KINDS[column][1](self.random)])
            tests = {"=": lambda v: v == value, "<": lambda v: v < value, "<=": lambda v: v <= value, ">": lambda v: v > value, ">=": lambda v: v >= value, "<>": lambda v: v != value}
            if operator.startswith("IS"):
                sql, keep = f'"{column}" {operator}', lambda v: (v is None) == (operator == "IS NULL")
            else:
                text = str(shown(value)).replace("'", "''") if not isinstance(value, float) else repr(value)
                sql, keep = f"\"{column}\" {operator} CAST('{text}' AS {SQL[column]})", lambda v: v is not None and tests[operator](v)
            found.append({"sql": sql, "keys": sorted(row["k"] for row in rows if keep(row[column]))})
        return found



def make_delta(folder, name, seed):
    make = Random(seed, not_in_table=("notes",))
    root, r = os.path.join(folder, name), make.random
    usable = [column for column in make.columns if column in ("text", "day", "flag", "int")]
    parts = r.sample(usable, min(len(usable), r.randrange(3)))
    later = make.columns[-1] if make.columns[-1] not in parts and len(make.columns) > 2 else None
    config = {"delta.enableChangeDataFeed": "true"} if r.random() < 0.3 else None
    write_deltalake(root, make.table([column for column in make.columns if column != later]), partition_by=parts or None, configuration=config)
    for _ in range(r.randrange(2, 7)):
        table = DeltaTable(root)
        step = r.choice(["append", "append", "append", "delete", "overwrite", "compact", "checkpoint", "update"])
        if step == "append":
            write_deltalake(root, make.table(), mode="append", schema_mode="merge")
        elif step == "overwrite":
            write_deltalake(root, make.table(), mode="overwrite", schema_mode="overwrite" if not parts else None) if later is None else write_deltalake(root, make.table(), mode="append", schema_mode="merge")
        elif step == "delete":
            table.delete(f"k % {r.randrange(2, 5)} = 0")
        elif step == "update":
            table.update(updates={"k": "k + 100000"}, predicate=f"k % 7 = {r.randrange(7)} and k < 100000")
        elif step == "compact":
            table.optimize.compact()
        else:
            table.create_checkpoint()
    versions = {}
    for version in range(DeltaTable(root).version() + 1):
        read = DeltaTable(root, version=version).to_pyarrow_table()
        versions[version] = {"columns": read.column_names, "rows": rows_of(read)}
    latest = DeltaTable(root).to_pyarrow_table()
    return {"name": name, "format": "delta", "parts": parts, "versions": versions, "conditions": make.conditions(latest)}


def make_iceberg(folder, name, seed, catalog):
    from pyiceberg.expressions import GreaterThan, LessThan, Or
    from pyiceberg.transforms import BucketTransform, DayTransform, IdentityTransform, MonthTransform, TruncateTransform, YearTransform

    make = Random(seed)
    r = make.random
    first = make.table([column for column in make.columns if column != make.columns[-1]])
    table = catalog.create_table(f"t.{name}", schema=first.schema, location=f"file://{folder}/{name}", properties={"format-version": "2", "write.parquet.compression-codec": "zstd"})
    choices = {"long": [BucketTransform(4), TruncateTransform(10), IdentityTransform()], "int": [BucketTransform(3), TruncateTransform(7)], "text": [TruncateTransform(2), BucketTransform(4)], "day": [MonthTransform(), YearTransform(), IdentityTransform()], "at": [DayTransform(), MonthTransform()], "price": [TruncateTransform(100)]}

    def partition():
        usable = [column for column in first.column_names if column in choices]
        if usable:
            column = r.choice(usable)
            with table.update_spec() as update:
                update.add_field(column, r.choice(choices[column]), f"p_{column}_{r.randrange(10**6)}")

    if r.random() < 0.8:
        try:
            partition()
        except Exception:
            pass
    snapshots = []

    def note():
        snapshot = table.current_snapshot()
        if snapshot and (not snapshots or snapshots[-1][0] != snapshot.snapshot_id):
            read = table.scan(snapshot_id=snapshot.snapshot_id).to_arrow()
            snapshots.append((snapshot.snapshot_id, read.column_names, rows_of(read)))

    table.append(first)
    note()
    for _ in range(r.randrange(2, 6)):
        step = r.choice(["append", "append", "delete", "evolve", "overwrite", "respec"])
        columns = [field.name for field in table.schema().fields]
        try:
            if step == "append":
                table.append(make.table(columns))
            elif step == "delete":
                table.delete(Or(LessThan("k", r.randrange(20)), GreaterThan("k", make.next - r.randrange(10))))
            elif step == "overwrite":
                table.overwrite(make.table(columns), overwrite_filter=LessThan("k", make.next // 2))
            elif step == "evolve" and make.columns[-1] not in columns:
                with table.update_schema() as update:
                    update.union_by_name(pa.schema([(make.columns[-1], make.type_of(make.columns[-1]))]))
            elif step == "respec":
                partition()
        except (NotImplementedError, ValueError):
            pass
        note()
    latest = table.scan().to_arrow()
    return {"name": name, "format": "iceberg", "spec": str(table.spec()), "snapshots": [{"id": str(id), "columns": columns, "rows": rows} for id, columns, rows in snapshots], "conditions": make.conditions(latest)}


def make(folder, seed, count):
    from pyiceberg.catalog.sql import SqlCatalog

    for kind in ("delta", "iceberg"):
        os.makedirs(os.path.join(folder, kind), exist_ok=True)
    catalog = SqlCatalog("made", uri="sqlite:///:memory:", warehouse=f"file://{folder}/iceberg")
    catalog.create_namespace("t")
    for n in range(count):
        for kind, one in (("delta", lambda name, s: make_delta(f"{folder}/delta", name, s)), ("iceberg", lambda name, s: make_iceberg(f"{folder}/iceberg", name, s, catalog))):
            name = f"{kind}_{n}"
            try:
                print(json.dumps(one(name, seed * 1000 + n)))
            except Exception as problem:
                print(json.dumps({"name": name, "format": kind, "refused": f"{type(problem).__name__}: {str(problem)[:200]}"}))


def read(folder):
    for name in sorted(os.listdir(folder)):
        root = os.path.join(folder, name)
        if not os.path.isdir(os.path.join(root, "_delta_log")):
            continue
        try:
            versions = {}
            for version in range(DeltaTable(root).version() + 1):
                # By the library's own engine, which knows deletion vectors.
                found = pa.table(QueryBuilder().register("t", DeltaTable(root, version=version)).execute("SELECT * FROM t"))
                versions[version] = {"columns": found.column_names, "rows": rows_of(found)}
            print(json.dumps({"name": name, "versions": versions}))
        except Exception as problem:
            print(json.dumps({"name": name, "refused": f"{type(problem).__name__}: {str(problem)[:200]}"}))


if __name__ == "__main__":
    if sys.argv[1] == "make":
        make(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
    else:
        read(sys.argv[2])
    # The libraries' threads do not end quietly.
    sys.stdout.flush()
    os._exit(0)
