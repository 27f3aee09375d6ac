"""The bin: runs, artifact versions and models put out of sight and taken out again. Nothing is deleted by it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

from kinetrum.actions.context import Actor, Place, enter, may, require, sight_of
from kinetrum.actions.registry.model_state import load_model
from kinetrum.actions.runs.readers import may_bin
from kinetrum.actions.search.references import find_artifact, find_version, in_lock_order, runs_named
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.refs import VersionRef, parse_ref
from kinetrum.storage.data import artifacts
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.db.clock import Moment, now
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, people
from kinetrum.storage.registry import models, stage_records
from kinetrum.storage.registry.models import ModelRow
from kinetrum.storage.runs import run_families, runs
from kinetrum.storage.runs.runs import Run

THINGS_AT_ONCE = 1_000
LISTED = 1_000
FAMILY_LIMIT = 10_000


@dataclass(frozen=True)
class BinnedThing:
    """A run, version or model in the bin: who made it, who binned it when and why, and how large its files are."""

    reference: str
    kind: Literal["run", "version", "model"]
    name: str | None
    status: str
    author: str
    made_at: Moment
    binned_at: Moment
    binned_by: str | None
    reason: str | None
    size_bytes: int
    may_restore: bool


@dataclass(frozen=True)
class Things:
    """Runs, versions and models that references name; `parts`: ids of versions that only `artifact:NAME` stands for."""

    runs: list[Run]
    versions: list[VersionRow]
    parts: frozenset[int] = frozenset()
    models: tuple[ModelRow, ...] = ()

    @property
    def references(self) -> list[str]:
        """All of them as references."""
        named = [f"model:{row.name}" for row in self.models]
        return [run.reference for run in self.runs] + [row.reference for row in self.versions] + named


def things_named(place: Place, references: Sequence[str]) -> Things:
    """Return the runs, artifact versions (`nights@2`; `artifact:nights` is all of them) and models that are named."""
    if not 1 <= len(references) <= THINGS_AT_ONCE:
        raise InvalidInput(
            f"{len(references)} things were named; 1 to {THINGS_AT_ONCE} are taken at once.", field="things"
        )
    named = [reference for reference in references if "@" in reference]
    whole = [reference.removeprefix("artifact:") for reference in references if reference.startswith("artifact:")]
    wholes = ("artifact:", "model:")
    plain = [reference for reference in references if "@" not in reference and not reference.startswith(wholes)]
    listed = [reference.removeprefix("model:") for reference in references if reference.startswith("model:")]
    versions, parts = dict[int, VersionRow](), dict[int, VersionRow]()
    for reference in named:
        ref = parse_ref(reference)
        if not isinstance(ref, VersionRef) or ref.path:
            raise InvalidInput(f"{reference!r} names no artifact version; write NAME@NUMBER.", field="things")
        version = find_version(place, ref.name, ref.which)
        versions[version.version_id] = version
    for name in whole:
        known = find_artifact(place, name)
        parts |= {row.version_id: row for row in artifacts.versions_of(known.artifact_id) if not row.purged_at}
    chosen = [row for _, row in sorted({**parts, **versions}.items())]
    return Things(
        in_lock_order(runs_named(place, plain)) if plain else [],
        chosen,
        frozenset(parts.keys() - versions.keys()),
        tuple(load_model(place, name, lock=False).model for name in sorted(listed)),
    )


@dataclass(frozen=True)
class Moved:
    """References of what was moved, and how many runs below it were not."""

    references: list[str]
    left_below: int


@transaction
def bin_things(actor: Actor, project: str, references: Sequence[str], children: bool = False) -> Moved:
    """Put runs and versions into the bin: one's own, or as a maintainer anybody's; with `children` the runs below."""
    return _move(actor, project, references, children, to_bin=True)


@transaction
def restore_things(actor: Actor, project: str, references: Sequence[str], children: bool = False) -> Moved:
    """Take runs and versions out of the bin again; with `children` the runs below as well."""
    return _move(actor, project, references, children, to_bin=False)


def _with_family(place: Place, named: Things, children: bool, to_bin: bool) -> tuple[Things, int]:
    """Return what was named with the runs below it, if they are meant, and how many of those would be left."""
    below = (
        run_families.family_of([run.uid for run in named.runs], place.project_id, FAMILY_LIMIT) if named.runs else []
    )
    if len(below) > FAMILY_LIMIT:
        raise InvalidInput(f"Over {FAMILY_LIMIT} runs are below these; name fewer at once.", field="things")
    ids = {run.run_id for run in named.runs}
    others = [run for run in below if run.run_id not in ids]
    if not children:
        return named, sum((run.binned_at is None) == to_bin for run in others)
    return replace(named, runs=in_lock_order([*named.runs, *others])), 0


def _move(actor: Actor, project: str, references: Sequence[str], children: bool, to_bin: bool) -> Moved:
    place = enter(actor, project, Act.BIN_OWN)
    named, left_below = _with_family(place, things_named(place, references), children, to_bin)
    run_rows = [runs.lock_run(run.run_id) for run in named.runs]
    artifacts.lock_versions([row.version_id for row in named.versions])
    versions = sorted(
        artifacts.versions_by_ids([row.version_id for row in named.versions]), key=lambda row: row.version_id
    )
    # Of a whole artifact those stay out that were purged until they were locked.
    versions = [row for row in versions if not (row.purged_at and row.version_id in named.parts)]
    _check_mine(actor, place, run_rows, versions)
    _check_movable(actor, place, run_rows, versions, to_bin)
    for run in run_rows:
        if (run.binned_at is not None) != to_bin:
            runs.set_binned(run.run_id, actor.person_id if to_bin else None)
            _note(actor, place, run.subject, to_bin)
    moved = [row for row in versions if (row.binned_at is not None) != to_bin]
    if moved:
        artifacts.set_binned([row.version_id for row in moved], actor.person_id if to_bin else None)
        for row in moved:
            _note(actor, place, row.reference, to_bin)
    moved_models = [_move_model(actor, place, model.name, to_bin) for model in named.models]
    references = [*(run.reference for run in run_rows), *(row.reference for row in versions), *moved_models]
    return Moved(references, left_below)


def _move_model(actor: Actor, place: Place, name: str, to_bin: bool) -> str:
    """Put a model out of sight, or take it out again. Its versions stay; one that stands on a stage keeps it here."""
    require(actor, place, Act.RULE)
    model = models.model_named(place.project_id, name, lock=True)
    if model is None:
        raise Conflict(f"The model {name} vanished. Nothing was changed.")
    standing = {stage: stack[-1].number for stage, stack in stage_records.stacks_of(model.model_id).items() if stack}
    if to_bin and standing:
        stage, number = next(iter(standing.items()))
        raise Conflict(
            f"Version {number} of {model.name} stands on {stage}, where it is fetched; demote it first. Nothing was "
            "changed."
        )
    if (model.binned_at is not None) != to_bin:
        models.set_model(
            model.model_id, binned_at=now() if to_bin else None, binned_by=actor.person_id if to_bin else None
        )
        _note(actor, place, model.name, to_bin)
    return f"model:{model.name}"


def _note(actor: Actor, place: Place, subject: str, to_bin: bool) -> None:
    act = "binned" if to_bin else "restored"
    journal.append(place.project_id, actor.person_id, act, subject, source=actor.source)


def _check_mine(actor: Actor, place: Place, run_rows: list[Run], versions: list[VersionRow]) -> None:
    others = [(run.reference, run.author_id) for run in run_rows if not may_bin(actor, place, run)]
    if not may(actor, place, Act.BIN_OTHERS):
        others += [(row.reference, row.created_by) for row in versions if row.created_by != actor.person_id]
    if others:
        names = people.full_names()
        raise NotAllowed(
            f"{others[0][0]} was recorded by {names[others[0][1]]}; people bin and restore what they recorded, a "
            "maintainer anybody's. Nothing was changed."
        )


def _check_movable(actor: Actor, place: Place, run_rows: list[Run], versions: list[VersionRow], to_bin: bool) -> None:
    gone = [run.reference for run in run_rows if run.purged_at] + [row.reference for row in versions if row.purged_at]
    if gone:
        raise Conflict(f"{gone[0]} was purged; there is nothing left to move. Nothing was changed.")
    running = [run for run in run_rows if run.status == "running"]
    if to_bin and running:
        raise Conflict(f"{running[0].reference} is still running; end it first. Nothing was changed.")
    registered = artifacts.models_on([row.version_id for row in versions]) if to_bin else {}
    for row in versions:
        if row.version_id in registered:
            name = sight_of(actor).names_from(place, registered[row.version_id])[0]
            raise Conflict(
                f"{row.reference} is registered as {name}, which rests on its files; it stays. Nothing was changed."
            )


@snapshot
def list_bin(actor: Actor, project: str) -> list[BinnedThing]:
    """Return what is in a project's bin, the latest first."""
    place = enter(actor, project)
    names = people.full_names()
    anybodys = may(actor, place, Act.BIN_OTHERS)
    things = [
        BinnedThing(
            run.reference,
            "run",
            run.name,
            run.status,
            names[run.author_id],
            run.started_at,
            run.binned_at,
            names.get(run.binned_by or 0),
            None,
            0,
            may_bin(actor, place, run),
        )
        for run in runs.binned_runs(place.project_id, LISTED)
        if run.binned_at is not None
    ]
    own = may(actor, place, Act.BIN_OWN)
    things += [
        BinnedThing(
            row.reference,
            "version",
            None,
            row.kind,
            names.get(row.created_by, ""),
            row.created_at,
            row.binned_at,
            names.get(row.binned_by or 0),
            row.bin_reason,
            0 if row.by_reference else row.size_bytes,
            anybodys or (own and row.created_by == actor.person_id),
        )
        for row in artifacts.binned_versions(place.project_id, LISTED)
        if row.binned_at is not None
    ]
    things += [
        BinnedThing(
            f"model:{model.name}",
            "model",
            None,
            "model",
            names.get(model.created_by, ""),
            model.created_at,
            model.binned_at,
            names.get(model.binned_by or 0),
            None,
            0,
            may(actor, place, Act.RULE),
        )
        for model in models.models_of(place.project_id)
        if model.binned_at is not None
    ]
    return sorted(things, key=lambda thing: thing.binned_at, reverse=True)
