"""What is taken along and shared in the console: lines of code, files, views, links, frames; the palette and the lists."""

from __future__ import annotations

import re
from typing import Any

from playwright.sync_api import BrowserContext, expect

from tests.console.conftest import Watch
from tests.console.test_console import accessible
from tests.console.test_finding import AT, Visit, rows, some
from tests.support.world import Project, new_id

__all__ = ["some"]


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
        ["frost-alarm/1", "loss", "0"],
        ["frost-alarm/1", "loss", "1"],
    ]


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
    page.get_by_label("Seeds").fill("fold, seed")
    accessible(page)
    page.get_by_role("button", name="Save").click()
    expect(lines.first).to_contain_text("How cold before sunrise?")
    assert some.service().get(some.path("experiments", "dawn-minimum"))["seeds"] == ["fold", "seed"]
    page.get_by_label("Find experiments").fill("season=spring")
    expect(lines).to_have_count(1)
    page.get_by_label("Find experiments").fill("sunrise")
    expect(lines).to_have_count(1)
    page.get_by_label("Find experiments").fill("nothing")
    expect(page.get_by_text("None of 2 experiments fits.")).to_be_visible()
