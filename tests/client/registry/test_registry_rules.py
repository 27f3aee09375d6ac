"""What a promotion proves: no way round the gates, evidence with a name on it, rules that unseat nobody."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

import kinetrum
from kinetrum.core.base import errors
from kinetrum.core.base.ids import uuid7
from tests.support.world import Project

ROWS = 600
TRUTH = np.random.default_rng(1).integers(0, 2, ROWS)
BETTER = '[[production.better]]\nvalue = "accuracy"\non = "holdout"\n'
As = Callable[[str], None]


@pytest.fixture
def acting(recording: Project, monkeypatch: pytest.MonkeyPatch) -> As:
    """Go on as the person who has a role."""
    return lambda role: monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens[role])


def guessed(wrong: int, rows: int = ROWS) -> np.ndarray:
    """Scores that are wrong in so many rows."""
    return np.where(np.arange(rows) < wrong, 1 - TRUTH[:rows], TRUTH[:rows]).astype(float)


def registered(folder: Path, wrong: int, rows: int = ROWS, data: bool = True) -> kinetrum.ModelVersion:
    (folder / "holdout.csv").write_text("row,truth\n")
    (folder / "net.bin").write_bytes(f"net {wrong} {rows}".encode())
    with kinetrum.begin("frost-alarm") as run:
        if data:
            run.used(folder / "holdout.csv", name="holdout", role="holdout")
        run.evaluate(TRUTH[:rows], guessed(wrong, rows), on="holdout", rows=True)
        run.generated(folder / "net.bin", name="frost-net", kind="model")
    return run.register("frost-net", as_model="frost-alarm")


def version(reference: str) -> kinetrum.ModelVersion:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.ModelVersion)
    return found


def approved(acting: As, *numbers: int) -> None:
    acting("approver")
    for number in numbers:
        version(f"frost-alarm@{number}").approve()


def test_an_emptied_stage_does_not_forget_who_was_better(acting: As, tmp_path: Path) -> None:
    for wrong in (120, 30):
        registered(tmp_path, wrong)
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates(BETTER)
    approved(acting, 1, 2)
    version("frost-alarm@2").promote("production")
    with pytest.raises(errors.Conflict, match="worse beyond noise"):
        version("frost-alarm@1").promote("production")
    kinetrum.model("frost-alarm").demote("production")
    worse = version("frost-alarm@1")
    with pytest.raises(errors.Conflict, match=r"0\.8 against 0\.95 of version 2, which stood there last"):
        worse.promote("production")
    seen = worse.beside("production")
    assert "emptied production at" in seen["emptied"]
    assert seen["emptied"].endswith("version 2 stood there")
    assert "which is empty; version 2 stood there last: worse accuracy" in seen.sentence
    assert seen["other"]["number"] == 2
    # The one that stood there last comes back, and the review says what went before.
    version("frost-alarm@2").promote("production")
    assert "and version 2 was placed on the empty stage" in version("frost-alarm@1").beside("production")["emptied"]
    # What is rejected is no measure for others.
    version("frost-alarm@2").reject("rings all night")
    assert [check["met"] for check in version("frost-alarm@1").look_at_gates("production")] == [True]


def test_a_roll_back_ends_with_another_version_or_changes_nothing(acting: As, tmp_path: Path) -> None:
    for wrong in (50, 40):
        registered(tmp_path, wrong)
    approved(acting, 1, 2)
    for number in (1, 2, 1):
        version(f"frost-alarm@{number}").promote("production")
    acting("maintainer")
    version("frost-alarm@2").retire()
    model = kinetrum.model("frost-alarm")
    before = len(model.timeline)
    with pytest.raises(errors.Conflict, match=r"No other version .* \(version 2 is retired\)"):
        model.roll_back("production", comment="v1 is on fire")
    assert (model.refresh().stages["production"], len(model.timeline)) == (1, before)
    version("frost-alarm@2").retire(False)
    assert kinetrum.model("frost-alarm").roll_back("production") == 2


@pytest.mark.parametrize(
    ("rows", "said"), [(1, "1 row is too few to tell"), (5, "5 rows are too few to tell; at least 6")]
)
def test_a_gate_is_not_met_by_a_handful_of_rows(acting: As, tmp_path: Path, rows: int, said: str) -> None:
    registered(tmp_path, rows, rows)
    registered(tmp_path, 0, rows)
    approved(acting, 1, 2)
    version("frost-alarm@1").promote("production")
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates(BETTER)
    (check,) = version("frost-alarm@2").look_at_gates("production")
    assert (check["met"], said in check["found"]) == (False, True), check
    assert "too few to tell" in version("frost-alarm@2").beside("production").sentence


def test_rows_that_are_left_out_are_no_way_to_a_better_measure(acting: As, tmp_path: Path) -> None:
    """A candidate that judged itself on the rows it likes is not held against the occupant on these alone."""
    registered(tmp_path, 120)
    registered(tmp_path, 10, ROWS // 2)
    approved(acting, 1, 2)
    version("frost-alarm@1").promote("production")
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates(BETTER)
    (check,) = version("frost-alarm@2").look_at_gates("production")
    assert (check["met"], "judged on 300 of the 600 rows of version 1 only" in check["found"]) == (False, True)


def test_evidence_says_on_which_data_and_newer_evidence_asks_for_approvals_again(acting: As, tmp_path: Path) -> None:
    registered(tmp_path, 60, data=False)
    acting("maintainer")
    bound = '[[production.bound]]\nvalue = "accuracy"\non = "holdout"\nat_least = 0.95\n'
    kinetrum.model("frost-alarm").set_gates(bound)
    approved(acting, 1)
    assert version("frost-alarm@1").review == "approved"
    # A contributor replaces it by a better one, without the data.
    acting("contributor")
    version("frost-alarm@1").add_evidence("holdout", y_true=TRUTH, y_score=guessed(0))
    seen = version("frost-alarm@1")
    assert (seen.review, [verdict["older"] for verdict in seen.data["verdicts"]]) == ("pending", [True])
    older, newer = seen.data["evidence"]
    assert (newer["replaces"], older["replaces"], newer["digest"]) == (older["id"], None, None)
    assert (older["results"]["accuracy"], newer["results"]["accuracy"]) == (0.9, 1.0)
    (check,) = seen.look_at_gates("production")
    assert (check["met"], "has no fingerprint of the data" in check["found"]) == (False, True)
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates(bound + 'fingerprint = "any"\n')
    assert version("frost-alarm@1").look_at_gates("production")[0]["met"]
    with pytest.raises(errors.Conflict, match="version 1 is pending"):
        version("frost-alarm@1").promote("production")
    # The same words again are a new approval.
    approved(acting, 1)
    assert version("frost-alarm@1").review == "approved"
    version("frost-alarm@1").promote("production")
    # What stands there keeps its standing when more evidence comes.
    acting("contributor")
    (tmp_path / "spring.csv").write_text("row\n")
    version("frost-alarm@1").add_evidence("spring", y_true=TRUTH, y_score=guessed(9), data=tmp_path / "spring.csv")
    model = kinetrum.model("frost-alarm")
    assert (version("frost-alarm@1").review, model.warnings, model.lead) == ("pending", {}, 1)
    acting("maintainer")
    model = kinetrum.model("frost-alarm").rule(renewed_approvals=False)
    assert version("frost-alarm@1").review == "approved"
    with pytest.raises(
        errors.Conflict, match=r"version 1 \(stays on production\) of frost-alarm is no longer approved"
    ):
        model.rule(renewed_approvals=True)


def test_evidence_is_bound_to_people_or_to_an_experiment(acting: As, tmp_path: Path) -> None:
    registered(tmp_path, 60)
    acting("maintainer")
    model = kinetrum.model("frost-alarm")
    approver = "a-approver"
    with pytest.raises(errors.NotFound, match="has no member 'nobody'"):
        model.rule(evidence={"holdout": {"people": ["nobody"]}})
    with pytest.raises(errors.NotFound, match="has no experiment 'nightly'"):
        model.rule(evidence={"holdout": {"experiment": "nightly"}})
    model.rule(evidence={"holdout": {"people": [approver]}})
    assert model.evidence_rules == {"holdout": {"people": [approver], "experiment": None}}
    # What is there from others does not count any more, and says so.
    (one,) = version("frost-alarm@1").data["evidence"]
    assert f"added by {approver} alone" in one["refusal"]
    model.set_gates('[[production.evidence]]\non = "holdout"\n')
    assert "has no evidence on holdout" in version("frost-alarm@1").look_at_gates("production")[0]["found"]
    acting("contributor")
    with pytest.raises(errors.NotAllowed, match=f"evidence on holdout is added by {approver} alone"):
        version("frost-alarm@1").add_evidence("holdout", y_true=TRUTH, y_score=guessed(0))
    # Nor does it come in by registering again.
    again = registered(tmp_path, 0)
    assert (again.evidence, list(again.data["left_out_evidence"])) == ({}, ["holdout"])
    acting("approver")
    version("frost-alarm@1").add_evidence("holdout", y_true=TRUTH, y_score=guessed(5), data=tmp_path / "holdout.csv")
    assert version("frost-alarm@1").look_at_gates("production")[0]["met"]
    acting("maintainer")
    kinetrum.model("frost-alarm").rule(evidence={"holdout": {"experiment": "frost-alarm"}})
    with pytest.raises(errors.NotAllowed, match="from runs of frost-alarm alone, not of frost-alarm-evidence"):
        version("frost-alarm@1").add_evidence("holdout", y_true=TRUTH, y_score=guessed(0))
    assert registered(tmp_path, 3).evidence


def test_more_approvals_unseat_nobody_and_are_told_before(acting: As, tmp_path: Path) -> None:
    for wrong in (50, 40, 30):
        registered(tmp_path, wrong)
    approved(acting, 1, 2, 3)
    for number in (1, 2):
        version(f"frost-alarm@{number}").promote("production")
    acting("maintainer")
    model = kinetrum.model("frost-alarm")
    told = model.preview_rules(approvals_needed=2)
    assert [(one["number"], one["before"], one["after"], one["stages"]) for one in told] == [
        (3, "approved", "pending", []),
        (2, "approved", "pending", ["production"]),
        (1, "approved", "pending", []),
    ]
    with pytest.raises(
        errors.Conflict, match=r"version 3, version 2 \(stays on production\), version 1 .* no longer approved"
    ):
        model.rule(approvals_needed=2)
    assert model.refresh().data["approvals_needed"] == 1
    model.rule(approvals_needed=2, confirmed=True)
    assert (version("frost-alarm@3").review, model.refresh().warnings, model.lead) == ("pending", {}, 2)
    assert kinetrum.models(state="warning") == []
    assert [found.lead for found in kinetrum.models()] == [2]
    assert kinetrum.fetch("frost-alarm", tmp_path / "lead").version == 2
    with pytest.raises(errors.Conflict, match="version 3 is pending"):
        version("frost-alarm@3").promote("production")
    # What lies below stood there by the same rules; what was placed since then goes by its own.
    assert model.roll_back("production") == 1
    assert kinetrum.model("frost-alarm").lead == 1
    approved(acting, 1)
    version("frost-alarm@1").take_back_verdict()
    assert "version 1 is pending" in kinetrum.model("frost-alarm").warnings["production"]
    # Nothing to be told, nothing to confirm.
    acting("maintainer")
    assert kinetrum.model("frost-alarm").rule(approvals_needed=1).data["approvals_needed"] == 1


def test_the_chosen_lead_keeps_its_standing(acting: As, tmp_path: Path) -> None:
    registered(tmp_path, 50)
    approved(acting, 1)
    acting("maintainer")
    model = kinetrum.model("frost-alarm")
    model.choose_lead(1, "by hand")
    assert model.history()[0]["comment"] == "by hand"
    model.rule(approvals_needed=2, confirmed=True)
    assert (version("frost-alarm@1").review, model.refresh().lead) == ("pending", 1)
    with pytest.raises(errors.NotFound, match="no approved version yet"):
        version("frost-alarm@newest")


def test_newest_is_the_newest_approved_and_latest_says_the_right_word(acting: As, tmp_path: Path) -> None:
    for wrong in (50, 40, 30):
        registered(tmp_path, wrong)
    approved(acting, 1, 2)
    assert version("frost-alarm@newest").number == 2
    assert kinetrum.fetch("frost-alarm@newest", tmp_path / "out").version == 2
    for word in ("latest", "best:accuracy"):
        with pytest.raises(errors.NotFound, match="is a word for artifacts: frost-alarm@newest is its newest approved"):
            kinetrum.model("frost-alarm")[word]


def test_the_same_rows_are_judged_once(acting: As, recording: Project, tmp_path: Path) -> None:
    for wrong in (120, 30):
        registered(tmp_path, wrong)
    approved(acting, 1, 2)
    version("frost-alarm@1").promote("production")
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates(BETTER)
    seen = version("frost-alarm@2").beside("production")
    # What was judged is kept: promotion reads the files of predictions no more, though they have to be there still.
    kept = [kinetrum.open(one["rows"]) for one in version("frost-alarm@2").data["evidence"]]
    for rows in kept:
        assert isinstance(rows, kinetrum.StoredVersion)
        sha256 = rows.data["files"][0]["sha256"]
        blob = recording.instance.home.store / sha256[:2] / sha256
        blob.chmod(0o600)
        blob.write_bytes(b"nothing to read")
    acting("approver")
    version("frost-alarm@2").promote("production")
    better = kinetrum.model("frost-alarm").timeline[-1]["checks"][0]
    (judged,) = [one for one in seen["on_data"][0]["differences"] if one["measure"] == "accuracy"]
    # The gate goes by the verdict that the review shows.
    assert (better["figures"]["low"], better["figures"]["high"]) == (judged["low"], judged["high"])
    assert (judged["outcome"], better["met"]) == ("better", True)


def test_a_repeated_promotion_is_known_before_anything_is_judged(
    acting: As, recording: Project, tmp_path: Path
) -> None:
    registered(tmp_path, 120)
    approved(acting, 1)
    uid = uuid7(1_764_000_000_000, b"0123456789")
    body = {"id": uid, "version": 1, "expect": None}
    path = f"/projects/{recording.name}/models/frost-alarm/stages/production/promotions"
    service = recording.service("approver")
    service.call("POST", path, json=body)
    # A gate that could not be met now does not matter to what was done before.
    acting("maintainer")
    kinetrum.model("frost-alarm").set_gates('[[production.evidence]]\non = "never"\n')
    assert service.call("POST", path, json=body)["stages"][-1]["occupant"] == 1
    with pytest.raises(errors.Conflict, match="belongs to another act"):
        service.call("POST", path.replace("production", "staging"), json=body)
    assert len(kinetrum.model("frost-alarm").timeline) == 1
