"""What people say of runs in the console: notes, labels, names, goals, corrections, the bin; and charts' choices."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, Route, expect

from tests.console.conftest import Watch
from tests.console.test_console import AT, Visit, accessible, record
from tests.support.world import Project, new_id


@pytest.fixture
def runs(project: Project) -> list[dict[str, Any]]:
    return [record(project, number) for number in (1, 2, 3)]


def test_a_note_in_markdown(visit: Visit, runs: Any, project: Project) -> None:
    page = visit("/e/frost-alarm/1")
    page.get_by_role("button", name="Add a note").click()
    accessible(page)
    page.get_by_label("Text, in Markdown").fill(
        "**hail** in May <img src=x onerror=alert(1)>\n\n- one\n\n[x](javascript:alert(1))"
    )
    page.get_by_role("button", name="Add note").click()
    note = page.get_by_role("article")
    expect(note).to_contain_text("A Contributor")
    expect(note.locator("strong")).to_have_text("hail")
    expect(note.locator("img")).to_have_count(0)
    expect(note.get_by_role("listitem")).to_have_text("one")
    assert "javascript:" not in (note.inner_html())
    expect(page.get_by_role("status").filter(has_text="Noted on frost-alarm/1.")).to_be_visible()
    accessible(page)


def test_notes_on_models_versions_data_and_experiments(visit: Visit, runs: Any, project: Project) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm")

    def add(text: str) -> None:
        page.get_by_role("button", name="Add a note").click()
        page.get_by_label("Text, in Markdown").fill(text)
        page.get_by_role("dialog").get_by_role("button", name="Add note").click()
        expect(page.get_by_role("article").filter(has_text=text)).to_be_visible()

    add("ask Noor first")
    expect(page.get_by_role("table", name="Journal")).to_contain_text("noted on")
    page.goto(f"/{project.name}/models/frost-alarm/1")
    expect(page.get_by_role("button", name="Add a note")).to_be_enabled()
    expect(page.get_by_role("article")).to_have_count(0)
    add("too eager in May")
    accessible(page)
    page.get_by_role("article").get_by_role("button", name="remove").click()
    expect(page.get_by_text("Nobody has noted anything yet.")).to_be_visible()
    page.goto(f"/{project.name}/data/frost-net")
    add("from the first cut")
    page.goto(f"/{project.name}")
    add("read this first")
    page.goto(f"/{project.name}/e/frost-alarm")
    page.get_by_role("button", name="Notes").click()
    add("why we ask")
    accessible(page)
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_who_may_not_note_is_told_why(visit: Visit, project: Project) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm", "viewer")
    button = page.get_by_role("button", name="Add a note")
    expect(button).to_be_disabled()
    expect(button).to_have_attribute("title", re.compile("takes a contributor"))


def test_renamed_labelled_corrected_and_remembered(visit: Visit, runs: Any) -> None:
    page = visit("/e/frost-alarm/2")
    page.get_by_role("button", name="Rename").click()
    page.get_by_label("Name; empty takes it away").fill("the better one")
    page.get_by_role("dialog").get_by_role("button", name="Rename").click()
    expect(page.get_by_text("the better one").first).to_be_visible()
    page.get_by_role("button", name="Label", exact=True).click()
    page.get_by_label("Key").fill("purpose")
    page.get_by_label("Value; empty").fill("candidate")
    page.get_by_role("button", name="Set label").click()
    expect(page.get_by_text("purpose = candidate")).to_be_visible()
    page.get_by_role("button", name="correct depth").click()
    page.get_by_label(re.compile("^Value; numbers")).fill("7")
    page.get_by_label("Why").fill("typed wrongly")
    page.get_by_role("button", name="Correct", exact=True).click()
    expect(page.get_by_role("row", name="depth 7")).to_be_visible()
    history = page.locator("section", has=page.get_by_role("heading", name="History"))
    expect(history.get_by_role("listitem").first).to_contain_text("corrected it: depth 2 → depth 7, “typed wrongly”")
    expect(history.get_by_role("listitem").last).to_contain_text("A Contributor began it")


def test_a_goal_set_on_the_page(visit: Visit, runs: Any) -> None:
    page = visit("/e/frost-alarm/3")
    expect(page.get_by_role("heading", level=1)).to_contain_text("meets 1 of 1 goals")
    page.get_by_role("button", name="change the goal of recall").click()
    accessible(page)
    page.get_by_label("Good enough from").fill("0.95")
    page.get_by_role("button", name="Set goal").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("meets 0 of 1 goals")
    expect(page.get_by_role("row", name=re.compile("recall.*best at step 49")).first).to_contain_text("goal ≥ 0.95")


def test_the_bin_and_the_way_back(visit: Visit, runs: Any, project: Project) -> None:
    page = visit("/e/frost-alarm/1")
    page.get_by_role("button", name="Bin", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("is in the bin")
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Bin", exact=True)).to_be_visible()
    page.goto(f"/{project.name}/e/frost-alarm?sel=1~1,2~2")
    page.get_by_role("button", name="Bin", exact=True).click()
    expect(page.get_by_role("row", name=re.compile("try 1"))).to_have_count(0)
    expect(page.get_by_role("row", name=re.compile("try 3"))).to_be_visible()
    page.goto(f"/{project.name}/bin")
    expect(page.get_by_role("heading", level=1)).to_contain_text("2 runs in the bin")
    accessible(page)
    page.get_by_role("button", name="Restore frost-alarm/1").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 run in the bin")


def test_runs_below_are_taken_along_when_told(visit: Visit, runs: Any, project: Project) -> None:
    parent = project.service("viewer").get(project.path("experiments", "frost-alarm", "runs", "1"))["id"]
    for _ in range(2):
        below = project.begin("below", parent=parent)
        body = {"status": "finished", "reason": None, "ended_at": 1_790_000_001_000_000}
        project.service("contributor").call("POST", project.run_path(below, "ending"), json=body)
    page = visit("/e/frost-alarm/1")
    page.get_by_role("button", name="Bin", exact=True).click()
    expect(page.get_by_text("2 runs below stay.")).to_be_visible()
    page.get_by_role("button", name="Take along").click()
    expect(page.get_by_text("3 runs in the bin; nothing is deleted.")).to_be_visible()
    page.goto(f"/{project.name}/bin")
    expect(page.get_by_role("heading", level=1)).to_contain_text("3 runs in the bin")


def test_nothing_is_offered_that_would_be_refused(visit: Visit, runs: Any) -> None:
    page = visit("/e/frost-alarm/1", role="viewer")
    expect(page.get_by_role("heading", name="History")).to_be_visible()
    for name in ("Bin", "Rename", "Note", "Add a note", "correct depth", "change the goal of recall"):
        expect(page.get_by_role("button", name=name, exact=True)).to_have_count(0)


def test_others_runs_are_described_but_not_binned(visit: Visit, runs: Any) -> None:
    other = visit("/e/frost-alarm/1", role="approver")
    expect(other.get_by_role("button", name="Rename")).to_be_visible()
    expect(other.get_by_role("button", name="Bin", exact=True)).to_have_count(0)


def test_children_of_a_search(visit: Visit, project: Project) -> None:
    parent = project.begin(name="search")
    for depth in (2, 3):
        child = project.begin(
            parent=parent["id"], params={"depth": depth, "same": 1}, goals={"recall": {"direction": "higher"}}
        )
        body = {"results": [{"id": new_id(), "key": "recall", "value": 0.5 + depth / 10, "at": AT}]}
        project.service("contributor").call("POST", project.run_path(child, "results"), json=body)
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("heading", level=1)).to_contain_text("groups 2 runs; 3 leads on recall: 0.8")
    table = page.get_by_role("table", name="Children")
    expect(table.get_by_role("columnheader")).to_have_text(["Run", "Status", "recall ↑", "depth"])
    table.get_by_role("link", name="frost-alarm/2").click()
    expect(page).to_have_url(re.compile("/e/frost-alarm/2$"))


@pytest.fixture
def curves(visit: Visit, project: Project) -> Page:
    begun = project.begin(goals={"recall": {"direction": "higher"}})
    steps = list(range(200))
    group = {
        "keys": ["recall", "val/loss", "val/area"],
        "steps": steps,
        "times": [AT + 1_000_000 * step for step in steps],
        "values": [[step / 200 for step in steps], [1 / (step + 1) for step in steps], [step % 7 for step in steps]],
    }
    project.service("contributor").call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]}
    )
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("img", name="recall of frost-alarm/1 by step")).to_be_visible()
    return page


def test_a_filter_of_metrics(curves: Page) -> None:
    field = curves.get_by_label("Filter metrics by glob or /regular expression/")
    field.fill("val/*")
    expect(curves.locator("figure")).to_have_count(2)
    field.fill("/loss$/")
    expect(curves.locator("figure")).to_have_count(1)
    assert "only=" in curves.url
    field.fill("/(/")
    expect(field).to_have_attribute("aria-invalid", "true")
    expect(curves.locator("figure")).to_have_count(3)
    field.fill("nothing")
    expect(curves.get_by_text("None of 3 metrics fits this filter.")).to_be_visible()
    curves.get_by_role("button", name="Reset").click()
    expect(curves.locator("figure")).to_have_count(3)
    accessible(curves)


def test_zoom_is_part_of_the_address_and_asks_for_finer_data(curves: Page) -> None:
    chart = curves.locator("figure").first.locator(".u-over")
    box = chart.bounding_box()
    assert box is not None
    with curves.expect_response(lambda answer: "first_step" in answer.url):
        curves.mouse.move(box["x"] + box["width"] * 0.25, box["y"] + 20)
        curves.mouse.down()
        curves.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 30, steps=5)
        curves.mouse.up()
    found = re.search(r"zoom=([\d.]+)\.\.([\d.]+)", curves.url)
    assert found is not None
    low, high = float(found[1]), float(found[2])
    assert 40 < low < 60
    assert 90 < high < 110
    curves.reload()
    expect(curves.locator("figure")).to_have_count(3)
    assert "zoom=" in curves.url
    curves.locator("figure").first.locator(".u-over").dblclick()
    expect(curves).not_to_have_url(re.compile("zoom="))


def test_another_metric_on_the_x_axis(curves: Page) -> None:
    with curves.expect_response(lambda answer: "against=val" in answer.url):
        curves.get_by_label("x axis").select_option("metric:val/loss")
    expect(curves.get_by_role("img", name="recall of frost-alarm/1 by val/loss")).to_be_visible()
    for axis in ("elapsed", "clock", "step"):
        curves.get_by_label("x axis").select_option(axis)
        expect(curves.get_by_role("img", name=f"recall of frost-alarm/1 by {axis}")).to_be_visible()


def test_a_chart_is_not_saved_before_it_is_drawn(curves: Page) -> None:
    held: list[Route] = []
    holding = True

    def hold(route: Route) -> None:
        if holding:
            held.append(route)
        else:
            route.continue_()

    curves.route("**/curves?*", hold)
    with curves.expect_request("**/curves?*"):
        curves.reload(wait_until="commit")
    save = curves.get_by_role("button", name="Save recall")
    expect(save).to_be_disabled()
    holding = False
    for route in held:
        route.continue_()
    expect(save).to_be_enabled()


@pytest.mark.parametrize("form", ["PNG", "SVG", "CSV, every point"])
def test_a_chart_taken_along(curves: Page, form: str, tmp_path: Path) -> None:
    curves.get_by_role("button", name="Save recall").click()
    with curves.expect_download() as waiting:
        curves.get_by_role("menuitem", name=form).click()
    path = tmp_path / "chart"
    waiting.value.save_as(path)
    content = path.read_bytes()
    if form == "PNG":
        assert content[:8] == b"\x89PNG\r\n\x1a\n"
        assert len(content) > 2_000
    elif form == "SVG":
        assert content.startswith(b"<svg ")
        assert content.count(b"<path ") == 1
        assert b"recall of frost-alarm/1 by step" in content
    else:
        rows = list(csv.DictReader(io.StringIO(content.decode())))
        assert len(rows) == 200
        assert rows[3]["value"] == "0.015"


@pytest.mark.soak
def test_a_run_with_hundreds_of_metrics(visit: Visit, project: Project) -> None:
    begun = project.begin(
        params={f"setting-{number}": number for number in range(90)}, goals={"m-299": {"direction": "higher"}}
    )
    keys = [f"m-{number}" for number in range(300)]
    group = {
        "keys": keys,
        "steps": [0, 1],
        "times": [AT, AT + 1],
        "values": [[number, number + 1] for number in range(300)],
    }
    project.service("contributor").call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]}
    )
    page = visit("/e/frost-alarm/1")
    expect(page.locator("figure")).to_have_count(12)
    page.get_by_role("button", name="Show 260 more results").click()
    expect(page.get_by_role("row", name=re.compile("^m-150 "))).to_be_visible()
    page.get_by_role("button", name="Show 30 more settings").click()
    expect(page.get_by_role("row", name=re.compile("setting-89 89"))).to_be_visible()
    page.get_by_label("Filter metrics by glob or /regular expression/").fill("m-29?")
    expect(page.locator("figure")).to_have_count(10)
    accessible(page)
    page.goto(f"/{project.name}/e/frost-alarm")
    expect(page.get_by_role("button", name=re.compile("^Columns"))).to_contain_text("240 more hidden")
    expect(page.get_by_role("columnheader", name=re.compile("m-299"))).to_be_visible()


def test_an_experiment_takes_another_name(visit: Visit, runs: Any, project: Project, watch: Watch) -> None:
    page = visit("")
    page.get_by_role("button", name="Describe frost-alarm").click()
    dialog = page.get_by_role("dialog")
    accessible(page)
    name = dialog.get_by_label("Name; the one that it has goes on leading here")
    expect(name).to_have_value("frost-alarm")
    watch.allowed.add(422)
    name.fill("No Name")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("cannot name an experiment")
    name.fill("frost-bell")
    dialog.get_by_label("Runs that are begun without a name get a generated one").uncheck()
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_role("link", name="frost-bell", exact=True).first).to_be_visible()
    experiment = project.service().get(project.path("experiments", "frost-alarm"))
    assert (experiment["name"], experiment["generates_names"]) == ("frost-bell", False)
    # An address that was written down before leads there still.
    page.goto(f"/{project.name}/e/frost-alarm/2")
    expect(page.get_by_role("heading", level=1)).to_contain_text("2")


def test_a_model_takes_another_name_and_goes_into_the_bin(visit: Visit, project: Project) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm", "maintainer")
    page.get_by_role("button", name="Describe").click()
    page.get_by_label("Name; the one that it has goes on leading here").fill("siren")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    page.wait_for_url(f"**/{project.name}/models/siren")
    page.get_by_role("button", name="Bin …").click()
    accessible(page)
    page.get_by_role("dialog").get_by_role("button", name="Put into the bin").click()
    expect(page.get_by_role("status").filter(has_text="siren is in the bin.")).to_be_visible()
    page.wait_for_url(f"**/{project.name}/models")
    expect(page.get_by_role("link", name="siren")).to_have_count(0)
    page.goto(f"/{project.name}/bin")
    expect(page.get_by_text("1 model in the bin")).to_be_visible()
    accessible(page)
    page.get_by_role("link", name="model:siren").click()
    expect(page.get_by_text("in the bin since")).to_be_visible()
    page.get_by_role("button", name="Restore").click()
    expect(page.get_by_text("in the bin since")).to_have_count(0)
    assert project.service().get(project.path("models"))["count"] == 1
