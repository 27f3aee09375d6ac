"""Goals, conditions, comparisons, manifests, documents, index forms."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import Direction, Goal, aggregate_value, read_goal, shown_value
from kinetrum.core.base.manifests import FileEntry, check_manifest, check_path, digest_of
from kinetrum.core.base.run_document import Link, Problem, Result, RunDoc, pack, unpack_doc
from kinetrum.core.base.values import same
from kinetrum.core.compare import RunFacts, compare_runs
from kinetrum.core.points.columns import points_of
from kinetrum.core.points.stats import stats_of
from kinetrum.core.query.indexing import index_forms
from kinetrum.core.rows.condition import parse_condition
from kinetrum.core.text.numbers import signed

HIGHER, LOWER = Goal("recall", Direction.HIGHER), Goal("loss", Direction.LOWER)


@pytest.mark.parametrize(
    ("text", "goal"),
    [
        ("higher", Goal("k", Direction.HIGHER)),
        ("lower", Goal("k", Direction.LOWER)),
        ("higher >= 0.9", Goal("k", Direction.HIGHER, bound=0.9)),
        ("lower <= 8 %", Goal("k", Direction.LOWER, "%", 8.0)),
        ("lower s", Goal("k", Direction.LOWER, "s")),
        ({"direction": "higher", "aggregate": "last", "unit": "°C"}, Goal("k", Direction.HIGHER, "°C", None, "last")),
    ],
)
def test_goals_are_read(text: object, goal: Goal) -> None:
    assert read_goal("k", text) == goal


@pytest.mark.parametrize(
    "text",
    [
        "",
        "up",
        "higher <= 3",
        "lower >= 3",
        "higher >=",
        "higher >= x",
        3,
        {},
        {"direction": "higher", "x": 1},
        {"direction": "higher", "aggregate": "median"},
        {"direction": "higher", "bound": math.inf},
        "lower " + "u" * 21,
    ],
)
def test_wrong_goals_are_refused(text: object) -> None:
    with pytest.raises(InvalidInput):
        read_goal("k", text)


def test_goals_judge_values() -> None:
    bound = Goal("recall", Direction.HIGHER, bound=0.9)
    assert bound.met_by(0.9) is True
    assert bound.met_by(0.89) is False
    assert bound.met_by(math.nan) is None
    assert HIGHER.met_by(1.0) is None
    assert Goal("x", Direction.LOWER, bound=8).met_by(8.1) is False


def test_what_stands_for_a_metric() -> None:
    stats = stats_of(points_of([0, 1, 2], [0, 0, 0], [3.0, 1.0, 2.0]))
    assert shown_value(stats, None) == 2.0
    assert shown_value(stats, LOWER) == 1.0
    assert shown_value(stats, HIGHER) == 3.0
    assert shown_value(stats, Goal("x", Direction.LOWER, aggregate="first")) == 3.0
    assert aggregate_value(stats, "mean", None) == 2.0
    assert aggregate_value(stats, "count", None) == 3.0


@pytest.mark.parametrize(
    ("text", "name", "operator", "value", "scope"),
    [
        ("recall >= 0.9", "recall", ">=", 0.9, None),
        ("depth=5", "depth", "=", 5, None),
        ("param:learner = forest", "learner", "=", "forest", "param"),
        ('name = "a b"', "name", "=", "a b", None),
        ("'val loss' < -1e3", "val loss", "<", -1000.0, None),
        ("early != true", "early", "!=", True, None),
        ("x = null", "x", "=", None, None),
        ("metric:val/loss<0.2", "val/loss", "<", 0.2, "metric"),
        ("x = 'true'", "x", "=", "true", None),
        ("x = nan", "x", "=", "nan", None),
    ],
)
def test_conditions(text: str, name: str, operator: str, value: object, scope: str | None) -> None:
    found = parse_condition(text)
    assert found is not None
    assert (found.name, found.operator, found.scope) == (name, operator, scope)
    assert same(found.value, value)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    "text", ["recall", "recall >=", ">= 3", "a = 1 and b = 2", "x ~ 3", "tag:x = 1", "x > y", "x < true"]
)
def test_unreadable_conditions_name_a_column(text: str) -> None:
    with pytest.raises(InvalidInput, match="Column"):
        parse_condition(text)


@given(st.text(max_size=30))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        parse_condition(text)
    except InvalidInput:
        pass


def facts(reference: str, params: dict, values: dict, **more: object) -> RunFacts:
    return RunFacts(reference, f"Run {reference[-1]}", "e", "finished", params, values, **more)  # type: ignore[arg-type]


def test_comparison_of_two() -> None:
    found = compare_runs(
        [
            facts(
                "e/1",
                {"depth": 6, "rate": 0.1},
                {"recall": 0.91, "loss": 0.2, "note": "a"},
                inputs={"nights": "nights@4"},
            ),
            facts(
                "e/2",
                {"depth": 6.0, "rate": 0.2, "new": None},
                {"recall": 0.88, "loss": 0.3, "note": "a"},
                inputs={"nights": "nights@3"},
            ),
        ],
        {"recall": HIGHER, "loss": LOWER},
    )
    assert [row.key for row in found.settings] == ["rate", "new"]
    assert found.settings[1].present == [False, True]
    assert found.settings_equal == 1
    assert found.inputs[0].values == ["nights@4", "nights@3"]
    recall, loss = found.outcomes
    assert (recall.key, recall.verdict, recall.best) == ("recall", "better", [True, False])
    assert recall.change == pytest.approx(0.03)
    assert recall.change_share == pytest.approx(0.03 / 0.88)
    assert loss.verdict == "better"
    assert found.outcomes_equal == 1
    assert found.headline.finding == "Run 1 came out better than Run 2"
    assert "+0.03" in found.headline.rest
    assert "One run each" in found.headline.reason


def test_the_baseline_turns_the_change_around() -> None:
    runs = [facts("e/1", {}, {"recall": 0.9}), facts("e/2", {}, {"recall": 0.8})]
    assert compare_runs(runs, {"recall": HIGHER}, baseline=0).outcomes[0].change == pytest.approx(-0.1)
    assert compare_runs(runs, {"recall": HIGHER}, baseline=0).outcomes[0].verdict == "worse"
    assert compare_runs(runs, {"recall": HIGHER}, baseline=1).outcomes[0].verdict == "better"


def test_mixed_and_equal_verdicts_are_said() -> None:
    goals = {"recall": HIGHER, "loss": LOWER}
    mixed = compare_runs(
        [facts("e/1", {}, {"recall": 0.9, "loss": 0.5}), facts("e/2", {}, {"recall": 0.8, "loss": 0.4})], goals
    )
    assert mixed.headline.finding.startswith("Run 1 came out better on recall")
    assert "worse on loss" in mixed.headline.rest
    equal = compare_runs([facts("e/1", {"a": 1}, {"recall": 0.9}), facts("e/2", {"a": 2}, {"recall": 0.9})], goals)
    assert equal.headline.finding == "Nothing came out differently"
    no_goal = compare_runs([facts("e/1", {}, {"x": 1.0}), facts("e/2", {}, {"x": 2.0})], {})
    assert no_goal.outcomes[0].verdict is None
    assert "No goal" in no_goal.headline.reason


def test_nan_and_missing_values_are_never_better() -> None:
    runs = [facts("e/1", {}, {"recall": math.nan}), facts("e/2", {}, {"recall": 0.5}), facts("e/3", {}, {})]
    row = compare_runs(runs, {"recall": HIGHER}).outcomes[0]
    assert row.verdict is None
    assert row.best == [False, False, False]
    assert row.present == [True, True, False]


def test_many_runs_have_a_leader() -> None:
    runs = [facts(f"e/{n}", {}, {"recall": n / 10, "loss": n / 10}) for n in range(1, 5)]
    found = compare_runs(runs, {"recall": HIGHER, "loss": LOWER})
    assert found.headline.finding == "Run 4 leads on recall: 0.4"
    assert "Run 1 best on loss" in found.headline.rest


@pytest.mark.parametrize("count", [0, 1, 101])
def test_too_few_or_many_runs(count: int) -> None:
    with pytest.raises(InvalidInput):
        compare_runs([facts(f"e/{n}", {}, {}) for n in range(count)], {})


def test_a_run_is_not_compared_with_itself() -> None:
    with pytest.raises(InvalidInput, match="twice"):
        compare_runs([facts("e/1", {}, {}), facts("e/1", {}, {})], {})
    with pytest.raises(InvalidInput, match="baseline"):
        compare_runs([facts("e/1", {}, {}), facts("e/2", {}, {})], {}, baseline=2)


@pytest.mark.parametrize(
    ("change", "text"), [(0.031, "+0.031"), (-0.7, "−0.7"), (0.0, "±0"), (1234.5, "+1,234"), (1e-9, "+1e-09")]
)
def test_signed(change: float, text: str) -> None:
    assert signed(change) == text


A, B = "a" * 64, "b" * 64


@pytest.mark.parametrize(
    "path", ["", "/etc/passwd", "../x", "a/../b", "a//b", "./a", "a\\b", "a\nb", "x/", "é" * 600, None]
)
def test_paths_that_climb_or_confuse_are_refused(path: object) -> None:
    with pytest.raises(InvalidInput):
        check_path(path)


def test_manifests_are_sorted_and_checked() -> None:
    files = [FileEntry("b.csv", 2, B), FileEntry("a/x.csv", 1, A)]
    assert [entry.path for entry in check_manifest(files)] == ["a/x.csv", "b.csv"]
    for wrong in (
        [],
        [files[0], files[0]],
        [FileEntry("a", 1, A), FileEntry("a/b", 1, A)],
        [FileEntry("a", -1, A)],
        [FileEntry("a", 1, "A" * 64)],
        [FileEntry("a", 1, "a" * 63)],
    ):
        with pytest.raises(InvalidInput):
            check_manifest(wrong)


def test_the_digest_depends_on_path_size_and_content_alone() -> None:
    files = [FileEntry("b", 2, B), FileEntry("a", 1, A)]
    assert digest_of(files) == digest_of(files[::-1])
    different = {
        digest_of([FileEntry("a", 1, A)]),
        digest_of([FileEntry("b", 1, A)]),
        digest_of([FileEntry("a", 2, A)]),
        digest_of([FileEntry("a", 1, B)]),
    }
    assert len(different) == 4


def test_a_document_comes_back() -> None:
    stats = stats_of(points_of([0, 5], [1, 2], [1.0, math.nan]))
    doc = RunDoc(
        params={"depth": 6, "x": math.nan, "l": [1, None]},
        results={"recall": Result(0.9, 5), "v": Result("ok", 6)},
        stats={"loss": stats},
        sketches={"loss": [(0, 1.0), (5, math.nan)]},
        used=[Link("nights", 3, A, "train")],
        generated=[Link("net", 1, B, None, 7, "model")],
        problems=[Problem("u", "text", 9)],
        labels={"a": "b"},
        about={"python": "3.11"},
    )
    back = unpack_doc(pack(doc))
    assert back.results == doc.results
    assert back.used == doc.used
    assert back.generated == doc.generated
    assert back.problems == doc.problems
    assert (back.labels, back.about) == (doc.labels, doc.about)
    assert same(back.params["x"], math.nan)
    assert back.stats["loss"].pack() == stats.pack()
    assert math.isnan(back.sketches["loss"][1][1])


def test_a_result_stands_before_the_metric_of_its_key() -> None:
    stats = stats_of(points_of([0, 1], [0, 0], [0.5, 0.7]))
    doc = RunDoc(stats={"recall": stats, "loss": stats})
    assert doc.values({"recall": HIGHER}) == {"recall": 0.7, "loss": 0.7}
    doc.results["recall"] = Result("ready", 1)
    assert doc.values({"recall": HIGHER})["recall"] == "ready"
    assert doc.value("other", {}) == (False, None)
    assert doc.index_values("loss", {}) == {"shown": 0.7, "last": 0.7, "min": 0.5, "max": 0.7}


@pytest.mark.parametrize(
    ("value", "forms"),
    [
        (5, (5.0, None)),
        (0.5, (0.5, None)),
        (True, (None, "\x01true")),
        (None, (None, "\x01null")),
        ("abc", (None, "abc")),
        (math.nan, (None, "\x01NaN")),
        (2**53 - 1, (float(2**53 - 1), None)),
        (2**53 + 1, (float(2**53), f"\x03{2**53 + 1}")),
    ],
)
def test_index_forms(value: object, forms: tuple) -> None:
    assert index_forms(value) == forms  # type: ignore[arg-type]


def test_long_texts_and_lists_are_equal_exactly_where_they_are() -> None:
    long = "x" * 121
    assert index_forms(long) == index_forms("x" * 121)
    assert index_forms(long) != index_forms("x" * 122)
    assert len(index_forms(long)[1] or "") <= 120
    assert index_forms([1, 2]) != index_forms("[1, 2]")
    assert index_forms("\x01true") != index_forms(True)
    assert index_forms(10**400)[0] == pytest.approx(1.79e308, rel=0.01)
