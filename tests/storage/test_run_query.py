"""Queries in SQL say the same as the documents do, whatever the values are."""

from __future__ import annotations

import math
from datetime import timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.base.run_document import Result, RunDoc
from kinetrum.core.points.columns import Points
from kinetrum.core.points.stats import stats_of
from kinetrum.core.query import settled
from kinetrum.core.query.check import settle
from kinetrum.core.query.matching import holds
from kinetrum.core.query.settled import Key, Plan
from kinetrum.core.query.sorting import read_sort
from kinetrum.storage.db.database import execute
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.search import run_query
from kinetrum.storage.search.driving_index import Driving, is_rare, unanswered
from kinetrum.storage.search.run_catalogue import RunCatalogue, Searched
from kinetrum.storage.search.run_query import Compiler
from kinetrum.storage.search.run_search import RunSearch
from tests.storage.conftest import Place
from tests.storage.test_runs import NO_FINDERS, ask

BIG = 2**53
VALUES = [
    0,
    1,
    5,
    5.0,
    -3.5,
    0.1,
    1e300,
    math.inf,
    -math.inf,
    math.nan,
    BIG,
    BIG + 1,
    BIG + 2,
    -BIG - 1,
    10**30,
    float(BIG) * 4,
    "forest",
    "Forest",
    "5",
    "true",
    "",
    "50% off_",
    "[x]",
    "y" * 119,
    "y" * 121,
    "y" * 121 + "z",
    True,
    False,
    None,
    [1, 2],
    [],
]
WRITTEN = [
    "0",
    "5",
    "5.0",
    "-3.5",
    "0.1",
    "inf",
    "-inf",
    str(BIG),
    str(BIG + 1),
    str(10**30),
    "forest",
    "'Forest'",
    "'5'",
    "true",
    "false",
    "null",
    "[1, 2]",
    "[]",
    "''",
    "'" + "y" * 121 + "'",
    "nothing",
]
NUMBERS = ["0", "1", "5", "-3.5", "0.1", str(BIG), str(BIG + 1), str(-BIG - 1), str(10**30), "inf", "-inf", "1e300"]
PATTERNS = ["*", "fo*", "FO?EST", "*%*", "*_", "[x]", "y*", "*z", "?", "''", "5"]


@st.composite
def one_test(draw: st.DrawFn) -> str:
    name = draw(st.sampled_from(["a", "param:b", "c", "label:d", "metric:c"]))
    kind = draw(st.integers(0, 6))
    if kind == 0:
        return f"{name} {draw(st.sampled_from(['=', '!=']))} {draw(st.sampled_from(WRITTEN))}"
    if kind == 1:
        return f"{name} {draw(st.sampled_from(['<', '<=', '>', '>=']))} {draw(st.sampled_from(NUMBERS))}"
    if kind == 2:
        return f"{name} in {draw(st.sampled_from(NUMBERS))}..{draw(st.sampled_from(NUMBERS))}"
    if kind == 3:
        return f"{name} in {{{', '.join(draw(st.lists(st.sampled_from(WRITTEN), min_size=1, max_size=3)))}}}"
    if kind == 4:
        return f"{name} like {draw(st.sampled_from(PATTERNS))}"
    return f"{name} is nan" if kind == 5 else f"has {name}"


QUERIES = st.recursive(
    one_test(),
    lambda inner: st.one_of(
        inner.map(lambda text: f"not ({text})"),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda parts: f"({' '.join(parts)})"),
    ),
    max_leaves=4,
)


def fits(plan: Plan | None, doc: RunDoc) -> bool:
    """What a query means, told from a document alone."""
    if plan is None:
        return True
    if isinstance(plan, settled.Negation):
        return not fits(plan.part, doc)
    if isinstance(plan, settled.All):
        return all(fits(part, doc) for part in plan.parts)
    if isinstance(plan, settled.Any):
        return any(fits(part, doc) for part in plan.parts)
    key = plan.source  # type: ignore[union-attr]
    assert isinstance(key, Key)
    held = {"param": doc.params, "value": doc.values({}), "label": doc.labels}[key.scope]
    return key.name in held and holds(plan, held[key.name])  # type: ignore[index, operator]


def keep(place: Place, params: dict[str, object], results: dict[str, object], labels: dict[str, str]) -> RunDoc:
    run = place.run(**params)
    doc = run_documents.lock_doc(run.run_id)
    doc.results = {key: Result(value, 1) for key, value in results.items()}  # type: ignore[arg-type]
    doc.labels = labels
    run_documents.save_doc(run, doc, {}, values=doc.results)
    return doc


class Docs(dict[int, RunDoc]):
    """Documents by run number; too long to be shown where a test fails."""

    def __repr__(self) -> str:
        return f"<{len(self)} documents>"


@pytest.fixture
def many(place: Place) -> tuple[Place, Docs]:
    docs = Docs()
    for at, value in enumerate(VALUES):
        params = {"a": value} | ({"b": VALUES[-at]} if at % 2 else {})
        labels = {"d": value} if isinstance(value, str) else {}
        docs[at + 1] = keep(place, params, {"c": VALUES[at // 2]} if at % 3 else {}, labels)
    docs[len(docs) + 1] = keep(place, {}, {}, {})
    return place, docs


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(text=QUERIES)
def test_the_index_says_what_the_documents_say(many: tuple[Place, Docs], text: str) -> None:
    place, docs = many
    catalogue = RunCatalogue(Searched(place.project_id, "s", ((place.experiment_id, "frost-alarm"),)))
    try:
        plan, _ = settle(text, catalogue)
    except InvalidInput:
        return
    wanted = [number for number, doc in docs.items() if fits(plan, doc)]
    where = Compiler(catalogue, NO_FINDERS).compile(plan)
    driver = Driving(catalogue, NO_FINDERS).driver(plan)
    order = read_sort("number:asc", catalogue, {})
    left = Compiler(catalogue, NO_FINDERS).compile(unanswered(plan, driver))
    for search in (
        RunSearch(catalogue, where),
        RunSearch(catalogue, where, driver, is_rare(plan)),
        RunSearch(catalogue, where, driver, is_rare(plan), left=left),
    ):
        ids = search.page(order, 0, 100)
        assert [run.number for run in runs.runs_by_ids(ids)] == wanted, text
        assert search.count() == len(wanted)


def test_aggregates_of_metrics(place: Place) -> None:
    import numpy as np

    place.goal(Goal("loss", Direction.LOWER))
    for values in ([1.0, 0.2, 0.5], [3.0, 0.4, 0.4], [math.nan, math.nan, math.nan]):
        run = place.run()
        doc = run_documents.lock_doc(run.run_id)
        steps = np.arange(3)
        doc.stats["loss"] = stats_of(Points(steps, steps, np.array(values)))
        run_documents.save_doc(run, doc, {"loss": Goal("loss", Direction.LOWER)}, values=["loss"])
    assert ask(place, "last(loss) = 0.5") == [1]
    assert ask(place, "min(loss) < 0.3") == [1]
    assert ask(place, "max(loss) >= 1") == [1, 2]
    assert ask(place, "best(loss) in 0.3..0.4") == [2]
    assert ask(place, "first(loss) = 3") == [2]
    assert ask(place, "mean(loss) > 1") == [2]
    assert ask(place, "count(loss) = 3 and not mean(loss) > 1") == [1, 3]
    assert ask(place, "loss is nan") == [3]
    assert ask(place, "", "best(loss):asc") == [1, 2, 3]


def test_reading_documents_is_bounded_and_says_so(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(run_query, "DOCUMENTS_LIMIT", 2)
    for _ in range(3):
        place.run(note="x" * 200)
    with pytest.raises(InvalidInput, match="long texts of note"):
        ask(place, "param:note like x*y")


def test_fields_of_runs(place: Place) -> None:
    first, second, third = (place.run() for _ in range(3))
    runs.rename(first.run_id, "Deep_Trees 100%")
    runs.set_ending(second.run_id, "failed", "boom", second.started_at + timedelta(minutes=5))
    execute("UPDATE run SET parent_uid = %s WHERE run_id = %s", first.uid, third.run_id)
    execute("UPDATE run SET started_at = '2020-06-01 12:00:00' WHERE run_id = %s", third.run_id)
    doc = run_documents.lock_doc(third.run_id)
    doc.code = {"commit": "4f2a9c1e77"}
    doc.add_problem("the disk is full", 1)
    run_documents.save_doc(third, doc, {})
    cases = {
        "name like 'deep*'": [1],
        "name like '*_trees*'": [1],
        "name like '*100%'": [1],
        "name like '*x*'": [],
        "has name": [1],
        "not has name": [2, 3],
        "name != x": [1],
        "not name = x": [1, 2, 3],
        "status = failed": [2],
        "status in {failed, running}": [1, 2, 3],
        "status like f*": [2],
        "duration = 5m": [2],
        "duration in 4m..6m": [2],
        "not duration > 1h": [1, 2, 3],
        "has ended": [2],
        "started = 2020-06-01": [3],
        "started != 2020-06-01": [1, 2],
        "started < 2021-01-01": [3],
        "started in 2020-01..2020-06": [3],
        "started within 1h": [1, 2],
        "started > 2020-06-01T12:00": [1, 2],
        "commit = 4f2a": [3],
        "commit = 1e77": [3],
        "commit = 9c1e": [],
        "commit != 4f2a": [],
        "has commit": [3],
        "problem like '*disk*'": [3],
        "has problem": [3],
        "not has problem": [1, 2],
        f"id = {first.uid.hex()[:8]}": [1],
        f"id = {second.uid.hex()[-12:]}": [2],
        f"id != {third.uid.hex()}": [1, 2],
        "has parent": [3],
        "number in 2..3": [2, 3],
        "number != 2": [1, 3],
        "host = host": [1, 2, 3],
        "host like H*": [1, 2, 3],
        "author like *": [1, 2, 3],
        "not author = nobody": [1, 2, 3],
        "author != nobody": [1, 2, 3],
        "has author": [1, 2, 3],
        "experiment = frost-alarm": [1, 2, 3],
        "experiment like dawn*": [],
        "project = s": [1, 2, 3],
        "not project = s": [],
        "has note": [],
        "note like '*'": [],
        "not note = x": [1, 2, 3],
    }
    for text, numbers in cases.items():
        assert ask(place, text) == numbers, text


def test_labels_commits_and_problems_leave_the_index_with_what_they_said(place: Place) -> None:
    run = place.run()
    doc = run_documents.lock_doc(run.run_id)
    doc.labels = {"purpose": "baseline", "gone": "soon"}
    run_documents.save_doc(run, doc, {})
    assert ask(place, "purpose = baseline and has gone") == [1]
    doc = run_documents.lock_doc(run.run_id)
    doc.labels = {"purpose": "candidate"}
    run_documents.save_doc(run, doc, {})
    assert ask(place, "purpose = baseline or has gone") == []
    assert ask(place, "label:purpose = candidate") == [1]
