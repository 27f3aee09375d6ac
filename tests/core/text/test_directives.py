"""Lines by which a program records."""

from __future__ import annotations

import pytest

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.text.directives import Directive, read_directive


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("kinetrum: set depth=6 learner=forest", Directive("set", {"depth": 6, "learner": "forest"})),
        (
            "  kinetrum: measure step=3 loss=0.31 val/loss=NaN",
            Directive("measure", {"loss": 0.31, "val/loss": "nan"}, None, 3),
        ),
        ("kinetrum: measure loss=1e-3", Directive("measure", {"loss": 0.001})),
        ('kinetrum: result verdict="ready for review"', Directive("result", {"verdict": "ready for review"})),
        ("kinetrum: progress 3/40", Directive("progress", {}, "3/40")),
        (
            "kinetrum: used data/n.csv name=nights role=train",
            Directive("used", {"name": "nights", "role": "train"}, "data/n.csv"),
        ),
        ("kinetrum: generated 'a b.txt' step=4", Directive("generated", {}, "a b.txt", 4)),
        ("say kinetrum: set a=1", None),
        ("kinetrum:set a=1", None),
        ("kinetrum is nice", None),
    ],
)
def test_lines_that_are_read(line: str, said: Directive | None) -> None:
    found = read_directive(line)
    if said and said.values.get("val/loss") == "nan":
        assert found is not None
        value = found.values["val/loss"]
        assert value != value
        return
    assert found == said


@pytest.mark.parametrize(
    ("line", "part"),
    [
        ("kinetrum: fly a=1", "Choose one of: set"),
        ("kinetrum: set", "needs KEY=VALUE"),
        ("kinetrum: set a", "not of the form KEY=VALUE"),
        ("kinetrum: set a=1 a=2", "twice"),
        ("kinetrum: measure step=1.5 loss=2", "whole number"),
        ("kinetrum: progress half", "DONE/TOTAL"),
        ("kinetrum: used name=x", "path first"),
        ("kinetrum: used x colour=red", "takes kind, name, role"),
        ("kinetrum: result a='open", "No closing quotation"),
    ],
)
def test_lines_that_are_wrong_say_so(line: str, part: str) -> None:
    with pytest.raises(InvalidInput, match=part):
        read_directive(line)
