"""Reading a table from a CSV, TSV, JSON Lines or Parquet file, packed or not, never more than its bounds."""

from __future__ import annotations

import csv as plain_csv
import gzip
import io
import zlib
from typing import Any, BinaryIO

import pyarrow as pa
from pyarrow import csv, json, parquet

from kinetrum.core.base.errors import InvalidInput, TooLarge

ROWS_LIMIT, COLUMNS_LIMIT, BYTES_LIMIT = 1_000_000, 1_000, 512 * 1024 * 1024
CELLS_LIMIT = 50_000_000


def read_rows(file: BinaryIO, path: str) -> pa.Table:
    """Return the table that a file holds, its form told by its name.

    Columns of the same name get a number behind it. Raises InvalidInput where the file is no such table, TooLarge
    beyond 1,000,000 rows, 1,000 columns, 50 million cells or 512 MiB unpacked.
    """
    name = path.rpartition("/")[2].lower()
    plain = name.removesuffix(".gz")
    ending = plain.rpartition(".")[2]
    try:
        if ending == "parquet":
            table = _parquet(file)
        elif ending in {"jsonl", "ndjson"}:
            table = json.read_json(pa.BufferReader(_bytes(file, name)))
        elif ending in {"csv", "tsv"}:
            table = _csv(_bytes(file, name), ending == "tsv")
        else:
            raise InvalidInput(
                f"{path} is not a table by its name; give a file of CSV, TSV, JSON Lines or Parquet.", field="path"
            )
    except (pa.ArrowException, OSError, EOFError, zlib.error, UnicodeError) as error:
        raise InvalidInput(f"{path} cannot be read as a table: {_said(error)}", field="path") from None
    return _bounded(_named(table))


def _said(error: Exception) -> str:
    text = " ".join(str(error).split())
    return text if len(text) <= 300 else text[:299] + "…"


def _bytes(file: BinaryIO, name: str) -> bytes:
    source: Any = gzip.GzipFile(fileobj=file) if name.endswith(".gz") else file
    # Piece by piece: a packed file of a few bytes may be endless unpacked.
    pieces, size = [], 0
    while piece := source.read(4 * 1024 * 1024):
        size += len(piece)
        if size > BYTES_LIMIT:
            raise TooLarge(f"The table has over {BYTES_LIMIT // 1024**2} MiB unpacked; download it.", field="path")
        pieces.append(piece)
    return b"".join(pieces)


def _csv(raw: bytes, tabs: bool) -> pa.Table:
    raw = raw.removeprefix(b"\xef\xbb\xbf")
    if not raw.strip():
        raise InvalidInput("The file is empty.", field="path")
    first = raw[: raw.find(b"\n") if b"\n" in raw else len(raw)].decode("utf-8", "replace")
    separator = "\t" if tabs else max(",;\t|", key=first.count)
    wide = _first_row(first, separator)
    if len(wide) > COLUMNS_LIMIT:
        raise TooLarge(f"The table has {len(wide):,} columns, over {COLUMNS_LIMIT:,}.", field="path")
    return csv.read_csv(
        io.BytesIO(raw),
        read_options=csv.ReadOptions(use_threads=False),
        parse_options=csv.ParseOptions(delimiter=separator, newlines_in_values=True),
        convert_options=csv.ConvertOptions(
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            null_values=["", "null", "NULL", "None"],
            # What Arrow takes for a number beside the usual ones.
            true_values=["true", "True"],
            false_values=["false", "False"],
        ),
    )


def _first_row(line: str, separator: str) -> list[str]:
    plain_csv.field_size_limit(BYTES_LIMIT)
    return next(plain_csv.reader([line], delimiter=separator), [])


def _parquet(file: BinaryIO) -> pa.Table:
    parquet_file = parquet.ParquetFile(file)
    metadata = parquet_file.metadata
    if metadata.num_rows > ROWS_LIMIT:
        raise TooLarge(f"The table has {metadata.num_rows:,} rows, over {ROWS_LIMIT:,}; download it.", field="path")
    if metadata.num_columns > COLUMNS_LIMIT:
        raise TooLarge(f"The table has {metadata.num_columns:,} columns, over {COLUMNS_LIMIT:,}.", field="path")
    size = sum(metadata.row_group(at).total_byte_size for at in range(metadata.num_row_groups))
    if size > BYTES_LIMIT:
        raise TooLarge(f"The table has over {BYTES_LIMIT // 1024**2} MiB unpacked; download it.", field="path")
    return parquet_file.read(use_threads=False)


def _named(table: pa.Table) -> pa.Table:
    names: list[str] = []
    for name in table.column_names:
        fresh, at = name or "column", 2
        while fresh in names:
            fresh, at = f"{name} {at}", at + 1
        names.append(fresh)
    return table.rename_columns(names)


def _bounded(table: pa.Table) -> pa.Table:
    if table.num_rows > ROWS_LIMIT:
        raise TooLarge(f"The table has {table.num_rows:,} rows, over {ROWS_LIMIT:,}; download it.", field="path")
    if table.num_columns > COLUMNS_LIMIT or table.num_rows * table.num_columns > CELLS_LIMIT:
        raise TooLarge(
            f"The table has {table.num_rows:,} rows of {table.num_columns:,} columns; up to {COLUMNS_LIMIT:,} columns "
            f"and {CELLS_LIMIT:,} cells are browsed here; download it.",
            field="path",
        )
    return table
