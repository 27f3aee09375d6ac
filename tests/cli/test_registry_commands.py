"""The registry's commands: what each says, with what exit status, and what it says of wrong use."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

import kinetrum
from kinetrum.cli.main import main
from tests.support.world import Project

Said = tuple[int, str, str]


@pytest.fixture
def say(capsys: pytest.CaptureFixture[str]):  # type: ignore[no-untyped-def]
    def run(*words: str) -> Said:
        status = main(list(words))
        out, err = capsys.readouterr()
        return status, out, err

    return run


@pytest.fixture
def model(recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Project:
    """Two versions of frost-alarm from files; from now on its maintainer acts."""
    for number in (1, 2):
        (tmp_path / "net.bin").write_bytes(b"net %d" % number)
        kinetrum.register(
            tmp_path / "net.bin", as_model="frost-alarm", origin="found on a shelf", comment=f"try {number}"
        )
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    return recording


WRONG: list[tuple[list[str], int, str]] = [
    (["gates", "frost-alarm@1", "prod"], 3, "has no stage 'prod'; its ladder is development, staging, production"),
    (["gates", "frost-alarm@9"], 3, "has no version 9; the newest is 2"),
    (["gates", "nothing"], 3, "has no model 'nothing'; it has frost-alarm"),
    (["gates", "frost-alarm", "--set", "/nowhere/gates.toml"], 2, "/nowhere/gates.toml cannot be read (No such file"),
    (["evidence", "frost-alarm@1", "--run", "frost-alarm/1"], 2, "Evidence on what? Name the data: --on holdout."),
    (["evidence", "frost-alarm@1", "--on", "x", "--predictions", "/nowhere.csv"], 2, "/nowhere.csv cannot be read"),
    (["card", "frost-alarm", "--write", "/nowhere.md"], 2, "/nowhere.md cannot be read"),
    (["ladder", "frost-alarm", "Production"], 2, "production"),
    (["ladder", "frost-alarm", "staging", "staging"], 2, "names each stage once"),
    (["rules", "frost-alarm", "--approvals", "0"], 2, "1 to 20 approvals"),
    (["rules", "frost-alarm", "--ask", "nobody"], 3, "has no member 'nobody'"),
    (["rules", "frost-alarm", "--image", "net.bin"], 2, "names no image that is kept; write NAME@NUMBER:PATH"),
    (["lock", "frost-alarm"], 2, "'frost-alarm' names no version; write MODEL@NUMBER or MODEL@STAGE"),
    (["lock", "frost-alarm@production"], 3, "No version of frost-alarm stands on production"),
    (["fetch", "frost-alarm@lead"], 3, "has no lead version: no stage is occupied and none was chosen"),
    (["fetch", "frost-alarm@1", "--locked", "x"], 2, "Fetch what? Name a reference, or a lock file"),
    (["review", "frost-alarm@1", "--stage", "staging", "--against", "2"], 2, "not with both"),
    (["review", "frost-alarm@1", "--take-back"], 1, "has no verdict on frost-alarm@1 to take back"),
    (["promote", "frost-alarm@1", "production"], 1, "is pending, and production asks for an approved version"),
    (["promote", "frost-alarm@1", "production", "--expect", "x"], 2, "--expect takes a version number or none"),
    (["demote", "frost-alarm@production"], 1, "is empty already"),
    (["rollback", "frost-alarm@production"], 1, "there is nothing to roll back"),
    (["rollback", "frost-alarm@1"], 2, "names no stage; write MODEL@STAGE"),
    (["lead", "frost-alarm", "1"], 1, "Version 1 is pending; the lead version is approved"),
    (["register", "nothing", "--as-model", "frost-alarm"], 2, "is neither a path that is there nor NAME@NUMBER"),
    (["history", "nothing", "--stages"], 3, "has no model 'nothing'"),
    (["seeds", "nothing", "fold"], 3, "nothing"),
]


def test_wrong_use_says_what_would_be_right(model: Project, say) -> None:  # type: ignore[no-untyped-def]
    for words, status, said in WRONG:
        got, out, err = say(*words)
        assert (got, said in err) == (status, True), (words, out, err)
    with pytest.raises(SystemExit) as ended:
        say("models", "--state", "odd")
    assert ended.value.code == 2


WRONG_REGISTRATIONS: list[tuple[list[str], str]] = [
    (["--metric", "price"], "--metric takes KEY=VALUE, not 'price'"),
    (["--metric", "price=dear"], "takes a number, not 'dear'"),
    (["--label", "=x"], "--label takes KEY=VALUE"),
    (["--sample", "/nowhere.csv"], "is neither CSV with a head nor an .npy file"),
    ([], "tell in words where they came from"),
]


def test_wrong_registrations(model: Project, say, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    for more, said in WRONG_REGISTRATIONS:
        origin = ["--origin", "a shelf"] if more else []
        status, _, err = say("register", str(tmp_path / "net.bin"), "--as-model", "frost-alarm", *origin, *more)
        assert (status, said in err) == (2, True), err
    assert kinetrum.model("frost-alarm").versions == [2, 1]


def test_rules_card_ladder_and_lead(model: Project, say, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    status, out, _ = say(
        "rules", "frost-alarm", "--purpose", "Rings the bell", "--sections", "Purpose, Limits", "--ask", "a-approver"
    )
    assert status == 0
    assert "A Approver (a-approver)" in out
    assert "still to be written  Purpose, Limits" in out
    (tmp_path / "card.md").write_text("## Purpose\nRings.\n\n## Limits\nNo snow.\n")
    assert (
        say("card", "frost-alarm", "--write", str(tmp_path / "card.md"))[1] == "The card of frost-alarm is written.\n"
    )
    assert say("card", "frost-alarm")[1].startswith("## Purpose")
    status, out, _ = say("ladder", "frost-alarm", "trial", "production:approved:maintainer", "--json")
    assert [(stage["name"], stage["asks_approved"], stage["least_role"]) for stage in json.loads(out)] == [
        ("trial", False, "contributor"),
        ("production", True, "maintainer"),
    ]
    assert "has no lead version" in say("lead", "frost-alarm")[1]
    say("review", "frost-alarm@1", "--approve")
    assert "The lead version of frost-alarm is 1 (chosen)." in say("lead", "frost-alarm", "1")[1]
    assert say("promote", "frost-alarm@2", "trial")[1] == "frost-alarm@2 stands on trial now.\n"
    out = say("show", "model:frost-alarm")[1]
    assert "Rings the bell" in out
    assert "lead version 1" in out
    say("retire", "frost-alarm@2", "-m", "too old")
    out = say("models")[1]
    assert "! frost-alarm on trial: version 2 is retired; kinetrum rollback frost-alarm@trial" in out
    assert "frost-alarm" in say("models", "--state", "warning")[1]
    status, _, err = say("rollback", "frost-alarm@trial")
    assert (
        status,
        "No other version of frost-alarm that stood on trial can stand there; promote one, or demote" in err,
    ) == (1, True)
    out = say("history", "frost-alarm", "--stages")[1]
    assert "A Maintainer promoted  trial: empty → 2" in out
    assert json.loads(say("history", "frost-alarm", "--stages", "--json")[1])[0]["checks"] == []


def test_notes_on_models_and_versions(model: Project, say, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    assert say("note", "frost-alarm@2", "model:frost-alarm", "-m", "ask **Noor** first")[1] == (
        "frost-alarm@2, model:frost-alarm noted.\n"
    )
    assert say("note", "frost-alarm@2")[1].splitlines()[1] == "ask **Noor** first"
    found = kinetrum.model("frost-alarm")
    assert [note.text for note in found.notes] == [note.text for note in found[2].notes] == ["ask **Noor** first"]
    assert found[1].notes == []
    found[2].remove_note(found[2].notes[0])
    assert found[2].notes == []
    told = say("history", "frost-alarm")[1]
    assert "removed a note  frost-alarm@2" in told
    assert [line.split()[4:7] for line in told.splitlines() if "noted on" in line] == [
        ["noted", "on", "frost-alarm"],
        ["noted", "on", "frost-alarm@2"],
    ]
    stored = kinetrum.keep(tmp_path / "net.bin", name="nets")
    kinetrum.open(stored).note("from the shelf")
    assert say("note", "nets@1")[1].splitlines()[1:] == ["from the shelf"]


def test_gates_and_review_as_json(model: Project, say, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    assert "has no gates; kinetrum gates frost-alarm --set FILE" in say("gates", "frost-alarm")[1]
    (tmp_path / "gates.toml").write_text('[staging]\nsignature = "present"\napprovals = 2\n')
    assert "approvals = 2" in say("gates", "frost-alarm", "--set", str(tmp_path / "gates.toml"))[1]
    # Gates of many lines are one line of the history.
    told = say("history", "frost-alarm")[1].splitlines()
    assert len(told) == 1 + len(json.loads(say("history", "frost-alarm", "--json")[1]))
    (tmp_path / "gates.toml").write_text("[staging]\nspeed = 2\n")
    status, _, err = say("gates", "frost-alarm", "--set", str(tmp_path / "gates.toml"))
    assert (status, "In the gates, staging.speed is not a gate; the gates are approvals, better" in err) == (2, True)
    status, out, _ = say("gates", "frost-alarm@1", "--json")
    assert (status, list(json.loads(out))) == (0, ["development", "staging", "production"])
    assert {check["kind"]: check["met"] for check in json.loads(out)["staging"]} == {
        "approvals": False,
        "signature": False,
    }
    review = json.loads(say("review", "frost-alarm@2", "--stage", "staging", "--json")[1])
    assert review["sentence"].startswith(
        "Version 2 would be the first on staging. It cannot be placed there: version 2 is pending"
    )
    assert "2 of 2 gates are not met" in review["sentence"]
    assert (review["other"], review["misfits"]) == (None, None)
    out = say("review", "frost-alarm@2", "--against", "1")[1]
    assert "Version 2 beside version 1: no rows to judge them on." in out
    assert "Its signature is not known." in out
    assert "no evidence; add it with --on NAME" in say("evidence", "frost-alarm@1")[1]
    assert "Nobody has fetched a version of frost-alarm yet." in say("fetches", "frost-alarm")[1]
