"""What archives say of themselves: written and read back the same, described for other readers, checked when read."""

from __future__ import annotations

import copy
import json
import math
from typing import Any

import pytest

from kinetrum.core.archives.archive import (
    ArtifactRecord,
    Contents,
    ExperimentRecord,
    LinkRecord,
    NoteRecord,
    Person,
    RunRecord,
    VersionRecord,
    write_contents,
    write_run,
)
from kinetrum.core.archives.archive_reading import check_micros, read_contents, read_run
from kinetrum.core.archives.crate_metadata import LISTED_FILES, METADATA, describe_crate
from kinetrum.core.base import errors
from kinetrum.core.base.goals import make_goal
from kinetrum.core.base.manifests import FileEntry, digest_of
from kinetrum.core.base.run_document import Activity, Problem, Progress, Result, RunDoc

AT = 1_790_000_000_000_000
IDS = [f"0197c0de-0000-7000-8000-{number:012d}" for number in range(9)]
ILSE = Person("ilse", "Ilse Varga")


def entry(path: str, digit: str) -> FileEntry:
    return FileEntry(path, 3, digit * 64, AT, None)


def version(name: str = "nights", number: int = 1, files: tuple[FileEntry, ...] = ()) -> VersionRecord:
    files = files or (entry("2024/a.csv", "a"), entry("b.csv", "b"))
    inside = {found.sha256: f"artifacts/{name}@{number}/{found.path}" for found in files}
    return VersionRecord(
        name, "data", number, digest_of(files), False, None, ILSE, AT, files, inside, {"seasons": 5}, {"state": "raw"}
    )


def run(status: str = "finished") -> RunRecord:
    doc = RunDoc(
        params={"depth": 6, "rate": math.inf, "on": True, "none": None},
        labels={"purpose": "candidate"},
        about={"host": "bench-2"},
        code={"commit": "c" * 40},
        job={"scheduler": "slurm"},
        problems=[Problem("p", "A station was silent.", AT)],
        activities=[Activity(IDS[3], "training", AT, AT + 5, False)],
        progress=Progress(3, 40, AT, AT + 5),
    )
    results = [(IDS[5], "recall", 0.913, AT + 1), (IDS[6], "recall", 0.92, AT + 2)]
    doc.results["recall"] = Result(0.92, AT + 2)
    links = [
        LinkRecord(IDS[1], "used", "nights", 1, AT, "train"),
        LinkRecord(IDS[2], "generated", "net", 2, AT, None, 299, "training", "best"),
    ]
    notes = [NoteRecord(IDS[4], ILSE, "Trained on **frost**", AT)]
    return RunRecord(
        IDS[0],
        "frost-alarm",
        7,
        "überfits",
        status,
        None,
        ILSE,
        "bench-2",
        None,
        AT,
        None if status == "running" else AT + 9,
        60,
        doc,
        results,
        links,
        notes,
        {"diff": "+ a\n"},
    )


def contents(**change: Any) -> Contents:
    fields: dict[str, Any] = {
        "source": "instance a",
        "exported_at": "2026-11-23T10:00:00Z",
        "experiments": (ExperimentRecord("frost-alarm", "Nights", (make_goal("recall", "higher", None, 0.9),)),),
        "artifacts": (ArtifactRecord("nights", "data", "One row a night", {"team": "frost"}),),
        "versions": (version(), version("net", 2, (entry("net.onnx", "c"),))),
        "runs": (IDS[0],),
    }
    return Contents(**fields | change)


def through_json(data: Any) -> Any:
    # Strict JSON: what another reader could not read would raise here.
    return json.loads(json.dumps(data, allow_nan=False))


def test_what_is_written_is_read_back_the_same() -> None:
    for status in ("finished", "running", "failed"):
        assert read_run(through_json(write_run(run(status))), "runs/x/run.json") == run(status)
    assert read_contents(through_json(write_contents(contents()))) == contents()


def test_values_that_json_lacks_survive() -> None:
    record = run()
    record.doc.params |= {"nan": math.nan, "low": -math.inf, "zero": -0.0, "tiny": 5e-324, "many": 2**53 + 1}
    back = read_run(through_json(write_run(record)), "x").doc.params
    assert math.isnan(float(str(back["nan"])))
    assert (back["low"], back["tiny"], back["many"]) == (-math.inf, 5e-324, 2**53 + 1)
    assert math.copysign(1, float(str(back["zero"]))) == -1


def changed(data: dict[str, Any], path: str, value: Any) -> dict[str, Any]:
    """The same data with another value at a path such as links.0.name; a missing one where the value is `...`."""
    made = copy.deepcopy(data)
    place: Any = made
    *way, last = path.split(".")
    for part in way:
        place = place[int(part) if part.isdigit() else part]
    key: Any = int(last) if last.isdigit() else last
    if value is ...:
        del place[key]
    else:
        place[key] = value
    return made


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("id", "x"),
        ("id", ...),
        ("status", "asleep"),
        ("number", 0),
        ("number", True),
        ("number", 2**31),
        ("started_at", -1),
        ("started_at", 1.5),
        ("ended_at", "now"),
        ("experiment", "Frost Alarm"),
        ("by", None),
        ("params", [1]),
        ("params", {"": 1}),
        ("params", {"a": {"b": 1}}),
        ("results.0", ["x"]),
        ("results.0.3", -1),
        ("labels", {"": "x"}),
        ("links.0.relation", "likes"),
        ("links.0.name", "../up"),
        ("links.0.number", None),
        ("links.1.step", "last"),
        ("links.1.step", 2**63),
        ("notes.0.by", "ilse"),
        ("activities.0.started_at", None),
        ("progress", 5),
        ("lease_s", None),
        ("texts", 5),
        ("problems.0", {}),
        ("code", 5),
    ],
)
def test_a_run_that_is_no_good_is_refused_with_its_place(path: str, value: Any) -> None:
    with pytest.raises(errors.InvalidInput):
        read_run(changed(through_json(write_run(run())), path, value), "runs/x/run.json")


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("format", 2),
        ("format", ...),
        ("runs", ["x"]),
        ("runs", None),
        ("experiments.0.name", "frost alarm"),
        ("experiments.0.goals.0.direction", "up"),
        ("experiments.0.goals.0.bound", "high"),
        ("experiments.0.goals.0.aggregate", "median"),
        ("artifacts.0.kind", ""),
        ("artifacts.0.kind", "x" * 41),
        ("artifacts.0.name", "latest"),
        ("artifacts.0.labels", [1]),
        ("versions.0.digest", "f" * 64),
        ("versions.0.files.0.0", "../up"),
        ("versions.0.files.0.0", "b.csv"),
        ("versions.0.files.0.1", -1),
        ("versions.0.files.0.2", "short"),
        ("versions.0.files.0", ["a"]),
        ("versions.0.number", 0),
        ("versions.0.about", 5),
        ("versions.0.made_at", None),
        ("versions", {}),
        ("versions.0.by.name", ...),
    ],
)
def test_a_list_that_is_no_good_is_refused(path: str, value: Any) -> None:
    data = changed(through_json(write_contents(contents())), path, value)
    if path == "versions":
        assert read_contents(data).versions == ()
        return
    with pytest.raises(errors.InvalidInput):
        read_contents(data)


def test_what_is_no_object_at_all() -> None:
    for data in (None, [], "text", 5, {}):
        with pytest.raises(errors.InvalidInput, match="cannot be read at"):
            read_run(data, "runs/x/run.json")
        with pytest.raises(errors.InvalidInput, match=r"cannot be read at kinetrum/archive\.json"):
            read_contents(data)


def test_times() -> None:
    assert check_micros(0) == 0
    for value in (-1, 2**55, True, 1.0, "1", None):
        with pytest.raises(errors.InvalidInput, match="not a time in microseconds"):
            check_micros(value)


def test_other_readers_are_told_what_is_in_it() -> None:
    found = describe_crate(contents(), [run()], "A night's work", "CC0-1.0")
    entities = {part["@id"]: part for part in found["@graph"]}
    # Each once, and nothing is named that is not there.
    assert len(entities) == len(found["@graph"])
    for part in entities.values():
        for key in ("hasPart", "mentions", "object", "result", "about", "agent"):
            named = part.get(key, [])
            for one in named if isinstance(named, list) else [named]:
                assert one["@id"] in entities, (part["@id"], key)
    assert entities[METADATA]["about"] == {"@id": "./"}
    root = entities["./"]
    assert (root["name"], root["license"]) == ("A night's work", "CC0-1.0")
    assert root["datePublished"] == "2026-11-23T10:00:00Z"
    file = entities["artifacts/net@2/net.onnx"]
    assert (file["contentSize"], file["sha256"]) == ("3", "c" * 64)
    action = entities[f"#run-{IDS[0]}"]
    assert (action["name"], action["agent"]) == ("frost-alarm/7", {"@id": "#person-ilse"})
    assert action["actionStatus"].endswith("CompletedActionStatus")
    assert action["startTime"].startswith("2026-")
    assert action["endTime"].endswith("Z")
    assert ([one["@id"] for one in action["object"]], [one["@id"] for one in action["result"]]) == (
        ["artifacts/nights@1/"],
        ["artifacts/net@2/"],
    )


def test_a_run_that_goes_on_has_no_end() -> None:
    actions = [part for part in describe_crate(contents(), [run("running")], "x", "y")["@graph"] if "agent" in part]
    assert "endTime" not in actions[0]
    assert actions[0]["actionStatus"].endswith("ActiveActionStatus")


def test_of_huge_versions_the_description_lists_the_first() -> None:
    files = tuple(FileEntry(f"{at:05d}.csv", 3, f"{at:064x}", AT, None) for at in range(LISTED_FILES + 500))
    found = describe_crate(contents(versions=(version("net", 2, files), version())), [], "x", "y")
    listed = [
        part for part in found["@graph"] if part["@id"].startswith("artifacts/net@2/") and part["@type"] == "File"
    ]
    assert len(listed) == LISTED_FILES
