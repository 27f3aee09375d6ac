"""A run's document and what is told of its values: what is found by it, what fits a test, what labels become."""

from __future__ import annotations

import json
import math
from typing import Any

import pytest

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.goals import read_goal
from kinetrum.core.base.run_document import Problem, Result, RunDoc, pack, unpack_doc
from kinetrum.core.base.values import LABELS_LIMIT, Value, merged_labels
from kinetrum.core.media import items as said
from kinetrum.core.media.items import Box, make_box, make_classes, read_items
from kinetrum.core.query.matching import holds
from kinetrum.core.query.settled import Equals, HasPlot, Inside, Key, Matches, Nan, Ordered, Present

LOSS = Key("value", "loss")


def test_what_a_run_is_found_by_beside_its_keys() -> None:
    doc = RunDoc(labels={"purpose": "baseline"}, params={"depth": 4, "seed": 1}, code={"commit": "4f2a9c1"})
    doc.problems = [Problem("a", "late", 1), Problem("b", "lost", 2)]
    assert doc.fields()["commit"] == "4f2a9c1"
    assert doc.fields()["problem"] == "late\nlost"
    assert doc.described()["label", "purpose"] == "baseline"
    assert doc.described()["field", "problem"] == "late\nlost"
    assert "commit" not in RunDoc().fields()


def test_replicates_share_a_mark_that_their_seeds_leave_alone() -> None:
    def mark(seeds: tuple[str, ...], **params: Value) -> str:
        return RunDoc(params=params, seeds=seeds).fields()["replicates"]

    assert mark(("seed",), depth=4, seed=1) == mark(("seed",), depth=4, seed=2)
    assert mark(("seed",), depth=4, fold=1) != mark(("seed",), depth=4, fold=2)
    assert mark(("fold",), depth=4, fold=1) == mark(("fold",), depth=4, fold=2)
    assert mark(("fold", "seed"), depth=4, fold=1, seed=3) == mark(("fold", "seed"), depth=4, fold=2, seed=9)


def test_a_problem_is_told_once_however_it_comes_back() -> None:
    doc = RunDoc()
    doc.add_problem("late", 5, "a")
    doc.add_problem("late", 6, "b")
    doc.add_problem("another", 7, "a")
    assert [problem.text for problem in doc.problems] == ["late"]
    doc.add_problem("x" * 9_000, 8)
    assert len(doc.problems[1].text) == 2_000 and doc.problems[1].uid


def test_what_is_indexed_of_a_key() -> None:
    doc = RunDoc(results={"recall": Result(0.9, 1)})
    assert doc.index_values("recall", {}) == {"shown": 0.9}
    assert doc.index_values("nothing", {}) == {}
    assert doc.value("nothing", {}) == (False, None)
    assert doc.values({"recall": read_goal("recall", "higher")}) == {"recall": 0.9}


def test_seeds_of_their_own_come_back_and_usual_ones_take_no_room() -> None:
    usual, own = RunDoc(params={"a": 1}), RunDoc(params={"a": 1}, seeds=("fold",))
    assert unpack_doc(pack(own)).seeds == ("fold",)
    assert unpack_doc(pack(usual)).seeds == ("seed",)
    assert len(pack(usual)) < len(pack(own))


@pytest.mark.parametrize(
    ("test", "fits", "fits_not"),
    [
        (Present(LOSS), [0, "x", None, math.nan], []),
        (Nan(LOSS), [math.nan], [0, "nan", None]),
        (Equals(LOSS, (5,)), [5, 5.0], ["5", True, math.nan, None, 4]),
        (Equals(LOSS, (True,)), [True], [1, "true"]),
        (Equals(LOSS, ("a", 2)), ["a", 2], ["b", 3]),
        (Equals(LOSS, ("a",), negated=True), ["b", 3, None], ["a", math.nan]),
        (Ordered(LOSS, "<", 3), [2, -math.inf], [3, "2", False, math.nan]),
        (Ordered(LOSS, ">=", 3), [3, 4.5, math.inf], [2.99, None]),
        (Inside(LOSS, 1, 2), [1, 1.5, 2], [0.99, 2.01, "1", True, math.nan]),
        (Inside(LOSS, 1, 2, negated=True), [0, 3, "1"], [1, 2, math.nan]),
        (Matches(LOSS, "ha*l?"), ["hail1", "HAll2", "ha\nlx"], ["hail", 3, None]),
        (Matches(LOSS, "a[1]*"), ["a[1]b"], ["a1b"]),
    ],
)
def test_a_value_fits_as_the_index_would_say(test: Any, fits: list[Value], fits_not: list[Value]) -> None:
    assert [value for value in fits if not holds(test, value)] == []
    assert [value for value in fits_not if holds(test, value)] == []


def test_what_is_not_asked_of_values_is_no_test_of_them() -> None:
    with pytest.raises(TypeError, match="HasPlot"):
        holds(HasPlot("roc"), 1)  # type: ignore[arg-type]


def test_a_pattern_with_many_stars_takes_no_time() -> None:
    assert not holds(Matches(LOSS, "*a" * 40 + "b"), "a" * 5_000)


def test_labels_are_merged_and_bounded() -> None:
    assert merged_labels({"a": "1", "b": "2"}, {"b": None, "c": ""}) == {"a": "1", "c": ""}
    full = {f"k{at}": "" for at in range(LABELS_LIMIT)}
    assert len(merged_labels(full, {"k1": "x"})) == LABELS_LIMIT
    with pytest.raises(InvalidInput, match=f"frost-alarm@2 would have over {LABELS_LIMIT} labels"):
        merged_labels(full, {"more": ""}, "frost-alarm@2")
    with pytest.raises(InvalidInput, match="up to 500 characters"):
        merged_labels({}, {"a": "x" * 501})
    with pytest.raises(InvalidInput, match="quotes and control"):
        merged_labels({}, {'a"b': "x"})


def items(*listed: Any, **more: Any) -> str:
    return json.dumps({"format": 1, "items": list(listed), **more})


WRONG_ITEMS: list[tuple[str, str]] = [
    ("{", "is not JSON"),
    ("[" * 100_000, "is not JSON"),
    ("[]", '"format": 1'),
    (items(format=2), '"format": 1'),
    ('{"format": 1, "items": {}}', "list of items"),
    (items("001.png"), r"items\[0\] is an object that names its file"),
    (items({"file": "a.png"}, {"caption": "x"}), r"items\[1\] is an object"),
    (items({"file": "a.png", "boxes": {}}), "boxes and masks in lists"),
    (items({"file": "a.png", "caption": 5}), r"items\[0\]\.caption is a printable text"),
    (items({"file": "a.png", "caption": "x" * 2_001}), "up to 2000"),
    (items({"file": "a.png", "caption": "a\u0007"}), "printable"),
    (items({"file": "a.png", "boxes": [{"x": 1}]}), r"boxes\[0\]\.y is None; a finite number"),
    (items({"file": "a.png", "boxes": [[1, 2, -3, 4]]}), "negative width"),
    (items({"file": "a.png", "boxes": [{"x": 1, "y": 1, "width": 1, "height": 1, "depth": 1}]}), "has 'depth'"),
    (items({"file": "a.png", "boxes": [[1, 2, True, 4]]}), "width is True"),
    (items({"file": "a.png", "masks": ["b.png"]}), r"masks\[0\] is an object that names its file"),
    (items({"file": "a.png", "masks": [{"file": "b.png", "classes": {"x": "sky"}}]}), "by whole numbers"),
    (items({"file": "a.png", "masks": [{"file": "b.png", "classes": {"300": "sky"}}]}), "beyond 0 to 255"),
    (items({"file": "a.png", "masks": [{"file": "b.png", "classes": []}]}), "names up to 256 classes"),
]


@pytest.mark.parametrize(("text", "told"), WRONG_ITEMS)
def test_items_that_are_wrong_say_which_and_why(text: str, told: str) -> None:
    with pytest.raises(InvalidInput, match=told):
        read_items(text)


def test_items_have_bounds_that_say_themselves(monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(TooLarge, match="1001 items; up to 1000 are shown"):
        read_items(items(*({"file": f"{at}.png"} for at in range(1_001))))
    with pytest.raises(TooLarge, match="1001 boxes and 0 masks; up to 1000 and 10 are kept"):
        read_items(items({"file": "a.png", "boxes": [[0, 0, 1, 1]] * 1_001}))
    monkeypatch.setattr(said, "ITEMS_BYTES", 10)
    with pytest.raises(TooLarge, match="over 10 characters"):
        read_items(items())


class Scalar:
    """A number of another library."""

    def item(self) -> float:
        return 2.5


def test_boxes_and_classes_of_other_libraries() -> None:
    assert make_box([1, 2, 3, Scalar(), "cloud", 0.5], "box") == Box(1.0, 2.0, 3.0, 2.5, "cloud", 0.5)
    assert make_box({"x": 0, "y": 0, "width": 0, "height": 0}, "box").score is None
    with pytest.raises(InvalidInput, match=r"box\.score is nan"):
        make_box([0, 0, 1, 1, "", math.nan], "box")
    assert make_classes({"1": "cloud", 2: "sky"}, "classes") == {1: "cloud", 2: "sky"}
