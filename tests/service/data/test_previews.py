"""Looks into stored files over HTTP, form by form: bounded, told when they cannot be read, and never run."""

from __future__ import annotations

import io
import json
import struct
import tarfile
import time
import zipfile
from typing import Any

import httpx
import numpy as np
import onnx
import pyarrow
import pytest
from onnx import TensorProto, helper
from pyarrow import parquet
from safetensors.numpy import save as save_safetensors

from tests.service.data.test_files_api import keep
from tests.support.world import Project


def look(raw: httpx.Client, project: Project, path: str, name: str = "things") -> dict[str, Any]:
    answer = raw.get(project.path("artifacts", name, "versions", "1", "preview"), params={"path": path})
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


def facts(found: dict[str, Any]) -> dict[str, str]:
    return {name: value for name, value in found["facts"]}


def table_bytes(rows: int) -> bytes:
    raw = io.BytesIO()
    station = [f"station-{at % 7}" for at in range(rows)]
    parquet.write_table(pyarrow.table({"station": station, "low_c": np.linspace(-9, 4, rows)}), raw)
    return raw.getvalue()


def network_bytes() -> bytes:
    graph = helper.make_graph(
        [helper.make_node("MatMul", ["x", "w"], ["z"]), helper.make_node("Relu", ["z"], ["y"])],
        "frost",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, ["nights", 9])],
        [helper.make_tensor_value_info("y", TensorProto.FLOAT, ["nights", 2])],
        [helper.make_tensor("w", TensorProto.FLOAT, [9, 2], [0.5] * 18)],
    )
    written: bytes = helper.make_model(graph, producer_name="orchard").SerializeToString()
    assert onnx.load_model_from_string(written).graph.name == "frost"
    return written


def zip_bytes() -> bytes:
    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("nights/2024.csv", "day,low\n")
        archive.writestr("../../climbs", "x")
    return raw.getvalue()


def tar_bytes() -> bytes:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w:gz") as out:
        member = tarfile.TarInfo("readme.md")
        member.size = 3
        out.addfile(member, io.BytesIO(b"# a"))
    return raw.getvalue()


def test_texts_and_tables(project: Project, raw: httpx.Client) -> None:
    keep(
        project,
        "things",
        {
            "notes.md": "# Nights\n\n- cold *ü*\n".encode(),
            "train.py": b"import kinetrum\n",
            "a.csv": b"day,low\n1,-2.5\n",
            "a.json": b'{"low": [-2.5]}',
            "lines.jsonl": b'{"day": 1}\n{"day": 2}\n',
            "t.tsv": b"day\tlow\n1\t-2.5\n",
            "n.parquet": table_bytes(1_000),
            "odd.bin": bytes(range(256)),
            "none.txt": b"",
        },
    )
    assert look(raw, project, "notes.md")["kind"] == "markdown"
    code = look(raw, project, "train.py")
    assert (code["kind"], code["language"], code["text"]) == ("text", "Python", "import kinetrum\n")
    for name in ("a.csv", "t.tsv"):
        assert look(raw, project, name)["rows"] == [["1", "-2.5"]]
    assert json.loads(look(raw, project, "a.json")["text"]) == {"low": [-2.5]}
    assert '"day": 2' in look(raw, project, "lines.jsonl")["text"]
    table = look(raw, project, "n.parquet")
    assert table["columns"] == ["station\nstring", "low_c\ndouble"]
    assert (len(table["rows"]), table["note"], facts(table)["rows"]) == (200, "The first 200 rows.", "1,000")
    assert table["rows"][0][0] == "station-0"
    assert look(raw, project, "odd.bin")["kind"] == "bytes"
    assert look(raw, project, "none.txt")["note"] == "The file is empty."


def test_models_arrays_and_archives(project: Project, raw: httpx.Client) -> None:
    array = io.BytesIO()
    np.save(array, np.arange(6.0).reshape(2, 3))
    keep(
        project,
        "things",
        {
            "net.onnx": network_bytes(),
            "net.safetensors": save_safetensors({"w": np.zeros((3, 4), np.float32)}),
            "a.zip": zip_bytes(),
            "a.tar.gz": tar_bytes(),
            "a.npy": array.getvalue(),
        },
    )
    network = look(raw, project, "net.onnx")
    assert network["kind"] == "model"
    assert ["input", "x", "float", "nights × 9"] in network["rows"]
    assert ["output", "y", "float", "nights × 2"] in network["rows"]
    assert facts(network)["parameters"] == "18"
    weights = look(raw, project, "net.safetensors")
    assert (facts(weights)["parameters"], weights["rows"]) == ("12", [["w", "F32", "3 × 4", "12"]])
    archive = look(raw, project, "a.zip")
    assert (archive["kind"], [row[0] for row in archive["rows"]]) == ("archive", ["nights/2024.csv", "../../climbs"])
    assert [row[0] for row in look(raw, project, "a.tar.gz")["rows"]] == ["readme.md"]
    assert look(raw, project, "a.npy")["rows"] == [["0.0", "1.0", "2.0"], ["3.0", "4.0", "5.0"]]


@pytest.mark.parametrize(
    ("path", "content"),
    [
        ("cut.parquet", table_bytes(50)[:-20]),
        ("cut.zip", zip_bytes()[:40]),
        ("cut.tar.gz", tar_bytes()[:-9]),
        ("lies.safetensors", struct.pack("<Q", 2**60) + b"{}"),
        ("lies.onnx", b"\xff" * 400),
        ("deep.json", b"[" * 200_000),
        ("wide.csv", b"," * 200_000),
        ("lies.npy", b"\x93NUMPY\x01\x00\xff\xff{'descr"),
    ],
    # Archives have the time in them; names of tests may not, or workers do not agree on them.
    ids=["parquet", "zip", "tar", "safetensors", "onnx", "json", "csv", "npy"],
)
def test_what_cannot_be_read_is_told(project: Project, raw: httpx.Client, path: str, content: bytes) -> None:
    keep(project, "things", {path: content})
    found = look(raw, project, path)
    shown = len(found["text"]) + sum(len(cell) for row in found["rows"] for cell in row)
    assert shown < 1_000_000
    assert found["note"] or found["text"] or found["rows"]


def test_what_would_fill_all_memory_is_stopped(project: Project, raw: httpx.Client) -> None:
    """One column of one value, repeated: a few kilobytes that would be many gigabytes when read."""
    written = io.BytesIO()
    # A text of 200 MB in each of 60 rows, written once in a dictionary.
    text = pyarrow.DictionaryArray.from_arrays(np.zeros(60, np.int32), pyarrow.array(["x" * 200_000_000]))
    parquet.write_table(pyarrow.table({"text": text}), written, compression="zstd")
    content = written.getvalue()
    assert len(content) < 1_000_000
    keep(project, "things", {"bomb.parquet": content})
    began = time.monotonic()
    found = look(raw, project, "bomb.parquet")
    assert time.monotonic() - began < 25
    assert sum(len(cell) for row in found["rows"] for cell in row) < 1_000_000
    # And the service goes on as before.
    assert raw.get(project.path("artifacts", "things")).status_code == 200


def test_of_a_huge_file_only_the_beginning_is_read(project: Project, raw: httpx.Client) -> None:
    line = "2024-04-21,evening,-1.8\n"
    keep(project, "things", {"long.csv": ("day,when,low\n" + line * 400_000).encode()})
    found = look(raw, project, "long.csv")
    assert (found["columns"], len(found["rows"])) == (["day", "when", "low"], 200)
    assert found["note"].startswith("The first ")


def test_nothing_to_show(project: Project, raw: httpx.Client) -> None:
    keep(project, "things", {"a.txt": b"1"})
    path = project.path("artifacts", "things", "versions")
    for which, asked, status in (("1", "b.txt", 404), ("2", "a.txt", 404), ("1", "../a.txt", 404), ("1", "", 404)):
        answer = raw.get(f"{path}/{which}/preview", params={"path": asked})
        assert answer.status_code in {status, 422}, answer.text
        assert answer.json()["detail"]
    digest = "a" * 64
    body = {
        "id": "0197c0de-0000-7000-8000-000000000001",
        "at": 1,
        "by_reference": True,
        "address": "/data/a.csv",
        "files": [{"path": "a.csv", "size": 1, "sha256": digest}],
    }
    assert raw.post(project.path("artifacts", "elsewhere", "versions"), json=body).status_code == 200
    answer = raw.get(project.path("artifacts", "elsewhere", "versions", "1", "preview"), params={"path": "a.csv"})
    assert answer.status_code == 409
    assert "/data/a.csv" in answer.json()["detail"]
