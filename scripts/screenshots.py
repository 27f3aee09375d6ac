"""Take the pictures in docs/screenshots from the running demo: the console's pages, and commands in a terminal.

`scripts/screenshots.py [NAME ...]` takes those named, all without names. Needs chromium, xvfb, xterm
and imagemagick.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from kinetrum.places import instance_folder

ROOT = Path(__file__).parent.parent
OUT = Path(os.environ.get("SHOTS", ROOT / "docs" / "screenshots"))
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
PAGES = {
    "today": "/",
    "project": "/orchard",
    "experiment-light": "/orchard/e/frost-alarm?sel={better}~1,{earlier}~2,{live}~3,{nan}~4",
    "groups": "/orchard/e/frost-alarm?q=learner+in+%7Bboost,+forest%7D+and+not+status+%3D+failed&group=replicates"
    "&cols=recall,false_alarms,fit_seconds,depth,rate,learner,seed,label:purpose&sel={better}~1,{earlier}~2",
    "parallel-dark": "/orchard/e/frost-alarm?lens=parallel&q=recall+in+0.9..1+and+fit_seconds+in+0..2"
    "&axes=learner,depth,rate,weight,rounds,fit_seconds,false_alarms,recall&sel={better}~1,{earlier}~2",
    "run": "/orchard/e/frost-alarm/{better}",
    "run-surroundings": "/orchard/e/gap-filling/7?surroundings=previous",
    "compare": "/orchard/compare?run=frost-alarm/{better}~1&run=frost-alarm/{earlier}~2",
    "data-difference": "/orchard/data/nights?version=3&against=nights@2&file=2024-spring/station-09.csv",
    "lineage": "/orchard/lineage?of=frost-net@5",
    "models": "/orchard/models",
    "model": "/orchard/models/frost-alarm",
    "review": "/orchard/models/frost-alarm/5",
}
COMMANDS = {
    "terminal-runs": 'kinetrum runs "recall >= 0.9 and depth in 2..4" -e frost-alarm --sort recall --limit 12; echo;'
    " kinetrum runs -e frost-alarm --replicates --sort recall --columns recall,false_alarms,fit_seconds,depth,learner,seed --limit 16;"
    ' echo; kinetrum runs "learner = forest and dept >= 3" -e frost-alarm',
    "terminal-compare": "kinetrum compare frost-alarm/{better} frost-alarm/{earlier}; echo; kinetrum effects -e frost-alarm | fold -sw 156",
    "terminal-track": "cd .demo/demo/gap-filling && kinetrum track -e gap-filling --set reach=3 --metrics out/scores.csv"
    " --step reach -- python neighbours.py --reach 3; kinetrum show gap-filling/last --output; kinetrum show gap-filling/last",
    "terminal-data": "kinetrum diff nights@2 nights@3; echo; kinetrum uses nights@3 | head -7; echo; kinetrum lineage frost-alarm@production",
    "terminal-results": "kinetrum plot frost-alarm/{better} held-out/roc --with frost-alarm/{earlier}; echo;"
    " kinetrum rows frost-alarm/{better} --with frost-alarm/{earlier} --on held-out --limit 5",
    "terminal-registry": "kinetrum models; echo; kinetrum review frost-alarm@4; echo; kinetrum history frost-alarm | head -8",
}


def names() -> dict[str, str]:
    """Return the numbers of the runs that the pictures show."""
    import kinetrum

    found = {}
    for run in kinetrum.runs(experiment="frost-alarm", project="orchard", sort="started:asc"):
        key = {
            "shallow and slow": "better",
            "five seeds": "earlier",
            "slow and long": "live",
            "rate too large": "nan",
            "too many trees": "failed",
            "search": "parent",
            "two workers, two thresholds": "problem",
            "cut off by a thunderstorm": "lost",
        }.get(run.name or "")
        if key and key not in found:
            found[key] = str(run.number)
    return found


def sign_in(page: Page, url: str) -> None:
    """Sign in as the first account."""
    words = (instance_folder() / "first-account.txt").read_text().split()
    page.goto(url)
    page.get_by_label("Name").fill(words[1])
    page.get_by_label("Password").fill(words[3])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", level=1).wait_for()
    page.get_by_role("heading", name="Sign in").wait_for(state="detached")


def take_pages(wanted: list[str], url: str, runs: dict[str, str]) -> None:
    """Take pages at 1280 x 800."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, locale="en-GB")
        page = context.new_page()
        page.on("console", lambda message: message.type == "error" and print("console:", message.text))
        page.goto(url)
        page.get_by_role("button", name="Sign in").wait_for()
        sign_in(page, url)
        for name in wanted:
            if name not in PAGES:
                continue
            theme = "dark" if name.endswith("dark") else "light"
            page.evaluate(f"() => localStorage.setItem('theme', '{theme}')")
            page.goto(url + PAGES[name].format(**runs))
            page.get_by_role("heading", level=1).wait_for()
            # Judging rows takes a process of its own.
            page.wait_for_timeout(4000 if name in {"compare", "review"} else 1200)
            page.screenshot(path=OUT / f"{name}.png")
        browser.close()


def take_terminals(wanted: list[str], runs: dict[str, str]) -> None:
    """Run commands in a terminal window on a virtual screen and take its picture."""
    display = ":87"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        for name in wanted:
            if name not in COMMANDS:
                continue
            command = COMMANDS[name].format(**runs).replace("show model;", "show frost-alarm@production;")
            with tempfile.TemporaryDirectory() as folder:
                line = (
                    f"PATH={ROOT}/.venv/bin:$PATH; printf '\\033[2m$ %s\\033[0m\\n' '{command}'; {command};"
                    f" touch {folder}/shown; sleep 30"
                )
                terminal = subprocess.Popen(
                    [
                        "xterm",
                        "-fa",
                        "DejaVu Sans Mono",
                        "-fs",
                        "10",
                        "-geometry",
                        "158x48+0+0",
                        "-bg",
                        "#fdfdfc",
                        "-fg",
                        "#1a2125",
                        "-e",
                        "bash",
                        "-c",
                        line,
                    ],
                    env=os.environ | {"DISPLAY": display, "LANG": "C.UTF-8"},
                )
                give_up = time.monotonic() + 40
                while not (Path(folder) / "shown").exists() and time.monotonic() < give_up:
                    time.sleep(0.1)
                time.sleep(0.7)
                subprocess.run(["import", "-display", display, "-window", "root", str(OUT / f"{name}.png")], check=True)
                terminal.kill()
                terminal.wait()
    finally:
        screen.kill()
        screen.wait()


def main() -> None:
    """Take what is asked for."""
    url = json.loads((instance_folder() / "state.json").read_text())["url"]
    os.environ.setdefault("KINETRUM_PROJECT", "orchard")
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or [*PAGES, *COMMANDS]
    runs = names()
    if any(name in PAGES for name in wanted):
        take_pages(wanted, url, runs)
    if any(name in COMMANDS for name in wanted):
        take_terminals(wanted, runs)


if __name__ == "__main__":
    main()
