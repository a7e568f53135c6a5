"""A Spark session that answers SQL: a JSON line {"sql": …} on stdin, a JSON line with rows or an error on stdout.

spark_session.py JARS URL TOKEN; the catalog `harbor` is the REST catalog at URL, Delta tables are read by their folder.
"""
import base64
import datetime as dt
import decimal
import glob
import json
import os
import sys

from pyspark.sql import Row, SparkSession

jars, url, token = sys.argv[1:]
spark = (
    SparkSession.builder.master("local[2]").appName("interop")
    .config("spark.jars", ",".join(glob.glob(os.path.join(jars, "*.jar"))))
    .config("spark.sql.extensions", "org.apache.iceberg.spark.extensions.IcebergSparkSessionExtensions,io.delta.sql.DeltaSparkSessionExtension")
    .config("spark.sql.catalog.harbor", "org.apache.iceberg.spark.SparkCatalog")
    .config("spark.sql.catalog.harbor.type", "rest").config("spark.sql.catalog.harbor.uri", url).config("spark.sql.catalog.harbor.token", token)
    .config("spark.sql.catalog.harbor.cache-enabled", "false")
    .config("spark.sql.catalog.spark_catalog", "org.apache.spark.sql.delta.catalog.DeltaCatalog")
    .config("spark.ui.enabled", "false").config("spark.sql.session.timeZone", "UTC").config("spark.sql.shuffle.partitions", "2")
    .config("spark.driver.bindAddress", "127.0.0.1").config("spark.driver.host", "127.0.0.1")
    .getOrCreate()
)
spark.sparkContext.setLogLevel("OFF")


def shown(value):
    if isinstance(value, dt.datetime):
        return (value.astimezone(dt.timezone.utc) if value.tzinfo else value).replace(tzinfo=None).isoformat()
    if isinstance(value, dt.date):
        return str(value)
    if isinstance(value, decimal.Decimal):
        return format(value, "f")
    if isinstance(value, (bytes, bytearray)):
        return base64.b64encode(bytes(value)).decode()
    if isinstance(value, Row):
        return {key: shown(each) for key, each in value.asDict().items()}
    if isinstance(value, dict):
        return {key: shown(each) for key, each in value.items()}
    if isinstance(value, list):
        return [shown(each) for each in value]
    return value


print(json.dumps({"version": spark.version}), flush=True)
for line in sys.stdin:
    try:
        rows = spark.sql(json.loads(line)["sql"]).collect()
        print(json.dumps({"rows": [[shown(value) for value in row] for row in rows]}), flush=True)
    except Exception as problem:
        print(json.dumps({"error": f"{type(problem).__name__}: {str(problem)[:600]}"}), flush=True)
spark.stop()
