"""A look into files: what each form shows, and what bytes of strangers cannot do."""

from __future__ import annotations

import io
import json
import struct
import tarfile
import zipfile

import numpy as np
import pyarrow
import pytest
from pyarrow import parquet
from safetensors.numpy import save as save_safetensors

from kinetrum.core.preview import form_of, preview_head
from kinetrum.core.preview.apart import READERS, read_apart


def test_text_and_code() -> None:
    found = preview_head("train.py", "print('ü')\n".encode(), 12)
    assert (found.kind, found.language, found.text) == ("text", "Python", "print('ü')\n")
    cut = preview_head("long.log", "zeile ü".encode()[:-1], 5_000)
    assert (cut.text, cut.note) == ("zeile ", "The first 7 of 5,000 bytes.")
    assert preview_head("notes.md", b"# Nights", 8).kind == "markdown"
    assert preview_head("page.html", b"<script>alert(1)</script>", 25).kind == "text"
    assert preview_head("x.svg", b"<svg onload='x'/>", 17).language == "SVG"
    assert preview_head("x.bin", bytes(range(256)), 256).kind == "bytes"
    assert preview_head("old.txt", "Grüße".encode("utf-16"), 12).text == "Grüße"
    assert preview_head("empty.csv", b"", 0).note == "The file is empty."


def test_json_is_set_out_or_shown_as_it_is() -> None:
    assert preview_head("a.json", b'{"a":[1,2]}', 11).text.startswith('{\n  "a": [')
    assert "not valid JSON" in preview_head("a.json", b'{"a":', 5).note
    assert preview_head("deep.json", b"[" * 100_000, 100_000).kind == "text"


def test_tables() -> None:
    found = preview_head("a.csv", b"day;cold\n1;-2,5\n2;3\n", 20)
    assert (found.columns, found.rows, found.facts) == (
        ("day", "cold"),
        (("1", "-2,5"), ("2", "3")),
        (("rows", "2"), ("columns", "2")),
    )
    wide = preview_head("a.csv", ("a,b\n" + "1,2\n" * 1_000).encode(), 4_004)
    assert (len(wide.rows), wide.note) == (200, "The first 200 rows.")
    many = preview_head("a.csv", (",".join(map(str, range(300))) + "\n").encode(), 1_090)
    assert (len(many.columns), dict(many.facts)["columns"], many.note) == (60, "300", "The first 60 columns.")
    line = preview_head("a.csv", b"x" * 1_000, 9_000_000)
    assert (line.columns[0][:3], line.note) == ("xxx", "The first 1,000 of 9,000,000 bytes.")
    raw = io.BytesIO()
    parquet.write_table(pyarrow.table({"station": [1, 2], "name": ["Top Wall", None]}), raw)
    table = read_apart("parquet", io.BytesIO(raw.getvalue()), raw.tell())
    assert (table.columns, table.rows[1]) == (("station\nint64", "name\nstring"), ("2", ""))
    both = io.BytesIO()
    parquet.write_table(pyarrow.table({f"c{at}": range(300) for at in range(70)}), both)
    wide_and_long = read_apart("parquet", io.BytesIO(both.getvalue()), both.tell())
    assert (len(wide_and_long.columns), wide_and_long.note) == (60, "The first 200 rows and 60 columns.")
    broad = io.BytesIO()
    np.save(broad, np.zeros((3, 100)))
    assert read_apart("npy", io.BytesIO(broad.getvalue()), 0).note == "The first 60 columns."
    array = io.BytesIO()
    np.save(array, np.arange(6.0).reshape(2, 3))
    assert read_apart("npy", io.BytesIO(array.getvalue()), 0).rows == (("0.0", "1.0", "2.0"), ("3.0", "4.0", "5.0"))


def test_models_tell_their_signature() -> None:
    raw = save_safetensors({"w": np.zeros((3, 4), np.float32), "b": np.zeros(4, np.float16)})
    found = read_apart("safetensors", io.BytesIO(raw), len(raw))
    assert dict(found.facts)["parameters"] == "16"
    assert ("w", "F32", "3 × 4", "12") in found.rows
    import onnx
    from onnx import TensorProto, helper

    graph = helper.make_graph(
        [helper.make_node("MatMul", ["x", "w"], ["y"])],
        "g",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, ["rows", 9])],
        [helper.make_tensor_value_info("y", TensorProto.FLOAT, ["rows", 2])],
        [helper.make_tensor("w", TensorProto.FLOAT, [9, 2], [0.0] * 18)],
    )
    model = helper.make_model(graph, producer_name="orchard")
    found = read_apart("onnx", io.BytesIO(model.SerializeToString()), 0)
    assert found.rows == (("input", "x", "float", "rows × 9"), ("output", "y", "float", "rows × 2"))
    assert dict(found.facts)["parameters"] == "18"
    assert isinstance(onnx.__version__, str)


def test_archives_are_listed_and_never_unpacked() -> None:
    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("../../etc/passwd", "x")
        archive.writestr("bomb", bytes(50_000_000))
    found = read_apart("zip", io.BytesIO(raw.getvalue()), raw.tell())
    assert found.rows[0][0] == "../../etc/passwd"
    assert dict(found.facts)["bytes unpacked"] == "50,000,001"
    bundle = io.BytesIO()
    with tarfile.open(fileobj=bundle, mode="w:gz") as out:
        for at in range(1_200):
            out.addfile(tarfile.TarInfo(f"file-{at}"), io.BytesIO(b""))
    listed = read_apart("tar", io.BytesIO(bundle.getvalue()), 0)
    assert (len(listed.rows), listed.note) == (1_000, "The first 1000 entries.")


@pytest.mark.parametrize("form", sorted(READERS))
@pytest.mark.parametrize(
    "raw",
    [
        b"",
        b"PAR1",
        b"\x00" * 64,
        b"PK\x03\x04" + b"\xff" * 60,
        struct.pack("<Q", 2**60) + b"{}",
        struct.pack("<Q", 2) + b"[]",
    ],
)
def test_bytes_of_strangers_are_told_not_raised(form: str, raw: bytes) -> None:
    found = read_apart(form, io.BytesIO(raw), len(raw))
    assert found.kind in {"bytes", "archive", "model", "table", "text"}
    json.dumps([found.note, found.rows])


def test_a_name_alone_makes_no_form() -> None:
    assert form_of("a.parquet", b"not one") == "text"
    assert form_of("picture.png", b"<html>") == "bytes"
    assert form_of("picture.png", b"\x89PNG\r\n\x1a\n") == "image"
    assert form_of("data.bin", b"PAR1....") == "parquet"
