"""The console below a path, by TLS, from two services behind nginx: every page, file and change of it comes through."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.console.conftest import Watch
from tests.support.nginx import Behind, behind_nginx
from tests.support.world import PASSWORD, Instance, Project


@pytest.fixture
def behind(instance: Instance, tmp_path: Path) -> Iterator[Behind]:
    with behind_nginx(instance, tmp_path) as found:
        yield found


@pytest.fixture
def page(behind: Behind, chromium: Browser) -> Iterator[Page]:
    watch = Watch(behind.url)
    # Before the sign-in, and where nginx refuses a body: it is sent in parts then.
    watch.allowed = {401, 413}
    # Of a body that it refuses, nginx may close the connection before the browser has read that.
    watch.breaks_allowed = True
    context = chromium.new_context(ignore_https_errors=True, viewport={"width": 1280, "height": 800})
    page = context.new_page()
    watch.follow(page)
    yield page
    context.close()
    assert watch.wrong == []


def test_the_console_below_a_path(page: Page, behind: Behind, project: Project, tmp_path: Path) -> None:
    begun = project.begin("tries")
    page.goto(f"{behind.url}/{project.name}/e/tries")
    page.get_by_label("Name").fill("a-contributor")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("run")
    (cookie,) = [one for one in page.context.cookies() if "session" in str(one.get("name"))]
    assert str(cookie.get("name")).startswith("__Host-")
    assert cookie.get("secure")

    # A change comes in by the stream, whichever of the two services it was recorded at.
    page.goto(f"{behind.url}/{project.name}/e/{begun['reference']}")
    expect(page.get_by_text("running").first).to_be_visible()
    ending = {"status": "failed", "reason": "xanthous", "ended_at": 1_790_000_001_000_000}
    project.service("contributor").call("POST", project.run_path(begun, "ending"), json=ending)
    expect(page.get_by_text("xanthous").first).to_be_visible()

    # By links within the console, and back.
    page.get_by_role("link", name="Data", exact=True).click()
    expect(page).to_have_url(f"{behind.url}/{project.name}/data")
    page.go_back()
    expect(page).to_have_url(f"{behind.url}/{project.name}/e/{begun['reference']}")

    # Five times what nginx takes at once.
    page.goto(f"{behind.url}/{project.name}/data")
    content = secrets.token_bytes(5 * 2**20)
    (tmp_path / "net.bin").write_bytes(content)
    page.get_by_label("Files to keep").set_input_files(tmp_path / "net.bin")
    page.get_by_role("dialog").get_by_role("button", name="Keep").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("net@1 is stored here: 1 file, 5.2 MB")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download all").click()
    assert download.value.suggested_filename == "net-1.zip"
    requests = behind.passed()
    assert len({service for service, *_ in requests if service != "-"}) == 2
    assert [status for _, status, method, _ in requests if method == "PATCH" and status == "200"]
    assert [status for _, status, *_ in requests if status == "413"]
    assert all(path.startswith("/kinetrum/") for *_, path in requests)
