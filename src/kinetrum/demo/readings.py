"""From the stations' readings in an object store to the table of nights: each version made by a run that says how."""

from __future__ import annotations

import csv
import os
import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Any

import kinetrum
from kinetrum.core.base.errors import NotFound
from kinetrum.demo.scenario import FIRST, MACHINE, MOVED, SECOND, THIRD
from kinetrum.demo.weather import FAULT_C, FAULTY_STATION, make_nights, read_nights, write_nights

if TYPE_CHECKING:
    from kinetrum.demo.seeding import Demo

EXPERIMENT, BUCKET = "night-tables", "readings"
SAID = {
    FIRST: "three seasons and the one that is going on",
    SECOND: "the season of 2025 added",
    THIRD: "station 9 corrected: its logger read 1.8 °C too warm in 2024",
    MOVED: "one folder for each year",
}
_YEARS = {FIRST: (2022, 2023, 2024, 2026), SECOND: (2022, 2023, 2024, 2025, 2026)}
_KEYS = {"AWS_ACCESS_KEY_ID": "kestrel", "AWS_SECRET_ACCESS_KEY": "not-a-secret-in-the-demo", "AWS_REGION": "orchard"}


def deliver_readings(demo: Demo, data: str) -> None:
    """Put what the stations recorded into the object store, faults and all; what is there stays."""
    bucket = demo.store_folder / BUCKET
    if data in _YEARS and not (bucket / "2025-spring").exists():
        years = tuple(year for year in _YEARS[data] if not (bucket / f"{year}-spring").exists())
        if years:
            write_nights(make_nights(years, faulty=True), bucket)


def make_table(demo: Demo, data: str) -> None:
    """Make one version of the nights from the readings, once, as a run of its own."""
    with demo.as_person(MACHINE):
        try:
            known = {run.params["table"] for run in kinetrum.runs(experiment=EXPERIMENT)}
        except NotFound:
            known = set()
        if data in known:
            return
        deliver_readings(demo, data)
        before = {key: os.environ.get(key) for key in (*_KEYS, "AWS_ENDPOINT_URL")}
        os.environ.update(_KEYS | {"AWS_ENDPOINT_URL": demo.store_url})
        try:
            _record(demo, data)
        finally:
            for key, value in before.items():
                os.environ.pop(key, None) if value is None else os.environ.update({key: value})


def _record(demo: Demo, data: str) -> None:
    folder = demo.folder / data
    corrected = data in {THIRD, MOVED}
    params = {"table": data, "corrected": "station 9" if corrected else "nothing", "layout": _layout(data)}
    with kinetrum.begin(EXPERIMENT, name=SAID[data], params=params) as run:
        with run.activity("reading") as reading:
            reading.used(f"s3://{BUCKET}", name="readings", role="raw", about={"stations": 14})
            reading.used(demo.folder / "stations.csv", name="stations")
        with run.activity("writing") as writing:
            nights = read_nights(folder)
            run.result(nights=len(nights.minimum_c), frosts=int(nights.frost.sum()))
            writing.generated(folder, name="nights", kind="data", about={"seasons": len(set(nights.season.tolist()))})
            report = _write_report(demo.folder / "out" / f"report-{data}", data, folder)
            writing.generated(report, name="night-report", kind="table")
        print(f"{len(nights.minimum_c):,} nights, frost in {100 * nights.frost.mean():.1f} % of them")  # noqa: T201
    # The table is there before anybody trains on it.
    run.flush()


def _layout(data: str) -> str:
    return "by year" if data == MOVED else "by season"


def write_moved(source: Path, target: Path) -> None:
    """Write the same files into one folder for each year."""
    for path in sorted(source.glob("*-spring/*.csv")):
        place = target / "springs" / path.parent.name[:4] / path.name
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, place)


def _write_report(folder: Path, data: str, nights: Path) -> Path:
    """Write a report that people read: a text, and a table of the coldest nights in two forms."""
    import pyarrow
    from pyarrow import parquet

    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    nights_read = read_nights(nights)
    order = nights_read.minimum_c.argsort()[:60]
    rows: list[dict[str, Any]] = [
        {
            "season": int(nights_read.season[at]),
            "station": int(nights_read.station[at]),
            "day": int(nights_read.features[at, 8]),
            "minimum_c": round(float(nights_read.minimum_c[at]), 2),
        }
        for at in order
    ]
    with (folder / "coldest.csv").open("w", newline="") as file:
        out = csv.DictWriter(file, list(rows[0]))
        out.writeheader()
        out.writerows(rows)
    parquet.write_table(pyarrow.Table.from_pylist(rows), folder / "coldest.parquet")
    warm = nights_read.station == FAULTY_STATION
    (folder / "report.md").write_text(
        f"# Nights: {SAID[data]}\n\n"
        f"- {len(nights_read.minimum_c):,} nights of 14 stations, frost in {100 * nights_read.frost.mean():.1f} %\n"
        f"- station {FAULTY_STATION}: {nights_read.minimum_c[warm].mean():.2f} °C at dawn on average; its logger may "
        f"be {FAULT_C} °C off in 2024\n",
        encoding="utf-8",
    )
    return folder
