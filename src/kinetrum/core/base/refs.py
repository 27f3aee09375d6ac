"""References: short texts that name a run, a file, an artifact version or a model version.

frost-alarm/42          frost-alarm/last        frost-alarm/best:recall
nights@3                nights@latest           frost-alarm@production
frost-net@best:recall   frost-alarm@lead        frost-alarm@newest
frost-alarm/42:model/net.onnx                   nights@3:2024/station-07.csv
orchard/frost-alarm/42  orchard/nights@3        (a project before any of them)
0190a1b2-…              3f2a9c1e77              (a run's id, or its last ten or more digits)
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import check_name

_DIGEST = re.compile(r"sha256:[0-9a-f]{8,64}(?=:|\Z)")
_BEST = re.compile(r"best:[^:]+")
_HEX_TAIL = re.compile(r"[0-9a-f][0-9a-f-]{8,35}[0-9a-f]\Z")


@dataclass(frozen=True)
class RunRef:
    """A run by number, `last`, `best:KEY`, or id. `path` names one file of what it generated."""

    experiment: str | None
    pick: str
    project: str | None = None
    path: str | None = None

    def __str__(self) -> str:
        head = f"{self.project}/" if self.project else ""
        body = f"{self.experiment}/{self.pick}" if self.experiment else self.pick
        return head + body + (f":{self.path}" if self.path else "")


@dataclass(frozen=True)
class VersionRef:
    """`NAME@WHICH`: a version of an artifact or a model.

    By number or `sha256:…`; of an artifact also `latest` or `best:KEY`; of a model a stage, `lead` or `newest`.
    """

    name: str
    which: str
    project: str | None = None
    path: str | None = None

    def __str__(self) -> str:
        head = f"{self.project}/" if self.project else ""
        return f"{head}{self.name}@{self.which}" + (f":{self.path}" if self.path else "")


@dataclass(frozen=True)
class NameRef:
    """A bare name: a whole experiment, artifact or model."""

    name: str
    project: str | None = None

    def __str__(self) -> str:
        return f"{self.project}/{self.name}" if self.project else self.name


Ref = RunRef | VersionRef | NameRef


def is_id_tail(text: str) -> bool:
    """Tell whether `text` can be a run's id or its last ten or more hex digits."""
    return bool(_HEX_TAIL.match(text)) and len(text.replace("-", "")) >= 10 and any(c.isdigit() for c in text)


def parse_ref(text: str) -> Ref:
    """Read a reference; raises InvalidInput that says what a reference looks like."""
    if not isinstance(text, str) or not text or text != text.strip():
        raise _unreadable(text)
    if "@" in text:
        return _version(text)
    head, path = _split_path(text)
    parts = head.split("/")
    reference = {1: _one_part, 2: _two_parts, 3: _three_parts}.get(len(parts), lambda _parts, _path: None)(parts, path)
    if reference is None:
        raise _unreadable(text)
    return reference


def _one_part(parts: list[str], path: str | None) -> Ref | None:
    if is_id_tail(parts[0]):
        return RunRef(None, parts[0], path=path)
    return NameRef(check_name(parts[0], "reference")) if path is None else None


def _two_parts(parts: list[str], path: str | None) -> Ref | None:
    first, second = parts
    if _is_pick(second):
        return RunRef(check_name(first, "experiment"), second, path=path)
    if is_id_tail(second):
        return RunRef(None, second, check_name(first, "project"), path)
    return NameRef(check_name(second, "reference"), check_name(first, "project")) if path is None else None


def _three_parts(parts: list[str], path: str | None) -> Ref | None:
    project, experiment, pick = parts
    if not _is_pick(pick):
        return None
    return RunRef(check_name(experiment, "experiment"), pick, check_name(project, "project"), path)


def _is_pick(text: str) -> bool:
    return (text.isascii() and text.isdigit() and text != "0") or text == "last" or text.startswith("best:")


def _split_path(text: str) -> tuple[str, str | None]:
    head, colon, path = text.partition(":")
    if not colon:
        return text, None
    if head.endswith("/best"):
        key, colon, path = path.partition(":")
        if not key:
            raise _unreadable(text)
        head = f"{head}:{key}"
    if colon and not path:
        raise _unreadable(text)
    return head, path if colon else None


def _version(text: str) -> VersionRef:
    before, _, which = text.partition("@")
    project, slash, name = before.rpartition("/")
    digest, best = _DIGEST.match(which), _BEST.match(which)
    pick = digest[0] if digest else best[0] if best else which.partition(":")[0]
    _, colon, path = which[len(pick) :].partition(":")
    if not pick or (colon and not path):
        raise _unreadable(text)
    if pick == "best":
        raise InvalidInput(
            f"{text!r}: best by what? Write a key behind it, as in {name}@best:recall.", field="reference"
        )
    if not digest and not best and not (pick.isascii() and pick.isdigit()) and pick not in {"latest", "lead", "newest"}:
        check_name(pick, "stage")
    return VersionRef(
        check_name(name, "reference"),
        pick,
        check_name(project, "project") if slash else None,
        path if colon else None,
    )


def _unreadable(text: object) -> InvalidInput:
    return InvalidInput(
        f"{text!r} is not a reference. Write a run as frost-alarm/42 or frost-alarm/last, a version as "
        "frost-alarm@7, frost-alarm@production or nights@latest, with a project before it where needed.",
        field="reference",
    )


def by_numbers(reference: str) -> list[tuple[int, str]]:
    """Return what references are sorted by, so that `e/2` stands before `e/10`."""
    return [(int(part), "") if part.isdigit() else (-1, part) for part in re.split(r"(\d+)", reference) if part]
