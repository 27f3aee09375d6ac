"""Purging runs with the files that only they hold, binning families, and experiments that are gone."""

from __future__ import annotations

import threading
from typing import Any

import pytest

from kinetrum.core.base import errors
from tests.service.data.test_disk_usage import purge, put_away, stored, unique
from tests.support.world import Project, new_id


def numbers(project: Project) -> list[int]:
    page = project.service("viewer").get(project.path("experiments", "frost-alarm", "runs"))
    return sorted(run["number"] for run in page["rows"])


def finished(project: Project, **fields: Any) -> dict[str, Any]:
    begun = project.begin(**fields)
    body = {"status": "finished", "reason": None, "ended_at": 1_790_000_001_000_000}
    project.service("contributor").call("POST", project.run_path(begun, "ending"), json=body)
    return begun


def purged(project: Project, number: int, name: str = "frost-net") -> bool:
    return bool(project.service().get(project.path("artifacts", name, "versions", str(number)))["purged_at"])


def test_a_run_takes_along_what_it_alone_generated(project: Project) -> None:
    own, both, used, kept, noted, model = (unique(word) for word in ("own", "both", "used", "kept", "noted", "model"))
    first, second, user = finished(project), finished(project), finished(project)
    for content in (own, both, used, kept, noted):
        project.generate(first, content)
        if content is both:
            project.generate(second, both)
    project.generate(first, model, name="other-net")
    service = project.service("contributor")
    body = {"id": new_id(), "at": 1, "artifact": "frost-net@3"}
    service.call("POST", project.run_path(user, "used"), json=body)
    service.call(
        "PATCH", project.path("artifacts", "frost-net", "versions", "4", "labels"), json={"labels": {"purpose": "keep"}}
    )
    service.call("POST", project.path("notes"), json={"things": ["frost-net@5"], "id": new_id(), "text": "the best"})
    put_away(project, first["reference"])
    told = purge(project, only_tell=True)
    assert (told["runs"], told["versions"]) == ([first["reference"]], ["frost-net@1", "other-net@1"])
    assert told["size_bytes"] == len(own) + len(model)
    body = {"id": new_id(), "artifact": "other-net", "run": first["reference"], "comment": ""}
    service.call("POST", project.path("models", "frost-alarm", "versions"), json=body)
    # Now a model rests on the run itself: nothing of it goes.
    assert purge(project)["runs"] == []
    assert stored(project, own).exists()


def test_what_two_runs_generated_goes_with_the_later_of_them(project: Project) -> None:
    shared, alone = unique("shared"), unique("alone")
    first, second = finished(project), finished(project)
    for begun in (first, second):
        project.generate(begun, shared)
    project.generate(second, alone)
    put_away(project, first["reference"])
    assert purge(project)["versions"] == []
    assert stored(project, shared).exists()
    put_away(project, second["reference"])
    told = purge(project, only_tell=True)
    assert sorted(told["versions"]) == ["frost-net@1", "frost-net@2"]
    done = purge(project)
    assert (sorted(done["versions"]), done["size_bytes"], done["kept"]) == (
        ["frost-net@1", "frost-net@2"],
        len(shared) + len(alone),
        [],
    )
    assert not stored(project, shared).exists()
    assert not stored(project, alone).exists()
    # One more purge finds nothing, and restoring is refused.
    assert purge(project)["runs"] == []


def test_files_stay_when_told(project: Project) -> None:
    content = unique("stays")
    begun = finished(project)
    project.generate(begun, content)
    put_away(project, begun["reference"])
    body = {"things": None, "only_tell": True, "keep_files": True}
    service = project.service("maintainer")
    assert service.call("POST", project.path("purges"), json=body)["versions"] == []
    assert service.call("POST", project.path("purges"), json={**body, "only_tell": False})["versions"] == []
    assert stored(project, content).exists()
    assert not purged(project, 1)


def test_two_purges_at_once_leave_nothing_behind(project: Project) -> None:
    for _ in range(4):
        content = unique("at once")
        pair = [finished(project) for _ in range(2)]
        for begun in pair:
            version = project.generate(begun, content)
        put_away(project, *(begun["reference"] for begun in pair))
        threads = [threading.Thread(target=purge, args=(project, begun["reference"])) for begun in pair]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert purged(project, version["number"])
        assert not stored(project, content).exists()


def test_children_go_along_when_told(project: Project) -> None:
    parent = finished(project)
    children = [finished(project, parent=parent["id"]) for _ in range(3)]
    finished(project, parent=children[0]["id"])
    other = finished(project)
    service = project.service("contributor")
    moved = service.call("POST", project.path("bin"), json={"things": [parent["reference"]]})
    assert (moved["references"], moved["left_below"]) == ([parent["reference"]], 4)
    moved = service.call("POST", project.path("bin"), json={"things": [parent["reference"]], "children": True})
    assert (len(moved["references"]), moved["left_below"]) == (5, 0)
    assert numbers(project) == [int(other["reference"].rpartition("/")[2])]
    restored = {"things": [parent["reference"]], "children": True}
    assert len(service.call("POST", project.path("bin", "restored"), json=restored)["references"]) == 5
    assert len(numbers(project)) == 6


def test_a_child_of_somebody_else_is_not_taken_along(project: Project) -> None:
    parent = finished(project)
    begun = project.begin(role="approver", parent=parent["id"])
    body = {"status": "finished", "reason": None, "ended_at": 1_790_000_001_000_000}
    project.service("approver").call("POST", project.run_path(begun, "ending"), json=body)
    with pytest.raises(errors.NotAllowed, match="Nothing was changed"):
        project.service("contributor").call(
            "POST", project.path("bin"), json={"things": [parent["reference"]], "children": True}
        )
    assert numbers(project) == [1, 2]


def test_an_experiment_that_was_purged_is_not_listed(project: Project) -> None:
    begun, other = finished(project), finished(project, experiment="other")
    service = project.service("maintainer")

    def listed() -> list[str]:
        return sorted(row["name"] for row in service.get(project.path("experiments")))

    put_away(project, begun["reference"], other["reference"])
    assert listed() == ["frost-alarm", "other"]
    purge(project, begun["reference"])
    assert listed() == ["other"]
    # A new run in it brings it back.
    finished(project)
    assert listed() == ["frost-alarm", "other"]
