"""A run's document: everything that a row of the run table or a comparison shows, in one packed piece."""

from __future__ import annotations

import base64
import json
import math
import secrets
from dataclasses import dataclass, field
from typing import Any

import zstandard

from kinetrum.core.base.goals import Goal, aggregate_value, shown_value
from kinetrum.core.base.values import Value, from_json, to_json
from kinetrum.core.compare.environment import code_state
from kinetrum.core.points.aggregates import INDEXED
from kinetrum.core.points.stats import Stats, unpack
from kinetrum.core.statistics.replicates import SEEDS, replicate_mark


@dataclass
class Result:
    """The shown result of a key and when it was recorded (microseconds since 1970)."""

    value: Value
    at: int


@dataclass
class Link:
    """An artifact version that the run used or generated."""

    name: str
    version: int
    digest: str
    role: str | None = None
    step: int | None = None
    kind: str = "file"
    activity: str | None = None


@dataclass
class Problem:
    """Something that must be told about the run."""

    uid: str
    text: str
    at: int


@dataclass
class Activity:
    """A named piece of work in the run; times are microseconds since 1970."""

    uid: str
    name: str
    started_at: int
    ended_at: int | None = None
    failed: bool = False


@dataclass
class Progress:
    """How far the run is: done of total since a moment, as told at another."""

    done: int
    total: int | None
    since: int
    at: int


@dataclass
class RunDoc:
    """Parameters, results, statistics and thin lines of metrics, inputs, outputs, problems, labels, surroundings.

    `seeds` names the parameters in which replicates differ, as the experiment says.
    `code` describes the working tree, `texts` holds digests of what is too long to stand here, by its name;
    `found_described` is what `described` was when a document was read to be changed, and is not kept.
    """

    params: dict[str, Value] = field(default_factory=dict)
    results: dict[str, Result] = field(default_factory=dict)
    stats: dict[str, Stats] = field(default_factory=dict)
    sketches: dict[str, list[tuple[int, float]]] = field(default_factory=dict)
    used: list[Link] = field(default_factory=list)
    generated: list[Link] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    labels: dict[str, str] = field(default_factory=dict)
    about: dict[str, Value] = field(default_factory=dict)
    code: dict[str, Any] = field(default_factory=dict)
    texts: dict[str, str] = field(default_factory=dict)
    job: dict[str, str] = field(default_factory=dict)
    activities: list[Activity] = field(default_factory=list)
    progress: Progress | None = None
    seeds: tuple[str, ...] = SEEDS
    found_described: dict[tuple[str, str], str] = field(default_factory=dict, compare=False, repr=False)

    def fields(self) -> dict[str, str]:
        """Return what runs are found by beside keys and labels: code, problems, the mark that replicates share."""
        fields = {
            "commit": str(self.code.get("commit") or ""),
            "code": code_state(self.code, self.texts) or "",
            "problem": "\n".join(p.text for p in self.problems),
            "replicates": replicate_mark(self) or "",
        }
        return {name: text for name, text in fields.items() if text}

    def described(self) -> dict[tuple[str, str], str]:
        """Return labels and fields by (scope, name), as the index holds them."""
        labels = {("label", key): text for key, text in self.labels.items()}
        return labels | {("field", name): text for name, text in self.fields().items()}

    def add_problem(self, text: str, at: int, uid: str | None = None) -> None:
        """Add something that must be told, unless it stands there."""
        if all(problem.text != text and problem.uid != uid for problem in self.problems):
            self.problems.append(Problem(uid or secrets.token_hex(8), text[:2_000], at))

    def values(self, goals: dict[str, Goal]) -> dict[str, Value]:
        """Return what stands for each key: the result if there is one, else the metric by its goal."""
        values: dict[str, Value] = {key: shown_value(stats, goals.get(key)) for key, stats in self.stats.items()}
        values.update({key: result.value for key, result in self.results.items()})
        return values

    def value(self, key: str, goals: dict[str, Goal]) -> tuple[bool, Value]:
        """Return (present, value) of one key."""
        if key in self.results:
            return True, self.results[key].value
        if key in self.stats:
            return True, shown_value(self.stats[key], goals.get(key))
        return False, None

    def index_values(self, key: str, goals: dict[str, Goal]) -> dict[str, Value]:
        """Return what is indexed for a key, by aggregate: shown, and of a metric last, min, max."""
        present, value = self.value(key, goals)
        values: dict[str, Value] = {"shown": value} if present else {}
        if key in self.stats:
            values.update({name: aggregate_value(self.stats[key], name, None) for name in INDEXED})
        return values


def pack(doc: RunDoc) -> bytes:
    """Return the document as zstd-compressed JSON."""
    data = {
        "params": {key: to_json(value) for key, value in doc.params.items()},
        "results": {key: [to_json(result.value), result.at] for key, result in doc.results.items()},
        "stats": {key: base64.b64encode(stats.pack()).decode() for key, stats in doc.stats.items()},
        "sketches": {
            key: [[step for step, _ in line], [value if math.isfinite(value) else None for _, value in line]]
            for key, line in doc.sketches.items()
        },
        "used": [vars(link) for link in doc.used],
        "generated": [vars(link) for link in doc.generated],
        "problems": [vars(problem) for problem in doc.problems],
        "labels": doc.labels,
        "about": {key: to_json(value) for key, value in doc.about.items()},
        "code": doc.code,
        "texts": doc.texts,
        "job": doc.job,
        "activities": [vars(activity) for activity in doc.activities],
        "progress": vars(doc.progress) if doc.progress else None,
        **({} if doc.seeds == SEEDS else {"seeds": list(doc.seeds)}),
    }
    return zstandard.ZstdCompressor(level=3).compress(json.dumps(data, separators=(",", ":")).encode())


# What was checked when it was recorded is not checked again: documents are read by the hundred thousand.
_AS_THEY_ARE = {int, float, str, bool, type(None)}


def _kept(data: dict[str, Any]) -> dict[str, Value]:
    return {key: value if type(value) in _AS_THEY_ARE else from_json(value) for key, value in data.items()}


def unpack_doc(raw: bytes) -> RunDoc:
    """Undo `pack`."""
    data: dict[str, Any] = json.loads(zstandard.ZstdDecompressor().decompress(raw))
    return RunDoc(
        params=_kept(data["params"]),
        seeds=tuple(data["seeds"]) if "seeds" in data else SEEDS,
        results={
            key: Result(value if type(value) in _AS_THEY_ARE else from_json(value), at)
            for key, (value, at) in data["results"].items()
        },
        stats={key: unpack(base64.b64decode(text)) for key, text in data["stats"].items()},
        sketches={
            key: [(step, math.nan if value is None else value) for step, value in zip(steps, values, strict=True)]
            for key, (steps, values) in data["sketches"].items()
        },
        used=[Link(**link) for link in data["used"]],
        generated=[Link(**link) for link in data["generated"]],
        problems=[Problem(**problem) for problem in data["problems"]],
        labels=data["labels"],
        about=_kept(data["about"]),
        # What follows is missing from documents of earlier versions.
        code=data.get("code", {}),
        texts=data.get("texts", {}),
        job=data.get("job", {}),
        activities=[Activity(**activity) for activity in data.get("activities", [])],
        progress=Progress(**data["progress"]) if data.get("progress") else None,
    )
