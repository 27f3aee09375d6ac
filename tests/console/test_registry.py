"""The registry in the console: the hand-over by two people with gates and a way back; cards, ladders, models found."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, Route, expect

from tests.client.registry.test_registry import GATES, TRUTH, guessed
from tests.console.conftest import Watch
from tests.console.test_console import accessible
from tests.console.test_finding import AT, Visit
from tests.support.world import Project, new_id


def candidate(project: Project, share_right: float, seed: int, net: int | None = None) -> None:
    """Record a run that judged its net on the holdout, row by row."""
    begun = project.begin(params={"depth": seed}, goals={"holdout/recall": {"direction": "higher"}})
    service = project.service("contributor")
    predicted = guessed(share_right, seed).astype(int)
    recall = float(np.mean(predicted[TRUTH == 1]))
    service.call(
        "POST",
        project.run_path(begun, "results"),
        json={"results": [{"id": new_id(), "key": "holdout/recall", "value": recall, "at": AT}]},
    )
    holdout = {
        "name": "holdout",
        "kind": "data",
        "role": "holdout",
        "by_reference": True,
        "address": "/data/holdout",
        "files": [{"path": "holdout.csv", "size": 5, "sha256": "a" * 64}],
    }
    service.call("POST", project.run_path(begun, "used"), json={"id": new_id(), "at": 1, **holdout})
    project.generate(begun, f"net {net or seed}".encode())
    table = "row,truth,prediction\n" + "".join(f"{n},{TRUTH[n]},{predicted[n]}\n" for n in range(len(TRUTH)))
    file = {**project.upload(table.encode()), "path": "predictions.csv"}
    service.call(
        "POST",
        project.run_path(begun, "generated"),
        json={
            "id": new_id(),
            "at": 1,
            "name": "frost-alarm-holdout-predictions",
            "kind": "table",
            "files": [file],
            "about": {"key": "row"},
        },
    )
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT})


def ruled(project: Project) -> None:
    maintainer = project.service("maintainer")
    maintainer.call("PUT", project.path("models", "frost-alarm", "gates"), json={"gates": GATES})


def register(page: Page, run: int, comment: str) -> None:
    page.get_by_role("button", name=re.compile("Register")).first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Files it generated").select_option("frost-net")
    dialog.get_by_label("Comment").fill(comment)
    dialog.get_by_role("button", name="Register").click()
    page.get_by_role("heading", name="Verdict").wait_for()


def test_the_hand_over_by_two_people(visit: Visit, project: Project, watch: Watch) -> None:
    candidate(project, 0.90, 1)
    # What a page still asks as its person signs out.
    watch.allowed.add(401)
    ilse = visit("/e/frost-alarm/1")
    register(ilse, 1, "first")
    expect(ilse.get_by_role("heading", level=1)).to_contain_text("Version 1 would be the first on production.")
    # Who registers may not approve, and is told why.
    expect(ilse.get_by_role("button", name="Approve", exact=True)).to_be_disabled()
    expect(ilse.get_by_text("to approve or reject versions takes an approver")).to_be_visible()
    # She writes the card that the gate will ask for.
    ruled(project)
    ilse.goto(f"/{project.name}/models/frost-alarm")
    ilse.get_by_role("button", name="Write").click()
    ilse.get_by_role("dialog").get_by_label("Markdown").fill("## Purpose\nRings the bell.")
    ilse.get_by_role("dialog").get_by_role("button", name="Write card").click()
    expect(ilse.get_by_role("heading", name="Purpose")).to_be_visible()
    expect(ilse.get_by_role("button", name="Change")).to_be_disabled()

    ilse.get_by_role("button", name="A Contributor").click()
    ilse.get_by_role("menuitem", name="Sign out").click()
    ilse.get_by_role("heading", name="Sign in").wait_for()
    ilse.close()
    noor = visit("/models/frost-alarm/1", "approver")
    noor.get_by_label("Comment, kept").fill("sound")
    noor.get_by_role("button", name="Approve", exact=True).click()
    noor.get_by_role("button", name="Promote to production").click()
    expect(noor.get_by_role("dialog")).to_contain_text("All 4 gates are met.")
    noor.get_by_role("dialog").get_by_role("button", name="Promote").click()
    expect(noor.get_by_role("heading", level=1)).to_have_text("Version 1 stands on production.")

    # One within noise is refused by its gate, and she may not override it.
    candidate(project, 0.905, 2)
    noor.goto(f"/{project.name}/e/frost-alarm/2")
    register(noor, 2, "looks better")
    noor.get_by_role("button", name="Approve", exact=True).click()
    expect(noor.get_by_role("heading", level=1)).to_contain_text("within noise. 1 of 4 gates is not met")
    gates = noor.get_by_role("table", name="Gates to production")
    expect(gates.get_by_role("row").nth(1)).to_contain_text("not met")
    expect(gates.get_by_role("row").nth(1).get_by_role("img", name="not met")).to_be_visible()
    accessible(noor)
    noor.get_by_role("button", name="Promote to production").click()
    dialog = noor.get_by_role("dialog")
    expect(dialog).to_contain_text("Not met: better recall on holdout than the occupant")
    expect(dialog.get_by_role("button", name="Promote all the same")).to_be_disabled()
    expect(dialog).to_contain_text("to override a gate takes a maintainer")
    noor.keyboard.press("Escape")

    # A better one goes through, is found wanting, and is rolled back from.
    candidate(project, 0.97, 3)
    noor.goto(f"/{project.name}/e/frost-alarm/3")
    register(noor, 3, "better")
    expect(noor.get_by_role("table", name="On holdout").get_by_role("row", name=re.compile("^recall"))).to_contain_text(
        "better"
    )
    noor.get_by_role("button", name="Approve", exact=True).click()
    noor.get_by_role("button", name="Promote to production").click()
    noor.get_by_role("dialog").get_by_role("button", name="Promote", exact=True).click()
    expect(noor.get_by_role("heading", level=1)).to_have_text("Version 3 stands on production.")
    # The dialog is on its way out, and has a field of that name too.
    expect(noor.get_by_role("dialog")).to_have_count(0)
    noor.get_by_label("Comment, kept").fill("rings too often")
    noor.get_by_role("button", name="Reject").click()
    expect(noor.get_by_role("table", name="Stages")).to_contain_text("version 3 is rejected")
    noor.goto("/")
    trouble = noor.locator(f'a[href="/{project.name}/models/frost-alarm"]').filter(has_text="Roll back")
    expect(trouble).to_have_attribute("aria-label", "Roll back frost-alarm on production")
    trouble.click()
    expect(noor.get_by_role("button", name="Roll back production")).to_be_visible()
    expect(noor.get_by_text("version 3 is rejected").first).to_be_visible()
    accessible(noor)
    noor.get_by_role("button", name="Roll back production").click()
    noor.get_by_role("dialog").get_by_role("button", name="Roll back").click()
    expect(noor.get_by_role("heading", level=1)).to_contain_text("Version 1 is in production")
    # Any two are put side by side.
    noor.get_by_label("Choose version 3").check()
    noor.get_by_label("Choose version 1").check()
    noor.get_by_role("link", name="Compare 3 with 1").click()
    expect(noor.get_by_role("heading", level=1)).to_contain_text("Version 3 beside version 1: better recall on holdout")
    noor.get_by_label("Beside").select_option("2")
    expect(noor.get_by_role("heading", level=1)).to_contain_text("Version 3 beside version 2")


def test_a_maintainer_overrides_with_a_reason(visit: Visit, project: Project) -> None:
    candidate(project, 0.7, 1)
    page = visit("/e/frost-alarm/1", "maintainer")
    register(page, 1, "")
    ruled(project)
    page.get_by_role("button", name="Approve", exact=True).click()
    page.get_by_role("button", name="Promote to production").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name="Promote all the same")).to_be_disabled()
    dialog.get_by_label("Why it is placed all the same").fill("the harvest cannot wait")
    dialog.get_by_role("button", name="Promote all the same").click()
    expect(page.get_by_text("production: the harvest cannot wait (A Maintainer)")).to_be_visible()
    page.goto(f"/{project.name}/models/frost-alarm")
    expect(page.get_by_role("table", name="Versions")).to_contain_text("gate overridden")


def test_a_gate_that_is_still_being_added_is_not_lost(visit: Visit, project: Project) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm", "maintainer")
    page.get_by_role("button", name="Change").click()
    dialog = page.get_by_role("dialog")
    waiting: list[Route] = []
    page.route("**/gates/drafts", lambda route: waiting.append(route))  # noqa: PLW0108 - Playwright marks its handlers
    dialog.get_by_label("asks").select_option("signature")
    dialog.get_by_role("button", name="Add", exact=True).click()
    expect(dialog.get_by_role("button", name="Set gates")).to_be_disabled()
    expect(dialog.get_by_label("TOML, a table per stage")).to_be_disabled()
    waiting[0].continue_()
    dialog.get_by_role("button", name="Set gates").click()
    expect(dialog).to_have_count(0)
    assert "signature" in project.service("viewer").get(project.path("models", "frost-alarm"))["gates"]


def test_gates_by_a_form_are_the_same_text(visit: Visit, project: Project, watch: Watch) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm", "maintainer")
    page.get_by_role("button", name="Change").click()
    dialog = page.get_by_role("dialog")
    for kind, fields in (
        ("bound", {"on data (none: its run)": "holdout", "at least": "0.9"}),
        ("better", {"on data": "holdout"}),
        ("approvals", {"how many": "3"}),
        ("approvals", {"how many": "2"}),
        ("card", {}),
        ("recorded", {}),
    ):
        dialog.get_by_label("asks").select_option(kind)
        for name, text in fields.items():
            dialog.get_by_label(name, exact=True).fill(text)
        dialog.get_by_role("button", name="Add", exact=True).click()
    dialog.get_by_label("stage", exact=True).select_option("staging")
    dialog.get_by_label("asks").select_option("signature")
    dialog.get_by_role("button", name="Add", exact=True).click()
    dialog.get_by_role("button", name="Set gates").click()
    expect(dialog).to_have_count(0)
    text = project.service("viewer").get(project.path("models", "frost-alarm"))["gates"]
    assert '[[production.bound]]\nvalue = "recall"\non = "holdout"\nat_least = 0.9\n' in text
    assert text.count("approvals") == 1
    assert "approvals = 2" in text
    assert '[staging]\nsignature = "compatible"' in text
    expect(page.get_by_label("Gates", exact=True)).to_contain_text('card = ["Purpose", "Limits"]')
    # What is wrong is told where it is.
    page.get_by_role("button", name="Change").click()
    watch.allowed.add(422)
    page.get_by_role("dialog").get_by_label("TOML, a table per stage").fill("[production]\nspeed = 3")
    page.get_by_role("dialog").get_by_role("button", name="Set gates").click()
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("production.speed is not a gate")
    accessible(page)


def test_rules_and_ladder(visit: Visit, project: Project, watch: Watch) -> None:
    project.registered(1)
    page = visit("/models/frost-alarm", "maintainer")
    page.get_by_role("button", name="Describe").click()
    page.get_by_role("dialog").get_by_label("Purpose").fill("Will it freeze?")
    page.get_by_role("dialog").get_by_label("Person to ask").fill("a-approver")
    page.get_by_role("dialog").get_by_label("Labels").fill("site=slope")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    rules = page.locator("section").filter(has=page.get_by_role("heading", name="Rules", exact=True))
    expect(rules).to_contain_text("Will it freeze?")
    expect(rules).to_contain_text("A Approver")
    expect(rules).to_contain_text("site=slope")
    page.get_by_role("button", name="Review rules").click()
    page.get_by_role("dialog").get_by_label("Who registered a version may not").check()
    page.get_by_role("dialog").get_by_label("Sections").fill("Purpose, Limits")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    expect(rules).to_contain_text("by a second person")
    expect(page.get_by_text("still to be written: Purpose, Limits")).to_be_visible()
    page.get_by_role("button", name="Ladder").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("People who may place on production").fill("a-contributor")
    dialog.get_by_role("button", name="Add a stage above").click()
    dialog.get_by_label("Name of stage 4").fill("orchard-wide")
    dialog.get_by_role("button", name="Save").click()
    expect(rules).to_contain_text("placed by a-contributor")
    expect(rules).to_contain_text("A Maintainer is not named")
    expect(rules).to_contain_text("orchard-wide")
    accessible(page)
    # An occupied stage stays.
    project.place("promotions", "development", "contributor", version=1, expect=None)
    page.get_by_role("button", name="Ladder").click()
    watch.allowed.add(409)
    page.get_by_role("button", name="Remove development").click()
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("holds version 1; demote it before")


def test_evidence_labels_and_retirement(visit: Visit, project: Project, watch: Watch) -> None:
    candidate(project, 0.9, 1)
    page = visit("/e/frost-alarm/1", "maintainer")
    register(page, 1, "")
    page.get_by_role("button", name="Label").click()
    page.get_by_role("dialog").get_by_label("One key=value").fill("season=spring")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    expect(page.get_by_text("season=spring")).to_be_visible()
    page.get_by_role("button", name="Add evidence").click()
    watch.allowed |= {404, 422}
    page.get_by_role("dialog").get_by_label("Run").fill("frost-alarm/1")
    page.get_by_role("dialog").get_by_label("Name of the data").fill("spring")
    page.get_by_role("dialog").get_by_role("button", name="Add evidence").click()
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("it has some on: holdout")
    page.get_by_role("dialog").get_by_label("Name of the data").fill("holdout")
    page.get_by_role("dialog").get_by_role("button", name="Add evidence").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("button", name="Retire").click()
    page.get_by_role("dialog").get_by_role("button", name="Retire").click()
    expect(page.get_by_role("table", name="Stages")).to_contain_text("version 1 is retired")
    expect(page.get_by_role("button", name="Use again")).to_be_visible()


def test_models_are_found_over_all_projects(visit: Visit, project: Project) -> None:
    project.registered(1)
    project.registered(1, "dawn-minimum")
    page = visit("/models")
    table = page.get_by_role("table", name="Models")
    expect(table.get_by_role("row")).to_have_count(3)
    page.get_by_label("Find models").fill("dawn")
    expect(table.get_by_role("row")).to_have_count(2)
    page.get_by_label("Find models").fill("nothing like it")
    expect(page.get_by_text("No model fits.")).to_be_visible()
    page.get_by_label("Find models").fill("frost")
    page.get_by_label("of all projects").check()
    expect(table).to_contain_text(project.name)
    page.get_by_label("of all projects").uncheck()
    page.get_by_label("show").select_option("with a warning")
    expect(page.get_by_text("No model fits.")).to_be_visible()
    assert "state=warning" in page.url
    accessible(page)


@pytest.mark.parametrize("role", ["viewer", "contributor"])
def test_who_may_not_sees_why(visit: Visit, project: Project, role: str) -> None:
    project.registered(1)
    page: Any = visit("/models/frost-alarm", role)
    for name in ("Change", "Review rules", "Ladder"):
        button = page.get_by_role("button", name=name)
        expect(button).to_be_disabled()
        expect(button).to_have_attribute("title", re.compile("takes a maintainer"))
    expect(page.get_by_role("combobox", name="Lead version")).to_be_disabled()


def test_an_artifact_that_no_run_made_is_registered_with_its_origin(visit: Visit, project: Project) -> None:
    file = project.upload(b"bought")
    project.service("contributor").call(
        "POST",
        project.path("artifacts", "bought-net", "versions"),
        json={"id": new_id(), "at": 1, "kind": "model", "files": [file]},
    )
    page = visit("/data/bought-net")
    page.get_by_role("button", name="Register a version").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Model").fill("frost-alarm")
    dialog.get_by_label("No run made it").fill("bought from a neighbour")
    dialog.get_by_role("button", name="Register").click()
    expect(page.get_by_text("from elsewhere: bought from a neighbour")).to_be_visible()


def test_the_gates_of_the_past_are_kept(visit: Visit, project: Project) -> None:
    project.registered(1)
    project.verdict(1, "approve")
    gates = "[production]\napprovals = 2\n"
    project.service("maintainer").call("PUT", project.path("models", "frost-alarm", "gates"), json={"gates": gates})
    project.place("promotions", "production", "maintainer", version=1, expect=None, override="trial week")
    project.service("maintainer").call("PUT", project.path("models", "frost-alarm", "gates"), json={"gates": ""})
    page = visit("/models/frost-alarm")
    table = page.get_by_role("table", name="On the stages")
    table.get_by_text("0 of 1 gates met; overridden: trial week").click()
    expect(table).to_contain_text("2 approvals: it has 1")
    accessible(page)
