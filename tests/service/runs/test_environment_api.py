"""Output, surroundings, resources, activities, progress and Today over HTTP: kept once, refused plainly, seen by whom it may be."""

from __future__ import annotations

import random
from typing import Any

import pytest

from kinetrum.client.transport.http import Service
from kinetrum.core.base import errors
from kinetrum.storage.runs import outputs
from tests.support.world import PASSWORD, Project, new_id

AT = 1_790_000_000_000_000


def send(project: Project, begun: dict[str, Any], writer: str, *pieces: tuple[int, str], stream: str = "stdout") -> int:
    body = {
        "writer": writer,
        "pieces": [{"position": at, "at": AT + at, "stream": stream, "text": text} for at, text in pieces],
    }
    answer = project.service("contributor").call("POST", project.run_path(begun, "output"), json=body)
    return int(answer["position"])


def read(project: Project, begun: dict[str, Any], **asked: Any) -> dict[str, Any]:
    found: dict[str, Any] = project.service("viewer").get(project.run_path(begun, "output"), **asked)
    return found


def texts(page: dict[str, Any], what: str = "lines") -> list[str]:
    return [line["text"] for line in page[what]]


def test_output_is_kept_once_however_often_it_is_sent(project: Project) -> None:
    begun, writer = project.begin(), new_id()
    pieces = [(number, f"line {number}\npart of ") for number in range(1, 30)]
    chance = random.Random(3)
    at = 0
    while at < len(pieces):
        # What was acknowledged may come again, alone or together with what is new.
        start, end = chance.randint(0, at), min(len(pieces), at + chance.randint(1, 4))
        send(project, begun, writer, *pieces[start:end])
        at = end
    page = read(project, begun)
    assert texts(page) == ["line 1", *[f"part of line {number}" for number in range(2, 30)]]
    assert [line["number"] for line in page["lines"]] == list(range(29))
    assert texts(page, "unfinished") == ["part of"]
    assert send(project, begun, writer, pieces[0]) == 29


def test_writers_and_streams_do_not_mix_their_lines(project: Project) -> None:
    begun, first, second = project.begin(), new_id(), new_id()
    send(project, begun, first, (1, "one "))
    send(project, begun, second, (1, "two "))
    send(project, begun, first, (2, "warn"), stream="stderr")
    send(project, begun, first, (3, "a\n"))
    send(project, begun, second, (2, "b\n"))
    send(project, begun, first, (4, "ing\n"), stream="stderr")
    page = read(project, begun)
    assert [(line["stream"], line["text"]) for line in page["lines"]] == [
        ("stdout", "one a"),
        ("stdout", "two b"),
        ("stderr", "warning"),
    ]
    assert texts(read(project, begun, stream="stderr")) == ["warning"]


def test_the_end_finishes_what_is_open_and_late_output_still_counts(project: Project) -> None:
    begun, writer = project.begin(), new_id()
    send(project, begun, writer, (1, "no end"))
    service = project.service("contributor")
    service.call("POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT})
    assert texts(read(project, begun)) == ["no end"]
    send(project, begun, writer, (2, "late"))
    page = read(project, begun)
    assert (texts(page), page["unfinished"]) == (["no end", "late"], [])


def test_reading_by_line_and_searching(project: Project) -> None:
    begun = project.begin()
    send(
        project,
        begun,
        new_id(),
        (1, "".join(f"line {at}\n" for at in range(2_500))),
        (2, "\x1b[31mERR\x1b[0mor here\n50 %"),
    )
    last = read(project, begun, limit=10)
    assert (texts(last)[0], last["more"], last["next_line"]) == ("line 2491", True, 2_501)
    assert texts(last, "unfinished") == ["50 %"]
    page = read(project, begun, from_line=100, limit=3)
    assert (texts(page), page["more"], page["unfinished"]) == (["line 100", "line 101", "line 102"], True, [])
    assert texts(read(project, begun, search="error")) == ["\x1b[31mERR\x1b[0mor here"]
    assert len(texts(read(project, begun, search="LINE 24"))) == 111
    detail = project.service("viewer").get(project.run_path(begun))
    assert detail["output_lines"] == 2_502


def test_of_gigabytes_head_and_tail_are_kept(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    begun, writer = project.begin(), new_id()
    block = "x" * 99 + "\n"
    count = 0
    for at in range(1, 25):
        send(project, begun, writer, (at, block * 10_000))
        count += 10_000
    page = read(project, begun, from_line=0, limit=1)
    assert page["next_line"] == count
    assert page["kept_bytes"] <= outputs.HEAD_BYTES + outputs.TAIL_BYTES + outputs.BLOCK_BYTES
    assert 0 < page["head_end"] < page["tail_begin"] < count
    gap = read(project, begun, from_line=page["head_end"] - 1, limit=2)
    assert [line["number"] for line in gap["lines"]] == [page["head_end"] - 1, page["tail_begin"]]
    with project.service("viewer").stream(project.run_path(begun, "output", "text")) as answer:
        text = answer.read().decode()
    assert f"[{page['tail_begin'] - page['head_end']:,} lines were left out here]" in text


@pytest.mark.parametrize(
    ("body", "field"),
    [
        ({"writer": "x", "pieces": []}, "writer"),
        ({"writer": new_id(), "pieces": []}, "pieces"),
        ({"writer": new_id(), "pieces": [{"position": 0, "at": 1, "stream": "stdout", "text": ""}]}, "position"),
        ({"writer": new_id(), "pieces": [{"position": 1, "at": 1, "stream": "stdin", "text": ""}]}, "stream"),
        ({"writer": "g" * 36, "pieces": [{"position": 1, "at": 1, "stream": "stdout", "text": ""}]}, "writer"),
    ],
)
def test_output_that_is_wrong_is_refused(project: Project, body: dict[str, Any], field: str) -> None:
    begun = project.begin()
    with pytest.raises(errors.InvalidInput) as caught:
        project.service("contributor").call("POST", project.run_path(begun, "output"), json=body)
    assert field in (caught.value.field or "")


def test_surroundings_and_what_differs(project: Project) -> None:
    parent = project.begin()
    child = project.begin(parent=parent["id"])
    service = project.service("contributor")
    code = {"commit": "a" * 40, "branch": "main"}
    service.call(
        "PUT",
        project.run_path(parent, "surroundings"),
        json={"code": code, "packages": {"numpy": "1"}, "about": {"python": "3.11"}},
    )
    body = {
        "code": {**code, "commit": "b" * 40},
        "packages": {"numpy": "2"},
        "about": {"python": "3.12"},
        "difference": "+x",
    }
    for _ in range(2):
        service.call("PUT", project.run_path(child, "surroundings"), json=body)
    found = service.get(project.run_path(child, "surroundings"), against="parent")
    assert (found["against"], found["code_change"]) == (parent["reference"], "other commit")
    assert found["package_changes"] == [{"name": "numpy", "here": "2", "there": "1"}]
    assert found["about_changes"] == [{"name": "python", "here": "3.12", "there": "3.11"}]
    assert found["code_change_text"] == "+x"
    assert (
        service.get(project.run_path(child, "surroundings"), against=parent["reference"])["against"]
        == parent["reference"]
    )
    for against in ("parent", "previous", "frost-alarm/99"):
        with pytest.raises(errors.NotFound):
            service.get(project.run_path(parent, "surroundings"), against=against)


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("resources", {"id": new_id(), "samples": {}}),
        ("resources", {"id": new_id(), "samples": {"at": [1], "cpu": [1, 2]}}),
        ("resources", {"id": new_id(), "samples": {"at": [None]}}),
        ("surroundings", {"environment": {"A": "b"}}),
        ("surroundings", {"packages": {f"p{at}": "1" for at in range(5_001)}}),
        ("surroundings", {"difference": "x" * 2_100_000}),
        ("activities/0190a1b2-c3d4-7000-8000-0123456789ab", {"name": "Training", "started_at": 1}),
        ("activities/0190a1b2-c3d4-7000-8000-0123456789ab", {"name": "training", "started_at": 5, "ended_at": 4}),
        ("activities/x", {"name": "training", "started_at": 5}),
        ("progress", {"done": -1, "since": 1, "at": 1}),
    ],
)
def test_what_is_wrong_changes_nothing(project: Project, path: str, body: dict[str, Any]) -> None:
    begun = project.begin()
    before = project.service().get(project.run_path(begun))
    method = "POST" if path == "resources" else "PUT"
    with pytest.raises((errors.InvalidInput, errors.TooLarge)):
        project.service("contributor").call(method, project.run_path(begun, *path.split("/")), json=body)
    after = project.service().get(project.run_path(begun))
    assert {**after, "last_sign_at": ""} == {**before, "last_sign_at": ""}


def test_samples_are_kept_once_and_thinned(project: Project) -> None:
    begun, uid = project.begin(), new_id()
    service = project.service("contributor")
    samples = {"at": [AT + at for at in range(500)], "cpu (%)": [float(at % 90) for at in range(500)]}
    for _ in range(2):
        service.call("POST", project.run_path(begun, "resources"), json={"id": uid, "samples": samples})
    whole = service.get(project.run_path(begun, "resources"), width=1_000)["samples"]
    assert whole == samples
    few = service.get(project.run_path(begun, "resources"), width=50)["samples"]
    assert (len(few["at"]), max(few["cpu (%)"])) == (50, 89)
    assert service.get(project.run_path(begun))["has_resources"]


def test_activities_and_progress_whatever_order_they_arrive_in(project: Project) -> None:
    begun, uid = project.begin(), new_id()
    service = project.service("contributor")
    path = project.run_path(begun, "activities", uid)
    service.call("PUT", path, json={"name": "training", "started_at": 5, "ended_at": 9, "failed": True})
    service.call("PUT", path, json={"name": "training", "started_at": 5})
    service.call("PUT", project.run_path(begun, "activities", new_id()), json={"name": "preparing", "started_at": 1})
    service.call(
        "PUT", project.run_path(begun, "progress"), json={"done": 30, "total": 40, "since": AT, "at": AT + 30_000_000}
    )
    service.call("PUT", project.run_path(begun, "progress"), json={"done": 1, "total": 40, "since": AT, "at": AT + 1})
    found = service.get(project.run_path(begun))
    assert [(one["name"], one["ended_at"], one["failed"]) for one in found["activities"]] == [
        ("preparing", None, False),
        ("training", 9, True),
    ]
    assert (found["progress"]["done"], found["progress"]["expected_end"]) == (30, "2026-09-21T14:14:00.000000Z")


def person_of(project: Project, role: str) -> Service:
    name, admin = f"x-{new_id()[-10:]}", project.service()
    admin.call("POST", "/people", json={"name": name, "full_name": "Noor Adair", "password": PASSWORD})
    admin.call("PUT", project.path("members", name), json={"role": role})
    return project.instance.service(admin.call("POST", "/tokens", json={"name": "t", "person": name})["secret"])


def test_today_is_each_persons_own(project: Project) -> None:
    noor, viewer = person_of(project, "approver"), person_of(project, "viewer")
    for one in (noor, viewer):
        one.call("POST", "/visits")
        assert one.get("/today")["first_visit"]
    project.registered()
    running = project.begin()
    found = noor.get("/today", since="2026-01-01T00:00:00Z")
    assert [(one["model"], one["number"]) for one in found["waiting"]] == [("frost-alarm", 1)]
    assert running["reference"] in [run["reference"] for run in found["running"]]
    assert {run["project"] for run in found["running"] + found["ended"]} == {project.name}
    assert viewer.get("/today")["waiting"] == []
    noor.call("PUT", project.path("models", "frost-alarm", "versions", "1", "verdict"), json={"verdict": "approve"})
    project.place("promotions", "staging", version=1, expect=None)
    things = [
        "frost-alarm@1",
        "model:frost-alarm",
        "frost-net@1",
        "artifact:frost-net",
        running["reference"],
        "experiment:frost-alarm",
        f"project:{project.name}",
    ]
    for thing in things:
        body = {"id": new_id(), "things": [thing], "text": f"of {thing}"}
        project.service("contributor").call("POST", project.path("notes"), json=body)
    found = noor.get("/today")
    assert [(one["kind"], one["reference"], one["text"]) for one in reversed(found["notes"])] == [
        (kind, thing, f"of {thing}")
        for kind, thing in zip(
            ["model", "model", "artifact", "artifact", "run", "experiment", "project"], things, strict=True
        )
    ]
    assert found["waiting"] == []
    assert [(one["act"], one["stage"], one["after"]) for one in found["stage_changes"]] == [("promote", "staging", 1)]
    project.service().call("DELETE", project.path("members", noor.get("/session")["name"]))
    assert (noor.get("/today")["running"], noor.get("/today")["stage_changes"]) == ([], [])
