"""The other side of `npm run interop` for Iceberg: an independent library that works through the REST catalog protocol, and by metadata file.

check_iceberg.py URL TOKEN WHAT [ARGUMENT …]; answers are JSON on the last line.
"""
import base64
import concurrent.futures
import datetime as dt
import decimal
import json
import math
import sys
import uuid

import pyarrow as pa
from pyiceberg.catalog.rest import RestCatalog
from pyiceberg.exceptions import CommitFailedException
from pyiceberg.expressions import EqualTo, GreaterThanOrEqual, LessThan
from pyiceberg.partitioning import PartitionField, PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.table import StaticTable
from pyiceberg.table.sorting import SortField, SortOrder
from pyiceberg.transforms import BucketTransform, DayTransform, IdentityTransform, MonthTransform, TruncateTransform
from pyiceberg.types import DateType, DecimalType, DoubleType, ListType, LongType, NestedField, StringType, StructType, TimestamptzType

URL, TOKEN, WHAT, *REST = sys.argv[1:]
utc = dt.timezone.utc


def catalog(token=TOKEN, **more):
    return RestCatalog("harbor", uri=URL, token=token, **more)


def shown(value):
    if isinstance(value, dt.datetime):
        return (value.astimezone(utc) if value.tzinfo else value).replace(tzinfo=None).isoformat() + ("Z" if value.tzinfo else "")
    if isinstance(value, (dt.date, dt.time, uuid.UUID)):
        return str(value)
    if isinstance(value, decimal.Decimal):
        return format(value, "f")
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, float) and math.isnan(value):
        return "NaN"
    if isinstance(value, dict):
        return {key: shown(each) for key, each in value.items()}
    if isinstance(value, list):
        return [shown(each) for each in value]
    return value


def rows(table, **scan):
    found = table.scan(**scan).to_arrow()
    return {"columns": found.column_names, "rows": sorted([[shown(value) for value in row.values()] for row in found.to_pylist(maps_as_pydicts="strict")], key=lambda row: int(row[0]))}


SCHEMA = Schema(
    NestedField(1, "n", LongType(), required=True), NestedField(2, "name", StringType()), NestedField(3, "day", DateType()), NestedField(4, "price", DecimalType(10, 2)), NestedField(5, "at", TimestamptzType()),
    NestedField(6, "x", DoubleType()), NestedField(7, "place", StructType(NestedField(8, "lat", DoubleType()), NestedField(9, "tags", ListType(10, StringType(), element_required=False)))))


def batch(table, start, stop):
    made = [{"n": n, "name": None if n % 5 == 0 else f"näme {n}", "day": dt.date(2026, 3, 1) + dt.timedelta(days=n % 40), "price": decimal.Decimal(n) + decimal.Decimal("0.25"), "at": dt.datetime(2026, 3, 1, tzinfo=utc) + dt.timedelta(microseconds=n),
             "x": float("nan") if n == 3 else n / 4, "place": {"lat": n / 2, "tags": ["a", None]}} for n in range(start, stop)]
    return pa.Table.from_pylist(made, schema=table.schema().as_arrow())


SPECS = {
    "plain": {},
    "identity": {"partition_spec": PartitionSpec(PartitionField(2, 1000, IdentityTransform(), "name"))},
    "bucket": {"partition_spec": PartitionSpec(PartitionField(1, 1000, BucketTransform(4), "n_bucket"), PartitionField(3, 1001, MonthTransform(), "day_month"))},
    "truncate": {"partition_spec": PartitionSpec(PartitionField(2, 1000, TruncateTransform(5), "name_trunc")), "sort_order": SortOrder(SortField(1, IdentityTransform()))},
    "day": {"partition_spec": PartitionSpec(PartitionField(5, 1000, DayTransform(), "at_day"))},
}


def make():
    """Everything that the library can do, on a table of each kind; the rows of every snapshot, branch and tag."""
    out = {}
    here = catalog()
    here.create_namespace("theirs")
    for name, options in SPECS.items():
        table = here.create_table(("theirs", name), SCHEMA, **options)
        table.append(batch(table, 0, 12))
        table.append(batch(table, 12, 16))
        table.delete(LessThan("n", 3))
        table.overwrite(batch(table, 100, 104), overwrite_filter=GreaterThanOrEqual("n", 14))
        with table.update_schema() as update:
            update.add_column("later", StringType(), "came later")
            update.rename_column("x", "x_renamed")
            update.rename_column("place.lat", "latitude")
        changed = table.schema().as_arrow()
        table.append(pa.Table.from_pylist([{"n": 200, "later": "yes", "place": {"latitude": 1.5, "tags": []}}], schema=changed))
        with table.update_spec() as update:
            update.add_field("price", BucketTransform(3), "price_later")
        table.append(pa.Table.from_pylist([{"n": 201, "later": None}], schema=changed))
        head = table.current_snapshot().snapshot_id
        table.manage_snapshots().create_tag(head, "kept").create_branch(head, "trial", min_snapshots_to_keep=2).commit()
        table.append(pa.Table.from_pylist([{"n": 202}], schema=changed), branch="trial")
        with table.transaction() as change:
            change.set_properties(checked="yes")
        table.refresh()
        out[name] = {str(each.snapshot_id): rows(table, snapshot_id=each.snapshot_id) for each in table.snapshots()}
        out[name]["latest"] = rows(table)
        for ref in ("kept", "trial"):
            out[name][ref] = rows(table, snapshot_id=table.snapshot_by_name(ref).snapshot_id)
    return out


def read():
    """Tables that the other side made, through the catalog and by their metadata file alone."""
    out = {}
    here = catalog()
    for _, name in here.list_tables("ours"):
        table = here.load_table(("ours", name))
        alone = StaticTable.from_metadata(table.metadata_location)
        try:
            out[name] = {"snapshots": {str(each.snapshot_id): rows(table, snapshot_id=each.snapshot_id) for each in table.snapshots()}, "latest": rows(table), "alone": rows(alone), "refused": None}
        except Exception as error:
            out[name] = {"snapshots": {}, "latest": None, "alone": None, "refused": f"{type(error).__name__}: {error}"[:160]}
    return out


def append():
    """Appends to tables that the other side made."""
    out = {}
    here = catalog()
    for _, name in here.list_tables("ours"):
        try:
            table = here.load_table(("ours", name))
            table.append(pa.Table.from_pylist([{"n": 900 + at, "name": "theirs"} for at in range(2)], schema=table.schema().as_arrow()))
            out[name] = rows(here.load_table(("ours", name)))
        except Exception as error:
            out[name] = {"refused": f"{type(error).__name__}: {error}"[:160]}
    return out


def race(name, writers, commits):
    """Several writers at once, each with a connection of its own; a lost race is tried again from the newest state."""
    def write(writer):
        done, tries = [], 0
        table = catalog().load_table(("ours", name))
        for turn in range(int(commits)):
            value = 10_000 * (writer + 1) + turn
            while True:
                tries += 1
                try:
                    table.append(pa.Table.from_pylist([{"n": value}], schema=table.schema().as_arrow()))
                    done.append(value)
                    break
                except CommitFailedException:
                    table.refresh()
        return done, tries

    with concurrent.futures.ThreadPoolExecutor(int(writers)) as pool:
        results = list(pool.map(write, range(int(writers))))
    return {"written": sorted(value for done, _ in results for value in done), "tries": sum(tries for _, tries in results)}


def refused(token):
    """A token that may only read cannot commit."""
    table = catalog(token=token).load_table(("ours", REST[1]))
    count = len(table.scan().to_arrow())
    try:
        table.append(pa.Table.from_pylist([{"n": 1}], schema=table.schema().as_arrow()))
        return {"read": count, "refused": None}
    except Exception as error:
        return {"read": count, "refused": type(error).__name__}


def credential(name):
    """Comes in by client credentials, as most engines are told to."""
    _, number, secret = TOKEN.split("_", 2)
    here = RestCatalog("harbor", uri=URL, credential=f"{number}:{secret}", **{"oauth2-server-uri": f"{URL}/v1/oauth/tokens", "scope": "catalog"})
    return {"rows": len(here.load_table(("ours", name)).scan().to_arrow())}


result = {"make": make, "read": read, "append": append, "race": lambda: race(*REST), "refused": lambda: refused(REST[0]), "credential": lambda: credential(*REST)}[WHAT]()
print(json.dumps(result))
