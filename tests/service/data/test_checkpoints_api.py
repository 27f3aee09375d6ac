"""Checkpoints over HTTP: which of a run's versions stay, which go to the bin, and what nothing may release."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000


def checkpoint(project: Project, begun: dict[str, Any], step: int | None, keep: str, text: str = "") -> str:
    content = (text or f"{begun['id']} of step {step}").encode()
    body = {
        "id": new_id(),
        "at": AT,
        "name": "net",
        "kind": "model",
        "step": step,
        "keep": keep,
        "files": [project.upload(content)],
    }
    made = project.service("contributor").call("POST", project.run_path(begun, "generated"), json=body)
    return str(made["reference"])


def measure(project: Project, begun: dict[str, Any], values: dict[int, float], key: str = "recall") -> None:
    steps = list(values)
    group = {"keys": [key], "steps": steps, "times": [AT + step for step in steps], "values": [list(values.values())]}
    project.service("contributor").call(
        "POST", project.run_path(begun, "points"), params={"batch": new_id()}, json={"groups": [group]}
    )


def end(project: Project, begun: dict[str, Any]) -> None:
    project.service("contributor").call(
        "POST", project.run_path(begun, "ending"), json={"status": "finished", "ended_at": AT + 10_000_000}
    )


def kept(project: Project) -> list[int]:
    rows = project.service().get(project.path("artifacts", "net", "versions"))
    return sorted(row["number"] for row in rows if row["binned_at"] is None)


def problems(project: Project, begun: dict[str, Any]) -> list[str]:
    return [problem["text"] for problem in project.service().get(project.run_path(begun))["problems"]]


def test_the_last_ones_by_step_stay_in_whatever_order_they_arrive(project: Project) -> None:
    begun = project.begin()
    for step in (30, 10, 20, 50, 40):
        checkpoint(project, begun, step, "2")
    # Numbers follow arrival: steps 30, 10, 20, 50, 40.
    assert kept(project) == [4, 5]


def test_the_best_is_settled_when_the_points_arrive_after_the_files(project: Project) -> None:
    begun = project.begin(goals={"recall": {"direction": "higher"}})
    for step in range(4):
        checkpoint(project, begun, step, "best")
    assert kept(project) == [1, 2, 3, 4]
    measure(project, begun, {0: 0.2, 1: 0.9, 2: 0.4})
    checkpoint(project, begun, 9, "best")
    # Steps 3 and 9 may be measured yet.
    assert kept(project) == [2, 4, 5]
    measure(project, begun, {3: 0.1, 9: 0.5})
    end(project, begun)
    rows = {row["number"]: row for row in project.service().get(project.path("artifacts", "net", "versions"))}
    assert {row["bin_reason"] for row in rows.values() if row["binned_at"]} == {f"{begun['reference']} keeps the best"}
    assert kept(project) == [2]


def test_one_is_always_in_sight(project: Project) -> None:
    """Values that come out of order make a checkpoint in the bin the best; the best in sight stays all the same."""
    begun = project.begin(goals={"recall": {"direction": "higher"}})
    measure(project, begun, {5: 0.5})
    for step in (1, 5):
        checkpoint(project, begun, step, "best")
    assert kept(project) == [2]
    measure(project, begun, {1: 0.9})
    checkpoint(project, begun, 6, "best")
    measure(project, begun, {6: 0.3})
    end(project, begun)
    assert kept(project) == [2]


def test_lower_may_be_better_and_another_key_may_be_named(project: Project) -> None:
    goals = {"recall": {"direction": "higher"}, "loss": {"direction": "lower"}}
    begun = project.begin(goals=goals)
    measure(project, begun, {0: 0.5, 1: 0.1, 2: 0.3}, "loss")
    measure(project, begun, {0: 0.9, 1: 0.1, 2: 0.3}, "recall")
    for step in range(3):
        checkpoint(project, begun, step, "best:loss")
    end(project, begun)
    assert kept(project) == [2]


def test_without_a_goal_all_stay_and_the_run_says_why(project: Project) -> None:
    begun = project.begin("aimless")
    for step in range(3):
        checkpoint(project, begun, step, "best")
    end(project, begun)
    assert kept(project) == [1, 2, 3]
    assert any("All checkpoints of net are kept: aimless has no goal" in text for text in problems(project, begun))
    named = project.begin("aimless")
    checkpoint(project, named, 1, "best:recall")
    assert any("no goal for 'recall'" in text for text in problems(project, named))


def test_what_others_rest_on_stays(project: Project) -> None:
    service = project.service("contributor")
    begun, user = project.begin(), project.begin()
    used, registered = checkpoint(project, begun, 1, "1"), ""
    service.call("POST", project.run_path(user, "used"), json={"id": new_id(), "at": AT, "artifact": used})
    registered = checkpoint(project, begun, 2, "1")
    body = {"id": new_id(), "artifact": registered, "run": begun["reference"], "comment": ""}
    service.call("POST", project.path("models", "frost-alarm", "versions"), json=body)
    # Another run generates the very same content as this run's third.
    checkpoint(project, begun, 3, "1", text=f"{project.name} shared")
    other = project.begin()
    checkpoint(project, other, 3, "1", text=f"{project.name} shared")
    for step in (4, 5):
        checkpoint(project, begun, step, "1")
    assert kept(project) == [1, 2, 3, 5]


def test_what_was_released_may_come_back(project: Project) -> None:
    begun = project.begin()
    for step in (1, 2):
        checkpoint(project, begun, step, "1")
    assert kept(project) == [2]
    project.service("contributor").call("POST", project.path("bin", "restored"), json={"things": ["net@1"]})
    assert kept(project) == [1, 2]
    version = project.service().get(project.path("artifacts", "net", "versions", "1"))
    assert (version["binned_at"], version["bin_reason"]) == (None, None)


@pytest.mark.parametrize("keep", ["0", "-1", "all", "best:", "1.5", "99999", "best:" + "x" * 290])
def test_what_is_no_choice_is_refused(project: Project, raw: httpx.Client, keep: str) -> None:
    begun = project.begin()
    with pytest.raises(errors.InvalidInput, match="keep is"):
        checkpoint(project, begun, 1, keep)
    assert project.service().get(project.run_path(begun))["generated"] == []
