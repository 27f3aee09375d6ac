"""Following runs in the console: output as it is printed, surroundings, activities, Today; a second person in a browser of her own."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect

from tests.console.test_console import accessible
from tests.support.world import PASSWORD, Instance, Project, new_id

Visit = Callable[..., Page]
AT = 1_790_000_000_000_000


def say(project: Project, begun: dict[str, Any], *texts: str, stream: str = "stdout", position: int = 1) -> None:
    pieces = [
        {"position": position + at, "at": AT + at * 1_000_000, "stream": stream, "text": text}
        for at, text in enumerate(texts)
    ]
    body = {"writer": project_writer(begun), "pieces": pieces}
    project.service("contributor").call("POST", project.run_path(begun, "output"), json=body)


def project_writer(begun: dict[str, Any]) -> str:
    return str(begun["id"])


def surround(project: Project, begun: dict[str, Any], **caught: Any) -> None:
    project.service("contributor").call("PUT", project.run_path(begun, "surroundings"), json=caught)


def end(project: Project, begun: dict[str, Any], status: str = "finished", reason: str | None = None) -> None:
    body = {"status": status, "reason": reason, "ended_at": time.time_ns() // 1000}
    project.service("contributor").call("POST", project.run_path(begun, "ending"), json=body)


def test_output_appears_as_it_is_printed(visit: Visit, project: Project) -> None:
    begun = project.begin()
    page = visit("/e/frost-alarm/1")
    lines = page.get_by_role("log", name="Printed lines")
    expect(lines).to_contain_text("Nothing was printed yet.")
    say(project, begun, "first line\n", "\x1b[31mred\x1b[0m and plain\n", "10 %")
    expect(lines).to_contain_text("first line")
    expect(lines.locator(".printed-red")).to_have_text("red")
    expect(lines).to_contain_text("10 %")
    say(project, begun, "\r20 %", position=10)
    expect(lines).to_contain_text("20 %")
    expect(lines).not_to_contain_text("10 %")
    say(project, begun, "a warning\n", stream="stderr", position=20)
    expect(lines).to_contain_text("a warning")
    accessible(page)
    page.get_by_label("Stream").select_option("stderr")
    expect(lines).not_to_contain_text("first line")
    expect(page).to_have_url(re.compile("stream=stderr"))


def test_finding_in_long_output(visit: Visit, project: Project) -> None:
    begun = project.begin()
    say(project, begun, "".join(f"line {at}\n" for at in range(3_000)))
    page = visit("/e/frost-alarm/1")
    lines = page.get_by_role("log", name="Printed lines")
    expect(lines).to_contain_text("line 2999")
    expect(lines).not_to_contain_text("line 1999")
    page.get_by_role("button", name="Show lines before 2,000").click()
    expect(lines).to_contain_text("line 1999")
    page.get_by_label("Find in output").fill("LINE 17")
    expect(page.get_by_text("111 lines with")).to_be_visible()
    expect(lines.locator("mark").first).to_have_text("line 17")
    with page.expect_download() as waiting:
        page.get_by_role("link", name="Save", exact=True).click()
    assert Path(waiting.value.path()).read_text().splitlines()[2_999] == "line 2999"


def test_code_packages_and_what_differs_from_the_run_before(visit: Visit, project: Project) -> None:
    first, second = project.begin(), project.begin()
    code = {
        "commit": "4f2a9c1d" * 5,
        "branch": "main",
        "entry": "train.py",
        "address": "https://git.kestrelfold.example/f.git",
    }
    surround(project, first, code=code, packages={"numpy": "2.0", "scipy": "1.0"}, about={"command": "python train.py"})
    surround(
        project,
        second,
        code={**code, "changed_files": 1},
        difference="--- a\n+++ b\n-depth = 5\n+depth = 6",
        packages={"numpy": "2.1", "scipy": "1.0"},
        job={"job": "https://ci.kestrelfold.example/7"},
        about={"command": "python train.py --depth 6"},
    )
    page = visit("/e/frost-alarm/2")
    expect(page.get_by_text("4f2a9c1d4f2a")).to_be_visible()
    expect(page.get_by_role("link", name="https://ci.kestrelfold.example/7")).to_be_visible()
    page.get_by_role("button", name="Code as it was").click()
    expect(page.get_by_role("region", name="Uncommitted changes")).to_contain_text("+depth = 6")
    page.get_by_role("button", name="Packages").click()
    expect(page.get_by_role("listitem").filter(has_text="numpy")).to_contain_text("2.1")
    page.get_by_role("button", name="Against frost-alarm/1").click()
    expect(page).to_have_url(re.compile("surroundings=previous"))
    expect(page.get_by_text("The commit is the same, the uncommitted changes differ.")).to_be_visible()
    table = page.get_by_role("table", name="Surroundings that differ")
    expect(table.get_by_role("row").filter(has_text="numpy")).to_contain_text("2.02.1")
    expect(table).not_to_contain_text("scipy")
    accessible(page)


def test_activities_progress_and_use_of_the_machine(visit: Visit, project: Project) -> None:
    begun = project.begin()
    service = project.service("contributor")
    for at, (name, ended) in enumerate([("preparing", AT + 2_000_000), ("training", None)]):
        body = {"name": name, "started_at": AT + at * 2_000_000, "ended_at": ended}
        service.call("PUT", project.run_path(begun, "activities", new_id()), json=body)
    service.call("PUT", project.run_path(begun, "progress"), json={"done": 30, "total": 40, "since": AT, "at": AT + 9})
    samples = {
        "at": [AT + at * 1_000_000 for at in range(5)],
        "cpu (%)": [None, 90, 95, 99, 90],
        "memory (bytes)": [1e8] * 5,
    }
    service.call("POST", project.run_path(begun, "resources"), json={"id": new_id(), "samples": samples})
    results = {"results": [{"id": new_id(), "key": "training/loss", "value": 0.5, "at": AT}]}
    service.call("POST", project.run_path(begun, "results"), json=results)
    page = visit("/e/frost-alarm/1")
    expect(page.get_by_role("heading", level=1)).to_contain_text("30 of 40 done")
    table = page.get_by_role("table", name="Activities")
    expect(table.get_by_role("row").filter(has_text="preparing")).to_contain_text("2.0 s")
    expect(table.get_by_role("row").filter(has_text="training")).to_contain_text("running")
    expect(table.get_by_role("row").filter(has_text="training")).to_contain_text("loss")
    expect(page.get_by_role("img", name="Processor of frost-alarm/1")).to_be_visible()
    expect(page.get_by_text("highest 99 %")).to_be_visible()
    accessible(page)


@pytest.fixture
def second_person(chromium: Browser, instance: Instance) -> Any:
    made = chromium.new_context(
        base_url=instance.url, viewport={"width": 1280, "height": 800}, locale="en-GB", timezone_id="UTC"
    )
    made.set_default_timeout(15_000)
    yield made
    made.close()


def test_a_second_person_follows_an_unchanged_script(
    visit: Visit, second_person: BrowserContext, recording: Project, catching: None, tmp_path: Path
) -> None:
    """One starts a command in a terminal; another, signed in elsewhere, sees it come, speak, measure and end."""
    theirs = second_person.new_page()
    theirs.goto("/")
    theirs.get_by_label("Name").fill("a-viewer")
    theirs.get_by_label("Password").fill(PASSWORD)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_role("heading", name="Sign in").wait_for(state="detached")
    theirs.goto(f"/{recording.name}")
    theirs.get_by_role("heading", level=1).wait_for()
    script = tmp_path / "train.py"
    script.write_text("""
import time
for at in range(40):
    print("round", at, flush=True)
    open("scores.csv", "a").write(("step,loss\\n" if at == 0 else "") + f"{at},{1 / (at + 1)}\\n")
    time.sleep(0.25)
""")
    process = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "kinetrum.cli.main",
            "track",
            "-e",
            "live",
            "--metrics",
            "scores.csv",
            "--",
            sys.executable,
            "train.py",
        ],
        cwd=tmp_path,
        env=os.environ.copy(),
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        theirs.get_by_role("link", name="live", exact=True).click()
        theirs.get_by_role("link", name="1", exact=True).first.click()
        expect(theirs.get_by_role("heading", level=1)).to_contain_text("is running")
        lines = theirs.get_by_role("log", name="Printed lines")
        expect(lines).to_contain_text("round 10")
        expect(theirs.get_by_role("img", name="loss of live/1 by step")).to_be_visible()
        expect(lines).to_contain_text("round 39", timeout=20_000)
        expect(theirs.get_by_role("heading", level=1)).to_contain_text("Run 1 finished")
    finally:
        assert process.wait(30) == 0


@pytest.fixture
def noor(second_person: BrowserContext, project: Project) -> Page:
    """An approver of this project and no other, so that her Today shows this test alone."""
    name, admin = f"noor-{new_id()[-8:]}", project.service()
    admin.call("POST", "/people", json={"name": name, "full_name": "Noor Adair", "password": PASSWORD})
    admin.call("PUT", project.path("members", name), json={"role": "approver"})
    page = second_person.new_page()
    page.goto("/")
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", level=1).filter(has_text="running").wait_for()
    return page


def test_today_tells_what_happened_and_what_waits(noor: Page, project: Project) -> None:
    project.registered()
    goals = {"recall": {"direction": "higher"}}
    best, failed, live = project.begin(goals=goals), project.begin(), project.begin(name="long one")
    body = {"results": [{"id": new_id(), "key": "recall", "value": 0.9, "at": AT}]}
    project.service("contributor").call("POST", project.run_path(best, "results"), json=body)
    end(project, best)
    end(project, failed, "failed", "Traceback\nout of memory in fit")
    page = noor
    expect(page.get_by_role("button", name="Sign in")).to_have_count(0)
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 version waits for your review")
    ours = (
        page.get_by_role("table", name="Finished")
        .get_by_role("row")
        .filter(has=page.locator(f'a[href="/{project.name}/e/{best["reference"]}"]'))
    )
    expect(ours).to_contain_text("best so far")
    expect(ours).to_contain_text("recall ↑ 0.9")
    look = (
        page.get_by_role("table", name="Needs a look")
        .get_by_role("row")
        .filter(has=page.locator(f'a[href="/{project.name}/e/{failed["reference"]}"]'))
    )
    expect(look).to_contain_text("out of memory in fit")
    running = (
        page.get_by_role("table", name="Running now")
        .get_by_role("row")
        .filter(has=page.locator(f'a[href="/{project.name}/e/{live["reference"]}"]'))
    )
    expect(running).to_contain_text("long one")
    accessible(page)
    project.service("contributor").call(
        "PUT", project.run_path(live, "progress"), json={"done": 3, "total": 4, "since": AT, "at": AT + 9}
    )
    expect(running).to_contain_text("3 of 4 done")
    end(project, live)
    expect(running).to_have_count(0)
    page.locator(f'a[href="/{project.name}/models/frost-alarm/1"]').click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1")


def test_notifications_tell_of_endings_to_whom_allows_them(noor: Page, project: Project) -> None:
    page = noor
    page.context.grant_permissions(["notifications"])
    page.add_init_script("""
        window.told = []
        window.Notification = class { constructor(title, rest) { window.told.push(title + ': ' + rest.body) } }
        window.Notification.permission = 'granted'
        window.Notification.requestPermission = async () => 'granted'
    """)
    begun = project.begin(name="long one")
    page.reload()
    page.get_by_role("button", name="Notify me of endings").click()
    expect(page.get_by_role("button", name="Notifying me of endings")).to_have_attribute("aria-pressed", "true")
    expect(page.locator(f'a[href="/{project.name}/e/{begun["reference"]}"]').first).to_be_visible()
    end(project, begun, "failed", "it broke")
    page.wait_for_function("() => window.told.length > 0")
    assert f"{begun['reference']} failed: it broke" in page.evaluate("() => window.told")


def test_the_projects_page_finds_and_filters(visit: Visit, project: Project) -> None:
    project.begin("frost-alarm", goals={"recall": {"direction": "higher", "bound": 0.8}})
    ended = project.begin("dawn-minimum")
    end(project, ended)
    page = visit()
    table = page.get_by_role("table", name="Experiments")
    expect(table.get_by_role("row").filter(has_text="dawn-minimum")).to_be_visible()
    page.get_by_label("Find experiments").fill("frost*")
    expect(table.get_by_role("row").filter(has_text="dawn-minimum")).to_have_count(0)
    expect(page).to_have_url(re.compile(r"find=frost"))
    page.get_by_label("Find experiments").fill("")
    page.get_by_label("only running").check()
    expect(table.get_by_role("row").filter(has_text="dawn-minimum")).to_have_count(0)
    expect(table.get_by_role("row").filter(has_text="frost-alarm")).to_be_visible()
    project.begin("gap-filling")
    expect(table.get_by_role("row").filter(has_text="gap-filling")).to_be_visible()
