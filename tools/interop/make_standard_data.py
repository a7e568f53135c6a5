"""Makes the rows of TPC-H and TPC-DS (by the engine's own generators, which an older wheel of it carries) as Parquet files,
and writes down the texts of the 22 and 99 queries. Usage: make_standard_data.py FOLDER SCALE_H SCALE_DS"""
import json
import os
import sys

import duckdb

folder, *scales = sys.argv[1:]
for suite, scale, make in (("tpch", scales[0], "dbgen"), ("tpcds", scales[1], "dsdgen")):
    at = os.path.join(folder, suite)
    if os.path.exists(os.path.join(at, "queries.json")):
        continue
    connection = duckdb.connect()
    connection.execute(f"LOAD {suite}")
    connection.execute(f"CALL {make}(sf={scale})")
    for (table,) in connection.execute("SELECT table_name FROM information_schema.tables").fetchall():
        os.makedirs(os.path.join(at, table), exist_ok=True)
        connection.execute(f"COPY {table} TO '{at}/{table}/part-0.parquet' (FORMAT parquet)")
    queries = connection.execute(f"SELECT query_nr, query FROM {suite}_queries() ORDER BY 1").fetchall()
    with open(os.path.join(at, "queries.json"), "w") as file:
        json.dump([{"number": number, "sql": text} for number, text in queries], file)
print("made")
