"""From a reference to the thing it names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kinetrum.actions.context import Actor, Place, enter, experiment_in
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.refs import is_id_tail
from kinetrum.storage.data import artifacts, links
from kinetrum.storage.data.artifacts import ArtifactRow, VersionRow
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.people import names, projects
from kinetrum.storage.registry import models
from kinetrum.storage.runs import point_reading, run_documents, runs
from kinetrum.storage.runs.runs import Run

RUNS_AT_ONCE = 1_000


def find_run(place: Place, experiment: str, pick: str) -> Run:
    """Return the run that `pick` names in an experiment: a number, `last`, `best:KEY`, or its id."""
    if len(pick) == 36:
        run = runs.run_by_uid(id_bytes(pick))
        if run is None or run.project_id != place.project_id or not _is_in(place, run, experiment):
            raise NotFound(f"{experiment} has no run with the id {pick}.", field="run")
        return run
    row = experiment_in(place, experiment)
    if pick.isascii() and pick.isdigit():
        run = runs.run_by_number(row.experiment_id, int(pick)) if len(pick) < 10 else None
    elif pick == "last":
        run = runs.last_run(row.experiment_id)
    elif pick.startswith("best:"):
        return _best(place, row.experiment_id, experiment, pick[5:])
    elif is_id_tail(pick):
        return find_run_by_tail(place, pick)
    else:
        raise InvalidInput(f"{pick!r} names no run; a number, last, best:KEY or an id does.", field="run")
    if run is None:
        last = runs.last_run(row.experiment_id)
        there = f"the newest is {last.reference}" if last else "it has no runs yet"
        raise NotFound(f"There is no run {experiment}/{pick}; {there}.", field="run")
    return run


def _is_in(place: Place, run: Run, experiment: str) -> bool:
    """Tell whether a run is in an experiment, whatever that was called when its recording began."""
    if run.experiment == experiment:
        return True
    row = projects.experiment_named(place.project_id, experiment)
    return row is not None and row.experiment_id == run.experiment_id


def _best(place: Place, experiment_id: int, experiment: str, key: str) -> Run:
    goal = projects.goals_of(experiment_id).get(key)
    if goal is None:
        known = ", ".join(projects.goals_of(experiment_id)) or "none"
        raise NotFound(f"{experiment} has no goal for {key!r}, so no run is best; goals: {known}.", field="run")
    run = runs.best_run(place.project_id, experiment_id, key, goal.higher)
    if run is None:
        raise NotFound(f"No finished run of {experiment} has {key!r}.", field="run")
    return run


def find_run_by_tail(place: Place, tail: str) -> Run:
    """Return the one run of a project whose id ends so; raises InvalidInput where several do."""
    run_rows = runs.runs_by_tail([place.project_id], tail.lower())
    if not run_rows:
        raise NotFound(f"No run of {place.project.name} has an id that ends in {tail}.", field="run")
    if len(run_rows) > 1:
        both = " and ".join(run.reference for run in run_rows)
        raise InvalidInput(f"{tail} fits several runs: {both}; write more of the id.", field="run")
    return run_rows[0]


def run_named(place: Place, reference: str) -> Run:
    """Return the run that `experiment/pick`, an id, or the end of one names in a project."""
    experiment, _, pick = reference.rpartition("/")
    return find_run(place, experiment, pick) if experiment else find_run_by_tail(place, pick)


def find_artifact(place: Place, name: str, lock: bool = False) -> ArtifactRow:
    """Return an artifact by name, locked until the transaction ends if asked."""
    artifact = artifacts.artifact_named(place.project_id, name, lock)
    if artifact is None:
        known = ", ".join(version.name for version in artifacts.artifacts_of(place.project_id)[:8])
        raise NotFound(
            f"{place.project.name} has no artifact {name!r}; it has {known or 'none yet'}.", field="artifact"
        )
    return artifact


def find_version(place: Place, name: str, which: str) -> VersionRow:
    """Return an artifact's version by number, `latest`, or `best:KEY`."""
    row = find_artifact(place, name)
    if which.startswith("best:"):
        return _best_version(row, which[5:])
    if which == "latest":
        version = artifacts.newest_version(row.artifact_id)
    elif which.isascii() and which.isdigit() and len(which) < 10:
        version = artifacts.version_numbered(row.artifact_id, int(which))
    else:
        raise NotFound(
            f"{name}@{which}: {name} is an artifact; its versions are numbers, latest or best:KEY.", field="version"
        )
    if version is None:
        newest = artifacts.newest_version(row.artifact_id)
        there = f"the newest is {newest.reference}" if newest else "all it has are in the bin or purged"
        raise NotFound(f"There is no version {name}@{which}; {there}.", field="version")
    return version


def _best_version(row: ArtifactRow, key: str) -> VersionRow:
    """Return the version, not in the bin, at which the runs that generated it had the best value of a key."""
    versions = {one.version_id: one for one in artifacts.versions_of(row.artifact_id) if one.binned_at is None}
    made = [link for link in links.links_of_versions(list(versions)) if link.relation == "generated"]
    makers = {run.run_id: run for run in runs.runs_by_ids(sorted({link.run_id for link in made}))}
    goals = {projects.goals_of(run.experiment_id).get(key) for run in makers.values()}
    ways = {goal.higher for goal in goals if goal is not None}
    if None in goals or len(ways) != 1:
        raise NotFound(
            f"No version of {row.name} is best by {key}: the experiments of the runs that generated it share "
            "no goal for it.",
            field="version",
        )
    measured = values_of_links(makers, made, key)
    known = [(value, versions[link.version_id].number, link.version_id) for link, value in measured if value == value]
    if not known:
        raise NotFound(f"No run that generated {row.name} measured {key} where it did.", field="version")
    # The earliest of equals.
    best = min(known, key=lambda checkpoint: (-checkpoint[0] if True in ways else checkpoint[0], checkpoint[1]))
    return versions[best[2]]


def values_of_links(makers: Mapping[int, Run], made: Sequence[LinkRow], key: str) -> list[tuple[LinkRow, float]]:
    """Return what runs had of a key where they generated something: at its step, else at their end."""
    steps: dict[int, set[int]] = {}
    for link in made:
        if link.step is not None:
            steps.setdefault(link.run_id, set()).add(link.step)
    at_steps = {run_id: point_reading.read_at(run_id, sorted(wanted)) for run_id, wanted in steps.items()}
    ends: dict[int, object] = {}
    values = []
    for link in made:
        run = makers[link.run_id]
        if link.step is not None:
            value: object = at_steps[run.run_id][link.step].get(key, (None, None))[1]
        else:
            if run.run_id not in ends:
                ends[run.run_id] = run_documents.load_doc(run.run_id).value(key, projects.goals_of(run.experiment_id))[
                    1
                ]
            value = ends[run.run_id]
        if isinstance(value, int | float) and not isinstance(value, bool):
            values.append((link, float(value)))
    return values


def run_to_write(actor: Actor, project: str, experiment: str, pick: str) -> tuple[Place, Run]:
    """Return the project and the run that the actor is about to record to."""
    place = enter(actor, project, Act.RECORD)
    run = find_run(place, experiment, pick)
    if run.purged_at is not None:
        raise Conflict(f"{run.reference} was purged at {run.purged_at:%Y-%m-%d %H:%M}; begin another run.")
    return place, run


def runs_named(place: Place, references: Sequence[str]) -> list[Run]:
    """Return the runs that references (`experiment/number`, ids or their ends) name, each once, in the order named."""
    if not 1 <= len(references) <= RUNS_AT_ONCE:
        raise InvalidInput(f"{len(references)} runs were named; 1 to {RUNS_AT_ONCE} are taken at once.", field="runs")
    numbered = _numbered(place, references)
    run_rows = (numbered.get(reference) or run_named(place, reference) for reference in references)
    return list({run.run_id: run for run in run_rows}.values())


def _numbered(place: Place, references: Sequence[str]) -> dict[str, Run]:
    """Read those that are named by their numbers all at once."""
    wanted: dict[str, dict[int, str]] = {}
    for reference in references:
        experiment, _, pick = reference.rpartition("/")
        if experiment and pick.isascii() and pick.isdigit() and len(pick) < 10:
            wanted.setdefault(experiment, {})[int(pick)] = reference
    runs_by_reference: dict[str, Run] = {}
    for experiment, numbers in wanted.items():
        row = projects.experiment_named(place.project_id, experiment)
        runs_there = runs.runs_by_numbers(row.experiment_id, list(numbers)) if row else {}
        runs_by_reference |= {numbers[number]: run for number, run in runs_there.items()}
    return runs_by_reference


def in_lock_order(runs: Sequence[Run]) -> list[Run]:
    """Return runs in the order in which they are locked, so that two acts on the same runs never wait in a circle."""
    return sorted(runs, key=lambda run: run.run_id)


def subjects_named(place: Place, subject: str) -> list[str]:
    """Return a subject of the journal with those that it had under earlier names of the same thing."""
    kind, colon, name = subject.rpartition(":")
    name, sign, rest = name.partition("/" if kind == "run" else "@")
    if kind in {"experiment", "run"}:
        row = projects.experiment_named(place.project_id, name)
        every = names.every_name(names.EXPERIMENT, row.experiment_id, row.name) if row else [name]
    elif not colon:
        model = models.model_named(place.project_id, name)
        every = names.every_name(names.MODEL, model.model_id, model.name) if model else [name]
    else:
        return [subject]
    return [f"{kind}{colon}{one}{sign}{rest}" for one in every]
