"""Judges what the product made of open data files, with pandas and polars as independent readers.

Usage: corpus.py ANSWERS, a folder with one JSON file for each data file: {"path", "status", "columns", "rows", "note"}.
Prints one JSON line for each: {"path", "verdict", "why"}. Verdicts: right, wrong, unreadable, undecided, unjudged.
"""
import bz2
import datetime
import gzip
import io
import json
import math
import pathlib
import re
import sys

import pandas
import polars
from dateutil import parser as dates

MISSING = {"", "na", "n/a", "#n/a", "n.a.", "<na>", "null", "(null)", "\\n", "none", "nil", "nan", "-nan", "-", "--", "---", "–", ".", "..", "?", "#null!", "missing", "unknown", "n/d", "nd", "k.a.", "s/d", "*", "#na", "1.#ind", "-1.#ind"}
TRUE, FALSE = {"true", "yes", "y", "t", "on", "ja", "oui", "1"}, {"false", "no", "n", "f", "off", "nein", "non", "0"}


def text_of(path):
    raw = pathlib.Path(path).read_bytes()
    if path.endswith(".gz"):
        raw = gzip.decompress(raw)
    if path.endswith(".bz2"):
        raw = bz2.decompress(raw)
    for encoding in ("utf-8-sig", "cp1252", "latin-1"):
        try:
            return raw.decode(encoding)
        except UnicodeDecodeError:
            continue


def read_pandas(text, path, separators):
    """Every reading of the texts that pandas offers, cells as text: one for each separator, with and without a header."""
    for separator in separators:
        for header in (0, None):
            try:
                yield pandas.read_csv(io.StringIO(text), sep=separator, header=header, dtype=str, keep_default_na=False, na_values=[], engine="python" if len(separator) > 1 else "c", index_col=False, skipinitialspace=False)
            except Exception:
                continue


def read_polars(text, separator, header):
    try:
        return polars.read_csv(text.encode(), separator=separator, has_header=header, infer_schema_length=0, truncate_ragged_lines=False)
    except Exception:
        return None


def number(text):
    try:
        return float(text)
    except (TypeError, ValueError):
        plain = re.sub(r"[\s,$€£%'()\u00a0\u202f]", "", text or "")
        try:
            return float(plain)
        except ValueError:
            return None


def same(ours, theirs):
    """Whether a value of ours says what the text says."""
    text = "" if theirs is None or (isinstance(theirs, float) and math.isnan(theirs)) else str(theirs)
    plain = text.strip()
    if ours is None:
        return plain.lower() in MISSING
    if isinstance(ours, bool):
        return plain.lower() in (TRUE if ours else FALSE)
    if isinstance(ours, (int, float)):
        other = number(plain)
        return other is not None and (other == ours or (math.isnan(other) and math.isnan(ours)) or abs(other - ours) <= 1e-15 * abs(other))
    if ours == text or ours.strip() == plain:
        return True
    if ours in ("NaN", "Infinity", "-Infinity"):
        other = number(plain)
        return other is not None and str(other).lower() == str(float(ours)).lower()
    if re.fullmatch(r"[+-]?\d+(\.\d*)?([eE][+-]?\d+)?", ours) and number(plain) is not None:
        return number(plain) == float(ours)
    if re.match(r"\d{4}-\d\d-\d\d|\d\d:\d\d", ours):
        return same_time(ours, plain)
    return False


def same_time(ours, plain):
    mine = ours.replace("Z", "").replace("T", " ")
    for day_first in (False, True):
        try:
            other = dates.parse(plain, dayfirst=day_first, default=datetime.datetime(1970, 1, 1))
        except (ValueError, OverflowError):
            continue
        if other.tzinfo is not None:
            other = other.astimezone(datetime.timezone.utc).replace(tzinfo=None)
        for written in ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%H:%M:%S"):
            if other.strftime(written) == mine or other.strftime(written).rstrip("0") == mine:
                return True
    if re.fullmatch(r"\d{8}", plain):
        return mine == f"{plain[:4]}-{plain[4:6]}-{plain[6:]}"
    return False


def compare(columns, rows, frame):
    """None when all cells agree, else what does not."""
    theirs = frame.values.tolist()
    theirs = [row for row in theirs if not all(str(cell).strip() in ("", "nan", "None") for cell in row)] if len(theirs) != len(rows) else theirs
    width = len(frame.columns)
    # An unnamed column that is empty throughout is what a delimiter at the end of each line leaves.
    while width > len(columns) and all(str(row[width - 1]).strip() in ("", "nan", "None") for row in theirs):
        width -= 1
    if width != len(columns):
        return f"{len(columns)} columns, where {width} are"
    if len(theirs) != len(rows):
        return f"{len(rows)} rows, where {len(theirs)} are"
    for at, (mine, other) in enumerate(zip(rows, theirs)):
        for index, value in enumerate(mine):
            if not same(value, other[index]):
                return f"row {at + 1}, {columns[index]['name']}: {value!r}, where the text is {other[index]!r}"
    return None


def too_plain(columns, rows, frame):
    """A column that is text here although every text in it is a number without leading zeros."""
    for index, column in enumerate(columns):
        if column["type"] != "varchar":
            continue
        texts = [str(row[index]).strip() for row in rows if row[index] is not None]
        core = [text for text in texts if text.lower() not in MISSING]
        if core and all(re.fullmatch(r"[+-]?(0|[1-9]\d*)?(\.\d+)?([eE][+-]?\d+)?", text) and re.search(r"\d", text) and len(text) < 38 for text in core):
            return f"{column['name']} is text, where all values are numbers"
    return None


def names_agree(columns, frame):
    for column, name in zip(columns, frame.columns):
        plain = re.sub(r"\s+", " ", str(name)).strip().strip('"')
        mine = column["name"]
        if plain.lower() == mine.lower() or plain.startswith("Unnamed:") or re.fullmatch(r"(column|field)_\d+", mine) or re.sub(r"[._]\d+$", "", plain).lower() == re.sub(r"[._]\d+$", "", mine).lower():
            continue
        return f"{mine}, where the header has {plain}"
    return None


def judge(answer):
    if answer["status"] != "ok":
        return answer["status"], answer.get("note", "")
    text = text_of(answer["file"])
    if text is None:
        return "unjudged", "no encoding"
    columns, rows = answer["columns"], answer["rows"]
    if answer.get("cut"):
        rows = rows
    first_failure = None
    separators = {".tsv": ["\t", ",", r"\s+"]}.get(pathlib.Path(re.sub(r"\.(gz|bz2)$", "", answer["file"])).suffix, [",", ";", "\t", "|", r"\s+"])
    for frame in read_pandas(text, answer["file"], separators):
        if answer.get("cut"):
            frame = frame.iloc[: len(rows)]
        fault = compare(columns, rows, frame)
        first_failure = first_failure or fault
        if fault:
            continue
        fault = too_plain(columns, rows, frame) or (names_agree(columns, frame) if not isinstance(frame.columns, pandas.RangeIndex) else None)
        if fault:
            return "wrong", fault
        return "right", ""
    if first_failure is None:
        return "unjudged", "neither reader reads it"
    return "wrong", first_failure


for path in sorted(pathlib.Path(sys.argv[1]).iterdir()):
    answer = json.loads(path.read_text())
    try:
        verdict, why = judge(answer)
    except Exception as error:
        verdict, why = "unjudged", f"{type(error).__name__}: {error}"
    print(json.dumps({"path": answer["path"], "verdict": verdict, "why": why[:300]}), flush=True)
