"""Names, labels, notes, goals, corrections and the bin, over HTTP."""

from __future__ import annotations

import pytest

from kinetrum.core.base import errors
from tests.support.programs import wait_for
from tests.support.world import Project, new_id


def ended(project: Project, role: str = "contributor", **fields: object) -> dict[str, str]:
    run = project.begin(role=role, **fields)
    project.service(role).call(
        "POST", project.run_path(run, "ending"), json={"status": "finished", "ended_at": 1_790_000_001_000_000}
    )
    return run


def numbers(project: Project, **query: str) -> list[int]:
    page = project.service("viewer").get(project.path("experiments", "frost-alarm", "runs"), **query)
    return [row["number"] for row in page["rows"]]


def history(project: Project, run: dict[str, str]) -> list[str]:
    return [
        entry["act"]
        for entry in project.service("viewer").get(project.path("journal"), subject=f"run:{run['reference']}")
    ]


def test_labels_on_many_runs_at_once(project: Project) -> None:
    runs = [project.begin(labels={"old": "x"}) for _ in range(3)]
    refs = [run["reference"] for run in runs]
    service = project.service("contributor")
    done = service.call(
        "POST", project.path("labels"), json={"runs": [*refs, refs[0]], "labels": {"purpose": "baseline", "old": None}}
    )
    assert done == {"runs": refs}
    for run in runs:
        assert service.get(project.run_path(run))["labels"] == {"purpose": "baseline"}
        assert history(project, run) == ["labelled", "began"]
    service.call("POST", project.path("labels"), json={"runs": refs, "labels": {"purpose": "baseline"}})
    assert history(project, runs[0]) == ["labelled", "began"]
    with pytest.raises(errors.NotFound):
        service.call(
            "POST", project.path("labels"), json={"runs": [refs[0], "frost-alarm/99"], "labels": {"lost": "x"}}
        )
    assert "lost" not in service.get(project.run_path(runs[0]))["labels"]


def test_notes_with_author_and_time(project: Project) -> None:
    run, other = project.begin(), project.begin()
    uid = new_id()
    body = {"id": uid, "things": [run["reference"], other["id"]], "text": "**hail** in May\n\nleft out"}
    for _ in range(2):
        project.service("contributor").call("POST", project.path("notes"), json=body)
    (note,) = project.service("viewer").get(project.run_path(run))["notes"]
    assert (note["author"], note["text"]) == ("A Contributor", body["text"])
    at, of = project.path("notes", note["id"]), {"of": run["reference"]}
    for role, mine in (("viewer", False), ("contributor", True), ("approver", False), ("maintainer", True)):
        (found,) = project.service(role).get(project.path("notes"), of=run["reference"])
        assert (found["id"], found["may_remove"]) == (note["id"], mine)
    with pytest.raises(errors.NotAllowed, match="its author or a maintainer"):
        project.service("approver").call("DELETE", at, params=of)
    project.service("maintainer").call("DELETE", at, params=of)
    assert len(project.service("viewer").get(project.path("notes"), of=other["id"])) == 1
    assert project.service("viewer").get(project.run_path(run))["notes"] == []
    assert history(project, run)[0] == "removed a note"
    for wrong in ("", "  ", "x" * 50_001):
        with pytest.raises(errors.InvalidInput):
            project.service("contributor").call(
                "POST", project.path("notes"), json=body | {"id": new_id(), "text": wrong}
            )


def test_notes_on_all_that_has_them(project: Project) -> None:
    project.registered(2)
    things = [
        f"project:{project.name}",
        "experiment:frost-alarm",
        "frost-alarm/1",
        "artifact:frost-net",
        "frost-net@1",
        "model:frost-alarm",
        "frost-alarm@2",
    ]
    service, body = project.service("contributor"), {"id": new_id(), "things": things, "text": "see the **hail** night"}
    for _ in range(2):
        assert sorted(service.call("POST", project.path("notes"), json=body)["references"]) == sorted(things)
    for thing in things:
        (note,) = service.get(project.path("notes"), of=thing)
        assert (note["text"], note["author"], note["may_remove"]) == (body["text"], "A Contributor", True)
    assert service.get(project.path("notes"), of="frost-alarm@1") == []
    acts = project.service("viewer").get(project.path("journal"), subject="frost-alarm")
    assert {entry["subject"] for entry in acts if entry["act"] == "noted on"} == {"frost-alarm@2", "frost-alarm"}
    service.call("DELETE", project.path("notes", note["id"]), params={"of": "frost-alarm@2"})
    assert service.get(project.path("notes"), of="frost-alarm@2") == []
    with pytest.raises(errors.NotFound, match="has no note"):
        service.call("DELETE", project.path("notes", note["id"]), params={"of": "model:frost-alarm"})
    for wrong, why in (
        ("model:nothing", "has no model 'nothing'; it has frost-alarm"),
        ("frost-alarm@9", "the newest is 2"),
        ("frost-net@1:frost.onnx", "names no version"),
        ("project:other", "is not this project"),
        ("station", "ends in station"),
    ):
        with pytest.raises(errors.KinetrumError, match=why):
            service.call(
                "POST", project.path("notes"), json=body | {"id": new_id(), "things": ["frost-alarm/1", wrong]}
            )
    # One that is wrong, and none was written.
    assert len(service.get(project.path("notes"), of="frost-alarm/1")) == 1


def test_renamed_and_corrected_and_both_remembered(project: Project) -> None:
    run = project.begin(name="first", params={"depth": 5, "learner": "forest"})
    service = project.service("contributor")
    service.call("PUT", project.run_path(run, "name"), json={"name": "second"})
    service.call("PUT", project.run_path(run, "name"), json={"name": None})
    service.call(
        "POST",
        project.run_path(run, "corrections"),
        json={"params": {"depth": 7, "learner": "forest"}, "comment": "typed wrongly"},
    )
    found = service.get(project.run_path(run))
    assert found["name"] is None
    assert found["params"] == {"depth": 7, "learner": "forest"}
    assert numbers(project, query="depth = 7") == [1]
    assert numbers(project, query="depth = 5") == []
    entry = project.service("viewer").get(project.path("journal"), subject=f"run:{run['reference']}")[0]
    assert (entry["act"], entry["before"], entry["after"], entry["comment"]) == (
        "corrected",
        {"depth": 5},
        {"depth": 7},
        "typed wrongly",
    )
    with pytest.raises(errors.NotFound, match="it has depth, learner"):
        service.call("POST", project.run_path(run, "corrections"), json={"params": {"dept": 7}})


def test_the_bin_takes_out_of_sight_and_gives_back(project: Project) -> None:
    runs = [ended(project, params={"depth": number}, goals={"recall": {"direction": "higher"}}) for number in range(3)]
    service = project.service("contributor")
    for value, run in enumerate(runs):
        service.call(
            "POST",
            project.run_path(run, "results"),
            json={"results": [{"id": new_id(), "key": "recall", "value": value / 10, "at": 1}]},
        )
    assert service.get(project.path("experiments", "frost-alarm"))["best_run"] == "frost-alarm/3"
    service.call("POST", project.path("bin"), json={"things": [runs[2]["reference"]]})
    assert numbers(project) == [2, 1]
    assert numbers(project, sort="recall") == [2, 1]
    assert numbers(project, query="depth >= 0", sort="depth:desc,recall") == [2, 1]
    experiment = service.get(project.path("experiments", "frost-alarm"))
    assert (experiment["runs"], experiment["best_run"]) == (2, "frost-alarm/2")
    assert service.get(project.path("experiments", "frost-alarm", "runs", "last"))["number"] == 2
    (binned,) = service.get(project.path("bin"))
    assert (binned["reference"], binned["binned_by"], binned["author"]) == (
        "frost-alarm/3",
        "A Contributor",
        "A Contributor",
    )
    there = service.get(project.run_path(runs[2]))
    assert there["binned_at"] is not None
    assert there["values"]["recall"] == 0.2
    service.call("POST", project.path("bin", "restored"), json={"things": ["frost-alarm/3"]})
    assert numbers(project) == [3, 2, 1]
    assert history(project, runs[2])[:2] == ["restored", "binned"]


def test_people_bin_their_own_and_maintainers_anybodys(project: Project) -> None:
    mine, hers = ended(project), ended(project, role="approver")
    both = {"things": [mine["reference"], hers["reference"]]}
    with pytest.raises(errors.NotAllowed, match="recorded by A Approver"):
        project.service("contributor").call("POST", project.path("bin"), json=both)
    assert numbers(project) == [2, 1]
    assert "bin" not in project.service("contributor").get(project.run_path(hers))["may"]
    assert "bin" in project.service("contributor").get(project.run_path(mine))["may"]
    assert project.service("viewer").get(project.run_path(mine))["may"] == []
    project.service("maintainer").call("POST", project.path("bin"), json=both)
    with pytest.raises(errors.NotAllowed):
        project.service("contributor").call("POST", project.path("bin", "restored"), json=both)
    project.service("maintainer").call("POST", project.path("bin", "restored"), json=both)
    running = project.begin()
    with pytest.raises(errors.Conflict, match="still running"):
        project.service("contributor").call("POST", project.path("bin"), json={"things": [running["reference"]]})


def test_a_changed_goal_reindexes_what_is_shown(project: Project) -> None:
    service = project.service("contributor")
    series = {1: [3.0, 1.0, 2.0], 2: [2.0, 2.5, 4.0], 3: ["NaN", "NaN", 3.0]}
    for values in series.values():
        run = project.begin()
        body = {"groups": [{"keys": ["loss"], "steps": [0, 1, 2], "times": [1, 2, 3], "values": [values]}]}
        service.call("POST", project.run_path(run, "points"), params={"batch": new_id()}, json=body)
    fourth = project.begin()
    service.call(
        "POST",
        project.run_path(fourth, "results"),
        json={"results": [{"id": new_id(), "key": "loss", "value": 0.5, "at": 1}]},
    )

    def shown() -> dict[int, float]:
        page = service.get(project.path("experiments", "frost-alarm", "runs"), sort="loss:asc")
        return {row["number"]: row["values"].get("loss") for row in page["rows"]}

    wait_for(lambda: shown().get(3) == 3.0 and len(shown()) == 4)
    assert list(shown().items()) == [(4, 0.5), (1, 2.0), (3, 3.0), (2, 4.0)]
    path = project.path("experiments", "frost-alarm", "goal")
    for body, wanted in (
        ({"direction": "lower", "unit": "°C", "bound": 0.7}, [(4, 0.5), (1, 1.0), (2, 2.0), (3, 3.0)]),
        ({"direction": "higher"}, [(4, 0.5), (1, 3.0), (3, 3.0), (2, 4.0)]),
        ({"direction": "higher", "aggregate": "first"}, [(4, 0.5), (2, 2.0), (1, 3.0), (3, {"float": "NaN"})]),
        ({"direction": "lower", "aggregate": "mean"}, [(4, 0.5), (1, 2.0), (2, 8.5 / 3), (3, 3.0)]),
    ):
        goals = service.call("PUT", path, params={"key": "loss"}, json=body)
        assert goals[0]["direction"] == body["direction"]
        assert list(shown().items()) == wanted, body
    assert numbers(project, query="loss < 2.9", sort="loss:asc") == [4, 1, 2]
    assert service.call("DELETE", path, params={"key": "loss"}) == []
    assert list(shown().items()) == [(4, 0.5), (1, 2.0), (3, 3.0), (2, 4.0)]
    acts = [entry["act"] for entry in service.get(project.path("journal"), subject="experiment:frost-alarm")]
    assert acts == ["removed a goal", *["set a goal"] * 4, "made the experiment"]
    with pytest.raises(errors.NotFound):
        service.call("DELETE", path, params={"key": "loss"})
    with pytest.raises(errors.InvalidInput):
        service.call("PUT", path, params={"key": "loss"}, json={"direction": "sideways"})


def test_a_run_taken_up_again(project: Project) -> None:
    run = ended(project)
    service = project.service("contributor")
    later = {"at": 1_790_000_002_000_000}
    for _ in range(2):
        assert service.call("POST", project.run_path(run, "resumption"), json=later)["status"] == "running"
    # The ending from before, delivered late by another process, does not end it again.
    service.call(
        "POST",
        project.run_path(run, "ending"),
        json={"status": "failed", "reason": "x", "ended_at": 1_790_000_001_500_000},
    )
    found = service.get(project.run_path(run))
    assert (found["status"], found["ended_at"], found["reason"]) == ("running", None, None)
    service.call(
        "POST",
        project.run_path(run, "ending"),
        json={"status": "failed", "reason": "twice", "ended_at": 1_790_000_003_000_000},
    )
    assert service.get(project.run_path(run))["reason"] == "twice"
    assert service.call("POST", project.run_path(run, "resumption"), json=later)["status"] == "failed"
    assert history(project, run) == ["ended", "resumed", "ended", "began"]


def test_results_recorded_twice_are_both_kept(project: Project) -> None:
    run = project.begin()
    results = [{"id": new_id(), "key": "recall", "value": value, "at": at} for value, at in ((0.5, 1), ("good", 2))]
    project.service("contributor").call("POST", project.run_path(run, "results"), json={"results": results})
    found = project.service("viewer").get(project.run_path(run, "results"))
    assert [item["value"] for item in found] == [0.5, "good"]
    assert project.service("viewer").get(project.run_path(run))["results"] == {"recall": "good"}


def test_a_page_of_runs_says_what_replicates_differ_in(project: Project) -> None:
    for experiment, seeds in (("folds", ["fold", "seed"]), ("dawn", None)):
        project.begin(experiment, params={"fold": 1})
        if seeds:
            path = project.path("experiments", experiment, "seeds")
            answer = project.service("contributor").call("PUT", path, json={"seeds": [*seeds, *seeds]})
            assert answer == {"seeds": seeds}
    service = project.service("viewer")
    assert service.get(project.path("experiments", "folds", "runs"))["seeds"] == ["fold", "seed"]
    assert service.get(project.path("experiments", "dawn", "runs"))["seeds"] == ["seed"]
    # Of all experiments together, each name once.
    assert sorted(service.get(project.path("runs"))["seeds"]) == ["fold", "seed"]
    acts = service.get(project.path("journal"), subject="experiment:folds")
    assert [(one["before"], one["after"]) for one in acts if one["act"] == "named the seeds of"] == [
        ({"seeds": "seed"}, {"seeds": "fold, seed"})
    ]
    for wrong, why in (
        ([], "names 1 to 16 seeds, not 0"),
        ([f"p{at}" for at in range(17)], "not 17"),
        (['a"b'], "quotes"),
    ):
        with pytest.raises(errors.InvalidInput, match=why):
            project.service("contributor").call(
                "PUT", project.path("experiments", "folds", "seeds"), json={"seeds": wrong}
            )
    assert service.get(project.path("experiments", "folds", "runs"))["seeds"] == ["fold", "seed"]


def test_labels_are_bounded_alike_on_everything(project: Project) -> None:
    project.registered(1)
    service = project.service("contributor")
    many = {f"k{at}": "x" for at in range(100)}
    places = [
        ("POST", project.path("labels"), {"runs": ["frost-alarm/1"]}, "frost-alarm/1"),
        ("PATCH", project.path("experiments", "frost-alarm"), {"description": None}, "experiment:frost-alarm"),
        ("PATCH", project.path(), {"description": None}, f"project:{project.name}"),
        ("PATCH", project.path("artifacts", "frost-net"), {"description": None}, "frost-net"),
        ("PATCH", project.path("artifacts", "frost-net", "versions", "1", "labels"), {}, "frost-net@1"),
        ("PATCH", project.path("models", "frost-alarm"), {}, "frost-alarm"),
        ("PATCH", project.path("models", "frost-alarm", "versions", "1", "labels"), {}, "frost-alarm@1"),
    ]
    for method, path, body, subject in places:
        service.call(method, path, json={**body, "labels": many})
        with pytest.raises(errors.InvalidInput, match=f"{subject} would have over 100 labels"):
            service.call(method, path, json={**body, "labels": {"more": "x"}})
        # One away and one more is no more than before.
        service.call(method, path, json={**body, "labels": {"k0": None, "more": "x"}})
