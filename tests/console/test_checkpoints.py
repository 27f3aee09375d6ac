"""Checkpoints in the console: chosen by value, registered by step; rules told beforehand; evidence that was replaced."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import expect

import kinetrum
from tests.client.registry.test_registered_checkpoints import train
from tests.console.test_console import accessible
from tests.console.test_finding import Visit
from tests.console.test_registry import candidate, register
from tests.support.world import Project


def test_a_checkpoint_is_found_by_value_and_registered(visit: Visit, recording: Project, tmp_path: Path) -> None:
    train(tmp_path)
    page = visit("/data/net")
    versions = page.get_by_role("table", name="Versions")
    expect(versions.get_by_role("row").first).to_contain_text("net@6")
    page.get_by_label("Order of the versions").select_option("val_loss")
    # Its goal is lower: 0.05, of step 3.
    expect(versions.get_by_role("row").first).to_contain_text("net@4")
    expect(versions.get_by_role("row").first).to_contain_text("step 3, val_loss 0.05")
    expect(versions.get_by_role("row").last).to_contain_text("val_loss 0.9")
    assert "by=val_loss" in page.url
    accessible(page)
    # A run made six of them: which one is asked for, never taken for granted.
    page.goto(f"/{recording.name}/e/ckpts/1")
    page.get_by_role("button", name="Register").first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Files it generated").select_option("net")
    dialog.get_by_label("Model").fill("frost-alarm")
    choice = dialog.get_by_label("Checkpoint, one of 6")
    expect(choice.get_by_role("option")).to_have_count(7)
    dialog.get_by_role("button", name="Register").click()
    assert recording.service().get(recording.path("models"))["models"] == []
    choice.select_option("3")
    accessible(page)
    dialog.get_by_role("button", name="Register").click()
    expect(page.get_by_text("its checkpoint of step 3")).to_be_visible()
    side = page.get_by_role("table", name="Side by side")
    expect(side.get_by_role("row").filter(has_text="val_loss")).to_contain_text("0.05")
    expect(page.get_by_text("slow is that of step 2, the latest before.")).to_be_visible()
    assert kinetrum.model("frost-alarm")[1].values["val_loss"] == 0.05


def test_rules_say_beforehand_what_they_turn(visit: Visit, project: Project) -> None:
    project.registered(1)
    project.verdict(1, "approve")
    project.place("promotions", "production", "approver", version=1, expect=None)
    page = visit("/models/frost-alarm", "maintainer")
    page.get_by_role("button", name="Review rules").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Approvals needed").fill("2")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("version 1, which stays on production")
    rules = project.service().get(project.path("models", "frost-alarm"))
    assert rules["approvals_needed"] == 1
    accessible(page)
    # Another number is another question; the first one again changes nothing, so nothing is asked.
    dialog.get_by_label("Approvals needed").fill("1")
    expect(dialog.get_by_role("alert")).to_have_count(0)
    dialog.get_by_label("Approvals needed").fill("2")
    dialog.get_by_role("button", name="Save").click()
    dialog.get_by_role("button", name="Save all the same").click()
    expect(dialog).to_have_count(0)
    assert project.service().get(project.path("models", "frost-alarm"))["approvals_needed"] == 2


def test_evidence_that_replaces_older_is_shown_beside_it(visit: Visit, project: Project) -> None:
    candidate(project, 0.80, 1)
    page = visit("/e/frost-alarm/1")
    register(page, 1, "first")
    project.verdict(1, "approve")
    # The same files, judged anew.
    candidate(project, 0.97, 2, net=1)
    page.get_by_role("button", name="Add evidence").click()
    page.get_by_role("dialog").get_by_label("Run").fill("frost-alarm/2")
    page.get_by_role("dialog").get_by_label("Name of the data").fill("holdout")
    page.get_by_role("dialog").get_by_role("button", name="Add evidence").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_text("It replaced what was added by A Contributor")).to_be_visible()
    expect(page.get_by_text("older than the newest evidence")).to_be_visible()
    accessible(page)
