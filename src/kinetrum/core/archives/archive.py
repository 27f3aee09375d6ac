"""Archives of runs and artifacts: what stands in them, checked when read.

An archive is a zip file that is an RO-Crate 1.1 (https://w3id.org/ro/crate/1.1): `ro-crate-metadata.json` tells any
reader what is in it. What is needed to take it into an instance again stands beside it: `kinetrum/archive.json` lists
experiments, artifacts and versions; each run has a folder `runs/ID` with `run.json`, `points.csv`, `output.jsonl`,
`machine.jsonl` and `plots.jsonl`; a version's files lie in `artifacts/NAME@NUMBER`, each content once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from kinetrum.core.base.goals import Goal
from kinetrum.core.base.manifests import FileEntry
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.values import Value, to_json
from kinetrum.core.plots import Plot, write_plot
from kinetrum.core.statistics.replicates import SEEDS

FORMAT = 1


ARCHIVE = "kinetrum/archive.json"


STATUSES = ("running", "finished", "failed", "stopped", "lost")


@dataclass(frozen=True)
class Person:
    """Who did something: the account's name, and the full name."""

    name: str
    full_name: str


@dataclass(frozen=True)
class LinkRecord:
    """An input or output of a run: which version, and how."""

    uid: str
    relation: str
    name: str
    number: int
    at: int
    role: str | None = None
    step: int | None = None
    activity: str | None = None
    keep: str | None = None


@dataclass(frozen=True)
class NoteRecord:
    """A note on a run."""

    uid: str
    by: Person
    text: str
    at: int


@dataclass(frozen=True)
class PlotRecord:
    """A plot of a run; `declared` tells that its view was declared anew after it was recorded."""

    uid: str
    name: str
    step: int | None
    at: int
    declared: bool
    plot: Plot


@dataclass
class RunRecord:
    """A run as an archive holds it; points and output lie beside it. Times are microseconds since 1970."""

    uid: str
    experiment: str
    number: int
    name: str | None
    status: str
    reason: str | None
    by: Person
    host: str
    parent: str | None
    started_at: int
    ended_at: int | None
    lease_s: int
    doc: RunDoc
    results: list[tuple[str, str, Value, int]] = field(default_factory=list)
    links: list[LinkRecord] = field(default_factory=list)
    notes: list[NoteRecord] = field(default_factory=list)
    texts: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class VersionRecord:
    """A version as an archive holds it; `inside` is the place of each content in the archive, by SHA-256."""

    name: str
    kind: str
    number: int
    digest: str
    by_reference: bool
    address: str | None
    by: Person
    made_at: int
    files: tuple[FileEntry, ...]
    inside: Mapping[str, str]
    about: Mapping[str, Any] = field(default_factory=dict)
    labels: Mapping[str, str] = field(default_factory=dict)

    @property
    def reference(self) -> str:
        """`name@number`, as it was where it came from."""
        return f"{self.name}@{self.number}"


@dataclass(frozen=True)
class ExperimentRecord:
    """An experiment: its description, its goals in order, its labels, and the parameters in which replicates differ."""

    name: str
    description: str
    goals: tuple[Goal, ...]
    labels: Mapping[str, str] = field(default_factory=dict)
    seeds: tuple[str, ...] = SEEDS
    generates_names: bool = True
    earlier_names: tuple[str, ...] = ()


@dataclass(frozen=True)
class ArtifactRecord:
    """An artifact: what is said of it."""

    name: str
    kind: str
    description: str
    labels: Mapping[str, str]


@dataclass(frozen=True)
class Contents:
    """Everything that `kinetrum/archive.json` lists; `runs` are ids."""

    source: str
    exported_at: str
    experiments: tuple[ExperimentRecord, ...]
    artifacts: tuple[ArtifactRecord, ...]
    versions: tuple[VersionRecord, ...]
    runs: tuple[str, ...]


def write_run(run: RunRecord) -> dict[str, Any]:
    """Return a run as JSON data."""
    doc = run.doc
    return {
        "id": run.uid,
        "experiment": run.experiment,
        "number": run.number,
        "name": run.name,
        "status": run.status,
        "reason": run.reason,
        "by": vars(run.by),
        "host": run.host,
        "parent": run.parent,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "lease_s": run.lease_s,
        "params": {key: to_json(value) for key, value in doc.params.items()},
        "results": [[uid, key, to_json(value), at] for uid, key, value, at in run.results],
        "labels": doc.labels,
        "about": {key: to_json(value) for key, value in doc.about.items()},
        "code": doc.code,
        "job": doc.job,
        "texts": run.texts,
        "problems": [vars(problem) for problem in doc.problems],
        "activities": [vars(activity) for activity in doc.activities],
        "progress": vars(doc.progress) if doc.progress else None,
        "links": [vars(link) for link in run.links],
        "notes": [{"uid": note.uid, "by": vars(note.by), "text": note.text, "at": note.at} for note in run.notes],
    }


def write_plot_record(record: PlotRecord) -> dict[str, Any]:
    """Return a plot as JSON data."""
    return {
        "id": record.uid,
        "name": record.name,
        "step": record.step,
        "at": record.at,
        "declared": record.declared,
        **write_plot(record.plot),
    }


def write_contents(contents: Contents) -> dict[str, Any]:
    """Return the list of an archive's contents as JSON data."""
    return {
        "format": FORMAT,
        "source": contents.source,
        "exported_at": contents.exported_at,
        "experiments": [
            {
                "name": record.name,
                "description": record.description,
                "goals": [_goal(goal) for goal in record.goals],
                "labels": dict(record.labels),
                "seeds": list(record.seeds),
                "generates_names": record.generates_names,
                "earlier_names": list(record.earlier_names),
            }
            for record in contents.experiments
        ],
        "artifacts": [{**vars(record), "labels": dict(record.labels)} for record in contents.artifacts],
        "versions": [
            {
                "name": record.name,
                "kind": record.kind,
                "number": record.number,
                "digest": record.digest,
                "by_reference": record.by_reference,
                "address": record.address,
                "by": vars(record.by),
                "made_at": record.made_at,
                "about": dict(record.about),
                "labels": dict(record.labels),
                "files": [
                    [
                        entry.path,
                        entry.size,
                        entry.sha256,
                        entry.modified,
                        entry.address,
                        record.inside.get(entry.sha256),
                    ]
                    for entry in record.files
                ],
            }
            for record in contents.versions
        ],
        "runs": list(contents.runs),
    }


def _goal(goal: Goal) -> dict[str, Any]:
    return {
        "key": goal.key,
        "direction": goal.direction.value,
        "unit": goal.unit,
        "bound": to_json(goal.bound),
        "aggregate": goal.aggregate,
    }


def folder_of(name: str, number: int) -> str:
    """Return where a version's files lie in an archive."""
    return f"artifacts/{name}@{number}/"
