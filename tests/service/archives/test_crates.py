"""Archives between instances: everything comes back the same, another reader understands it, bad ones leave nothing."""

from __future__ import annotations

import io
import json
import math
import secrets
import threading
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from rocrate.rocrate import ROCrate

import kinetrum
from kinetrum.client.transport.http import Service
from kinetrum.core.archives.archive import ARCHIVE
from kinetrum.core.base import errors
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.support.programs import wait_for
from tests.support.world import Instance, Project, new_id, service_process

elsewhere_home: list[Path] = []


@pytest.fixture(scope="module")
def elsewhere(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """Another instance, where nobody knows anything of the first."""
    home = Home(tmp_path_factory.mktemp("elsewhere"))
    elsewhere_home.append(home.folder)
    url = control.up(home, 0)["url"]
    service = Service(url, home.token.read_text().strip())
    yield service
    service.close()
    control.down(home)


def fresh(service: Service) -> str:
    name = f"p-{secrets.token_hex(5)}"
    service.call("POST", "/projects", json={"name": name})
    return f"/projects/{name}"


def story(project: Project, tmp_path: Path) -> None:
    """A run with everything in it, under a parent."""
    data = tmp_path / "nights"
    data.mkdir()
    (data / "a.csv").write_text("day,cold\n1,2\n")
    net = tmp_path / "net.onnx"
    net.write_bytes(b"weights of the net")
    with (
        kinetrum.begin("frost-alarm", name="search") as parent,
        parent.child(
            params={"depth": 6, "rate": math.inf, "on": True},
            labels={"purpose": "candidate"},
            seed=7,
            goals={"recall": "higher >= 0.9"},
        ) as run,
    ):
        run.used(data, role="train", about={"seasons": 5})
        with run.activity("training") as training:
            for step in range(300):
                training.measure(loss=1 / (step + 1), odd=math.nan if step == 3 else step * 0.1)
        run.measure({"train/acc": 0.5}, step=-4)
        run.result(recall=0.913, verdict="überfits")
        run.result(recall=0.92)
        run.generated(net, kind="model", step=299, labels={"good": "yes"})
        run.note("Trained on **frost**")
        run.evaluate([0, 1, 1, 0], [0.2, 0.9, 0.4, 0.6], on="holdout")
        run.plot.table("lows", {"day": [1, 2], "low_c": [-2.5, math.inf]}, step=3, y_name="°C")
    run.flush()


def export(project: Project, of: str, **options: Any) -> bytes:
    with project.service().stream(project.path("archive"), {"of": of, **options}) as answer:
        return answer.read()


def take_in(service: Service, place: str, raw: bytes) -> dict[str, Any]:
    found: dict[str, Any] = service.call(
        "POST", f"{place}/imports", content=raw, headers={"Content-Type": "application/zip"}
    )
    return found


def plain(run: dict[str, Any]) -> dict[str, Any]:
    """What of a run is the same wherever it is."""
    keys = (
        "reference",
        "id",
        "name",
        "status",
        "started_at",
        "ended_at",
        "labels",
        "params",
        "values",
        "results",
        "about",
        "metrics",
        "parent",
        "activities",
        "output_lines",
        "host",
        "goals",
    )
    found = {key: run[key] for key in keys}
    found["links"] = [
        {key: link[key] for key in ("name", "version", "digest", "role", "step", "activity")}
        for link in run["used"] + run["generated"]
    ]
    found["notes"] = [(note["text"], note["written_at"]) for note in run["notes"]]
    return found


def test_everything_comes_back_the_same(recording: Project, elsewhere: Service, tmp_path: Path) -> None:
    story(recording, tmp_path)
    raw = export(recording, "experiment:frost-alarm", license="CC0-1.0")
    place = fresh(elsewhere)
    done = take_in(elsewhere, place, raw)
    assert done["runs"] == {"frost-alarm/1": "frost-alarm/1", "frost-alarm/2": "frost-alarm/2"}
    assert done["versions"] == {"net@1": "net@1", "nights@1": "nights@1"}
    for service, path in ((recording.service(), recording.path()), (elsewhere, place)):
        wait_for(
            lambda service=service, path=path: (
                len(service.get(f"{path}/experiments/frost-alarm/runs/2")["metrics"]) == 3
            )
        )
    here = recording.service().get(recording.path("experiments", "frost-alarm", "runs", "2"))
    there = elsewhere.get(f"{place}/experiments/frost-alarm/runs/2")
    assert json.dumps(plain(here), sort_keys=True) == json.dumps(plain(there), sort_keys=True)
    assert there["imported_from"].endswith("(frost-alarm/2, by A Contributor)")
    for metric in here["metric_names"]:
        points = [
            service.get(path, metric=metric)
            for service, path in (
                (recording.service(), recording.path("experiments", "frost-alarm", "runs", "2", "points")),
                (elsewhere, f"{place}/experiments/frost-alarm/runs/2/points"),
            )
        ]
        assert json.dumps(points[0]) == json.dumps(points[1])
    for name in ("holdout/roc", "lows"):
        kept = [
            service.get(f"{path}/plots", run="frost-alarm/2", name=name)["plots"]
            for service, path in ((recording.service(), recording.path()), (elsewhere, place))
        ]
        assert kept[0] == kept[1]
    history = elsewhere.get(f"{place}/experiments/frost-alarm/runs/2/results")
    assert [row["value"] for row in history if row["key"] == "recall"] == [0.913, 0.92]
    version = elsewhere.get(f"{place}/artifacts/net/versions/1")
    assert (version["labels"], version["imported_from"] is not None, version["by_reference"]) == (
        {"good": "yes"},
        True,
        False,
    )
    with elsewhere.stream(f"{place}/artifacts/net/versions/1/files/net.onnx") as file:
        assert file.read() == b"weights of the net"
    # Twice does no harm, in parts neither.
    again = take_in(elsewhere, place, raw)
    assert (again["runs"], again["versions"], len(again["known"])) == ({}, {}, 4)
    assert take_in(elsewhere, place, export(recording, "frost-alarm/2"))["runs"] == {}
    assert elsewhere.get(f"{place}/experiments/frost-alarm/runs")["count"] == 2


def test_another_reader_understands_it(recording: Project, tmp_path: Path) -> None:
    story(recording, tmp_path)
    (tmp_path / "crate.zip").write_bytes(export(recording, "frost-alarm/2", license="CC0-1.0"))
    crate = ROCrate(str(tmp_path / "crate.zip"))
    assert crate.root_dataset["license"] == "CC0-1.0"
    assert (
        crate.metadata["conformsTo"].id if hasattr(crate.metadata["conformsTo"], "id") else crate.metadata["conformsTo"]
    )
    files = {entity.id: entity for entity in crate.get_entities() if entity.type == "File"}
    assert files["artifacts/net@1/net.onnx"]["contentSize"] == "18"
    (action,) = [entity for entity in crate.get_entities() if entity.type == "CreateAction"]
    assert action["name"] == "frost-alarm/2"
    assert [found.id for found in action["result"]] == ["artifacts/net@1/"]
    assert all(crate.dereference(part.id) for part in crate.root_dataset["hasPart"])
    with zipfile.ZipFile(tmp_path / "crate.zip") as archive:
        assert archive.testzip() is None
        text = archive.read(next(name for name in archive.namelist() if name.endswith("points.csv"))).decode()
    assert text.startswith("metric,step,time_us,value\n")


def test_a_number_that_is_taken_is_told(recording: Project, elsewhere: Service, tmp_path: Path) -> None:
    story(recording, tmp_path)
    place = fresh(elsewhere)
    elsewhere.call("PUT", f"{place}/experiments/frost-alarm/runs/{new_id()}", json={"started_at": 1})
    body = {"id": new_id(), "at": 1, "by_reference": True, "files": [{"path": "x", "size": 1, "sha256": "a" * 64}]}
    elsewhere.call("POST", f"{place}/artifacts/nights/versions", json=body)
    done = take_in(elsewhere, place, export(recording, "experiment:frost-alarm"))
    assert done["runs"]["frost-alarm/1"] == "frost-alarm/3"
    assert done["versions"]["nights@1"] == "nights@2"
    assert [remark for remark in done["remarks"] if "nights@1 arrived as nights@2" in remark]
    run = elsewhere.get(f"{place}/experiments/frost-alarm/runs/2")
    assert [link["reference"] for link in run["used"]] == ["nights@2"]


def test_without_files_a_version_is_by_reference(recording: Project, elsewhere: Service, tmp_path: Path) -> None:
    story(recording, tmp_path)
    place = fresh(elsewhere)
    done = take_in(elsewhere, place, export(recording, "frost-alarm/2", with_files=False))
    assert "net@1 arrived without its files, by reference." in done["remarks"]
    assert elsewhere.get(f"{place}/artifacts/net/versions/1")["by_reference"] is True


def test_an_artifact_moves_alone(project: Project, elsewhere: Service) -> None:
    from tests.service.data.test_files_api import keep

    keep(project, "nights", {"a": b"1", "b/c": b"2"})
    keep(project, "nights", {"a": b"1", "b/c": b"3"})
    place = fresh(elsewhere)
    assert take_in(elsewhere, place, export(project, "nights@2"))["versions"] == {"nights@2": "nights@2"}
    done = take_in(elsewhere, place, export(project, "artifact:nights"))
    assert (done["versions"], done["known"]) == ({"nights@1": "nights@1"}, ["nights@2"])
    for of in ("nowhere", "nights@9", "frost-alarm/1", "experiment:nights"):
        with pytest.raises(errors.NotFound):
            project.service().get(project.path("archive"), of=of)


def test_a_run_has_one_place(recording: Project, tmp_path: Path) -> None:
    story(recording, tmp_path)
    raw = export(recording, "frost-alarm/2")
    other = fresh(recording.service())
    with pytest.raises(errors.Conflict, match="is in another project of this instance"):
        take_in(recording.service(), other, raw)
    assert recording.service().get(f"{other}/artifacts") == []


def changed(raw: bytes, **members: Any) -> bytes:
    """The same archive with some members written anew, or left out where they are None."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as archive, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name in archive.namelist():
            change = next((change for end, change in members.items() if name.endswith(end.replace("__", "."))), False)
            content = archive.read(name)
            if change is not None:
                made.writestr(name, change(content) if callable(change) else content if change is False else change)
    return out.getvalue()


def data_of(content: bytes, change: Any) -> bytes:
    data = json.loads(content)
    change(data)
    return json.dumps(data).encode()


def climb(content: bytes) -> bytes:
    return data_of(content, lambda data: data["versions"][0]["files"][0].__setitem__(0, "../../etc/passwd"))


def test_an_import_counts_as_recording_does(recording: Project, elsewhere: Service, tmp_path: Path) -> None:
    """A quota is not gone round by an archive; once there is room, taking it in again goes on."""
    story(recording, tmp_path)
    content = export(recording, "frost-alarm")
    place = fresh(elsewhere)

    def bound(**quota: int) -> None:
        elsewhere.call("PUT", f"{place}/quota", json=quota)

    bound(runs_a_day=1)
    with pytest.raises(errors.OverQuota, match="may record 1 run a day and has 1"):
        take_in(elsewhere, place, content)
    bound(runs_a_day=2, points_a_day=0)
    with pytest.raises(errors.OverQuota, match="may record 0 points a day and has 0"):
        take_in(elsewhere, place, content)
    bound(runs_a_day=2, points_a_day=601)
    take_in(elsewhere, place, content)
    usage = elsewhere.get(f"{place}/storage")
    assert (usage["runs_today"], usage["points_today"]) == (2, 601)
    run = elsewhere.get(f"{place}/experiments/frost-alarm/runs/2")
    assert plain(run) == plain(recording.service().get(recording.path("experiments", "frost-alarm", "runs", "2")))


def elsewhere_in_archive(content: bytes) -> bytes:
    return data_of(content, lambda data: data["versions"][0]["files"][0].__setitem__(5, "../outside"))


@pytest.fixture(scope="module")
def made() -> list[bytes]:
    """The archive of one run, which all who change it share."""
    return []


@pytest.fixture
def one_run(made: list[bytes], request: pytest.FixtureRequest, tmp_path: Path) -> bytes:
    if not made:
        recording: Project = request.getfixturevalue("recording")
        story(recording, tmp_path)
        made.append(export(recording, "frost-alarm/2"))
    return made[0]


@pytest.mark.parametrize(
    ("what", "told"),
    [
        ({"archive__json": climb}, "does not stay inside"),
        ({"archive__json": elsewhere_in_archive}, "lacks ../outside"),
        ({"archive__json": lambda content: data_of(content, lambda data: data.update(format=99))}, "has format 99"),
        ({"archive__json": b"[1, 2]"}, "cannot be read at kinetrum/archive.json"),
        ({"archive__json": b"{"}, "cannot be read"),
        ({"archive__json": None}, "lacks kinetrum/archive.json"),
        ({"net__onnx": b"another length"}, "has not the 18 bytes"),
        ({"net__onnx": b"weightS of the net"}, "nothing was kept"),
        ({"net__onnx": None}, "lacks artifacts/net@1/net.onnx"),
        (
            {"run__json": lambda content: data_of(content, lambda data: data.update(status="asleep"))},
            "Unknown status 'asleep'",
        ),
        (
            {"run__json": lambda content: data_of(content, lambda data: data.update(started_at=-1))},
            "not a time in microseconds",
        ),
        (
            {"run__json": lambda content: data_of(content, lambda data: data["links"][0].update(name="other"))},
            "lacks other@1",
        ),
        ({"run__json": lambda content: data_of(content, lambda data: data.update(id="x"))}, "cannot be read at runs/"),
        (
            {"run__json": lambda content: data_of(content, lambda data: data.update(name="\ud800"))},
            "run.json .*surrogate",
        ),
        (
            {"run__json": lambda content: data_of(content, lambda data: data.update(lease_s=10**30))},
            "cannot be a lease",
        ),
        ({"run__json": lambda content: data_of(content, lambda data: data.update(lease_s=0))}, "cannot be a lease"),
        (
            {"run__json": lambda content: data_of(content, lambda data: data["code"].update(commit=["a"]))},
            "which it cannot be",
        ),
        ({"run__json": lambda content: data_of(content, lambda data: data["code"].update(x={}))}, "which it cannot be"),
        ({"points__csv": b"metric,step,time_us,value\nloss,one,2,3\n"}, "Line 2 of runs/"),
        ({"points__csv": b"metric,step,time_us,value\nloss,1,2\n"}, "is not a point"),
        (
            {"output__jsonl": b'{"at": 1, "stream": "out", "text": "x"}\n{"text": 5}\n'},
            "Line 2 of .* not a printed line",
        ),
        ({"output__jsonl": b"[" * 200_000 + b"\n"}, "Line 1 of .* is not JSON"),
        ({"output__jsonl": b"x" * 2_000_000}, "over 1048576 bytes"),
        ({"output__jsonl": b"\xff\n"}, "not UTF-8"),
        ({"machine__jsonl": b'{"at": [1, 2], "cpu": [5]}\n'}, "Line 1 of .*'cpu' has 1 samples"),
        ({"machine__jsonl": b'{"at": [1], "cpu": ["much"]}\n'}, "something that is not a number"),
        ({"archive__json": b"[" * 200_000}, "cannot be read"),
        ({"plots__jsonl": b'{"id": "x"}\n'}, "Line 1 of .* is not a plot"),
    ],
    ids=[
        "climbs",
        "outside",
        "later format",
        "no object",
        "no json",
        "no list",
        "length",
        "digest",
        "no file",
        "status",
        "time",
        "link",
        "id",
        "half a pair",
        "long lease",
        "no lease",
        "list of commits",
        "unknown code",
        "points",
        "short point",
        "no line",
        "deep",
        "long line",
        "no text",
        "uneven",
        "no numbers",
        "deep list",
        "no plot",
    ],
)
def test_bad_archives(one_run: bytes, elsewhere: Service, what: dict[str, Any], told: str) -> None:
    place = fresh(elsewhere)
    with pytest.raises(errors.KinetrumError, match=told):
        take_in(elsewhere, place, changed(one_run, **what))
    assert elsewhere.get(f"{place}/artifacts") == []
    assert elsewhere.get(f"{place}/experiments") == []


@pytest.mark.parametrize(
    "what",
    [{"points__csv": b"metric,step,time_us,value\nloss,one,2,3\n"}, {"plots__jsonl": b'{"id": "x"}\n'}],
    ids=["points", "plot"],
)
def test_what_was_refused_is_taken_as_it_was(
    recording: Project, elsewhere: Service, tmp_path: Path, what: dict[str, Any]
) -> None:
    story(recording, tmp_path)
    raw = export(recording, "frost-alarm/2")
    place = fresh(elsewhere)
    with pytest.raises(errors.KinetrumError):
        take_in(elsewhere, place, changed(raw, **what))
    done = take_in(elsewhere, place, raw)
    assert done["runs"]["frost-alarm/2"].startswith("frost-alarm/")
    path = f"{place}/experiments/frost-alarm/runs/2"
    wait_for(lambda: elsewhere.get(path)["metrics"].get("training/loss", {}).get("count") == 300)


def test_what_is_no_archive_and_a_bomb(project: Project) -> None:
    service, place = project.service("contributor"), project.path()
    with pytest.raises(errors.InvalidInput, match="not a zip archive"):
        take_in(service, place, b"PK but no more")
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive, archive.open(ARCHIVE, "w") as file:
        for _ in range(300):
            file.write(bytes(1024 * 1024))
    with pytest.raises(errors.TooLarge, match="has over"):
        take_in(service, place, bomb.getvalue())
    assert list((project.instance.home.store / "incoming").glob("archive-*")) == []


def many_points(project: Project, runs: int, points: int) -> None:
    """Runs of some length, so that taking them in takes a while."""
    steps = list(range(points))
    for _ in range(runs):
        begun = project.begin("long")
        for part in range(0, points, 20_000):
            some = steps[part : part + 20_000]
            group = {"keys": ["loss"], "steps": some, "times": some, "values": [[step / 7 for step in some]]}
            project.service("contributor").call(
                "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]}
            )
        project.service("contributor").call(
            "POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": 1_790_000_100_000_000}
        )


def test_an_import_that_was_cut_off_is_completed_by_the_next(project: Project, elsewhere: Service) -> None:
    """The service dies in the middle: what is there is whole or unseen, and the same archive completes it."""
    many_points(project, 4, 60_000)
    raw = export(project, "experiment:long")
    place = fresh(elsewhere)
    home = Home(elsewhere_home[-1])
    with service_process(Instance(home, elsewhere.url, home.token.read_text().strip())) as (url, process):
        doomed = Service(url, home.token.read_text().strip(), timeout_s=60)

        def send() -> None:
            with pytest.raises(errors.Unavailable):
                take_in(doomed, place, raw)

        sender = threading.Thread(target=send)
        sender.start()
        wait_for(
            lambda: elsewhere.get(f"{place}/experiments/long/runs")["count"] >= 2 if has_long(elsewhere, place) else 0
        )
        process.kill()
        sender.join()
        doomed.close()
    before = elsewhere.get(f"{place}/experiments/long/runs")["count"]
    assert 2 <= before <= 4
    done = take_in(elsewhere, place, raw)
    assert len(done["runs"]) + len(done["known"]) == 4
    rows = elsewhere.get(f"{place}/experiments/long/runs")
    assert rows["count"] == 4
    for number in range(1, 5):
        path = f"{place}/experiments/long/runs/{number}"
        wait_for(lambda path=path: elsewhere.get(path)["metrics"].get("loss", {}).get("count") == 60_000)
    again = take_in(elsewhere, place, raw)
    assert (again["runs"], len(again["known"])) == ({}, 4)


def has_long(service: Service, place: str) -> bool:
    return any(found["name"] == "long" for found in service.get(f"{place}/experiments"))
