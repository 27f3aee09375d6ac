"""Tables in open forms: CSV (RFC 4180), JSON Lines and Parquet, written piece by piece in bounded memory.

Numbers are written so that they read back bit for bit; NaN and infinities are `NaN`, `Infinity` and
`-Infinity` in CSV and `{"float": "NaN"}` in JSON Lines. A missing value is an empty cell in CSV, a missing
key in JSON Lines, and null in Parquet; a null that was recorded is `null` in CSV. Parquet has lists of one type
as lists, and moments as timestamps.

Spreadsheets calculate texts that begin like formulas, whoever recorded them. In CSV an apostrophe stands before such a
text unless exactly what was recorded is asked for; see https://owasp.org/www-community/attacks/CSV_Injection.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, cast

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import Value, special_name, to_json

MEDIA_TYPES = {
    "csv": "text/csv; charset=utf-8; header=present",
    "jsonl": "application/jsonl",
    "parquet": "application/vnd.apache.parquet",
}
Row = dict[str, Value]
_EXACT = 2**63
# Full-width signs too, which spreadsheets of East Asia take for the plain ones.
_FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r", "\n", "\uff1d", "\uff0b", "\uff0d", "\uff20")
_NUMBER = re.compile(r"[+-]?(?:\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|Infinity)")


def check_form(form: str) -> str:
    """Return the form if it is one; raises InvalidInput otherwise."""
    if form not in MEDIA_TYPES:
        raise InvalidInput(f"Unknown form of a table {form!r}. Choose one of: {', '.join(MEDIA_TYPES)}.", field="form")
    return form


@dataclass
class ColumnType:
    """What a column of Parquet must hold, learnt from its values; a column of moments holds them as ISO 8601."""

    kinds: set[str]
    moments: bool = False

    def see(self, value: Value) -> None:
        """Take a value into account."""
        if isinstance(value, list):
            # An empty list fits lists of anything.
            self.kinds.update(f"list of {_kind(item)}" for item in value)
            self.kinds.add("list")
        elif value is not None:
            self.kinds.add(_kind(value))

    @property
    def arrow(self) -> str:
        """Return bool, int64, double, string or timestamp, or a list of the first four.

        Columns of several kinds, and lists of several, are strings that hold JSON.
        """
        if self.moments:
            return "timestamp"
        if "list" in self.kinds:
            if not all(kind.startswith("list") for kind in self.kinds):
                return "string"
            inner = _common({kind.removeprefix("list of ") for kind in self.kinds - {"list"}})
            return f"list of {inner or 'string'}" if inner or self.kinds == {"list"} else "string"
        return _common(self.kinds) or "string"

    @property
    def mixed(self) -> bool:
        """Tell whether the strings hold JSON and not the texts themselves."""
        return self.arrow == "string" and not self.kinds <= {"str"}


def _kind(value: Value) -> str:
    if isinstance(value, bool):
        return "bool"
    if isinstance(value, int):
        return "int" if -_EXACT <= value < _EXACT else "text"
    return "float" if isinstance(value, float) else "str" if isinstance(value, str) else "text"


def _common(kinds: set[str]) -> str | None:
    """Return the one type that holds all kinds, None where none does or there are none."""
    if kinds and kinds <= {"int", "float"}:
        return "double" if "float" in kinds else "int64"
    return {"bool": "bool", "str": "string"}.get(next(iter(kinds))) if len(kinds) == 1 else None


def column_types(columns: Sequence[str], rows: Iterable[Row], moments: Collection[str] = ()) -> dict[str, ColumnType]:
    """Learn the type of every column from all rows; columns named in `moments` hold ISO 8601."""
    types = {name: ColumnType(set(), name in moments) for name in columns}
    for row in rows:
        for name, value in row.items():
            types[name].see(value)
    return types


def cell(value: Value) -> str:
    """Write one value for CSV; numbers read back as they were."""
    if isinstance(value, str):
        return value
    if isinstance(value, float):
        return repr(value) if value == value and abs(value) != float("inf") else special_name(value)
    return json.dumps(to_json(value), ensure_ascii=False)


def no_formula(text: str) -> str:
    """Return a text as a spreadsheet will show it rather than calculate it: an apostrophe before what is a formula."""
    if not text.startswith(_FORMULA_SIGNS) or _NUMBER.fullmatch(text):
        return text
    return f"'{text}"


def write_csv(columns: Sequence[str], batches: Iterable[list[Row]], exact: bool = False) -> Iterator[bytes]:
    """Yield CSV with a header, a piece per batch; `exact` leaves texts that begin like formulas as they are."""
    safe = str if exact else no_formula
    yield _csv_lines([[safe(name) for name in columns]])
    for batch in batches:
        yield _csv_lines([[safe(cell(row[name])) if name in row else "" for name in columns] for row in batch])


def _csv_lines(lines: list[list[str]]) -> bytes:
    text = io.StringIO()
    csv.writer(text).writerows(lines)
    return text.getvalue().encode()


def write_jsonl(batches: Iterable[list[Row]]) -> Iterator[bytes]:
    """Yield JSON Lines, a piece per batch."""
    for batch in batches:
        lines = [
            json.dumps({key: to_json(value) for key, value in row.items()}, ensure_ascii=False, separators=(",", ":"))
            for row in batch
        ]
        yield ("\n".join(lines) + "\n").encode()


def write_parquet(types: dict[str, ColumnType], batches: Iterable[list[Row]]) -> Iterator[bytes]:
    """Yield Parquet, a row group per batch."""
    import pyarrow

    schema = pyarrow.schema([(name, _arrow_type(pyarrow, kind)) for name, kind in types.items()])

    def tables() -> Iterator[Any]:
        for batch in batches:
            columns = [
                _arrow_column(pyarrow, [_parquet_cell(row.get(name), kind) for row in batch], kind)
                for name, kind in types.items()
            ]
            yield pyarrow.Table.from_arrays(columns, schema=schema)

    yield from write_arrow(schema, tables())


def write_arrow(schema: Any, tables: Iterable[Any]) -> Iterator[bytes]:
    """Yield Parquet from Arrow tables of one schema, a row group per table."""
    from pyarrow import parquet

    sink = io.BytesIO()
    taken = _Taken(sink)
    with parquet.ParquetWriter(taken, schema, compression="zstd") as writer:
        for table in tables:
            writer.write_table(table)
            yield taken.take()
    yield taken.take()


class _Taken(io.RawIOBase):
    """A file that can only grow, and whose bytes are taken away as they come."""

    def __init__(self, sink: io.BytesIO) -> None:
        self._sink, self._before = sink, 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        return self._sink.write(data)

    def tell(self) -> int:
        return self._before + self._sink.tell()

    def take(self) -> bytes:
        """Return what was written since the last call."""
        content = self._sink.getvalue()
        self._before += len(content)
        self._sink.seek(0)
        self._sink.truncate()
        return content


def _arrow_type(pyarrow: Any, kind: ColumnType) -> Any:
    plain = {"bool": pyarrow.bool_, "int64": pyarrow.int64, "double": pyarrow.float64, "string": pyarrow.string}
    if kind.arrow == "timestamp":
        return pyarrow.timestamp("us", "UTC")
    if kind.arrow.startswith("list of "):
        return pyarrow.list_(plain[kind.arrow.removeprefix("list of ")]())
    return plain[kind.arrow]()


def _arrow_column(pyarrow: Any, cells: list[Any], kind: ColumnType) -> Any:
    if kind.arrow == "timestamp":
        return pyarrow.array(cells, type=pyarrow.string()).cast(_arrow_type(pyarrow, kind))
    return pyarrow.array(cells, type=_arrow_type(pyarrow, kind))


def _parquet_cell(value: Value, kind: ColumnType) -> Any:
    if value is None:
        return None
    if kind.arrow == "double":
        return float(cast(float, value))
    if kind.arrow == "list of double":
        return [float(item) for item in cast(list[float], value)]
    return json.dumps(to_json(value), ensure_ascii=False) if kind.mixed else value


def write_table(
    form: str, columns: Sequence[str], rows: Any, moments: Collection[str] = (), exact: bool = False
) -> Iterator[bytes]:
    """Yield a table in a form; `rows()` gives its batches and may be called twice (Parquet learns types first).

    Columns named in `moments` hold ISO 8601, which Parquet has as timestamps; `exact` is as for `write_csv`.
    """
    if check_form(form) == "csv":
        return write_csv(columns, rows(), exact)
    if form == "jsonl":
        return write_jsonl(rows())
    types = column_types(columns, (row for batch in rows() for row in batch), moments)
    return write_parquet(types, rows())
