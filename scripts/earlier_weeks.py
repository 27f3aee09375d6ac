"""Make the archive of the demo's earlier weeks anew: rules of thumb tried on a laptop, exported as an RO-Crate.

Records for real into an instance of its own, exports, and moves all times into the weeks before. The archive is part
of the package and is imported by the demo.
"""

from __future__ import annotations

import json
import os
import re
import sys
import tempfile
import zipfile
from pathlib import Path

import numpy as np

ROOT = Path(__file__).parents[1]
TARGET = ROOT / "src" / "kinetrum" / "demo" / "earlier-weeks.zip"
EXPERIMENT = "rules-of-thumb"
WEEK_US = 7 * 86_400 * 1_000_000
FIRST_WEEK = 5
RULES = [
    ("evening below 3", {"rule": "evening_c < limit", "limit": 3.0}, 5),
    ("evening below 5", {"rule": "evening_c < limit", "limit": 5.0}, 5),
    ("dew below 0", {"rule": "dew_c < limit", "limit": 0.0}, 4),
    ("evening less fall", {"rule": "evening_c - fall_c < limit", "limit": 3.5}, 4),
    ("evening less fall, warmer", {"rule": "evening_c - fall_c < limit", "limit": 4.5}, 3),
    ("with the hollow", {"rule": "evening_c - fall_c - 2 hollow < limit", "limit": 3.5}, 3),
]


def record(url: str, token: str, folder: Path) -> None:
    import kinetrum
    from kinetrum.demo.training import FROST_GOALS
    from kinetrum.demo.weather import make_nights, read_nights, write_nights

    write_nights(make_nights((2022, 2023), True), folder / "first-nights")
    nights = read_nights(folder / "first-nights")
    evening, dew, fall, hollow = (nights.features[:, at] for at in (0, 4, 7, 6))
    told = {
        "evening_c < limit": evening,
        "dew_c < limit": dew,
        "evening_c - fall_c < limit": evening - fall,
        "evening_c - fall_c - 2 hollow < limit": evening - fall - 2 * hollow,
    }
    goals = {key: goal for key, goal in FROST_GOALS.items() if key in {"recall", "false_alarms"}}
    os.environ.update(KINETRUM_URL=url, KINETRUM_TOKEN=token, KINETRUM_PROJECT="orchard")
    for name, params, _ in RULES:
        with kinetrum.begin(
            EXPERIMENT, name=name, params=params, goals=goals, leave_out=["code", "packages", "job", "resources"]
        ) as run:
            run.used(folder / "first-nights", name="first-nights", role="all")
            alarm = told[params["rule"]] < params["limit"]
            for season in (2022, 2023):
                of = nights.season == season
                run.measure(
                    recall=float(alarm[of & nights.frost].mean()),
                    false_alarms=float(100 * alarm[of & ~nights.frost].mean()),
                    step=season,
                )
            run.result(recall=float(alarm[nights.frost].mean()), false_alarms=float(100 * alarm[~nights.frost].mean()))
            rule = folder / "rule.json"
            rule.write_text(json.dumps({**params, "stations": 14}, indent=1) + "\n")
            run.generated(rule, name="frost-rule", kind="text")
            print(f"{name}: {int(alarm.sum()):,} alarms in {len(alarm):,} nights, frost in {int(nights.frost.sum()):,}")
    list(kinetrum.runs(experiment=EXPERIMENT))
    kinetrum.export(f"experiment:{EXPERIMENT}", folder / "made.zip", license_text="CC0-1.0")


def moved(text: str, weeks: int) -> str:
    """Move every time of this year into the weeks before: microseconds since 1970, and ISO 8601."""
    text = re.sub(r"\b1[78]\d{14}\b", lambda found: str(int(found[0]) - weeks * WEEK_US), text)
    back = np.timedelta64(weeks * 7, "D")
    text = re.sub(r"2026-\d\d-\d\dT[\d:.]+Z?", lambda found: f"{np.datetime64(found[0].rstrip('Z')) - back}Z", text)
    return re.sub(r"127\.0\.0\.1:\d+/orchard", "orchard-laptop/orchard", text)


def of_laptop(name: str, text: str) -> str:
    """Take this machine's names and paths out of a member."""
    if name.endswith("run.json"):
        run = json.loads(text)
        run["host"], run["about"] = "orchard-laptop", {"command": "python rules.py"}
        return json.dumps(run, indent=1)
    if name == "kinetrum/archive.json":
        data = json.loads(text)
        for version in data["versions"]:
            version["address"] = version["address"] and "/home/ilse/first-nights"
            if version["name"] == "frost-rule":
                version["made_at"] += (FIRST_WEEK - RULES[version["number"] - 1][2]) * WEEK_US
        return json.dumps(data)
    return text


def new_ids(members: dict[str, bytes]) -> dict[str, tuple[str, int]]:
    """Return for each run an id that fits its moved time, and the weeks it moves."""
    found = {}
    for name, raw in members.items():
        if name.endswith("run.json"):
            run = json.loads(raw)
            week = next(week for title, _, week in RULES if title == run["name"])
            head = f"{int(run['id'].replace('-', '')[:12], 16) - week * WEEK_US // 1000:012x}"
            found[run["id"]] = (f"{head[:8]}-{head[8:]}{run['id'][13:]}", week)
    return found


def rewrite(made: Path) -> None:
    """Move times, give ids that fit them, and take this machine's names and paths out."""
    with zipfile.ZipFile(made) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    ids = new_ids(members)
    with zipfile.ZipFile(TARGET, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        for name, raw in members.items():
            if name.startswith("artifacts/"):
                archive.writestr(zipfile.ZipInfo(name), raw)
                continue
            week = next((week for old, (_, week) in ids.items() if old in name), FIRST_WEEK)
            text, to = of_laptop(name, moved(raw.decode(), week)), name
            for old, (new, _) in ids.items():
                text, to = text.replace(old, new), to.replace(old, new)
            info = zipfile.ZipInfo(to)
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, text)


def main() -> int:
    from kinetrum.client.transport.http import Service
    from kinetrum.instance import control
    from kinetrum.instance.settings import Home

    with tempfile.TemporaryDirectory() as where:
        folder = Path(where)
        os.environ.update(KINETRUM_SPOOL=str(folder / "spool"), KINETRUM_FINGERPRINTS=str(folder / "prints"))
        home = Home(folder / "instance")
        url = control.up(home, 0)["url"]
        try:
            service = Service(url, home.token.read_text().strip())
            service.call("POST", "/projects", json={"name": "orchard"})
            body = {"name": "ilse", "full_name": "Ilse Varga", "password": os.urandom(12).hex()}
            service.call("POST", "/people", json=body)
            service.call("PUT", "/projects/orchard/members/ilse", json={"role": "contributor"})
            token = service.call("POST", "/tokens", json={"name": "demo", "person": "ilse"})["secret"]
            record(url, token, folder)
            service.close()
        finally:
            control.down(home)
        rewrite(folder / "made.zip")
    print(f"{TARGET.relative_to(ROOT)}: {TARGET.stat().st_size:,} bytes")
    return 0


if __name__ == "__main__":
    sys.exit(main())
