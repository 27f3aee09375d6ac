"""Tables in open forms: CSV (RFC 4180), JSON Lines and Parquet, written piece by piece in bounded memory.

Numbers are written so that they read back bit for bit; NaN and infinities are `NaN`, `Infinity` and
`-Infinity` in CSV and `{"float": "NaN"}` in JSON Lines. A missing value is an empty cell in CSV, a missing
key in JSON Lines, and null in Parquet; a null that was recorded is `null` in CSV.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.core.errors import InvalidInput
from kinetrum.core.values import Value, special_name, to_json

MEDIA_TYPES = {
    "csv": "text/csv; charset=utf-8; header=present",
    "jsonl": "application/jsonl",
    "parquet": "application/vnd.apache.parquet",
}
Row = dict[str, Value]
_EXACT = 2**63


def check_form(form: str) -> str:
    """Return the form if it is one; raises InvalidInput otherwise."""
    if form not in MEDIA_TYPES:
        raise InvalidInput(f"{form!r} is no form of a table; {', '.join(MEDIA_TYPES)} are.", field="form")
    return form


@dataclass
class ColumnType:
    """What a column of Parquet must hold, learnt from its values."""

    kinds: set[str]

    def see(self, value: Value) -> None:
        """Take a value into account."""
        if value is None:
            return
        if isinstance(value, bool):
            self.kinds.add("bool")
        elif isinstance(value, int):
            self.kinds.add("int" if -_EXACT <= value < _EXACT else "text")
        else:
            self.kinds.add("float" if isinstance(value, float) else "str" if isinstance(value, str) else "text")

    @property
    def arrow(self) -> str:
        """Return bool, int64, double or string; mixed columns are strings that hold JSON."""
        if self.kinds <= {"int", "float"} and self.kinds:
            return "double" if "float" in self.kinds else "int64"
        return "bool" if self.kinds == {"bool"} else "string"

    @property
    def mixed(self) -> bool:
        """Tell whether the strings hold JSON and not the texts themselves."""
        return self.arrow == "string" and not self.kinds <= {"str"}


def column_types(columns: Sequence[str], rows: Iterable[Row]) -> dict[str, ColumnType]:
    """Learn the type of every column from all rows."""
    found = {name: ColumnType(set()) for name in columns}
    for row in rows:
        for name, value in row.items():
            found[name].see(value)
    return found


def cell(value: Value) -> str:
    """Write one value for CSV; numbers read back as they were."""
    if isinstance(value, str):
        return value
    if isinstance(value, float):
        return repr(value) if value == value and abs(value) != float("inf") else special_name(value)
    return json.dumps(to_json(value), ensure_ascii=False)


def write_csv(columns: Sequence[str], batches: Iterable[list[Row]]) -> Iterator[bytes]:
    """Yield CSV with a header, a piece per batch."""
    yield _csv_lines([list(columns)])
    for batch in batches:
        yield _csv_lines([[cell(row[name]) if name in row else "" for name in columns] for row in batch])


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
                pyarrow.array([_parquet_cell(row.get(name), kind) for row in batch], type=_arrow_type(pyarrow, kind))
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
        found = self._sink.getvalue()
        self._before += len(found)
        self._sink.seek(0)
        self._sink.truncate()
        return found


def _arrow_type(pyarrow: Any, kind: ColumnType) -> Any:
    return {
        "bool": pyarrow.bool_, "int64": pyarrow.int64, "double": pyarrow.float64, "string": pyarrow.string,
    }[kind.arrow]()  # fmt: skip


def _parquet_cell(value: Value, kind: ColumnType) -> Any:
    if value is None:
        return None
    if kind.arrow == "double":
        return float(value)  # type: ignore[arg-type]
    return json.dumps(to_json(value), ensure_ascii=False) if kind.mixed else value


def write_table(form: str, columns: Sequence[str], rows: Any) -> Iterator[bytes]:
    """Yield a table in a form; `rows()` gives its batches and may be called twice (Parquet learns types first)."""
    if check_form(form) == "csv":
        return write_csv(columns, rows())
    if form == "jsonl":
        return write_jsonl(rows())
    types = column_types(columns, (row for batch in rows() for row in batch))
    return write_parquet(types, rows())
