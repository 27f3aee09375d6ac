"""The demo on a small plan: trained for real, told once, and repeated without harm."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import httpx
import pytest

import kinetrum
from kinetrum.client.spool import spool
from kinetrum.client.transport.http import Service
from kinetrum.demo import mishaps, readings, scenario, seeding, training
from kinetrum.demo.scenario import FIRST, SECOND, THIRD
from kinetrum.demo.stand_ins import object_store, starting
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.support.programs import stop_sender


@pytest.fixture
def demo(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[seeding.Demo]:
    """An instance of its own with a handful of quick runs."""

    def quick(plan: training.Plan) -> training.Plan:
        return replace(plan, params=plan.params | {"rounds": 10}) if plan.name != "too many trees" else plan

    for name, kept in {"FORESTS": 3, "SEARCH": 2, "REPLICATES": 2, "SINGLE": 3, "BETTER": 2}.items():
        monkeypatch.setattr(scenario, name, [quick(plan) for plan in getattr(scenario, name)[:kept]])
    monkeypatch.setattr(scenario, "BASELINE", [quick(plan) for plan in scenario.BASELINE])
    dawn = scenario.DAWN[:1] + [quick(plan) for plan in scenario.DAWN[2:3]]
    monkeypatch.setattr(scenario, "DAWN", dawn)
    monkeypatch.setenv("KINETRUM_SPOOL", str(tmp_path / "spool"))
    monkeypatch.setattr(spool, "_writer", None)
    # What surrounds the runs belongs to the story.
    monkeypatch.delenv("KINETRUM_LEAVE_OUT")
    home = Home(tmp_path / "i")
    for name, value in starting.start_provider(home).items():
        monkeypatch.setenv(name, value)
    url = control.up(home, 0)["url"]
    home.folder.joinpath("object-store").mkdir()
    store = object_store.serve(home.folder / "object-store", 0)
    threading.Thread(target=store.serve_forever, daemon=True).start()
    made = seeding.prepare(home, url, f"http://127.0.0.1:{store.server_address[1]}")
    yield made
    made.service.close()
    store.shutdown()
    store.server_close()
    stop_sender(tmp_path / "spool")
    control.down(home)


def test_the_demo_is_told_once(demo: seeding.Demo) -> None:
    for _ in range(2):
        seeding.bring_earlier_weeks(demo)
        seeding.seed(demo)
        seeding.tell_the_registry(demo)
        seeding.sign_somebody_in_elsewhere(demo)
    (mara,) = [one for one in demo.service.get("/people") if one["name"] == "mara"]
    assert (mara["full_name"], mara["signs_in_elsewhere"], mara["groups"]) == ("Mara Ostrow", True, ["growers"])
    roles = {one["name"]: one["role"] for one in demo.service.get("/projects/orchard/members")}
    assert roles["mara"] == "viewer"
    runs = demo.service.get("/projects/orchard/experiments/frost-alarm/runs", sort="number:asc")["rows"]
    # Those that nobody named have a name too.
    assert all(run["name"] for run in runs)
    by_name = {run["name"]: run for run in runs}
    assert len(runs) == 1 + 3 + 2 + 1 + 2 + 3 + 2 + 2
    assert by_name[mishaps.CUT_OFF.name]["status"] in {"running", "lost"}
    assert "threshold" in by_name[mishaps.TWO_MINDS.name]["problems"][0]["text"]
    shallow = [run for run in runs if run["name"] == "shallow and slow"]
    whole = [demo.service.get(f"/projects/orchard/experiments/frost-alarm/runs/{run['number']}") for run in shallow]
    assert [note["author"] for run in whole for note in run["notes"]] == ["Ilse Varga"]
    assert by_name["too many trees"]["status"] == "failed"
    assert "do not fit into 2 GB" in by_name["too many trees"]["reason"]
    assert by_name["baseline"]["values"]["recall"] > 0.2
    assert {run["author"] for run in runs} == {"Ilse Varga", "Tomas Reyl"}
    parent = demo.service.get(f"/projects/orchard/experiments/frost-alarm/runs/{by_name['search']['number']}")
    assert len(parent["children"]) == 2
    best = whole[0]
    assert [activity["name"] for activity in best["activities"]] == ["preparing", "training", "exporting"]
    output = demo.service.get(f"/projects/orchard/experiments/frost-alarm/runs/{best['number']}/output")
    assert "nights to train on" in output["lines"][0]["text"]
    tracked = [
        run
        for run in demo.service.get("/projects/orchard/experiments/gap-filling/runs")["rows"]
        if run["name"] == scenario.OUTSIDE
    ]
    assert [run["values"]["rmse"] < 1 for run in tracked] == [True, True]
    around = demo.service.get(
        f"/projects/orchard/experiments/gap-filling/runs/{tracked[0]['number']}/surroundings", against="previous"
    )
    assert around["code_change"] == "other uncommitted changes"
    assert "+SEED = 1" in around["difference"]
    assert "a-password" not in str(around)
    model = demo.service.get("/projects/orchard/models/frost-alarm")
    assert [version["review"] for version in model["versions"]] == [
        "pending",
        "approved",
        "approved",
        "rejected",
        "approved",
    ]
    assert [stage["occupant"] for stage in model["stages"]] == [5, 4, 3]
    assert [event["act"] for event in model["events"]].count("roll back") == 1
    assert len(demo.service.get("/projects/orchard/journal", subject="frost-alarm")) == 25
    told = {
        number: next(
            check
            for check in demo.service.get(f"/projects/orchard/models/frost-alarm/versions/{number}/gates/production")[
                "checks"
            ]
            if check["kind"] == "better"
        )
        for number in (4, 5)
    }
    # The demo of tests is trained on less: there both may be within noise.
    assert told[4]["found"].endswith("within noise")
    assert told[5]["figures"]["gain"] > told[4]["figures"]["gain"] > 0
    assert [fetch["asked"] for fetch in demo.service.get("/projects/orchard/models/frost-alarm/fetches")] == [
        "lead",
        "production",
    ]
    nights = demo.service.get("/projects/orchard/artifacts/nights/versions")
    assert [version["number"] for version in nights] == [4, 3, 2, 1]
    assert not any(version["by_reference"] for version in nights)
    assert {row["name"] for row in demo.service.get("/projects/orchard/experiments")} == {
        "frost-alarm",
        "dawn-minimum",
        "gap-filling",
        readings.EXPERIMENT,
        "rules-of-thumb",
    }
    tables = demo.service.get(f"/projects/orchard/experiments/{readings.EXPERIMENT}/runs")["rows"]
    assert {run["author"] for run in tables} == {scenario.MACHINE}
    (token,) = demo.service.get("/projects/orchard/tokens")
    assert (token["name"], token["scopes"], token["expires_at"]) == (scenario.MACHINE, ["read", "record"], None)
    assert token["last_used_at"]
    fault = demo.service.get("/projects/orchard/differences", left="nights@2", right="nights@3")
    assert [pair["right"]["path"] for pair in fault["pairs"]] == ["2024-spring/station-09.csv"]
    inside = demo.service.get(
        "/projects/orchard/differences/file",
        left="nights@2:2024-spring/station-09.csv",
        right="nights@3:2024-spring/station-09.csv",
    )
    assert [(column["name"], round(column["mean"], 2)) for column in inside["columns"]] == [
        ("evening_c", -1.8),
        ("minimum_c", -1.8),
    ]
    moved = demo.service.get("/projects/orchard/differences", left="nights@3", right="nights@4")
    assert {count["finding"] for count in moved["counts"] if count["files"]} == {"moved"}
    behind = demo.service.get("/projects/orchard/lineage", of="frost-alarm@production", way="back")
    assert {"readings@2", "nights@2"} <= {node["reference"] for node in behind["nodes"]}
    early = demo.service.get("/projects/orchard/experiments/rules-of-thumb/runs")["rows"]
    assert len(early) == 6
    assert all(run["started_at"] < "2026-11-10" for run in early)


def test_a_model_of_the_demo_can_be_used(demo: seeding.Demo, tmp_path: Path) -> None:
    import numpy as np
    import onnxruntime

    nights = {data: seeding.read_nights(demo.folder / data) for data in (FIRST, SECOND, THIRD)}
    with demo.as_person("ilse"):
        training.train_frost_alarm(scenario.BASELINE[0], demo.folder, nights[FIRST])
        seeding._deliver()
        (path,) = kinetrum.fetch("frost-alarm/1:frost-net", tmp_path / "out")
    session = onnxruntime.InferenceSession(path.read_bytes())
    rows = nights[FIRST].features[:50].astype(np.float32)
    answers = session.run(None, {session.get_inputs()[0].name: rows})
    assert answers[1].shape == (50, 2)
    assert isinstance(demo.service, Service)


def test_no_provider_is_started_beside_an_instance_that_was_there(tmp_path: Path) -> None:
    """Whoever comes to the stand-in is believed without a password: a real instance must not know it."""
    home = Home(tmp_path / "i")
    home.database.mkdir(parents=True)
    assert starting.start_provider(home) == {}
    assert not list(home.folder.glob("*provider*"))


def test_the_provider_goes_on_after_whoever_started_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    home = Home(tmp_path / "i")
    monkeypatch.setenv("KINETRUM_HOME", str(home.folder))
    try:
        # With both streams caught: a provider that held one open would never let this end.
        settings = [
            json.loads(
                subprocess.run(
                    [sys.executable, "-m", "kinetrum.demo.stand_ins"], capture_output=True, check=True, timeout=60
                ).stdout
            )
            for _ in range(2)
        ]
        assert settings[0] == settings[1]
        issuer = settings[0]["KINETRUM_OIDC_ISSUER"]
        assert httpx.get(f"{issuer}/.well-known/openid-configuration").json()["issuer"] == issuer
    finally:
        control.down(home)
    with pytest.raises(httpx.ConnectError):
        httpx.get(issuer)
