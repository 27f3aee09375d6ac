"""Comparing in the console: is it more than noise, why, trade-offs, and brushes that are the query."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.console.conftest import Watch
from tests.console.test_console import accessible
from tests.console.test_finding import AT, Visit, add, ask, rows
from tests.support.world import Project, new_id


@pytest.fixture
def groups(project: Project) -> Project:
    """Three seeds of depth 6 (runs 1 to 3), three of depth 3 (4 to 6), a boosted one (7) and one without values (8)."""
    for depth, recall in ((6, 0.9), (3, 0.8)):
        for seed in range(3):
            add(project, recall + seed / 500, params={"learner": "forest", "depth": depth, "seed": seed})
    add(
        project,
        0.85,
        params={"learner": "boost", "depth": 1, "seed": 0},
        name="a name that is as long as names of runs get " * 3,
    )
    project.begin(params={"learner": "forest", "depth": 9})
    return project


def lens(page: Page) -> Locator:
    return page.get_by_role("region", name="Lens")


def drawn(page: Page, name: str) -> Locator:
    chart = lens(page).get_by_role("img", name=re.compile(name))
    expect(chart).to_have_attribute("data-drawn", "true")
    return chart


def query_is(page: Page, text: str) -> None:
    expect(page.get_by_role("combobox", name="Which runs")).to_have_value(text)


def test_groups_are_compared_beyond_noise_and_why(visit: Visit, groups: Project) -> None:
    page = visit("/compare?run=frost-alarm/1~1&run=frost-alarm/4~2")
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_contain_text("Run 1 is better than Run 4 on recall (+0.1) and loss (−0.1), beyond noise.")
    expect(page.get_by_text("Means of 3 and 3 runs, paired by seed")).to_be_visible()
    table = page.get_by_role("table", name="Came out differently")
    expect(table.get_by_role("columnheader", name="Run 1 ×3")).to_be_visible()
    row = table.get_by_role("row", name=re.compile("^recall"))
    expect(row).to_contain_text("±0.002")
    expect(row.get_by_role("img", name=re.compile("^better: .* with 95 % confidence"))).to_be_visible()
    expect(
        page.get_by_role("table", name="Set differently").get_by_role("row", name=re.compile("depth"))
    ).to_be_visible()
    expect(page.get_by_text(re.compile("depth: 3 → 6"))).to_be_visible()
    expect(page.get_by_text("is more than the replicates' noise")).to_be_visible()
    accessible(page)
    page.get_by_role("checkbox", name="with replicates").uncheck()
    expect(heading).to_contain_text("noise is unknown")
    assert "each=yes" in page.url
    page.get_by_role("button", name="Swap").click()
    expect(heading).to_contain_text("Run 4 came out worse than Run 1")


def test_many_against_a_baseline(visit: Visit, groups: Project) -> None:
    page = visit("/compare?run=frost-alarm/1~1&run=frost-alarm/4~2&run=frost-alarm/7~3&run=frost-alarm/8~4")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 1 leads on recall")
    page.get_by_label("Baseline").select_option("Run 7")
    row = page.get_by_role("table", name="Came out differently").get_by_role("row", name=re.compile("^recall"))
    expect(row).to_contain_text("+0.052 better")
    expect(row).to_contain_text("−0.048 worse")
    accessible(page)


def test_a_cloud_with_its_trade_off(visit: Visit, groups: Project, tmp_path: Path) -> None:
    page = visit("/e/frost-alarm?lens=scatter")
    chart = drawn(page, "recall by loss, 7 runs")
    expect(lens(page)).to_contain_text("7 runs, 1 without a place")
    lens(page).get_by_label("trade-off").check()
    expect(lens(page)).to_contain_text("1 on the front")
    lens(page).get_by_role("button", name="only these in the table").click()
    expect(rows(page)).to_have_count(1)
    assert "pareto=" in page.url
    accessible(page)
    page.get_by_role("button", name="Show all").click()
    expect(rows(page)).to_have_count(8)
    lens(page).get_by_role("combobox", name="x", exact=True).select_option("depth")
    lens(page).get_by_role("combobox", name="colour").select_option("learner")
    chart = drawn(page, "recall by depth")
    lens(page).get_by_role("button", name=re.compile("Save")).click()
    with page.expect_download() as saved:
        page.get_by_role("menuitem", name="CSV of what is drawn").click()
    saved.value.save_as(tmp_path / "cloud.csv")
    assert (tmp_path / "cloud.csv").read_text().splitlines()[0] == "run,depth,recall,learner"
    lens(page).get_by_role("button", name=re.compile("Save")).click()
    with page.expect_download() as saved:
        page.get_by_role("menuitem", name="SVG").click()
    saved.value.save_as(tmp_path / "cloud.svg")
    assert "recall" in (tmp_path / "cloud.svg").read_text()
    # A mark names its run and opens it.
    lens(page).get_by_label("log x").check()
    chart = drawn(page, "recall by depth")
    box = chart.bounding_box()
    assert box
    for x in range(60, int(box["width"]) - 20, 4):
        page.mouse.move(box["x"] + x, box["y"] + box["height"] / 2)
    ask(page, "depth = 1")
    drawn(page, "recall by depth, 1 run$")


def test_a_field_drawn_in_the_cloud_is_a_query_and_back(visit: Visit, groups: Project) -> None:
    page = visit("/e/frost-alarm?lens=scatter&lx=depth&ly=recall")
    box = drawn(page, "recall by depth, 7 runs").bounding_box()
    assert box
    # From the middle to beyond the right upper corner: depth 6 alone stands there.
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + box["height"] * 0.45)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] - 8, box["y"] + 4, steps=6)
    page.mouse.up()
    expect(page).to_have_url(re.compile("q=depth"))
    asked = page.get_by_role("combobox", name="Which runs").input_value()
    assert re.fullmatch(r"depth in [\d.]+\.\.[\d.]+ and recall in 0\.8\d*\.\.[\d.]+", asked), asked
    expect(rows(page)).to_have_count(3)
    expect(lens(page)).to_contain_text("3 pass the brush of 7 runs")
    ask(page, "depth in 1..3 and not status = failed")
    expect(lens(page)).to_contain_text("4 pass the brush of 7 runs")
    lens(page).get_by_role("button", name="Clear brush").click()
    query_is(page, "not status = failed")


def test_small_multiples_share_their_scales(visit: Visit, groups: Project) -> None:
    page = visit("/e/frost-alarm?lens=scatter&lx=loss&ly=recall")
    lens(page).get_by_role("combobox", name="split by").select_option("learner")
    drawn(page, "recall by loss, learner boost")
    drawn(page, "recall by loss, learner forest")
    expect(lens(page)).to_contain_text("learner forest · 7 runs")
    accessible(page)
    lens(page).get_by_role("button", name="Over runs").click()
    drawn(page, "recall over 7 runs, learner forest")
    lens(page).get_by_role("combobox", name="split by").select_option("none")
    drawn(page, "recall over 7 runs$")


def test_curves_of_each_metric_and_a_higher_lens(visit: Visit, groups: Project) -> None:
    with_curves = groups.begin(params={"depth": 2})
    group = {"keys": ["loss", "val/loss"], "steps": [0, 1], "times": [AT, AT + 1], "values": [[1.0, 0.5], [1.1, 0.7]]}
    groups.service("contributor").call(
        "POST", groups.run_path(with_curves, "points"), params={"batch": new_id()}, json={"groups": [group]}
    )
    page = visit("/e/frost-alarm")
    lens(page).get_by_role("combobox", name="y axis").select_option("each in a chart of its own")
    expect(lens(page).get_by_role("button", name="Save loss")).to_be_visible()
    expect(lens(page).get_by_role("button", name="Save val/loss")).to_be_visible()
    accessible(page)
    lens(page).get_by_role("combobox", name="y axis").select_option("loss")
    edge = page.get_by_role("separator", name="Height of the lens")
    before = lens(page).bounding_box()
    assert before
    edge.hover()
    page.mouse.down()
    box = edge.bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 + 120, steps=4)
    page.mouse.up()
    expect(page).to_have_url(re.compile("taller=120"))
    after = lens(page).bounding_box()
    assert after
    assert after["height"] == pytest.approx(before["height"] + 120, abs=2)
    edge.press("ArrowUp")
    expect(page).to_have_url(re.compile("taller=100"))
    page.reload()
    expect(edge).to_have_attribute("aria-valuenow", "100")
    edge.dblclick()
    expect(page).not_to_have_url(re.compile("taller="))


def test_groups_side_by_side_and_values_over_runs(visit: Visit, groups: Project) -> None:
    page = visit("/e/frost-alarm?lens=spread")
    lens(page).get_by_role("combobox", name="per").select_option("depth")
    drawn(page, "recall per depth, 3 groups")
    lens(page).get_by_role("button", name="Over runs").click()
    drawn(page, "recall over 7 runs")
    expect(lens(page)).to_contain_text("the line is the best so far")
    ask(page, "depth = 9")
    expect(lens(page)).to_contain_text("No run has a number for recall.")
    accessible(page)


def test_a_brush_is_a_term_of_the_query_both_ways(visit: Visit, groups: Project) -> None:
    page = visit("/e/frost-alarm?lens=parallel")
    chart = drawn(page, "Parallel coordinates, 8 lines")
    box = chart.bounding_box()
    assert box
    right, top = box["x"] + box["width"] - 90, box["y"] + 44
    page.mouse.move(right, top - 6)
    page.mouse.down()
    page.mouse.move(right, top + (box["height"] - 62) / 2, steps=6)
    page.mouse.up()
    expect(page).to_have_url(re.compile("q=recall"))
    asked = page.get_by_role("combobox", name="Which runs").input_value()
    assert re.fullmatch(r"recall in 0\.8\d*\.\.0\.9\d*", asked), asked
    expect(lens(page)).to_contain_text(re.compile(r"\d of 8 lines pass 1 brush"))
    expect(rows(page)).not_to_have_count(8)
    # The text moves the brush, and other tests stay beside it.
    ask(page, "recall in 0.89..0.95 and depth in 2..7 and not status = failed")
    expect(lens(page)).to_contain_text("3 of 8 lines pass 2 brushes")
    lens(page).get_by_role("button", name="Clear brushes").click()
    query_is(page, "not status = failed")
    lens(page).get_by_role("combobox", name="axes").select_option("− loss")
    drawn(page, "Parallel coordinates, 8 lines")
    assert "axes=" in page.url
    assert "loss" not in page.url.split("axes=")[1]
    accessible(page)


def test_settled_names_draw_the_same_chart(visit: Visit, groups: Project) -> None:
    page = visit("/e/frost-alarm?lens=scatter&lx=param:depth&ly=metric:recall&split=param:learner")
    drawn(page, "recall by depth, learner forest")
    page.goto(f"/{groups.name}/e/frost-alarm?lens=parallel&axes=param:depth,metric:loss,metric:recall&logs=param:depth")
    drawn(page, "Parallel coordinates, 8 lines")
    expect(lens(page).get_by_role("combobox", name="log")).to_contain_text("1 on log")


def test_effects_lead_to_the_groups(visit: Visit, groups: Project) -> None:
    for depth in (1, 2, 4, 5, 7, 8):
        for learner in ("forest", "boost"):
            add(groups, 0.5 + depth / 20, params={"learner": learner, "depth": depth, "seed": 1})
    page = visit("/e/frost-alarm?lens=effects")
    expect(lens(page)).to_contain_text("different runs recall goes along with depth")
    accessible(page)
    lens(page).get_by_role("table").get_by_role("button", name="depth").click()
    drawn(page, "recall per depth")


def test_a_search_shows_where_it_looked(visit: Visit, project: Project) -> None:
    space = {"space.depth": [2, 4, 6], "budget.runs": 4}
    parent = project.begin(name="search", params=space, goals={"recall": {"direction": "higher"}})
    for depth in (2, 4):
        add(project, 0.8 + depth / 100, params={"depth": depth, "rate": 0.1 * depth}, parent=parent["id"])
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("img", name="recall over 2 runs")).to_have_attribute("data-drawn", "true")
    expect(page.get_by_role("img", name="rate by depth, 2 runs")).to_be_visible()
    table = page.get_by_role("table", name="Space and budget")
    expect(table).to_contain_text("2 of 3 values tried")
    expect(table).to_contain_text("2 of 4 runs begun")
    accessible(page)
    page.goto(f"/{project.name}/compare?run=frost-alarm/1&run=frost-alarm/2")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 1, best of 2 came out better than Run 2")


def test_odd_values_have_no_place_and_say_so(visit: Visit, project: Project, watch: Watch) -> None:
    for at, value in enumerate(({"float": "NaN"}, {"float": "Infinity"}, -1.0, 5.0)):
        run = project.begin(params={"depth": at, "flat": 3})
        body = {"results": [{"id": new_id(), "key": "odd", "value": value, "at": AT}]}
        project.service("contributor").call("POST", project.run_path(run, "results"), json=body)
    page = visit("/e/frost-alarm?lens=scatter")
    expect(lens(page)).to_contain_text("2 runs, 2 without a place")
    lens(page).get_by_label("log y").check()
    expect(lens(page)).to_contain_text("1 run, 3 without a place")
    # One far value does not flatten the others, and is told.
    for at in range(24):
        add(project, 1e6 if at == 0 else 0.5 + at / 100, params={"depth": at % 3})
    page.goto(f"/{project.name}/e/frost-alarm?lens=over")
    expect(lens(page)).to_contain_text("24 runs with a number, 1 outside the scale")
    for kind in ("spread", "over", "parallel", "effects"):
        page.goto(f"/{project.name}/e/frost-alarm?lens={kind}")
        expect(lens(page)).to_be_visible()
    expect(lens(page)).to_contain_text("too few, or too much alike")
