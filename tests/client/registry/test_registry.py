"""The registry from Python and the command line: a hand-over with evidence, gates, people, and a way back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import httpx
import numpy as np
import pytest

import kinetrum
from kinetrum.core.base import errors
from tests.support.world import Project

GATES = """
[production]
approvals = 1
card = ["Purpose"]

[[production.bound]]
value = "recall"
on = "holdout"
at_least = 0.8

[[production.better]]
value = "recall"
on = "holdout"
"""
ROWS = 1_200
TRUTH = np.random.default_rng(1).integers(0, 2, ROWS)
As = Callable[[str], None]


@pytest.fixture
def acting(recording: Project, monkeypatch: pytest.MonkeyPatch) -> As:
    """Go on as the person who has a role."""
    return lambda role: monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens[role])


def guessed(share_right: float, seed: int) -> np.ndarray:
    right = np.random.default_rng(seed).random(ROWS) < share_right
    return np.where(right, TRUTH, 1 - TRUTH).astype(float)


def trained(tmp_path: Path, share_right: float, seed: int) -> kinetrum.Run:
    """Train a net that has a share of the rows right, and judge it on the holdout."""
    (tmp_path / "holdout.csv").write_text("row,truth\n")
    (tmp_path / "net.bin").write_bytes(f"net {share_right} {seed}".encode())
    with kinetrum.begin("frost-alarm", params={"depth": seed}, seed=seed, goals={"holdout/recall": "higher"}) as run:
        run.used(tmp_path / "holdout.csv", name="holdout", role="holdout")
        run.evaluate(TRUTH, guessed(share_right, seed), on="holdout", rows=True)
        run.generated(tmp_path / "net.bin", name="frost-net", kind="model")
    run.flush()
    return run


def version(reference: str) -> kinetrum.ModelVersion:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.ModelVersion)
    return found


def ruled(acting: As) -> kinetrum.Model:
    """Give the model its rules, as its maintainer."""
    acting("maintainer")
    model = kinetrum.model("frost-alarm").set_gates(GATES)
    model.card = "## Purpose\nRings the bell before frost.\n"
    return model


def test_a_candidate_within_noise_a_better_one_and_the_way_back(acting: As, tmp_path: Path) -> None:
    first = trained(tmp_path, 0.90, 1).register("frost-net", as_model="frost-alarm", comment="first")
    assert list(first.evidence) == ["holdout"]
    assert first.evidence["holdout"]["digest"]
    assert first.evidence["holdout"]["results"]["recall"] == pytest.approx(0.9, abs=0.03)
    ruled(acting)
    acting("approver")
    version("frost-alarm@1").approve("sound")
    version("frost-alarm@1").promote("production")

    acting("contributor")
    trained(tmp_path, 0.905, 2).register("frost-net", as_model="frost-alarm", comment="looks better")
    acting("approver")
    second = version("frost-alarm@2")
    second.approve()
    seen = second.beside("production")
    assert "within noise" in seen.sentence
    assert "1 of 4 gates is not met" in seen.sentence
    with pytest.raises(
        errors.Conflict, match=r"1 gate is not met on production\. better recall on holdout than the occup"
    ):
        second.promote("production")
    assert version("frost-alarm@production").number == 1
    with pytest.raises(errors.NotAllowed, match="override a gate takes a maintainer"):
        second.promote("production", override="I like it")

    acting("contributor")
    trained(tmp_path, 0.97, 3).register("frost-net", as_model="frost-alarm")
    acting("approver")
    third = version("frost-alarm@3")
    with pytest.raises(errors.Conflict, match="is pending, and production asks for an approved version"):
        third.promote("production")
    third.approve("better on the same rows")
    third.promote("production", comment="for the spring")
    event = third.model.timeline[-1]
    assert [check["met"] for check in event["checks"]] == [True] * 4
    better = next(check for check in event["checks"] if check["kind"] == "better")
    assert better["figures"]["rows"] == ROWS
    assert better["figures"]["low"] > 0
    third.reject("rings too often after all")
    assert "rejected" in kinetrum.model("frost-alarm").warnings["production"]
    assert kinetrum.model("frost-alarm").roll_back("production", comment="back") == 1
    assert [entry["act"] for entry in kinetrum.model("frost-alarm").history()][:4] == [
        "rolled back",
        "rejected",
        "promoted",
        "approved",
    ]


def test_gates_on_scores_of_the_same_rows(acting: As, tmp_path: Path) -> None:
    chance = np.random.default_rng(5)
    for number, gain in enumerate((0.2, 0.5), 1):
        (tmp_path / "net.bin").write_bytes(f"net {gain}".encode())
        (tmp_path / "holdout.csv").write_text("row,truth\n")
        with kinetrum.begin("frost-alarm") as run:
            run.used(tmp_path / "holdout.csv", name="holdout", role="holdout")
            scores = np.clip(0.5 + gain * (TRUTH - 0.5) + chance.normal(0, 0.2, ROWS), 0.0, 1.0)
            run.evaluate(TRUTH, scores, on="holdout", rows=True)
            run.generated(tmp_path / "net.bin", name="frost-net", kind="model")
        run.flush()
        run.register("frost-net", as_model="frost-alarm")
        acting("maintainer")
        if number == 1:
            version("frost-alarm@1").approve()
            version("frost-alarm@1").promote("production")
        acting("contributor")
    acting("maintainer")
    gate = '[[production.better]]\nvalue = "{}"\non = "holdout"\nconfidence = 0.99\n'
    kinetrum.model("frost-alarm").set_gates("".join(gate.format(name) for name in ("roc_auc", "log_loss", "warmth")))
    asked = version("frost-alarm@2").look_at_gates("production")
    assert [check["met"] for check in asked] == [True, True, False]
    assert (
        "(DeLong), better beyond noise" in asked[0]["found"] and "(paired t), better beyond noise" in asked[1]["found"]
    )
    assert "warmth is not judged row by row; on these rows accuracy, recall" in asked[2]["found"]
    seen = version("frost-alarm@2").beside("production")
    told = {one["measure"]: one for one in seen["on_data"][0]["differences"]}
    # Those that gates or results name, the losses with their own direction.
    assert {"accuracy", "recall", "roc_auc", "log_loss", "brier", "f1"} <= told.keys()
    assert (told["log_loss"]["change"] < 0, told["log_loss"]["higher_is_better"]) == (True, False)
    assert seen.sentence.startswith("Version 2 would replace version 1 on production: better roc_auc on holdout")


def test_an_overridden_gate_is_shown_from_then_on(acting: As, tmp_path: Path) -> None:
    trained(tmp_path, 0.70, 1).register("frost-net", as_model="frost-alarm")
    ruled(acting)
    found = version("frost-alarm@1")
    found.approve()
    checks = {check["kind"]: check for check in found.look_at_gates("production")}
    assert (checks["bound"]["met"], checks["better"]["met"], checks["card"]["met"]) == (False, True, True)
    assert found.look_at_gates("staging") == []
    with pytest.raises(errors.InvalidInput, match="takes a reason"):
        found.promote("production", override=" ")
    found.promote("production", override="the harvest cannot wait")
    assert found.overrides == ["production: the harvest cannot wait (A Maintainer)"]
    assert found.model.timeline[-1]["override_reason"] == "the harvest cannot wait"
    # The journal tells it too.
    assert "gates overridden: the harvest cannot wait" in found.model.history()[0]["comment"]


def test_evidence_added_later(acting: As, recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"bought")
    bought = kinetrum.register(
        tmp_path / "net.bin",
        as_model="frost-alarm",
        origin="bought from a neighbour",
        metrics={"price": 3},
        labels={"season": "spring"},
        sample={"readings": np.zeros((3, 12), np.float32)},
        sample_output=np.zeros(3),
    )
    assert (bought.run, bought.values, bought.labels, bought.evidence) == (None, {"price": 3}, {"season": "spring"}, {})
    signature = bought.signature
    assert signature
    assert [one.text() for one in (*signature.inputs, *signature.outputs)] == [
        "readings float32 [?, 12]",
        "output float64 [?]",
    ]
    (tmp_path / "holdout.csv").write_text("row,truth\n")
    kept = bought.add_evidence(
        "holdout",
        y_true=TRUTH,
        y_score=guessed(0.9, 4),
        data=tmp_path / "holdout.csv",
        rows=[f"n{n}" for n in range(ROWS)],
    )
    assert kept["rows"] == "frost-alarm-evidence-holdout-predictions@1"
    assert kept["run"] == "frost-alarm-evidence/1"
    assert kept["digest"]
    found = version("frost-alarm@1")
    assert found.evidence["holdout"]["results"]["accuracy"] == pytest.approx(0.9, abs=0.03)
    # A run that has nothing to do with the version says nothing of it.
    other = trained(tmp_path, 0.9, 5)
    with pytest.raises(errors.InvalidInput, match="neither made the files of frost-alarm@1 nor used them"):
        found.add_evidence("holdout", run=other.id)
    with pytest.raises(errors.InvalidInput, match="has no results on 'spring'; it has some on: holdout"):
        found.add_evidence("spring", run="frost-alarm-evidence/1")
    with pytest.raises(errors.InvalidInput, match="either y_true and y_score, or a run"):
        found.add_evidence("holdout")
    # What a version rests on is not purged.
    acting("maintainer")
    recording.service("maintainer").call("POST", recording.path("bin"), json={"things": ["frost-alarm-evidence/1"]})
    (kept,) = kinetrum.purge(["frost-alarm-evidence/1"])["kept"]
    assert kept["why"] == "is what frost-alarm@1 rests on"


def test_a_second_pair_of_eyes(acting: As, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"x")
    acting("approver")
    mine = kinetrum.register(tmp_path / "net.bin", as_model="frost-alarm", origin="found on a shelf")
    acting("maintainer")
    model = kinetrum.model("frost-alarm").rule(second_pair=True, card_sections=["Purpose", "Limits"])
    assert model.missing_sections == ["Purpose", "Limits"]
    with pytest.raises(errors.Conflict, match="9 approvals are more than"):
        model.rule(approvals_needed=9)
    acting("approver")
    with pytest.raises(errors.NotAllowed, match="second pair of eyes"):
        mine.approve()
    assert "second pair of eyes" in version("frost-alarm@1").data["why_not_approve"]
    acting("maintainer")
    version("frost-alarm@1").approve()
    assert version("frost-alarm@1").review == "approved"


def test_people_named_for_a_stage(acting: As, recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"x")
    kinetrum.register(tmp_path / "net.bin", as_model="frost-alarm", origin="found on a shelf")
    acting("maintainer")
    model = kinetrum.model("frost-alarm")
    stages = [{"name": "trial", "asks_approved": False, "placers": ["a-contributor"]}, {"name": "production"}]
    model.set_ladder(stages)
    with pytest.raises(errors.InvalidInput, match="viewer"):
        model.set_ladder([{"name": "trial", "placers": ["a-viewer"]}])
    with pytest.raises(errors.NotFound, match="no member 'nobody'"):
        model.set_ladder([{"name": "trial", "placers": ["nobody"]}])
    acting("approver")
    with pytest.raises(
        errors.NotAllowed, match="On trial only a-contributor may place versions; A Approver is not named"
    ):
        version("frost-alarm@1").promote("trial")
    acting("contributor")
    version("frost-alarm@1").promote("trial")
    acting("maintainer")
    with pytest.raises(errors.Conflict, match="trial of frost-alarm holds version 1; demote it"):
        kinetrum.model("frost-alarm").set_ladder([{"name": "production"}])
    with pytest.raises(errors.Conflict, match="The gates of frost-alarm name production"):
        kinetrum.model("frost-alarm").set_gates("[production]\napprovals = 1").set_ladder([stages[0]])


def test_two_who_write_the_card_at_once(acting: As, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"x")
    kinetrum.register(tmp_path / "net.bin", as_model="frost-alarm", origin="found on a shelf")
    one, two = kinetrum.model("frost-alarm"), kinetrum.model("frost-alarm")
    assert "## Purpose" in one.card
    assert "## Purpose" in two.card
    one.card = "## Purpose\nMine."
    with pytest.raises(errors.Conflict, match="written anew meanwhile"):
        two.card = "## Purpose\nYours."
    assert two.refresh().card == "## Purpose\nMine."
    one.describe(purpose="rings the bell", owner="a-approver", labels={"site": "slope"})
    assert (one.purpose, one.person, one.labels) == ("rings the bell", "A Approver", {"site": "slope"})
    with pytest.raises(errors.InvalidInput, match="names no image that is kept"):
        one.describe(image="net.bin")


def test_consuming(acting: As, recording: Project, tmp_path: Path) -> None:
    registered = trained(tmp_path, 0.9, 1).register("frost-net", as_model="frost-alarm")
    acting("maintainer")
    version("frost-alarm@1").approve()
    version("frost-alarm@1").promote("production")
    acting("viewer")
    for which in ("production", "1", "lead", f"sha256:{registered.digest[:12]}"):
        (path,) = kinetrum.fetch(f"frost-alarm@{which}", tmp_path / which.replace(":", "-"))
        assert path.read_bytes() == b"net 0.9 1"
    fetched = {(one["asked"], one["fetches"], one["person"]) for one in kinetrum.model("frost-alarm").fetches()}
    assert fetched == {
        (which, 1, "A Viewer") for which in ("production", "1", "lead", f"sha256:{registered.digest[:12]}")
    }
    with pytest.raises(errors.NotFound, match="has a digest that begins with"):
        kinetrum.fetch("frost-alarm@sha256:00000000", tmp_path)
    lines = kinetrum.lock(["frost-alarm@production"], tmp_path / "deploy.lock")
    assert lines == [f"{recording.name}/frost-alarm@1 sha256:{registered.digest}"]
    (locked,) = kinetrum.fetch_locked(tmp_path / "deploy.lock", tmp_path / "deployed")
    assert list(locked) == [tmp_path / "deployed" / "net.bin"]
    (tmp_path / "deploy.lock").write_text(lines[0][:-4] + "0000\n")
    with pytest.raises(errors.Conflict, match="was locked with"):
        kinetrum.fetch_locked(tmp_path / "deploy.lock", tmp_path / "again")
    assert not (tmp_path / "again").exists()
    # The same by HTTP alone, and a feed of what happened.
    base = f"{recording.instance.url}/api/v1/projects/{recording.name}/models/frost-alarm"
    headers = {"Authorization": f"Bearer {recording.tokens['viewer']}"}
    answer = httpx.get(f"{base}/versions/production/files/net.bin", headers=headers)
    assert (answer.content, answer.headers["Kinetrum-Version"]) == (b"net 0.9 1", "frost-alarm@1")
    assert httpx.get(f"{base}/versions/production/bundle", headers=headers).content[:2] == b"PK"
    count = {one["asked"]: one["fetches"] for one in kinetrum.model("frost-alarm").fetches()}
    assert count["production"] == 3
    feed = ElementTree.fromstring(httpx.get(f"{base}/feed", headers=headers).content)
    titles = [
        entry.findtext("{http://www.w3.org/2005/Atom}title")
        for entry in feed.iter("{http://www.w3.org/2005/Atom}entry")
    ]
    assert titles[0] == "promoted frost-alarm@1"
    assert titles[-1] == "made the model frost-alarm"


def test_models_are_found(acting: As, recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"x")
    for name in ("frost-alarm", "dawn-minimum"):
        kinetrum.register(tmp_path / "net.bin", as_model=name, name="nets", origin="found on a shelf")
    kinetrum.model("dawn-minimum").describe(purpose="How cold at dawn?", labels={"site": "slope"})
    kinetrum.open("frost-alarm@1").promote("development")  # type: ignore[union-attr]
    assert [one.name for one in kinetrum.models()] == ["dawn-minimum", "frost-alarm"]
    assert [one.name for one in kinetrum.models("COLD slope")] == ["dawn-minimum"]
    assert [one.name for one in kinetrum.models(state="unplaced")] == ["dawn-minimum"]
    assert [one.name for one in kinetrum.models(state="pending")] == ["dawn-minimum", "frost-alarm"]
    assert kinetrum.models(state="warning") == []
    found = next(
        one for one in kinetrum.models(everywhere=True) if one.project == recording.name and one.name == "frost-alarm"
    )
    assert (found.stages["development"], found.versions) == (1, [1])
    acting("stranger")
    assert kinetrum.models(everywhere=True) == []


def test_an_artifact_of_another_project_that_one_may_see(acting: As, recording: Project, tmp_path: Path) -> None:
    admin, other = recording.service(), f"{recording.name}-seeds"
    admin.call("POST", "/projects", json={"name": other})
    (tmp_path / "net.bin").write_bytes(b"from the other project")
    with pytest.raises(errors.NotFound, match="no project"):
        kinetrum.register(f"{other}/nets@1", as_model="frost-alarm", origin="the seeds' project")
    admin.call("PUT", f"/projects/{other}/members/a-contributor", json={"role": "contributor"})
    kinetrum.keep(tmp_path / "net.bin", name="nets", kind="model", project=other)
    found = kinetrum.register(f"{other}/nets@1", as_model="frost-alarm", origin="the seeds' project")
    assert (found.reference, found.data["artifact_project"]) == ("frost-alarm@1", other)
    assert kinetrum.lineage("frost-alarm@1")
    # Who may see the model gets its bytes, also without a role where they came from.
    acting("viewer")
    (path,) = kinetrum.fetch("frost-alarm@1", tmp_path / "out")
    assert path.read_bytes() == b"from the other project"
    # They rest under the version, whatever the other project does.
    with pytest.raises(errors.Conflict, match=r"is registered as .*/frost-alarm@1, which rests on its files"):
        admin.call("POST", f"/projects/{other}/bin", json={"things": ["nets@1"]})


def test_one_person_is_not_locked_out_by_rules_made_for_teams(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    alone = f"{recording.name}-alone"
    recording.service().call("POST", "/projects", json={"name": alone})
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["admin"])
    (tmp_path / "net.bin").write_bytes(b"x")
    version = kinetrum.register(tmp_path / "net.bin", as_model="frost-alarm", origin="mine", project=alone)
    with pytest.raises(errors.Conflict, match=r"could never be approved\. Make someone an approver first"):
        version.model.rule(second_pair=True)
    with pytest.raises(errors.Conflict, match="2 approvals are more than"):
        version.model.rule(approvals_needed=2)
    version.approve()
    version.promote("production")
    assert version.model.lead == 1
