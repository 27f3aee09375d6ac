"""Artifacts and the registry over HTTP."""

from __future__ import annotations

import base64
import hashlib
import threading
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from kinetrum.core.base.manifests import FileEntry, digest_of
from tests.support.world import Project, new_id


def content(files: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    return {"id": new_id(), "at": 1, "files": files, **more}


def test_versions_follow_the_content(project: Project) -> None:
    service = project.service("contributor")
    one, two = project.upload(b"one"), project.upload(b"two")
    path = project.path("artifacts", "nights", "versions")
    numbers = [service.call("POST", path, json=content([entry]))["number"] for entry in (one, one, two, one)]
    assert numbers == [1, 1, 2, 3]
    assert [row["number"] for row in service.get(path)] == [3, 2, 1]
    first, third = service.get(f"{path}/1"), service.get(f"{path}/latest")
    assert first["digest"] == third["digest"] == digest_of([FileEntry(one["path"], one["size"], one["sha256"])])


def test_a_download_is_verified(project: Project, raw: httpx.Client) -> None:
    begun = project.begin()
    body = bytes(range(256)) * 10_000
    version = project.generate(begun, body)
    answer = raw.get(project.path("artifacts", "frost-net", "versions", "1", "files", "net.onnx"))
    assert answer.content == body
    digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
    assert answer.headers["Repr-Digest"] == f"sha-256=:{digest}:"
    assert answer.headers["Content-Disposition"].startswith("attachment")
    run = project.service().get(project.run_path(begun))
    assert run["generated"][0]["reference"] == version["reference"] == "frost-net@1"
    detail = project.service().get(project.path("artifacts", "frost-net", "versions", "1"))
    assert [(run["relation"], run["run"]) for run in detail["runs"]] == [("generated", begun["reference"])]
    for path in ("other.onnx", "../net.onnx", "net.onnx/x"):
        assert raw.get(project.path("artifacts", "frost-net", "versions", "1", "files", path)).status_code == 404


def test_a_damaged_upload_is_refused(project: Project, raw: httpx.Client) -> None:
    wrong = "0" * 64
    answer = raw.put(project.path("blobs", wrong), content=b"something else")
    assert answer.status_code == 422
    assert answer.json()["type"].endswith(":damaged")
    assert project.service().call("POST", project.path("blobs", "missing"), json={"sha256": [wrong]}) == {
        "missing": [wrong]
    }
    assert raw.put(project.path("blobs", "xyz"), content=b"x").status_code == 422


def test_damage_on_disk_is_not_served_and_marks_the_version(project: Project, raw: httpx.Client) -> None:
    project.registered()
    project.verdict(1, "approve")
    project.place("promotions", "production", version=1, expect=None)
    (entry,) = project.service().get(project.path("models", "frost-alarm", "versions", "1"))["files"]
    blob = project.instance.home.store / entry["sha256"][:2] / entry["sha256"]
    good = blob.read_bytes()
    blob.write_bytes(b"X" + good[1:])
    answer = raw.get(project.path("artifacts", "frost-net", "versions", "1", "files", "net.onnx"))
    assert answer.status_code == 422
    assert good not in answer.content
    model = project.service().get(project.path("models", "frost-alarm"))
    assert model["versions"][0]["damaged"]
    assert "damaged" in model["stages"][2]["warning"]
    assert model["lead"] is None
    with pytest.raises(errors.Conflict, match="damaged"):
        project.place("promotions", "staging", version=1, expect=None)
    # Sent again, it is whole again.
    project.upload(good)
    assert raw.get(project.path("artifacts", "frost-net", "versions", "1", "files", "net.onnx")).content == good


def test_knowing_a_digest_proves_nothing(project: Project, instance: Any) -> None:
    entry = project.upload(b"secret of this project")
    admin = instance.service()
    other = f"{project.name}-b"
    admin.call("POST", "/projects", json={"name": other})
    missing = admin.call("POST", f"/projects/{other}/blobs/missing", json={"sha256": [entry["sha256"]]})
    assert missing["missing"] == [entry["sha256"]]
    with pytest.raises(errors.InvalidInput, match="have not arrived"):
        admin.call("POST", f"/projects/{other}/artifacts/x/versions", json=content([entry]))


@pytest.mark.parametrize("path", ["../x", "/x", "a/../../x", "a\\b", ""])
def test_paths_that_climb(project: Project, path: str) -> None:
    entry = project.upload(b"x") | {"path": path}
    with pytest.raises(errors.InvalidInput):
        project.service("contributor").call("POST", project.path("artifacts", "x", "versions"), json=content([entry]))
    assert project.service().get(project.path("artifacts")) == []


def test_versions_by_reference(project: Project, raw: httpx.Client) -> None:
    begun = project.begin()
    files = [{"path": "a.csv", "size": 5, "sha256": "a" * 64}]
    used = content(files, name="nights", by_reference=True, address="/data/nights", role="train", kind="data")
    service = project.service("contributor")
    assert service.call("POST", project.run_path(begun, "used"), json=used)["reference"] == "nights@1"
    again = content([], artifact="nights@1", role="holdout")
    service.call("POST", project.run_path(begun, "used"), json=again)
    run = service.get(project.run_path(begun))
    assert [(link["reference"], link["role"]) for link in run["used"]] == [
        ("nights@1", "train"),
        ("nights@1", "holdout"),
    ]
    answer = raw.get(project.path("artifacts", "nights", "versions", "1", "files", "a.csv"))
    assert answer.status_code == 409
    assert "/data/nights" in answer.json()["detail"]


def test_an_artifact_that_meets_a_model_of_its_name(project: Project) -> None:
    project.registered(model="frost-alarm")
    begun = project.begin()
    version = project.generate(begun, b"late", name="frost-alarm")
    assert version["reference"] == "frost-alarm-artifact@1"
    assert "names a model" in project.service().get(project.run_path(begun))["problems"][0]["text"]
    with pytest.raises(errors.Conflict, match="names an artifact"):
        project.registered(model="frost-net")


def test_registering(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin()
    project.generate(begun, b"model bytes")
    path = project.path("models", "frost-alarm", "versions")
    body = {"id": new_id(), "artifact": "frost-net", "run": begun["reference"], "comment": "first"}
    first, again = service.call("POST", path, json=body), service.call("POST", path, json=body)
    assert first == again
    assert (first["reference"], first["review"], first["run"]) == ("frost-alarm@1", "pending", begun["reference"])
    by_version = service.call("POST", path, json={"id": new_id(), "artifact": "frost-net@1"})
    assert (by_version["number"], by_version["run"]) == (2, begun["reference"])
    assert service.get(project.path("names", "frost-alarm"))["things"] == ["experiment", "model"]


def test_wrong_registrations(project: Project) -> None:
    service = project.service("contributor")
    begun = project.begin()
    project.generate(begun, b"model bytes")
    service.call("POST", project.path("artifacts", "found", "versions"), json=content([project.upload(b"found")]))
    path = project.path("models", "frost-alarm", "versions")
    wrong: list[tuple[dict[str, Any], type[errors.KinetrumError]]] = [
        ({"artifact": "nothing@1"}, errors.NotFound),
        ({"artifact": "frost-net@9"}, errors.NotFound),
        ({"artifact": "frost-net"}, errors.InvalidInput),
        ({"artifact": "found@1"}, errors.InvalidInput),
        ({"artifact": "found@1", "run": begun["reference"]}, errors.Conflict),
        ({"artifact": "frost-net", "run": "frost-alarm/99"}, errors.NotFound),
        ({"artifact": "other", "run": begun["reference"]}, errors.NotFound),
        ({"artifact": "frost-net@1", "comment": "x" * 4001}, errors.InvalidInput),
        ({"artifact": "A B"}, errors.InvalidInput),
    ]
    for body, kind in wrong:
        with pytest.raises(kind):
            service.call("POST", path, json={"id": new_id(), **body})
    assert service.get(project.path("models")) == {"models": [], "count": 0}
    with_origin = {"id": new_id(), "artifact": "found@1", "origin": "bought from a neighbour"}
    assert service.call("POST", path, json=with_origin)["origin"] == "bought from a neighbour"


def test_review(project: Project) -> None:
    project.registered()
    assert project.verdict(1, "reject") == "rejected"
    assert project.verdict(1, "approve") == "approved"
    assert project.verdict(1, "reject", "maintainer") == "rejected"
    assert project.verdict(1, None, "maintainer") == "approved"
    with pytest.raises(errors.Conflict, match="no verdict"):
        project.verdict(1, None, "maintainer")
    with pytest.raises(errors.NotFound, match="no version 9"):
        project.verdict(9, "approve")
    version = project.service().get(project.path("models", "frost-alarm", "versions", "1"))
    assert [(v["person"], v["approves"], v["comment"]) for v in version["verdicts"]] == [
        ("A Approver", True, "so be it")
    ]


def test_promotion_roll_back_and_demotion(project: Project) -> None:
    project.registered(3)
    with pytest.raises(errors.Conflict, match="asks for an approved version"):
        project.place("promotions", "production", version=1, expect=None)
    for number in (1, 2, 3):
        project.verdict(number, "approve")
    project.place("promotions", "production", version=1, expect=None)
    with pytest.raises(errors.UnexpectedOccupant, match=r"now holds version 1 \(placed by A Approver"):
        project.place("promotions", "production", version=2, expect=None)
    project.place("promotions", "production", version=2, expect=1)
    model = project.place("promotions", "production", version=3, expect=2)
    assert model["lead"] == 3
    project.verdict(2, "reject")
    model = project.place("rollbacks", "production", expect=3)
    assert model["stages"][2]["occupant"] == 1
    assert [(event["act"], event["before"], event["after"]) for event in model["events"]] == [
        ("promote", None, 1),
        ("promote", 1, 2),
        ("promote", 2, 3),
        ("roll back", 3, 1),
    ]
    with pytest.raises(errors.Conflict, match="No other version"):
        project.place("rollbacks", "production", expect=1)
    model = project.place("demotions", "production", expect=1)
    assert model["stages"][2]["occupant"] is None
    assert model["lead"] is None
    entries = project.service().get(project.path("journal"), subject="frost-alarm")
    assert [entry["act"] for entry in entries[:2]] == ["demoted", "rolled back"]


def test_the_same_act_twice_is_one_act(project: Project) -> None:
    project.registered()
    project.verdict(1, "approve")
    uid = new_id()
    for _ in range(2):
        model = project.place("promotions", "production", version=1, expect=None, id=uid)
    assert len(model["events"]) == 1
    with pytest.raises(errors.Conflict, match="another act"):
        project.place("demotions", "production", expect=1, id=uid)


def test_of_two_at_once_one_wins(project: Project) -> None:
    project.registered(6)
    for number in range(1, 7):
        project.verdict(number, "approve")
    outcomes: list[str] = []

    def act(number: int) -> None:
        try:
            project.place("promotions", "production", version=number, expect=None)
            outcomes.append("placed")
        except errors.UnexpectedOccupant:
            outcomes.append("told")

    threads = [threading.Thread(target=act, args=(number,)) for number in range(1, 7)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["placed"] + ["told"] * 5
    model = project.service().get(project.path("models", "frost-alarm"))
    assert len(model["events"]) == 1
    assert model["stages"][2]["occupant"] == model["events"][0]["after"]


def test_a_rejected_occupant_is_shown_loudly(project: Project) -> None:
    project.registered()
    project.verdict(1, "approve")
    project.place("promotions", "production", version=1, expect=None)
    project.verdict(1, "reject")
    model = project.service().get(project.path("models", "frost-alarm"))
    assert model["stages"][2]["occupant"] == 1
    assert "rejected" in model["stages"][2]["warning"]
    assert model["lead"] is None


def test_lead_and_retirement(project: Project) -> None:
    project.registered(2)
    project.verdict(1, "approve")
    project.verdict(2, "approve")
    project.place("promotions", "production", version=1, expect=None)
    service = project.service("maintainer")
    lead = project.path("models", "frost-alarm", "lead")
    version = project.path("models", "frost-alarm", "versions", "lead")
    assert service.get(version)["number"] == 1
    service.call("PUT", lead, json={"version": 2})
    assert service.get(version)["number"] == 2
    retirement = project.path("models", "frost-alarm", "versions", "2", "retirement")
    service.call("PUT", retirement, json={"retired": True})
    with pytest.raises(errors.NotFound, match="retired"):
        service.get(version)
    with pytest.raises(errors.Conflict, match="retired"):
        service.call("PUT", lead, json={"version": 2})
    with pytest.raises(errors.Conflict, match="retired"):
        project.place("promotions", "staging", version=2, expect=None)
    service.call("PUT", lead, json={"version": None})
    assert service.get(version)["number"] == 1
    service.call("PUT", retirement, json={"retired": False})
    project.place("promotions", "staging", version=2, expect=None)


@pytest.mark.parametrize("which", ["0", "99", "nowhere", "staging", "LEAD", "1x"])
def test_versions_that_are_not_there(project: Project, which: str) -> None:
    project.registered()
    with pytest.raises(errors.NotFound):
        project.service().get(project.path("models", "frost-alarm", "versions", which))


@pytest.mark.parametrize(
    "fields",
    [
        {"version": "x"},
        {"version": 1, "expect": "none"},
        {"version": 1},
        {"expect": None},
        {"version": 1, "expect": None, "force": True},
        {"version": 1, "expect": None, "id": "x"},
        {"version": 99, "expect": None},
    ],
)
def test_wrong_promotions_change_nothing(project: Project, fields: dict[str, Any]) -> None:
    project.registered()
    with pytest.raises((errors.InvalidInput, errors.NotFound)):
        project.place("promotions", "development", **fields)
    assert project.service().get(project.path("models", "frost-alarm"))["events"] == []
