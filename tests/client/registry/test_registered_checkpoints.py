"""A version that was made from a checkpoint has the values of its step, everywhere; checkpoints are chosen by value."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.core.base import errors
from tests.support.world import Project

LOSSES = [0.9, 0.5, 0.2, 0.05, 0.11, 0.3]
TRUTH = np.array([0, 1] * 20)
As = Callable[[str], None]


@pytest.fixture
def acting(recording: Project, monkeypatch: pytest.MonkeyPatch) -> As:
    """Go on as the person who has a role."""
    return lambda role: monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens[role])


def train(folder: Path, experiment: str = "ckpts", losses: list[float] = LOSSES, held: bool = True) -> kinetrum.Run:
    """Train with a checkpoint per epoch; `slow` is measured in every second one, `late` at the end alone."""
    with kinetrum.begin(experiment, goals={"val_loss": "lower"}) as run:
        for epoch, loss in enumerate(losses):
            run.measure({"val_loss": loss, **({"slow": epoch / 10} if epoch % 2 == 0 else {})}, step=epoch)
            (folder / "net.bin").write_bytes(f"{experiment} {epoch} {loss}".encode())
            run.generated(folder / "net.bin", name="net", kind="model", step=epoch, about={"epoch": epoch})
        run.measure({"late": 1.0}, step=len(losses))
        run.result({"test_loss": 0.33})
        if held:
            (folder / "holdout.csv").write_text("row\n")
            run.used(folder / "holdout.csv", name="holdout", role="holdout")
            run.evaluate(TRUTH, TRUTH.astype(float), on="holdout", rows=True)
    run.flush()
    return run


def values(version: kinetrum.ModelVersion) -> dict[str, object]:
    return {key: version.values.get(key) for key in ("val_loss", "slow", "late", "test_loss")}


def test_values_are_those_at_the_step(acting: As, tmp_path: Path) -> None:
    train(tmp_path)
    early = kinetrum.register("net@2", as_model="m")
    assert (early.step, values(early)) == (1, {"val_loss": 0.5, "slow": 0.0, "late": None, "test_loss": None})
    # What has no point at that step is the latest before it, and said; what says nothing of it is named.
    assert early.data["earlier"] == {"slow": 0}
    assert set(early.data["left_out"]) >= {"late", "test_loss"} and "val_loss" not in early.data["left_out"]
    last = kinetrum.register("net@6", as_model="m")
    assert (last.step, values(last)) == (5, {"val_loss": 0.3, "slow": 0.4, "late": None, "test_loss": 0.33})
    assert last.data["earlier"] == {"slow": 4}
    # Wherever values of a version stand: the list of versions, the gates, the review, what an act told.
    acting("maintainer")
    model = kinetrum.model("m")
    assert {one["number"]: one["values"]["val_loss"] for one in model.data["versions"]} == {1: 0.5, 2: 0.3}
    model.set_gates(
        '[[staging.bound]]\nvalue = "val_loss"\nat_most = 0.3\n\n[[staging.bound]]\nvalue = "slow"\nat_most = 9\n'
    )
    loss, slow = early.look_at_gates("staging")
    assert (loss["met"], loss["found"], loss["figures"]["value"]) == (False, "it is 0.5 at step 1", 0.5)
    assert (slow["met"], slow["found"]) == (True, "it is 0 at step 0, the latest before step 1")
    assert [check["met"] for check in last.look_at_gates("staging")] == [True, True]
    assert early.beside(against=2)["candidate"]["values"]["val_loss"] == 0.5
    acting("approver")
    last = kinetrum.model("m")[2]
    last.approve()
    last.promote("staging")
    assert kinetrum.model("m").timeline[-1]["checks"][0]["figures"]["value"] == 0.3


def test_evidence_of_the_whole_run_is_not_that_of_an_earlier_checkpoint(acting: As, tmp_path: Path) -> None:
    run = train(tmp_path)
    early, last = (kinetrum.register(f"net@{number}", as_model="m") for number in (3, 6))
    assert list(last.evidence) == ["holdout"]
    assert early.evidence == {}
    assert "went on to step 5 after the checkpoint of step 2" in early.data["left_out_evidence"]["holdout"]
    reference = kinetrum.open(run.id)
    assert isinstance(reference, kinetrum.RecordedRun)
    with pytest.raises(errors.InvalidInput, match="what it found on holdout is not about this version"):
        early.add_evidence("holdout", run=reference.reference)
    # A run that used the checkpoint is evidence of it.
    early.add_evidence("holdout", y_true=TRUTH, y_score=1.0 - TRUTH, data=tmp_path / "holdout.csv")
    assert early.evidence["holdout"]["results"]["accuracy"] == 0.0


def test_a_bare_name_never_stands_for_one_of_several(acting: As, tmp_path: Path) -> None:
    run = train(tmp_path)
    with pytest.raises(
        errors.InvalidInput,
        match=r"generated 6 versions of net: choose a step from 0 to 5, or the best by val_loss, or one of net@1, .* net@6",
    ):
        kinetrum.register("net", run="ckpts/1", as_model="m")
    with pytest.raises(errors.InvalidInput, match="generated 6 versions of net"):
        run.register("net", as_model="m")
    assert kinetrum.register("net", run="ckpts/1", step=2, as_model="m").step == 2
    assert kinetrum.register("net", run="ckpts/1", best="val_loss", as_model="m").step == 3
    assert run.register("net", best="val_loss", as_model="m").data["artifact"]["reference"] == "net@4"
    recorded = kinetrum.open("ckpts/1")
    assert isinstance(recorded, kinetrum.RecordedRun)
    assert recorded.register("net", step=0, as_model="m").values["val_loss"] == 0.9
    for wrong, said in (
        ({"step": 9}, "no net at step 9; it did at steps 0, 1, 2, 3, 4, 5"),
        ({"best": "speed"}, "no goal for 'speed'"),
        ({"step": 1, "best": "val_loss"}, "not by both"),
    ):
        with pytest.raises((errors.NotFound, errors.InvalidInput), match=said):
            kinetrum.register("net", run="ckpts/1", as_model="m", **wrong)  # type: ignore[arg-type]
    with pytest.raises(errors.InvalidInput, match="names one version already"):
        kinetrum.register("net@3", as_model="m", step=1)


def test_one_version_needs_no_choice_and_several_without_steps_are_named(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"one")
    with kinetrum.begin("plain") as run:
        run.result({"loss": 0.5})
        run.generated(tmp_path / "net.bin", name="plain-net", kind="model")
    version = run.register("plain-net", as_model="m")
    assert (version.step, version.values["loss"], version.data["left_out"]) == (None, 0.5, [])
    with kinetrum.begin("plain") as run:
        for content in (b"two", b"three"):
            (tmp_path / "net.bin").write_bytes(content)
            run.generated(tmp_path / "net.bin", name="plain-net", kind="model")
    run.flush()
    with pytest.raises(errors.InvalidInput, match="choose one of plain-net@2, plain-net@3"):
        run.register("plain-net", as_model="m")


def test_content_that_came_again_is_chosen_by_its_step(recording: Project, tmp_path: Path) -> None:
    (tmp_path / "net.bin").write_bytes(b"the same")
    with kinetrum.begin("same", goals={"loss": "lower"}) as run:
        for step, loss in ((1, 0.5), (2, 0.1), (3, 0.4)):
            run.measure({"loss": loss}, step=step)
            run.generated(tmp_path / "net.bin", name="same-net", step=step)
    run.flush()
    assert run.register("same-net", as_model="m", step=2).values["loss"] == 0.1
    assert run.register("same-net", as_model="m").step == 3


def test_the_best_checkpoint_by_reference(recording: Project, tmp_path: Path) -> None:
    train(tmp_path, held=False)
    train(tmp_path, losses=[0.8, 0.04, 0.6], held=False)
    best = kinetrum.open("net@best:val_loss")
    assert isinstance(best, kinetrum.StoredVersion)
    assert (best.reference, best.about["epoch"]) == ("net@8", 1)
    assert kinetrum.register("net@best:val_loss", as_model="m").values["val_loss"] == 0.04
    with pytest.raises(errors.NotFound, match="share no goal for it"):
        kinetrum.open("net@best:slow")
    with pytest.raises(errors.InvalidInput, match="best by what"):
        kinetrum.open("net@best")


def test_checkpoints_by_value_on_the_command_line(
    recording: Project, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    train(tmp_path, held=False)

    def said(*words: str) -> str:
        assert main([*words]) == 0
        return capsys.readouterr().out

    lines = said("artifacts", "net", "--sort", "val_loss").splitlines()
    assert lines[0].split()[:4] == ["version", "run", "step", "val_loss"]
    assert [line.split()[0] for line in lines[1:]] == ["net@4", "net@5", "net@3", "net@6", "net@2", "net@1"]
    assert lines[1].split()[1:4] == ["ckpts/1", "3", "0.05"] and "epoch=3" in lines[1]
    assert said("artifacts", "net", "--sort", "val_loss:desc").splitlines()[1].startswith("net@1")
    # Without a goal the highest comes first.
    assert said("artifacts", "net", "--sort", "slow").splitlines()[1].split()[0] in {"net@6", "net@5"}
    assert main(["artifacts", "net", "--sort", "speed"]) == 2
    assert "No checkpoint of net has 'speed'; their runs measured" in capsys.readouterr().err
    assert main(["artifacts", "--sort", "val_loss"]) == 2
    capsys.readouterr()
    assert main(["register", "net", "--run", "ckpts/1", "--best", "val_loss", "--as-model", "m"]) == 0
    out, err = capsys.readouterr()
    assert out.startswith("Registered m@1 from net@4 of ckpts/1, step 3; its review is pending")
    assert "slow is that of step 2, the latest before step 3." in err
    assert "Left out, because they are not of step 3: late, test_loss." in err
    assert main(["register", "net", "--run", "ckpts/1", "--as-model", "m"]) == 2
    assert "choose a step from 0 to 5, or the best by val_loss" in capsys.readouterr().err
    assert main(["register", "net", "--run", "ckpts/1", "--step", "0", "--as-model", "m"]) == 0


def test_points_that_are_not_compacted_yet_count(recording: Project, tmp_path: Path) -> None:
    """The next line reads what the last one wrote: no value waits for the background."""
    (tmp_path / "net.bin").write_bytes(b"0")
    with kinetrum.begin("quick", goals={"loss": "lower"}) as run:
        for step in range(30):
            (tmp_path / "net.bin").write_bytes(b"%d" % step)
            run.measure({"loss": abs(step - 17) + 0.5}, step=step)
            run.generated(tmp_path / "net.bin", name="quick-net", step=step)
            if step in (9, 19, 29):
                run.flush()
                found = run.register("quick-net", as_model="m", step=step)
                assert found.values["loss"] == abs(step - 17) + 0.5
    assert run.register("quick-net", as_model="m", best="loss").step == 17
