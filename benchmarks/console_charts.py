"""Charts of many runs in a real browser: 50 curves under a moving mouse against an empty page; 2,000 parallel lines against 20."""

from __future__ import annotations

import os
import shutil
import statistics
import time
from pathlib import Path
from typing import Any

import kinetrum
from benchmarks.console_table import FLAGS
from benchmarks.measuring import Ratio, in_turn, ratio
from benchmarks.run_table import make_runs

CURVES, POINTS, LINES = 50, 1_000, 2_000
# Moves the mouse over, an event a frame, and tells how long frames took.
MOVE = """
async ([selector, steps]) => {
  const target = selector ? document.querySelector(selector) : document.body
  const box = target.getBoundingClientRect()
  const took = []
  let before = performance.now()
  for (let step = 0; step < steps; step++) {
    const clientX = box.left + box.width * (0.25 + 0.5 * (step / steps))
    const clientY = box.top + box.height / 2
    target.dispatchEvent(new MouseEvent('mousemove', { bubbles: true, clientX, clientY, movementX: 5 }))
    await new Promise(requestAnimationFrame)
    const now = performance.now()
    took.push(now - before)
    before = now
  }
  return took
}
"""


def console_charts(url: str, token: str) -> list[Ratio]:
    """Compare in one browser."""
    from playwright.sync_api import sync_playwright

    _record()
    make_runs("lines", LINES)
    words = (Path(os.environ["KINETRUM_BENCH_HOME"]) / "first-account.txt").read_text().split()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(url)
        page.get_by_label("Name").fill(words[1])
        page.get_by_label("Password").fill(words[3])
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Sign in").wait_for(state="detached")
        rows = [_under_the_mouse(page, url), _lines(page, url)]
        browser.close()
    return rows


def _record() -> None:
    for number in range(CURVES):
        with kinetrum.begin("curves", params={"depth": number % 7}, seed=number) as run:
            for step in range(POINTS):
                run.measure(loss=1 / (step + 1) + number / 100, step=step)
    run.flush()


def _under_the_mouse(page: Any, url: str) -> Ratio:
    longest: list[float] = []

    def frames(selector: str | None) -> float:
        found = page.evaluate(MOVE, [selector, 120])
        if selector:
            longest.append(max(found))
        return sum(found) / len(found)

    def curves() -> float:
        page.goto(f"{url}/main/e/curves?y=loss")
        page.wait_for_selector(".u-over")
        page.wait_for_timeout(1_500)
        return frames(".u-over")

    def empty() -> float:
        page.goto(f"{url}/main/bin")
        page.wait_for_selector("h1")
        page.wait_for_timeout(800)
        return frames(None)

    left, right = in_turn(curves, empty, 7)
    print(f"      longest frame over 50 curves: median {statistics.median(longest):.0f} ms (target 50 ms)")
    return ratio(
        f"frames while the mouse moves over an empty page / {CURVES} curves x {POINTS:,} points",
        "≥ 0.9x",
        right,
        left,
        "empty page, a frame",
        "curves, a frame",
        1.0,
        "ms",
    )


def _lines(page: Any, url: str) -> Ratio:
    axes = "&axes=param-1,param-2,param-3,param-4,result-1,result-2,result-3,result-4"

    def drawn(query: str) -> float:
        page.goto("about:blank")
        started = time.perf_counter()
        page.goto(f"{url}/main/e/lines?lens=parallel{axes}{query}", wait_until="commit")
        page.wait_for_selector("[aria-label^='Parallel coordinates'] >> visible=true")
        page.wait_for_selector("[role=img][data-drawn=true]")
        return time.perf_counter() - started

    left, right = in_turn(lambda: drawn(""), lambda: drawn("&q=number+in+1..20"), 5)
    return ratio(
        f"parallel coordinates of {LINES:,} runs x 8 axes, from the address to drawn / of 20 runs",
        "reported",
        left,
        right,
        "2,000 lines",
        "20 lines",
        1e3,
        "ms",
    )
