"""The widget of notebooks, drawn by a browser: what is brushed is what the next cell reads."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, expect

import kinetrum
from kinetrum.client.display import notebook
from kinetrum.core.base import errors
from tests.console.test_finding import add
from tests.support.world import Project

SCRIPT = Path(notebook.__file__).with_name("parallel.js")
# What a notebook is to a widget: it keeps traits, and is told of changes.
HOLDER = """async ([code, traits]) => {
  const url = URL.createObjectURL(new Blob([code], {type: 'text/javascript'}))
  const {default: widget} = await import(url)
  window.traits = traits
  widget.render({
    model: {get: (name) => window.traits[name], set: (name, value) => { window.traits[name] = value }, save_changes: () => {}},
    el: document.body,
  })
}"""


@pytest.fixture
def some(recording: Project) -> Project:
    for depth, learner in ((2, "forest"), (4, "boost"), (6, "boost"), (8, 'odd "one"')):
        add(recording, 0.8 + depth / 100, params={"depth": depth, "learner": learner, "seed": depth})
    return recording


def test_brushes_are_read_in_the_next_cell(some: Project, chromium: Browser) -> None:
    table = kinetrum.runs(experiment="frost-alarm", sort="number:asc")
    widget = table.parallel()
    assert [axis["name"] for axis in widget.axes] == [
        'param:"depth"',
        'param:"learner"',
        'metric:"recall"',
        'metric:"loss"',
    ]
    assert (len(widget.selected), widget.query) == (4, "")
    page = chromium.new_page(viewport={"width": 1000, "height": 500})
    page.goto("about:blank")
    page.evaluate(
        HOLDER, [SCRIPT.read_text(), {"axes": widget.axes, "runs": widget.runs, "brushes": {}, "selected": []}]
    )
    expect(page.get_by_role("img", name="Parallel coordinates of 4 runs")).to_be_visible()
    grips = page.locator(".grip")

    def brush(axis: int, low: float, high: float) -> None:
        box = grips.nth(axis).bounding_box()
        assert box
        x = box["x"] + box["width"] / 2
        page.mouse.move(x, box["y"] + box["height"] * (1 - low))
        page.mouse.down()
        page.mouse.move(x, box["y"] + box["height"] * (1 - high), steps=4)
        page.mouse.up()

    brush(0, 0.2, 0.8)
    expect(page.get_by_text("2 of 4 runs pass")).to_be_visible()
    brush(1, 0.0, 0.3)
    traits: dict[str, Any] = page.evaluate("() => window.traits")
    page.close()
    widget.brushes = traits["brushes"]
    assert traits["selected"] == ["frost-alarm/2", "frost-alarm/3"]
    assert 'param:"learner" in {"boost"}' in widget.query
    assert sorted(kinetrum.runs(widget.query, experiment="frost-alarm").references) == traits["selected"]
    widget.brushes = {'param:"learner"': {"names": ['odd "one"']}}
    assert kinetrum.runs(widget.query, experiment="frost-alarm").references == ["frost-alarm/4"]


def test_what_has_no_axes_says_so(some: Project) -> None:
    with pytest.raises(errors.InvalidInput, match="name it"):
        kinetrum.runs(project=some.name).parallel()
    with pytest.raises(errors.InvalidInput):
        kinetrum.runs(experiment="frost-alarm").parallel("nothing")
