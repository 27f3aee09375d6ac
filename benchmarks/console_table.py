"""The run table in a real browser: the first useful paint with 10,000 runs, and scrolling it, against an empty page."""

from __future__ import annotations

import json
import os
import shutil
import statistics
import time
from pathlib import Path
from typing import Any

from benchmarks.measuring import Ratio, in_turn, ratio
from benchmarks.run_table import make_runs
from kinetrum.client.transport.http import Service

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
# Scrolls by a gesture's steps, one a frame, and tells how long frames took.
SCROLL = """
async ([selector, steps]) => {
  const holder = selector ? document.querySelector(selector).parentElement : document.scrollingElement
  const took = []
  let before = performance.now()
  for (let step = 0; step < steps; step++) {
    holder.scrollTop += 120
    await new Promise(requestAnimationFrame)
    const now = performance.now()
    took.push(now - before)
    before = now
  }
  return took
}
"""


def console_table(url: str, token: str) -> list[Ratio]:
    """Compare with an empty page of the same service, in one browser."""
    from playwright.sync_api import sync_playwright

    make_runs("console", 10_000)
    Service(url, token).call(
        "PUT", "/projects/main/experiments/console/goal", params={"key": "result-3"}, json={"direction": "higher"}
    )
    words = (Path(os.environ["KINETRUM_BENCH_HOME"]) / "first-account.txt").read_text().split()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(url)
        page.get_by_label("Name").fill(words[1])
        page.get_by_label("Password").fill(words[3])
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Sign in").wait_for(state="detached")
        rows = [_first_paint(page, url), _scrolling(page, url), _growing(page, url, token)]
        _bytes(page, url)
        browser.close()
    return rows


def _opened(page: Any, address: str, what: str) -> float:
    page.goto("about:blank")
    started = time.perf_counter()
    page.goto(address, wait_until="commit")
    page.wait_for_selector(what)
    return time.perf_counter() - started


def _first_paint(page: Any, url: str) -> Ratio:
    left, right = in_turn(
        lambda: _opened(page, f"{url}/main/e/console", "[data-at='20']"),
        lambda: _opened(page, f"{url}/main/bin", "h1"),
        9,
    )
    more = statistics.median(a - b for a, b in zip(left, right, strict=True))
    print(f"      {more * 1e3:.0f} ms more than an empty page (target 1,000 ms)")
    return ratio(
        "first useful paint of 10,000 runs x 71 keys / of an empty page",
        "≤ 1 s more",
        left,
        right,
        "table",
        "empty page",
        1e3,
        "ms",
    )


def _frames(page: Any, selector: str | None, steps: int = 90) -> list[float]:
    found: list[float] = page.evaluate(SCROLL, [selector, steps])
    return found


def _scrolling(page: Any, url: str) -> Ratio:
    longest: list[float] = []

    def table() -> float:
        page.goto(f"{url}/main/e/console")
        page.wait_for_selector("[data-at='20']")
        page.wait_for_timeout(800)
        frames = _frames(page, "[role=treegrid]")
        longest.append(max(frames))
        return sum(frames) / len(frames)

    def empty() -> float:
        page.goto(f"{url}/main/bin")
        page.wait_for_selector("h1")
        page.wait_for_timeout(800)
        frames = _frames(page, None)
        return sum(frames) / len(frames)

    left, right = in_turn(table, empty, 7)
    print(f"      longest frame while scrolling: median {statistics.median(longest):.0f} ms (target 50 ms)")
    # Frames of the one for each frame of the other.
    return ratio(
        "frames while an empty page is scrolled / the table",
        "≥ 0.9x",
        right,
        left,
        "empty page, a frame",
        "table, a frame",
        1e3 / 1e3,
        "ms",
    )


def _growing(page: Any, url: str, token: str) -> Ratio:
    """Let a table grow while it is scrolled: how long frames take then, against a table at rest."""
    from kinetrum.core.base.ids import uuid7

    service = Service(url, token)

    def scrolled() -> float:
        page.goto(f"{url}/main/e/console?sort=number")
        page.wait_for_selector("[data-at='20']")
        page.wait_for_timeout(500)
        frames = _frames(page, "[role=treegrid]", 60)
        return sum(frames) / len(frames)

    def grown() -> float:
        page.goto(f"{url}/main/e/console?sort=number")
        page.wait_for_selector("[data-at='20']")
        page.wait_for_timeout(500)
        for _ in range(10):
            run = uuid7(time.time_ns() // 1_000_000, os.urandom(10))
            service.call(
                "PUT", f"/projects/main/experiments/console/runs/{run}", json={"started_at": time.time_ns() // 1_000}
            )
        frames = _frames(page, "[role=treegrid]", 60)
        return sum(frames) / len(frames)

    left, right = in_turn(grown, scrolled, 5)
    service.close()
    return ratio("a frame while ten runs arrive / at rest", "none stated", left, right, "growing", "at rest", 1.0, "ms")


def _bytes(page: Any, url: str) -> None:
    sizes: dict[str, int] = {}
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    session.send("Network.setCacheDisabled", {"cacheDisabled": True})
    for name, address in (("Today", url), ("an experiment", f"{url}/main/e/console")):
        page.goto("about:blank")
        page.goto(address)
        page.wait_for_timeout(1_500)
        found = page.evaluate(
            "() => performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).map(e => e.name)"
        )
        import gzip
        import urllib.request

        sizes[name] = sum(len(gzip.compress(urllib.request.urlopen(each).read())) for each in found)
    print(
        f"      JavaScript, gzipped: {json.dumps({name: f'{size / 1e3:.0f} kB' for name, size in sizes.items()})} (target 200 kB)"
    )
