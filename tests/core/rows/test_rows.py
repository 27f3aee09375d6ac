"""Rows of tables: read within bounds, filtered, judged, sorted, joined."""

from __future__ import annotations

import gzip
import io
import math
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

from kinetrum.core.base.errors import InvalidInput, KinetrumError, TooLarge
from kinetrum.core.rows import reading
from kinetrum.core.rows.joining import join_tables
from kinetrum.core.rows.outcomes import OUTCOMES
from kinetrum.core.rows.reading import read_rows
from kinetrum.core.rows.row_query import Page, RowQuery
from kinetrum.core.rows.selecting import select_rows

PREDICTIONS = b"row,truth,prediction,score\na,0,0,0.1\nb,1,0,0.4\nc,1,1,0.9\nd,0,1,0.6\n"
LATER = b"row,truth,prediction,score\na,0,1,0.7\nb,1,1,0.8\nc,1,1,0.9\ne,0,0,0.2\n"


def table(raw: bytes, name: str = "t.csv") -> Any:
    return read_rows(io.BytesIO(raw), name)


def firsts(page: Page) -> list[Any]:
    return [row[0] for row in page.rows]


def test_every_form_is_read_alike() -> None:
    columns = {"row": ["a", "b"], "n": [1, None], "x": [0.5, math.nan], "yes": [True, False]}
    packed = io.BytesIO()
    parquet.write_table(pa.table(columns), packed)
    forms = {
        "t.parquet": packed.getvalue(),
        "t.csv": b"row,n,x,yes\na,1,0.5,true\nb,,nan,false\n",
        "t.tsv": b"row\tn\tx\tyes\na\t1\t0.5\ttrue\nb\t\tnan\tfalse\n",
        "t.jsonl": b'{"row": "a", "n": 1, "x": 0.5, "yes": true}\n{"row": "b", "n": null, "x": NaN, "yes": false}\n',
        "t.csv.gz": gzip.compress(b"row;n;x;yes\r\na;1;0.5;True\r\nb;;nan;False\r\n"),
    }
    for name, raw in forms.items():
        page = select_rows(table(raw, name), RowQuery())
        assert page.columns == [("row", "text"), ("n", "number"), ("x", "number"), ("yes", "true or false")], name
        assert page.rows == [["a", 1, 0.5, True], ["b", None, {"float": "NaN"}, False]], name


def test_conditions_search_and_order() -> None:
    found = table(PREDICTIONS)
    assert firsts(select_rows(found, RowQuery(where=["score > 0.3", "truth = 1"], sort="score:desc"))) == ["c", "b"]
    assert firsts(select_rows(found, RowQuery(where=["row != a"], sort="score"))) == ["b", "d", "c"]
    assert firsts(select_rows(found, RowQuery(find="0.9"))) == ["c"]
    page = select_rows(found, RowQuery(sort="truth", offset=1, limit=2))
    assert (firsts(page), page.total, page.of) == (["d", "b"], 4, 4)
    assert firsts(select_rows(table(b"x,y\n1,\n2,b\n"), RowQuery(where=["y = null"]))) == [1]


def test_what_was_predicted_wrong() -> None:
    page = select_rows(table(PREDICTIONS), RowQuery(wrong=True))
    assert (firsts(page), page.judged, page.wrong) == (["b", "d"], True, 2)
    numbers = select_rows(table(b"row,truth,prediction\na,0.5,0.75\nb,1.5,9\nc,2.5,\n"), RowQuery(wrong=True))
    assert numbers.rows[0] == ["b", 1.5, 9.0, 7.5]
    assert numbers.wrong == 3
    with pytest.raises(InvalidInput, match="Only a table with columns truth and prediction"):
        select_rows(table(b"a\n1\n"), RowQuery(wrong=True))


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("scor > 1", "Unknown column 'scor'. Choose one of: score"),
        ("score > high", "compares numbers"),
        ("score =", "one condition"),
        ("truth = frost", "holds numbers; 'frost' is none"),
    ],
)
def test_a_condition_that_does_not_fit_is_told(where: str, said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        select_rows(table(PREDICTIONS), RowQuery(where=[where]))


def test_two_versions_row_by_row() -> None:
    page = join_tables(table(PREDICTIONS), table(LATER), None, [], RowQuery())
    assert page.key == "row"
    assert page.counts == {"newly wrong": 1, "newly right": 1, "both right": 1, "only left": 1, "only right": 1}
    assert [(row[0], row[1]) for row in page.rows] == [
        ("a", "newly wrong"),
        ("b", "newly right"),
        ("c", "both right"),
        ("d", "only left"),
        ("e", "only right"),
    ]
    only = join_tables(table(PREDICTIONS), table(LATER), "row", ["newly wrong"], RowQuery())
    assert (only.total, only.of, only.counts) == (1, 5, page.counts)
    assert [name for name, _ in only.columns] == [
        "row",
        "outcome",
        "truth",
        "prediction left",
        "prediction right",
        "score left",
        "score right",
    ]


def test_numbers_come_nearer_or_farther_and_tables_change() -> None:
    before, after = (
        b"row,truth,prediction\na,1.5,1.0\nb,2.5,2.0\nc,3.5,3.0\n",
        b"row,truth,prediction\na,1.5,1.25\nb,2.5,9.0\nc,3.5,4.0\n",
    )
    counts = join_tables(table(before), table(after), None, [], RowQuery()).counts
    assert counts == {"farther": 1, "nearer": 1, "as near": 1}
    left, right = b"id,x,y\na,1,q\nb,nan,q\nc,,q\nd,5,q\n", b"id,x,y\na,1,q\nb,nan,q\nc,,q\nd,6,q\n"
    assert join_tables(table(left), table(right), None, [], RowQuery()).counts == {"changed": 1, "same": 3}


@given(
    left=st.dictionaries(st.integers(0, 20), st.tuples(st.integers(0, 2), st.integers(0, 2)), min_size=1),
    right=st.dictionaries(st.integers(0, 20), st.tuples(st.integers(0, 2), st.integers(0, 2)), min_size=1),
)
@settings(max_examples=60, deadline=None)
def test_the_outcomes_are_those_of_a_plain_loop(
    left: dict[int, tuple[int, int]], right: dict[int, tuple[int, int]]
) -> None:
    def made(rows: dict[int, tuple[int, int]]) -> Any:
        return pa.table(
            {"key": list(rows), "truth": [a for a, _ in rows.values()], "prediction": [b for _, b in rows.values()]}
        )

    found = {row[0]: row[1] for row in join_tables(made(left), made(right), "key", [], RowQuery()).rows}
    words = {(0, 0): "both right", (0, 1): "newly wrong", (1, 0): "newly right", (1, 1): "both wrong"}
    expected = {
        key: "only right"
        if key not in left
        else "only left"
        if key not in right
        else words[int(left[key][0] != left[key][1]), int(right[key][0] != right[key][1])]
        for key in {*left, *right}
    }
    assert found == expected
    assert set(found.values()) <= set(OUTCOMES)


@pytest.mark.parametrize(
    ("right", "key", "said"),
    [
        (b"row,x\na,1\na,2\n", "row", "'a' in several rows in the right"),
        (b"other\n1\n", None, "No column tells"),
        (b"row\na\n", "none", "Unknown column 'none'"),
        (b"row,x\n,1\nb,2\n", "row", "missing in some rows"),
    ],
)
def test_a_key_that_tells_nothing_apart_is_refused(right: bytes, key: str | None, said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        join_tables(table(PREDICTIONS), table(right), key, [], RowQuery())


@pytest.mark.parametrize(
    ("name", "raw"),
    [
        ("t.csv", b""),
        ("t.csv", b"a,b\n1\n"),
        ("t.csv", b"\xff\xfe\x00\x01" * 50),
        ("t.parquet", b"PAR1" + bytes(80)),
        ("t.parquet", b"no"),
        ("t.jsonl", b"{"),
        ("t.jsonl", b"[1]\n"),
        ("t.csv.gz", b"no gzip"),
        ("t.png", b"a\n1\n"),
        ("t.csv.gz", gzip.compress(b"a\n" + b"1\n" * 999, mtime=0)[:-9]),
        ("t.csv", b'a\n"' + b"x" * 5_000_000),
    ],
    # By number: bytes make long names, and workers have to agree on them.
    ids=range(11),
)
def test_no_table_is_told(name: str, raw: bytes) -> None:
    with pytest.raises(KinetrumError, match=r"cannot be read|not a table|is empty"):
        select_rows(table(raw, name), RowQuery())


def test_bounds_say_themselves(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "BYTES_LIMIT", 1024 * 1024)
    with pytest.raises(TooLarge, match="over 1 MiB unpacked"):
        table(gzip.compress(b"a\n" + b"1\n" * 1_000_000), "bomb.csv.gz")
    monkeypatch.setattr(reading, "ROWS_LIMIT", 10)
    with pytest.raises(TooLarge, match="11 rows, over 10"):
        table(b"a\n" + b"1\n" * 11)
    with pytest.raises(TooLarge, match="2,000 columns, over 1,000"):
        table(b",".join(b"c%d" % at for at in range(2_000)) + b"\n")
