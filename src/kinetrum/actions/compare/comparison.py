"""Comparing runs: gathers what the core compares, with the replicates that stand behind each run."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.runs.readers import RunView, views_of
from kinetrum.actions.search.references import runs_named
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.run_document import RunDoc
from kinetrum.core.base.samples import joined, used
from kinetrum.core.base.values import Value
from kinetrum.core.compare import Comparison, RunFacts, compare_runs
from kinetrum.core.compare.runs import RUN_LIMIT, Replicate
from kinetrum.core.points.together import Band, band_of
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import point_reading, resources, run_families, runs
from kinetrum.storage.search import replicates

# Of so many runs what they used of their machines is read.
_IN_DETAIL = 20
_REPLICATES_LIMIT, _CURVES_LIMIT, _CHILDREN_LIMIT = 200, 30, 1_000


@dataclass(frozen=True)
class Compared:
    """A comparison with its runs as the tables show them."""

    comparison: Comparison
    views: list[RunView]
    goals: dict[str, Goal]


@snapshot
def compare(actor: Actor, project: str, references: list[str], baseline: int, each: bool = False) -> Compared:
    """Compare 2 to 100 runs of a project; `baseline` is the index of the run to measure changes against.

    Runs with finished replicates stand for all of them; of runs named that repeat one another the first stands for
    the others. With `each`, or where all named repeat one another, every run stands for itself.
    """
    if len(references) > RUN_LIMIT:
        raise InvalidInput(f"{len(references)} runs were given; 2 to {RUN_LIMIT} are compared.", field="run")
    place = enter(actor, project)
    views = _views(place, references)
    if len(views) != len(references):
        raise InvalidInput("The same run was given twice.", field="runs")
    if not 0 <= baseline < len(views):
        raise InvalidInput(f"The baseline {baseline} is not one of the runs.", field="baseline")
    goals: dict[str, Goal] = {}
    for view in views:
        for key, goal in view.goals.items():
            goals.setdefault(key, goal)
    groups = [[view] for view in views]
    if not each:
        views, groups, baseline = _together(views, baseline)
    same_experiment = len({view.run.experiment_id for view in views}) == 1
    grouped = any(len(group) > 1 for group in groups)
    in_detail = sum(len(group) for group in groups) <= _IN_DETAIL
    facts = [
        _facts(view, group, same_experiment, grouped, in_detail) for view, group in zip(views, groups, strict=True)
    ]
    return Compared(compare_runs(facts, goals, baseline, _noise(views, groups, goals)), views, goals)


def _together(views: list[RunView], baseline: int) -> tuple[list[RunView], list[list[RunView]], int]:
    """Return the runs that stand for groups, their groups, and where the baseline is now."""
    marks = [_mark(view.doc) for view in views]
    if len(set(marks)) == 1 and marks[0] is not None:
        return views, [[view] for view in views], baseline
    chosen: list[RunView] = []
    places: dict[tuple[int, str], int] = {}
    moved: list[int] = []
    for view, mark in zip(views, marks, strict=True):
        key = (view.run.experiment_id, mark or f"alone {view.run.run_id}")
        if key not in places:
            places[key] = len(chosen)
            chosen.append(view)
        moved.append(places[key])
    return chosen, _groups_of(chosen), moved[baseline]


def _views(place: Place, references: list[str]) -> list[RunView]:
    named = runs_named(place, references)
    metrics = point_reading.metric_names_of([run.run_id for run in named])
    return [replace(view, metrics=metrics.get(view.run.run_id, ())) for view in views_of(named)]


def _mark(doc: RunDoc) -> str | None:
    return doc.fields().get("replicates")


def _groups_of(views: list[RunView]) -> list[list[RunView]]:
    """Return for each run the group that it stands for: itself, and its finished replicates."""
    marks = [_mark(view.doc) for view in views]
    wanted: dict[tuple[int, int], set[str]] = {}
    for view, mark in zip(views, marks, strict=True):
        if mark is not None:
            wanted.setdefault((view.run.project_id, view.run.experiment_id), set()).add(mark)
    ids: dict[tuple[int, str], list[int]] = {}
    for (project_id, experiment_id), of_it in wanted.items():
        marked = replicates.finished_with_marks(project_id, experiment_id, sorted(of_it), _REPLICATES_LIMIT)
        ids |= {(experiment_id, mark): run_ids for mark, run_ids in marked.items()}
    here = {view.run.run_id for view in views}
    others = sorted({run_id for run_ids in ids.values() for run_id in run_ids} - here)
    known = {view.run.run_id: view for view in [*views, *views_of(runs.runs_by_ids(others))]}
    return [
        [
            view,
            *(
                known[run_id]
                for run_id in ids.get((view.run.experiment_id, mark or ""), ())
                if run_id != view.run.run_id
            ),
        ]
        for view, mark in zip(views, marks, strict=True)
    ]


@snapshot
def group_curves(
    actor: Actor, project: str, references: list[str], metric: str, width: int
) -> list[tuple[str, int, Band]]:
    """Return for each run how many it and its replicates are, and the mean and the band of a metric over them.

    Each curve is reduced to the width first: its lowest and highest points stay.
    """
    if not 1 <= len(references) <= RUN_LIMIT:
        raise InvalidInput(f"{len(references)} runs were given; 1 to {RUN_LIMIT} are drawn.", field="run")
    views = views_of(runs_named(enter(actor, project), references))
    group_views = []
    drawn: set[tuple[int, str]] = set()
    for view, group in zip(views, _groups_of(views), strict=True):
        # Runs that repeat one another are drawn once.
        key = (view.run.experiment_id, _mark(view.doc) or view.run.reference)
        if key in drawn:
            continue
        drawn.add(key)
        members = group[:_CURVES_LIMIT]
        having = [one.run.run_id for one in members if metric in one.doc.stats]
        curves = [point_reading.read_curve(run_id, metric, width, None, None) for run_id in having]
        group_views.append((view.run.reference, len(curves), band_of(curves, width)))
    return group_views


def _noise(views: list[RunView], groups: list[list[RunView]], goals: dict[str, Goal]) -> dict[str, float]:
    """Return what replicates of other settings vary by, where those compared have none."""
    if any(len(group) > 1 for group in groups) or not goals:
        return {}
    run = views[0].run
    return replicates.pooled_deviations(run.project_id, run.experiment_id, list(goals))


def _facts(view: RunView, group: list[RunView], same_experiment: bool, grouped: bool, in_detail: bool) -> RunFacts:
    run = view.run
    label = f"Run {run.number}" if same_experiment else run.reference
    facts, tried = _of_search(view)
    return RunFacts(
        reference=run.reference,
        label=f"{label}, best of {tried}" if tried else label,
        experiment=run.experiment,
        status=run.status,
        params={key: value for key, value in view.doc.params.items() if not (grouped and key in view.doc.seeds)},
        values=facts if tried else view.values,
        inputs=inputs_of(view.doc),
        metrics=view.metrics,
        replicates=tuple(
            Replicate(one.run.reference, _seed(one.doc), one.values, _costs(one, in_detail))
            for one in group
            if len(group) > 1
        ),
        surroundings=surroundings_of(view),
        costs=_costs(view, in_detail),
    )


def _of_search(view: RunView) -> tuple[dict[str, Value], int]:
    """Return, for a run that measured nothing towards its goals itself, the best of its children by each goal.

    And how many children were looked at: a search answers for what it found.
    """
    if not view.goals or any(key in view.values for key in view.goals):
        return {}, 0
    children = views_of(run_families.children_of(view.run.uid, view.run.project_id, _CHILDREN_LIMIT))
    facts: dict[str, Value] = {}
    for key, goal in view.goals.items():
        numbers = [child.values.get(key) for child in children if child.run.status == "finished"]
        known = [n for n in numbers if isinstance(n, int | float) and not isinstance(n, bool) and n == n]
        if known:
            facts[key] = max(known) if goal.higher else min(known)
    return facts, len(children) if facts else 0


def inputs_of(doc: RunDoc) -> dict[str, str]:
    """Return what a run used, by name and role: its versions."""
    return {
        f"{link.name} ({link.role})" if link.role else link.name: f"{link.name}@{link.version}" for link in doc.used
    }


def _seed(doc: RunDoc) -> Value:
    """Return what tells a replicate from the others: its seed, or all of them where an experiment names several."""
    seeds = [doc.params[key] for key in sorted(doc.seeds) if key in doc.params]
    return seeds[0] if len(seeds) == 1 else repr(seeds) if seeds else None


def surroundings_of(view: RunView) -> dict[str, Value]:
    """Return the code and the machine of a run: commit, uncommitted changes and script by digest, packages, host."""
    doc = view.doc
    facts: dict[str, Value] = {}
    if doc.code.get("commit"):
        facts["commit"] = str(doc.code["commit"])[:10]
    for name, title in (("difference", "uncommitted changes"), ("script", "script"), ("packages", "packages")):
        if name in doc.texts:
            facts[title] = doc.texts[name][:10]
    if view.run.host:
        facts["host"] = view.run.host
    return facts | {key: value for key, value in doc.about.items() if key not in _OWN}


# What no two runs share, or what stands elsewhere.
_OWN = frozenset({"process", "script", "command"})


def _costs(view: RunView, in_detail: bool) -> dict[str, Value]:
    """Return what a run took: its duration, and of few runs also what it used of its machine."""
    run = view.run
    if run.ended_at is None:
        return {}
    costs: dict[str, Value] = {"duration (s)": (run.ended_at - run.started_at).total_seconds()}
    if in_detail:
        costs.update(used(joined(resources.read_blocks(run.run_id))))
    return costs


def differing_factors(left: RunView, right: RunView) -> dict[str, list[tuple[str, Value, Value]]]:
    """Return what differs between two runs by its kind: settings but seeds, data, code, environment."""
    code = {"commit", "uncommitted changes", "script"}
    one, two = surroundings_of(left), surroundings_of(right)
    sides: dict[str, tuple[dict[str, Value], dict[str, Value]]] = {
        "setting": (_settings_but_seeds(left), _settings_but_seeds(right)),
        "data": (dict(inputs_of(left.doc)), dict(inputs_of(right.doc))),
        "code": (_only(one, code), _only(two, code)),
        "environment": (_without(one, code), _without(two, code)),
    }
    return {
        kind: [
            (name, one.get(name), two.get(name))
            for name in dict.fromkeys([*one, *two])
            if name not in one or name not in two or one[name] != two[name]
        ]
        for kind, (one, two) in sides.items()
    }


def _settings_but_seeds(view: RunView) -> dict[str, Value]:
    return _without(view.doc.params, set(view.doc.seeds))


def _only(values: dict[str, Value], names: set[str]) -> dict[str, Value]:
    return {key: value for key, value in values.items() if key in names}


def _without(values: dict[str, Value], names: frozenset[str] | set[str]) -> dict[str, Value]:
    return {key: value for key, value in values.items() if key not in names}
