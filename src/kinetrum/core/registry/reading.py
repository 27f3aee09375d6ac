"""Reading a signature out of a model's file: ONNX graphs, and what a safetensors header says of itself."""

from __future__ import annotations

import json
import struct
from typing import Any, BinaryIO

from kinetrum.core.registry.signature import Signature, SignatureField, signature_from_json

_HEADER_LIMIT = 100_000_000
_ONNX_LIMIT = 512 * 1024**2
# Types of ONNX under the names that NumPy has for them.
_TYPES = {"float": "float32", "double": "float64"}


def form_with_signature(path: str) -> str | None:
    """Return `onnx` or `safetensors` by the name of a file, None for others."""
    ending = path.rsplit(".", 1)[-1].lower()
    return ending if ending in {"onnx", "safetensors"} else None


def can_be(form: str, head: bytes, size: int) -> bool:
    """Tell by its first bytes whether a file can be of its form: looking closer takes a process of its own."""
    if form == "onnx":
        # The first field of the protocol buffer, its number of the format, as a variable-length integer.
        return head[:1] == b"\x08"
    length = struct.unpack("<Q", head[:8])[0] if len(head) >= 9 else -1
    return 2 <= length <= min(_HEADER_LIMIT, size - 8) and head[8:9] == b"{"


def read_signature(form: str, file: BinaryIO) -> Signature | None:
    """Read the signature of a model's file, None where it tells none.

    A safetensors file holds weights; where its `__metadata__` has entries `inputs` and `outputs` with JSON lists of
    {name, type, shape}, they are its signature. Raises ValueError for a file that is not of its form.
    """
    return _of_onnx(file) if form == "onnx" else _of_safetensors(file)


def _of_onnx(file: BinaryIO) -> Signature | None:
    import onnx

    raw = file.read(_ONNX_LIMIT + 1)
    if len(raw) > _ONNX_LIMIT:
        return None
    try:
        graph = onnx.load_model_from_string(raw).graph
    # The parser raises errors of its own, which are no ValueError.
    except Exception as error:
        raise ValueError(f"It is not an ONNX model: {error}") from error
    weights = {tensor.name for tensor in graph.initializer}
    inputs = tuple(_of_value(value) for value in graph.input if value.name not in weights)
    outputs = tuple(_of_value(value) for value in graph.output)
    return Signature(inputs, outputs, "onnx") if inputs or outputs else None


def _of_value(value: Any) -> SignatureField:
    import onnx

    if not value.type.HasField("tensor_type"):
        return SignatureField(value.name, (value.type.WhichOneof("value") or "").removesuffix("_type"), ())
    kind = value.type.tensor_type
    name = onnx.TensorProto.DataType.Name(kind.elem_type).lower()
    shape = tuple(side.dim_param or (side.dim_value if side.HasField("dim_value") else None) for side in kind.shape.dim)
    return SignatureField(value.name, _TYPES.get(name, name), shape)


def _of_safetensors(file: BinaryIO) -> Signature | None:
    head = file.read(8)
    length = struct.unpack("<Q", head)[0] if len(head) == 8 else -1
    if not 2 <= length <= _HEADER_LIMIT:
        raise ValueError("Its header's length is not that of a safetensors file.")
    header = json.loads(file.read(length))
    about = header.get("__metadata__", {}) if isinstance(header, dict) else {}
    if not isinstance(about, dict) or not {"inputs", "outputs"} & set(about):
        return None
    sides = {side: json.loads(about.get(side, "[]")) for side in ("inputs", "outputs")}
    return signature_from_json({**sides, "source": "safetensors"})
