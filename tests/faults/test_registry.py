"""The registry under faults: killed inside each act, several at once, bytes damaged or gone: one state before, one after."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Any

import pytest

from kinetrum.core.base import errors
from tests.client.registry.test_registry import GATES
from tests.console.test_registry import candidate
from tests.storage.conftest import database_port
from tests.support.world import Instance, Project, new_id

# Carries out one act as a person would by the service, and is killed when the journal, the last of it, is written:
# everything else of the act stands in the open transaction by then.
ACT = """
import json, os, signal, sys
from pathlib import Path
from kinetrum.actions import context
from kinetrum.actions.registry import evidence_records, model_state, model_settings, registration, stage_acts
from kinetrum.core.registry.ladder import Stage
from kinetrum.core.base.permissions import Role
from kinetrum.instance.mariadb import DATABASE, SERVICE
from kinetrum.storage.data import blobs
from kinetrum.storage.people import journal, people
from kinetrum.storage.db.database import DatabaseAddress, connect, connection
told = json.loads(sys.argv[1])
connect(DatabaseAddress("127.0.0.1", told["port"], SERVICE, told["password"], DATABASE), 2)
with connection():
    person = people.person_named(told["person"])
actor = context.Actor(person.person_id, person.name, person.full_name, person.is_admin)
store = blobs.BlobStore(Path(told["store"]))
project, model, uid = told["project"], "frost-alarm", told["uid"]
def act(expect, override=None):
    return stage_acts.StageAct(expect, "", uid, override)
acts = {
    "register": lambda: registration.register(actor, store, project, model, uid, registration.Candidate("frost-net@1")),
    "approve": lambda: model_state.review(actor, project, model, 2, True, "fine"),
    "reject": lambda: model_state.review(actor, project, model, 1, False, "no"),
    "promote": lambda: stage_acts.promote(actor, store, project, model, "production", 2, act(1)),
    "override": lambda: stage_acts.promote(actor, store, project, model, "production", 2, act(1, "needed")),
    "demote": lambda: stage_acts.demote(actor, project, model, "production", act(1)),
    "roll back": lambda: stage_acts.roll_back(actor, project, model, "staging", act(2)),
    "retire": lambda: model_state.retire(actor, project, model, 1, True, ""),
    "lead": lambda: model_state.choose_lead(actor, project, model, 1, ""),
    "evidence": lambda: evidence_records.add_evidence(actor, project, model, 1, uid, "holdout", "frost-alarm/1"),
    "card": lambda: model_settings.write_card(actor, project, model, "## Purpose\\nNew.", 0),
    "rules": lambda: model_settings.rule_model(
        actor, project, model, model_settings.NewRules(approvals_needed=2), confirmed=True
    ),
    "gates": lambda: model_settings.set_gates(actor, project, model, "[staging]\\napprovals = 1"),
    "ladder": lambda: model_settings.set_ladder(actor, project, model, [
        Stage("staging", True, Role.CONTRIBUTOR), Stage("production", True, Role.APPROVER)]),
    "label": lambda: model_settings.label_model_version(actor, project, model, 1, {"a": "b"}),
}
if told["killed"]:
    written = journal.append
    def killed(*given, **named):
        written(*given, **named)
        os.kill(os.getpid(), signal.SIGKILL)
    journal.append = killed
acts[told["act"]]()
"""
# `make soak` carries out the rest: they write in the same way.
ACTS = ["register", "reject", "override", "roll back", "evidence", "card", "ladder"]
MORE_ACTS = ["approve", "demote", "retire", "lead", "rules", "gates", "label"]


def state(project: Project) -> dict[str, Any]:
    """Everything that an act on the model can change."""
    service = project.service("maintainer")
    model = service.get(project.path("models", "frost-alarm"))
    versions = [
        service.get(project.path("models", "frost-alarm", "versions", str(one["number"]))) for one in model["versions"]
    ]
    return {
        "model": model,
        "versions": versions,
        "journal": service.get(project.path("journal"), subject="frost-alarm"),
    }


def carry_out(project: Project, act: str, uid: str, killed: bool) -> subprocess.CompletedProcess[str]:
    instance: Instance = project.instance
    told = {
        "port": database_port(instance),
        "password": instance.home.secret("database_service"),
        "person": "a-maintainer",
        "project": project.name,
        "uid": uid,
        "act": act,
        "killed": killed,
        "store": str(instance.home.folder / "store"),
    }
    return subprocess.run(
        [sys.executable, "-c", ACT, json.dumps(told)], capture_output=True, text=True, check=False, timeout=60
    )


@pytest.mark.parametrize("act", [*ACTS, *(pytest.param(act, marks=pytest.mark.soak) for act in MORE_ACTS)])
def test_killed_inside_an_act_nothing_of_it_is_left_and_it_can_be_done_again(project: Project, act: str) -> None:
    candidate(project, 0.9, 1)
    service = project.service("contributor")
    path = project.path("models", "frost-alarm", "versions")
    for _ in range(2):
        service.call("POST", path, json={"id": new_id(), "artifact": "frost-net", "run": "frost-alarm/1"})
    project.verdict(1, "approve")
    if act != "approve":
        project.verdict(2, "approve")
        for number, expect in ((1, None), (2, 1)):
            project.place("promotions", "staging", version=number, expect=expect)
    project.place("promotions", "production", version=1, expect=None)
    if act == "override":
        gates = GATES.replace('card = ["Purpose"]', "approvals = 2").replace("approvals = 1\n", "")
        project.service("maintainer").call("PUT", project.path("models", "frost-alarm", "gates"), json={"gates": gates})
    before, uid = state(project), new_id()
    assert carry_out(project, act, uid, killed=True).returncode == -signal.SIGKILL
    assert state(project) == before
    done = carry_out(project, act, uid, killed=False)
    assert done.returncode == 0, done.stderr
    after = state(project)
    assert len(after["journal"]) == len(before["journal"]) + 1
    assert after != before
    if act in {"register", "override", "demote", "roll back", "evidence"}:
        # The same act sent again changes nothing.
        assert carry_out(project, act, uid, killed=False).returncode == 0
        assert state(project) == after


def at_once(*acts: Callable[[], Any]) -> list[str]:
    """Carry out acts at the same moment; returns how each ended."""
    ended: list[str] = [""] * len(acts)
    gate = threading.Barrier(len(acts))

    def work(at: int) -> None:
        gate.wait()
        try:
            acts[at]()
            ended[at] = "done"
        except errors.KinetrumError as error:
            ended[at] = type(error).__name__

    threads = [threading.Thread(target=work, args=(at,)) for at in range(len(acts))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return ended


def test_a_promotion_and_a_rejection_at_once(project: Project) -> None:
    for _ in range(6):
        project.registered(1)
        number = project.service().get(project.path("models", "frost-alarm"))["versions"][0]["number"]
        project.verdict(number, "approve")
        seen = project.service().get(project.path("models", "frost-alarm"))["stages"][2]["occupant"]
        ended = at_once(
            lambda number=number, seen=seen: project.place(
                "promotions", "production", "maintainer", version=number, expect=seen
            ),
            lambda number=number: project.verdict(number, "reject"),
        )
        model = project.service().get(project.path("models", "frost-alarm"))
        placed = model["stages"][2]["occupant"] == number
        # Either it was placed and is shown loudly, or the rejection came first and it was refused.
        assert ended == (["done", "done"] if placed else ["Conflict", "done"])
        # Whoever stands there by now was rejected, this one or one of the rounds before.
        stage = model["stages"][2]
        assert (stage["warning"] is not None) == (stage["occupant"] is not None)
        assert [event["after"] for event in model["events"]].count(number) == placed


def test_two_reviewers_at_once(project: Project) -> None:
    project.registered(1)
    project.service("maintainer").call(
        "PUT", project.path("models", "frost-alarm", "rules"), json={"approvals_needed": 2}
    )
    assert at_once(
        lambda: project.verdict(1, "approve", "approver"), lambda: project.verdict(1, "approve", "maintainer")
    ) == ["done", "done"]
    version = project.service().get(project.path("models", "frost-alarm", "versions", "1"))
    assert (version["review"], len(version["verdicts"])) == ("approved", 2)
    at_once(lambda: project.verdict(1, "approve", "approver"), lambda: project.verdict(1, "reject", "maintainer"))
    assert project.service().get(project.path("models", "frost-alarm", "versions", "1"))["review"] == "rejected"


def test_a_stage_is_occupied_while_it_is_removed(project: Project) -> None:
    for _ in range(5):
        project.registered(1)
        model = project.service().get(project.path("models", "frost-alarm"))
        number, path = model["versions"][0]["number"], project.path("models", "frost-alarm", "ladder")
        whole = [{"name": "development", "asks_approved": False}, {"name": "production"}]
        project.service("maintainer").call("PUT", path, json={"stages": whole})
        ended = at_once(
            lambda number=number: project.place("promotions", "development", version=number, expect=None),
            lambda path=path, whole=whole: project.service("maintainer").call("PUT", path, json={"stages": whole[1:]}),
        )
        stages = {
            s["name"]: s["occupant"] for s in project.service().get(project.path("models", "frost-alarm"))["stages"]
        }
        assert ended in (["done", "Conflict"], ["NotFound", "done"])
        assert stages == ({"development": number, "production": None} if ended[0] == "done" else {"production": None})
        if ended[0] == "done":
            project.place("demotions", "development", expect=number)


def test_the_run_and_the_rows_of_a_version_cannot_be_purged(project: Project) -> None:
    candidate(project, 0.9, 1)
    service = project.service("maintainer")
    service.call(
        "POST",
        project.path("models", "frost-alarm", "versions"),
        json={"id": new_id(), "artifact": "frost-net", "run": "frost-alarm/1"},
    )
    things = ["frost-alarm/1", "frost-alarm-holdout-predictions@1"]
    # An earlier artifact version is not the run's any more once another comes; these rest under the version all the same.
    service.call("POST", project.path("bin"), json={"things": ["frost-alarm/1"]})
    told = service.call("POST", project.path("purges"), json={"things": things, "only_tell": True})
    assert {kept["reference"]: kept["why"] for kept in told["kept"]}[
        "frost-alarm/1"
    ] == "is what frost-alarm@1 rests on"
    assert service.call("POST", project.path("purges"), json={})["runs"] == []
    version = service.get(project.path("models", "frost-alarm", "versions", "1"))
    assert version["values"]["holdout/recall"] > 0.8
    assert version["evidence"][0]["rows"] == "frost-alarm-holdout-predictions@1"
    checks = service.get(project.path("models", "frost-alarm", "versions", "1", "gates", "production"))["checks"]
    assert checks == []


def test_evidence_whose_bytes_are_gone_does_not_pass_a_gate(project: Project) -> None:
    for share, seed in ((0.9, 1), (0.97, 2)):
        candidate(project, share, seed)
        project.service("contributor").call(
            "POST",
            project.path("models", "frost-alarm", "versions"),
            json={"id": new_id(), "artifact": "frost-net", "run": f"frost-alarm/{seed}"},
        )
        project.verdict(seed, "approve")
    project.place("promotions", "production", version=1, expect=None)
    service = project.service("maintainer")
    gates = '[[production.better]]\nvalue = "recall"\non = "holdout"\n'
    service.call("PUT", project.path("models", "frost-alarm", "gates"), json={"gates": gates})
    look = project.path("models", "frost-alarm", "versions", "2", "gates", "production")
    assert service.get(look)["met"]
    files = service.get(project.path("artifacts", "frost-alarm-holdout-predictions", "versions", "1"))["files"]
    sha256 = files[0]["sha256"]
    blob = project.instance.home.folder / "store" / sha256[:2] / sha256
    blob.rename(blob.with_suffix(".away"))
    try:
        (check,) = service.get(look)["checks"]
        assert (check["met"], "the rows cannot be judged" in check["found"]) == (False, True)
        with pytest.raises(errors.Conflict, match="the rows cannot be judged"):
            project.place("promotions", "production", version=2, expect=1)
    finally:
        blob.with_suffix(".away").rename(blob)
    project.place("promotions", "production", version=2, expect=1)


def test_a_damaged_version_is_not_placed_and_an_occupant_is_shown_loudly(project: Project) -> None:
    project.registered(2)
    for number in (1, 2):
        project.verdict(number, "approve")
        project.place("promotions", "staging", version=number, expect=number - 1 or None)
    service = project.service("viewer")
    (file,) = service.get(project.path("models", "frost-alarm", "versions", "2"))["files"]
    blob = project.instance.home.folder / "store" / file["sha256"][:2] / file["sha256"]
    blob.chmod(0o600)
    blob.write_bytes(b"x" * file["size"])
    with pytest.raises(errors.KinetrumError):
        service.get(project.path("models", "frost-alarm", "versions", "staging", "files", "net.onnx"))
    model = service.get(project.path("models", "frost-alarm"))
    assert "damaged" in model["stages"][1]["warning"]
    assert model["lead"] is None
    listed = service.get(project.path("models"), state="warning")["models"]
    assert "damaged" in listed[0]["stages"][1]["warning"]
    with pytest.raises(errors.Conflict, match="damaged"):
        project.place("promotions", "production", version=2, expect=None)
    rolled = project.place("rollbacks", "staging", expect=2)
    assert rolled["stages"][1]["occupant"] == 1
    assert rolled["lead"] == 1
