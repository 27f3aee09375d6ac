"""Facets: what there is to ask for, and what may stand where a query is being written."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.search.cells import read_columns
from kinetrum.actions.search.run_table import Table, searched_in, table_of
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Goal
from kinetrum.core.points.aggregates import AGGREGATES
from kinetrum.core.query.check import FIELDS, WORDS, Settling
from kinetrum.core.query.completing import COMPARISONS, Expected, expected
from kinetrum.core.query.settled import Field, Key, Kinds, Source
from kinetrum.core.query.syntax import Subject
from kinetrum.core.query.writing import value_text, word
from kinetrum.storage.data import artifacts
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs import plots, run_index
from kinetrum.storage.search.run_catalogue import RunCatalogue
from kinetrum.storage.search.run_facets import COUNTED_FIELDS, Facet, HeldValues, facet, held_by_keys

OFFERS_LIMIT = 20
_SCOPES = {"metric": "value", "param": "param", "label": "label"}
_CALLED = {"value": "metric or result", "param": "parameter", "label": "label", "field": "field of the run"}
_OF_TIME = ("1d", "7d", "2w", "6h", "30m")
_OF_COMPARISONS = {
    "=": "equal",
    "!=": "different",
    "<": "less",
    "<=": "at most",
    ">": "more",
    ">=": "at least",
    "in": "a range a..b or a list {a, b}",
    "like": "fits a pattern of * and ?",
    "is nan": "not a number",
    "within": "a span of time until now, such as 7d",
}


@dataclass(frozen=True)
class FacetKey:
    """A key that runs have: its kinds of values, its range, its goal."""

    scope: str
    name: str
    held: HeldValues
    goal: Goal | None


@dataclass(frozen=True)
class Offer:
    """What may stand at a place of a query: the text, what it is, and more about it."""

    text: str
    what: str
    about: str = ""


@dataclass(frozen=True)
class Offers:
    """What may stand from a column (from 0) on to the end of what was written."""

    at: int
    expected: str
    offers: list[Offer]


@snapshot
def list_facets(actor: Actor, project: str, experiment: str | None) -> tuple[list[FacetKey], list[str]]:
    """Return the keys that runs have, with ranges, and the fields of runs whose values are counted."""
    searched = searched_in(enter(actor, project), experiment)
    catalogue = RunCatalogue(searched)
    goals: dict[str, Goal] = {}
    for of_experiment in catalogue.goals.values():
        goals = of_experiment | goals
    keys = [Key(scope, name) for scope, name in run_index.keys_of_experiments(searched.ids)]
    places = catalogue.plain_places(keys)
    keys.sort(key=lambda key: (("value", "param", "label").index(key.scope), key.name not in goals))
    held_keys = held_by_keys(searched, list(places.values()))
    nothing = HeldValues(Kinds(0), None)
    return [
        FacetKey(
            key.scope,
            key.name,
            held_keys.get(places.get(key, 0), nothing),
            goals.get(key.name) if key.scope == "value" else None,
        )
        for key in keys
    ], list(COUNTED_FIELDS)


@snapshot
def read_facet(
    actor: Actor, project: str, experiment: str | None, name: str, query_text: str, beginning: str
) -> tuple[Source, Facet, int]:
    """Count one key or field over the runs that fit a query; also returns how many runs fit, to the cap."""
    table = table_of(actor, project, experiment, query_text, "")
    (source,) = read_columns([name], table.search.catalogue)
    if isinstance(source, Field) and source.name in {"commit", "code", "problem", "replicates"}:
        source = Key("field", source.name)
    elif isinstance(source, Field) and source.name not in COUNTED_FIELDS:
        raise InvalidInput(
            f"Values of {source.name} are not counted; of {', '.join(COUNTED_FIELDS)} and of keys they are.",
            field="name",
        )
    return source, facet(table.search, source, beginning.lower()), table.search.count()


@snapshot
def offers(actor: Actor, project: str, experiment: str | None, text: str) -> Offers:
    """Return what may stand at the end of a query that is being written."""
    wanted = expected(text)
    table = table_of(actor, project, experiment, "", "")
    offered = _OFFERING[wanted.what](wanted, table) if wanted.what in _OFFERING else []
    begun = wanted.begun.lower()
    fitting = [offer for offer in offered if begun in offer.text.lower()]
    fitting.sort(key=lambda offer: not offer.text.lower().lstrip('"').startswith(begun))
    return Offers(wanted.at, wanted.what, fitting[:OFFERS_LIMIT])


def _names(wanted: Expected, table: Table, scopes: tuple[str, ...]) -> list[Offer]:
    goals = table.goals
    known = run_index.keys_of_experiments(table.searched.ids)
    chosen = _SCOPES.get(wanted.scope or "")
    keys = [(scope, name) for scope, name in known if scope in scopes and chosen in {None, scope}]
    keys.sort(key=lambda each: (each[1] not in goals, scopes.index(each[0]), each[1]))
    if wanted.scope == "run":
        keys = []
    prefix = f"{wanted.scope}:" if wanted.scope else ""
    taken: set[str] = set()
    names = []
    for scope, name in keys:
        # A name that several scopes have is written with its scope from the second on.
        plain = name not in taken and name not in FIELDS
        taken.add(name)
        written = prefix + word(name) if prefix or plain else f"{_SCOPE_WORDS[scope]}:{word(name)}"
        goal = goals.get(name) if scope == "value" else None
        about = f", {'higher' if goal.higher else 'lower'} is better" if goal else ""
        names.append(Offer(written, scope, _CALLED[scope] + about))
    return names


_SCOPE_WORDS = {scope: written for written, scope in _SCOPES.items()}


def _tests(wanted: Expected, table: Table) -> list[Offer]:
    offered = _names(wanted, table, ("value", "param", "label"))
    prefix = "run:" if wanted.scope == "run" else ""
    fields = [Offer(prefix + name, "field", _CALLED["field"]) for name in FIELDS]
    if wanted.scope:
        return fields if prefix else _plots(table) if wanted.scope == "plot" else offered
    words = [
        Offer("not", "word", "denies a test"),
        Offer("has", "word", "the run has it"),
        Offer("used", "word", "the run used this data"),
    ]
    aggregates = [Offer(f"{name}(", "word", "of a metric's points") for name in AGGREGATES]
    return offered + fields + words + aggregates


def _has(wanted: Expected, table: Table) -> list[Offer]:
    if wanted.scope == "plot":
        return _plots(table)
    offered = _names(wanted, table, ("value", "param", "label"))
    fields = [Offer(name, "field", _CALLED["field"]) for name in ("note", "problem", "parent", "name", "ended")]
    return offered + fields + ([] if wanted.scope else _plots(table))


def _plots(table: Table) -> list[Offer]:
    return [Offer(f"plot:{word(name)}", "plot", "plot") for name in plots.names_in(table.searched.ids, OFFERS_LIMIT)]


def _metrics(wanted: Expected, table: Table) -> list[Offer]:
    named = _names(replace(wanted, scope=None), table, ("value",))
    return [offer for offer in named if table.search.catalogue.is_metric(offer.text.strip('"').removeprefix("metric:"))]


def _comparisons(wanted: Expected, table: Table) -> list[Offer]:
    source = _source(wanted.subject, table)
    words = list(COMPARISONS) + ["in"]
    if isinstance(source, Field):
        kind = FIELDS[source.name]
        words = {
            "text": ["=", "!=", "in", "like"],
            "word": ["=", "!=", "in", "like"],
            "hex": ["=", "!="],
            "run": ["=", "!="],
            "time": ["within", *COMPARISONS, "in"],
        }.get(kind, words)
    elif source is not None:
        kinds = table.search.catalogue.kinds(source) or Kinds(0)
        words = (words if Kinds.NUMBER in kinds else ["=", "!=", "in"]) + (["like"] if Kinds.TEXT in kinds else [])
        words += ["is nan"] if Kinds.SPECIAL in kinds and Kinds.NUMBER in kinds else []
    return [Offer(each, "comparison", _OF_COMPARISONS[each]) for each in words]


def _source(subject: Subject | None, table: Table) -> Source | None:
    if subject is None:
        return None
    try:
        return Settling(table.search.catalogue).source(subject)
    except InvalidInput:
        return None


def _values(wanted: Expected, table: Table) -> list[Offer]:
    source = _source(wanted.subject, table)
    if isinstance(source, Field) and source.name in WORDS:
        return [Offer(word, "value") for word in WORDS[source.name]]
    if source is None or (isinstance(source, Field) and source.name not in COUNTED_FIELDS):
        return []
    counted = facet(table.search, source, wanted.begun.lower(), OFFERS_LIMIT)
    return [
        Offer(value_text(each.value), "value", f"{each.runs:,} {'run' if each.runs == 1 else 'runs'}")
        for each in counted.values
    ]


def _artifacts(wanted: Expected, table: Table) -> list[Offer]:
    named = artifacts.artifacts_of(table.searched.project_id)
    return [Offer(row.reference, "artifact", "and no other version") for row in named] + [
        Offer(row.name, "artifact", "any version") for row in named
    ]


def _spans(wanted: Expected, table: Table) -> list[Offer]:
    return [Offer(span, "value") for span in _OF_TIME]


def _joints(wanted: Expected, table: Table) -> list[Offer]:
    return [Offer("and", "word", "both hold"), Offer("or", "word", "one of them holds")]


_OFFERING = {
    "test": _tests,
    "name": _has,
    "metric": _metrics,
    "comparison": _comparisons,
    "value": _values,
    "pattern": _values,
    "span": _spans,
    "artifact": _artifacts,
    "joint": _joints,
}
