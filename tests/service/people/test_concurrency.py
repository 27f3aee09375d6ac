"""Many at once: numbers are given once, the same thing sent by two is one thing, and nothing fails."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import httpx
import pytest

from tests.support.programs import wait_for
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000
AT_ONCE = 12


def together(project: Project, act: Callable[[httpx.Client, int], httpx.Response]) -> list[httpx.Response]:
    """Let twelve clients act at the same moment; returns their answers."""
    answers: list[httpx.Response] = []
    gate = threading.Barrier(AT_ONCE)
    headers = {"Authorization": f"Bearer {project.tokens['maintainer']}"}

    def work(number: int) -> None:
        with httpx.Client(base_url=f"{project.instance.url}/api/v1", headers=headers, timeout=60) as client:
            gate.wait()
            answers.append(act(client, number))

    threads = [threading.Thread(target=work, args=(number,)) for number in range(AT_ONCE)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(answers) == AT_ONCE
    assert all(answer.status_code < 500 for answer in answers), [answer.text for answer in answers]
    return answers


def test_numbers_are_given_once(project: Project) -> None:
    def begin(client: httpx.Client, number: int) -> httpx.Response:
        body = {"started_at": AT, "params": {f"key-{number}": number, "shared": 1}}
        return client.put(project.path("experiments", "new", "runs", new_id()), json=body)

    numbers = sorted(answer.json()["number"] for answer in together(project, begin))
    assert numbers == list(range(1, AT_ONCE + 1))
    (experiment,) = project.service().get(project.path("experiments"))
    assert experiment["runs"] == AT_ONCE


def test_the_same_run_begun_by_all_is_one(project: Project) -> None:
    uid = new_id()
    path = project.path("experiments", "new", "runs", uid)
    answers = together(project, lambda client, number: client.put(path, json={"started_at": AT, "params": {"a": 1}}))
    assert {answer.json()["number"] for answer in answers} == {1}
    assert len(project.service().get(project.path("experiments", "new", "runs"))["rows"]) == 1


def test_parameters_results_and_points_of_one_run(project: Project) -> None:
    begun = project.begin()
    uid, batch = new_id(), new_id()

    def tell(client: httpx.Client, number: int) -> httpx.Response:
        kind = number % 4
        if kind == 0:
            return client.post(
                project.run_path(begun, "parameters"), json={"params": {"depth": number, f"p{number}": 1}}
            )
        if kind == 1:
            results = [
                {"id": uid, "key": "same", "value": 1, "at": AT},
                {"id": new_id(), "key": f"r{number}", "value": 1, "at": AT},
            ]
            return client.post(project.run_path(begun, "results"), json={"results": results})
        group = {"keys": ["loss"], "steps": [number], "times": [AT], "values": [[number]]}
        if kind == 2:
            group = {"keys": ["repeated"], "steps": [0], "times": [AT], "values": [[0.5]]}
        return client.post(
            project.run_path(begun, "points"),
            params={"batch": batch if kind == 2 else new_id()},
            json={"groups": [group]},
        )

    for answer in together(project, tell):
        assert answer.status_code in {200, 204}
    run = wait_for(
        lambda: (
            (r := project.service().get(project.run_path(begun)))
            and r["metrics"].get("loss", {}).get("count") == 3
            and r
        )
    )
    assert run["params"]["depth"] in {0, 4, 8}
    assert {key for key in run["params"] if key != "depth"} == {"p0", "p4", "p8"}
    assert len(run["problems"]) == 2
    assert set(run["results"]) == {"same", "r1", "r5", "r9"}
    assert run["metrics"]["repeated"]["count"] == 1


def test_one_content_kept_by_all_is_one_version(project: Project) -> None:
    entry = project.upload(b"the same bytes")
    path = project.path("artifacts", "nights", "versions")
    answers = together(project, lambda client, n: client.post(path, json={"id": new_id(), "at": AT, "files": [entry]}))
    assert {answer.json()["number"] for answer in answers} == {1}


def test_one_blob_sent_by_all_is_stored_once(project: Project) -> None:
    import hashlib

    content = new_id().encode() * 5_000
    sha256 = hashlib.sha256(content).hexdigest()
    answers = together(project, lambda client, n: client.put(project.path("blobs", sha256), content=content))
    assert {answer.status_code for answer in answers} == {200}
    assert (project.instance.home.store / sha256[:2] / sha256).read_bytes() == content
    assert not list((project.instance.home.store / "incoming").glob(f"{sha256[:16]}*"))


def test_a_name_becomes_one_thing(project: Project) -> None:
    """Half register a model, half keep an artifact, all of one name."""
    begun = project.begin()
    project.generate(begun, b"net")
    entry = project.upload(b"other")

    def claim(client: httpx.Client, number: int) -> httpx.Response:
        if number % 2:
            body: dict[str, Any] = {"id": new_id(), "artifact": "frost-net@1"}
            return client.post(project.path("models", "contested", "versions"), json=body)
        return client.post(
            project.path("artifacts", "contested", "versions"), json={"id": new_id(), "at": AT, "files": [entry]}
        )

    statuses = {answer.status_code for answer in together(project, claim)}
    assert 409 in statuses
    things = project.service().get(project.path("names", "contested"))["things"]
    assert things in (["model"], ["artifact"])


def test_versions_registered_at_once_are_numbered_in_a_row(project: Project) -> None:
    begun = project.begin()
    project.generate(begun, b"net")
    body = {"artifact": "frost-net@1"}
    path = project.path("models", "frost-alarm", "versions")
    answers = together(project, lambda client, n: client.post(path, json={"id": new_id(), **body}))
    assert sorted(answer.json()["number"] for answer in answers) == list(range(1, AT_ONCE + 1))


@pytest.mark.parametrize("stage", ["staging", "production"])
def test_roll_backs_of_all_take_one_version_off(project: Project, stage: str) -> None:
    project.registered(3)
    for number, expect in ((1, None), (2, 1), (3, 2)):
        project.verdict(number, "approve")
        project.place("promotions", stage, version=number, expect=expect)
    path = project.path("models", "frost-alarm", "stages", stage, "rollbacks")
    answers = together(project, lambda client, n: client.post(path, json={"id": new_id(), "expect": 3}))
    assert sorted(answer.status_code for answer in answers) == [200] + [409] * (AT_ONCE - 1)
    model = project.service().get(project.path("models", "frost-alarm"))
    assert {s["name"]: s["occupant"] for s in model["stages"]}[stage] == 2
