"""Documents and their index: filtering and sorting agree with what the documents say."""

import math
import secrets

import pytest

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Direction, Goal
from kinetrum.core.base.run_document import Result
from kinetrum.core.query.check import settle
from kinetrum.core.query.sorting import read_sort
from kinetrum.storage.runs import run_documents, runs
from kinetrum.storage.search.run_catalogue import RunCatalogue, Searched
from kinetrum.storage.search.run_query import Compiler, Finders
from kinetrum.storage.search.run_search import RunSearch
from tests.storage.conftest import Place

NO_FINDERS = Finders(lambda _: b"", lambda _: [])


def search_in(place: Place, text: str = "") -> tuple[RunSearch, RunCatalogue]:
    catalogue = RunCatalogue(Searched(place.project_id, "s", ((place.experiment_id, "frost-alarm"),)))
    plan, _ = settle(text, catalogue)
    return RunSearch(catalogue, Compiler(catalogue, NO_FINDERS).compile(plan)), catalogue


def ask(place: Place, text: str, sort: str = "number:asc") -> list[int]:
    search, catalogue = search_in(place, text)
    ids = search.page(read_sort(sort, catalogue, {}), 0, 100)
    assert search.count() == len(ids)
    return [run.number for run in runs.runs_by_ids(ids)]


def give(place: Place, run: runs.Run, **values: object) -> None:
    doc = run_documents.lock_doc(run.run_id)
    for key, value in values.items():
        doc.results[key] = Result(value, 1)  # type: ignore[arg-type]
    run_documents.save_doc(run, doc, {}, values=values)


@pytest.fixture
def some(place: Place) -> Place:
    place.run(depth=5, learner="forest", early=True, big=2**53 + 1)
    place.run(depth=5.0, learner="boost", early=False, big=2**53)
    place.run(depth=8, learner="x" * 200, early=1, note="true")
    place.run()
    return place


@pytest.mark.parametrize(
    ("text", "numbers"),
    [
        ("depth = 5", [1, 2]),
        ("depth >= 5", [1, 2, 3]),
        ("depth < 8", [1, 2]),
        ("depth != 5", [3]),
        ("learner = forest", [1]),
        ("learner != forest", [2, 3]),
        (f"learner = {'x' * 200}", [3]),
        (f"learner = {'x' * 199}", []),
        ("early = true", [1]),
        ("early = 1", [3]),
        ("early != true", [2, 3]),
        ("param:note = 'true'", [3]),
        ("param:note = true", [3]),
        (f"big = {2**53 + 1}", [1]),
        (f"big = {2**53}", [2]),
        ("param:depth = 8", [3]),
        ("status = running", [1, 2, 3, 4]),
        ("number > 2", [3, 4]),
        ("host = host", [1, 2, 3, 4]),
    ],
)
def test_conditions(some: Place, text: str, numbers: list[int]) -> None:
    assert ask(some, text) == numbers


def test_unknown_names_are_told_with_the_nearest(some: Place) -> None:
    with pytest.raises(InvalidInput, match="depth"):
        ask(some, "dept = 5")
    with pytest.raises(InvalidInput):
        ask(some, "metric:depth = 5")
    with pytest.raises(InvalidInput):
        ask(some, "number = x")
    with pytest.raises(InvalidInput):
        ask(some, "status > running")


def test_sorting_puts_missing_and_nan_last(place: Place) -> None:
    made = [place.run() for _ in range(6)]
    for run, value in zip(made, [0.5, math.nan, 0.9, None, math.inf, -math.inf], strict=True):
        if value is not None:
            give(place, run, recall=value)
    up, down = "recall:asc", "recall:desc"
    assert ask(place, "", down) == [5, 3, 1, 6, 4, 2]
    assert ask(place, "", up) == [6, 1, 3, 5, 4, 2]
    assert ask(place, "recall >= 0.5", down) == [5, 3, 1]
    assert ask(place, "recall < 0.6", up) == [6, 1]
    assert ask(place, "recall != 0.5") == [3, 5, 6]


def test_pages_do_not_overlap(place: Place) -> None:
    for number in range(25):
        run = place.run()
        if number % 3:
            give(place, run, recall=number % 5)
    search, catalogue = search_in(place)
    sort = read_sort("recall", catalogue, {})
    whole = search.page(sort, 0, 100)
    pages = [search.page(sort, at, 7) for at in range(0, 28, 7)]
    assert [run_id for page in pages for run_id in page] == whole
    assert len(set(whole)) == 25


def test_several_sort_keys_and_texts(place: Place) -> None:
    for learner, depth in (("forest", 2), ("boost", 3), ("boost", 1), ("forest", 1)):
        place.run(learner=learner, depth=depth)
    assert ask(place, "", "learner:asc,depth") == [2, 3, 1, 4]


def test_the_index_follows_the_document(place: Place) -> None:
    run = place.run()
    give(place, run, recall=0.5)
    assert ask(place, "recall = 0.5") == [1]
    give(place, run, recall="ready")
    assert ask(place, "recall = 0.5") == []
    assert ask(place, "recall = ready") == [1]
    give(place, run, recall=math.nan)
    assert ask(place, "recall = ready") == []
    assert ask(place, "recall != ready") == [1] or ask(place, "recall != ready") == []


def test_best_and_last(place: Place) -> None:
    place.goal(Goal("recall", Direction.HIGHER))
    for value in (0.5, 0.9, 0.7):
        give(place, place.run(), recall=value)
    assert runs.best_run(place.project_id, place.experiment_id, "recall", True) is None
    for number in (1, 3):
        run = runs.run_by_number(place.experiment_id, number)
        assert run is not None
        runs.set_ending(run.run_id, "finished", None, run.started_at)
    best = runs.best_run(place.project_id, place.experiment_id, "recall", True)
    assert best is not None
    assert best.number == 3
    last = runs.last_run(place.experiment_id)
    assert last is not None
    assert last.number == 3


def test_lost_runs_come_back(place: Place) -> None:
    from datetime import timedelta

    from kinetrum.storage.db.database import execute

    run = place.run()
    execute("UPDATE run SET last_sign_at = %s WHERE run_id = %s", run.last_sign_at - timedelta(seconds=90), run.run_id)
    assert run.run_id in runs.silent_runs()
    assert runs.mark_lost(run.run_id)
    assert not runs.mark_lost(run.run_id)
    lost = runs.run_by_id(run.run_id)
    assert lost.status == "lost"
    assert "60 s" in (lost.reason or "")
    runs.sign_of_life(run.run_id)
    back = runs.run_by_id(run.run_id)
    assert (back.status, back.reason, back.ended_at) == ("running", None, None)


def test_runs_by_tail(place: Place) -> None:
    run = place.run()
    assert [found.run_id for found in runs.runs_by_tail([place.project_id], run.uid.hex()[-12:])] == [run.run_id]
    assert runs.runs_by_tail([], run.uid.hex()) == []
    assert runs.runs_by_tail([place.project_id], secrets.token_hex(8)) == []
