"""Finding in the console, by mouse and keyboard: queries, columns, groups, views, links, the palette, long tables."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import BrowserContext, Locator, Page, expect

from tests.conftest import Project, new_id
from tests.console.conftest import Watch
from tests.console.test_console import accessible

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


def test_the_table_taken_along_as_code_and_file(visit: Visit, some: Project, context: BrowserContext) -> None:
    context.grant_permissions(["clipboard-read", "clipboard-write"])
    page = visit("/e/frost-alarm?q=depth+%3D+9&cols=recall,seed&sort=seed")
    page.get_by_role("button", name="Take along").click()
    page.get_by_role("menuitem", name="Copy as Python").click()
    copied = page.evaluate("() => navigator.clipboard.readText()")
    where = f'experiment="frost-alarm", columns=["recall", "seed"], sort="seed", project="{some.name}"'
    assert copied == f'kinetrum.runs("depth = 9", {where}).to_pandas()'
    page.get_by_role("button", name="Take along").click()
    page.get_by_role("menuitem", name="Copy as shell").click()
    assert page.evaluate("() => navigator.clipboard.readText()").startswith("kinetrum runs 'depth = 9' -e frost-alarm")
    with page.expect_download() as taken:
        page.get_by_role("button", name="Take along").click()
        page.get_by_role("menuitem", name="CSV").click()
    lines = taken.value.path().read_text().splitlines()
    assert lines[0].endswith("metric:recall,param:seed")
    assert [line.split(",")[0] for line in lines[1:]] == ["frost-alarm/3", "frost-alarm/2", "frost-alarm/1"]


def test_points_of_the_lens_taken_along(visit: Visit, project: Project) -> None:
    begun = project.begin()
    points = {"groups": [{"keys": ["loss"], "steps": [0, 1], "times": [AT, AT + 1], "values": [[3, 2]]}]}
    project.service("contributor").call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json=points
    )
    page = visit("/e/frost-alarm")
    expect(page.get_by_role("img", name="loss by step, 1 curve")).to_be_visible()
    with page.expect_download() as taken:
        page.get_by_role("button", name="Take along").click()
        page.get_by_role("menuitem", name="Points as CSV").click()
    assert [line.split(",")[:3] for line in taken.value.path().read_text().splitlines()[1:]] == [
        ["frost-alarm/1", "loss", "0"], ["frost-alarm/1", "loss", "1"]]  # fmt: skip


def test_a_view_is_saved_changed_and_removed(visit: Visit, some: Project) -> None:
    page = visit("/e/frost-alarm?q=depth+%3D+9&cols=recall,seed")
    page.get_by_role("button", name="Views").click()
    page.get_by_role("menuitem", name="Save as a view").click()
    page.get_by_label("Name").fill("deep ones")
    page.get_by_role("dialog").get_by_role("checkbox").check()
    accessible(page)
    page.get_by_role("button", name="Save", exact=True).click()
    view = page.get_by_role("button", name="View: deep ones")
    expect(view).to_be_visible()
    expect(page).to_have_url(re.compile("q=param%3Adepth"))
    page.get_by_role("button", name="seed", exact=True).click()
    expect(view).to_contain_text("*")
    view.click()
    page.get_by_role("menuitem", name="Save deep ones as it is now").click()
    expect(view).not_to_contain_text("*")
    page.goto(f"/{some.name}/e/frost-alarm")
    expect(rows(page)).to_have_count(4)
    page.get_by_role("button", name="Views").click()
    page.get_by_role("menuitem", name="deep ones").click()
    expect(rows(page)).to_have_count(3)
    expect(rows(page).first).to_contain_text("deep 2")
    view.click()
    page.get_by_role("menuitem", name="Remove deep ones").click()
    expect(page.get_by_role("button", name="Views")).to_be_visible()
    expect(rows(page)).to_have_count(3)


def test_a_link_is_opened_without_an_account(
    visit: Visit, some: Project, chromium: Any, watch: Watch, context: BrowserContext
) -> None:
    page = visit("/e/frost-alarm?q=depth+%3D+9&cols=recall,seed,duration")
    page.get_by_role("button", name="Views").click()
    page.get_by_role("menuitem", name="Link for people").click()
    page.get_by_role("button", name="Make the link").click()
    link = page.get_by_role("textbox", name="The link").input_value()
    page.get_by_role("button", name="Close", exact=True).click()
    guest = chromium.new_context(base_url=some.instance.url, viewport={"width": 1280, "height": 800}).new_page()
    watch.follow(guest)
    guest.goto(link)
    expect(guest.get_by_role("heading", level=1)).to_have_text("3 runs of frost-alarm where param:depth = 9")
    table = guest.get_by_role("table", name="Runs")
    expect(table.get_by_role("row").nth(1)).to_contain_text("deep 2")
    expect(table).to_contain_text("1 min 30 s")
    expect(table).not_to_contain_text("forest")
    accessible(guest)
    page.get_by_role("button", name="Views").click()
    page.get_by_role("menuitem", name="Link for people").click()
    page.get_by_role("button", name="Revoke").click()
    expect(page.get_by_text("opens nothing any more")).to_be_visible()
    watch.allowed.add(404)
    guest.reload()
    expect(guest.get_by_role("alert")).to_contain_text("This link opens nothing")
    guest.context.close()


def test_a_view_is_shown_in_another_page(visit: Visit, some: Project, chromium: Any, tmp_path: Any) -> None:
    import http.server
    import threading

    frame = f'<iframe src="{some.instance.url}/embed/{some.name}/e/frost-alarm?q=depth+%3D+9" width="900" height="600"></iframe>'

    class Other(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(frame.encode())

        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Other)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    origin = f"http://127.0.0.1:{server.server_port}"
    page = visit("/e/frost-alarm")
    try:
        cookies = page.context.cookies()
        other = chromium.new_context(viewport={"width": 1280, "height": 800})
        other.add_cookies(cookies)
        there = other.new_page()
        there.goto(origin)
        expect(there.frame_locator("iframe").get_by_role("treegrid")).to_have_count(0)
        some.service("maintainer").call("PUT", some.path("embedding"), json={"origins": [origin]})
        there.goto(origin)
        expect(
            there.frame_locator("iframe").get_by_role("treegrid").get_by_role("rowgroup").nth(1).get_by_role("row")
        ).to_have_count(3)
        expect(there.frame_locator("iframe").get_by_role("navigation")).to_have_count(0)
        other.close()
    finally:
        server.shutdown()
        server.server_close()


def test_the_palette_goes_anywhere_and_does_anything(visit: Visit, some: Project) -> None:
    page = visit()
    page.keyboard.press("Control+k")
    field = page.get_by_role("combobox", name="Go to or do anything")
    expect(field).to_be_focused()
    accessible(page)
    field.fill("frost-alarm/2")
    expect(page.get_by_role("option", name=re.compile("deep 1")).first).to_be_visible()
    field.press("Enter")
    expect(page).to_have_url(re.compile(r"/e/frost-alarm/2$"))
    expect(page.get_by_role("button", name="Note", exact=True)).to_be_visible()
    # By a word of another trade, and what is done on the page that is open.
    page.keyboard.press("Control+k")
    field.fill("trash")
    expect(page.get_by_role("option", name=re.compile("page Bin"))).to_be_visible()
    # What the page's own buttons do, by its name or another.
    field.fill("comment")
    page.get_by_role("option", name=re.compile("Note ?on this page")).click()
    expect(page.get_by_role("heading", name="Note on frost-alarm/2")).to_be_visible()
    page.get_by_role("button", name="Cancel").click()
    page.keyboard.press("Control+k")
    page.keyboard.press("Escape")
    expect(field).to_have_count(0)
    page.goto(f"/{some.name}/e/frost-alarm")
    expect(rows(page)).to_have_count(4)
    page.get_by_role("button", name="Go to or do anything").click()
    field.fill("seeds")
    page.get_by_role("option", name=re.compile("Group by replicates")).click()
    expect(page).to_have_url(re.compile("group=replicates"))
    page.keyboard.press("Control+k")
    # It remembers where one went.
    expect(page.get_by_role("option").first).to_contain_text("deep 1")
    field.fill("dark")
    field.press("Enter")
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.keyboard.press("Control+k")
    field.fill("there is nothing of this name")
    expect(page.get_by_text("Nothing fits.")).to_be_visible()


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


def test_experiments_are_sorted_described_and_found_by_label(visit: Visit, some: Project) -> None:
    some.begin("dawn-minimum")
    page = visit()
    table = page.get_by_role("table", name="Experiments")
    lines = table.locator("tbody").get_by_role("row")
    table.get_by_role("button", name="runs", exact=True).click()
    expect(lines.first).to_contain_text("frost-alarm")
    table.get_by_role("button", name="runs ↓").click()
    expect(lines.first).to_contain_text("dawn-minimum")
    page.get_by_role("button", name="Describe dawn-minimum").click()
    page.get_by_label("What it is").fill("How cold before sunrise?")
    page.get_by_label("Labels").fill("season=spring")
    accessible(page)
    page.get_by_role("button", name="Save").click()
    expect(lines.first).to_contain_text("How cold before sunrise?")
    page.get_by_label("Find experiments").fill("season=spring")
    expect(lines).to_have_count(1)
    page.get_by_label("Find experiments").fill("sunrise")
    expect(lines).to_have_count(1)
    page.get_by_label("Find experiments").fill("nothing")
    expect(page.get_by_text("None of 2 experiments fits.")).to_be_visible()


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_long_names_missing_values_nan_and_one_run(visit: Visit, project: Project, theme: str) -> None:
    add(project, 0.5, name="n" * 200, params={"k" * 250: "v" * 500, "depth": None, "list": [1, 2, 3]})
    begun = project.begin(params={"depth": 3}, labels={"a label": "x" * 500})
    project.service("contributor").call("POST", project.run_path(begun, "results"), json={"results": [
        {"id": new_id(), "key": "recall", "value": {"float": "NaN"}, "at": AT}]})  # fmt: skip
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
