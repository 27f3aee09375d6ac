"""Names: those that runs get by themselves, and other names for experiments and models under which nothing breaks."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.core.base import errors
from kinetrum.core.text.run_names import generate_run_name
from tests.client.registry.test_registry import acting, ruled, trained, version
from tests.service.people.test_descriptions import ended, history
from tests.support.world import Project, new_id

__all__ = ["acting"]


def rename(project: Project, kind: str, before: str, name: str, role: str = "maintainer") -> str:
    body = {"name": name}
    return str(project.service(role).call("PUT", project.path(f"{kind}s", before, "name"), json=body)["name"])


def test_a_run_without_a_name_gets_one(recording: Project) -> None:
    with kinetrum.begin("frost-alarm") as run:
        assert run.name is None
    with kinetrum.begin("frost-alarm", name="mine") as named:
        pass
    run.flush()
    made = generate_run_name(bytes.fromhex(run.id.replace("-", "")))
    first, second = made.split("-")
    assert first.isalpha() and second.isalpha()
    assert (run.name, named.name) == (made, "mine")
    assert [kinetrum.open(f"frost-alarm/{number}").name for number in (1, 2)] == [made, "mine"]
    # It is a name as any other: found, changed, taken away.
    assert [found.number for found in kinetrum.runs(f'name = "{made}"', experiment="frost-alarm")] == [1]
    kinetrum.open("frost-alarm/1").rename("better")
    assert kinetrum.attach("frost-alarm/1").name == "better"


def test_names_follow_from_ids() -> None:
    assert generate_run_name(bytes(16)) == generate_run_name(bytes(16)) == "amber-abacus"
    assert generate_run_name(b"\xff" * 16) != generate_run_name(bytes(16))
    names = {generate_run_name(number.to_bytes(16, "big")) for number in range(10_000)}
    assert all(name.isascii() and name.islower() and len(name) < 24 for name in names)


def test_an_experiment_may_say_no(recording: Project, capsys: pytest.CaptureFixture[str]) -> None:
    kinetrum.begin("frost-alarm").end()
    assert main(["run-names", "frost-alarm"]) == 0
    assert main(["run-names", "frost-alarm", "off"]) == 0
    assert capsys.readouterr().out.splitlines() == [
        "Runs of frost-alarm that are begun without a name get a generated one.",
        "Runs of frost-alarm that are begun without a name have none.",
    ]
    with kinetrum.begin("frost-alarm") as run:
        pass
    run.flush()
    assert (run.number, run.name, kinetrum.open("frost-alarm/2").name) == (2, None, None)
    experiment = kinetrum.experiment("frost-alarm")
    experiment.generates_names = True
    assert main(["run-names", "frost-alarm", "--json"]) == 0
    assert json.loads(capsys.readouterr().out) == {"generates_names": True}
    acts = recording.service("viewer").get(recording.path("journal"), subject="experiment:frost-alarm")
    assert [entry["after"] for entry in acts[:2]] == [{"generates_names": True}, {"generates_names": False}]


def test_a_running_run_goes_on_under_the_name_that_it_knows(recording: Project) -> None:
    run = kinetrum.begin("frost-alarm")
    run.measure(loss=1)
    run.flush()
    assert rename(recording, "experiment", "frost-alarm", "frost-bell") == "frost-bell"
    run.measure(loss=0.5)
    run.result(recall=0.9)
    run.end()
    later = kinetrum.begin("frost-alarm")
    later.end()
    later.flush()
    assert later.reference == "frost-bell/2"
    for name in ("frost-bell", "frost-alarm"):
        found = kinetrum.open(f"{name}/1")
        assert (found.reference, found.status, found.results) == ("frost-bell/1", "finished", {"recall": 0.9})
        assert list(found.metrics["loss"].points().value) == [1.0, 0.5]
        assert [one.number for one in kinetrum.runs("recall > 0.5", experiment=name)] == [1]
    names = [found["name"] for found in recording.service().get(recording.path("experiments"))]
    assert names == ["frost-bell"]
    kinetrum.resume("frost-alarm/1", experiment="frost-alarm").end()


def test_earlier_names_are_not_given_away(project: Project) -> None:
    ended(project)
    project.begin("other")
    rename(project, "experiment", "frost-alarm", "bell")
    for name, told in (
        ("frost-alarm", "'frost-alarm' was the name of bell before and still leads there; choose another name."),
        ("bell", "There is an experiment 'bell' already; choose another name."),
    ):
        with pytest.raises(errors.Conflict) as raised:
            rename(project, "experiment", "other", name)
        assert str(raised.value) == told
    with pytest.raises(errors.InvalidInput, match="cannot name an experiment"):
        rename(project, "experiment", "other", "Bell Jar")
    with pytest.raises(errors.NotAllowed):
        rename(project, "experiment", "other", "x", role="viewer")
    with pytest.raises(errors.NotFound):
        rename(project, "experiment", "nowhere", "x")
    # Back and forth, and the journal knows it under every name.
    assert rename(project, "experiment", "bell", "frost-alarm") == "frost-alarm"
    assert rename(project, "experiment", "frost-alarm", "frost-alarm") == "frost-alarm"
    service = project.service("viewer")
    acts = [
        [
            (entry["act"], entry["before"], entry["after"])
            for entry in service.get(project.path("journal"), subject=subject)
        ]
        for subject in ("experiment:frost-alarm", "experiment:bell")
    ]
    assert acts[0] == acts[1]
    assert acts[0][:2] == [("renamed", "bell", "frost-alarm"), ("renamed", "frost-alarm", "bell")]
    run = {"reference": "bell/1"}
    assert history(project, run) == ["ended", "began"]


def test_a_model_under_another_name(project: Project, tmp_path: Path) -> None:
    project.registered(2)
    service = project.service("maintainer")
    service.call("PUT", project.path("models", "frost-alarm", "versions", "1", "verdict"), json={"verdict": "approve"})
    stage = project.path("models", "frost-alarm", "stages", "production", "promotions")
    service.call("POST", stage, json={"id": new_id(), "version": 1, "expect": None})
    with pytest.raises(errors.NotAllowed):
        rename(project, "model", "frost-alarm", "bell", role="contributor")
    with pytest.raises(errors.Conflict, match="names an artifact of this project"):
        rename(project, "model", "frost-alarm", "frost-net")
    assert rename(project, "model", "frost-alarm", "bell") == "bell"
    for name in ("bell", "frost-alarm"):
        model = service.get(project.path("models", name))
        assert (model["name"], model["stages"][-1]["occupant"]) == ("bell", 1)
        assert service.get(project.path("models", name, "versions", "production"))["reference"] == "bell@1"
        assert "model" in service.get(project.path("names", name))["things"]
    # What is registered under the earlier name is the next version of the same model, and no artifact takes the name.
    again = service.call(
        "POST",
        project.path("models", "frost-alarm", "versions"),
        json={"id": new_id(), "artifact": "frost-net@1", "origin": "again"},
    )
    assert again["reference"] == "bell@3"
    assert [one["name"] for one in service.get(project.path("models"))["models"]] == ["bell"]
    acts = service.get(project.path("journal"), subject="bell")
    assert {entry["subject"].partition("@")[0] for entry in acts} == {"bell", "frost-alarm"}
    assert len(acts) == len(service.get(project.path("journal"), subject="frost-alarm"))


def test_a_model_in_the_bin(project: Project) -> None:
    project.registered(2)
    service = project.service("maintainer")
    things = {"things": ["model:frost-alarm"], "children": False}
    development = project.path("models", "frost-alarm", "stages", "development")
    service.call("POST", f"{development}/promotions", json={"id": new_id(), "version": 1, "expect": None})
    with pytest.raises(errors.Conflict, match="Version 1 of frost-alarm stands on development"):
        service.call("POST", project.path("bin"), json=things)
    service.call("POST", f"{development}/demotions", json={"id": new_id(), "expect": 1})
    with pytest.raises(errors.NotAllowed):
        project.service("contributor").call("POST", project.path("bin"), json=things)
    for _ in range(2):
        assert service.call("POST", project.path("bin"), json=things)["references"] == ["model:frost-alarm"]
    assert service.get(project.path("models"))["count"] == 0
    (there,) = service.get(project.path("bin"))
    assert (there["reference"], there["kind"], there["may_restore"]) == ("model:frost-alarm", "model", True)
    for act, path, body in (
        ("POST", "versions", {"id": new_id(), "artifact": "frost-net@1", "origin": "x"}),
        ("PUT", "versions/1/verdict", {"verdict": "approve"}),
        ("POST", "stages/development/promotions", {"id": new_id(), "version": 1, "expect": None}),
    ):
        with pytest.raises(
            errors.Conflict, match="frost-alarm is in the bin; 'kinetrum bin --restore model:frost-alarm'"
        ):
            service.call(act, project.path("models", "frost-alarm", *path.split("/")), json=body)
    # What is written down still leads there, and nothing of it is purged.
    assert service.get(project.path("models", "frost-alarm", "versions", "1"))["number"] == 1
    gone = service.call("POST", project.path("purges"), json={"things": ["model:frost-alarm"], "only_tell": False})
    assert gone["kept"] == [{"reference": "model:frost-alarm", "why": "what was registered is never purged"}]
    service.call("POST", project.path("bin", "restored"), json=things)
    assert service.get(project.path("models"))["count"] == 1
    assert service.get(project.path("bin")) == []


def test_names_at_the_command_line(
    recording: Project, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    recording.registered(1)
    kinetrum.begin("frost-alarm").end()
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    for words, said in (
        (
            ["rename", "experiment:frost-alarm", "bell"],
            "experiment:bell is the name now; frost-alarm goes on leading there.",
        ),
        (["rename", "model:frost-alarm", "siren"], "model:siren is the name now; frost-alarm goes on leading there."),
        (["bin", "model:siren"], "model:siren in the bin; kinetrum bin --restore model:siren takes back."),
        (["bin", "--restore", "model:frost-alarm"], "model:siren restored."),
    ):
        assert main(words) == 0
        assert capsys.readouterr().out == f"{said}\n"
    assert kinetrum.model("siren").rename("horn").name == "horn"
    assert kinetrum.experiment("bell").rename("gong").data["name"] == "gong"


def test_what_was_found_under_the_earlier_name_is_evidence_still(
    acting: Any, recording: Project, tmp_path: Path
) -> None:
    """Predictions bear the name that the experiment had; a rule may name it too."""
    before = trained(tmp_path, 0.90, 1)
    first = before.register("frost-net", as_model="frost-alarm")
    ruled(acting).rule(evidence={"holdout": {"experiment": "frost-alarm"}})
    rename(recording, "experiment", "frost-alarm", "bell")
    # A script that still says the earlier name, and one that says the new one.
    acting("contributor")
    second = trained(tmp_path, 0.95, 2).register("frost-net", as_model="frost-alarm")
    with kinetrum.begin("elsewhere") as other:
        other.used("frost-net@1")
        other.evaluate([0, 1], [0, 1], on="holdout", rows=True)
    other.flush()
    for number, found in ((1, version(first.reference)), (2, version(second.reference))):
        assert found.evidence["holdout"]["rows"].startswith("frost-alarm-holdout-predictions@")
        assert found.evidence["holdout"]["refusal"] is None
        assert kinetrum.open(f"bell/{number}").predictions("holdout") == found.evidence["holdout"]["rows"]
        assert kinetrum.open(f"frost-alarm/{number}").predictions() == found.evidence["holdout"]["rows"]
        with pytest.raises(errors.NotFound):
            kinetrum.open(f"bell/{number}").predictions("other")
    with pytest.raises(errors.NotAllowed, match="comes from runs of frost-alarm alone, not of elsewhere"):
        version("frost-alarm@1").add_evidence("holdout", run="elsewhere/1")
    acting("approver")
    version("frost-alarm@2").approve("fine")
    acting("maintainer")
    assert all(check["met"] for check in version("frost-alarm@2").look_at_gates("production"))
    # The same rows are judged against what is in use, whichever name they bear.
    version("frost-alarm@2").promote("production")
    assert "accuracy" in str(dict(version("frost-alarm@1").beside("production")))


def test_a_lock_of_an_earlier_name_lays_files_out_as_before(acting: Any, recording: Project, tmp_path: Path) -> None:
    for model in ("frost-alarm", "siren"):
        trained(tmp_path, 0.9, 1).register("frost-net", as_model=model)
    lock = tmp_path / "versions.lock"
    kinetrum.lock(["frost-alarm@1", "siren@1"], lock)
    rename(recording, "model", "siren", "horn")
    found = kinetrum.fetch_locked(lock, tmp_path / "deploy")
    assert len(found) == 2
    assert sorted(path.name for path in (tmp_path / "deploy").iterdir()) == ["frost-alarm", "siren"]
    # A folder of the earlier name is deployed anew.
    kinetrum.fetch("horn@1", tmp_path / "deploy" / "siren")


def test_experiments_are_asked_for_by_earlier_names(recording: Project) -> None:
    for name in ("frost-alarm", "other"):
        with kinetrum.begin(name) as run:
            pass
        run.flush()
    rename(recording, "experiment", "frost-alarm", "bell")
    assert [run.reference for run in kinetrum.runs("experiment = frost-alarm")] == ["bell/1"]
    assert [run.reference for run in kinetrum.runs("experiment = bell")] == ["bell/1"]
    assert [run.reference for run in kinetrum.runs("experiment != frost-alarm")] == ["other/1"]
    assert [run.reference for run in kinetrum.runs("experiment in {frost-alarm, other}", sort="experiment:asc")] == [
        "bell/1",
        "other/1",
    ]
    assert kinetrum.experiment("frost-alarm").data["earlier_names"] == ["frost-alarm"]
