"""What the runs of some experiments have: keys, the kinds of their values, plots. Asked while a query is settled."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from peewee import Node

from kinetrum.core.base.goals import Goal
from kinetrum.core.points.aggregates import INDEXED
from kinetrum.core.query.settled import Key, Kinds
from kinetrum.storage.db.clock import now, to_micros
from kinetrum.storage.db.database import named_rows, places
from kinetrum.storage.people.projects import goals_of
from kinetrum.storage.runs.run_index import key_ids
from kinetrum.storage.tables.runs import RunRow, StoredPlot
from kinetrum.storage.tables.search import ExperimentKey, KeyName, NumberValue, TextValue

NAMES_LIMIT = 2_000
# Short texts stand as they are; what begins with one of three control characters is a mark of something else.
IS_TEXT = "(v.text < '\x01' OR v.text >= '\x04')"
_IS_LONG = (TextValue.text >= "\x02") & (TextValue.text < "\x03")
_INDEXED = {"shown", *INDEXED}


@dataclass(frozen=True)
class Searched:
    """The experiments of one project whose runs are searched, as (id, name)."""

    project_id: int
    project: str
    experiments: tuple[tuple[int, str], ...]

    @property
    def ids(self) -> list[int]:
        """Ids of the experiments."""
        return [experiment_id for experiment_id, _ in self.experiments]

    @property
    def within(self) -> str:
        """`= %s` or `IN (%s, …)`: the place of the ids in a statement."""
        return "= %s" if len(self.experiments) == 1 else f"IN {places(self.ids) if self.experiments else '(NULL)'}"


@dataclass(frozen=True)
class IndexPlace:
    """Where a key stands in the index, and for which experiments; None for all that are searched."""

    key_id: int
    experiments: tuple[int, ...] | None = None


class RunCatalogue:
    """Answers what a query has to know of the runs it asks."""

    def __init__(self, searched: Searched) -> None:
        self.searched = searched
        self._kinds: dict[Key, Kinds | None] = {}
        self._now = to_micros(now())

    def kinds(self, key: Key) -> Kinds | None:
        """Return which kinds of values a key holds, None where no run has it."""
        if key not in self._kinds:
            self._kinds[key] = self._find_kinds(key)
        return self._kinds[key]

    def _find_kinds(self, key: Key) -> Kinds | None:
        if key.aggregate != "shown":
            return Kinds.NUMBER | Kinds.SPECIAL if self.is_metric(key.name) else None
        places = self.index_places(key)
        if not places or not self._listed(places[0].key_id):
            return None
        kinds = Kinds(0)
        tests = (
            (Kinds.NUMBER, NumberValue, None),
            (Kinds.TEXT, TextValue, TextValue.text >= "\x04"),
            (Kinds.TEXT, TextValue, TextValue.text < "\x01"),
            (Kinds.TEXT, TextValue, _IS_LONG),
            (Kinds.SPECIAL, TextValue, (TextValue.text >= "\x01") & (TextValue.text < "\x02")),
        )
        for kind, table, condition in tests:
            if kind not in kinds and self._any(table, places[0].key_id, condition):
                kinds |= kind
        return kinds

    def has_long_texts(self, key_id: int) -> bool:
        """Tell whether a key holds texts that the index has only digests of."""
        return self._any(TextValue, key_id, _IS_LONG)

    def _any(self, table: type[NumberValue] | type[TextValue], key_id: int, condition: Node | None) -> bool:
        values = table.select().where(table.key_id == key_id, table.experiment_id.in_(self.searched.ids))
        return bool((values if condition is None else values.where(condition)).exists())

    def _listed(self, key_id: int) -> bool:
        keys = ExperimentKey.select().where(
            ExperimentKey.key_id == key_id, ExperimentKey.experiment_id.in_(self.searched.ids)
        )
        return bool(keys.exists())

    def index_places(self, key: Key) -> list[IndexPlace]:
        """Return where the index holds a key; nothing for what is read from documents or unknown."""
        if key.aggregate == "best":
            return self._best_places(key.name)
        if key.aggregate not in _INDEXED:
            return []
        wanted = (key.scope, key.aggregate if key.scope == "value" else "", key.name)
        index_place = key_ids(self.searched.project_id, [wanted]).get(wanted)
        return [] if index_place is None else [IndexPlace(index_place)]

    def plain_places(self, keys: Sequence[Key]) -> dict[Key, int]:
        """Return where the index holds what stands for keys, of many at once."""
        wanted: dict[tuple[str, str, str], Key] = {
            (key.scope, "shown" if key.scope == "value" else "", key.name): key for key in keys
        }
        return {wanted[place]: key_id for place, key_id in key_ids(self.searched.project_id, list(wanted)).items()}

    def _best_places(self, name: str) -> list[IndexPlace]:
        """The best is the highest or lowest by each experiment's goal, without one the last."""
        ids = key_ids(self.searched.project_id, [("value", aggregate, name) for aggregate in ("last", "min", "max")])
        by_aggregate: dict[str, list[int]] = {}
        for experiment_id in self.searched.ids:
            goal = self.goals[experiment_id].get(name)
            by_aggregate.setdefault("last" if goal is None else "max" if goal.higher else "min", []).append(
                experiment_id
            )
        return [
            IndexPlace(ids["value", aggregate, name], tuple(experiments))
            for aggregate, experiments in by_aggregate.items()
            if ("value", aggregate, name) in ids
        ]

    @cached_property
    def goals(self) -> dict[int, dict[str, Goal]]:
        """Goals by experiment and key."""
        return {experiment_id: goals_of(experiment_id) for experiment_id in self.searched.ids}

    def is_metric(self, name: str) -> bool:
        """Tell whether a run has a metric of that name."""
        index_place = self.index_places(Key("value", name, "last"))
        return bool(index_place) and self._listed(index_place[0].key_id)

    def has_plot(self, name: str) -> bool:
        """Tell whether a run keeps a plot of that name or kind."""
        plots = (
            StoredPlot.select()
            .join(RunRow, on=RunRow.run_id == StoredPlot.run_id)
            .where(RunRow.experiment_id.in_(self.searched.ids), (StoredPlot.name == name) | (StoredPlot.kind == name))
        )
        return bool(plots.exists())

    def names(self) -> Sequence[str]:
        """Return names of parameters, values and labels, for nearest ones."""
        rows = (
            ExperimentKey.select(KeyName.name)
            .join(KeyName, on=KeyName.key_id == ExperimentKey.key_id)
            .where(ExperimentKey.experiment_id.in_(self.searched.ids), KeyName.scope != "field")
            .distinct()
            .order_by(KeyName.name)
            .limit(NAMES_LIMIT)
        )
        return [row.name for row in named_rows(rows)]

    def now(self) -> int:
        """Return the moment at which this catalogue was made, in microseconds since 1970."""
        return self._now
