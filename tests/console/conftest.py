"""The console in headless Chromium against the real service; any console error or foreign request fails a test."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, BrowserType, Page, Request, Response, expect, sync_playwright

from tests.support.world import PASSWORD, Instance, Project

CHROMIUM = shutil.which("chromium")
FLAGS = [
    "--no-sandbox",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-default-apps",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
]


@pytest.fixture(scope="session")
def driver() -> Iterator[BrowserType]:
    assert CHROMIUM, "chromium is not installed; scripts/setup test installs it"
    with sync_playwright() as playwright:
        yield playwright.chromium


@pytest.fixture(scope="session")
def chromium(driver: BrowserType) -> Iterator[Browser]:
    """A browser for those who come from elsewhere: other people, guests, windows of another size."""
    browser = driver.launch(executable_path=CHROMIUM, args=FLAGS)
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
        broke = self.breaks_allowed and any(how in text for how in ("ERR_CONNECTION_RESET", "ERR_TOO_MANY_RETRIES"))
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


@pytest.fixture(scope="session")
def own_browser(
    driver: BrowserType, instance: Instance, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[BrowserContext]:
    """A browser with a folder of its own, so that it keeps the console's code compiled from one test to the next."""
    made = driver.launch_persistent_context(
        tmp_path_factory.mktemp("browser"),
        executable_path=CHROMIUM,
        args=FLAGS,
        base_url=instance.url,
        viewport={"width": 1280, "height": 800},
        locale="en-GB",
        timezone_id="UTC",
        reduced_motion="reduce",
        color_scheme="light",
    )
    made.set_default_timeout(15_000)
    yield made
    made.close()


@pytest.fixture
def context(own_browser: BrowserContext, instance: Instance) -> Iterator[BrowserContext]:
    """The browser as new: nobody signed in, nothing remembered or allowed."""
    yield own_browser
    first, *others = own_browser.pages
    for page in others:
        page.close()
    tools = own_browser.new_cdp_session(first)
    tools.send("Storage.clearDataForOrigin", {"origin": instance.url, "storageTypes": "local_storage"})
    tools.detach()
    own_browser.clear_cookies()
    own_browser.clear_permissions()
    own_browser.set_offline(False)


@pytest.fixture
def visit(context: BrowserContext, watch: Watch, project: Project) -> Callable[..., Page]:
    """Sign in as a role of the project and open an address of it."""

    def go(address: str = "", role: str = "contributor") -> Page:
        page = context.new_page()
        watch.follow(page)
        signed_in = page.request.post("/api/v1/session", data={"name": f"a-{role}", "password": PASSWORD})
        assert signed_in.ok
        page.goto(f"/{project.name}{address}")
        page.get_by_role("heading", level=1).wait_for()
        return page

    return go
