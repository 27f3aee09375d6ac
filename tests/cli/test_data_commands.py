"""Files, lineage, room and archives on the command line."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

import kinetrum
from kinetrum.cli.output import counted_things
from tests.cli.test_commands import Out, run
from tests.support.world import Project


@pytest.fixture
def data(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Two versions of nights: a file changed, one came, one moved; a run used the second and generated a net."""
    monkeypatch.setenv("KINETRUM_FINGERPRINTS", str(tmp_path / "prints.sqlite"))
    folder = tmp_path / "nights"
    (folder / "2024").mkdir(parents=True)
    # Bytes that no other test has: what another project holds is neither freed nor this one's alone.
    (folder / "2024" / "a.csv").write_text(f"{recording.name:12}1,2")
    (folder / "2024" / "b.csv").write_text("day,cold\n2,3\n")
    kinetrum.keep(folder, kind="data")
    (folder / "2024" / "a.csv").write_text("day,cold\n1,0.7\n")
    (folder / "2025").mkdir()
    (folder / "2024" / "b.csv").rename(folder / "2025" / "b.csv")
    (folder / "2025" / "c.csv").write_text(f"new in {recording.name}")
    kinetrum.keep(folder, kind="data")
    net = tmp_path / "net.onnx"
    net.write_bytes(b"net")
    with kinetrum.begin("frost-alarm") as begun:
        begun.used("nights@2", role="train")
        begun.generated(net, kind="model")
    begun.flush()
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    return folder


def test_versions_and_their_difference(data: Path, capsys: Out) -> None:
    status, text, _ = run(capsys, "artifacts", "nights")
    assert status == 0
    assert [line.split()[0] for line in text.splitlines()[1:]] == ["nights@2", "nights@1"]
    status, text, _ = run(capsys, "diff", "nights@1", "nights@2")
    assert text.splitlines()[:2] == [
        "nights@1 and nights@2 differ in 3 of 3 files: 1 changed, 1 only in nights@2, 1 moved.",
        "− 0 only left  + 1 only right  ≠ 1 changed  → 1 moved  = 0 same",
    ]
    assert "→ moved       2024/b.csv → 2025/b.csv" in text
    assert "+ only right  2025/c.csv" in text
    only = run(capsys, "diff", "nights@1", "nights@2", "--only", "changed", "--json")[1]
    assert [pair["finding"] for pair in json.loads(only)["pairs"]] == ["changed"]
    assert "all 3 files equal" in run(capsys, "diff", "nights@2", "nights@latest")[1]
    assert run(capsys, "diff", "nights@1", "nights@9")[0] == 3
    shown = run(capsys, "show", "nights@2")[1]
    assert "used by frost-alarm/1" in shown
    assert "2025/c.csv" in shown


def test_two_files_are_compared_by_what_is_in_them(data: Path, capsys: Out) -> None:
    tables = data.parent / "tables"
    tables.mkdir()
    for shift in (0.0, 1.8):
        rows = "".join(f"{day},{day / 2 + shift},x\n" for day in range(300))
        (tables / "station-09.csv").write_text(f"day,evening_c,note\n{rows}")
        kinetrum.keep(tables, kind="data")
    left, right = "tables@1:station-09.csv", "tables@2:station-09.csv"
    status, text, _ = run(capsys, "diff", left, right, "--limit", "5")
    assert status == 0
    lines = text.splitlines()
    assert lines[0] == "station-09.csv differs in 1 of 3 columns: evening_c by +1.8 in all 300 rows."
    assert lines[2].split() == ["column", "rows", "on", "average", "least", "most"]
    assert lines[3].split() == ["evening_c", "300", "+1.8", "+1.8", "+1.8"]
    assert lines[-1].endswith("more lines; --limit shows them, --json all")
    assert "+0,1.8,x" in run(capsys, "diff", left, right, "--limit", "2000")[1]
    assert json.loads(run(capsys, "diff", left, right, "--json")[1])["columns"][0]["rows"] == 300
    assert run(capsys, "diff", left, left)[1].strip() == "station-09.csv holds the same left and right."
    status, _, said = run(capsys, "diff", left, "tables@2")
    assert (status, "write NAME@NUMBER" in said) == (2, True)
    assert run(capsys, "diff", left, "tables@2:none.csv")[0] == 3


def test_what_is_said_of_a_version_is_told_apart(data: Path, capsys: Out) -> None:
    run(capsys, "keep", str(data), "--name", "other", "--about", "seasons=5", "--label", "state=raw")
    lines = run(capsys, "show", "other@1")[1].splitlines()
    assert "metadata: seasons=5" in lines
    assert "labels: state=raw" in lines
    run(capsys, "label", "other@1", "state=", "good=yes")
    assert "labels: good=yes" in run(capsys, "show", "other@1")[1].splitlines()


def test_the_lineage_one_way(data: Path, capsys: Out) -> None:
    back = run(capsys, "lineage", "frost-alarm/1", "--back")[1]
    assert ("nights@2" in back, "net@1" in back, "led to" in back) == (True, False, False)
    forth = run(capsys, "lineage", "frost-alarm/1", "--forth")[1]
    assert ("nights@2" in forth, "net@1" in forth, "came from" in forth) == (False, True, False)


def test_keep_tells_what_was_sent(data: Path, capsys: Out) -> None:
    arguments = (
        "keep",
        str(data),
        "--name",
        "copy",
        "--kind",
        "data",
        "--about",
        "seasons=2",
        "--label",
        "state=raw",
        "--description",
        "Nights",
    )
    status, text, said = run(capsys, *arguments)
    assert (status, text) == (0, "copy@1\n")
    assert said == "All was there.\n"
    found = json.loads(run(capsys, "artifacts", "copy", "--json")[1])
    assert (found["description"], found["versions"][0]["about"], found["versions"][0]["labels"]) == (
        "Nights",
        {"seasons": 2},
        {"state": "raw"},
    )
    assert run(capsys, "label", "copy@1", "artifact:copy", "good=yes", "state=")[1].endswith("labelled.\n")
    labelled = json.loads(run(capsys, "artifacts", "copy", "--json")[1])
    assert (labelled["labels"], labelled["versions"][0]["labels"]) == ({"good": "yes"}, {"good": "yes"})
    assert run(capsys, "keep", str(data / "nothing"))[0] == 3
    assert run(capsys, "keep", str(data), "--about", "nothing")[0] == 2


def test_who_used_it(data: Path, capsys: Out, tmp_path: Path) -> None:
    status, text, _ = run(capsys, "uses", "nights@2")
    assert status == 0
    assert "This content is nights@2; 1 run." in text
    assert "frost-alarm/1" in text and "train" in text
    assert "This content is nights@2" in run(capsys, "uses", str(data))[1]
    assert "This file stands in nights@2" in run(capsys, "uses", "nights@2:2025/c.csv")[1]
    (tmp_path / "stranger").write_text("unknown")
    status, _, said = run(capsys, "uses", str(tmp_path / "stranger"))
    assert (status, "has the content of" in said) == (3, True)


def test_lineage_on_the_terminal_and_as_prov(data: Path, capsys: Out, tmp_path: Path) -> None:
    status, text, _ = run(capsys, "lineage", "net@1")
    assert status == 0
    assert text.splitlines()[0] == "net@1 came from 1 version and 1 run and led to nothing yet."
    assert "  frost-alarm/1" in text and "    nights@2" in text
    assert "used by frost-alarm/1 as train" in text
    assert "Came from" not in run(capsys, "lineage", "net@1", "--forth")[1]
    assert run(capsys, "lineage", "net@1", "--prov", "-o", str(tmp_path / "l.json"))[0] == 0
    doc = json.loads((tmp_path / "l.json").read_text())
    assert len(doc["used"]) == len(doc["wasGeneratedBy"]) == 1
    assert run(capsys, "lineage", "net")[0] == 2
    assert run(capsys, "lineage", "sha256:" + "f" * 64)[0] == 3


def test_what_stays_elsewhere_is_checked(data: Path, capsys: Out) -> None:
    with kinetrum.begin("frost-alarm") as begun:
        begun.used(data, name="lying-there")
    begun.flush()
    status, text, _ = run(capsys, "check", "lying-there@1", "--yes")
    assert (status, text) == (0, "lying-there@1: 3 same (every byte compared).\n")
    (data / "2025" / "c.csv").write_text("changed")
    (data / "2024" / "a.csv").unlink()
    status, text, _ = run(capsys, "check", "lying-there@1", "--quick", "--yes")
    assert status == 1
    assert "1 changed, 1 gone, 1 same (by size and last change only)" in text or "1 same" in text
    assert "gone" in text and str(data / "2024" / "a.csv") in text
    assert run(capsys, "check", "nights@1")[0] == 2


def test_room_bin_and_purge(data: Path, capsys: Out, tmp_path: Path) -> None:
    assert run(capsys, "bin", "nights@1")[0] == 0
    assert "nights@1" in run(capsys, "bin")[1]
    storage = run(capsys, "storage")[1]
    assert "kinetrum purge would free 15 B" in storage
    _, text, said = run(capsys, "purge")
    assert "1 version would be purged, freeing 1 file of 15 B" in text
    assert "Add --yes" in said
    assert run(capsys, "bin", "--restore", "nights@1")[0] == 0
    assert run(capsys, "purge")[1] == "There is nothing to purge.\n"
    run(capsys, "bin", "nights@1")
    assert "was purged, which freed 1 file of 15 B" in run(capsys, "purge", "--yes", "nights@1")[1]
    assert "purged" in run(capsys, "artifacts", "nights")[1]
    assert run(capsys, "fetch", "nights@1", "-o", str(tmp_path / "fetched"))[0] == 1


def test_the_store_is_checked_and_repaired(
    data: Path, capsys: Out, recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import hashlib

    monkeypatch.setenv("KINETRUM_TOKEN", recording.instance.token)
    content = (data / "2025" / "c.csv").read_bytes()
    digest = hashlib.sha256(content).hexdigest()
    stored = recording.instance.home.store / digest[:2] / digest
    stored.write_bytes(b"bad")
    status, text, _ = run(capsys, "admin", "check")
    assert status == 1
    assert f"damaged  sha256:{digest[:16]}…" in text
    assert f"held by {recording.name}/nights@2" in text
    assert run(capsys, "admin", "check", "--copies", str(tmp_path / "nowhere"))[0] == 3
    text = run(capsys, "admin", "check", "--copies", str(data))[1]
    assert "were repaired from copies" in text or "damaged or missing" in text
    assert stored.read_bytes() == content
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    assert run(capsys, "admin", "check")[0] == 4


def test_an_archive_goes_out_and_comes_in(data: Path, capsys: Out, tmp_path: Path) -> None:
    archive = tmp_path / "frost.zip"
    status, text, _ = run(capsys, "export", "experiment:frost-alarm", "-o", str(archive), "--license", "CC0-1.0")
    assert (status, text.startswith(f"{archive}: ")) == (0, True)
    status, text, _ = run(capsys, "import", str(archive))
    assert status == 0
    assert "0 runs and 0 artifact versions imported" in text and "3 were here already" in text
    archive.write_bytes(archive.read_bytes()[:500])
    status, _, said = run(capsys, "import", str(archive))
    assert (status, "not a zip archive" in said) == (2, True)
    assert run(capsys, "import", str(tmp_path / "none.zip"))[0] == 3
    assert run(capsys, "export", "nowhere", "-o", str(tmp_path / "x.zip"))[0] == 3
    assert not (tmp_path / "x.zip").exists()


def test_used_and_generated_from_shells(
    recording: Project, capsys: Out, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "nights.csv").write_text("1,2\n")
    monkeypatch.setenv("KINETRUM_RUN", run(capsys, "begin", "frost-alarm")[1].strip())
    assert run(capsys, "used", str(tmp_path / "nights.csv"), "--upload", "--about", "seasons=5")[0] == 0
    for step in (1, 2):
        (tmp_path / "net.onnx").write_text(f"net {step}")
        assert run(capsys, "generated", str(tmp_path / "net.onnx"), "--step", str(step), "--keep", "1")[0] == 0
    assert run(capsys, "generated", str(tmp_path / "net.onnx"), "--keep", "sometimes", "--step", "3")[0] == 2
    assert run(capsys, "end")[0] == 0
    found = json.loads(run(capsys, "artifacts", "--json")[1])
    assert {row["reference"]: row["by_reference"] for row in found} == {"net@2": False, "nights@1": False}
    assert next(row for row in found if row["name"] == "nights")["about"] == {"seasons": 5}
    assert os.environ["KINETRUM_RUN"]


def test_binning_what_a_query_finds_an_experiment_and_a_family(recording: Project, capsys: Out) -> None:
    with kinetrum.begin("slow", params={"depth": 1}) as parent:
        for depth in range(3):
            with parent.child(params={"depth": depth}) as child:
                child.result(auc=0.9 + depth / 100)
    parent.flush()
    with kinetrum.begin("other") as other:
        pass
    other.flush()
    status, _, told = run(capsys, "bin", "auc < 0.915", "-e", "slow")
    assert (status, told) == (
        2,
        "kinetrum bin: Nothing was changed: 2 runs of slow where auc < 0.915. Add --yes to put them into the bin.\n",
    )
    assert run(capsys, "bin", "auc < 0.915", "-e", "slow", "--yes")[1].startswith("slow/")
    assert len(kinetrum.runs(experiment="slow")) == 2
    status, shown, told = run(capsys, "bin", "slow/1")
    assert status == 0
    assert told == "1 run below stays where it is; --children takes them along.\n"
    assert len(kinetrum.runs(experiment="slow")) == 1
    shown = run(capsys, "bin", "--restore", "slow/1", "--children")[1]
    assert len(kinetrum.runs(experiment="slow")) == 4
    assert "restored" in shown
    shown = run(capsys, "bin", "experiment:slow", "--yes")[1]
    assert shown.count("slow/") == 8
    assert len(kinetrum.runs(experiment="slow")) == 0
    assert run(capsys, "bin", "auc > 2", "-e", "slow", "--yes")[1] == "nothing in the bin.\n"
    assert run(capsys, "bin", "experiment:none", "--yes")[0] == 3
    assert run(capsys, "bin", "--restore", "experiment:slow")[0] == 2
    assert run(capsys, "bin", "auc >", "-e", "slow", "--yes")[0] == 2
    assert len(kinetrum.runs(experiment="other")) == 1


@pytest.mark.parametrize(
    ("references", "said"),
    [
        ([], "nothing"),
        (["e/1"], "1 run"),
        (["n@1"], "1 version"),
        (["e/1", "n@1", "n@2"], "1 run and 2 versions"),
        ([f"e/{at}" for at in range(1_200)], "1,200 runs"),
    ],
)
def test_counts_name_what_they_count(references: list[str], said: str) -> None:
    assert counted_things(references) == said
