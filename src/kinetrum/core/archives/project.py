"""What an archive of a whole project has beyond runs and versions: its description, views, notes, and models.

It stands in `kinetrum/project.json`. A model comes with its versions, card, rules, ladder, gates, evidence, verdicts,
stages and their history. Who did what stands there in words: an archive speaks for no account of the instance that
takes it in.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from typing import Any

from kinetrum.core.archives.archive import NoteRecord, Person
from kinetrum.core.archives.archive_reading import (
    check_micros,
    read_id,
    read_labels,
    read_note,
    read_number,
    read_person,
    read_step,
    read_text,
    refuse,
)
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.permissions import Role
from kinetrum.core.base.values import check_key, check_name, from_json, to_json
from kinetrum.core.registry.card import CARD_LIMIT
from kinetrum.core.registry.evidence import read_rules
from kinetrum.core.registry.gates import read_check, read_gates
from kinetrum.core.registry.ladder import Stage, make_ladder
from kinetrum.core.registry.signature import signature_from_json

PROJECT = "kinetrum/project.json"
ACTS = ("promote", "demote", "roll back")
NOTED = ("project", "experiment", "artifact", "artifact@", "model", "model@")
_TEXT, _COMMENT, _VALUES = 10_000, 4_000, 500
_VIEWS, _NOTES, _ARRANGEMENT = 2_000, 100_000, 8_000


@dataclass(frozen=True)
class ViewRecord:
    """A saved view; without an experiment it is of the whole project."""

    uid: str
    experiment: str | None
    name: str
    shared: bool
    arrangement: Mapping[str, str]
    by: Person


@dataclass(frozen=True)
class ThingNote:
    """A note on something that is no run: its kind, name, and number where it is a version."""

    kind: str
    name: str
    number: int | None
    note: NoteRecord


@dataclass(frozen=True)
class ModelVersionRecord:
    """A version of a model; `artifact` is (name, number) of its files where they come along, `run` an id."""

    uid: str
    number: int
    artifact: tuple[str, int] | None
    run: str | None
    origin: str | None
    comment: str
    retired: bool
    by: Person
    made_at: int
    labels: Mapping[str, str]
    values: Mapping[str, Any]
    signature: Mapping[str, Any] | None
    step: int | None


@dataclass(frozen=True)
class VerdictRecord:
    """A verdict that stood on a version when the archive was made."""

    number: int
    by: Person
    approves: bool
    comment: str
    at: int


@dataclass(frozen=True)
class EvidenceRecord:
    """Evidence of a version on named data; `rows` is (name, number) of its predictions row by row."""

    uid: str
    number: int
    on: str
    digest: str | None
    run: str
    rows: tuple[str, int] | None
    results: Mapping[str, Any]
    by: Person
    at: int


@dataclass(frozen=True)
class StayRecord:
    """A version on the stack of a stage, the lowest first."""

    stage: str
    number: int
    at: int


@dataclass(frozen=True)
class EventRecord:
    """A change of a stage's occupant, with the outcome of every gate that was asked."""

    uid: str
    act: str
    stage: str
    before: int | None
    after: int | None
    by: Person
    comment: str
    at: int
    checks: list[dict[str, Any]] | None
    override_reason: str | None


@dataclass(frozen=True)
class ModelRecord:
    """A model with everything that belongs to it."""

    name: str
    purpose: str
    approvals_needed: int
    second_pair: bool
    renewed_approvals: bool
    card: str
    card_sections: tuple[str, ...]
    gates: str
    evidence_rules: Mapping[str, Any]
    owner: str | None
    labels: Mapping[str, str]
    image: str | None
    lead: int | None
    by: Person
    made_at: int
    ladder: tuple[Stage, ...]
    versions: tuple[ModelVersionRecord, ...]
    stays: tuple[StayRecord, ...]
    events: tuple[EventRecord, ...]
    verdicts: tuple[VerdictRecord, ...]
    evidence: tuple[EvidenceRecord, ...]


@dataclass(frozen=True)
class ProjectRecord:
    """What a project has beyond its runs and versions."""

    name: str
    description: str
    labels: Mapping[str, str]
    views: tuple[ViewRecord, ...] = ()
    notes: tuple[ThingNote, ...] = ()
    models: tuple[ModelRecord, ...] = ()


def write_project(project: ProjectRecord) -> dict[str, Any]:
    """Return a project as JSON data."""
    return asdict(project)


def read_project(data: Any) -> ProjectRecord:
    """Read a project; raises InvalidInput that names the part at fault."""
    project: ProjectRecord = _read(PROJECT, _project, data)
    return project


def _read(where: str, reader: Callable[[Any], Any], data: Any) -> Any:
    try:
        return reader(data)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
        raise refuse(where, error) from None


def _project(data: Any) -> ProjectRecord:
    models = tuple(
        _read(f"{PROJECT}, model {str(record['name'])[:100]}", _model, record) for record in _list(data["models"])
    )
    if len({model.name for model in models}) != len(models):
        raise InvalidInput("A model is listed twice.")
    for part, limit in (("views", _VIEWS), ("notes", _NOTES)):
        if len(data[part]) > limit:
            raise InvalidInput(f"It has {len(data[part]):,} {part}; up to {limit:,} are taken.")
    return ProjectRecord(
        check_name(data["name"], "project"),
        _text(data["description"], _TEXT),
        read_labels(data["labels"]),
        tuple(_view(record) for record in _list(data["views"])),
        tuple(_note(record) for record in _list(data["notes"])),
        models,
    )


def _list(data: Any) -> list[Any]:
    if not isinstance(data, list | tuple):
        raise InvalidInput("A list is needed.")
    return list(data)


def _text(value: Any, limit: int) -> str:
    return read_text(value, limit) or ""


def _pair(data: Any) -> tuple[str, int] | None:
    return None if data is None else (check_name(data[0], "artifact"), read_number(data[1]))


def _optional(value: Any) -> int | None:
    return None if value is None else read_number(value)


def _view(data: Any) -> ViewRecord:
    experiment, name = data["experiment"], _text(data["name"], 100)
    if not name or not name.isprintable():
        raise InvalidInput(f"{name!r} cannot name a view.")
    arrangement = {str(part): str(text) for part, text in data["arrangement"].items()}
    if sum(len(part) + len(text) for part, text in arrangement.items()) > _ARRANGEMENT:
        raise InvalidInput(f"The view {name} has over {_ARRANGEMENT:,} characters.")
    return ViewRecord(
        read_id(data["uid"]),
        None if experiment is None else check_name(experiment, "experiment"),
        name,
        data["shared"] is True,
        arrangement,
        read_person(data["by"]),
    )


def _note(data: Any) -> ThingNote:
    kind = data["kind"]
    if kind not in NOTED:
        raise InvalidInput(f"{kind!r} is nothing that has notes here.")
    number = read_number(data["number"]) if kind.endswith("@") else None
    return ThingNote(kind, check_name(data["name"], kind.rstrip("@")), number, read_note(data["note"]))


def _model(data: Any) -> ModelRecord:
    ladder = make_ladder([_stage(record) for record in _list(data["ladder"])])
    stages = [stage.name for stage in ladder]
    versions = tuple(_version(record) for record in _list(data["versions"]))
    numbers = {version.number for version in versions}
    if len(numbers) != len(versions):
        raise InvalidInput("A version is listed twice.")
    gates = _text(data["gates"], 100_000)
    read_gates(gates, stages)
    model = ModelRecord(
        name=check_name(data["name"], "model"),
        purpose=_text(data["purpose"], 1_000),
        approvals_needed=read_number(data["approvals_needed"]),
        second_pair=data["second_pair"] is True,
        renewed_approvals=data["renewed_approvals"] is True,
        card=_text(data["card"], CARD_LIMIT),
        card_sections=tuple(str(title)[:200] for title in _list(data["card_sections"])[:40]),
        gates=gates,
        evidence_rules={on: rule.to_json() for on, rule in read_rules(data["evidence_rules"]).items()},
        owner=read_text(data["owner"], 100),
        labels=read_labels(data["labels"]),
        image=read_text(data["image"], 300),
        lead=_optional(data["lead"]),
        by=read_person(data["by"]),
        made_at=check_micros(data["made_at"]),
        ladder=ladder,
        versions=versions,
        stays=tuple(
            StayRecord(str(record["stage"]), read_number(record["number"]), check_micros(record["at"]))
            for record in _list(data["stays"])
        ),
        events=tuple(_event(record) for record in _list(data["events"])),
        verdicts=tuple(
            VerdictRecord(
                read_number(record["number"]),
                read_person(record["by"]),
                record["approves"] is True,
                _text(record["comment"], _COMMENT),
                check_micros(record["at"]),
            )
            for record in _list(data["verdicts"])
        ),
        evidence=tuple(_evidence(record) for record in _list(data["evidence"])),
    )
    _check_numbers(model, numbers, stages)
    return model


def _check_numbers(model: ModelRecord, numbers: set[int], stages: list[str]) -> None:
    """Refuse what speaks of a version or stage that the model has not."""
    named = [
        model.lead,
        *(stay.number for stay in model.stays),
        *(one.number for one in model.verdicts),
        *(one.number for one in model.evidence),
    ]
    missing = next((number for number in named if number is not None and number not in numbers), None)
    if missing is not None:
        raise InvalidInput(f"It has no version {missing}.")
    unknown = next((stay.stage for stay in model.stays if stay.stage not in stages), None)
    if unknown is not None:
        raise InvalidInput(f"Its ladder has no stage {unknown!r}.")


def _stage(data: Any) -> Stage:
    placers = tuple(str(name)[:100] for name in _list(data["placers"])[:40])
    return Stage(check_name(data["name"], "stage"), data["asks_approved"] is True, Role(data["least_role"]), placers)


def _version(data: Any) -> ModelVersionRecord:
    signature = data["signature"]
    if len(data["values"]) > _VALUES:
        raise InvalidInput(f"A version has over {_VALUES} values of its own.")
    return ModelVersionRecord(
        read_id(data["uid"]),
        read_number(data["number"]),
        _pair(data["artifact"]),
        None if data["run"] is None else read_id(data["run"]),
        read_text(data["origin"], 2_000),
        _text(data["comment"], _COMMENT),
        data["retired"] is True,
        read_person(data["by"]),
        check_micros(data["made_at"]),
        read_labels(data["labels"]),
        _results(data["values"]),
        None if signature is None else signature_from_json(signature).to_json(),
        read_step(data["step"]),
    )


def _results(data: Any) -> dict[str, Any]:
    return {check_key(key): to_json(from_json(value, key)) for key, value in data.items()}


def _evidence(data: Any) -> EvidenceRecord:
    digest = read_text(data["digest"], 64)
    if digest is not None:
        bytes.fromhex(digest)
    return EvidenceRecord(
        read_id(data["uid"]),
        read_number(data["number"]),
        check_key(data["on"], "on"),
        digest,
        read_id(data["run"]),
        _pair(data["rows"]),
        _results(data["results"]),
        read_person(data["by"]),
        check_micros(data["at"]),
    )


def _event(data: Any) -> EventRecord:
    if data["act"] not in ACTS:
        raise InvalidInput(f"{data['act']!r} is nothing that is done on stages; {', '.join(ACTS)} are.")
    checks = None if data["checks"] is None else [asdict(read_check(check)) for check in _list(data["checks"])]
    return EventRecord(
        read_id(data["uid"]),
        data["act"],
        check_name(data["stage"], "stage"),
        _optional(data["before"]),
        _optional(data["after"]),
        read_person(data["by"]),
        _text(data["comment"], _COMMENT),
        check_micros(data["at"]),
        checks,
        read_text(data["override_reason"], 2_000),
    )
