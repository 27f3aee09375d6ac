"""Tables in open forms read back as they were written."""

from __future__ import annotations

import csv
import io
import json
import math
from typing import Any

import pyarrow
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import from_json
from kinetrum.core.rows.tables import cell, check_form, write_table

TEXT = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\x00\r"), max_size=20)
VALUES = st.none() | st.booleans() | st.integers(-(2**70), 2**70) | st.floats() | TEXT
ROWS = st.lists(st.dictionaries(st.sampled_from(["a", "b", "param:c"]), VALUES), max_size=8)
COLUMNS = ["a", "b", "param:c"]


def alike(left: Any, right: Any) -> bool:
    if isinstance(left, float) and isinstance(right, float) and math.isnan(left):
        return math.isnan(right)
    return type(left) is type(right) and left == right


def written(form: str, rows: list[dict[str, Any]]) -> bytes:
    return b"".join(write_table(form, COLUMNS, lambda: iter([rows[:3], rows[3:]] if rows[3:] else [rows])))


@given(ROWS)
def test_json_lines(rows: list[dict[str, Any]]) -> None:
    found = [json.loads(line) for line in written("jsonl", rows).decode().split("\n") if line]
    assert len(found) == len(rows)
    for row, back in zip(rows, found, strict=True):
        assert list(back) == list(row)
        assert all(alike(value, from_json(back[key])) for key, value in row.items())


@given(ROWS)
def test_csv(rows: list[dict[str, Any]]) -> None:
    found = list(csv.DictReader(io.StringIO(written("csv", rows).decode(), newline="")))
    assert len(found) == len(rows)
    for row, back in zip(rows, found, strict=True):
        assert list(back) == COLUMNS
        for key in COLUMNS:
            assert back[key] == (cell(row[key]) if key in row else "")
            if isinstance(row.get(key), float) and math.isfinite(row[key]):
                assert alike(float(back[key]), row[key])


@given(ROWS)
def test_parquet(rows: list[dict[str, Any]]) -> None:
    found = parquet.read_table(pyarrow.BufferReader(written("parquet", rows)))
    assert found.column_names == COLUMNS
    assert found.num_rows == len(rows)
    for key in COLUMNS:
        values = [row.get(key) for row in rows]
        present = [value for value in values if value is not None]
        back = found[key].to_pylist()
        assert [value is None for value in back] == [value is None for value in values]
        if present and all(isinstance(value, str) for value in present):
            assert [value for value in back if value is not None] == present
        elif str(found.schema.field(key).type) == "string":
            assert all(
                alike(from_json(json.loads(text)), value)
                for text, value in zip([text for text in back if text is not None], present, strict=True)
            )


def test_forms_are_checked() -> None:
    assert check_form("csv") == "csv"
    with pytest.raises(InvalidInput, match="csv, jsonl, parquet"):
        check_form("xlsx")
