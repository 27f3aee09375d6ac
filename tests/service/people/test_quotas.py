"""Quotas: bytes, and runs and points of a day; on both sides of each bound, and two at once."""

from __future__ import annotations

import hashlib
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

import kinetrum
from kinetrum.core.base import errors
from tests.cli.test_commands import Out, run
from tests.service.data.test_files_api import keep
from tests.support.programs import wait_for
from tests.support.world import Project, change_rows, new_id


def bound(project: Project, **quota: int) -> None:
    project.service("admin").call("PUT", project.path("quota"), json=quota)


def put(project: Project, content: bytes) -> httpx.Response:
    sha256 = hashlib.sha256(content).hexdigest()
    headers = {"Authorization": f"Bearer {project.tokens['contributor']}"}
    return httpx.put(f"{project.instance.url}/api/v1{project.path('blobs', sha256)}", content=content, headers=headers)


def test_bytes_up_to_the_quota_and_no_more(project: Project) -> None:
    bound(project, size_bytes=100)
    assert put(project, b"a" * 60).status_code == 200
    assert put(project, b"b" * 40).status_code == 200
    refused = put(project, b"c")
    assert (refused.status_code, refused.json()["type"]) == (507, "urn:kinetrum:problem:over-quota")
    assert refused.json()["detail"] == (
        f"{project.name} may store 100 bytes, and this would be more. Ask a maintainer to purge what is not needed, or an "
        "administrator of the instance for more."
    )
    # What is there already takes no more room.
    keep(project, "nights", {"a.csv": b"a" * 60}, sent=True)
    usage = project.service("viewer").get(project.path("storage"))
    assert usage["quota"] == {"size_bytes": 100, "runs_a_day": None, "points_a_day": None}
    assert usage["size_bytes"] == 100
    assert usage["people"] == [{"person": "A Contributor", "versions": 1, "size_bytes": 60}]
    bound(project, size_bytes=101)
    assert put(project, b"c").status_code == 200
    bound(project)
    assert put(project, b"d" * 1_000).status_code == 200


def test_an_upload_in_parts_is_asked_at_its_beginning(project: Project) -> None:
    bound(project, size_bytes=100)
    content = b"x" * 101
    sha256 = hashlib.sha256(content).hexdigest()
    headers = {
        "Authorization": f"Bearer {project.tokens['contributor']}",
        "Upload-Offset": "0",
        "Upload-Length": "101",
    }
    url = f"{project.instance.url}/api/v1{project.path('blobs', sha256)}"
    assert httpx.patch(url, content=content[:10], headers=headers).status_code == 507
    headers["Upload-Length"] = "100"
    assert httpx.patch(url, content=content[:10], headers=headers).status_code == 200


def test_two_uploads_at_once_do_not_pass_the_quota(project: Project) -> None:
    bound(project, size_bytes=1_000)
    with ThreadPoolExecutor(8) as many:
        statuses = list(many.map(lambda at: put(project, bytes([at]) * 300).status_code, range(8)))
    assert sorted(statuses) == [200] * 3 + [507] * 5
    assert project.service("viewer").get(project.path("storage"))["size_bytes"] == 900


def test_runs_of_a_day(project: Project) -> None:
    bound(project, runs_a_day=2)
    uid = new_id()
    service = project.service("contributor")
    for one in (uid, new_id()):
        service.call("PUT", project.path("experiments", "tries", "runs", one), json={"started_at": 1})
    # Sent again, it is the same run.
    service.call("PUT", project.path("experiments", "tries", "runs", uid), json={"started_at": 1})
    with pytest.raises(
        errors.OverQuota, match=r"may record 2 runs a day and has 2; there is room again after midnight \(UTC\)"
    ):
        project.begin("tries")
    assert project.service("viewer").get(project.path("storage"))["runs_today"] == 2
    # A day later.
    change_rows(project.instance, "UPDATE project_day SET day = day - INTERVAL 1 DAY")
    assert project.begin("tries")["reference"] == "tries/3"


def test_points_of_a_day(project: Project) -> None:
    bound(project, points_a_day=10)
    begun = project.begin("tries")
    service = project.service("contributor")

    def send(count: int, batch: str) -> int:
        group = {"keys": ["loss"], "steps": list(range(count)), "times": [1] * count, "values": [[0.5] * count]}
        answer: int = service.call(
            "POST", project.run_path(begun, "points"), params={"batch": batch}, json={"groups": [group]}
        )
        return answer

    first = new_id()
    send(6, first)
    send(6, first)
    send(4, new_id())
    with pytest.raises(errors.OverQuota, match="may record 10 points a day and has 10"):
        send(1, new_id())
    assert project.service("viewer").get(project.path("storage"))["points_today"] == 10


def test_a_batch_larger_than_what_is_left_is_taken_and_the_next_is_not(project: Project) -> None:
    """Refused until midnight it would be refused then too, and never arrive."""
    bound(project, points_a_day=10)
    begun = project.begin("tries")
    service = project.service("contributor")

    def send(count: int) -> None:
        group = {"keys": ["loss"], "steps": list(range(count)), "times": [1] * count, "values": [[0.5] * count]}
        query = {"batch": new_id()}
        service.call("POST", project.run_path(begun, "points"), params=query, json={"groups": [group]})

    send(9)
    send(50)
    with pytest.raises(errors.OverQuota, match="may record 10 points a day and has 59"):
        send(1)
    bound(project, points_a_day=59)
    with pytest.raises(errors.OverQuota):
        send(1)
    bound(project, points_a_day=60)
    send(1)
    bound(project, points_a_day=0)
    change_rows(project.instance, "UPDATE project_day SET day = day - INTERVAL 1 DAY")
    with pytest.raises(errors.OverQuota, match="may record 0 points a day and has 0"):
        send(1)


def test_quotas_that_no_column_holds_are_refused(project: Project) -> None:
    for field, most in (("runs_a_day", 2**32 - 1), ("points_a_day", 2**62), ("size_bytes", 2**62)):
        bound(project, **{field: most})
        assert project.service("viewer").get(project.path("storage"))["quota"][field] == most
        with pytest.raises(
            errors.InvalidInput, match=f"A quota is a whole number from 0 to {most:,}, not {most + 1:,}"
        ):
            bound(project, **{field: most + 1})


def test_a_quota_is_for_administrators(project: Project) -> None:
    with pytest.raises(errors.NotAllowed):
        project.service("maintainer").call("PUT", project.path("quota"), json={"size_bytes": 1})
    with pytest.raises(errors.InvalidInput):
        bound(project, size_bytes=-1)


def test_a_quota_from_the_command_line(recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["admin"])
    assert run(capsys, "admin", "quota", recording.name)[1] == f"{recording.name} may take what there is.\n"
    text = run(capsys, "admin", "quota", recording.name, "--bytes", "1.5GB", "--runs-a-day", "500")[1]
    assert text == "Stored: 0 B of 1.5 GB.\nRuns counted today: 0 of 500.\n"
    assert text in run(capsys, "storage", "--project", recording.name)[1]
    assert run(capsys, "admin", "quota", recording.name, "--bytes", "none")[1] == "Runs counted today: 0 of 500.\n"
    for wrong in ("many", "5XB", "-", "1.2.3GB"):
        assert run(capsys, "admin", "quota", recording.name, "--bytes", wrong)[0] == 2
    assert run(capsys, "admin", "quota", recording.name, "--runs-a-day", "5GB")[0] == 2


def test_recording_goes_on_in_the_spool(recording: Project, capsys: Out) -> None:
    """A training over the quota ends as ever; what it recorded waits, says why, and arrives once there is room."""
    bound(recording, runs_a_day=0)
    with kinetrum.begin("tries") as begun:
        begun.measure(loss=0.5)
    said = wait_for(lambda: "may record 0 runs a day" in (text := run(capsys, "spool")[1]) and text)
    assert "Ask a maintainer" in said
    bound(recording)
    run(capsys, "spool", "send")
    assert recording.service("viewer").get(recording.path("experiments", "tries", "runs", "1"))["status"] == "finished"
