"""The registry by command line, played as it is in Python."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

import kinetrum
from kinetrum.cli.main import main
from tests.client.registry.test_registry import GATES, As, acting, trained, version

__all__ = ["acting"]


def run(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, str, str]:
    status = main(list(words))
    out, err = capsys.readouterr()
    return status, out, err


def test_the_same_story_by_command_line(acting: As, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "gates.toml").write_text(GATES)
    (tmp_path / "card.md").write_text("## Purpose\nRings the bell.\n")
    for share, seed in ((0.9, 1), (0.905, 2)):
        trained(tmp_path, share, seed)
        status, out, _ = run(
            capsys, "register", "frost-net", "--run", f"frost-alarm/{seed}", "--as-model", "frost-alarm"
        )
        assert status == 0
        assert "evidence on holdout" in out
    acting("maintainer")
    assert run(capsys, "gates", "frost-alarm", "--set", str(tmp_path / "gates.toml"))[0] == 0
    assert run(capsys, "card", "frost-alarm", "--write", str(tmp_path / "card.md"))[0] == 0
    assert (
        "second pair of eyes  yes"
        in run(capsys, "rules", "frost-alarm", "--second-pair", "yes", "--purpose", "frost")[1]
    )
    acting("approver")
    assert "is approved: 1 of 1" in run(capsys, "review", "frost-alarm@1", "--approve", "-m", "sound")[1]
    assert "met" in run(capsys, "promote", "frost-alarm@1", "production")[1]
    run(capsys, "review", "frost-alarm@2", "--approve")
    status, out, _ = run(capsys, "gates", "frost-alarm@2", "production")
    assert (status, "production: 1 of 4 not met" in out, "within noise" in out) == (1, True, True)
    status, _, err = run(capsys, "promote", "frost-alarm@2", "production")
    assert (status, "was not promoted: 1 gate is not met on production" in err) == (1, True)
    out = run(capsys, "review", "frost-alarm@2", "--stage", "production")[1]
    assert "Version 2 would replace version 1 on production" in out
    assert "On holdout" in out
    assert "Version 2 beside version 1" in run(capsys, "review", "frost-alarm@2", "--against", "1")[1]
    acting("maintainer")
    status, out, _ = run(capsys, "promote", "frost-alarm@2", "production", "--override", "trial week")
    assert (status, "not met" in out) == (0, True)
    assert "gates overridden on production: trial week" in run(capsys, "show", "frost-alarm@2")[1]
    assert "holds version 1 again" in run(capsys, "rollback", "frost-alarm@production")[1]
    assert "frost" in run(capsys, "models")[1]
    assert "an approved version" in run(capsys, "ladder", "frost-alarm")[1]
    status, out, _ = run(capsys, "lock", "frost-alarm@production", "-o", str(tmp_path / "lock"))
    assert (status, "frost-alarm@1 sha256:" in out) == (0, True)
    assert run(capsys, "fetch", "--locked", str(tmp_path / "lock"), "-o", str(tmp_path / "deployed"))[0] == 0
    assert (tmp_path / "deployed" / "net.bin").exists()
    assert "A Maintainer" in run(capsys, "fetches", "frost-alarm")[1]
    assert "rolled back" in run(capsys, "history", "frost-alarm")[1]
    out = run(capsys, "history", "frost-alarm", "--stages")[1]
    assert "gates overridden: trial week" in out
    assert "not met  better recall on holdout" in out
    assert run(capsys, "fetch")[0] == 2
    assert json.loads(run(capsys, "models", "--json")[1])[0]["stages"][2]["occupant"] == 1


def test_evidence_by_command_line(acting: As, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "net.bin").write_bytes(b"x")
    (tmp_path / "sample.csv").write_text("minimum_c,cloud\n1.5,3\n2.5,4\n")
    status, out, _ = run(
        capsys,
        "register",
        str(tmp_path / "net.bin"),
        "--as-model",
        "frost-alarm",
        "--origin",
        "a shelf",
        "--sample",
        str(tmp_path / "sample.csv"),
        "--metric",
        "price=3",
        "--label",
        "season=spring",
        "--by-reference",
    )
    assert (status, "takes minimum_c float64 [?], cloud int64 [?]" in out) == (0, True)
    lines = ["row,truth,prediction", *(f"n{n},{n % 2},{(n + (n % 7 == 0)) % 2}" for n in range(200))]
    (tmp_path / "predictions.csv").write_text("\n".join(lines))
    status, out, _ = run(
        capsys,
        "evidence",
        "frost-alarm@1",
        "--on",
        "spring nights",
        "--predictions",
        str(tmp_path / "predictions.csv"),
        "--data",
        str(tmp_path / "sample.csv"),
    )
    assert status == 0
    assert "spring nights sha256:" in out
    assert "accuracy" in out
    assert "no evidence" not in run(capsys, "evidence", "frost-alarm@1")[1]
    assert run(capsys, "evidence", "frost-alarm@1", "--predictions", str(tmp_path / "sample.csv"), "--on", "x")[0] == 2
    # By reference the digest is pinned, and fetching says where the bytes are.
    status, _, err = run(capsys, "fetch", "frost-alarm@1", "-o", str(tmp_path / "out"))
    assert (status, "by reference" in err) == (1, True)
    assert "season=spring" in run(capsys, "show", "frost-alarm@1")[1]
    assert run(capsys, "label", "frost-alarm@1", "season=autumn")[0] == 0
    assert version("frost-alarm@1").labels == {"season": "autumn"}
    assert run(capsys, "label", "model:frost-alarm", "site=slope")[0] == 0
    assert kinetrum.model("frost-alarm").labels == {"site": "slope"}
