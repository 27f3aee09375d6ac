"""Forms that are read from the whole file: tables, models, arrays, archives. Meant for a process with limits."""

from __future__ import annotations

import json
import math
import struct
import tarfile
import zipfile
from collections import Counter
from collections.abc import Callable
from typing import Any, BinaryIO

from kinetrum.core.preview.shown import COLUMNS_LIMIT, ROWS_LIMIT, Preview, Row, cell, left_out

ENTRIES_LIMIT = 1_000
ONNX_BYTES_LIMIT = 1024**3
HEADER_LIMIT = 64 * 1024 * 1024


class Unreadable(ValueError):
    """The file is not what its name or first bytes say."""


def preview_parquet(file: BinaryIO, size: int) -> Preview:
    """Show a Parquet file's schema and first rows; only the first row group's needed part is read."""
    from pyarrow import parquet

    table = parquet.ParquetFile(file)
    names = [name for name in table.schema_arrow.names][:COLUMNS_LIMIT]
    rows: list[Row] = []
    for batch in table.iter_batches(batch_size=ROWS_LIMIT, columns=names):
        columns = [column.to_pylist() for column in batch.columns]
        rows += [tuple(cell(value) for value in row) for row in zip(*columns, strict=True)]
        if len(rows) >= ROWS_LIMIT:
            break
    types = {field.name: str(field.type) for field in table.schema_arrow}
    count = table.metadata.num_rows
    return Preview(
        "table",
        columns=tuple(f"{name}\n{types[name]}" for name in names),
        rows=tuple(rows[:ROWS_LIMIT]),
        facts=(
            ("rows", f"{count:,}"),
            ("columns", f"{len(types):,}"),
            ("row groups", f"{table.num_row_groups:,}"),
            ("written by", cell(table.metadata.created_by or "")),
        ),
        note=left_out(count, len(types)),
    )


def preview_onnx(file: BinaryIO, size: int) -> Preview:
    """Show an ONNX model's signature, operators and parameters; weights in other files are not followed."""
    if size > ONNX_BYTES_LIMIT:
        raise Unreadable(f"It has over {ONNX_BYTES_LIMIT:,} bytes; its signature is not read.")
    import onnx

    model = onnx.load_model_from_string(file.read())
    graph = model.graph
    weights = {tensor.name for tensor in graph.initializer}
    rows = [("input", *_signature(value)) for value in graph.input if value.name not in weights]
    rows += [("output", *_signature(value)) for value in graph.output]
    operators = Counter(node.op_type for node in graph.node)
    outside = any(tensor.data_location == onnx.TensorProto.EXTERNAL for tensor in graph.initializer)
    sets = ", ".join(f"{opset.domain or 'ai.onnx'} {opset.version}" for opset in model.opset_import)
    facts = [
        ("form", "ONNX"),
        ("parameters", f"{_parameters(graph):,}"),
        ("operators", ", ".join(f"{name} × {count}" for name, count in operators.most_common(12))),
        ("operator sets", sets),
        ("made by", f"{model.producer_name} {model.producer_version}".strip()),
    ]
    return Preview(
        "model",
        columns=("", "name", "type", "shape"),
        rows=tuple(rows[:ROWS_LIMIT]),
        facts=tuple((name, cell(value)) for name, value in facts if value),
        note=f"{left_out(len(rows), of='inputs and outputs')}{' Its weights lie in other files.' * outside}".strip(),
    )


def _parameters(graph: Any) -> int:
    """Count weights: initializers, constants, and the numbers that trees and linear models carry as attributes."""
    count = sum(math.prod(tensor.dims) for tensor in graph.initializer)
    for node in graph.node:
        for attribute in node.attribute:
            count += len(attribute.floats)
            if node.op_type == "Constant" and attribute.HasField("t"):
                count += math.prod(attribute.t.dims)
    return int(count)


def _signature(value: Any) -> Row:
    import onnx

    kind = value.type.tensor_type
    if not value.type.HasField("tensor_type"):
        return cell(value.name), cell(value.type.WhichOneof("value") or ""), ""
    shape = [cell(d.dim_param or (d.dim_value if d.HasField("dim_value") else "?")) for d in kind.shape.dim]
    return cell(value.name), onnx.TensorProto.DataType.Name(kind.elem_type).lower(), " × ".join(shape)


def preview_safetensors(file: BinaryIO, size: int) -> Preview:
    """Show the tensors of a safetensors file from its header; no weight is read."""
    head = file.read(8)
    length = struct.unpack("<Q", head)[0] if len(head) == 8 else -1
    if not 2 <= length <= min(HEADER_LIMIT, size - 8):
        raise Unreadable("Its header's length is not that of a safetensors file.")
    header = json.loads(file.read(length))
    if not isinstance(header, dict):
        raise Unreadable("Its header is not a JSON object.")
    about = header.pop("__metadata__", {})
    rows: list[Row] = []
    parameters = 0
    for name, tensor in header.items():
        shape = [int(side) for side in tensor["shape"]]
        parameters += math.prod(shape)
        rows.append((cell(name), cell(tensor["dtype"]), " × ".join(map(str, shape)), f"{math.prod(shape):,}"))
    facts = [("form", "safetensors"), ("parameters", f"{parameters:,}"), ("tensors", f"{len(rows):,}")]
    facts += [(cell(key), cell(value)) for key, value in list(about.items())[:20]]
    return Preview(
        "model",
        columns=("tensor", "type", "shape", "parameters"),
        rows=tuple(rows[:ROWS_LIMIT]),
        facts=tuple(facts),
        note=left_out(len(rows), of="tensors"),
    )


def preview_npy(file: BinaryIO, size: int) -> Preview:
    """Show a NumPy array's shape and type, and its first values; pickled objects are never loaded."""
    import numpy as np

    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, fortran, dtype = read(file)
    facts = (
        ("shape", " × ".join(map(str, shape)) or "one value"),
        ("type", cell(dtype)),
        ("values", f"{math.prod(shape):,}"),
    )
    if dtype.hasobject or fortran or dtype.itemsize == 0:
        return Preview("text", "", "array", facts=facts, note="Its values are not shown.")
    width = shape[-1] if len(shape) > 1 else 1
    count = min(math.prod(shape), ROWS_LIMIT * max(1, width), 20_000)
    values = np.frombuffer(file.read(count * dtype.itemsize), dtype, -1)
    shown = min(width, COLUMNS_LIMIT)
    lines = [values[at : at + shown] for at in range(0, len(values) - len(values) % max(1, width), max(1, width))]
    rows = tuple(tuple(cell(value) for value in line.tolist()) for line in lines[:ROWS_LIMIT])
    parts = [f"{len(rows)} rows"] * (math.prod(shape) > len(rows) * width) + [f"{shown} columns"] * (width > shown)
    return Preview(
        "table",
        columns=tuple(str(at) for at in range(shown)),
        rows=rows,
        facts=facts,
        note=f"The first {' and '.join(parts)}." if parts else "",
    )


def preview_zip(file: BinaryIO, size: int) -> Preview:
    """List what a zip archive holds; nothing is unpacked."""
    with zipfile.ZipFile(file) as archive:
        entries = archive.infolist()
        rows: list[Row] = [
            (cell(entry.filename), f"{entry.file_size:,}", f"{entry.compress_size:,}")
            for entry in entries[:ENTRIES_LIMIT]
        ]
        total = sum(entry.file_size for entry in entries)
    return _archive("zip", ("path", "bytes", "packed"), rows, len(entries), total)


def preview_tar(file: BinaryIO, size: int) -> Preview:
    """List what a tar archive holds, packed or not; it is read no further than the entries shown."""
    rows: list[Row] = []
    total, more = 0, False
    with tarfile.open(fileobj=file, mode="r|*") as archive:
        for entry in archive:
            if len(rows) >= ENTRIES_LIMIT:
                more = True
                break
            total += entry.size
            rows.append((cell(entry.name + ("/" if entry.isdir() else "")), f"{entry.size:,}"))
    preview = _archive("tar", ("path", "bytes"), rows, len(rows), total)
    return (
        preview
        if not more
        else Preview(
            preview.kind,
            columns=preview.columns,
            rows=preview.rows,
            facts=(("form", "tar"),),
            note=f"The first {ENTRIES_LIMIT} entries.",
        )
    )


def _archive(form: str, columns: Row, rows: list[Row], count: int, total: int) -> Preview:
    facts = (("form", form), ("entries", f"{count:,}"), ("bytes unpacked", f"{total:,}"))
    note = f"The first {ENTRIES_LIMIT} entries." if count > ENTRIES_LIMIT else ""
    return Preview("archive", columns=columns, rows=tuple(rows), facts=facts, note=note)


READERS: dict[str, Callable[[BinaryIO, int], Preview]] = {
    "parquet": preview_parquet,
    "onnx": preview_onnx,
    "safetensors": preview_safetensors,
    "npy": preview_npy,
    "zip": preview_zip,
    "tar": preview_tar,
}


def read_apart(form: str, file: BinaryIO, size: int) -> Preview:
    """Show a file of a form; what it cannot be read for stands in the note."""
    try:
        return READERS[form](file, size)
    except Unreadable as error:
        return Preview("bytes", note=str(error))
    except Exception as error:
        # Whatever a reader makes of bytes of strangers, it is their fault and no reason to fail.
        return Preview("bytes", note=f"It cannot be read as {form} ({type(error).__name__}: {cell(error)}).")
