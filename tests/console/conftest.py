"""The console in headless Chromium against the real service; any console error or foreign request fails a test."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, Request, Response, expect, sync_playwright

from tests.conftest import PASSWORD, Instance, Project

FLAGS = [
    "--no-sandbox", "--disable-quic", "--disable-background-networking", "--disable-component-update",
    "--disable-sync", "--no-first-run", "--disable-default-apps",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
]  # fmt: skip


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    path = shutil.which("chromium")
    assert path, "chromium is not installed; scripts/setup test installs it"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
        yield browser
        browser.close()


# What tables hold is read by a process of its own, which waits for its turn on a busy machine.
expect.set_options(timeout=15_000)


class Watch:
    """Collects what must not happen on a page; statuses and breaks that a test provokes are named by it beforehand."""

    def __init__(self, url: str) -> None:
        self.url, self.wrong, self.allowed = url, list[str](), set[int]()
        self.breaks_allowed = False

    def follow(self, page: Page) -> None:
        page.on("console", lambda message: message.type == "error" and self._note(f"console: {message.text}"))
        page.on("pageerror", lambda error: self._note(f"error: {error}"))
        page.on("response", self._response)
        page.on("request", self._request)

    def _note(self, text: str) -> None:
        broke = self.breaks_allowed and "ERR_CONNECTION_RESET" in text
        if not broke and not any(f"status of {status}" in text for status in self.allowed):
            self.wrong.append(text)

    def _response(self, response: Response) -> None:
        if response.status >= 400 and response.status not in self.allowed:
            self.wrong.append(f"{response.status} {response.url}")

    def _request(self, request: Request) -> None:
        if not request.url.startswith((self.url, "data:", "blob:")):
            self.wrong.append(f"elsewhere: {request.url}")


@pytest.fixture
def watch(instance: Instance) -> Iterator[Watch]:
    watching = Watch(instance.url)
    yield watching
    assert watching.wrong == []


@pytest.fixture
def context(chromium: Browser, instance: Instance) -> Iterator[BrowserContext]:
    made = chromium.new_context(
        base_url=instance.url, viewport={"width": 1280, "height": 800}, locale="en-GB", timezone_id="UTC",
        reduced_motion="reduce", color_scheme="light",
    )  # fmt: skip
    made.set_default_timeout(15_000)
    yield made
    made.close()


@pytest.fixture
def visit(context: BrowserContext, watch: Watch, project: Project) -> Callable[..., Page]:
    """Sign in as a role of the project and open an address of it."""

    def go(address: str = "", role: str = "contributor") -> Page:
        page = context.new_page()
        watch.follow(page)
        page.goto("/")
        page.get_by_label("Name").fill(f"a-{role}")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Sign in").wait_for(state="detached")
        page.goto(f"/{project.name}{address}")
        page.get_by_role("heading", level=1).wait_for()
        return page

    return go
