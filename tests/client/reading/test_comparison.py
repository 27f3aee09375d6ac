"""Which run is better, really, and why: from Python and in the terminal, against a real service."""

from __future__ import annotations

import json

import numpy as np
import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.core.base import errors
from tests.service.search.test_search_api import AT, add
from tests.support.world import Project

GOALS = {"recall": {"direction": "higher"}, "seconds": {"direction": "lower"}}
Out = pytest.CaptureFixture[str]


def ended(project: Project, results: dict[str, float], params: dict[str, object], status: str = "finished") -> None:
    run = add(project, results, params=params, goals=GOALS)
    body = {"status": status, "ended_at": AT + 1_000_000}
    project.service("contributor").call("POST", project.run_path(run, "ending"), json=body)


@pytest.fixture
def groups(recording: Project) -> Project:
    """Five seeds of depth 6 (runs 1 to 5), five of depth 3 (6 to 10), one of depth 2 (11), a failed sixth seed (12)."""
    project = recording
    for depth, recall in ((6, 0.90), (3, 0.85)):
        for seed in range(5):
            ended(
                project,
                {"recall": recall + seed / 1000, "seconds": 2.0 + (seed % 3) / 10},
                {"depth": depth, "seed": seed, "learner": "forest"},
            )
    ended(project, {"recall": 0.851, "seconds": 1.0}, {"depth": 2, "seed": 0, "learner": "forest"})
    ended(project, {"recall": 0.1}, {"depth": 6, "seed": 9, "learner": "forest"}, "failed")
    return project


def test_groups_of_replicates_are_compared_beyond_noise(groups: Project) -> None:
    found = kinetrum.compare(["frost-alarm/1", "frost-alarm/6"])
    assert [len(run["replicates"]) for run in found["runs"]] == [5, 5]
    assert "frost-alarm/12" not in found["runs"][0]["replicates"]
    assert found.verdict.startswith("Run 1 is better than Run 6 on recall (+0.05), beyond noise")
    assert "Means of 5 and 5 runs, paired by seed" in found.verdict
    recall = found.outcome("recall")
    assert recall["values"] == pytest.approx([0.902, 0.852])
    assert recall["spreads"][0]["deviation"] == pytest.approx(np.std([0.9, 0.901, 0.902, 0.903, 0.904], ddof=1))
    assert recall["changes"][1] is None
    # Seeds are what replicates differ in, and no setting of the group.
    assert [row["key"] for row in found["settings"]] == ["depth"]
    assert found.to_rows()[0]["verdict"] == "better"
    with pytest.raises(errors.InvalidInput, match="does not differ"):
        found.outcome("nothing")
    html = found._repr_html_()
    assert "beyond noise" in html
    assert "0.852 ± 0.0016 (5)" in html


def test_one_run_against_a_group_and_each_for_itself(groups: Project) -> None:
    found = kinetrum.compare("frost-alarm/11", "frost-alarm/6")
    assert found["headline"]["finding"] == "Run 11 is better than Run 6"
    assert "recall (−0.001) within noise" in found["headline"]["rest"]
    assert "One run against the spread of 5" in found["headline"]["reason"]
    alone = kinetrum.compare(["frost-alarm/1", "frost-alarm/6"], each=True)
    assert "noise is unknown" in alone.verdict
    assert "with the noise that other replicates show, 2 runs each would tell" in alone.verdict
    assert {row["key"] for row in alone["settings"]} == {"depth"}
    # Replicates of one another have nobody else to be compared with: each stands for itself.
    seeds = kinetrum.compare(["frost-alarm/1", "frost-alarm/2"])
    assert [len(run["replicates"]) for run in seeds["runs"]] == [0, 0]
    assert [row["key"] for row in seeds["settings"]] == ["seed"]


def test_several_of_one_group_stand_as_one_and_many_are_corrected_for(groups: Project) -> None:
    found = kinetrum.compare(["frost-alarm/1", "frost-alarm/2", "frost-alarm/6", "frost-alarm/11"], baseline=3)
    assert (found.references, found["baseline"]) == (["frost-alarm/1", "frost-alarm/6", "frost-alarm/11"], 2)
    assert found.outcome("recall")["changes"][0]["difference"]["confidence"] == pytest.approx(0.95**0.5)
    assert "so that 95 % holds for all runs compared" in found.verdict
    assert found.verdict.startswith("Run 1 leads on recall: 0.902, +0.051 over Run 11, beyond noise, of 3 runs")


def test_why_one_beat_the_other(groups: Project) -> None:
    for depth in (1, 2, 3, 4, 5, 6, 7, 8):
        for learner in ("forest", "boost"):
            ended(
                groups,
                {"recall": 0.8 + depth / 60 + (0.001 if learner == "boost" else 0)},
                {"depth": depth, "learner": learner, "shift": depth},
            )
    reasons = kinetrum.compare(["frost-alarm/1", "frost-alarm/6"]).reasons()
    assert (reasons[0]["kind"], reasons[0]["name"]) == ("setting", "depth")
    assert "depth: 3 → 6" in reasons[0]["text"]
    assert reasons[-1]["kind"] == "noise"
    alone = kinetrum.compare(["frost-alarm/1", "frost-alarm/11"], each=True).reasons("seconds")
    assert (alone[0]["kind"], alone[-1]["kind"]) == ("setting", "noise")
    with pytest.raises(errors.NotFound):
        kinetrum.compare(["frost-alarm/1", "frost-alarm/6"]).reasons("nothing")
    found = kinetrum.effects("frost-alarm", on="recall")
    assert found["effects"][0]["factor"] in {"depth", "shift"}
    assert found["sentence"].startswith("Over 19 different runs recall goes along with")
    assert "depth" in found._repr_html_()
    with pytest.raises(errors.NotFound):
        kinetrum.effects("frost-alarm", on="nothing")


def test_predictions_on_the_same_rows(groups: Project, capsys: Out) -> None:
    truth = np.arange(200) % 4 == 0
    keys = [f"night-{at}" for at in range(200)]
    wrong = truth.copy()
    wrong[::8] = ~wrong[::8]
    for depth, given in ((21, truth), (22, wrong)):
        with kinetrum.begin("rows", params={"depth": depth}) as run:
            run.evaluate(truth, given, on="holdout", rows=keys)
    found = kinetrum.compare(["rows/1", "rows/2"])
    (judged,) = found.rows()
    assert judged["name"] == "rows-holdout-predictions"
    accuracy = judged["differences"][0]
    assert (accuracy["left"], accuracy["only_left_right"], accuracy["outcome"]) == (1.0, 25, "better")
    assert kinetrum.compare(["frost-alarm/1", "frost-alarm/6"]).rows() == []
    assert main(["compare", "rows/1", "rows/2"]) == 0
    assert "Tango's score test" in capsys.readouterr().out


def test_trade_offs(groups: Project, capsys: Out) -> None:
    front = kinetrum.runs(experiment="frost-alarm", pareto="recall,seconds")
    assert sorted(front.references) == ["frost-alarm/11", "frost-alarm/4", "frost-alarm/5"]
    assert len(kinetrum.runs("depth = 3", experiment="frost-alarm", pareto="recall,seconds:asc").to_pandas()) == 2
    # What stands under a line of groups are runs of the whole front, no front of the group alone.
    groups_of_front = front.groups("depth")
    assert sorted(group.runs for group in groups_of_front) == [1, 2]
    for group in groups_of_front:
        assert len(kinetrum.runs(group.query, experiment="frost-alarm")) == group.runs
    assert main(["runs", "-e", "frost-alarm", "--pareto", "recall,seconds", "--csv"]) == 0
    assert len(capsys.readouterr().out.strip().splitlines()) == 4
    with pytest.raises(errors.InvalidInput, match="depth:asc where lower is"):
        kinetrum.runs(experiment="frost-alarm", pareto="recall,depth")
    with pytest.raises(errors.InvalidInput, match="two or three"):
        kinetrum.runs(experiment="frost-alarm", pareto="recall")


def test_in_the_terminal(groups: Project, capsys: Out) -> None:
    assert main(["compare", "frost-alarm/1", "frost-alarm/6"]) == 0
    text = capsys.readouterr().out
    assert "run 1 ×5" in text
    assert "+0.05 to +0.05" in text
    assert "Why, the likeliest first" in text
    assert max(map(len, text.split("Why")[0].splitlines()[2:])) <= 100
    assert main(["compare", "frost-alarm/1", "frost-alarm/6", "frost-alarm/11", "--baseline", "frost-alarm/11"]) == 0
    assert "against run 11: + better" in capsys.readouterr().out
    assert main(["effects", "-e", "frost-alarm", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["key"] == "recall"
    assert main(["effects", "-e", "frost-alarm"]) == 0
    assert "not a planned experiment" in capsys.readouterr().out


def test_columns_for_charts(groups: Project) -> None:
    service = groups.service("viewer")
    path = groups.path("experiments", "frost-alarm", "columns")
    found = service.get(path, column=["recall", "depth", "learner", "status", "started", "duration"], sort="number:asc")
    recall, depth, learner, status, started, _ = (column["values"] for column in found["columns"])
    assert (recall[0], depth[0], learner[0], status[-1], found["left_out"]) == (0.9, 6, "forest", "failed", 0)
    assert isinstance(started[0], float)
    assert [run["number"] for run in found["runs"]] == list(range(1, 13))
    assert len(service.get(path, column=["recall"], query="depth = 3", pareto="recall,seconds")["runs"]) == 2
    for wrong in (["nothing"], ["note"], ["recall"] * 41):
        with pytest.raises(errors.InvalidInput):
            service.get(path, column=wrong)


def test_an_experiment_names_other_seeds(recording: Project, capsys: pytest.CaptureFixture[str]) -> None:

    for depth, recall in ((6, 0.9), (3, 0.8)):
        for fold in range(3):
            with kinetrum.begin("folds", params={"depth": depth, "fold": fold}, goals={"recall": "higher"}) as run:
                run.result(recall=recall + fold / 500)
            run.flush()
    assert not kinetrum.compare(["folds/1", "folds/4"]).outcome("recall")["changes"][0]["difference"]["beyond"]
    experiment = kinetrum.experiment("folds")
    assert experiment.seeds == ["seed"]
    experiment.seeds = ["fold", "seed"]
    told = kinetrum.compare(["folds/1", "folds/4"])
    assert "beyond noise" in told.verdict
    assert told.outcome("recall")["changes"][0]["difference"]["beyond"] is True
    # What is recorded later is marked in the same way, and the settings that differ are depth alone.
    with kinetrum.begin("folds", params={"depth": 6, "fold": 3}) as run:
        run.result(recall=0.9)
    run.flush()
    assert [len(one["replicates"]) for one in kinetrum.compare(["folds/1", "folds/4"])["runs"]] == [4, 3]
    assert {row["key"] for row in told["settings"]} == {"depth"}
    with pytest.raises(errors.InvalidInput, match="names 1 to 16 seeds, not 0"):
        experiment.seeds = []
    assert main(["seeds", "folds", "seed"]) == 0
    assert "differ in seed alone" in capsys.readouterr().out
    assert not kinetrum.compare(["folds/1", "folds/4"]).outcome("recall")["changes"][0]["difference"]["beyond"]
