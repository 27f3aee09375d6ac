"""The console as people use it: found by role and name, live, in light and dark, by mouse and keyboard."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import BrowserContext, Page, expect

from tests.console.conftest import Watch
from tests.support.world import PASSWORD, Project, new_id

AT = 1_790_000_000_000_000
Visit = Callable[..., Page]
AXE = (Path(__file__).parent.parent.parent / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text(
    encoding="utf-8"
)


def measure(project: Project, begun: dict[str, Any], values: list[float], start: int = 0) -> None:
    steps = list(range(start, start + len(values)))
    group = {"keys": ["recall"], "steps": steps, "times": [AT + step for step in steps], "values": [values]}
    project.service("contributor").call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]}
    )


def record(project: Project, number: int, ended: bool = True) -> dict[str, Any]:
    goals = {"recall": {"direction": "higher", "bound": 0.8}, "loss": {"direction": "lower", "unit": "s"}}
    begun = project.begin(name=f"try {number}", params={"depth": number, "learner": "forest"}, goals=goals)
    measure(project, begun, [0.5 + number / 10 + step / 1000 for step in range(50)])
    service = project.service("contributor")
    results = [{"id": new_id(), "key": "loss", "value": 1 / number, "at": AT}]
    service.call("POST", project.run_path(begun, "results"), json={"results": results})
    if ended:
        service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 1_000_000})
    return begun


@pytest.fixture
def runs(project: Project) -> list[dict[str, Any]]:
    return [record(project, number) for number in (1, 2, 3)]


def accessible(page: Page) -> None:
    """No violation that axe-core knows."""
    page.evaluate(AXE)
    found = page.evaluate("() => axe.run(document, {resultTypes: ['violations']})")
    wrong = [(rule["id"], [node["html"][:120] for node in rule["nodes"][:3]]) for rule in found["violations"]]
    assert wrong == []


def test_signing_in_and_out(context: BrowserContext, watch: Watch, project: Project) -> None:
    page = context.new_page()
    watch.follow(page)
    page.goto(f"/{project.name}/models")
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    accessible(page)
    watch.allowed.add(401)
    page.get_by_label("Name").fill("a-viewer")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_have_text("Name and password do not fit together.")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_label("Password").press("Enter")
    expect(page).to_have_title("Models · Kinetrum")
    page.get_by_role("button", name="A Viewer").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    page.reload()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()


def test_a_session_that_ended_elsewhere_asks_to_sign_in(visit: Visit, context: BrowserContext, watch: Watch) -> None:
    page = visit()
    expect(page.get_by_role("navigation", name="Pages").get_by_role("link", name="Today")).to_be_visible()
    watch.allowed.add(401)
    context.clear_cookies()
    # The page may have noticed by itself already; then there is no link any more.
    page.evaluate("() => document.querySelector('nav a[href=\"/\"]')?.click()")
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()


def test_the_project_page(visit: Visit, runs: list[dict[str, Any]]) -> None:
    page = visit()
    expect(page.get_by_role("heading", level=1)).to_have_text("3 runs in 1 experiment, 0 running now.")
    row = page.get_by_role("row", name=re.compile("frost-alarm 3"))
    expect(row).to_contain_text("recall ↑ 0.849 by frost-alarm/3")
    accessible(page)
    row.get_by_role("link", name="frost-alarm", exact=True).click()
    expect(page).to_have_title("frost-alarm · Kinetrum")


def test_an_empty_project_shows_how_to_fill_it(visit: Visit, project: Project) -> None:
    page = visit()
    expect(page.get_by_text(f'project="{project.name}"')).to_be_visible()
    expect(page.get_by_text(project.instance.url)).to_be_visible()
    page.goto(f"/{project.name}/models")
    expect(page.get_by_text("No model yet.")).to_be_visible()


def test_the_experiment_page(visit: Visit, runs: list[dict[str, Any]], project: Project) -> None:
    page = visit("/e/frost-alarm")
    expect(page.get_by_role("heading", level=1)).to_have_text(
        "Run 3 leads on recall: 0.849, which meets the goal of 0.8."
    )
    table = page.get_by_role("treegrid", name="Runs")
    rows = table.get_by_role("rowgroup").nth(1).get_by_role("row")
    expect(rows).to_have_count(3)
    expect(rows.nth(0)).to_contain_text("try 3")
    expect(table.get_by_role("columnheader", name="depth")).to_be_visible()
    expect(table.get_by_role("columnheader", name="learner")).to_have_count(0)
    expect(page.get_by_role("button", name=re.compile("^Columns"))).to_contain_text("1 equal hidden")
    expect(page.get_by_role("img", name="recall by step, 3 curves")).to_be_visible()
    accessible(page)
    # Sorting by a column, and back by the address.
    table.get_by_role("button", name="loss ↓").click()
    expect(rows.nth(0)).to_contain_text("3")
    table.get_by_role("button", name="depth", exact=True).click()
    expect(page).to_have_url(re.compile("sort=depth$"))
    expect(rows.nth(0)).to_contain_text("try 3")
    table.get_by_role("button", name="depth", exact=True).click()
    expect(rows.nth(0)).to_contain_text("try 1")
    assert "sort=depth%3Aasc" in page.url


def test_selection_by_mouse_and_keyboard_leads_to_a_comparison(
    visit: Visit, runs: list[dict[str, Any]], project: Project
) -> None:
    page = visit("/e/frost-alarm")
    rows = page.get_by_role("treegrid", name="Runs").get_by_role("rowgroup").nth(1).get_by_role("row")
    strip = page.get_by_role("region", name="Selection")
    compare = strip.get_by_role("button", name="Compare")
    expect(compare).to_be_disabled()
    rows.nth(0).get_by_text("try 3").click()
    expect(rows.nth(0)).to_have_attribute("aria-selected", "true")
    rows.nth(0).focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")
    expect(rows.nth(2)).to_have_attribute("aria-selected", "true")
    assert "sel=3%7E1%2C1%7E2" in page.url
    page.reload()
    expect(strip).to_contain_text("2 selected")
    compare.click()
    expect(page.get_by_role("heading", level=1)).to_have_text(
        "Run 3 came out better than Run 1 on recall (+0.2) and loss (−0.667 s); noise is unknown."
    )
    settings = page.get_by_role("table", name="Set differently")
    expect(settings.get_by_role("row", name=re.compile("depth 3 1"))).to_be_visible()
    outcomes = page.get_by_role("table", name="Came out differently")
    expect(
        outcomes.get_by_role("row", name=re.compile("recall ↑.*0.849 best.*0.649.*0.2.*30.8 %.*better"))
    ).to_be_visible()
    accessible(page)
    page.get_by_role("button", name="Swap").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 1 came out worse than Run 3")
    page.go_back()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 3 came out better than Run 1")


def test_a_run_that_records_grows_on_screen(visit: Visit, project: Project) -> None:
    begun = record(project, 1, ended=False)
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 1 is running")
    measure(project, begun, [0.987], start=50)
    expect(page.get_by_role("heading", level=1)).to_contain_text("recall 0.987", timeout=8_000)
    page.goto(f"/{project.name}/e/frost-alarm")
    rows = page.get_by_role("treegrid", name="Runs").get_by_role("rowgroup").nth(1).get_by_role("row")
    expect(rows).to_have_count(1)
    expect(rows.nth(0)).to_contain_text("0.987")
    record(project, 2)
    expect(rows).to_have_count(2, timeout=8_000)
    project.service("contributor").call(
        "POST", project.run_path(begun, "ending"), json={"status": "failed", "reason": "out of memory", "ended_at": AT}
    )
    expect(page.get_by_text("out of memory")).to_be_visible(timeout=8_000)


def test_the_run_page(visit: Visit, project: Project) -> None:
    begun = record(project, 3)
    project.generate(begun, b"a model")
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("heading", level=1)).to_have_text("Run 1 meets 1 of 1 goals: recall 0.849.")
    expect(page.get_by_role("row", name=re.compile("learner forest"))).to_be_visible()
    expect(page.get_by_text("frost-net@1")).to_be_visible()
    expect(page.get_by_role("img", name="goal met")).to_be_visible()
    page.get_by_label("log").click()
    expect(page.get_by_label("log")).to_be_checked()
    page.get_by_label("x axis").select_option("elapsed")
    assert "scale=log" in page.url
    assert "x=elapsed" in page.url
    accessible(page)


def test_register_review_promote_and_roll_back(visit: Visit, project: Project) -> None:
    for number in (1, 2):
        project.generate(record(project, number), f"model {number}".encode())
    page = visit("/e/frost-alarm/1", "maintainer")
    page.get_by_role("button", name="Register a version").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Comment").fill("first try")
    dialog.get_by_role("button", name="Register").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "Version 1 would be the first on production. It cannot be placed there: version 1 is pending"
    )
    promote = page.get_by_role("button", name="Promote to production")
    expect(promote).to_be_disabled()
    expect(page.get_by_role("table", name="Stages")).to_contain_text("production asks for an approved version")
    page.get_by_label("Comment, kept in the journal").fill("looks good")
    page.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("A Maintainer approved")).to_contain_text("“looks good”")
    promote.click()
    page.get_by_role("dialog").get_by_role("button", name="Promote").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Version 1 stands on production.")
    page.goto(f"/{project.name}/e/frost-alarm/2")
    page.get_by_role("button", name="Register a version").click()
    page.get_by_role("dialog").get_by_role("button", name="Register").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Version 2 would replace version 1 on production.")
    side = page.get_by_role("table", name="Side by side")
    expect(side.get_by_role("row", name=re.compile("recall ↑.*0.749.*0.649.*0.1.*better"))).to_be_visible()
    accessible(page)
    page.get_by_role("button", name="Approve").click()
    page.get_by_role("button", name="Promote to production").click()
    page.get_by_role("dialog").get_by_role("button", name="Promote").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Version 2 stands on production.")
    page.get_by_role("link", name="frost-alarm", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Version 2 is in production")
    expect(page.get_by_role("img", name=re.compile("production: version 2"))).to_be_visible()
    accessible(page)
    page.get_by_role("button", name="Roll back production").click()
    page.get_by_role("dialog").get_by_label("Comment").fill("too many alarms")
    page.get_by_role("dialog").get_by_role("button", name="Roll back").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Version 1 is in production")
    expect(page.get_by_role("table", name="Journal")).to_contain_text("“too many alarms”")
    page.get_by_role("navigation", name="Pages").get_by_role("link", name="Models").click()
    expect(page.get_by_role("table", name="Models").get_by_role("row", name=re.compile("frost-alarm"))).to_contain_text(
        "1"
    )
    accessible(page)


def test_an_act_over_another_occupant_is_refused_and_told(visit: Visit, project: Project, watch: Watch) -> None:
    project.registered(2)
    project.verdict(1, "approve")
    project.verdict(2, "approve")
    page = visit("/models/frost-alarm/1", "approver")
    page.get_by_role("button", name="Promote to production").click()
    project.place("promotions", "production", "maintainer", version=2, expect=None)
    watch.allowed.add(409)
    page.get_by_role("dialog").get_by_role("button", name="Promote").click()
    expect(page.get_by_role("alert")).to_contain_text("now holds version 2 (placed by A Maintainer")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_role("table", name="Stages")).to_contain_text("version 2 since")


def test_who_may_not_is_told_why(visit: Visit, project: Project) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm/1", "viewer")
    expect(page.get_by_role("button", name="Approve")).to_be_disabled()
    expect(page.get_by_text("to approve or reject versions takes an approver")).to_be_visible()
    expect(page.get_by_text("takes a contributor").first).to_be_visible()
    accessible(page)


def test_light_and_dark(visit: Visit, runs: list[dict[str, Any]]) -> None:
    page = visit("/e/frost-alarm?sel=3~1")
    assert page.evaluate("() => document.documentElement.dataset.theme") == "light"
    page.get_by_role("button", name="A Contributor").click()
    page.get_by_role("menuitem", name="Switch to dark").click()
    assert page.evaluate("() => document.documentElement.dataset.theme") == "dark"
    accessible(page)
    page.reload()
    assert page.evaluate("() => document.documentElement.dataset.theme") == "dark"
    page.get_by_role("heading", level=1).wait_for()
    expect(page.get_by_role("img", name=re.compile("recall by step"))).to_be_visible()


def test_addresses_that_lead_nowhere(visit: Visit, watch: Watch, project: Project) -> None:
    page = visit()
    watch.allowed |= {404, 422}
    for address, text in {
        f"/{project.name}/e/nothing": "has no experiment",
        f"/{project.name}/models/nothing": "has no model",
        f"/{project.name}/compare?run=a/1": "Select two or more",
        "/no-such-project": "There is no project",
    }.items():
        page.goto(address)
        expect(page.get_by_role("alert")).to_contain_text(text)


@pytest.mark.parametrize("width", [1024, 2560])
def test_other_widths_do_not_scroll_sideways(visit: Visit, runs: list[dict[str, Any]], width: int) -> None:
    page = visit("/e/frost-alarm")
    page.set_viewport_size({"width": width, "height": 900})
    for address in ("/e/frost-alarm", "/e/frost-alarm/1", "/compare?run=frost-alarm/1&run=frost-alarm/2"):
        page.goto(f"{page.url.split('/e/')[0].split('/compare')[0]}{address}")
        page.get_by_role("heading", level=1).wait_for()
        assert page.evaluate("() => document.documentElement.scrollWidth <= window.innerWidth")


def test_a_lost_connection_is_said_and_resumed(
    visit: Visit, project: Project, context: BrowserContext, watch: Watch
) -> None:
    begun = record(project, 1, ended=False)
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Run 1 is running")
    context.set_offline(True)
    page.evaluate("() => fetch('/api/v1/health').catch(() => null)")
    watch.wrong.clear()
    context.set_offline(False)
    measure(project, begun, [0.912], start=50)
    expect(page.get_by_role("heading", level=1)).to_contain_text("recall 0.912", timeout=15_000)
    expect(page.get_by_text("The live connection is gone")).to_have_count(0)
    watch.wrong.clear()


def test_values_of_every_kind_are_shown(visit: Visit, project: Project) -> None:
    begun = project.begin(
        params={
            "nan": {"float": "NaN"},
            "list": [1, "a", None],
            "yes": True,
            "none": None,
            "long": "x" * 300,
            "big": 2**60,
        }
    )
    service = project.service("contributor")
    results = [
        {"id": new_id(), "key": key, "value": value, "at": AT}
        for key, value in {
            "inf": {"float": "-Infinity"},
            "text": "<img src=x onerror=alert(1)>",
            "tiny": 1.5e-9,
        }.items()
    ]
    service.call("POST", project.run_path(begun, "results"), json={"results": results})
    page = visit("/e/frost-alarm/1")
    for key, text in {
        "nan": "NaN",
        "list": "[1, a, null]",
        "yes": "true",
        "none": "null",
        "inf": "−∞",
        "tiny": "1.5e−9",
    }.items():
        expect(page.get_by_role("row", name=re.compile(f"^{key}")).get_by_role("cell").first).to_have_text(text)
    expect(page.get_by_text("<img src=x onerror=alert(1)>")).to_be_visible()
    accessible(page)
    page.goto(page.url.rsplit("/", 1)[0])
    expect(page.get_by_role("treegrid", name="Runs")).to_contain_text("−∞")
