"""What a model takes and gives: names, types and shapes, and whether another model may stand in its place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.errors import InvalidInput

FIELDS_LIMIT = 2_000
Side = int | str | None


@dataclass(frozen=True)
class SignatureField:
    """One input or output. `shape`: its sides; None or a word is a side of any length. `type` as NumPy names it."""

    name: str
    type: str
    shape: tuple[Side, ...]

    def text(self) -> str:
        """Write it as `readings float32 [?, 12]`."""
        sides = ", ".join("?" if side is None else str(side) for side in self.shape)
        return f"{self.name} {self.type} [{sides}]"


@dataclass(frozen=True)
class Signature:
    """Inputs and outputs, and where they were learned from: `onnx`, `safetensors` or `sample`."""

    inputs: tuple[SignatureField, ...]
    outputs: tuple[SignatureField, ...]
    source: str

    def to_json(self) -> dict[str, Any]:
        """Return it as JSON holds it."""
        return {
            "source": self.source,
            **{
                side: [{"name": one.name, "type": one.type, "shape": list(one.shape)} for one in fields]
                for side, fields in (("inputs", self.inputs), ("outputs", self.outputs))
            },
        }


def signature_from_json(signature: Mapping[str, Any]) -> Signature:
    """Read a signature; raises InvalidInput that names the place that is wrong."""
    sides = {}
    for side in ("inputs", "outputs"):
        fields = signature.get(side, [])
        if not isinstance(fields, list) or len(fields) > FIELDS_LIMIT:
            raise InvalidInput(f"{side} is a list of up to {FIELDS_LIMIT:,} fields.", field=f"signature.{side}")
        sides[side] = tuple(_field(one, f"signature.{side}[{at}]") for at, one in enumerate(fields))
    if not sides["inputs"] and not sides["outputs"]:
        raise InvalidInput("A signature names an input or an output at least.", field="signature")
    return Signature(sides["inputs"], sides["outputs"], str(signature.get("source", "sample")))


def _field(one: Any, place: str) -> SignatureField:
    wanted = 'a field has a name, a type and a shape, as in {"name": "x", "type": "float32", "shape": [null, 12]}'
    if not isinstance(one, Mapping) or not isinstance(one.get("name"), str) or not isinstance(one.get("type"), str):
        raise InvalidInput(f"At {place}: {wanted}.", field=place)
    shape = one.get("shape", [])
    if not isinstance(shape, list) or not all(side is None or isinstance(side, int | str) for side in shape):
        raise InvalidInput(f"At {place}.shape: {wanted}.", field=f"{place}.shape")
    return SignatureField(one["name"][:250], one["type"][:40], tuple(shape[:16]))


def incompatibilities(new: Signature, old: Signature) -> list[str]:
    """Say what keeps `new` from taking the place of `old`: an input or output that changed or is missing, a new input.

    A further output does no harm; a side of any length fits any, and one of a known length only its own.
    """
    differences = []
    for word, ours, theirs in (("input", new.inputs, old.inputs), ("output", new.outputs, old.outputs)):
        mine = {one.name: one for one in ours}
        for one in theirs:
            other = mine.get(one.name)
            if other is None:
                differences.append(f"{word} {one.name} is missing")
            elif other.type != one.type or not _fits(other.shape, one.shape):
                differences.append(f"{word} {one.text()} became {other.text()[len(other.name) + 1 :]}")
        if word == "input":
            known = {one.name for one in theirs}
            differences += [f"input {one.name} is new" for one in ours if one.name not in known]
    return differences


def _fits(new: tuple[Side, ...], old: tuple[Side, ...]) -> bool:
    """Tell whether what fitted the old shape fits the new one."""
    return len(new) == len(old) and all(
        not isinstance(mine, int) or mine == theirs for mine, theirs in zip(new, old, strict=True)
    )


def signature_of_sample(inputs: Any, outputs: Any = None) -> Signature:
    """Infer a signature from examples: a table (columns), an array, a list, or a mapping of names to arrays.

    The first side is the number of rows, of any length. Raises InvalidInput for what has no type and shape.
    """
    return Signature(_fields_of(inputs, "input"), () if outputs is None else _fields_of(outputs, "output"), "sample")


def _fields_of(sample: Any, name: str) -> tuple[SignatureField, ...]:
    import numpy as np

    if hasattr(sample, "dtypes") and hasattr(sample, "columns"):
        return tuple(SignatureField(str(column), str(sample[column].dtype), (None,)) for column in sample.columns)
    if isinstance(sample, Mapping):
        return tuple(field for key, value in sample.items() for field in _fields_of(value, str(key)))
    try:
        array = np.asarray(sample)
    except ValueError as error:
        raise InvalidInput(
            f"The rows of a sample have to have the same length. NumPy says: {error}", field="sample"
        ) from None
    if array.ndim == 0 or array.dtype == object:
        raise InvalidInput(
            f"A sample is a table, an array, or a mapping of names to arrays, not {type(sample).__name__}.",
            field="sample",
        )
    kind = "string" if array.dtype.kind in "US" else str(array.dtype)
    return (SignatureField(name, kind, (None, *array.shape[1:])),)
