"""Why: what moves a value over an experiment, what made one run beat another, and their predictions row by row."""

from __future__ import annotations

from dataclasses import dataclass

from kinetrum.actions.compare.comparison import Compared, compare, differing_factors, inputs_of, surroundings_of
from kinetrum.actions.context import Actor, enter
from kinetrum.actions.data.table_rows import read_judged
from kinetrum.actions.runs.readers import RunView, plain_view, views_of
from kinetrum.actions.search.cells import cell_of
from kinetrum.actions.search.references import run_named
from kinetrum.actions.search.run_table import Table, table_of
from kinetrum.core.base.errors import InvalidInput, KinetrumError, NotFound
from kinetrum.core.base.goals import Goal
from kinetrum.core.base.refs import VersionRef
from kinetrum.core.base.values import Value
from kinetrum.core.compare.reasons import Reason, factors_of, reasons_for
from kinetrum.core.compare.runs import Outcome
from kinetrum.core.query.settled import Key
from kinetrum.core.statistics.effects import Effects, effects_on
from kinetrum.core.statistics.noise.measures import select_measures
from kinetrum.core.statistics.noise.verdict import RowsVerdict
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import runs

RUNS_LIMIT = 2_000
_CODE = ("commit", "uncommitted changes", "script")
_PREDICTIONS = "-predictions"


@dataclass(frozen=True)
class Explained:
    """What moves a value: of which key, by its goal, over how many of the runs that fit."""

    key: str
    goal: Goal | None
    effects: Effects
    left_out: int


@dataclass(frozen=True)
class Why:
    """Possible causes of a difference of one key between two runs, the likeliest first."""

    key: str
    left: str
    right: str
    reasons: list[Reason]


@dataclass(frozen=True)
class JudgedRows:
    """Two runs' predictions on the same rows, by the name under which both kept them; `note`: why there are none."""

    name: str
    differences: list[RowsVerdict]
    note: str


@snapshot
def read_effects(actor: Actor, project: str, experiment: str, key: str | None, query_text: str) -> Explained:
    """Rank settings, data and code of finished runs by how much of a value goes along with them.

    Without `key` it is that of the experiment's first goal. The latest 2,000 runs that fit are looked at.
    """
    table = table_of(actor, project, experiment, query_text, "")
    name = key or next(iter(table.goals), None)
    if name is None:
        raise InvalidInput(f"Effects on what? {experiment} has no goal; name a value.", field="on")
    if not table.search.catalogue.index_places(Key("value", name)):
        raise NotFound(f"No run of {experiment} has a value {name!r}.", field="on")
    effects, left_out = _effects(table, name)
    return Explained(name, table.goals.get(name), effects, left_out)


def _effects(table: Table, name: str) -> tuple[Effects, int]:
    ids = table.search.page(table.sort, 0, RUNS_LIMIT + 1)
    views = [view for view in views_of(runs.runs_by_ids(ids[:RUNS_LIMIT])) if view.run.status == "finished"]
    # Replicates count once, with their mean: five seeds of one setting are not five trials of it.
    groups: dict[str, list[tuple[float, RunView]]] = {}
    for view in views:
        number = number_of(view, name)
        if number is not None:
            mark = view.doc.fields().get("replicates") or view.run.reference
            groups.setdefault(f"{view.run.experiment_id} {mark}", []).append((number, view))
    values = [sum(number for number, _ in group) / len(group) for group in groups.values()]
    effects = effects_on(values, [factors_in(group[0][1]) for group in groups.values()])
    return effects, max(0, len(ids) - RUNS_LIMIT)


def number_of(view: RunView, name: str) -> float | None:
    """Return the finite number that stands for a key, None where there is none."""
    present, value = cell_of(Key("value", name), view)
    if not present or isinstance(value, bool) or not isinstance(value, int | float):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return number if abs(number) < float("inf") else None


def factors_in(view: RunView) -> dict[str, Value]:
    """Return what may have moved a run's values, by the names under which comparisons tell them."""
    around = surroundings_of(view)
    settings = {key: value for key, value in view.doc.params.items() if key not in view.doc.seeds}
    return {**{key: around[key] for key in _CODE if key in around}, **inputs_of(view.doc), **settings}


def read_reasons(actor: Actor, project: str, left: str, right: str, key: str | None) -> Why:
    """Order what differs between two runs by how likely it made the difference of a value.

    Without `key` it is the first goal whose values differ. What other finished runs of the left one's experiment
    show is weighed in.
    """
    compared = compare(actor, project, [left, right], 1)
    row = _row(compared, key)
    main = row.main
    if main is None:
        raise InvalidInput(f"{row.key} has no two numbers to compare.", field="on")
    # Two runs that do not repeat one another stand for their groups, themselves first.
    ours, theirs = compared.views
    explained = read_effects(actor, project, ours.run.experiment, row.key, "")
    factors = factors_of(differing_factors(ours, theirs))
    unit = row.goal.unit if row.goal else None
    return Why(row.key, left, right, reasons_for(row.key, main.difference, factors, explained.effects, unit))


def _row(compared: Compared, key: str | None) -> Outcome:
    outcomes = compared.comparison.outcomes
    if len(compared.views) < 2:
        raise InvalidInput("These runs repeat one another.", field="run")
    if key is None:
        outcome = next((row for row in outcomes if row.goal and row.main), None)
        if outcome is None:
            raise InvalidInput("Why what? No value with a goal differs; name one.", field="on")
        return outcome
    named = next((row for row in outcomes if row.key == key), None)
    if named is None:
        raise NotFound(f"{key!r} does not differ between these runs, or neither has it.", field="on")
    return named


@snapshot
def _sides(actor: Actor, project: str, left: str, right: str) -> tuple[RunView, RunView]:
    place = enter(actor, project)
    return plain_view(run_named(place, left)), plain_view(run_named(place, right))


def read_judged_rows(actor: Actor, store: BlobStore, project: str, left: str, right: str) -> list[JudgedRows]:
    """Compare two runs on the rows whose predictions both kept: exact tests and intervals, pair by pair."""
    sides = _sides(actor, project, left, right)
    run_tables = [
        {
            link.name: VersionRef(link.name, str(link.version))
            for link in side.doc.generated
            if link.kind == "table" and link.name.endswith(_PREDICTIONS)
        }
        for side in sides
    ]
    goals = {key.rsplit("/", 1)[-1] for side in sides for key in side.goals}
    judgements = []
    for name in sorted(run_tables[0].keys() & run_tables[1].keys()):
        try:
            verdicts = read_judged(actor, store, project, run_tables[0][name], run_tables[1][name])
            judgements.append(JudgedRows(name, select_measures(verdicts, goals), ""))
        except KinetrumError as error:
            judgements.append(JudgedRows(name, [], str(error)))
    return judgements
