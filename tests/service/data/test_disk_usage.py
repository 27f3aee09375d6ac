"""Bin, restore, purge, and the check of the store: nothing that is needed goes, whatever is cut off."""

from __future__ import annotations

import hashlib
import json
import os
import threading
from pathlib import Path
from typing import Any

import pytest

from kinetrum.core.base import errors
from kinetrum.storage.data.blobs import BlobStore
from tests.service.data.test_files_api import keep, sha
from tests.support.world import Project, new_id


def stored(project: Project, content: bytes) -> Path:
    return project.instance.home.store / sha(content)[:2] / sha(content)


def purge(project: Project, *things: str, only_tell: bool = False) -> dict[str, Any]:
    body = {"things": list(things) or None, "only_tell": only_tell}
    done: dict[str, Any] = project.service("maintainer").call("POST", project.path("purges"), json=body)
    return done


def put_away(project: Project, *things: str, role: str = "contributor") -> None:
    project.service(role).call("POST", project.path("bin"), json={"things": list(things)})


def unique(word: str) -> bytes:
    return f"{word} {new_id()}".encode()


def test_two_deliberate_acts(project: Project) -> None:
    old, new, shared = unique("old"), unique("new"), unique("shared")
    keep(project, "nights", {"a": old, "s": shared})
    keep(project, "nights", {"a": new, "s": shared})
    assert purge(project)["versions"] == []
    assert purge(project, "nights@1", only_tell=True)["kept"] == [
        {"reference": "nights@1", "why": "is not in the bin; put it there first"}
    ]
    put_away(project, "nights@1")
    service = project.service()
    assert service.get(project.path("artifacts", "nights", "versions", "latest"))["number"] == 2
    (binned,) = service.get(project.path("bin"))
    assert (binned["reference"], binned["kind"], binned["may_restore"]) == ("nights@1", "version", True)
    told = purge(project, only_tell=True)
    assert (told["versions"], told["files"], told["size_bytes"]) == (["nights@1"], 1, len(old))
    assert stored(project, old).exists()
    service.call("POST", project.path("bin", "restored"), json={"things": ["nights@1"]})
    assert purge(project)["versions"] == []
    put_away(project, "nights@1")
    assert purge(project)["size_bytes"] == len(old)
    assert not stored(project, old).exists()
    assert stored(project, shared).exists()
    gone = service.get(project.path("artifacts", "nights", "versions", "1"))
    assert gone["purged_at"] and gone["digest"]
    with pytest.raises(errors.Conflict, match="was purged"):
        service.call("GET", project.path("artifacts", "nights", "versions", "1", "preview"), params={"path": "a"})
    with pytest.raises(errors.Conflict, match="was purged"):
        service.call("POST", project.path("bin", "restored"), json={"things": ["nights@1"]})
    # The same content comes again: it has to be sent, and makes a new number.
    assert service.call("POST", project.path("blobs", "missing"), json={"sha256": [sha(old)]})["missing"]
    assert keep(project, "nights", {"a": old, "s": shared})["number"] == 3


def test_what_a_registered_version_rests_on_stays(project: Project) -> None:
    project.registered(1)
    run = "frost-alarm/1"
    project.service("contributor").call(
        "POST",
        project.path("experiments", "frost-alarm", "runs", "1", "ending"),
        json={"status": "finished", "ended_at": 1},
    )
    with pytest.raises(errors.Conflict, match="registered as frost-alarm@1"):
        put_away(project, "frost-net@1")
    put_away(project, run)
    told = purge(project, only_tell=True)
    assert told["kept"] == [{"reference": run, "why": "is what frost-alarm@1 rests on"}]
    assert purge(project)["runs"] == []
    assert project.service().get(project.path("experiments", "frost-alarm", "runs", "1"))["purged_at"] is None


def test_what_is_in_the_bin_cannot_be_registered(project: Project) -> None:
    begun = project.begin()
    project.generate(begun, unique("net"))
    put_away(project, "frost-net@1")
    body = {"id": new_id(), "artifact": "frost-net@1", "comment": ""}
    with pytest.raises(errors.Conflict, match="is in the bin; restore it"):
        project.service("contributor").call("POST", project.path("models", "frost-alarm", "versions"), json=body)


def test_a_purged_run_leaves_a_tombstone(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin(params={"depth": 6})
    net = unique("net")
    project.generate(begun, net)
    points = {"groups": [{"keys": ["loss"], "steps": [0, 1], "times": [1, 2], "values": [[1.0, 0.5]]}]}
    service.call("POST", project.run_path(begun, "points"), params={"batch": new_id()}, json=points)
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": 5})
    put_away(project, begun["reference"])
    assert purge(project)["runs"] == [begun["reference"]]
    left = service.get(project.run_path(begun))
    assert left["purged_at"]
    assert (left["params"], left["metric_names"], [link["reference"] for link in left["generated"]]) == (
        {},
        [],
        ["frost-net@1"],
    )
    with pytest.raises(errors.Conflict, match="was purged"):
        service.call("POST", project.run_path(begun, "parameters"), json={"params": {"a": 1}})
    assert service.get(project.path("experiments", "frost-alarm", "runs"))["rows"] == []
    graph = service.get(project.path("lineage"), of="frost-net@1")
    assert [(node["reference"], node["gone"]) for node in graph["nodes"] if node["kind"] == "run"] == [
        (begun["reference"], True)
    ]


def test_people_purge_only_as_maintainers_and_bin_their_own(project: Project) -> None:
    keep(project, "nights", {"a": unique("x")})
    with pytest.raises(errors.NotAllowed, match="what they recorded"):
        put_away(project, "nights@1", role="approver")
    put_away(project, "nights@1", role="maintainer")
    with pytest.raises(errors.NotAllowed, match="purge what is in the bin"):
        project.service("approver").call("POST", project.path("purges"), json={"things": None})


def test_usage_counts_every_file_once(project: Project) -> None:
    same, one, two = unique("same"), unique("one"), unique("two")
    keep(project, "nights", {"s": same, "o": one})
    keep(project, "nights", {"s": same, "t": two})
    begun = project.begin()
    project.generate(begun, same, name="copy")
    usage = project.service("viewer").get(project.path("storage"))
    assert (usage["files"], usage["size_bytes"]) == (3, len(same) + len(one) + len(two))
    nights = next(row for row in usage["artifacts"] if row["name"] == "nights")
    assert (nights["files"], nights["alone_bytes"]) == (3, len(one) + len(two))
    assert [row["size_bytes"] for row in usage["experiments"]] == [len(same)]
    assert usage["may_purge"] is False
    whole = project.service().get("/storage")
    assert {"project": project.name, "files": 3, "size_bytes": usage["size_bytes"]} in whole["projects"]


def test_a_whole_artifact_goes_by_its_name(project: Project) -> None:
    for at in range(3):
        keep(project, "nights", {"a": unique(f"one {at}")})
    put_away(project, "artifact:nights")
    told = purge(project, "artifact:nights", only_tell=True)
    assert (sorted(told["versions"]), told["files"]) == (["nights@1", "nights@2", "nights@3"], 3)
    project.service("contributor").call("POST", project.path("bin", "restored"), json={"things": ["nights@2"]})
    done = purge(project, "artifact:nights")
    assert sorted(done["versions"]) == ["nights@1", "nights@3"]
    assert done["kept"] == [{"reference": "nights@2", "why": "is not in the bin; put it there first"}]
    rows = {row["number"]: row for row in project.service().get(project.path("artifacts", "nights", "versions"))}
    assert [bool(rows[number]["purged_at"]) for number in (1, 2, 3)] == [True, False, True]
    # The name goes on where its numbers ended: no number means two things.
    assert keep(project, "nights", {"a": unique("four")})["number"] == 4
    with pytest.raises(errors.NotFound):
        put_away(project, "artifact:nobody")
    put_away(project, "artifact:nights")
    with pytest.raises(errors.NotFound, match="all it has are in the bin or purged"):
        project.service().get(project.path("artifacts", "nights", "versions", "latest"))


def test_what_is_by_reference_is_purged_as_a_record_alone(project: Project) -> None:
    body = {
        "id": new_id(),
        "at": 1,
        "kind": "data",
        "by_reference": True,
        "address": "/data/nights",
        "files": [{"path": "a", "size": 5_000_000_000, "sha256": sha(unique("far"))}],
    }
    service = project.service("contributor")
    service.call("POST", project.path("artifacts", "nights", "versions"), json=body)
    put_away(project, "nights@1")
    (row,) = service.get(project.path("bin"))
    assert row["reference"] == "nights@1"
    done = purge(project)
    assert (done["versions"], done["files"], done["size_bytes"]) == (["nights@1"], 0, 0)
    assert service.get(project.path("artifacts", "nights", "versions", "1"))["purged_at"]


def test_an_input_that_is_purged_leaves_its_trace(project: Project) -> None:
    keep(project, "nights", {"a": unique("used")})
    begun = project.begin()
    service = project.service("contributor")
    service.call("POST", project.run_path(begun, "used"), json={"id": new_id(), "at": 1, "artifact": "nights@1"})
    put_away(project, "nights@1")
    purge(project)
    graph = service.get(project.path("lineage"), of=begun["reference"])
    assert {node["reference"]: node["gone"] for node in graph["nodes"]} == {begun["reference"]: False, "nights@1": True}
    assert [link["reference"] for link in service.get(project.run_path(begun))["used"]] == ["nights@1"]
    prov = service.get(project.path("lineage", "prov"), of=begun["reference"])
    assert len(prov["used"]) == 1
    # Whoever has a copy of it may still say that it was used.
    body = {"id": new_id(), "at": 1, "artifact": "nights@1"}
    service.call("POST", project.run_path(project.begin(), "used"), json=body)
    assert len(service.get(project.path("artifacts", "nights", "versions", "1"))["runs"]) == 2


def test_bytes_that_another_project_holds_stay(project: Project, people: dict[str, str]) -> None:
    content = unique("in two projects")
    keep(project, "nights", {"a": content})
    admin = project.instance.service()
    other = f"/projects/{project.name}-b"
    admin.call("POST", "/projects", json={"name": f"{project.name}-b"})
    admin.call("PUT", f"{other}/blobs/{sha(content)}", content=content)
    body = {"id": new_id(), "at": 1, "files": [{"path": "a", "size": len(content), "sha256": sha(content)}]}
    admin.call("POST", f"{other}/artifacts/mine/versions", json=body)
    put_away(project, "nights@1")
    purge(project)
    assert stored(project, content).read_bytes() == content
    assert admin.get(f"{other}/artifacts/mine/versions/1")["damaged"] is False
    assert project.service().call("POST", project.path("blobs", "missing"), json={"sha256": [sha(content)]})["missing"]


@pytest.mark.parametrize(
    "things", [[], ["nights"], ["nights@1:a"], ["frost-alarm/99"], ["nights@x"], [""], ["x"] * 1_001]
)
def test_what_names_nothing_is_refused_whole(project: Project, things: list[str]) -> None:
    keep(project, "nights", {"a": unique("stays")})
    for path in ("bin", "purges"):
        with pytest.raises((errors.NotFound, errors.InvalidInput)):
            project.service("maintainer").call(
                "POST", project.path(path), json={"things": [*things, "nights@1"][:1_001] if things else []}
            )
    assert project.service().get(project.path("artifacts", "nights", "versions", "1"))["binned_at"] is None


def test_a_version_being_made_keeps_its_bytes(project: Project) -> None:
    """Purges and new versions of the same bytes, at once and many times: no version ever lacks its file."""
    content = unique("wanted")
    service, maintainer = project.service("contributor"), project.service("maintainer")
    failures: list[str] = []

    def make(at: int) -> None:
        for turn in range(6):
            try:
                service.call("PUT", project.path("blobs", sha(content)), content=content)
                body = {
                    "id": new_id(),
                    "at": 1,
                    "files": [{"path": f"{at}-{turn}", "size": len(content), "sha256": sha(content)}],
                }
                service.call("POST", project.path("artifacts", f"nights-{'abc'[at]}", "versions"), json=body)
                put_away(project, f"artifact:nights-{'abc'[at]}")
            except errors.InvalidInput as error:
                # Purged between sending and naming: said, and nothing is kept by halves.
                if "have not arrived" not in str(error):
                    failures.append(str(error))
            except errors.NotFound:
                continue

    threads = [threading.Thread(target=make, args=(at,)) for at in range(3)]
    for thread in threads:
        thread.start()
    while any(thread.is_alive() for thread in threads):
        maintainer.call("POST", project.path("purges"), json={"things": None})
    for thread in threads:
        thread.join()
    assert failures == []
    kept = False
    for row in project.service().get(project.path("bin")):
        kept = True
        version = service.get(
            project.path("artifacts", row["reference"].split("@")[0], "versions", row["reference"].split("@")[1])
        )
        assert not version["damaged"]
        assert stored(project, content).exists(), row
    maintainer.call("POST", project.path("purges"), json={"things": None})
    assert not stored(project, content).exists() or not kept


def check(project: Project, **body: Any) -> list[dict[str, Any]]:
    with project.service().stream("/storage/checks", method="POST", json=body) as answer:
        return [json.loads(line) for line in answer.iter_lines() if line]


def faults(project: Project, *contents: bytes, **body: Any) -> dict[str, str]:
    wanted = {sha(content) for content in contents}
    return {line["sha256"]: line["state"] for line in check(project, **body) if line.get("sha256") in wanted}


def test_the_check_names_what_is_wrong_and_copies_repair_it(project: Project, raw: Any) -> None:
    good, bad, lost, orphan = (unique(word) for word in ("good", "bad", "lost", "orphan"))
    keep(project, "nights", {"g": good, "b": bad, "l": lost})
    stored(project, bad).write_bytes(b"something else")
    stored(project, lost).unlink()
    place = stored(project, orphan)
    place.parent.mkdir(exist_ok=True)
    place.write_bytes(orphan)
    assert sha(orphan) not in faults(project, orphan)
    os.utime(place, (1, 1))
    lines = {line["sha256"]: line for line in check(project) if "sha256" in line}
    assert (lines[sha(bad)]["state"], lines[sha(lost)]["state"], lines[sha(orphan)]["state"]) == (
        "damaged",
        "missing",
        "orphaned",
    )
    assert lines[sha(bad)]["held_by"] == [f"{project.name}/nights@1"]
    assert sha(good) not in lines
    assert project.service().get(project.path("artifacts", "nights", "versions", "1"))["damaged"] is True
    assert raw.put(f"/storage/blobs/{sha(bad)}", content=b"no copy of it").json()["type"].endswith(":damaged")
    for content in (bad, lost):
        assert raw.put(f"/storage/blobs/{sha(content)}", content=content).json()["size_bytes"] == len(content)
    assert raw.put(f"/storage/blobs/{sha(orphan)}", content=orphan).status_code == 404
    assert faults(project, bad, lost, good) == {}
    faults(project, orphan, remove_orphans=True)
    assert not place.exists()
    with pytest.raises(errors.NotAllowed):
        project.service("maintainer").call("POST", "/storage/checks", json={})


def test_what_was_damaged_and_is_whole_again_is_said(project: Project) -> None:
    content = unique("x")
    keep(project, "nights", {"a": content})
    stored(project, content).write_bytes(b"wrong")
    assert faults(project, content)[sha(content)] == "damaged"
    stored(project, content).write_bytes(content)
    assert faults(project, content)[sha(content)] == "whole again"
    assert faults(project, content) == {}


def test_removing_waits_for_whoever_puts(tmp_path: Path) -> None:
    """A file that is known again by the time of its removal stays."""
    store = BlobStore(tmp_path / "store")
    digest = hashlib.sha256(b"x").hexdigest()
    store.put_all([(digest, b"x")])
    assert store.remove([digest], set) == 0
    assert store.has(digest)
    done = threading.Event()
    with store.putting():
        remover = threading.Thread(target=lambda: (store.remove([digest], lambda _: set()), done.set()))
        remover.start()
        assert not done.wait(0.3)
    remover.join(5)
    assert not store.has(digest)
