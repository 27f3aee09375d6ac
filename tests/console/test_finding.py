"""Finding in the console, by mouse and keyboard: queries, columns, groups, views, links, the palette, long tables."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Locator, Page, Route, expect

from tests.console.conftest import Watch
from tests.console.test_console import accessible
from tests.support.world import Project, new_id

Visit = Callable[..., Page]
AT = 1_790_000_000_000_000


def add(project: Project, recall: float, **fields: Any) -> dict[str, Any]:
    goals = {"recall": {"direction": "higher"}, "loss": {"direction": "lower"}}
    begun = project.begin(goals=goals, **fields)
    service = project.service("contributor")
    results = [
        {"id": new_id(), "key": key, "value": value, "at": AT}
        for key, value in (("recall", recall), ("loss", 1 - recall))
    ]
    service.call("POST", project.run_path(begun, "results"), json={"results": results})
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 90_000_000})
    return begun


@pytest.fixture
def some(project: Project) -> Project:
    for seed in range(3):
        add(
            project,
            0.9 + seed / 100,
            name=f"deep {seed}",
            params={"learner": "forest", "depth": 9, "seed": seed, "fixed": 1},
        )
    add(
        project,
        0.8,
        name="shallow",
        params={"learner": "boost", "depth": 2, "seed": 0, "fixed": 1},
        labels={"purpose": "baseline"},
    )
    return project


def rows(page: Page) -> Locator:
    return page.get_by_role("treegrid", name="Runs").get_by_role("rowgroup").nth(1).get_by_role("row")


def heads(page: Page, *names: str) -> None:
    found = page.get_by_role("treegrid", name="Runs").get_by_role("columnheader")
    expect(found).to_have_text([re.compile("^" + re.escape(name)) for name in ("Run", "Started", *names)])


def ask(page: Page, query: str) -> None:
    field = page.get_by_role("combobox", name="Which runs")
    field.fill(query)
    field.press("Escape")
    field.press("Enter")


def test_a_query_is_asked_and_wrong_ones_are_answered(visit: Visit, some: Project, watch: Watch) -> None:
    page = visit("/e/frost-alarm")
    ask(page, "depth >= 3 and recall < 0.92")
    expect(rows(page)).to_have_count(2)
    assert "q=depth" in page.url
    watch.allowed.add(422)
    ask(page, "depth >= 3 and dept = 2")
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("Column 16")
    expect(alert).to_contain_text("Nearest: depth")
    # What was found before stays, so that one sees what is being narrowed.
    expect(rows(page)).to_have_count(2)
    accessible(page)
    ask(page, "depth = 77")
    expect(page.get_by_text("No run fits this question.")).to_be_visible()
    page.get_by_role("button", name="Show all").click()
    expect(rows(page)).to_have_count(4)
    page.go_back()
    expect(page.get_by_text("No run fits this question.")).to_be_visible()


def test_a_query_is_completed_by_keyboard_and_mouse(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    field = page.get_by_role("combobox", name="Which runs")
    field.click()
    field.press_sequentially("lear")
    option = page.get_by_role("option", name="learner")
    expect(option).to_be_visible()
    accessible(page)
    field.press("ArrowDown")
    expect(option).to_have_attribute("aria-selected", "true")
    field.press("Enter")
    expect(field).to_have_value("learner ")
    field.press_sequentially("= ")
    page.get_by_role("option", name="boost 1 run").click()
    expect(field).to_have_value("learner = boost ")
    expect(page.get_by_role("option", name="and")).to_be_visible()
    field.press("Escape")
    expect(page.get_by_role("listbox")).to_have_count(0)
    field.press("Enter")
    expect(rows(page)).to_have_count(1)


def test_offers_for_an_earlier_text_are_not_taken(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    field = page.get_by_role("combobox", name="Which runs")
    field.click()
    field.press_sequentially("learner =")
    option = page.get_by_role("option", name="boost 1 run")
    expect(option).to_be_visible()
    waiting: list[Route] = []
    page.route("**/offers?**", lambda route: waiting.append(route))  # noqa: PLW0108 - Playwright marks its handlers
    with page.expect_request("**/offers?**"):
        field.press_sequentially(" ")
    expect(page.get_by_role("option")).to_have_count(0)
    for route in waiting:
        route.continue_()
    option.click()
    expect(field).to_have_value("learner = boost ")


def test_values_are_filtered_from_what_there_is(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    page.get_by_role("button", name="Filter", exact=True).click()
    page.get_by_role("button", name="depth 2 to 9").click()
    expect(page.get_by_text("depth: 4 of 4 runs have it.")).to_be_visible()
    accessible(page)
    page.get_by_label("from").fill("5")
    page.get_by_role("button", name="In this range").click()
    expect(rows(page)).to_have_count(3)
    assert "param%3Adepth+in+5..9" in page.url
    page.get_by_role("button", name="Filter", exact=True).click()
    page.get_by_role("button", name="name of the run").click()
    page.get_by_role("button", name="deep 1").click()
    expect(rows(page)).to_have_count(1)
    expect(page.get_by_role("combobox", name="Which runs")).to_have_value('param:depth in 5..9 and name = "deep 1"')


def test_columns_are_shown_hidden_moved_pinned_and_widened(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    heads(page, "depth", "learner", "seed", "recall ↑", "loss ↓")
    page.get_by_role("button", name=re.compile("^Columns")).click()
    expect(page.get_by_role("checkbox", name="learner")).to_be_checked()
    accessible(page)
    page.get_by_role("checkbox", name="purpose").check()
    page.get_by_role("checkbox", name="fixed equal").check()
    page.get_by_role("checkbox", name="learner").uncheck()
    page.keyboard.press("Escape")
    heads(page, "depth", "seed", "recall ↑", "loss ↓", "purpose", "fixed")
    menu = page.get_by_role("button", name="Column loss")
    menu.focus()
    menu.press("Enter")
    page.get_by_role("menuitem", name="Move left").press("Enter")
    expect(page).to_have_url(re.compile("cols=depth%2Cseed%2Closs%2Crecall"))
    page.get_by_role("button", name="Column loss").press("Enter")
    page.get_by_role("menuitem", name="Pin to the left").press("Enter")
    expect(page).to_have_url(re.compile("pin=loss"))
    heads(page, "loss ↓", "depth", "seed", "recall ↑", "purpose", "fixed")
    head = page.get_by_role("columnheader", name="depth")
    before = head.bounding_box()
    assert before
    page.get_by_role("button", name="Column depth").press("Enter")
    page.get_by_role("menuitem", name="Wider").press("Enter")
    expect(page).to_have_url(re.compile("wide=depth"))
    after = head.bounding_box()
    assert after
    assert after["width"] > before["width"] * 1.2
    # By mouse: dragged by its edge, and to another place.
    page.mouse.move(after["x"] + after["width"] - 2, after["y"] + 15)
    page.mouse.down()
    page.mouse.move(after["x"] + after["width"] + 58, after["y"] + 15)
    page.mouse.up()
    expect(page).to_have_url(re.compile(f"wide=depth%7E{round(after['width'] + 60)}"))
    page.get_by_role("button", name="Column seed").press("Enter")
    page.get_by_role("menuitem", name="Hide").press("Enter")
    expect(page.get_by_role("columnheader", name="seed")).to_have_count(0)
    page.get_by_role("columnheader", name="purpose").drag_to(page.get_by_role("columnheader", name="depth"))
    expect(page).to_have_url(re.compile("cols=label%3Apurpose%2Cdepth"))
    # The address is the arrangement.
    page.reload()
    heads(page, "loss ↓", "purpose", "depth", "recall ↑", "fixed")
    page.get_by_role("button", name=re.compile("^Columns")).click()
    page.get_by_role("button", name="What differs").click()
    expect(page).not_to_have_url(re.compile("cols="))


def test_several_keys_to_sort_by(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    page.get_by_role("button", name="learner", exact=True).click()
    expect(rows(page).first).to_contain_text("shallow")
    page.get_by_role("button", name="seed", exact=True).click(modifiers=["Shift"])
    expect(page).to_have_url(re.compile("sort=learner%3Aasc%2Cseed"))
    expect(rows(page).nth(1)).to_contain_text("deep 2")
    expect(page.get_by_role("columnheader", name="learner")).to_have_attribute("aria-sort", "ascending")
    expect(page.get_by_role("columnheader", name="seed")).to_contain_text("highest first, 2")
    page.get_by_role("button", name="loss ↓").click()
    expect(rows(page).first).to_contain_text("deep 2")
    expect(page.get_by_role("columnheader", name="loss")).to_contain_text("lowest first")
    page.get_by_role("button", name="loss ↓").click()
    expect(page.get_by_role("columnheader", name="loss")).to_contain_text("highest first")


def test_replicates_are_a_line_that_opens(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    page.get_by_role("button", name="Group").click()
    page.get_by_role("menuitem", name="Replicates").click()
    expect(rows(page)).to_have_count(2)
    line = rows(page).filter(has_text="×3 seeds")
    expect(line).to_contain_text("0.910±0.01")
    expect(line).to_contain_text("0…2")
    accessible(page)
    line.focus()
    page.keyboard.press("ArrowRight")
    expect(rows(page)).to_have_count(5)
    expect(line).to_have_attribute("aria-expanded", "true")
    expect(rows(page).nth(1)).to_contain_text("deep 2")
    page.keyboard.press("ArrowLeft")
    expect(rows(page)).to_have_count(2)
    line.click()
    expect(rows(page)).to_have_count(5)
    page.get_by_role("button", name="By replicates").click()
    page.get_by_role("menuitem", name="learner").click()
    expect(rows(page).filter(has_text="forest")).to_contain_text("×3")
    page.get_by_role("button", name="By learner").click()
    page.get_by_role("menuitem", name="A line for every run").click()
    expect(rows(page)).to_have_count(4)


def test_children_stand_under_their_parents(visit: Visit, project: Project) -> None:
    parent = project.begin(name="search")
    for depth in (1, 2):
        add(project, 0.5 + depth / 10, parent=parent["id"], params={"depth": depth})
    page = visit("/e/frost-alarm?sort=number")
    expect(rows(page)).to_have_count(1)
    page.get_by_role("button", name="Open the 2 children of frost-alarm/1").click()
    expect(rows(page)).to_have_count(3)
    # Where values are ranked, every run stands for itself.
    page.get_by_role("button", name="recall ↑").click()
    expect(rows(page).first).to_contain_text("↳ 1")
    page.get_by_role("button", name="Group").click()
    page.get_by_role("menuitem", name="Children under their parents").click()
    expect(page).to_have_url(re.compile("fold=yes"))
    # What was opened stays open.
    expect(rows(page).first).to_have_attribute("aria-expanded", "true")
    page.get_by_role("button", name="Close the 2 children").click()
    expect(rows(page)).to_have_count(1)


def test_ranges_are_selected_by_mouse_and_keyboard(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm")
    strip = page.get_by_role("region", name="Selection")
    rows(page).nth(0).get_by_text("deep 2").click()
    rows(page).nth(2).get_by_text("deep 0").click(modifiers=["Shift"])
    expect(strip).to_contain_text("3 selected")
    strip.get_by_role("button", name="Clear").click()
    rows(page).nth(0).focus()
    page.keyboard.press("Shift+ArrowDown")
    expect(strip).to_contain_text("2 selected")
    page.keyboard.press("Control+a")
    expect(strip).to_contain_text("4 selected")
    page.keyboard.press("End")
    expect(rows(page).nth(3)).to_be_focused()
    page.keyboard.press("Space")
    expect(strip).to_contain_text("3 selected")
    with page.expect_download() as taken:
        strip.get_by_role("button", name="Export the selection").click()
        page.get_by_role("menuitem", name="CSV").click()
    text = taken.value.path().read_text()
    assert len(text.splitlines()) == 4
    page.keyboard.press("Home")
    rows(page).nth(0).press("Enter")
    expect(page).to_have_url(re.compile(r"/e/frost-alarm/3$"))


@pytest.mark.soak
def test_a_long_table_is_read_as_it_is_scrolled(visit: Visit, project: Project) -> None:
    for number in range(230):
        project.begin(params={"depth": number})
    page = visit("/e/frost-alarm")
    grid = page.get_by_role("treegrid", name="Runs")
    expect(grid).to_have_attribute("aria-rowcount", "231")
    assert rows(page).count() < 70
    first = rows(page).nth(0)
    first.focus()
    page.keyboard.press("End")
    expect(page.locator('[data-at="229"]')).to_be_focused()
    expect(page.locator('[data-at="229"]')).to_contain_text("1")
    page.keyboard.press("PageUp")
    expect(page.locator('[data-at="209"]')).to_be_focused()
    page.keyboard.press("Home")
    expect(page.locator('[data-at="0"]')).to_be_focused()
    # What comes while one looks stands where it belongs.
    project.begin(params={"depth": 1000})
    expect(page.locator('[data-at="0"]')).to_contain_text("231")
    expect(grid).to_have_attribute("aria-rowcount", "232")


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_long_names_missing_values_nan_and_one_run(visit: Visit, project: Project, theme: str) -> None:
    add(project, 0.5, name="n" * 200, params={"k" * 250: "v" * 500, "depth": None, "list": [1, 2, 3]})
    begun = project.begin(params={"depth": 3}, labels={"a label": "x" * 500})
    project.service("contributor").call(
        "POST",
        project.run_path(begun, "results"),
        json={"results": [{"id": new_id(), "key": "recall", "value": {"float": "NaN"}, "at": AT}]},
    )
    page = visit("/e/frost-alarm?sort=number")
    page.evaluate(f"() => localStorage.setItem('theme', '{theme}')")
    page.reload()
    expect(rows(page)).to_have_count(2)
    expect(rows(page).first).to_contain_text("NaN")
    accessible(page)
    ask(page, 'param:"' + "k" * 250 + '" like v*')
    expect(rows(page)).to_have_count(1)
    assert page.evaluate("() => document.documentElement.scrollWidth <= window.innerWidth")


def test_the_first_page_of_a_wide_table_says_what_is_left_out(visit: Visit, project: Project) -> None:
    for number in range(2):
        project.begin(params={f"p{at}": at + number for at in range(90)})
    page = visit("/e/frost-alarm")
    expect(page.get_by_role("button", name=re.compile("^Columns"))).to_contain_text("30 more hidden")
